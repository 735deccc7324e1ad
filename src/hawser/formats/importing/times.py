"""A column of times as UTC ns, however it was written, and which row told how to read it."""

from __future__ import annotations

import os
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from typing import TYPE_CHECKING, NamedTuple

import numpy as np

from hawser.core.errors import BadInput
from hawser.core.indicators import Array
from hawser.core.written_times import NOWHERE, DateOrder, Numbers, moments, numbers_in
from hawser.formats.importing.recipe import Dates

if TYPE_CHECKING:
    import pyarrow as pa

ORDERS: dict[Dates, DateOrder] = {"ymd": DateOrder.YMD, "dmy": DateOrder.DMY, "mdy": DateOrder.MDY}
UNITS: dict[Dates, int] = {"s": 1_000_000_000, "ms": 1_000_000, "us": 1_000, "ns": 1}
MINUTE = 60_000_000_000


class OrderShown(NamedTuple):
    """In which order a date's parts stand, and the row that shows it; -1: none does, and both
    orders of day and month are possible where `open` says so."""

    dates: Dates
    row: int
    open: bool = False


class LocalTimes(NamedTuple):
    """`local`: ns as written; `offset`: minutes from UTC, NOWHERE where none is written."""

    local: Array
    offset: Array
    decided: OrderShown


class ColumnPlace(NamedTuple):
    """Where a column stands, for sentences: `first` is the file's row of its first cell, `step`
    leads to the row of the next (-1: the column was turned around)."""

    path: Path
    first: int
    column: str
    step: int = 1

    def wrong(self, at: int, expected: str, text: str = "") -> BadInput:
        row, got = self.first + at * self.step, f", got '{text[:40]}'" if text else ""
        return BadInput(
            "bad_import",
            f"{self.path}: row {row}, column {self.column}: expected {expected}{got}",
            row=row,
            column=self.column,
        )


def bytes_of(texts: pa.Array) -> tuple[Array, Array]:
    """The bytes of an array of texts, and where each begins."""
    _, offsets, data = texts.buffers()
    at = np.frombuffer(offsets, np.int32)[texts.offset : texts.offset + len(texts) + 1]
    if data is None or not data.size:
        return np.zeros(1, np.uint8), at
    return np.frombuffer(data, np.uint8), at


def numbers_of(place: ColumnPlace, column: pa.ChunkedArray, clock: bool = False) -> Numbers:
    """The numbers in each text of a column, as many pieces at once as there are processors; raises
    BadInput for the first that holds no time."""
    ends = np.cumsum([0, *map(len, column.chunks)]).tolist()
    found = Numbers.room(ends[-1])

    def read(number: int) -> Numbers:
        into = found.part(ends[number], ends[number + 1])
        return numbers_in(*bytes_of(column.chunk(number)), clock=clock, into=into)

    with ThreadPoolExecutor(os.cpu_count()) as pool:
        parts = list(pool.map(read, range(column.num_chunks)))
    bad = next((end + one.bad for end, one in zip(ends, parts, strict=False) if one.bad >= 0), -1)
    if bad >= 0:
        what = "a time of day" if clock else "a date, or a date and a time"
        raise place.wrong(bad, what, str(column[bad]))
    return found._replace(named=max(one.named for one in parts))


def counted(place: ColumnPlace, column: pa.ChunkedArray, dates: Dates) -> Array:
    """Seconds or parts of them since 1970, as ns."""
    import pyarrow as pa
    import pyarrow.compute as pc

    unit = UNITS[dates]
    try:
        whole = column.cast(pa.int64())
        return np.asarray(pc.multiply_checked(whole, unit), np.int64)
    except pa.ArrowInvalid:
        pass
    try:
        exact = pc.multiply(column.cast(pa.decimal128(28, 9)), pa.scalar(unit, pa.int64()))
        return np.asarray(exact.cast(pa.decimal128(38, 0)).cast(pa.int64()), np.int64)
    except pa.ArrowInvalid:
        texts = column.to_pylist()
        at = next((n for n, text in enumerate(texts) if not _counts(text)), 0)
        raise place.wrong(at, f"{dates} since 1970", texts[at] or "nothing") from None


def _counts(text: str) -> bool:
    whole, _, part = text.strip().partition(".")
    return whole.lstrip("-").isdigit() and len(whole) < 20 and (not part or part.isdigit())


def decided(numbers: Numbers, guess: Dates) -> OrderShown:
    """What the whole column says of the order of its parts."""
    first, second = numbers.date[:, 0], numbers.date[:, 1]
    if numbers.named >= 0:
        return OrderShown("dmy" if numbers.named == 1 else "mdy", 0)
    if first.max() > 31:
        return OrderShown("ymd", int(np.argmax(first > 31)))
    over: tuple[tuple[Dates, Array], ...] = (("dmy", first > 12), ("mdy", second > 12))
    for dates, beyond in over:
        if beyond.any():
            return OrderShown(dates, int(np.argmax(beyond)))
    ways: dict[Dates, int] = {"dmy": 0, "mdy": 0}
    for dates in ways:
        local, bad = moments(numbers, ORDERS[dates])
        ways[dates] = _turns(local) if bad < 0 else len(local)
    if ways["dmy"] != ways["mdy"]:
        return OrderShown(min(ways, key=lambda one: ways[one]), -1)
    return OrderShown(guess if guess in ways else "dmy", -1, open=True)


def _turns(local: Array) -> int:
    """How often times change between going on and going back."""
    steps = np.sign(np.diff(local))
    steps = steps[steps != 0]
    return int((steps[1:] != steps[:-1]).sum())


class OfDay(NamedTuple):
    """Times of day of a column of its own, and their offsets."""

    clock: Array
    offset: Array


def of_day(place: ColumnPlace, column: pa.ChunkedArray) -> OfDay:
    """Read before the dates: its text can be given back then."""
    found = numbers_of(place._replace(column="clock"), column, clock=True)
    return OfDay(found.clock, found.offset)


def local_times(
    place: ColumnPlace, dates: pa.ChunkedArray, clock: OfDay | None, wanted: Dates, sure: bool
) -> LocalTimes:
    """A column of dates, with the times of day of another where there is one. `sure`: `wanted` was
    chosen by a person, and no other order is looked for."""
    if wanted in UNITS:
        local = counted(place, dates, wanted)
        return LocalTimes(local, np.zeros(local.size, np.int32), OrderShown(wanted, -1))
    found = numbers_of(place, dates)
    if clock is not None:
        offset = np.where(clock.offset == NOWHERE, found.offset, clock.offset)
        found = found._replace(clock=clock.clock, offset=offset)
    how = OrderShown(wanted, -1) if sure else decided(found, wanted)
    local, bad = moments(found, ORDERS[how.dates])
    if bad >= 0:
        order = {"ymd": "year, month, day", "dmy": "day, month, year", "mdy": "month, day, year"}
        raise place.wrong(bad, f"a time whose date is {order[how.dates]}", str(dates[bad]))
    return LocalTimes(local, found.offset, how)


def in_utc(place: ColumnPlace, times: LocalTimes, zone: str) -> Array:
    """UTC ns, in the order of the rows: where the hour that comes twice in autumn stands twice, the
    second is the later. Raises BadInput where no zone is known, or a time never was."""
    bare = times.offset == NOWHERE
    if not bare.any():
        return times.local - times.offset.astype(np.int64) * MINUTE
    if not bare.all():
        with_one = not bare[0]
        at = int(np.argmax(bare if with_one else ~bare))
        raise place.wrong(at, "an offset like the others" if with_one else "no offset")
    if not zone:
        raise BadInput(
            "naive_time",
            f"{place.path}: row {place.first}, column {place.column}: has no offset; name the zone "
            "of its times with --tz, as --tz UTC",
        )
    import pyarrow as pa

    from hawser.formats.zones import in_zone

    stamps = pa.array(times.local).view(pa.timestamp("ns"))
    return in_zone(stamps, zone, lambda at: place.wrong(at, f"a time that there is in {zone}"))
