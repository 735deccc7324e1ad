"""An outcome as columns of trades, fills, stops and equity, prices and quantities with the
instrument's digits.

A column is an array, or texts and which of them each row has: there are far fewer texts than rows.
"""

from __future__ import annotations

from collections.abc import Callable
from functools import cached_property

import numpy as np

from hawser.core.compiled import compiled
from hawser.core.indicators import Array
from hawser.core.rules.bar_close import move_name
from hawser.core.rules.trade_levels import Money, fee, money_at
from hawser.rehearsal import batch
from hawser.rehearsal.run import Outcome, Rehearsal, Trades, exit_name
from hawser.rehearsal.watch import HistoryPolicy

Column = Array | tuple[list[str], Array]
SIDES = ["short", "", "long"]  # of -1, 0 (none is meant) and +1
FIRST_ENTRY, KINDS = 9000, 100  # a fill's reason as a number: what it was, and its own number


@compiled
def _fees(money: Money, steps: Array, prices: Array, units: Array, rows: Array) -> Array:
    out = np.empty(steps.size)
    for k in range(steps.size):
        out[k] = fee(money_at(money, units, int(rows[k])), steps[k], prices[k])
    return out


def picked(values: Array, text: Callable[[Array], list[str]]) -> Column:
    """Each different value's text, made once."""
    different, at = np.unique(values, return_inverse=True)
    return text(different), at


class TradeTables:
    """Columns of trades by name; `moments` writes times, `price` a price in ticks."""

    def __init__(
        self,
        rehearsal: Rehearsal,
        trades: Trades,
        moments: Callable[[Array], list[str]],
        price: Callable[[float], str],
        numbers: Array | None = None,
    ) -> None:
        """`numbers`: of the trades, where they are not counted from 1."""
        self._trades, self._moments, self._price = trades, moments, price
        # Not the rehearsal itself: its bars need not be there while the tables are written.
        self._time, self._fine_time = rehearsal.time, rehearsal.fine_time
        self._instrument, self._money = rehearsal.instrument, rehearsal.money
        self._units = rehearsal.history.units
        self._ladder = rehearsal.rig.ladder is not None
        self._rows = trades.rows.whole
        self._number = np.arange(1, len(self._rows) + 1) if numbers is None else numbers

    def _at(self, bars: Array) -> Column:
        return picked(bars.astype(np.int64), lambda one: self._moments(self._time[one]))

    def _filled_at(self, rows: Array) -> Column:
        return picked(rows.astype(np.int64), lambda one: self._moments(self._fine_time[one]))

    def _prices(self, ticks: Array) -> Column:
        return picked(ticks, lambda one: [self._price(value) for value in one.tolist()])

    def _levels(self, ticks: Array) -> Column:
        return picked(
            ticks.astype(np.int64),
            lambda one: [self._instrument.price(value) for value in one.tolist()],
        )

    def _quantities(self, steps: Array) -> Column:
        return picked(
            steps.astype(np.int64),
            lambda one: [self._instrument.qty(value) for value in one.tolist()],
        )

    def _reasons(self, fills: Array, follows: Array) -> Column:
        """Why each of `fills` was made; `follows`: whether their trades are follow-ons."""
        what = fills[:, 2].astype(np.int64)
        first = (fills[:, 1] > 0) & (what == 0)
        codes = np.where(first, FIRST_ENTRY + follows, what * KINDS + fills[:, 3].astype(np.int64))
        entries = {FIRST_ENTRY: "signal", FIRST_ENTRY + 1: "follow_on"}

        def named(one: Array) -> list[str]:
            return [
                entries.get(code) or exit_name([0, 0, code // KINDS, code % KINDS])
                for code in one.tolist()
            ]

        return picked(codes, named)

    def trades(self) -> dict[str, Column]:
        rows, fills, money = self._rows, self._trades.fills, self._trades.rows.money
        side, ref, stop = rows[:, batch.SIDE], rows[:, batch.REF], rows[:, batch.STOP_AT]
        r_ticks, mirrored = np.abs(ref - stop), side * ref
        risk, net = money[:, batch.RISK], money[:, batch.NET]
        entered = np.where(fills[:, 1] > 0, fills[:, 5], 0.0)
        begins = rows[:, batch.FILL_FROM]
        whole = np.add.reduceat(entered, begins) if len(rows) else entered
        ending = fills[rows[:, batch.FILL_TO] - 1]
        return {
            "id": self._number,
            "side": (["short", "long"], (side > 0).astype(np.int64)),
            "signal_time": self._at(rows[:, batch.DECIDED]),
            "entry_time": self._filled_at(fills[begins, 0]),
            "exit_time": self._filled_at(ending[:, 0]),
            "entry": self._prices(fills[begins, 4]),
            "qty": self._quantities(whole),
            "initial_stop": self._levels(stop),
            "planned_risk": risk,
            "net": net,
            "r": net / risk,
            "mae_r": np.maximum(0, mirrored - rows[:, batch.WORST]) / r_ticks,
            "mfe_r": np.maximum(0, rows[:, batch.BEST] - mirrored) / r_ticks,
            "exit_reason": self._reasons(ending, np.zeros(len(rows), np.int64)),
        }

    def fills(self) -> dict[str, Column]:
        fills, of = self._trades.fills, self._of_fills
        return {
            "trade": self._number[of],
            "time": self._filled_at(fills[:, 0]),
            "action": (["exit", "entry"], (fills[:, 1] > 0).astype(np.int64)),
            "reason": self._reasons(fills, self._rows[of, batch.FOLLOWS]),
            "price": self._prices(fills[:, 4]),
            "qty": self._quantities(fills[:, 5]),
            "commission": _fees(self._money, fills[:, 5], fills[:, 4], self._units, fills[:, 0]),
        }

    @cached_property
    def _of_fills(self) -> Array:
        """Of each fill the place of its trade."""
        rows = self._rows
        counts = rows[:, batch.FILL_TO] - rows[:, batch.FILL_FROM]
        return np.repeat(np.arange(len(rows)), counts)

    @cached_property
    def _stops(self) -> Array:
        """The initial stop of each trade, and behind it the moves of that trade: its place, the row
        of prices, the level, why it moved (-1: it is the first)."""
        rows, moves = self._rows, self._trades.moves
        number = np.arange(len(rows))
        of = np.repeat(number, rows[:, batch.MOVE_TO] - rows[:, batch.MOVE_FROM])
        table = np.empty((len(rows) + len(moves), 4), np.int64)
        entered = self._trades.fills[rows[:, batch.FILL_FROM], 0].astype(np.int64)
        initial = np.column_stack([number, entered, rows[:, batch.STOP_AT], np.full(len(rows), -1)])
        table[rows[:, batch.MOVE_FROM] + number] = initial
        table[np.arange(len(moves)) + of + 1] = np.column_stack([of, moves])
        return table

    def stops(self) -> dict[str, Column]:
        table, begins = self._stops, "ladder" if self._ladder else "initial"

        def named(one: Array) -> list[str]:
            return [begins if why < 0 else move_name(why) for why in one.tolist()]

        return {
            "trade": self._number[table[:, 0]],
            "time": self._filled_at(table[:, 1]),
            "level": self._levels(table[:, 2]),
            "reason": picked(table[:, 3], named),
        }

    def times(self) -> tuple[Array, Array]:
        """When the rows of `fills` and those of `stops` are, UTC ns."""
        filled = self._trades.fills[:, 0].astype(np.int64)
        return self._fine_time[filled], self._fine_time[self._stops[:, 1]]


class OutcomeTables(TradeTables):
    """Columns of one whole outcome."""

    def __init__(
        self,
        rehearsal: Rehearsal,
        outcome: Outcome,
        moments: Callable[[Array], list[str]],
        price: Callable[[float], str],
    ) -> None:
        super().__init__(rehearsal, outcome, moments, price)
        self._acted, self._equity = outcome.guarded, outcome.equity
        self._guards = guard_names(rehearsal.policy)

    def guards(self) -> dict[str, Column] | None:
        """What each guard did, in order of time; None without a policy."""
        return acted_columns(self._guards, self._acted, self._moments) if self._guards else None

    def refused(self) -> dict[str, Column] | None:
        """Of one instrument alone, entries that were refused are not listed."""
        return None

    def equity(self) -> tuple[Array, dict[str, Array]]:
        """Times (UTC ns), and equity at each bar's close."""
        return self._time, {"equity": self._equity}


def guard_names(policy: HistoryPolicy | None) -> list[str]:
    return [one.name for one in policy.guards.guard] if policy is not None else []


def acted_columns(
    names: list[str], acted: Array, moments: Callable[[Array], list[str]]
) -> dict[str, Column]:
    """What guards of these names did, from rows of it."""
    return {
        "time": picked(acted[:, 0], moments),
        "guard": (names, acted[:, 1]),
        "action": (["refused", "tripped", "cools_down"], acted[:, 2]),
        "side": (SIDES, acted[:, 3] + 1),
    }
