"""Weather: the faults Quay is told to make, seeded so that every storm can be repeated."""

from __future__ import annotations

import random

import msgspec

from hawser.core.clock import MILLISECOND


class Weather(msgspec.Struct, frozen=True):
    """Chances per request, 0 to 1, and the latency of one way in ms (median, and the spread of its logarithm)."""

    name: str = "fair"
    reject: float = 0.0
    lost: float = 0.0  # time-out without effect: the request never arrives
    mute: float = 0.0  # time-out with effect: it is carried out, the answer never comes
    latency_ms: float = 25.0
    latency_tail: float = 0.4


SEVERITIES: dict[str, Weather] = {
    "calm": Weather("calm", latency_ms=0.0, latency_tail=0.0),
    "fair": Weather(),
    "squall": Weather("squall", reject=0.06, lost=0.03, mute=0.03, latency_ms=60.0, latency_tail=0.7),
    "gale": Weather("gale", reject=0.15, lost=0.08, mute=0.08, latency_ms=90.0, latency_tail=0.9),
}

LONGEST = 10.0  # times the median; a silence beyond that is a request or an answer lost, which has its own chance

FATES = ("pass", "reject", "lost", "mute")


class Sky:
    """Draws the fate of each request and the latency of each way."""

    def __init__(self, weather: Weather, seed: int) -> None:
        self.weather = weather
        self._random = random.Random(seed)
        self.counts: dict[str, int] = dict.fromkeys(FATES, 0)

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
