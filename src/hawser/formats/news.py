"""News calendars: iCalendar (RFC 5545; CATEGORIES carries currency and impact) or CSV `time,currency,impact,title`.

A calendar that cannot be read is no error of the program: it comes back as one that says why, and the guards decide.
icalendar and its expansion of recurring events are loaded only here, when a calendar is read.
"""

from __future__ import annotations

import csv
from collections.abc import Iterable
from datetime import UTC, date, datetime, timedelta
from pathlib import Path
from typing import TYPE_CHECKING, Any
from zoneinfo import ZoneInfo

from hawser.core.clock import DAY, SECOND
from hawser.core.errors import BadInput
from hawser.core.guards.declared import IMPACTS, Impact, NewsSources
from hawser.core.guards.news import Calendar, NewsEvent

if TYPE_CHECKING:
    import icalendar

COLUMNS = ("time", "currency", "impact", "title")
BACK, AHEAD = 2 * DAY, 10 * DAY  # what is told of around now
FAR = 400  # days: how far recurring events are looked at to see where a calendar ends


def calendar_files(sources: NewsSources, folder: Path) -> list[Path]:
    """The files that the sources name, those in folders included, in order; a file that is not there is named too."""
    found: list[Path] = []
    for name in sources.files:
        path = folder / name
        if path.is_dir():
            found += sorted(one for one in path.iterdir() if one.suffix.lower() in (".ics", ".csv"))
        else:
            found.append(path)
    return list(dict.fromkeys(found))


def read_calendars(sources: NewsSources, folder: Path, now: int, last: int = 0) -> tuple[Calendar, ...]:
    """Every calendar as it is now; `folder` is where the policy lies, `now` UTC ns. `last`: of a history from now, its
    end."""
    return tuple(read_calendar(path, sources, now, last) for path in calendar_files(sources, folder))


def read_calendar(path: Path, sources: NewsSources, now: int, last: int = 0) -> Calendar:
    """One calendar with its events around `now`, or up to those around `last`."""
    last = max(now, last)
    try:
        text = path.read_bytes()
    except FileNotFoundError:
        return Calendar(path.name, state="missing", why="there is no such file")
    except OSError as error:
        return Calendar(path.name, state="unreadable", why=f"it cannot be read ({error.strerror})")
    try:
        read = _read_csv if path.suffix.lower() == ".csv" else _read_ics
        events, reaches = read(text, sources, now, last)
    except BadInput as error:
        return Calendar(path.name, state="unreadable", why=error.sentence)
    near = sorted({event for event in events if now - BACK <= event.time <= last + AHEAD})
    return Calendar(path.name, tuple(near), reaches)


def _event(time: int, title: str, categories: Iterable[str], sources: NewsSources) -> NewsEvent:
    """An event as its calendar and the rules have it."""
    words = [word.strip() for word in categories if word.strip()]
    known = [impact for impact in IMPACTS if impact in {word.lower() for word in words}]
    impact: Impact = known[-1] if known else sources.otherwise_impact
    currency = next((word for word in words if len(word) == 3 and word.isalpha() and word.isupper()), "")
    currency = currency or sources.otherwise_currency
    text = " ".join([title, *words]).lower()
    rule = next((rule for rule in sources.rule if rule.match.strip().lower() in text), None)
    if rule is not None:
        currency, impact = rule.currency or currency, rule.impact or impact
    return NewsEvent(time, currency, impact, title)


# CSV


def _read_csv(data: bytes, sources: NewsSources, now: int, last: int) -> tuple[list[NewsEvent], int]:
    rows = csv.DictReader(_text(data).splitlines())
    missing = [name for name in COLUMNS if name not in (rows.fieldnames or ())]
    if missing:
        raise BadInput("bad_news", f"column {missing[0]} is missing; expected {','.join(COLUMNS)}")
    events = []
    for number, row in enumerate(rows, start=2):
        impact = (row["impact"] or "").strip().lower()
        if impact not in (*IMPACTS, ""):
            raise BadInput("bad_news", f"row {number}, column impact: expected low, medium or high, got '{impact}'")
        at = _csv_time(row["time"] or "", number, sources.tz)
        events.append(_event(at, (row["title"] or "").strip(), (row["currency"] or "", impact), sources))
    return events, max((event.time for event in events), default=1)


def _csv_time(text: str, number: int, zone: str) -> int:
    try:
        at = datetime.fromisoformat(text.strip())
    except ValueError:
        raise BadInput("bad_news", f"row {number}, column time: expected ISO 8601, got '{text}'") from None
    return _instant(at, zone, f"row {number}, column time: ")


def _instant(at: datetime, zone: str, where: str) -> int:
    if at.tzinfo is None:
        if not zone:
            raise BadInput("bad_news", f"{where}{at:%Y-%m-%d %H:%M} has no time zone; name it as news.tz")
        at = at.replace(tzinfo=ZoneInfo(zone))
    since = at.astimezone(UTC) - datetime(1970, 1, 1, tzinfo=UTC)
    return (since.days * 86_400 + since.seconds) * SECOND + since.microseconds * 1_000


def _text(data: bytes) -> str:
    try:
        return data.decode("utf-8-sig")
    except UnicodeDecodeError:
        raise BadInput("bad_news", "expected UTF-8 text") from None


# iCalendar


def _read_ics(data: bytes, sources: NewsSources, now: int, last: int) -> tuple[list[NewsEvent], int]:
    import icalendar
    import recurring_ical_events

    try:
        calendar = icalendar.Calendar.from_ical(data)
        begin, end = (datetime.fromtimestamp(at // SECOND, UTC) for at in (now, last))
        of = recurring_ical_events.of(calendar)
        found = of.between(begin - timedelta(days=BACK // DAY), end + timedelta(days=FAR))
        held = [one for one in found if str(one.get("STATUS", "")).upper() != "CANCELLED"]
        return [_of_component(one, sources) for one in held], _reaches(calendar, found, sources)
    except BadInput:
        raise
    except Exception as error:  # whatever the library makes of a file from outside
        said = (str(error) or repr(error)).splitlines()[0]
        raise BadInput("bad_news", f"expected an iCalendar file; {said}") from None


def _of_component(event: icalendar.Event, sources: NewsSources) -> NewsEvent:
    title = str(event.get("SUMMARY", "")).strip()
    return _event(_starts(event, sources, title), title, _categories(event), sources)


def _starts(event: icalendar.Event, sources: NewsSources, title: str) -> int:
    """When it begins; an event of a whole day begins at its midnight."""
    at: Any = event.start
    if not isinstance(at, datetime):
        assert isinstance(at, date)
        at = datetime(at.year, at.month, at.day, tzinfo=ZoneInfo(sources.tz or "UTC"))
    return _instant(at, sources.tz, f"event '{title}': ")


def _categories(event: icalendar.Event) -> list[str]:
    found = event.get("CATEGORIES")
    every = found if isinstance(found, list) else [found] if found is not None else []
    return [str(word) for one in every for word in getattr(one, "cats", [one])]


def _reaches(calendar: icalendar.Calendar, found: list[icalendar.Event], sources: NewsSources) -> int:
    """Where the calendar ends: at its last event; never, where one recurs without an end."""
    for event in calendar.events:
        rule = event.get("RRULE")
        if rule is not None and "UNTIL" not in rule and "COUNT" not in rule:
            return 0
    return max((_starts(one, sources, "") for one in (*found, *calendar.events)), default=1)
