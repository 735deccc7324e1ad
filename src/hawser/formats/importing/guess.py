"""What a file seems to be, from its first lines: every guess is one field of the recipe."""

from __future__ import annotations

import csv
import re
import unicodedata
from collections import Counter
from collections.abc import Sequence
from pathlib import Path

import msgspec
import numpy as np

from hawser.core.errors import BadInput
from hawser.core.written_times import Numbers, numbers_in
from hawser.formats.importing.opened import encoding_of, lines_of, sample
from hawser.formats.importing.recipe import NEEDED, PRICES, Dates, Kind, Recipe

SEPARATORS = (";", "\t", ",", "|", "spaces")
COMMENTS = ("#", "//", "%")
MOST_LINES = 400  # that a guess looks at
MOST_ABOVE = 40  # lines before the first row
GROUPED = r"\d{1,3}(?:[.,' \u00a0\u202f]\d{3})+"
NUMBER = re.compile(rf"[+-]?(?:(?:{GROUPED}|\d+)(?:[.,]\d*)?|[.,]\d+)(?:[eE][+-]?\d+)?")
COMPACT = re.compile(r"(?:19|20)\d{6}(?:\d{4}|\d{6})?")  # 20310305, with or without its clock
# What columns are called, in small letters without anything but letters.
NAMES = {
    "time": "time date datetime timestamp ts dt datum zeit zeitstempel opentime opened gmttime "
    "localtime utctime utc barstart start begin fecha data dateheure datumzeit",
    "clock": "time clock hour uhrzeit zeit hora heure ora",
    "open": "open o opening bidopen openbid first eroffnung ouverture apertura",
    "high": "high h max bidhigh highbid hoch haut alto maximum",
    "low": "low l min bidlow lowbid tief bas basso minimum",
    "close": "close c last closing bidclose closebid schluss cloture chiusura price settle",
    "spread": "spread spreadticks",
    "bid": "bid bidprice b geld",
    "ask": "ask askprice a offer brief",
}
WORDS = {role: frozenset(names.split()) for role, names in NAMES.items()}


def split(lines: Sequence[str], separator: str) -> list[list[str]]:
    """Lines as rows of cells."""
    if separator == "spaces":
        return [line.split() for line in lines]
    try:
        rows = list(csv.reader(lines, delimiter=separator))
    except csv.Error:  # a cell longer than any
        return [[line] for line in lines]
    return [[cell.strip() for cell in row] for row in rows if row]


def plain(name: str) -> str:
    """A column's name for comparing: small letters without their accents, and nothing else."""
    letters = unicodedata.normalize("NFKD", re.sub(r"[(\[].*", "", name).casefold())
    return re.sub(r"[^a-z]", "", letters)


def is_number(cell: str) -> bool:
    return NUMBER.fullmatch(cell) is not None


def numbers_of(cells: Sequence[str], clock: bool = False) -> Numbers:
    """The numbers in cells that may be times."""
    encoded = [cell.encode("utf-8") for cell in cells]
    data = np.frombuffer(b"".join(encoded) + b" ", np.uint8)
    return numbers_in(data, np.cumsum([0, *(len(one) for one in encoded)]), clock)


def is_date(cell: str) -> bool:
    """Whether a cell has a date, with or without the time of day."""
    may_be = COMPACT.fullmatch(cell) is not None or not is_number(cell)
    return may_be and numbers_of([cell]).bad < 0


def is_clock(cell: str) -> bool:
    return ":" in cell and numbers_of([cell], clock=True).bad < 0


def first_lines(path: Path, recipe: Recipe) -> list[str]:
    """The whole lines of the file's beginning; raises BadInput."""
    try:
        return lines_of(sample(path), recipe.encoding)
    except LookupError:
        raise BadInput(
            "bad_import", f"{path}: encoding: expected one such as utf-8, got {recipe.encoding}"
        ) from None
    except UnicodeError:
        raise BadInput("bad_import", f"{path}: is not written in {recipe.encoding}") from None


def columns_of(path: Path, recipe: Recipe) -> tuple[str, ...]:
    """The columns of a file that is read by a recipe, from the left; raises BadInput."""
    lines = first_lines(path, recipe)
    used = [lines[at] for at in _used(lines, recipe.comment) if at >= recipe.above]
    rows = split(used[:2], recipe.separator)
    if not rows:
        raise BadInput("bad_import", f"{path}: holds no rows")
    return _names(rows[0] if recipe.header else [], len(rows[-1]))


def _used(lines: Sequence[str], comment: str) -> list[int]:
    """Which lines are neither empty nor a comment."""
    return [
        number
        for number, line in enumerate(lines)
        if line.strip() and not (comment and line.startswith(comment))
    ]


def guess(path: Path) -> Recipe:
    """How `path` seems to be written; raises BadInput where it is no table of bars or ticks."""
    start = sample(path)
    encoding = encoding_of(start)
    lines = lines_of(start, encoding)[:MOST_LINES]
    comment = next((one for one in COMMENTS if any(line.startswith(one) for line in lines)), "")
    rows_at = _used(lines, comment)
    used = [lines[number] for number in rows_at]
    if not used:
        raise BadInput("bad_import", f"{path}: holds no rows")
    separator = _separator(used)
    rows = split(used, separator)
    first = _first_row(path, rows)
    header = first > 0 and _names_something(rows[first - 1], len(rows[first]))
    above = rows_at[first - 1] if header else rows_at[first]
    body = [row for row in rows[first:] if len(row) >= len(rows[first]) - 1]
    names = _names(rows[first - 1] if header else [], len(rows[first]))
    made = Recipe(
        encoding=encoding,
        separator=separator,
        above=above,
        header=header,
        comment=comment,
    )
    return _with_columns(path, made, names, body)


def _separator(lines: Sequence[str]) -> str:
    """The sign that makes the most rows of many cells that are a number, a date or nothing."""

    def worth(separator: str) -> float:
        rows = split(lines[-200:], separator)
        width, often = Counter(len(row) for row in rows).most_common(1)[0]
        if width < 3:
            return 0.0
        cells = [cell for row in rows if len(row) == width for cell in row][:600]
        clean = sum(
            not cell or is_number(cell) or is_clock(cell) or is_date(cell) for cell in cells
        )
        return often / len(rows) * clean / len(cells)

    worths = {separator: worth(separator) for separator in SEPARATORS}
    best = max(worths, key=lambda one: worths[one])
    return best if worths[best] else ","


def _first_row(path: Path, rows: list[list[str]]) -> int:
    """Where the rows of figures begin."""
    for number, row in enumerate(rows[: MOST_ABOVE + 1]):
        figures = sum(is_number(cell) for cell in row)
        if figures >= 2 and any(is_number(cell) or is_date(cell) for cell in row[:2]):
            return number
    raise BadInput(
        "bad_import",
        f"{path}: no row of figures among the first {len(rows[: MOST_ABOVE + 1])}; expected a time "
        "and prices in columns",
    )


def _names_something(row: list[str], width: int) -> bool:
    return abs(len(row) - width) <= 1 and not any(is_number(cell) for cell in row if cell)


def _names(header: list[str], width: int) -> tuple[str, ...]:
    """A name for each column: the header's, or which it is from the left."""
    found: list[str] = []
    for number in range(max(width, len(header))):
        name = header[number].strip().strip("\ufeff\"'<>") if number < len(header) else ""
        name = name or f"column {number + 1}"
        found.append(name if name not in found else f"{name} {number + 1}")
    return tuple(found)


def _with_columns(
    path: Path, made: Recipe, names: tuple[str, ...], body: list[list[str]]
) -> Recipe:
    cells = {
        name: [row[number] if number < len(row) else "" for row in body]
        for number, name in enumerate(names)
    }
    columns = _by_name(names, cells) if made.header else {}
    kind: Kind = "bars"
    if "time" not in columns or not set(PRICES) <= set(columns):
        ticks = {role: columns.get(role, "") for role in ("bid", "ask")}
        if "time" in columns and all(ticks.values()):
            kind = "ticks"
        else:
            columns, kind = _by_place(path, names, cells, columns)
    wanted = (*NEEDED[kind], "clock", "spread")
    columns = {role: name for role, name in columns.items() if role in wanted}
    decimal, grouping = _decimal(
        [
            cell
            for role, name in columns.items()
            if role not in ("time", "clock")
            for cell in cells[name]
        ]
    )
    taken = set(columns.values())
    keep = tuple(
        name
        for name in names
        if name not in taken
        and any(cells[name])
        and all(not cell or is_number(cell) for cell in cells[name])
    )
    return msgspec.structs.replace(
        made,
        kind=kind,
        columns=columns,
        decimal=decimal,
        grouping=grouping,
        dates=_dates(cells[columns["time"]]),
        keep=keep,
    )


def _by_name(names: tuple[str, ...], cells: dict[str, list[str]]) -> dict[str, str]:
    """Roles by what the columns are called; a second column of times is the clock."""
    found: dict[str, str] = {}
    for role in ("time", *PRICES, "spread", "bid", "ask"):
        for name in names:
            if plain(name) in WORDS[role] and name not in found.values():
                if role == "time" and not _dated(cells[name]):
                    continue
                found[role] = name
                break
    for name in names if "time" in found else ():
        free = name not in found.values() and plain(name) in WORDS["clock"]
        if free and (any(map(is_clock, cells[name][:5])) or _compact_clock(cells[name])):
            found["clock"] = name
            break
    return found


def _dated(cells: list[str]) -> bool:
    """Whether cells hold dates, or what is counted from 1970."""
    some = [cell for cell in cells if cell][:20]
    return sum(is_date(cell) or _epoch(cell) for cell in some) * 2 >= len(some) > 0


def _compact_clock(cells: list[str]) -> bool:
    some = [cell for cell in cells if cell][:20]
    return bool(some) and all(cell.isdigit() and len(cell) in (4, 6) for cell in some)


def _epoch(cell: str) -> bool:
    whole = cell.split(".", maxsplit=1)[0]
    return whole.isdigit() and len(whole) in (10, 13, 16, 19)


def _by_place(
    path: Path, names: tuple[str, ...], cells: dict[str, list[str]], named: dict[str, str]
) -> tuple[dict[str, str], Kind]:
    """Roles by what stands in the columns: a date first, then four prices or two."""
    time = named.get("time") or next((name for name in names if _dated(cells[name])), "")
    if not time:
        raise BadInput("bad_import", f"{path}: no column holds dates, or seconds since 1970")
    found = {"time": time}
    after = names[names.index(time) + 1 :]
    if after and (any(map(is_clock, cells[after[0]][:5])) or _compact_clock(cells[after[0]])):
        found["clock"] = after[0]
    if set(PRICES) <= set(named):
        return named | found, "bars"
    figures = [
        name
        for name in names
        if name not in found.values()
        and any(cells[name])
        and all(is_number(cell) for cell in cells[name] if cell)
    ]
    if len(figures) >= 4:
        return found | dict(zip(PRICES, figures, strict=False)), "bars"
    if len(figures) >= 2:
        return found | dict(zip(("bid", "ask"), figures, strict=False)), "ticks"
    raise BadInput(
        "bad_import", f"{path}: expected columns of open, high, low and close, or of bid and ask"
    )


def told_by_place(recipe: Recipe) -> list[str]:
    """Which prices a guess has by their place alone, for a person to look at."""
    roles = [
        role
        for role in (*PRICES, "bid", "ask")
        if role in recipe.columns and plain(recipe.columns[role]) not in WORDS[role]
    ]
    if roles and not recipe.header:
        return [f"No row names the columns: they are taken as {', '.join(roles)}, by their place"]
    return [f"Column '{recipe.columns[role]}' is taken as {role}, by its place" for role in roles]


def _decimal(cells: Sequence[str]) -> tuple[str, str]:
    """The sign before decimals, and the one between thousands."""
    both = Counter[tuple[str, str]]()
    for cell in cells:
        signs = [sign for sign in cell if sign in ".,' \u00a0\u202f"]
        if not signs:
            continue
        last, others = signs[-1], signs[:-1]
        if others and last in others:  # 1,234,567: it cannot be the decimals' sign
            both[".", last] += 1
        elif last in ".,":
            both[last, others[0] if others else ""] += 1
        else:
            both[".", last] += 1
    if not both:
        return ".", ""
    decimal = (
        "," if sum(n for (sign, _), n in both.items() if sign == ",") * 2 > both.total() else "."
    )
    grouping = next(
        (group for (sign, group), _ in both.most_common() if group and sign == decimal), ""
    )
    return decimal, grouping


def _dates(cells: Sequence[str]) -> Dates:
    """The order of a date's parts by what the first rows show; the whole file decides later."""
    some = [cell for cell in cells if cell]
    if all(_epoch(cell) for cell in some):
        digits = len(some[0].split(".")[0])
        units: dict[int, Dates] = {10: "s", 13: "ms", 16: "us", 19: "ns"}
        return units[digits]
    found = numbers_of(some)
    if found.named >= 0:
        return "dmy" if found.named == 1 else "mdy"
    first, second = found.date[:, 0], found.date[:, 1]
    if first.max() > 31:
        return "ymd"
    return "mdy" if (second > 12).any() and not (first > 12).any() else "dmy"
