"""What a simulated venue offers beside a venue's port, in this process or in another."""

from __future__ import annotations

from typing import Protocol

from hawser.venue import port
from hawser.venue.quay.weather import Weather


class Simulated(port.Connection, Protocol):
    """A venue with weather. Its methods are called on the thread that drives it."""

    @property
    def counts(self) -> dict[str, int]:
        """What the weather has done so far, by kind."""

    @property
    def weather(self) -> Weather: ...

    def set_weather(self, weather: Weather, seed: int) -> None:
        """Another weather from now on, its counts from nothing."""

    def gust(self, kind: str, symbol: str, length: int) -> None:
        """Make one gust now, for `length` ns: a kind of `weather.KINDS`, or hush; of `symbol`,
        where it is of one."""

    def stray(self, symbol: str, side: int, steps: int) -> None:
        """Open a position as if by another hand; raises VenueRefused."""

    def pace(self, speed: float | None, running: bool | None) -> None:
        """Set a clock of its own, where it has one."""
