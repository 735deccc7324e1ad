"""An outcome as rows of trades, fills, stops and equity, prices and quantities with the instrument's digits."""

from __future__ import annotations

from collections.abc import Callable, Iterator

import numpy as np

from hawser.core.indicators import Array
from hawser.core.rules.closing import move_name
from hawser.core.rules.quantity import commission
from hawser.rehearsal import batch
from hawser.rehearsal.run import Outcome, Rehearsal, exit_name

Row = tuple[object, ...]


class OutcomeTables:
    """Rows of one outcome; `moments` writes times, `price` a price in ticks."""

    def __init__(
        self, rehearsal: Rehearsal, outcome: Outcome, moments: Callable[[Array], list[str]],
        price: Callable[[float], str],
    ) -> None:  # fmt: skip
        self._of, self._outcome, self._price = rehearsal, outcome, price
        rows, fills, moves = outcome.rows.whole, outcome.fills, outcome.moves
        told = (rows[:, batch.DECIDED], rows[:, batch.FIRST], rows[:, batch.LAST], fills[:, 0], moves[:, 0])
        bars = np.unique(np.concatenate([column.astype(np.int64) for column in told]))
        self._moments = dict(zip(bars.tolist(), moments(rehearsal.time[bars]), strict=True))

    def _at(self, bar: int) -> str:
        return self._moments[bar]

    def trades(self) -> Iterator[Row]:
        of = self._of.instrument
        for one in self._outcome.trades:
            ref = one.side * one.ref
            mae, mfe = max(0, ref - one.worst) / one.r_ticks, max(0, one.best - ref) / one.r_ticks
            yield (
                one.number, "long" if one.side > 0 else "short", self._at(one.decided), self._at(one.first),
                self._at(one.last), self._price(one.fills[0][4]), of.qty(one.steps), of.price(one.stop),
                one.planned_risk, one.net, one.net / one.planned_risk, mae, mfe, one.end,
            )  # fmt: skip

    def fills(self) -> Iterator[Row]:
        of, money = self._of.instrument, self._of.money
        for one in self._outcome.trades:
            for row in one.fills:
                bar, way, price, steps = int(row[0]), int(row[1]), float(row[4]), int(row[5])
                fee = commission(
                    steps * money.step, price * money.tick, money.unit_money, money.per_unit, money.per_notional,
                    money.minimum,
                )  # fmt: skip
                first = way > 0 and int(row[2]) == 0
                reason = one.reason if first else exit_name(row)
                action = "entry" if way > 0 else "exit"
                yield one.number, self._at(bar), action, reason, self._price(price), of.qty(steps), fee

    def stops(self) -> Iterator[Row]:
        initial = "ladder" if self._of.rig.ladder is not None else "initial"
        for one in self._outcome.trades:
            yield one.number, self._at(one.first), self._of.instrument.price(one.stop), initial
            for bar, level, why in one.moves:
                yield one.number, self._at(bar), self._of.instrument.price(level), move_name(why)

    def equity(self) -> tuple[Array, Array]:
        """Times (UTC ns) and equity at each bar's close."""
        return self._of.time, self._outcome.equity
