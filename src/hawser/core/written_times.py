"""Times as other programs write them: the numbers in each text, and what they mean as UTC ns.

Texts come as one buffer of bytes with offsets, as Arrow keeps them, so that a history of millions
of rows is read without an object for each.
"""

from __future__ import annotations

from enum import IntEnum
from typing import NamedTuple

import numpy as np

from hawser.core.borrowed_arrays import borrowed
from hawser.core.compiled import compiled, inlined
from hawser.core.indicators import Array

SLOTS = 7  # year, month, day in any order; hour, minute, second, ns
CLOCK = 3  # the slot of the hour
NOWHERE = 1 << 30  # an offset from UTC that is not written, minutes
MONTHS = np.frombuffer(b"janfebmaraprmayjunjulaugsepoctnovdec", np.uint8).astype(np.int64)
FRACTION = 9  # digits of a second that count
SECOND = 1_000_000_000
LONGEST = 64  # signs of a text that others are compared with
NOTHING, MONTH, HALF, UTC, WRONG = range(5)  # what a word means


class DateOrder(IntEnum):
    """In which order year, month and day stand."""

    YMD = 0
    DMY = 1
    MDY = 2


class Numbers(NamedTuple):
    """What stands in each text: `date` int16[n, 3], year, month and day in the order in which they
    stand; `clock` int64, ns since midnight; `offset` int32, minutes from UTC; `named`: where in the
    date a month stands by its name, -1: nowhere; `bad`: the first row that cannot be read, -1: all
    can."""

    date: Array
    clock: Array
    offset: Array
    named: int
    bad: int

    @staticmethod
    def room(rows: int) -> Numbers:
        """Room for what stands in so many texts."""
        date, clock = np.zeros((rows, CLOCK), np.int16), np.zeros(rows, np.int64)
        return Numbers(date, clock, np.zeros(rows, np.int32), -1, -1)

    def part(self, first: int, end: int) -> Numbers:
        """Views of some rows."""
        return self._replace(
            date=self.date[first:end], clock=self.clock[first:end], offset=self.offset[first:end]
        )


@inlined
def _is_digit(sign: int) -> bool:
    return 48 <= sign <= 57


@inlined
def _is_letter(sign: int) -> bool:
    return 65 <= (sign & 223) <= 90


@inlined
def _parts(sign: int) -> bool:
    """Whether a sign stands between numbers: a space, quote, comma, hyphen, dot, slash or colon."""
    return sign in (32, 34, 44, 45, 46, 47, 58)


@compiled
def _month(data: Array, at: int, end: int, months: Array) -> int:
    """The month whose name begins at `at`; 0: none does."""
    if end - at < 3:
        return 0
    for month in range(12):
        same = True
        for k in range(3):
            same = same and (data[at + k] | 32) == months[3 * month + k]
        if same:
            return month + 1
    return 0


@compiled
def _offset(data: Array, at: int, end: int) -> int:
    """Minutes of an offset written from `at` on as +hh, +hhmm or +hh:mm; NOWHERE: it is none."""
    value, digits = 0, 0
    for i in range(at + 1, end):
        if _is_digit(data[i]):
            value, digits = 10 * value + int(data[i]) - 48, digits + 1
        elif data[i] != 58 or digits != 2:
            return NOWHERE
    if digits == 2:
        value *= 100
    elif digits != 4:
        return NOWHERE
    minutes = value // 100 * 60 + value % 100
    if minutes > 16 * 60 or value % 100 > 59:
        return NOWHERE
    return -minutes if data[at] == 45 else minutes


@compiled
def _put(slots: Array, slot: int, value: int, digits: int) -> int:
    """Puts a number where it belongs; returns the next slot, -1: it belongs nowhere."""
    if slot == SLOTS - 1:
        slots[slot] = value * 10 ** (FRACTION - digits)
        return slot + 1
    if slot == 0 and digits in (8, 12, 14):  # 20310305, with or without its clock
        date = value // 10 ** (digits - 8)
        slots[0], slots[1], slots[2] = date // 10000, date // 100 % 100, date % 100
        if digits == 8:
            return CLOCK
        value, digits, slot = value % 10 ** (digits - 8), digits - 8, CLOCK
    if slot == CLOCK and digits in (4, 6):  # 0930 or 093000
        clock = value * (100 if digits == 4 else 1)
        slots[3], slots[4], slots[5] = (
            clock // 10000,
            clock // 100 % 100,
            clock % 100,
        )
        return CLOCK + 3
    if slot < SLOTS - 1 and digits <= 4:
        slots[slot] = value
        return slot + 1
    return -1


@compiled
def _word(
    data: Array, begun: int, end: int, last: bool, slot: int, months: Array
) -> tuple[int, int]:
    """What letters mean, and with which figure: a month, the half of a day, UTC, nothing that
    counts, or what does not belong there."""
    long, low = end - begun, data[begun] | 32
    month = _month(data, begun, end, months) if slot < 2 and long >= 3 else 0
    if month:
        return MONTH, month
    if slot > CLOCK and long == 2 and (data[end - 1] | 32) == 109 and low in (97, 112):
        return HALF, 1 if low == 97 else 2
    # Z, UTC, GMT
    if slot > CLOCK + 1 and last and long in (1, 3) and low in (122, 117, 103):
        return UTC, 0
    # a day of the week may come first, a T before the hour
    if slot == 0 or (slot == CLOCK and long == 1 and low == 116):
        return NOTHING, 0
    return WRONG, 0


@compiled
def _note(place: Array, at: int, slot: int, digits: int) -> None:
    """Notes the slot of each of the digits that stand at `at`, as `_put` takes them."""
    for k in range(digits):
        if at + k >= LONGEST:
            return
        if slot == 0 and digits >= 8:
            place[at + k] = 0 if k < 4 else k // 2 - 1
        elif slot == CLOCK and digits in (4, 6):
            place[at + k] = CLOCK + k // 2
        else:
            place[at + k] = slot


@compiled
def _figure(
    data: Array, i: int, end: int, slot: int, slots: Array, place: Array, begin: int
) -> tuple[int, int]:
    """Puts the digits that begin at `i` where they belong, and notes it in `place`; returns where
    they end, and the next slot, -1: they belong nowhere."""
    begun, value = i, 0
    most = FRACTION if slot == SLOTS - 1 else 14
    while i < end and _is_digit(data[i]) and i - begun < most:
        value, i = 10 * value + int(data[i]) - 48, i + 1
    digits = i - begun
    _note(place, begun - begin, slot, digits)
    while slot == SLOTS - 1 and i < end and data[i] == 48:  # noughts that do not count
        i += 1
    if i < end and _is_digit(data[i]):
        return i, -1
    return i, _put(slots, slot, value, digits)


@compiled
def _read(
    data: Array,
    begin: int,
    end: int,
    first: int,
    months: Array,
    slots: Array,
    place: Array,
) -> tuple[int, int, int, int]:
    """One text into `slots`: how many are filled (-1: it cannot be read), the offset from UTC, the
    slot of a month by its name, and the half of the day. `place` gets the slot of each digit."""
    i, slot, half, offset, named = begin, first, 0, NOWHERE, -1
    place[:] = -1
    slots[:] = 0
    while i < end and slot >= 0:
        sign = data[i]
        if _is_digit(sign):
            i, slot = _figure(data, i, end, slot=slot, slots=slots, place=place, begin=begin)
        elif (sign == 43 or sign == 45) and slot >= CLOCK + 2:  # noqa: PLR1714  # plain for Numba
            offset = _offset(data, i, end)
            i, slot = end, slot if offset != NOWHERE else -1
        elif _is_letter(sign):
            begun = i
            while i < end and _is_letter(data[i]):
                i += 1
            meant, figure = _word(data, begun, i, last=i == end, slot=slot, months=months)
            if meant == MONTH:
                slots[slot], named, slot = figure, slot, slot + 1
            elif meant == HALF:
                half = figure
            elif meant == UTC:
                offset = 0
            elif meant == WRONG:
                slot = -1
        elif _parts(sign) and not (slot == CLOCK + 2 and sign in (44, 46)):
            i += 1
        else:  # also a part of a minute
            slot = -1
    return slot, offset, named, half


@compiled
def _of_day(slots: Array, half: int) -> int:
    """ns since midnight of the clock in `slots`; -1: there is no such time of day."""
    hour = slots[CLOCK]
    if half:
        if not 1 <= hour <= 12:
            return -1
        hour = hour % 12 + (12 if half == 2 else 0)
    if hour > 23 or slots[CLOCK + 1] > 59 or slots[CLOCK + 2] > 59:
        return -1
    seconds: int = (hour * 60 + slots[CLOCK + 1]) * 60 + slots[CLOCK + 2]
    return seconds * SECOND + int(slots[SLOTS - 1])


@compiled
def _like_before(
    data: Array, before: int, begun: int, long: int, slots: Array, place: Array, named: int
) -> bool:
    """Reads a text whose digits stand where those of the row before did, and whose other signs are
    the same; false where it is another kind of text. Nearly all rows are read so, in a tenth of the
    time."""
    month = slots[named] if named >= 0 else 0
    slots[:] = 0
    for k in range(long):
        sign, slot = data[begun + k], place[k]
        if slot >= 0:
            if not _is_digit(sign):
                return False
            slots[slot] = 10 * slots[slot] + sign - 48
        elif sign != data[before + k]:
            return False
    if named >= 0:
        slots[named] = month
    return True


@compiled
def _numbers(
    data: Array, offsets: Array, first: int, months: Array, date: Array, clock: Array, at: Array
) -> tuple[int, int]:
    """Fills `date`, `clock` and `at` (offsets from UTC); returns the slot of a named month and the
    first row that cannot be read."""
    data, months = borrowed(data), borrowed(months)
    place, slots = np.full(LONGEST, -1, np.int8), np.zeros(SLOTS, np.int64)
    # of the last row that was read sign by sign: where it begins, and how long it is
    named, by_name, offset, before, long, slot, half, part = -1, -1, NOWHERE, 0, 0, -1, 0, 1
    for row in range(offsets.size - 1):
        begun, end = offsets[row], offsets[row + 1]
        while end > begun and (data[end - 1] == 32 or data[end - 1] == 34):
            end -= 1
        if end - begun == long and _like_before(
            data,
            before,
            begun,
            long=long,
            slots=borrowed(slots),
            place=borrowed(place),
            named=by_name,
        ):
            slots[SLOTS - 1] *= part
        else:
            slot, offset, by_name, half = _read(
                data,
                begun,
                end,
                first=first,
                months=months,
                slots=borrowed(slots),
                place=borrowed(place),
            )
            named, before = max(named, by_name), begun
            long = end - begun if end - begun <= LONGEST else 0
            part = 10 ** (FRACTION - (place == SLOTS - 1).sum())
        if slot < CLOCK or slot == CLOCK + 1 or (slot == CLOCK and first == CLOCK):
            return named, row
        clock[row], at[row] = _of_day(borrowed(slots), half), offset
        if clock[row] < 0:
            return named, row
        for k in range(CLOCK):
            date[row, k] = slots[k]
    return named, -1


def numbers_in(
    data: Array, offsets: Array, clock: bool = False, into: Numbers | None = None
) -> Numbers:
    """The numbers in texts; `data` bytes (uint8), `offsets` where each begins, and the end of the
    last. `clock`: the texts have no date. `into`: where they are put, if there is room already."""
    found = into if into is not None else Numbers.room(offsets.size - 1)
    first = CLOCK if clock else 0
    named, bad = _numbers(
        data,
        offsets.astype(np.int64),
        first,
        months=MONTHS,
        date=found.date,
        clock=found.clock,
        at=found.offset,
    )
    return found._replace(named=int(named), bad=int(bad))


@compiled
def _days(year: int, month: int, day: int) -> int:
    """Days since 1970-01-01 of a date of the civil calendar."""
    y = year - (1 if month <= 2 else 0)
    era = y // 400
    of_era = y - era * 400
    of_year = (153 * (month + (-3 if month > 2 else 9)) + 2) // 5 + day - 1
    return era * 146097 + of_era * 365 + of_era // 4 - of_era // 100 + of_year - 719468


@inlined
def _same_day(date: Array, row: int) -> bool:
    """Whether a row has the date of the one before."""
    same = date[row, 0] == date[row - 1, 0] and date[row, 1] == date[row - 1, 1]
    return bool(same and date[row, 2] == date[row - 1, 2])


@compiled
def _add_days(date: Array, order: int, found: Array) -> int:
    """Adds to `found`, ns since midnight, the days of each date since 1970; returns the first row
    that is no date."""
    days = 0
    for row in range(found.size):
        if row and _same_day(date, row):
            found[row] += np.int64(days) * 86400 * SECOND
            continue
        year, month, day = int(date[row, 0]), int(date[row, 1]), int(date[row, 2])
        if order != 0:
            year, day = day, year
            if order == 2:
                month, day = day, month
        if year < 100:
            year += 2000 if year < 70 else 1900
        if not (1678 <= year <= 2261 and 1 <= month <= 12 and 1 <= day <= 31):
            return row
        days = _days(year, month, day)
        if days >= _days(year + month // 12, month % 12 + 1, 1):  # its month has no such day
            return row
        found[row] += np.int64(days) * 86400 * SECOND
    return -1


def moments(numbers: Numbers, order: DateOrder) -> tuple[Array, int]:
    """Each row's moment, ns as if all were UTC, and the first row that is none (-1: all are)."""
    found = numbers.clock.copy()
    return found, int(_add_days(numbers.date, int(order), found))
