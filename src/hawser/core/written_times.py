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
NOTHING, MONTH, HALF, UTC, WRONG = range(5)  # what a word means


class Order(IntEnum):
    """In which order year, month and day stand."""

    YMD = 0
    DMY = 1
    MDY = 2


class Numbers(NamedTuple):
    """What stands in each text: `slots` int32[n, 7], how many of them are `filled`, `offset` from
    UTC in minutes; `named`: the slot where a month stands by its name, -1: none does; `bad`: the
    first row that cannot be read, -1: all can."""

    slots: Array
    filled: Array
    offset: Array
    named: int
    bad: int


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
            value, digits = 10 * value + data[i] - 48, digits + 1
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
def _put(slots: Array, row: int, slot: int, value: int, digits: int) -> int:
    """Puts a number where it belongs; returns the next slot, -1: it belongs nowhere."""
    if slot == SLOTS - 1:
        slots[row, slot] = value * 10 ** (FRACTION - digits)
        return slot + 1
    if slot == 0 and digits in (8, 12, 14):  # 20310305, with or without its clock
        date = value // 10 ** (digits - 8)
        slots[row, 0], slots[row, 1], slots[row, 2] = date // 10000, date // 100 % 100, date % 100
        if digits == 8:
            return CLOCK
        value, digits, slot = value % 10 ** (digits - 8), digits - 8, CLOCK
    if slot == CLOCK and digits in (4, 6):  # 0930 or 093000
        clock = value * (100 if digits == 4 else 1)
        slots[row, 3], slots[row, 4], slots[row, 5] = (
            clock // 10000,
            clock // 100 % 100,
            clock % 100,
        )
        return CLOCK + 3
    if slot < SLOTS - 1 and digits <= 4:
        slots[row, slot] = value
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
def _figure(data: Array, i: int, end: int, slot: int, slots: Array, row: int) -> tuple[int, int]:
    """Puts the digits that begin at `i` where they belong; returns where they end, and the next
    slot, -1: they belong nowhere."""
    begun, value = i, 0
    most = FRACTION if slot == SLOTS - 1 else 14
    while i < end and _is_digit(data[i]) and i - begun < most:
        value, i = 10 * value + data[i] - 48, i + 1
    digits = i - begun
    while slot == SLOTS - 1 and i < end and data[i] == 48:  # noughts that do not count
        i += 1
    if i < end and _is_digit(data[i]):
        return i, -1
    return i, _put(slots, row, slot, value, digits)


@compiled
def _read(
    data: Array, i: int, end: int, first: int, months: Array, slots: Array, row: int
) -> tuple[int, int, int, int, int]:
    """One text into `slots`: how many are filled (-1: it cannot be read), the offset from UTC, the
    slot of a month by its name, the half of the day, and where its date ends."""
    slot, half, offset, named, date_end = first, 0, NOWHERE, -1, end
    while i < end and slot >= 0:
        if slot == CLOCK and date_end == end:
            date_end = i
        sign = data[i]
        if _is_digit(sign):
            i, slot = _figure(data, i, end, slot, slots, row)
        elif (sign == 43 or sign == 45) and slot >= CLOCK + 2:  # noqa: PLR1714  # plain for Numba
            offset = _offset(data, i, end)
            i, slot = end, slot if offset != NOWHERE else -1
        elif _is_letter(sign):
            begun = i
            while i < end and _is_letter(data[i]):
                i += 1
            meant, figure = _word(data, begun, i, i == end, slot, months)
            if meant == MONTH:
                slots[row, slot], named, slot = figure, slot, slot + 1
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
    return slot, offset, named, half, date_end


@compiled
def _by_half(slots: Array, row: int, half: int) -> bool:
    """The hour of a clock of twelve hours; false where it has no such hour."""
    if half == 0:
        return True
    if not 1 <= slots[row, CLOCK] <= 12:
        return False
    slots[row, CLOCK] = slots[row, CLOCK] % 12 + (12 if half == 2 else 0)
    return True


@compiled
def _same_date(data: Array, one: int, other: int, long: int, end: int) -> bool:
    """Whether the text at `other` begins with the date of `long` signs at `one`, and goes on."""
    if not long or end - other <= long or _is_digit(data[other + long]):
        return False
    same = True
    for k in range(long):
        same = same and data[one + k] == data[other + k]
    return same


@compiled
def _numbers(
    data: Array, offsets: Array, first: int, months: Array, slots: Array, filled: Array, at: Array
) -> tuple[int, int]:
    """Fills `slots`, `filled` and `at` (offsets from UTC); returns the slot of a named month and
    the first row that cannot be read."""
    data, months, slots = borrowed(data), borrowed(months), borrowed(slots)
    named, before, long = -1, 0, 0  # where the row before begins, and how long its date is
    for row in range(offsets.size - 1):
        begun, end, slot = offsets[row], offsets[row + 1], first
        while end > begun and (data[end - 1] == 32 or data[end - 1] == 34):
            end -= 1
        if _same_date(data, before, begun, long, end):  # as in most rows
            slots[row, 0], slots[row, 1] = slots[row - 1, 0], slots[row - 1, 1]
            slots[row, 2], slot = slots[row - 1, 2], CLOCK
            slot, at[row], _, half, _ = _read(data, begun + long, end, CLOCK, months, slots, row)
        else:
            slot, at[row], by_name, half, date_end = _read(
                data, begun, end, first, months, slots, row
            )
            named, before = max(named, by_name), begun
            long = date_end - begun if first == 0 and date_end < end else 0
        if slot < CLOCK or slot == CLOCK + 1 or (slot == CLOCK and first == CLOCK):
            return named, row
        if not _by_half(slots, row, half):
            return named, row
        filled[row] = slot
    return named, -1


def numbers_in(data: Array, offsets: Array, clock: bool = False) -> Numbers:
    """The numbers in texts; `data` bytes (uint8), `offsets` where each begins, and the end of the
    last. `clock`: the texts have no date."""
    rows = offsets.size - 1
    slots, filled = np.zeros((rows, SLOTS), np.int32), np.zeros(rows, np.int8)
    offset = np.zeros(rows, np.int32)
    named, bad = _numbers(
        data, offsets.astype(np.int64), CLOCK if clock else 0, MONTHS, slots, filled, offset
    )
    return Numbers(slots, filled, offset, int(named), int(bad))


@compiled
def _days(year: int, month: int, day: int) -> int:
    """Days since 1970-01-01 of a date of the civil calendar."""
    y = year - (1 if month <= 2 else 0)
    era = y // 400
    of_era = y - era * 400
    of_year = (153 * (month + (-3 if month > 2 else 9)) + 2) // 5 + day - 1
    return era * 146097 + of_era * 365 + of_era // 4 - of_era // 100 + of_year - 719468


@compiled
def _moments(slots: Array, order: int, found: Array) -> int:
    """Fills `found` with ns as if all were UTC; returns the first row that is no moment."""
    for row in range(found.size):
        year, month, day = slots[row, 0], slots[row, 1], slots[row, 2]
        if order != 0:
            year, day = slots[row, 2], slots[row, 0]
            if order == 2:
                month, day = slots[row, 0], slots[row, 1]
        if year < 100:
            year += 2000 if year < 70 else 1900
        hour, minute, second = slots[row, 3], slots[row, 4], slots[row, 5]
        if not (1678 <= year <= 2261 and 1 <= month <= 12 and 1 <= day <= 31):
            return row
        if hour > 23 or minute > 59 or second > 59:
            return row
        days = _days(year, month, day)
        after = _days(year + month // 12, month % 12 + 1, 1)
        if days >= after:  # a day that its month does not have
            return row
        seconds = np.int64(days) * 86400 + hour * 3600 + minute * 60 + second
        found[row] = seconds * 1_000_000_000 + slots[row, 6]
    return -1


def moments(slots: Array, order: Order) -> tuple[Array, int]:
    """Each row's moment, ns as if all were UTC, and the first row that is none (-1: all are)."""
    found = np.zeros(slots.shape[0], np.int64)
    return found, int(_moments(slots, int(order), found))
