"""Stop when no quotes come."""

from __future__ import annotations

from typing import Annotated

from hawser.core.clock import SECOND
from hawser.core.field_help import help_text
from hawser.core.guards.counting.base import PER_WORDS, CountFigures, Facts, Per, Switch
from hawser.core.guards.memory import GuardMemory


class SilenceSwitch(Switch, frozen=True, kw_only=True, tag="feed_silence"):
    KIND = "feed silence"
    SAYS = "stop when no quotes come"
    FIRST = {"seconds": 60.0}
    LOOSER = {"seconds": 1}

    per: Annotated[
        Per, help_text("what is counted together", name="Counts for", words=PER_WORDS)
    ] = "instrument"
    seconds: Annotated[
        float,
        help_text(
            "no quote for this long while the instrument is open", "s", name="Silence", example="60"
        ),
    ]

    def check(self) -> None:
        super().check()
        if self.seconds < 1:
            raise self.wrong("seconds", "1 or more")
        if self.per == "source":
            raise self.wrong("per", "account or instrument: quotes have no source")

    @property
    def silence_ns(self) -> int:
        return round(self.seconds * SECOND)

    def silent(self, age: int) -> str:
        return f"no quote for {age // SECOND} s" if age >= self.silence_ns else ""

    def figures(self, memory: GuardMemory, facts: Facts) -> CountFigures:
        times, subject = facts.silences(), facts.subject
        since = times.get(subject, min(times.values(), default=facts.now))
        of = f"the last quote of {subject}"
        if not subject:
            newest = self.per == "account"
            of = f"the {'newest quote of any' if newest else 'oldest quote of an'} open market"
        age = (facts.now - since) / SECOND
        return CountFigures(age, 0, self.seconds, lambda value: f"{value:.0f} s", of)
