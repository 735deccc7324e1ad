"""iCalendar files of news (RFC 5545), read in a process of their own: what a file from outside
makes of its recurring events has no bound of its own. The process has: so much processor time, so
much memory.
"""

from __future__ import annotations

import resource
import subprocess
import sys
import time
from collections.abc import Callable
from datetime import UTC, date, datetime, timedelta
from typing import TYPE_CHECKING, Any
from zoneinfo import ZoneInfo

import msgspec

from hawser.core.clock import DAY, SECOND
from hawser.core.errors import BadInput
from hawser.core.guards.declared import NewsSources
from hawser.core.guards.news import NewsEvent
from hawser.formats.news import BACK, event_of, instant

if TYPE_CHECKING:
    import icalendar

HORIZON_DAYS = 400  # days: how far recurring events are looked at to see where a calendar ends
SECONDS, MEMORY = 10, 1 << 30  # processor time and bytes for one file
PROCESS_S = 120.0  # seconds on the clock: a process that stands still is no use either
LOOK = 0.1  # seconds between two looks whether anybody still waits
TOO_OFTEN = ("SECONDLY", "MINUTELY")
A_DAY = 48  # times that a rule may name within a day


class _NewsAsk(msgspec.Struct):
    """What the process is told."""

    data: bytes
    sources: NewsSources
    now: int
    last: int


class _Found(msgspec.Struct):
    """What it answers: events and where they end, or what is wrong."""

    events: tuple[NewsEvent, ...] = ()
    reaches: int = 0
    wrong: str = ""


_found = msgspec.msgpack.Decoder(_Found)  # here: what several threads load late is looked at by one


def read_apart(
    data: bytes, sources: NewsSources, now: int, last: int, given_up: Callable[[], bool]
) -> tuple[tuple[NewsEvent, ...], int]:
    """The events up to `HORIZON_DAYS` behind `last`, UTC ns, and where they end; raises BadInput.
    Once `given_up`, nobody waits for it any more: its process is ended."""
    asked = msgspec.msgpack.encode(_NewsAsk(data, sources, now, last))
    words, pipe = [sys.executable, "-m", "hawser.formats.newsics"], subprocess.PIPE
    with subprocess.Popen(words, stdin=pipe, stdout=pipe, stderr=subprocess.DEVNULL) as reading:
        try:
            answer = _answer(reading, asked, given_up)
        except BaseException:
            reading.kill()
            raise
    if reading.returncode:
        raise BadInput(
            "bad_news",
            f"its events cannot be worked out within {SECONDS} s and {MEMORY >> 20} MB",
        )
    found = _found.decode(answer)
    if found.wrong:
        raise BadInput("bad_news", found.wrong)
    return found.events, found.reaches


def _answer(
    reading: subprocess.Popen[bytes], asked: bytes | None, given_up: Callable[[], bool]
) -> bytes:
    until = time.monotonic() + PROCESS_S
    while True:
        try:
            return reading.communicate(asked, timeout=LOOK)[0]
        except subprocess.TimeoutExpired:
            asked = None  # it is under way, and may be given only once
            if given_up() or time.monotonic() > until:
                raise BadInput("bad_news", "reading it does not end") from None


def main() -> int:
    """Answer one question on standard input."""
    resource.setrlimit(resource.RLIMIT_CPU, (SECONDS, SECONDS))
    resource.setrlimit(resource.RLIMIT_AS, (MEMORY, MEMORY))
    asked = msgspec.msgpack.decode(sys.stdin.buffer.read(), type=_NewsAsk)
    try:
        found = _Found(*_read(asked.data, asked.sources, asked.now, asked.last))
    except BadInput as error:
        found = _Found(wrong=error.sentence)
    sys.stdout.buffer.write(msgspec.msgpack.encode(found))
    return 0


def _read(
    data: bytes, sources: NewsSources, now: int, last: int
) -> tuple[tuple[NewsEvent, ...], int]:
    import icalendar
    import recurring_ical_events

    try:
        calendar = icalendar.Calendar.from_ical(data)
        for event in calendar.events:
            _check_rules(event)
        begin, end = (datetime.fromtimestamp(at // SECOND, UTC) for at in (now, last))
        of = recurring_ical_events.of(calendar)
        found = of.between(begin - timedelta(days=BACK // DAY), end + timedelta(days=HORIZON_DAYS))
        held = [one for one in found if str(one.get("STATUS", "")).upper() != "CANCELLED"]
        return tuple(_of_component(one, sources) for one in held), _reaches(
            calendar, found, sources
        )
    except (BadInput, MemoryError):
        raise
    except Exception as error:  # whatever the library makes of a file from outside
        said = (str(error) or repr(error)).splitlines()[0]
        raise BadInput("bad_news", f"expected an iCalendar file; {said}") from None


def _rules(event: icalendar.Event) -> list[Any]:
    rules = event.get("RRULE")
    return rules if isinstance(rules, list) else [rules] if rules is not None else []


def _check_rules(event: icalendar.Event) -> None:
    """News that comes again every minute is none; a rule without a step never ends."""
    title = str(event.get("SUMMARY", "")).strip()
    for rule in _rules(event):
        often = str(rule.get("FREQ", [""])[0]).upper() in TOO_OFTEN
        within = [max(1, len(rule.get(key, ()))) for key in ("BYHOUR", "BYMINUTE", "BYSECOND")]
        if often or within[0] * within[1] * within[2] > A_DAY:
            raise BadInput(
                "bad_news",
                f"event '{title}': it recurs too often; expected hours or more between two",
            )
        if any(int(step) < 1 for step in rule.get("INTERVAL", ())):
            raise BadInput("bad_news", f"event '{title}': INTERVAL: expected 1 or more")


def _of_component(event: icalendar.Event, sources: NewsSources) -> NewsEvent:
    title = str(event.get("SUMMARY", "")).strip()
    return event_of(_starts(event, sources, title), title, _categories(event), sources)


def _starts(event: icalendar.Event, sources: NewsSources, title: str) -> int:
    """When it begins; an event of a whole day begins at its midnight."""
    at: Any = event.start
    if not isinstance(at, datetime):
        assert isinstance(at, date)
        at = datetime(at.year, at.month, at.day, tzinfo=ZoneInfo(sources.tz or "UTC"))
    return instant(at, sources.tz, f"event '{title}': ")


def _categories(event: icalendar.Event) -> list[str]:
    found = event.get("CATEGORIES")
    every = found if isinstance(found, list) else [found] if found is not None else []
    return [str(word) for one in every for word in getattr(one, "cats", [one])]


def _reaches(
    calendar: icalendar.Calendar, found: list[icalendar.Event], sources: NewsSources
) -> int:
    """Where the calendar ends: at its last event; never, where one recurs without an end."""
    for event in calendar.events:
        if any("UNTIL" not in rule and "COUNT" not in rule for rule in _rules(event)):
            return 0
    return max((_starts(one, sources, "") for one in (*found, *calendar.events)), default=1)


if __name__ == "__main__":
    sys.exit(main())
