"""Weather: the faults Quay is told to make, seeded so that every storm can be repeated.

A request meets one fate (`reject`, `margin`, `near`, `lost`, `mute`); an answer may be told twice,
held back so that later ones overtake it, or never be told; a level may be put elsewhere than asked;
an order may fill in pieces or slip; and gusts come by the minute: the line drops, the venue
restarts or its clock jumps, spreads widen, a price jumps, an instrument is halted, another hand is
in the account. Requests of one connection arrive in the order they were sent, as on any real line.
Each field tells what it does and in what unit.
"""

from __future__ import annotations

import random
from typing import Annotated

import msgspec

from hawser.core.clock import MILLISECOND, SECOND
from hawser.core.errors import BadInput
from hawser.core.field_help import help_text

CHANCE, GUSTS = "chance, 0 to 1", "a minute"


class Weather(msgspec.Struct, frozen=True):
    """Chances from 0 to 1, gusts a minute, and the latency of one way in ms (median, spread of its
    logarithm)."""

    name: str = "fair"
    reject: Annotated[float, help_text("the venue is busy and refuses a request", CHANCE)] = 0.0
    margin: Annotated[float, help_text("an entry is refused: not enough margin", CHANCE)] = 0.0
    near: Annotated[float, help_text("a resting level is refused as too near", CHANCE)] = 0.0
    lost: Annotated[
        float, help_text("a request never arrives: time-out without effect", CHANCE)
    ] = 0.0
    mute: Annotated[
        float, help_text("carried out, but never answered: time-out with effect", CHANCE)
    ] = 0.0
    duplicate: Annotated[float, help_text("an answer is told twice", CHANCE)] = 0.0
    late: Annotated[float, help_text("an answer is held back, later ones overtake it", CHANCE)] = (
        0.0
    )
    swallow: Annotated[
        float, help_text("an answer or a fill is never told, though the line stands", CHANCE)
    ] = 0.0
    adjust: Annotated[
        float,
        help_text("a level is put some ticks elsewhere than asked, and that is told", CHANCE),
    ] = 0.0
    pieces: Annotated[float, help_text("an order fills in pieces", CHANCE)] = 0.0
    slip_ticks: Annotated[
        int, help_text("most by which market and stop orders fill worse", "ticks")
    ] = 0
    drops: Annotated[float, help_text("the line drops; answers under way are lost", GUSTS)] = 0.0
    drop_s: Annotated[float, help_text("how long the line is down, on average", "s")] = 4.0
    restarts: Annotated[float, help_text("the venue restarts with what it had saved", GUSTS)] = 0.0
    squalls: Annotated[
        float, help_text("one instrument's spread widens for some seconds", GUSTS)
    ] = 0.0
    gaps: Annotated[
        float, help_text("one instrument's price jumps, and comes back over minutes", GUSTS)
    ] = 0.0
    gap_spreads: Annotated[float, help_text("how far it jumps", "spreads")] = 15.0
    halts: Annotated[float, help_text("one instrument is halted for some seconds", GUSTS)] = 0.0
    shuts: Annotated[
        float, help_text("one instrument is halted for minutes, or for hours", GUSTS)
    ] = 0.0
    jumps: Annotated[
        float, help_text("the venue's clock jumps ahead or back, or stands still", GUSTS)
    ] = 0.0
    jump_s: Annotated[float, help_text("most by which its clock jumps", "s")] = 300.0
    odd: Annotated[
        float, help_text("a quote is crossed, one-sided, repeated or of an earlier time", GUSTS)
    ] = 0.0
    rateless: Annotated[float, help_text("conversion rates are not told for a minute", GUSTS)] = 0.0
    smaller: Annotated[
        float, help_text("one instrument's greatest quantity falls for some minutes", GUSTS)
    ] = 0.0
    hands: Annotated[float, help_text("another hand changes a position or an order", GUSTS)] = 0.0
    calls: Annotated[float, help_text("the venue closes a position of its own accord", GUSTS)] = 0.0
    payments: Annotated[
        float, help_text("money is paid in or out, or the balance is reset", GUSTS)
    ] = 0.0
    latency_ms: Annotated[float, help_text("one way's delay, median", "ms")] = 25.0
    latency_tail: Annotated[float, help_text("spread of the delay's logarithm: the tail", "")] = 0.4

    def __post_init__(self) -> None:
        for key in FAULTS:
            value, most = getattr(self, key), 1.0 if key in CHANCES else MOST
            if not 0 <= value <= most:
                raise BadInput.at(
                    "bad_weather",
                    f"weather.{key}",
                    f"expected a number from 0 to {most:g}",
                    key=key,
                )
        if self.reject + self.margin + self.near + self.lost + self.mute > 1:
            raise BadInput.at(
                "bad_weather",
                "weather",
                "reject, margin, near, lost and mute add up to more than 1",
            )


CHANCES = (
    "reject",
    "margin",
    "near",
    "lost",
    "mute",
    "duplicate",
    "late",
    "swallow",
    "adjust",
    "pieces",
)
FAULTS = (
    *CHANCES,
    "slip_ticks",
    "drops",
    "drop_s",
    "restarts",
    "squalls",
    "gaps",
    "gap_spreads",
    "halts",
    "shuts",
    "jumps",
    "jump_s",
    "odd",
    "rateless",
    "smaller",
    "hands",
    "calls",
    "payments",
    "latency_ms",
    "latency_tail",
)
MOST = 10_000.0

SEVERITIES: dict[str, Weather] = {
    "calm": Weather("calm", latency_ms=0.0, latency_tail=0.0),
    "fair": Weather(),
    "squall": Weather(
        "squall",
        reject=0.06,
        lost=0.03,
        mute=0.03,
        duplicate=0.03,
        late=0.02,
        pieces=0.2,
        slip_ticks=3,
        drops=0.1,
        margin=0.01,
        near=0.01,
        restarts=0.02,
        squalls=0.5,
        gaps=0.05,
        halts=0.05,
        latency_ms=60.0,
        latency_tail=0.7,
    ),
    "gale": Weather(
        "gale",
        reject=0.15,
        lost=0.08,
        mute=0.08,
        duplicate=0.08,
        late=0.05,
        pieces=0.5,
        slip_ticks=8,
        drops=0.4,
        margin=0.03,
        near=0.03,
        restarts=0.1,
        squalls=1.5,
        gaps=0.2,
        halts=0.2,
        latency_ms=90.0,
        latency_tail=0.9,
        swallow=0.03,
        adjust=0.04,
        shuts=0.05,
        jumps=0.15,
        odd=1.5,
        rateless=0.15,
        smaller=0.1,
        hands=0.2,
        calls=0.05,
        payments=0.15,
    ),
}

# times the median; a silence beyond that is a request or an answer lost, which has its own chance
LONGEST = 10.0
LATEST = 4.0  # seconds an answer may be held back
SQUALL_S, HALT_S, WIDER = 20.0, 25.0, 3.0
SHUT_S, RATELESS_S, SMALLER_S, STILL_S = 300.0, 60.0, 150.0, 40.0
MOST_SHUT = 24.0  # times SHUT_S, at most: some are halted for hours
ADJUSTED = 4  # ticks that a level is put elsewhere at most
GAP_S = 300.0  # in which a jump comes back

FATES = ("reject", "margin", "near", "lost", "mute")
KINDS = (
    "pass",
    *FATES,
    "duplicate",
    "late",
    "swallow",
    "adjust",
    "pieces",
    "slip",
    "drop",
    "restart",
    "squall",
    "gap",
    "halt",
    "shut",
    "jump",
    "still",
    "odd",
    "rateless",
    "smaller",
    "hand",
    "call",
    "payment",
)


def severity_of(weather: Weather) -> str:
    """The severity that a weather is, whatever it is called; 'own' where it is none."""
    same = (
        name
        for name, known in SEVERITIES.items()
        if msgspec.structs.replace(known, name=weather.name) == weather
    )
    return next(same, "own")


class Sky:
    """Draws what happens to each request, answer and order, and the gusts of each second."""

    def __init__(self, weather: Weather, seed: int) -> None:
        self.weather = weather
        self._random = random.Random(seed)
        self.counts: dict[str, int] = dict.fromkeys(KINDS, 0)

    def _drawn(self, chance: float) -> bool:
        return chance > 0 and self._random.random() < chance

    def _happens(self, chance: float, name: str) -> bool:
        drawn = self._drawn(chance)
        self.counts[name] += drawn
        return drawn

    def fate(self) -> str:
        drawn, weather = self._random.random(), self.weather
        fate = "pass"
        for name in FATES:
            chance = getattr(weather, name)
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
        return (
            int(self._random.uniform(0.2, LATEST) * SECOND)
            if self._happens(self.weather.late, "late")
            else 0
        )

    def swallowed(self) -> bool:
        return self._happens(self.weather.swallow, "swallow")

    def adjusted(self) -> int:
        """Ticks by which a level is put elsewhere; 0: where it was asked for."""
        if not self._drawn(self.weather.adjust):
            return 0
        return self._random.choice((1, -1)) * self._random.randint(1, ADJUSTED)

    def leap(self) -> int:
        """How far the venue's clock jumps, ns; 0: it stands still."""
        if self._random.random() < 0.3:
            return 0
        return int(self._random.uniform(-1, 1) * self.weather.jump_s * SECOND)

    @property
    def random(self) -> random.Random:
        """For what is drawn elsewhere."""
        return self._random

    def first_piece(self) -> float:
        """The part of a market order that fills at once."""
        return (
            self._random.uniform(0.1, 0.8) if self._happens(self.weather.pieces, "pieces") else 1.0
        )

    def pause(self) -> int:
        """Until the next piece, ns."""
        return int(self._random.uniform(0.02, 0.6) * SECOND)

    def slippage(self) -> int:
        """Ticks by which a fill is worse."""
        found = self._random.randint(0, self.weather.slip_ticks) if self.weather.slip_ticks else 0
        self.counts["slip"] += found > 0
        return found

    def jump(self) -> float:
        """How far a price jumps, in spreads, up or down."""
        return (
            self._random.choice((1, -1)) * self.weather.gap_spreads * self._random.uniform(0.3, 1.0)
        )

    def gusts(self, names: list[str]) -> dict[str, tuple[str, int]]:
        """What this second brings: kind, to what (an instrument, or nothing) and for how long, ns.
        Not counted yet: a gust may come to nothing."""
        weather, found = self.weather, {}
        if self._drawn(weather.drops / 60):
            found["drop"] = (
                "",
                int(self._random.expovariate(1 / max(0.1, weather.drop_s)) * SECOND) + SECOND // 2,
            )
        if self._drawn(weather.restarts / 60):
            found["restart"] = "", int(self._random.uniform(1, 6) * SECOND)
        for kind, rate, seconds in (
            ("squall", weather.squalls, SQUALL_S),
            ("gap", weather.gaps, GAP_S),
            ("halt", weather.halts, HALT_S),
            ("shut", weather.shuts, SHUT_S),
            ("jump", weather.jumps, STILL_S),
            ("odd", weather.odd, 0.0),
            ("rateless", weather.rateless, RATELESS_S),
            ("smaller", weather.smaller, SMALLER_S),
            ("hand", weather.hands, 0.0),
            ("call", weather.calls, 0.0),
            ("payment", weather.payments, 0.0),
        ):
            if self._drawn(rate / 60):
                times = self._random.uniform(0.3, 1.5) * (
                    MOST_SHUT ** self._random.random() if kind == "shut" else 1.0
                )
                found[kind] = self._random.choice(names), int(seconds * times * SECOND)
        return found
