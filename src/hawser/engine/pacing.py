"""How often the venue is asked for the same thing: pauses that grow, and a bound that nothing
passes.

A *line* is one purpose of one trade at the venue: its stop, target 2, its close. Requests of a line
are counted over a minute, whatever orders they are about: an order refused and sent again under a
new id is the same line. A line may send a few at once and then one at a time, so that neither a
halted market nor a venue that refuses everything is flooded (a trade without cover once sent 1,200
orders a minute into a closed market). What covers an uncovered position may send more at once, and
is not held back by what the whole account has sent.
"""

from __future__ import annotations

from bisect import bisect_right

from hawser.core.clock import MILLISECOND, MINUTE, SECOND
from hawser.engine.model.state import EngineState, Order, Trade

# Storms hold every line to 30 requests a minute. 16 at once and 12 more at 5 s make 28; 22 at once
# and 6 more at 10 s do too. What covers an uncovered position has more of them early, because the
# first seconds decide.
BURST, SPACING = 16, 5 * SECOND  # of any line
URGENT_BURST, URGENT_SPACING = 22, 10 * SECOND  # of a stop or a close while a position is uncovered
VENUE_A_MINUTE = 600  # of all lines together
RETRY, LONGEST_RETRY = 250 * MILLISECOND, 30 * SECOND
URGENT_RETRY, LONGEST_URGENT = 100 * MILLISECOND, 10 * SECOND
AT_FULL_PACE = 10  # urgent failures in a row before their pauses grow
TARGET_RETRY = 2 * SECOND  # of what is no cover
# where the venue says that it is not trading: it tells when it opens
MARKET_CLOSED_RETRY = 30 * SECOND


def line_name(role: str, number: int) -> str:
    return f"{role}{number}"


def urgent(trade: Trade, role: str) -> bool:
    """Whether a request of this role may be what covers an uncovered position."""
    return role in ("stop", "close") and bool(trade.cover.exposed_since)


def free_at(state: EngineState, trade: Trade, role: str, number: int, parts: int = 1) -> int:
    """When the next request of a line may leave, UTC ns; now or earlier: at once. `parts`: the
    orders that the line has to be split into."""
    hurry = urgent(trade, role)
    recent = _recent(state, trade, line_name(role, number))
    burst, spacing = (URGENT_BURST, URGENT_SPACING) if hurry else (BURST, SPACING)
    at = recent[-1] + spacing // parts if len(recent) >= burst * parts else 0
    # The account's own bound never delays cover: a first stop must not wait for another trade's
    # targets.
    full = state.sent_minute == state.now // MINUTE and state.sent_count >= VENUE_A_MINUTE
    return max(at, (state.sent_minute + 1) * MINUTE) if full and not hurry else at


def _recent(state: EngineState, trade: Trade, line: str) -> list[int]:
    """When the requests of a line left within the last minute, the oldest first."""
    sent = trade.sent.get(line, [])
    return sent[bisect_right(sent, state.now - MINUTE) :]


def note_sent(state: EngineState, trade: Trade, order: Order) -> None:
    """Count a request that leaves now."""
    line, now = line_name(order.role, order.number), state.now
    trade.sent[line] = [*_recent(state, trade, line), now]
    minute = now // MINUTE
    state.sent_count = state.sent_count + 1 if state.sent_minute == minute else 1
    state.sent_minute = minute


def pause(failures: int, hurry: bool) -> int:
    """How long to wait after so many failures in a row, ns."""
    # Ten quick tries in a row first: a venue that is busy for a second must not cost a position its
    # stop.
    if hurry:
        return min(
            LONGEST_URGENT,
            int(URGENT_RETRY * 1.5 ** float(max(0, min(failures, 40) - AT_FULL_PACE))),
        )
    return min(LONGEST_RETRY, RETRY << min(max(0, failures - 1), 10))


def silence_allowed(base: int, silences: int) -> int:
    """How long an answer is waited for, ns: longer and longer where none ever comes."""
    return min(LONGEST_RETRY, base << min(max(0, silences - 2), 10))
