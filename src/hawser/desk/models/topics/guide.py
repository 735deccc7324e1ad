"""The guide in pieces: a section for each heading, so that one can be shown, found and gone on
from. It ships with the program: help needs no network."""

from __future__ import annotations

import re
from functools import lru_cache
from importlib import resources
from itertools import pairwise
from typing import NamedTuple

HEADING = re.compile(r"^(#{1,3}) (.+)$", re.MULTILINE)
# the chapter in which each case begins with its name in bold and is a section of its own
CASES = "What happens when"
PICTURE = re.compile(r"^!\[.*\n?", re.MULTILINE)
COMMENT = re.compile(r"^<!--.*-->\n?", re.MULTILINE)
LINK = re.compile(r"\[([^\]]+)\]\((?!#)[^)]*\)")
MOST_ROWS = 30  # of a list in one section: longer ones take too long to lay out


class GuideSection(NamedTuple):
    """`chapter`: the heading of the second rank that it stands under; `text`: Markdown without
    pictures."""

    title: str
    chapter: str
    text: str


@lru_cache(1)
def guide() -> tuple[GuideSection, ...]:
    """The sections in the guide's order, then the words of the glossary as one."""
    folder = resources.files("hawser.desk.models.topics")
    text = (folder / "guide.md").read_text(encoding="utf-8")
    words = (folder / "glossary.md").read_text(encoding="utf-8")
    return (*_sections(text), *_cut(GuideSection("Words", "Words", _glossary(words))))


def _sections(text: str) -> list[GuideSection]:
    found: list[GuideSection] = []
    chapter = ""
    heads = list(HEADING.finditer(text))
    for number, head in enumerate(heads):
        end = heads[number + 1].start() if number + 1 < len(heads) else len(text)
        title, body = head.group(2), text[head.end() : end].strip()
        chapter = title if len(head.group(1)) < 3 else chapter
        if title == CASES:
            found += _cases(body)
        elif plain := _plain(body):
            found += _cut(GuideSection(title, chapter, plain))
    return found


def _cut(whole: GuideSection) -> list[GuideSection]:
    """A section with a long list in parts, each with a name of its own."""
    lines = whole.text.splitlines()
    rows = [number for number, line in enumerate(lines) if line.startswith("- ")]
    cuts = [0, *rows[MOST_ROWS::MOST_ROWS], len(lines)]
    parts = ["\n".join(lines[start:end]) for start, end in pairwise(cuts)]
    names = [whole.title, *(f"{whole.title}, part {n}" for n in range(2, len(parts) + 1))]
    return [whole._replace(title=name, text=text) for name, text in zip(names, parts, strict=True)]


def _cases(body: str) -> list[GuideSection]:
    """Each case of the last chapter by its own name; the chapter itself lists them."""
    parts = re.split(r"\n\n(?=\*\*)", body)
    cases = []
    for part in parts:
        named = re.match(r"\*\*(.+?)\*\*,?\s*", part)
        assert named is not None, part[:40]
        title = named.group(1).rstrip(".,")
        cases.append(GuideSection(title, CASES, _plain(part)))
    listed = "\n".join(f"- {one.title}" for one in cases)
    return [GuideSection(CASES, CASES, listed), *cases]


def _plain(text: str) -> str:
    """Without pictures, without links to files that do not ship, and with tables as lists, which
    are laid out many times as quickly."""
    bare = LINK.sub(r"\1", COMMENT.sub("", PICTURE.sub("", text))).strip()
    lines = bare.splitlines()
    rules = {number for number, line in enumerate(lines) if line.startswith("|---")}
    heads = {number - 1 for number in rules}
    kept = (line for number, line in enumerate(lines) if number not in rules | heads)
    return "\n".join(map(_row, kept))


def _row(line: str) -> str:
    """A table's row as an entry of a list, its first cell before the others."""
    if not line.startswith("| "):
        return line
    first, *others = (cell.strip() for cell in line.strip("|").split(" | "))
    return f"- **{first.strip()}** \u2013 {', '.join(one for one in others if one)}"


def _glossary(text: str) -> str:
    """The words and what they mean; where each stands in the code is for developers."""
    rows = [line.strip("|").split(" | ") for line in text.splitlines() if line.startswith("| ")]
    return "\n".join(f"- **{word.strip()}** \u2013 {means}" for word, means, *_ in rows[1:])


def section(title: str) -> GuideSection | None:
    return next((one for one in guide() if one.title == title), None)
