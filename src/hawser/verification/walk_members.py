"""The members of a fleet as the walk of its histories sees them: under names of their own, each
with where it stands; and what is told of their trades."""

from __future__ import annotations

import math
from typing import NamedTuple

import msgspec

from hawser.core.bars import span_of
from hawser.core.guards.declared import Guards
from hawser.core.plan import Plan
from hawser.rehearsal.fleet.run import FleetMember, FleetRehearsal


class ComparedTrade(msgspec.Struct):
    """A trade as both sides tell it: its member's place, when it was entered (UTC ns), fills (row
    of prices, what, price in ticks, steps) and moves (row of prices, level, rule)."""

    member: int
    time: int
    side: int
    first: int
    last: int
    stop: int
    risk: float
    net: float
    fills: list[tuple[int, str, float, int]]
    moves: list[tuple[int, int, str]]


class RefusedEntry(NamedTuple):
    """An entry that was refused: when it was due (UTC ns), of which member, its side, why."""

    time: int
    member: int
    side: int
    code: str


class Names(NamedTuple):
    """What the members are called at the venue, and their sources to guards: each its own, where
    two have one."""

    symbols: list[str]
    sources: list[str]


def names_of(fleet: FleetRehearsal) -> Names:
    """Each member's own names; a fleet of one has those of its instrument and source."""
    symbols = [member.name for member in fleet.members]
    sources = [
        source if fleet.sources.count(source) == 1 else f"{source} of {name}"
        for source, name in zip(fleet.sources, symbols, strict=True)
    ]
    return Names(symbols, sources)


def guards_for(fleet: FleetRehearsal, names: Names) -> Guards:
    """The policy with the members' own names in place of their instruments and sources: what counts
    by these counts by member."""
    assert fleet.policy is not None

    def own(wanted: tuple[str, ...], theirs: list[str], called: list[str]) -> tuple[str, ...]:
        found = [c for was, c in zip(theirs, called, strict=True) if was in wanted]
        return tuple(found) or wanted  # of none: it watches nobody here

    symbols = [one.symbol for one in fleet.instruments]
    replaced = tuple(
        msgspec.structs.replace(
            guard,
            instruments=own(guard.instruments, symbols, names.symbols),
            sources=own(guard.sources, fleet.sources, names.sources),
        )
        for guard in fleet.policy.guards.guard
    )
    return msgspec.structs.replace(fleet.policy.guards, guard=replaced)


class MemberWalk:
    """One member: its history as the walk reads it, and where it stands."""

    def __init__(self, number: int, member: FleetMember, names: Names, plan: Plan) -> None:
        of = member.rehearsal
        history = of.history
        self.number, self.rank = number, member.rank
        self.instrument = msgspec.structs.replace(of.instrument, symbol=names.symbols[number])
        self.symbol, self.rig = self.instrument.symbol, of.rig
        self.times, self.fine_span = of.fine_time.tolist(), span_of(of.fine_time)
        self.opened, self.ends = of.time.tolist(), history.bars["end"].tolist()
        self.prices = history.prices[["open", "high", "low", "close"]].tolist()
        self.spread = history.prices["spread"].tolist()
        self.signal, self.leave = history.signal.tolist(), history.bars["leave"].tolist()
        self.rates = None if of.rates is None else of.rates.tolist()
        self.rate = float(of.money.fees.unit_money) / float(of.instrument.multiplier)
        self.pair = f"{of.instrument.quote}/{of.account.currency}"
        self.plan = plan
        self.bar = self.row = 0  # those that come next, or are under way
        self.first = 0  # the first row of the bar under way
        self.want, self.lapses = 0, False  # the side due at the next open; a basket lets it lapse

    @property
    def opens_next(self) -> int | None:
        """When its next bar opens (UTC ns); None: it has none."""
        return self.opened[self.bar] if self.bar < len(self.opened) else None

    @property
    def is_last(self) -> bool:
        """Whether its bar under way is its last."""
        return self.bar == len(self.opened) - 1

    @property
    def end(self) -> int:
        """The row behind those of its bar under way."""
        return int(self.ends[self.bar])

    @property
    def ranked(self) -> float:
        """What an entry that is due now is ranked by; NaN: it is not known."""
        if self.rank is None or not 0 < self.bar <= self.rank.size:
            return math.nan
        return float(self.rank[self.bar - 1])
