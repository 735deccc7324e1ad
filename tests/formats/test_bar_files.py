"""Bar files good and bad: what is wrong is told as file, row and column, and nothing is guessed
(interface.md)."""

from decimal import Decimal

import numpy as np
import pyarrow as pa
import pyarrow.parquet
import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from hawser.core.clock import MINUTE
from hawser.core.errors import BadInput
from hawser.formats.bars import read_bars, read_unrounded
from madeup import pair

HEAD = "time,open,high,low,close"
GOOD = [
    "2031-01-06T08:00:00Z,0.61230,0.61250,0.61200,0.61210",
    "2031-01-06T08:01:00Z,0.61210,0.61240,0.61190,0.61220",
    "2031-01-06T08:02:00Z,0.61220,0.61290,0.61220,0.61280",
]


def write(folder, rows, head=HEAD):
    path = folder / "bars.csv"
    path.write_text("\r\n".join([head, *rows]) + "\r\n")
    return path


def test_a_good_file(tmp_path):
    history = read_bars(write(tmp_path, GOOD), pair())
    assert history.off_grid == 0
    assert history.bars.time.tolist() == [1925452800_000000000 + n * 60_000000000 for n in range(3)]
    assert history.bars.high.tolist() == [0.6125, 0.6124, 0.6129]
    assert np.isnan(history.bars.spread).all()


def test_extra_columns_and_the_spread(tmp_path):
    path = write(
        tmp_path,
        [f"{row},{n + 7},17.5,note" for n, row in enumerate(GOOD)],
        HEAD + ",spread,volume,remark",
    )
    assert read_bars(path, pair()).bars.spread.tolist() == [7, 8, 9]


def test_offsets_are_read_and_naive_times_need_a_zone(tmp_path):
    rows = [row.replace("Z", "+01:00") for row in GOOD]
    assert (
        read_bars(write(tmp_path, rows), pair()).bars.time[0]
        == 1925452800_000000000 - 3600_000000000
    )
    naive = write(tmp_path, [row.replace("Z", "") for row in GOOD])
    with pytest.raises(BadInput) as caught:
        read_bars(naive, pair())
    assert caught.value.code == "naive_time"
    assert "row 2, column time" in caught.value.sentence
    winter = read_bars(naive, pair(), "Europe/Zurich")
    assert winter.bars.time[0] == 1925452800_000000000 - 3600_000000000
    with pytest.raises(BadInput, match="expected the name of a time zone"):
        read_bars(naive, pair(), "Nowhere/Land")


def test_parquet_is_read_the_same(tmp_path):
    csv = read_bars(write(tmp_path, GOOD), pair()).bars
    path = tmp_path / "bars.parquet"
    columns = {name: getattr(csv, name) for name in ("open", "high", "low", "close")}
    pyarrow.parquet.write_table(
        pa.table({"time": pa.array(csv.time, pa.timestamp("ns", "UTC")), **columns}), path
    )
    again = read_bars(path, pair()).bars
    for name in ("time", "open", "high", "low", "close"):
        assert getattr(again, name).tolist() == getattr(csv, name).tolist()


def test_prices_off_the_tick_are_rounded_and_counted(tmp_path):
    rows = [GOOD[0], GOOD[1].replace("0.61220", "0.612204")]
    history = read_bars(write(tmp_path, rows), pair())
    assert history.off_grid == 1
    assert history.bars.close[1] == 0.6122


@given(
    st.lists(st.integers(1, 10**9), min_size=1, max_size=40),
    st.sampled_from(["0.00001", "0.25", "0.005", "5"]),
)
@settings(deadline=None, suppress_health_check=[HealthCheck.function_scoped_fixture])
def test_a_price_on_the_tick_is_the_float_of_its_text(tmp_path, counts, tick):
    instrument = pair(tick=Decimal(tick))
    rows = [
        f"{2031 + n}-01-06T08:00:00Z" + 4 * f",{Decimal(tick) * count}"
        for n, count in enumerate(counts)
    ]
    read = read_bars(write(tmp_path, rows), instrument)
    assert read.off_grid == 0
    assert read.bars.close.tolist() == [float(Decimal(tick) * count) for count in counts]


@pytest.mark.parametrize(
    ("row", "text", "told"),
    [
        (1, "2031-01-06T08:00:00Z,0.6,0.7,0.5,0.6", "row 3, column time: expected a time after"),
        (1, "2031-01-06T07:00:00Z,0.6,0.7,0.5,0.6", "row 3, column time: expected a time after"),
        (
            2,
            "2031-01-06T08:02:00Z,0.6,0.5,0.7,0.6",
            "row 4, column high: expected high at or above low",
        ),
        (
            2,
            "2031-01-06T08:02:00Z,0.8,0.7,0.5,0.6",
            "row 4, column open: expected a price from low to high",
        ),
        (
            0,
            "2031-01-06T08:00:00Z,0.6,0.7,0.5,0.4",
            "row 2, column close: expected a price from low to high",
        ),
        (0, "2031-01-06T08:00:00Z,nan,0.7,0.5,0.6", "row 2, column open: expected a number"),
        (0, "2031-01-06T08:00:00Z,0.6,inf,0.5,0.6", "row 2, column high: expected a number"),
        (
            0,
            "2031-01-06T08:00:00Z,0.6,0.7,-0.5,0.6",
            "row 2, column low: expected a price above zero",
        ),
        (0, "2031-01-06T08:00:00Z,0.6,0.7,0,0.6", "row 2, column low: expected a price above zero"),
        (1, "2031-01-06T08:01:00Z,0.6,0.7,x,0.6", "row 3, column low: expected a number, got 'x'"),
        (1, "yesterday,0.6,0.7,0.5,0.6", "row 3, column time: expected an ISO 8601 time"),
        (2, "2031-01-06T08:02:00Z,0.6,0.7,0.5", "expected a bar file"),
    ],
)
def test_what_is_wrong_is_told_with_its_place(tmp_path, row, text, told):
    rows = list(GOOD)
    rows[row] = text
    path = write(tmp_path, rows)
    with pytest.raises(BadInput) as caught:
        read_bars(path, pair())
    assert caught.value.sentence.startswith(f"{path}: ")
    assert told in caught.value.sentence
    assert "\n" not in caught.value.sentence


def test_whole_files_that_are_none(tmp_path):
    missing = tmp_path / "nothing.csv"
    for path, told in (
        (missing, "cannot be read"),
        (write(tmp_path, [], HEAD), "holds no bars"),
    ):
        with pytest.raises(BadInput, match=told):
            read_bars(path, pair())
    with pytest.raises(BadInput, match="column low is missing"):
        read_bars(write(tmp_path, ["2031-01-06T08:00:00Z,1,1,1"], "time,open,high,close"), pair())
    binary = tmp_path / "bars.parquet"
    binary.write_bytes(b"\x00\x01 not a table")
    with pytest.raises(BadInput, match=r"bars.parquet: expected a bar file"):
        read_bars(binary, pair())
    empty = tmp_path / "empty.csv"
    empty.write_bytes(b"")
    with pytest.raises(BadInput, match="expected a bar file"):
        read_bars(empty, pair())


def test_a_tick_too_coarse_for_the_prices(tmp_path):
    with pytest.raises(
        BadInput, match="row 2, column open: expected a price of at least half a tick"
    ):
        read_bars(write(tmp_path, GOOD), pair(tick=Decimal(5)))


def test_a_negative_spread(tmp_path):
    path = write(tmp_path, [f"{row},-1" for row in GOOD], HEAD + ",spread")
    with pytest.raises(BadInput, match="row 2, column spread: expected ticks, 0 or more"):
        read_bars(path, pair())


@pytest.mark.parametrize(
    ("key", "value"), [("qty_min", "nan"), ("qty_max", "nan"), ("qty_max", "1e400")]
)
def test_a_quantity_that_is_none_is_refused(key, value):
    with pytest.raises(BadInput, match=f"{key}: expected a quantity"):
        pair(**{key: Decimal(value)})


def test_more_ticks_than_can_be_counted_are_refused_with_their_row(tmp_path):
    path = write(tmp_path, [*GOOD[:1], f"2031-03-05T09:59:00Z,{'9' * 40},{'9' * 40},1,1"])
    with pytest.raises(
        BadInput,
        match=(r"row 3, column open: expected at most " r"1,000,000,000,000,000 ticks of 0\.00001"),
    ):
        read_bars(path, pair())


AUTUMN = [
    "2031-10-26T01:30:00",
    "2031-10-26T02:00:00",
    "2031-10-26T02:30:00",
    "2031-10-26T02:00:00",
    "2031-10-26T02:30:00",
    "2031-10-26T03:00:00",
]


def test_the_hour_that_comes_twice_in_autumn_is_told_apart_by_the_order_of_the_rows(tmp_path):
    path = write(tmp_path, [f"{at},1,2,1,2" for at in AUTUMN], "time,open,high,low,close")
    times = read_unrounded(path, "Europe/Zurich").time
    assert np.diff(times).tolist() == [30 * MINUTE] * 5
    hourly = [
        "2031-10-26T01:00:00",
        "2031-10-26T02:00:00",
        "2031-10-26T02:00:00",
        "2031-10-26T03:00:00",
    ]
    path = write(tmp_path, [f"{at},1,2,1,2" for at in hourly], "time,open,high,low,close")
    assert np.diff(read_unrounded(path, "Europe/Zurich").time).tolist() == [60 * MINUTE] * 3
    # Only one of the two hours is there: the first.
    path = write(tmp_path, [f"{at},1,2,1,2" for at in AUTUMN[:3]], "time,open,high,low,close")
    assert np.diff(read_unrounded(path, "Europe/Zurich").time).tolist() == [30 * MINUTE] * 2


def test_a_time_that_comes_a_third_time_or_never_was_is_refused(tmp_path):
    path = write(
        tmp_path, [f"{at},1,2,1,2" for at in (*AUTUMN[:5], AUTUMN[3])], "time,open,high,low,close"
    )
    with pytest.raises(BadInput, match=r"row 7, column time: expected a time after"):
        read_unrounded(path, "Europe/Zurich")
    path = write(
        tmp_path,
        ["2031-03-30T01:30:00,1,2,1,2", "2031-03-30T02:30:00,1,2,1,2"],
        "time,open,high,low,close",
    )
    with pytest.raises(
        BadInput, match=(r"row 3, column time: there is no such time in " r"Europe/Zurich")
    ):
        read_unrounded(path, "Europe/Zurich")


def test_quotes_are_no_bars_and_where_to_make_some_is_told(tmp_path):
    path = tmp_path / "quotes.csv"
    path.write_text("time,bid,ask\n2031-01-06T08:00:00Z,1.5,1.6\n")
    with pytest.raises(BadInput, match=r"holds quotes, not bars; hawser --import quotes.csv makes"):
        read_bars(path, pair())
    assert read_bars(path, pair(), ticks=True).ticks
