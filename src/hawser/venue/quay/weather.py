"""Weather: the faults Quay is told to make, seeded so that every storm can be repeated.

A request meets one fate (`reject`, `lost`, `mute`); an answer may be told twice or held back so that later ones
overtake it; a market order may fill in pieces or slip; and gusts come by the minute: the line drops, spreads widen, an
instrument is halted. Requests of one connection arrive in the order they were sent, as on any real line.
"""

from __future__ import annotations

import random

import msgspec

from hawser.core.clock import MILLISECOND, SECOND


class Weather(msgspec.Struct, frozen=True):
    """Chances from 0 to 1, gusts a minute, and the latency of one way in ms (median, spread of its logarithm)."""

    name: str = "fair"
    reject: float = 0.0
    lost: float = 0.0  # time-out without effect: the request never arrives
    mute: float = 0.0  # time-out with effect: it is carried out, the answer never comes
    duplicate: float = 0.0  # an answer is told twice
    late: float = 0.0  # an answer is held back for up to some seconds, later ones overtake it
    pieces: float = 0.0  # a market order fills in pieces
    slip_ticks: int = 0  # most by which a market or stop order fills worse
    drops: float = 0.0  # a minute: the line drops, what is under way to us is lost
    drop_s: float = 4.0  # how long, on average
    squalls: float = 0.0  # a minute: spreads widen for some seconds
    halts: float = 0.0  # a minute: one instrument is halted for some seconds
    latency_ms: float = 25.0
    latency_tail: float = 0.4


SEVERITIES: dict[str, Weather] = {
    "calm": Weather("calm", latency_ms=0.0, latency_tail=0.0),
    "fair": Weather(),
    "squall": Weather(
        "squall", reject=0.06, lost=0.03, mute=0.03, duplicate=0.03, late=0.02, pieces=0.2, slip_ticks=3, drops=0.1,
        squalls=0.5, halts=0.05, latency_ms=60.0, latency_tail=0.7,
    ),
    "gale": Weather(
        "gale", reject=0.15, lost=0.08, mute=0.08, duplicate=0.08, late=0.05, pieces=0.5, slip_ticks=8, drops=0.4,
        squalls=1.5, halts=0.2, latency_ms=90.0, latency_tail=0.9,
    ),
}  # fmt: skip

LONGEST = 10.0  # times the median; a silence beyond that is a request or an answer lost, which has its own chance
LATEST = 4.0  # seconds an answer may be held back
SQUALL_S, HALT_S, WIDER = 20.0, 25.0, 3.0

FATES = ("pass", "reject", "lost", "mute")
KINDS = (*FATES, "duplicate", "late", "pieces", "slip", "drop", "squall", "halt")


class Sky:
    """Draws what happens to each request, answer and order, and the gusts of each second."""

    def __init__(self, weather: Weather, seed: int) -> None:
        self.weather = weather
        self._random = random.Random(seed)
        self.counts: dict[str, int] = dict.fromkeys(KINDS, 0)

    def _happens(self, chance: float, name: str) -> bool:
        if not chance or self._random.random() >= chance:
            return False
        self.counts[name] += 1
        return True

    def fate(self) -> str:
        drawn, weather = self._random.random(), self.weather
        fate = "pass"
        for name, chance in (("reject", weather.reject), ("lost", weather.lost), ("mute", weather.mute)):
            if drawn < chance:
                fate = name
                break
            drawn -= chance
        self.counts[fate] += 1
        return fate

    def latency(self) -> int:
        """One way's delay in ns."""
        weather = self.weather
        if not weather.latency_ms:
            return 0
        drawn = self._random.lognormvariate(0.0, weather.latency_tail)
        return int(weather.latency_ms * min(drawn, LONGEST) * MILLISECOND)

    def duplicated(self) -> bool:
        return self._happens(self.weather.duplicate, "duplicate")

    def held_back(self) -> int:
        """How long an answer is held back, ns; 0: it is not."""
        return int(self._random.uniform(0.2, LATEST) * SECOND) if self._happens(self.weather.late, "late") else 0

    def first_piece(self) -> float:
        """The part of a market order that fills at once."""
        return self._random.uniform(0.1, 0.8) if self._happens(self.weather.pieces, "pieces") else 1.0

    def pause(self) -> int:
        """Until the next piece, ns."""
        return int(self._random.uniform(0.02, 0.6) * SECOND)

    def slippage(self) -> int:
        """Ticks by which a fill is worse."""
        found = self._random.randint(0, self.weather.slip_ticks) if self.weather.slip_ticks else 0
        self.counts["slip"] += found > 0
        return found

    def gusts(self, names: list[str]) -> dict[str, tuple[str, int]]:
        """What this second brings: kind, to what (an instrument, or nothing) and for how long, ns."""
        weather, found = self.weather, {}
        if self._happens(weather.drops / 60, "drop"):
            found["drop"] = "", int(self._random.expovariate(1 / weather.drop_s) * SECOND) + SECOND // 2
        for kind, rate, seconds in (("squall", weather.squalls, SQUALL_S), ("halt", weather.halts, HALT_S)):
            if self._happens(rate / 60, kind):
                found[kind] = self._random.choice(names), int(seconds * self._random.uniform(0.3, 1.5) * SECOND)
        return found
