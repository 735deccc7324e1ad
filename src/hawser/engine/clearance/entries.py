"""Whether an entry may be made now: every reason it may not, with a code, a sentence and when it
ends.

The guards of reckoning section 9 join here. Exits and tightening never ask.
"""

from __future__ import annotations

import math

from hawser.core.clock import SECOND
from hawser.core.guards.context import Closed
from hawser.engine.clearance.guards import account_guards, guards_verdict
from hawser.engine.model.exposure import unknown_money
from hawser.engine.model.state import EngineState

SILENT_AFTER_S = 90  # no quote for this long while the instrument is open: the feed is silent
# or for this part of a bar, where a replayed history has longer bars and so fewer quotes
SILENT_PART = 8


def account_verdict(state: EngineState) -> list[Closed]:
    """Reasons that close entries in every instrument."""
    found = []
    if state.halt is not None:
        found.append(Closed("halted", f"halted: {state.halt.why}; re-arm to trade again"))
    if state.record_down:
        found.append(Closed("record_down", "the record cannot be written"))
    found += [
        Closed(
            "record_behind",
            f"a position in {symbol} is not in the record: adopt it, or close it there",
        )
        for symbol in unrecorded(state)
    ]
    if not state.link_up:
        found.append(Closed("link_down", f"no link to the venue: {state.link_why}"))
    elif not state.reconciled:
        found.append(Closed("reconciling", "comparing with what the venue holds"))
    elif not state.figures_at:
        found.append(Closed("no_figures", "the venue has not told the account's figures yet"))
    unknown = unknown_money(state)
    if unknown:
        found.append(
            Closed(
                "money_unknown",
                f"what {unknown} is worth is not known: a conversion rate is missing",
            )
        )
    return found + account_guards(state)


def unrecorded(state: EngineState) -> list[str]:
    """The instruments of positions that Hawser has opened and its record does not have: an older
    copy of it was put back. What is risked is not known then."""
    if not state.unexplained:
        return []
    known = {trade.entry.order_id for trade in state.trades.values()}
    strange = state.unexplained.values()
    return sorted({one.symbol for one in strange if one.id not in known and state.is_ours(one.id)})


def entry_verdict(
    state: EngineState, symbol: str, side: int = 0, source: str = "", r_ticks: float = math.nan
) -> list[Closed]:
    """Reasons that close entries in one instrument; empty: open. `side` 0, no `source` and no
    `r_ticks`: of any entry, so that what only some plans meet is left out."""
    found = account_verdict(state)
    if symbol in state.gone:
        found.append(Closed("no_instrument", f"{symbol} is not traded at this venue any more"))
    market = state.markets.get(symbol)
    if market is not None and not market.open:
        found.append(
            Closed("market_closed", f"{symbol} is outside its trading hours", market.until)
        )
    elif market is None or not market.bid:
        found.append(Closed("no_quote", f"{symbol} has no quote yet"))
    elif state.now - market.time > max(
        SILENT_AFTER_S * SECOND, state.base_span(symbol) // SILENT_PART
    ):
        age = (state.now - market.time) // SECOND
        found.append(Closed("feed_silent", f"{symbol} has had no quote for {age} s"))
    return found + guards_verdict(state, symbol, side, source, r_ticks)
