"""What the loop over a fleet reads and writes (reckoning section 13): what each member is, the
trade it has open, where it stands, and room for all that is written.

A member's own records are those of a rehearsal of one instrument; they lie on shelves, a row for
each member. Arrays are made once for a whole run.
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import NamedTuple

import numpy as np

from hawser.core.indicators import Array
from hawser.core.rules.trade_levels import BasketSetup, Money, Rules, Setup
from hawser.core.shelves import Shelf, ShelfKind
from hawser.rehearsal import guarding as gd
from hawser.rehearsal.batch import Table
from hawser.rehearsal.entries import Sizer
from hawser.rehearsal.phases import Playing
from hawser.rehearsal.records import BarRows, Levels, TradeStart

NEVER = 1 << 62  # UTC ns: a member has no further bar
MEMBER = 17  # the column of a trade's row beside those of `batch.py`
COLUMNS = 18
TIME, WHO, SIDE, WHY = range(4)  # columns of what was refused
# of a run's counts and money
NEXT, TRADES, REFUSED, DAYS, HELD, FULL = range(6)
CASH, MARKED, GROUP_EQUITY, GROUP_DONE = range(4)


class Progress(NamedTuple):
    """Where each member stands. Its bar that opens next or is under way: when that opens (NEVER:
    there is none), its number, the row of prices that comes next and the first after it. An entry
    that is pending (`side` 0: none) and the bar that decided it; whether a basket lets it lapse.
    How many bars the open trade has lived. Rows of fills and moves used, by all trades so far.
    Money: the results of ended trades, of the open one at its last close, its heat."""

    next: Array
    bar: Array
    row: Array
    end: Array
    open: Array
    side: Array
    decided: Array
    follows: Array
    chain: Array
    lapses: Array
    lived: Array
    fills: Array
    moves: Array
    done: Array
    won: Array
    heat: Array
    # Spare room of the loop: members whose bar is under way, that have a row of prices now, whose
    # entries are due, by their numbers; whether a member's bar opens with its next row; what it
    # risks at an entry of another; what its heat was reckoned with; whether guards have taken its
    # rungs back.
    here: Array
    now: Array
    due: Array
    opens: Array
    heats: Array
    heated: Array
    back: Array


class Shared(NamedTuple):
    """What all members share: the distinct openings of their bars (UTC ns), which currencies each
    is exposed to (members, currencies), how many rows of fills each may need for one bar, at most
    how many trades and refusals one opening brings, the fleet's basket, what is counted by guards
    (`on`: there are any), whether bars have finer ones inside, and the order within a row."""

    openings: Array
    exposed: Array
    needs: Array
    most: int
    basket: BasketSetup
    counted: gd.CountedColumns
    memory: gd.GuardCounts
    acted: Array
    on: bool
    finer: bool
    order: int


class RunArrays(NamedTuple):
    """Trades, refusals, and at each opening equity, heat and how many trades are open; the results
    of each member at the end of each UTC day (days, members)."""

    trades: Table
    refused: Array
    equity: Array
    heat: Array
    open: Array
    daily: Array
    out: Array  # one row's fills


class Run(NamedTuple):
    """Where a run stands, in two arrays that the loop goes on with: `counts` (the opening that
    comes next, how many trades, refusals and days are written, openings with a position, whether
    room has run out) and `money` (cash, the equity marked last; of the basket's group, which begins
    with the first trade while none is open: the equity that was sized on, and what its ended trades
    came to)."""

    counts: Array
    money: Array


class Common(NamedTuple):
    """What the members of a run have in common."""

    progress: Progress
    shared: Shared
    run: Run
    written: RunArrays


class Member(NamedTuple):
    """What does not change: its history, rig and way to size, its guards; when its rows of prices
    open (UTC ns); by bar what it is ranked by (of no length: nothing); where its fills and moves
    are written; what all have in common."""

    history: BarRows
    money: Money
    sizer: Sizer
    setup: Setup
    levels: Levels
    watch: gd.GuardColumns
    times: Array
    rank: Array
    fills: Array
    moves: Array
    common: Common


class OpenTrade(NamedTuple):
    """A member's open trade: how it began, its rules, its whole risk at entry (money), where it
    stands."""

    trade: TradeStart
    rules: Rules
    risk: float
    playing: Playing


class Deck(NamedTuple):
    """The members and their open trades on their shelves, a row for each."""

    members: Shelf
    trades: Shelf
    of_member: ShelfKind
    of_trade: ShelfKind


def first_run(equity: float) -> Run:
    """Before the first bar."""
    run = Run(np.zeros(6, np.int64), np.full(4, equity))
    run.money[GROUP_DONE] = 0.0
    return run


def progress_for(histories: Sequence[BarRows]) -> Progress:
    """Each before its first bar."""
    n = len(histories)
    whole = {name: np.zeros(n, np.int64) for name in Progress._fields}
    money = {name: np.zeros(n) for name in ("done", "won", "heat", "heats")}
    found = Progress(**(whole | money))
    for m, history in enumerate(histories):
        found.next[m], found.end[m] = history.bars["opens"][0], history.bars["end"][0]
    return found


def trades_needed(history: BarRows, setup: Setup) -> int:
    """At most how many trades end within one bar: the one that is open, the one that is entered at
    its first row of prices, and those that follow on at further rows."""
    rows = 1
    if history.prices.size > history.bars.size:
        rows = int(np.diff(history.bars["end"], prepend=0).max())
    return min(rows, setup.entry.chain) + 2
