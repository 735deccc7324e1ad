"""What a form of sentences is made of: sections, words and blanks."""

from __future__ import annotations

from typing import NamedTuple

from hawser.desk.models.topics.topic import Topic


class FormBlank(NamedTuple):
    """A field in a sentence: the key of its text, what it is called, its help, what may be chosen
    as (text, word), and what stands for an empty one."""

    key: str
    name: str
    topic: Topic
    choices: tuple[tuple[str, str], ...] = ()
    hint: str = ""


class Folded(NamedTuple):
    """What is shown only where something stands in it, or somebody wants it: `tip` says what it
    is."""

    words: tuple[str | FormBlank | Folded, ...]
    tip: str
    sign: str = "\u2026"


Words = tuple[str | FormBlank | Folded, ...]


class Section(NamedTuple):
    """Part of a form: at most `most` sentences; where there is none, `empty` stands there. `kept`:
    its sentences cannot be taken away."""

    key: str
    title: str
    most: int
    empty: str
    whole: str  # what it is taken away from
    kept: bool = False
