"""Times as other programs write them: read as Python's own calendar reads them."""

from __future__ import annotations

from datetime import datetime, timedelta, timezone

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from hawser.core.written_times import NOWHERE, DateOrder, Numbers, moments, numbers_in

EPOCH = datetime(1970, 1, 1)
FORMS = {
    "%Y-%m-%dT%H:%M:%S": DateOrder.YMD,
    "%Y.%m.%d %H:%M:%S": DateOrder.YMD,
    "%Y%m%d%H%M%S": DateOrder.YMD,
    "%Y%m%d %H%M%S": DateOrder.YMD,
    "%d.%m.%Y %H:%M:%S": DateOrder.DMY,
    "%d %b %Y, %H:%M:%S": DateOrder.DMY,
    "%A %d %B %Y %I:%M:%S %p": DateOrder.DMY,
    "%m/%d/%Y %H:%M:%S": DateOrder.MDY,
    "%b %d, %Y %I:%M:%S%p": DateOrder.MDY,
    '"%d-%m-%Y %H:%M:%S" ': DateOrder.DMY,
}


def numbers(*texts: str, clock: bool = False) -> Numbers:
    encoded = [text.encode() for text in texts]
    data = np.frombuffer(b"".join(encoded) + b" ", np.uint8)
    return numbers_in(data, np.cumsum([0, *map(len, encoded)]), clock)


@given(
    st.lists(
        st.datetimes(datetime(1678, 1, 2), datetime(2261, 1, 1)).map(
            lambda at: at.replace(microsecond=0)
        ),
        min_size=1,
        max_size=6,
    ),
    st.sampled_from(list(FORMS)),
    st.integers(0, 3),
)
def test_every_way_to_write_a_time_is_read_as_the_calendar_reads_it(times, form, again):
    """Also where the rows before have the same date, which is then read once."""
    times += [times[0] + timedelta(minutes=number) for number in range(again)]
    found = numbers(*(at.strftime(form) for at in times))
    assert found.bad == -1
    read, bad = moments(found, FORMS[form])
    assert bad == -1
    assert [int(one) for one in read] == [
        (at - EPOCH) // timedelta(seconds=1) * 10**9 for at in times
    ]


@given(st.lists(st.text("0123456789 -./:TZ+apm", max_size=20), min_size=1, max_size=5))
def test_a_row_is_read_as_it_would_be_alone(texts):
    """Whatever stood in the row before."""
    together = numbers(*texts)
    alone = [numbers(text) for text in texts]
    first = next((number for number, one in enumerate(alone) if one.bad >= 0), -1)
    assert together.bad == first
    for number in range(first if first >= 0 else len(texts)):
        assert together.date[number].tolist() == alone[number].date[0].tolist()
        assert together.clock[number] == alone[number].clock[0]
        assert together.offset[number] == alone[number].offset[0]


OFFSETS = [timedelta(), timedelta(hours=-9, minutes=-30), timedelta(hours=5, minutes=45)]


@given(st.datetimes(datetime(1900, 1, 1)), st.sampled_from(OFFSETS))
def test_an_offset_is_read_in_minutes(at, offset):
    text = at.replace(tzinfo=timezone(offset)).strftime("%Y-%m-%d %H:%M:%S%z")
    assert numbers(text).offset[0] == offset // timedelta(minutes=1)


@pytest.mark.parametrize(
    "text",
    [
        "", "2031", "2031-03", "2031-03-05 9", "2031-03-05 9:30:15:10:2", "2031-03-05 09:30.5",
        "05.03.2031 13:00 pm", "05.03.2031 0:10 am", "2031-03-05 09:30+25:00",
        "2031-03-05 09:30+0", "soon", "2031-03-05 09:30 XYZ", "20310305093",
        "2031-03-05 09:30:00.1234567891",
        "2031\u2013 03-05", "1930470240", "2031-01-01 24:00", "2031-01-01 23:60",
    ],
)  # fmt: skip
def test_what_is_no_time_is_said_to_be_none(text):
    assert numbers(text).bad == 0


@pytest.mark.parametrize("text", ["2031-02-29", "2031-13-01", "2031-00-10", "2031-06-31 10:00"])
def test_a_moment_that_never_is_is_told(text):
    found = numbers("2031-01-01 00:00", text)
    assert found.bad == -1
    assert moments(found, DateOrder.YMD)[1] == 1


def test_years_of_two_digits_and_times_of_day_alone():
    read, _ = moments(numbers("05.03.31", "05.03.69", "05.03.70"), DateOrder.DMY)
    assert [str(one)[:4] for one in read.astype("datetime64[ns]")] == ["2031", "2069", "1970"]
    found = numbers("9:30 pm", "093005", "21:05:07.25", clock=True)
    assert found.bad == -1
    of_day = [(21, 30, 0.0), (9, 30, 5.0), (21, 5, 7.25)]
    assert found.clock.tolist() == [
        (hour * 3600 + minute * 60 + second) * 10**9 for hour, minute, second in of_day
    ]
    assert (found.offset == NOWHERE).all()
