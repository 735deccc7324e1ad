"""News calendars as files from outside: what they say, and what is said where they cannot be
read."""

import os
from datetime import UTC, datetime

import pytest

from hawser.core.clock import DAY, HOUR, SECOND
from hawser.core.guards.declared import NewsRule, NewsSources
from hawser.formats.news import calendar_files, read_calendar, read_calendars

NOW = int(datetime(2031, 3, 5, 13, tzinfo=UTC).timestamp()) * SECOND
PLAIN = NewsSources(tz="Europe/Zurich")

ICS = """BEGIN:VCALENDAR
VERSION:2.0
PRODID:-//made up//EN
BEGIN:VEVENT
UID:1
DTSTAMP:20310101T000000Z
DTSTART;TZID=Europe/Zurich:20310305T150000
SUMMARY:Rate decision
CATEGORIES:CHF,high
END:VEVENT
BEGIN:VEVENT
UID:2
DTSTAMP:20310101T000000Z
DTSTART;TZID=America/Toronto:20310101T083000
RRULE:FREQ=WEEKLY;BYDAY=FR{until}
SUMMARY:Employment
CATEGORIES:CAD
CATEGORIES:Medium
END:VEVENT
BEGIN:VEVENT
UID:3
DTSTAMP:20310101T000000Z
DTSTART:20310306T100000Z
STATUS:CANCELLED
SUMMARY:Called off
CATEGORIES:CHF,high
END:VEVENT
END:VCALENDAR
""".replace("\n", "\r\n")


def utc(*parts: int) -> int:
    return int(datetime(*parts, tzinfo=UTC).timestamp()) * SECOND


def written(tmp_path, text, name="made-up.ics"):
    path = tmp_path / name
    path.write_text(text, encoding="utf-8", newline="")
    return path


def test_an_icalendar_with_zones_recurrence_across_a_change_of_the_clocks_and_what_is_called_off(
    tmp_path,
):
    found = read_calendar(written(tmp_path, ICS.format(until="")), PLAIN, NOW)
    assert (found.state, found.reaches) == ("good", 0)
    told = [(event.time, event.currency, event.impact, event.title) for event in found.events]
    assert told == [
        (utc(2031, 3, 5, 14), "CHF", "high", "Rate decision"),
        (utc(2031, 3, 7, 13, 30), "CAD", "medium", "Employment"),  # winter time in Toronto
        (utc(2031, 3, 14, 12, 30), "CAD", "medium", "Employment"),  # summer time since the 9th
    ]


def test_a_calendar_reaches_to_its_last_event(tmp_path):
    found = read_calendar(
        written(tmp_path, ICS.format(until=";UNTIL=20310321T235959Z")), PLAIN, NOW
    )
    assert found.reaches == utc(2031, 3, 21, 12, 30)


def test_a_csv_with_offsets_a_zone_and_what_names_nothing(tmp_path):
    text = "\ufefftime,currency,impact,title\n2031-03-05T14:00:00Z,CHF,high,Rate decision\n"
    text += "2031-03-05T16:00,,,Speech\n2031-02-01T00:00:00+01:00,SEK,low,Long ago\n"
    found = read_calendar(written(tmp_path, text, "a.csv"), PLAIN, NOW)
    assert [(e.time, e.currency, e.impact) for e in found.events] == [
        (utc(2031, 3, 5, 14), "CHF", "high"),
        (utc(2031, 3, 5, 15), "ALL", "medium"),
    ]
    assert found.reaches == utc(2031, 3, 5, 15)


def test_rules_overrule_what_a_calendar_says(tmp_path):
    rules = (NewsRule("speech", currency="CHF", impact="low"), NewsRule("rate", impact="medium"))
    text = (
        "time,currency,impact,title\n2031-03-05T14:00Z,EUR,high,Rate "
        "decision\n2031-03-05T15:00Z,,high,A Speech\n"
    )
    found = read_calendar(written(tmp_path, text, "a.csv"), NewsSources(rule=rules), NOW)
    assert [(e.currency, e.impact) for e in found.events] == [("EUR", "medium"), ("CHF", "low")]


@pytest.mark.parametrize(
    ("name", "text", "why"),
    [
        (
            "a.csv",
            "time,currency,title\n",
            "column impact is missing; expected time,currency,impact,title",
        ),
        (
            "a.csv",
            "time,currency,impact,title\n2031-03-05T14:00Z,CHF,huge,x\n",
            "row 2, column impact: expected low",
        ),
        (
            "a.csv",
            "time,currency,impact,title\nsoon,CHF,high,x\n",
            "row 2, column time: expected ISO 8601, got 'soon'",
        ),
        (
            "a.csv",
            "time,currency,impact,title\n2031-03-05 14:00,CHF,high,x\n",
            "has no time zone; name it as news.tz",
        ),
        ("a.ics", "nothing of the kind", "expected an iCalendar file"),
        (
            "a.ics",
            ICS.format(until="").replace(
                "DTSTART:20310306T100000Z\r\nSTATUS:CANCELLED", "DTSTART:20310306T100000"
            ),
            "event 'Called off': 2031-03-06 10:00 has",
        ),
    ],
)
def test_what_cannot_be_read_says_why(tmp_path, name, text, why):
    found = read_calendar(written(tmp_path, text, name), NewsSources(), NOW)
    assert found.state == "unreadable"
    assert why in found.why
    assert not found.events


EVENT = ICS.replace("RRULE:FREQ=WEEKLY;BYDAY=FR{until}", "{rule}")


@pytest.mark.parametrize(
    ("rule", "why"),
    [
        ("RRULE:FREQ=SECONDLY", "event 'Employment': it recurs too often"),
        ("RRULE:FREQ=MINUTELY;COUNT=20", "it recurs too often"),
        (
            "RRULE:FREQ=DAILY;BYHOUR=1,2,3;BYMINUTE=" + ",".join(map(str, range(60))),
            "it recurs too often",
        ),
        ("RRULE:FREQ=DAILY;INTERVAL=0", "INTERVAL: expected 1 or more"),
        (
            "RRULE:FREQ=DAILY;BYMONTH=2;BYMONTHDAY=31\r\nRRULE:FREQ=HOURLY;BYMONTH=2;BYMONTHDAY=31",
            "its events cannot be worked out within 10 s",
        ),
    ],
)
def test_recurrences_without_end_are_no_news(tmp_path, rule, why):
    found = read_calendar(written(tmp_path, EVENT.format(rule=rule)), PLAIN, NOW)
    assert (found.state, found.events) == ("unreadable", ())
    assert why in found.why


def test_what_nobody_waits_for_any_more_is_not_read_to_its_end(tmp_path):
    """A reading process that is slow to start, on a loaded machine, kept the news' thread alive
    behind its runtime."""
    endless = written(tmp_path, EVENT.format(rule="RRULE:FREQ=HOURLY;BYMONTH=2;BYMONTHDAY=31"))
    asked = iter((False, True))
    found = read_calendar(endless, PLAIN, NOW, given_up=lambda: next(asked))
    assert found.why == "reading it does not end"
    unread = read_calendars(
        NewsSources(files=(endless.name,)), tmp_path, NOW, given_up=lambda: True
    )
    assert [one.state for one in unread] == ["unreadable"]


CSV = "time,currency,impact,title\n"


@pytest.mark.parametrize(
    ("text", "why"),
    [
        (
            CSV + "0001-01-01T00:00:00+14:00,CHF,high,x\n",
            "row 2, column time: expected a year between 1970 and 2200",
        ),
        (
            CSV + "9999-12-31T23:00:00-14:00,CHF,high,x\n",
            "expected a year between 1970 and 2200, got 9999",
        ),
        (CSV + f"2031-03-05T14:00Z,CHF,high,{'x' * 140_000}\n", "field larger than field limit"),
        (CSV + "x" * (5 << 20), "larger than 4 MB"),
        (
            CSV + "2031-03-05T14:00Z,CHF,high,x\n" * 3 + "2031-03-05T14:00Z\n",
            "row 5: expected time,currency,impact,title",
        ),
    ],
)
def test_rows_that_no_calendar_has(tmp_path, text, why):
    found = read_calendar(written(tmp_path, text, "a.csv"), PLAIN, NOW)
    assert (found.state, found.events) == ("unreadable", ())
    assert why in found.why


def test_what_is_no_file_is_not_waited_for(tmp_path):
    os.mkfifo(tmp_path / "pipe.ics")
    (tmp_path / "zero.csv").symlink_to("/dev/zero")
    (tmp_path / "round.ics").symlink_to("round.ics")
    (tmp_path / "folder.ics").mkdir()
    found = read_calendars(NewsSources(files=(".", "a\0b.csv", "n" * 300)), tmp_path, NOW)
    assert [one.state for one in found] == ["unreadable"] * 6
    assert [one.why for one in found if one.name in ("pipe.ics", "zero.csv")] == [
        "expected a file"
    ] * 2


def test_files_folders_and_what_is_not_there(tmp_path):
    folder = tmp_path / "news"
    folder.mkdir()
    written(folder, "time,currency,impact,title\n", "b.csv")
    written(folder, ICS.format(until=""), "a.ics")
    written(folder, "x", "notes.txt")
    sources = NewsSources(files=("news", "gone.ics"))
    assert [path.name for path in calendar_files(sources, tmp_path)] == [
        "a.ics",
        "b.csv",
        "gone.ics",
    ]
    found = read_calendars(sources, tmp_path, NOW)
    assert [one.state for one in found] == ["good", "good", "missing"]
    assert found[1].reaches < NOW - DAY  # nothing in it: it reaches nowhere
    assert found[2].why == "there is no such file"


def test_only_the_days_around_now_are_told(tmp_path):
    found = read_calendar(written(tmp_path, ICS.format(until="")), PLAIN, NOW + 100 * DAY)
    assert {event.title for event in found.events} == {"Employment"}
    assert all(abs(event.time - NOW - 100 * DAY) < 11 * DAY + HOUR for event in found.events)
