"""What is decided at a bar's close (reckoning sections 7 and 10): the stop's next level, and
whether to leave."""

from __future__ import annotations

from hawser.core.borrowed_arrays import borrowed
from hawser.core.compiled import compiled, inlined
from hawser.core.indicators import Array
from hawser.core.rules.inside_bar import NO_LEVEL, STOP, TARGET, trail_distance
from hawser.core.rules.kinds import Kind
from hawser.core.rules.moving import NO_MOVE, counted, sendable
from hawser.core.rules.rounding import level_ticks
from hawser.core.rules.trade_levels import Begins, Rules, Setup, Trailing

# Why a trade is left at the next open; what guards decide gives way to the rest
SIGNAL, BASKET, TIME, GUARD = 1, 2, 3, 5
EITHER = 2  # an exit signal for a trade of either side
# Why a stop moved; steps are STEP_1 and on
BREAK_EVEN, TRAIL, STEP_1 = 0, 1, 10
NOISE = 1e-3  # ticks; more than rounding to a tick may add


@inlined
def basket_reached(won: float, stop: float, target: float) -> bool:
    """Whether a group has lost or won so much; money, the limits infinite where there are none."""
    if won >= target:
        return True
    return won <= -stop


@inlined
def decided_at(
    rules: Rules, signal: int, leave: int, lived: int, side: int, won: float, last: bool
) -> tuple[int, bool]:
    """What is decided at a close for the next open (0: nothing), and whether the trade turns.

    `signal`: what the close signals, +1, -1 or 0; `leave`: -1 leaves a long, +1 a short, 2 either;
    `lived`: the trade's bars so far, its first included; `won`: its result so far, money; `last`:
    the coming bar is the last the time exit allows.
    """
    # The order is that of section 10: signal, basket, time. Only the first counts, and it is what
    # the file says.
    if rules.reverse and signal == -side:
        return SIGNAL, True
    if leaves(leave, side):
        return SIGNAL, False
    if basket_reached(won, rules.basket.stop, rules.basket.target):
        return BASKET, False
    if last or 0 < rules.time_bars <= lived:
        return TIME, False
    return 0, False


@inlined
def leaves(leave: int, side: int) -> bool:
    """Whether an exit signal is meant for a trade of this side."""
    return leave in (-side, EITHER)


@inlined
def begun(begins: Begins, excursion: int, ready: int) -> bool:
    """Whether a rule has begun: its target has filled, or the excursion was reached."""
    if begins.target:
        return ready >> begins.target & 1 == 1
    return excursion >= begins.excursion


@inlined
def moved(
    rules: Rules,
    side: int,
    ref: int,
    step_at: Array,
    step_to: Array,
    atr: float,
    line: float,
    stop: int,
    best: int,
    close: int,
    exit_side: int,
    ready: int,
) -> tuple[int, int]:
    """Where the stop stands from the next bar on, and why: the tightest candidate, the first on a
    tie; -1: it stays.

    All in ticks: `atr`, and `line` (what a trail by bars or a line follows, spread included) NaN
    where they have no value; `best` and `close` the best exit-side price so far and the bar's last,
    `exit_side` the market's now; `ready`: targets filled, as bits.
    """
    # Each candidate is held against the stop as it was before this close, not against the tightest
    # so far: "better by one tick" is about what is sent (section 7). A tie goes to the rule that is
    # looked at first.
    excursion, level, why = side * (best - ref), stop, -1
    if rules.even.level != NO_LEVEL and begun(rules.even.begins, excursion, ready):
        found = sendable(rules.even.level, stop, exit_side, rules.min_stop, side)
        if found != NO_MOVE and side * (found - level) > 0:
            level, why = found, BREAK_EVEN
    for k in range(step_at.size):
        if excursion >= step_at[k]:
            found = sendable(step_to[k], stop, exit_side, rules.min_stop, side)
            if found != NO_MOVE and side * (found - level) > 0:
                level, why = found, STEP_1 + k
    if rules.trail.kind != Kind.NONE and begun(rules.trail_begins, excursion, ready):
        candidate = trail_candidate(
            rules.trail, atr, line=line, side=side, best=best, close=close, stop=stop
        )
        if candidate != NO_MOVE and counted(candidate, stop, rules.trail.step, side):
            found = sendable(candidate, stop, exit_side, rules.min_stop, side)
            if found != NO_MOVE and side * (found - level) > 0:
                level, why = found, TRAIL
    return level, why


@inlined
def trail_candidate(
    trail: Trailing, atr: float, line: float, side: int, best: int, close: int, stop: int
) -> int:
    """The trail's candidate at a close, or NO_MOVE where it has no value or cannot count; ticks as
    in `moved`."""
    if trail.kind == Kind.COLUMN:
        level = line - side * trail.offset
    else:
        anchor = float(close if trail.by_close else best)
        level = anchor - side * trail_distance(anchor, trail.kind, trail.value, trail.base, atr)
    # Rounding gives at most 1e-6 of a tick: most candidates are known to be worse before it (NaN:
    # no value).
    return level_ticks(level, side) if side * (level - stop) >= trail.step - NOISE else NO_MOVE


@compiled
def follow_on(setup: Setup, side: int, ref: int, last: int, stop: int, chain: int) -> int:
    """The side that follows a trade which ended inside a bar, 0: none."""
    setup = borrowed(setup)
    if chain >= setup.entry.chain:
        return 0
    follow = 0
    if last == TARGET:
        follow = side
    elif last == STOP and side * (stop - ref) < 0:
        follow = -side
    if (follow > 0 and not setup.entry.long) or (follow < 0 and not setup.entry.short):
        return 0
    return follow


def move_name(why: int) -> str:
    """Why a stop moved, as it is written."""
    return {BREAK_EVEN: "break_even", TRAIL: "trail"}.get(why, f"step_{why - STEP_1 + 1}")
