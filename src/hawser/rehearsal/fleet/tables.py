"""A fleet's outcome as columns: those of its members, joined in order of time and of the trades'
numbers."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import cast

import numpy as np

from hawser.core.indicators import Array
from hawser.core.instrument import Instrument
from hawser.core.rules.refusals import Refusal
from hawser.rehearsal.fleet import records
from hawser.rehearsal.fleet.run import FleetOutcome, FleetRehearsal
from hawser.rehearsal.tables import (
    SIDES,
    Column,
    TradeTables,
    acted_columns,
    guard_names,
    picked,
)

Columns = dict[str, Column]


class FleetTables:
    """Columns of one outcome by name; `moments` writes times, `price` a price in ticks of an
    instrument."""

    def __init__(
        self,
        fleet: FleetRehearsal,
        outcome: FleetOutcome,
        moments: Callable[[Array], list[str]],
        price: Callable[[Instrument], Callable[[float], str]],
    ) -> None:
        self._outcome, self._moments, self._time = outcome, moments, fleet.time
        self._names = [member.name for member in fleet.members]
        self._guards = guard_names(fleet.policy)
        self._each = [
            TradeTables(
                member.rehearsal,
                own.trades,
                moments,
                price(member.rehearsal.instrument),
                own.places + 1,
            )
            for member, own in zip(fleet.members, outcome.of, strict=True)
        ]

    def trades(self) -> Columns:
        each = [one.trades() for one in self._each]
        return self._joined(each, [cast(Array, one["id"]) for one in each])

    def fills(self) -> Columns:
        each = [one.fills() for one in self._each]
        return self._joined(each, *self._by_time(each, 0))

    def stops(self) -> Columns:
        each = [one.stops() for one in self._each]
        return self._joined(each, *self._by_time(each, 1))

    def _by_time(self, each: Sequence[Columns], of: int) -> tuple[list[Array], list[Array]]:
        """By what rows stand in order: first their times, then their trades' numbers."""
        times = [one.times()[of] for one in self._each]
        return times, [cast(Array, one["trade"]) for one in each]

    def _joined(self, each: Sequence[Columns], *keys: list[Array]) -> Columns:
        """The rows of all members, with a column `instrument` after the first; in the order of
        these keys, and as they happened."""
        order = np.lexsort([np.concatenate(key) for key in reversed(keys)])
        sizes = [len(key) for key in keys[0]]
        first, *rest = each[0]
        of = np.repeat(np.arange(len(sizes)), sizes)[order]
        found: Columns = {first: _together([one[first] for one in each], order)}
        found["instrument"] = (self._names, of)
        return found | {name: _together([one[name] for one in each], order) for name in rest}

    def guards(self) -> Columns | None:
        """What each guard did, in order of time; None without a policy."""
        if not self._guards:
            return None
        acted = self._outcome.guarded
        time, *rest = acted_columns(self._guards, acted, self._moments).items()
        whose: Column = (["", *self._names], acted[:, 4] + 1)
        return dict([time, ("instrument", whose), *rest])

    def refused(self) -> Columns:
        """Entries that were refused, when they were due."""
        refused = self._outcome.refused
        return {
            "time": picked(refused[:, records.TIME], self._moments),
            "instrument": (self._names, refused[:, records.WHO]),
            "side": (SIDES, refused[:, records.SIDE] + 1),
            "code": ([one.code for one in Refusal], refused[:, records.WHY]),
        }

    def equity(self) -> tuple[Array, dict[str, Array]]:
        """Times (UTC ns), and at each equity, heat (money) and how many trades are open."""
        outcome = self._outcome
        return self._time, {
            "equity": outcome.equity,
            "heat": outcome.heat,
            "open": outcome.open,
        }


def _together(columns: Sequence[Column], order: Array) -> Column:
    """One column of several members, in this order of its rows."""
    if not isinstance(columns[0], tuple):
        whole: Array = np.concatenate(cast(list[Array], columns))[order]
        return whole
    texts: list[str] = []
    places = []
    for own, at in cast(list[tuple[list[str], Array]], columns):
        places.append(at + len(texts))
        texts += own
    return texts, np.concatenate(places)[order]
