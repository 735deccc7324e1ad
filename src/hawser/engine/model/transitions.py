"""The lives of orders and trades, as tables.

An **order** is `sending` from the moment its submit is written down. The venue accepts it
(`resting`), refuses it (`rejected`) or stays silent (`unknown`): then it is asked, never sent
again. Fills may come before the acceptance, twice, or after a cancel; so every row takes them, and
the last three rows, which are ends, stay what they are. `missing` is an end with a way back: the
venue said it never got the order, and an order it then has after all (the request was overtaken by
the question) must be known again, to be cancelled where another took its place.

A **trade** is `planned`, then `entering` until its entry's first fill, which makes it `exposed`:
open quantity exceeds what resting stops cover. The ways on are `protected` (a stop rests for all of
it), `leaving` (it is being closed at market) and `ended`. Losing cover leads back to `exposed`. An
ended trade has one row out: an entry fill that arrives after everybody gave the entry up must be
protected like any other. `left`: it stays at the venue as it rests there, because its instrument is
another now.
"""

from __future__ import annotations

from hawser.core.errors import HawserBug

# Orders
SENDING, UNKNOWN, RESTING = "sending", "unknown", "resting"
FILLED, CANCELLED, REJECTED, MISSING = "filled", "cancelled", "rejected", "missing"

ORDER: dict[str, dict[str, str]] = {
    SENDING: {
        "accept": RESTING,
        "reject": REJECTED,
        "part": RESTING,
        "whole": FILLED,
        "cancel": CANCELLED,
        "silence": UNKNOWN,
        "lost": MISSING,
    },
    UNKNOWN: {
        "accept": RESTING,
        "reject": REJECTED,
        "part": RESTING,
        "whole": FILLED,
        "cancel": CANCELLED,
        "silence": UNKNOWN,
        "lost": MISSING,
    },
    RESTING: {
        "accept": RESTING,
        "part": RESTING,
        "whole": FILLED,
        "cancel": CANCELLED,
        "reject": REJECTED,
        "silence": RESTING,
        "lost": MISSING,
    },
    FILLED: {},
    CANCELLED: {},
    REJECTED: {},
    MISSING: {"accept": RESTING, "part": RESTING, "whole": FILLED},
}

OVER = frozenset((FILLED, CANCELLED, REJECTED, MISSING))

# Trades
PLANNED, ENTERING, EXPOSED = "planned", "entering", "exposed"
PROTECTED, LEAVING, ENDED = "protected", "leaving", "ended"

TRADE: dict[str, dict[str, str]] = {
    PLANNED: {"send": ENTERING},
    ENTERING: {"open": EXPOSED, "void": ENDED, "left": ENDED},
    EXPOSED: {"cover": PROTECTED, "leave": LEAVING, "flat": ENDED, "left": ENDED},
    PROTECTED: {"uncover": EXPOSED, "leave": LEAVING, "flat": ENDED, "left": ENDED},
    LEAVING: {"flat": ENDED, "left": ENDED},
    ENDED: {"open": EXPOSED},
}


def is_over(order_state: str) -> bool:
    """True for the ends of an order's life."""
    return order_state in OVER


def next_order_state(state: str, signal: str) -> str:
    """The state after `signal`; ended orders stay what they are, whatever else arrives late."""
    if is_over(state):
        return ORDER[state].get(signal, state)
    return _next(ORDER, state, signal)


def next_trade_state(state: str, signal: str) -> str:
    """The state after `signal`; raises HawserBug where the table has no such row."""
    return _next(TRADE, state, signal)


def _next(table: dict[str, dict[str, str]], state: str, signal: str) -> str:
    try:
        return table[state][signal]
    except KeyError:
        raise HawserBug(
            "no_transition", f"'{signal}' is not possible in state '{state}'."
        ) from None


def mermaid(table: dict[str, dict[str, str]]) -> str:
    """A table as a Mermaid state diagram, for docs/design.md; a test holds the two equal."""
    lines = ["stateDiagram-v2"]
    for state, row in table.items():
        by_target: dict[str, list[str]] = {}
        for signal, target in row.items():
            by_target.setdefault(target, []).append(signal)
        lines += [
            f"    {state} --> {target}: {', '.join(signals)}"
            for target, signals in by_target.items()
        ]
    return "\n".join(lines)
