"""What a rehearsal writes is read back as it was reckoned: times to the nanosecond, numbers
unrounded."""

import io

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from hawser.core.clock import SECOND
from hawser.formats import rehearsed

# that stay, and that change
SOME = st.sampled_from([0.1 + 0.2, 64_000.0, 63_999.999_999_999_99, 1e16, 5e-7, -12.5])


@pytest.mark.parametrize(
    "span", [SECOND, 60 * SECOND, SECOND // 8], ids=["seconds", "minutes", "parts of a second"]
)
@given(
    values=st.lists(
        SOME | st.floats(allow_nan=False, allow_infinity=False), min_size=1, max_size=60
    ),
    at=st.data(),
)
@settings(deadline=None, max_examples=40)
def test_equity(span, values, at):
    begin = at.draw(st.integers(0, 3 * 10**9)) * SECOND
    times = begin + np.arange(len(values)) * span
    rehearsed.CHUNK, chunk = 7, rehearsed.CHUNK
    try:
        written = io.BytesIO()
        rehearsed._write_equity(written, times, {"equity": np.array(values)})
    finally:
        rehearsed.CHUNK = chunk
    head, *lines = written.getvalue().decode().splitlines()
    assert head == "time,equity"
    read = [line.split(",") for line in lines]
    assert [float(value) for _, value in read] == values
    assert all(moment.endswith("Z") and moment[10] == "T" for moment, _ in read)
    assert [
        np.datetime64(moment[:-1], "ns").astype(np.int64) for moment, _ in read
    ] == times.tolist()
