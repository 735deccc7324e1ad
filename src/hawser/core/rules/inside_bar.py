"""What a rig does to an open trade (reckoning sections 7 and 10): where its rules act and what a
bar fills.

`inside` works in mirrored ticks, `side * price`: there every trade is long, adverse is down and the
best is up. Prices are those of the exit side. Each is a whole number of ticks.
"""

from hawser.core.borrowed_arrays import borrowed
from hawser.core.compiled import compiled, inlined
from hawser.core.indicators import Array
from hawser.core.rules.kinds import Kind
from hawser.core.rules.rounding import ceil_whole, level_ticks

PESSIMISTIC, OPTIMISTIC, PATH = 0, 1, 2
STOP, TARGET, LOSS_STEP, RUNG = 0, 1, 2, 3  # what filled
ADVERSE, FAVOURABLE = 1, 2  # sides of a bar
NO_LEVEL = 1 << 60


@compiled
def away(ref: int, distance: float, side: int) -> int:
    """A level `distance` ticks beyond `ref` in the profitable direction (negative: behind), on the
    grid."""
    return level_ticks(ref + side * distance, side)


@compiled
def break_even_at(ref: int, side: int, offset: float, covers: bool) -> int:
    """The entry and `offset` ticks beyond it; where that `covers` costs, rounded up in the
    profitable direction."""
    return ref + side * ceil_whole(offset) if covers else away(ref, offset, side)


@inlined
def trail_distance(anchor: float, kind: int, value: float, base: float, atr: float) -> float:
    """How far behind its anchor a trail stands, in ticks: `base` ticks and `value` ATR, or `value`
    ticks or percent."""
    if kind == Kind.ATR:
        return base + value * atr
    return value if kind == Kind.TICKS else anchor * value / 100.0


@inlined
def favourable_first(order: int, opens: int, high: int, low: int) -> bool:
    """Which way through a bar: `path` goes to the nearer extreme, on a tie the adverse one."""
    return order == OPTIMISTIC or (order == PATH and high - opens < opens - low)


@compiled
def _note(out: Array, n: int, what: int, number: int, price: int, steps: int) -> int:
    out[n, 0], out[n, 1], out[n, 2], out[n, 3] = what, number, price, steps
    return n + 1


@compiled
def _adverse(
    opens: int, low: int, stop: int, levels: Array, parts: Array, left: int, out: Array, n: int
) -> tuple[int, int]:
    """Loss steps, nearest first, then the stop. Returns how many fills `out` holds, and what is
    left."""
    levels, parts, out = borrowed((levels, parts, out))
    while left > 0:
        best = -1
        for k in range(levels.size):
            # A loss step at or beyond the stop is void (section 7): all is closed there anyway.
            if (
                parts[k] > 0
                and levels[k] > stop
                and low <= levels[k]
                and (best < 0 or levels[k] > levels[best])
            ):
                best = k
        if best < 0:
            break
        take = min(parts[best], left)
        n = _note(
            out, n, what=LOSS_STEP, number=best + 1, price=min(opens, levels[best]), steps=take
        )
        left -= take
        parts[best] = 0
    if left > 0 and low <= stop:
        n = _note(out, n, what=STOP, number=0, price=min(opens, stop), steps=left)
        left = 0
    return n, left


@compiled
def _favourable(
    opens: int, high: int, levels: Array, parts: Array, left: int, out: Array, n: int
) -> tuple[int, int]:
    """Targets, nearest first; each takes at most what is left."""
    levels, parts, out = borrowed((levels, parts, out))
    while left > 0:
        best = -1
        for k in range(levels.size):
            if parts[k] > 0 and high >= levels[k] and (best < 0 or levels[k] < levels[best]):
                best = k
        if best < 0:
            break
        take = min(parts[best], left)
        n = _note(out, n, what=TARGET, number=best + 1, price=max(opens, levels[best]), steps=take)
        left -= take
        parts[best] = 0
    return n, left


@compiled
def nearest(
    targets: Array, target_parts: Array, losses: Array, loss_parts: Array
) -> tuple[int, int]:
    """The nearest target and the nearest loss step that have still something to take (NO_LEVEL,
    -NO_LEVEL: none)."""
    top, bottom = NO_LEVEL, -NO_LEVEL
    for k in range(targets.size):
        if target_parts[k] > 0:
            top = min(top, targets[k])
    for k in range(losses.size):
        if loss_parts[k] > 0:
            bottom = max(bottom, losses[k])
    return top, bottom


@inlined
def touched(high: int, low: int, stop: int, top: int, bottom: int) -> int:
    """Which sides a bar reaches where something may fill, as bits: ADVERSE, FAVOURABLE. Most bars
    reach nothing."""
    return (ADVERSE if low <= max(stop, bottom) else 0) | (FAVOURABLE if high >= top else 0)


@compiled
def inside(
    order: int,
    opens: int,
    high: int,
    low: int,
    stop: int,
    left: int,
    targets: Array,
    target_parts: Array,
    losses: Array,
    loss_parts: Array,
    out: Array,
) -> int:
    """What one bar fills, in order, into rows of `out` (what, number, price, steps); returns how
    many rows.

    `target_parts` and `loss_parts` are what each has still to take, and are brought up to date.
    What the open itself triggers fills first, at the open.
    """
    targets, target_parts, out = borrowed((targets, target_parts, out))
    losses, loss_parts = borrowed((losses, loss_parts))
    # A gap has no order inside the bar: what lies beyond the open fills there, whichever side is
    # looked at first after it.
    n, left = _adverse(
        opens, opens, stop=stop, levels=losses, parts=loss_parts, left=left, out=out, n=0
    )
    n, left = _favourable(opens, opens, levels=targets, parts=target_parts, left=left, out=out, n=n)
    first_up = favourable_first(order, opens, high, low)
    if first_up:
        n, left = _favourable(
            opens, high, levels=targets, parts=target_parts, left=left, out=out, n=n
        )
    n, left = _adverse(
        opens, low, stop=stop, levels=losses, parts=loss_parts, left=left, out=out, n=n
    )
    if not first_up:
        n, left = _favourable(
            opens, high, levels=targets, parts=target_parts, left=left, out=out, n=n
        )
    return n


@compiled
def ladder_inside(
    order: int,
    opens: int,
    high: int,
    low: int,
    spread: int,
    stop: int,
    left: int,
    held: int,
    target: int,
    rungs: Array,
    rung_steps: Array,
    out: Array,
) -> int:
    """The same for a ladder: rungs are limit orders on the entry side (`spread` above the exit
    side), filled before the stop; the target closes what is `held` of what was held at the bar's
    open. `rung_steps` are what is still to come; `left`: the position."""
    # A rung that fills in this bar raises the average only from the next bar on (section 8), so
    # that the target stands where it stood and takes nothing of the rung.
    n = 0
    for phase in range(2):
        bottom, top = (opens, opens) if phase == 0 else (low, high)
        first_up = phase == 1 and favourable_first(order, opens, high, low)
        for turn in range(2):
            if (turn == 0) == first_up:
                if held > 0 and top >= target:
                    n = _note(out, n, what=TARGET, number=1, price=max(opens, target), steps=held)
                    left -= held
                    held = 0
            elif left > 0:
                for k in range(rungs.size):
                    if rung_steps[k] > 0 and bottom + spread <= rungs[k]:
                        n = _note(
                            out,
                            n,
                            what=RUNG,
                            number=k + 1,
                            price=min(opens + spread, rungs[k]),
                            steps=rung_steps[k],
                        )
                        left += rung_steps[k]
                        rung_steps[k] = 0
                if bottom <= stop:
                    n = _note(out, n, what=STOP, number=0, price=min(opens, stop), steps=left)
                    left = held = 0
    return n
