"""News calendars: iCalendar (RFC 5545; CATEGORIES carries currency and impact) or CSV
`time,currency,impact,title`.

A calendar that cannot be read is no error of the program: it comes back as one that says why, and
the guards decide. Whatever lies in its place, reading ends: only files are opened, up to a size,
and an iCalendar file, whose recurring events may be expanded without end, is read in a process of
its own (`newsics.py`) that gets so much time and memory.
"""

from __future__ import annotations

import csv
import os
import stat
import time
from collections.abc import Callable, Iterable
from datetime import UTC, datetime
from pathlib import Path
from zoneinfo import ZoneInfo

from hawser.core.clock import DAY, SECOND
from hawser.core.errors import BadInput, shows
from hawser.core.guards.declared import IMPACTS, Impact, NewsSources
from hawser.core.guards.news import Calendar, NewsEvent

COLUMNS = ("time", "currency", "impact", "title")
BACK, AHEAD = 2 * DAY, 10 * DAY  # what is told of around now
LARGEST = 4 << 20  # bytes of a file
MOST_FILES, MOST_EVENTS = 100, 20_000
ALL_FILES_S = 60.0  # seconds for all files, after which no further one is begun
TOO_LONG = f"reading the files before it took more than {ALL_FILES_S:g} s"
YEARS = (1970, 2200)  # that UTC ns reach
LONGEST = 200  # characters of a title


def calendar_files(sources: NewsSources, folder: Path) -> list[Path]:
    """The files that the sources name, those in folders included, in order; a file that is not
    there is named too, and so is a folder that cannot be looked into."""
    found: list[Path] = []
    for name in sources.files:
        path = folder / name
        try:
            inside = sorted(path.iterdir()) if path.is_dir() else None
        except OSError:
            inside = None
        if inside is None:
            found.append(path)
        else:
            found += [one for one in inside if one.suffix.lower() in (".ics", ".csv")]
    return list(dict.fromkeys(found))


def never() -> bool:
    """Nobody has given up: for who has all the time."""
    return False


def read_calendars(
    sources: NewsSources,
    folder: Path,
    now: int,
    last: int = 0,
    given_up: Callable[[], bool] = never,
) -> tuple[Calendar, ...]:
    """Every calendar as it is now; `folder` is where the policy lies, `now` UTC ns. `last`: of a
    history from now, its end. Once `given_up`, what is not read yet is not read any more."""
    paths, until = calendar_files(sources, folder), time.monotonic() + ALL_FILES_S
    found: list[Calendar] = []
    for path in paths[:MOST_FILES]:
        late = given_up() or time.monotonic() > until
        found.append(
            _unreadable(path.name, TOO_LONG)
            if late
            else read_calendar(path, sources, now, last, given_up)
        )
    if len(paths) > MOST_FILES:
        found.append(
            _unreadable(folder.name, f"{len(paths)} files are named, at most {MOST_FILES} are read")
        )
    return tuple(found)


def read_calendar(
    path: Path, sources: NewsSources, now: int, last: int = 0, given_up: Callable[[], bool] = never
) -> Calendar:
    """One calendar with its events around `now`, or up to those around `last`."""
    last = max(now, last)
    try:
        data = _bytes(path)
        if path.suffix.lower() == ".csv":
            events: Iterable[NewsEvent]
            events, reaches = _read_csv(data, sources)
        else:
            from hawser.formats.newsics import read_apart

            events, reaches = read_apart(data, sources, now, last, given_up)
        near = sorted({event for event in events if now - BACK <= event.time <= last + AHEAD})
        if len(near) > MOST_EVENTS:
            raise BadInput(
                "bad_news",
                f"{len(near)} events in the days to be watched; expected at most {MOST_EVENTS}",
            )
    except FileNotFoundError:
        return Calendar(path.name, state="missing", why="there is no such file")
    except OSError as error:
        return _unreadable(path.name, f"it cannot be read ({error.strerror})")
    except BadInput as error:
        return _unreadable(path.name, error.sentence)
    # whatever a file from outside may lead to: entries close as the guard says
    except Exception as error:
        return _unreadable(
            path.name, f"it cannot be read ({(str(error) or repr(error)).splitlines()[0]})"
        )
    return Calendar(path.name, tuple(near), reaches)


def _unreadable(name: str, why: str) -> Calendar:
    return Calendar(name, state="unreadable", why=why)


def _bytes(path: Path) -> bytes:
    """What a file holds; raises BadInput for what is none (a pipe would never end) or is too
    large."""
    place = os.open(path, os.O_RDONLY | os.O_NONBLOCK | os.O_CLOEXEC)
    with os.fdopen(place, "rb") as file:
        if not stat.S_ISREG(os.fstat(place).st_mode):
            raise BadInput("bad_news", "expected a file")
        data = file.read(LARGEST + 1)
    if len(data) > LARGEST:
        raise BadInput("bad_news", f"larger than {LARGEST >> 20} MB")
    return data


def event_of(at: int, title: str, categories: Iterable[str], sources: NewsSources) -> NewsEvent:
    """An event as its calendar and the rules have it."""
    words = [word.strip() for word in categories if word.strip()]
    known = [impact for impact in IMPACTS if impact in {word.lower() for word in words}]
    impact: Impact = known[-1] if known else sources.otherwise_impact
    currency = next(
        (word for word in words if len(word) == 3 and word.isalpha() and word.isupper()), ""
    )
    currency = currency or sources.otherwise_currency
    text = " ".join([title, *words]).lower()
    rule = next((rule for rule in sources.rule if rule.match.strip().lower() in text), None)
    if rule is not None:
        currency, impact = rule.currency or currency, rule.impact or impact
    shown = "".join(sign if shows(sign) else " " for sign in title)
    return NewsEvent(at, currency, impact, shown[:LONGEST])


# CSV


def _read_csv(data: bytes, sources: NewsSources) -> tuple[list[NewsEvent], int]:
    rows = csv.DictReader(_text(data).splitlines())
    try:
        return _events_of(rows, sources)
    except csv.Error as error:
        raise BadInput(
            "bad_news", f"row {rows.line_num}: expected {','.join(COLUMNS)}; {error}"
        ) from None


def _events_of(rows: csv.DictReader[str], sources: NewsSources) -> tuple[list[NewsEvent], int]:
    missing = [name for name in COLUMNS if name not in (rows.fieldnames or ())]
    if missing:
        raise BadInput("bad_news", f"column {missing[0]} is missing; expected {','.join(COLUMNS)}")
    events = []
    for number, row in enumerate(rows, start=2):
        if any(row[name] is None for name in COLUMNS):
            raise BadInput("bad_news", f"row {number}: expected {','.join(COLUMNS)}")
        impact = row["impact"].strip().lower()
        if impact not in (*IMPACTS, ""):
            raise BadInput(
                "bad_news",
                f"row {number}, column impact: expected low, medium or high, got '{impact}'",
            )
        at = _csv_time(row["time"], number, sources.tz)
        events.append(event_of(at, row["title"].strip(), (row["currency"], impact), sources))
    return events, max((event.time for event in events), default=1)


def _csv_time(text: str, number: int, zone: str) -> int:
    try:
        at = datetime.fromisoformat(text.strip())
    except ValueError:
        raise BadInput(
            "bad_news", f"row {number}, column time: expected ISO 8601, got '{text}'"
        ) from None
    return instant(at, zone, f"row {number}, column time: ")


def instant(at: datetime, zone: str, where: str) -> int:
    """UTC ns of a moment; raises BadInput for one without a zone, or beyond what is counted."""
    if not YEARS[0] < at.year < YEARS[1]:
        raise BadInput(
            "bad_news", f"{where}expected a year between {YEARS[0]} and {YEARS[1]}, got {at.year}"
        )
    if at.tzinfo is None:
        if not zone:
            raise BadInput(
                "bad_news", f"{where}{at:%Y-%m-%d %H:%M} has no time zone; name it as news.tz"
            )
        at = at.replace(tzinfo=ZoneInfo(zone))
    since = at.astimezone(UTC) - datetime(1970, 1, 1, tzinfo=UTC)
    return (since.days * 86_400 + since.seconds) * SECOND + since.microseconds * 1_000


def _text(data: bytes) -> str:
    try:
        return data.decode("utf-8-sig")
    except UnicodeDecodeError:
        raise BadInput("bad_news", "expected UTF-8 text") from None
