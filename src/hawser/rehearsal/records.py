"""What a rehearsal's compiled loop reads and writes: a history's rows, how a trade begins and ends,
and room for all that trades write.

Prices are whole ticks. Arrays are made once for a whole run.
"""

from __future__ import annotations

from typing import NamedTuple

import numpy as np

from hawser.core.indicators import Array
from hawser.core.rules.trade_levels import Setup

INSIDE, END = 0, 4  # how a trade ended, beside what is decided at a close


# What fills are made on: bid prices and spread in ticks. Aligned: without, the loop takes twice as
# long.
PRICES = np.dtype(
    [
        ("open", np.int64),
        ("high", np.int64),
        ("low", np.int64),
        ("close", np.int64),
        ("spread", np.int64),
    ],
    align=True,
)
# What is decided on: when the bar opens (UTC ns), the first row of prices after it, its ATR in
# ticks (NaN: none yet), what its close signals, and for an early exit, whether the next bar is the
# last a time exit by the hours allows.
BAR = np.dtype(
    [
        ("opens", np.int64),
        ("end", np.int64),
        ("atr", np.float64),
        ("signal", np.int8),
        ("leave", np.int8),
        ("last_next", np.bool_),
    ],
    align=True,
)


class BarRows(NamedTuple):
    """Of one length: bars that decide (rows of BAR), and signals once more, as a column to be
    searched; what a stop or a trail taken from bars stands on, in ticks, of no length where there
    is no such. `prices`: the bars that fills are made on (rows of PRICES), one or more within each
    that decides. The rig enters from row `begin` to before row `end` of them."""

    begin: int
    end: int
    prices: Array
    bars: Array
    signal: Array
    trail_long: Array
    trail_short: Array
    stop_long: Array
    stop_short: Array
    units: Array  # money of a move of 1.0 by one unit at each row; of no length: it stays


class TradeStart(NamedTuple):
    """How a trade begins: steps, and levels in ticks."""

    side: int
    first: int  # the bar it is entered in
    at: int  # the row of prices that it is entered at
    ref: int
    steps: int
    stop: int


class Spare(NamedTuple):
    """Copies to try an order on."""

    target_parts: Array
    loss_parts: Array
    rung_steps: Array
    waiting: Array  # rungs that a row of prices may fill
    out: Array


class Levels(NamedTuple):
    """Mirrored levels that may fill, and what each has still to take or to add, which the loop uses
    up; where the rig's steps act, and lead. Made once for a run, and laid for each trade."""

    targets: Array
    target_parts: Array
    losses: Array
    loss_parts: Array
    rungs: Array
    rung_steps: Array
    step_at: Array
    step_to: Array
    spare: Spare


def levels_for(setup: Setup) -> Levels:
    """Room for a setup's levels."""
    targets, target_parts, spare_targets = np.zeros((3, setup.targets.kind.size), np.int64)
    losses, loss_parts, spare_losses = np.zeros((3, setup.losses.r.size), np.int64)
    rungs, rung_steps, spare_rungs = np.zeros((3, max(0, setup.ladder.rungs - 1)), np.int64)
    step_at, step_to = np.zeros((2, setup.steps.at_kind.size), np.int64)
    spare = Spare(
        spare_targets, spare_losses, spare_rungs, spare_rungs.copy(), np.empty((40, 4), np.int64)
    )
    return Levels(
        targets=targets,
        target_parts=target_parts,
        losses=losses,
        loss_parts=loss_parts,
        rungs=rungs,
        rung_steps=rung_steps,
        step_at=step_at,
        step_to=step_to,
        spare=spare,
    )


class PlayArrays(NamedTuple):
    """What trades write: fills (row of prices, entry 1 or exit -1, what, number, price, steps);
    moves (row of prices, level, why), at most one a bar by the rig and two by guards."""

    fills: Array
    moves: Array
    equity: Array
    out: Array  # one bar's fills


def play_arrays(bars: int, fills: int) -> PlayArrays:
    """Room for what is written about so many bars and fills. What is never written to takes no
    memory."""
    return PlayArrays(
        np.empty((fills, 6)),
        np.empty((3 * bars, 3), np.int64),
        np.empty(bars),
        np.empty((40, 4), np.int64),
    )


class TradeEnd(NamedTuple):
    """How a trade ended: the bar and the row of prices, how, whether it turns; rows of fills and
    moves; rows of prices whose order mattered; the best and the worst mirrored exit price; its net,
    money; the last fill's kind, and the stop."""

    bar: int
    at: int
    how: int
    turns: bool
    fills: int
    moves: int
    dependent: int
    best: int
    worst: int
    net: float
    last: int
    stop: int
