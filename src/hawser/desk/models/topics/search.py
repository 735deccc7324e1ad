"""The help searched: every topic and every section of the guide, by the beginnings of words."""

from __future__ import annotations

import re
from collections.abc import Iterator
from functools import lru_cache
from typing import NamedTuple

import msgspec

from hawser.core.account import Account
from hawser.core.field_help import keys_of
from hawser.core.guards.declared import KINDS
from hawser.core.instrument import Instrument
from hawser.core.rig import SECTIONS
from hawser.core.sources.conditions.declared import KINDS as CONDITIONS
from hawser.core.sources.lines.declared import KINDS as LINES
from hawser.core.sources.lines.declared import PRICES
from hawser.desk.models.rig_draft import GENERAL
from hawser.desk.models.topics.guide import GuideSection, guide
from hawser.desk.models.topics.screens import BY_STATION
from hawser.desk.models.topics.topic import (
    Topic,
    topic_of_blank,
    topic_of_condition,
    topic_of_field,
    topic_of_guard,
    topic_of_line,
)

WORD = re.compile(r"[\w%]+")
AROUND = 60  # signs of a hit's text before and behind the word


class Found(NamedTuple):
    """A page of the help: what it is called, where it belongs, a few words of it, the page."""

    title: str
    place: str
    words: str
    page: Topic | GuideSection


def prepared() -> Iterator[None]:
    """Make the pages, a piece for each value that is asked for: msgspec takes some ms for each
    class that it looks at."""
    kinds: tuple[type[msgspec.Struct], ...] = (
        Account,
        Instrument,
        *KINDS,
        *CONDITIONS.values(),
        *LINES.values(),
    )
    for kind in kinds:
        keys_of(kind)
        yield
    guide()
    yield
    _pages()


@lru_cache(1)
def topics() -> tuple[tuple[str, Topic], ...]:
    """Every topic with the place that it belongs to."""
    found = [(place, topic) for place, of in BY_STATION.items() for topic in of.values()]
    found += [("Guards", topic_of_guard(kind)) for kind in KINDS]
    found += [
        ("Rigs", topic_of_blank(one, blank)) for one in (*SECTIONS, GENERAL) for blank in one.blanks
    ]
    found += [("Signals", topic_of_condition(kind)) for kind in CONDITIONS.values()]
    found += [("Signals", topic_of_line(kind)) for kind in (PRICES | LINES).values()]
    for name, kind in (("Account", Account), ("Instrument", Instrument)):
        keys = keys_of(kind)
        found += [(name, topic_of_field(key, "Keys of the files", keys)) for key in keys]
    return tuple(found)


@lru_cache(1)
def _pages() -> tuple[tuple[Found, str, str], ...]:
    """Every page with its title and its whole text, in small letters."""
    found = []
    for place, topic in topics():
        text = " ".join((topic.what, topic.unit, topic.example))
        found.append(
            (Found(topic.name, place, topic.what, topic), topic.name.lower(), text.lower())
        )
    for one in guide():
        page = Found(one.title, "Guide", one.text[: 2 * AROUND], one)
        found.append((page, one.title.lower(), one.text.lower()))
    return tuple(found)


def search(words: str, most: int = 40) -> list[Found]:
    """The pages in which every word that is typed begins a word; titles first."""
    typed = WORD.findall(words.lower())
    if not typed:
        return []
    ranked = []
    for number, (page, title, text) in enumerate(_pages()):
        named = [_begins(title, one) for one in typed]
        if all(known or _begins(text, one) for known, one in zip(named, typed, strict=True)):
            exact = title == " ".join(typed)
            ranked.append((not exact, -sum(named), number, page))
    ranked.sort(key=lambda one: one[:3])
    return [_shown(page, typed) for *_, page in ranked[:most]]


def _begins(text: str, word: str) -> bool:
    at = text.find(word)
    while at >= 0:
        if at == 0 or not text[at - 1].isalnum():
            return True
        at = text.find(word, at + 1)
    return False


def _shown(page: Found, typed: list[str]) -> Found:
    """The page with the part of its text in which the first word stands."""
    of = page.page
    text = " ".join((of.what if isinstance(of, Topic) else of.text).replace("|", " ").split())
    text = text.replace("*", "").replace("`", "").replace(" - ", " ")
    at = max(0, text.lower().find(typed[0]))
    start = 0 if at < AROUND else text.find(" ", at - AROUND) + 1
    part = text[start : start + 2 * AROUND]
    before = "\u2026 " if start else ""
    behind = " \u2026" if start + 2 * AROUND < len(text) else ""
    return page._replace(words=before + part + behind)
