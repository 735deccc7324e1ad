"""Histories as other programs write them come out as the same bars, to the bit."""

from __future__ import annotations

import csv
import json
import os
from dataclasses import replace
from decimal import Decimal
from pathlib import Path

import msgspec
import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from dialects import DIALECTS, LOCAL, PLAIN, TWO, ZONE, history, write
from hawser.cli import main
from hawser.core.bars import Bars
from hawser.core.errors import BadInput
from hawser.formats.bars import read_table
from hawser.formats.declared import load
from hawser.formats.importing.guess import columns_of
from hawser.formats.importing.importing import import_files
from hawser.formats.importing.reading import guessed
from hawser.formats.importing.recipe import Recipe
from hawser.service.runtime.opening_history import Inputs
from madeup import ROOT, pair

BARS = history()


def same(found, bars: Bars = BARS) -> bool:
    """What has no name in the file is kept as the column that it is."""
    columns = {"time": found.history.times, **found.history.columns}
    columns["spread"] = columns.get("spread", columns[list(columns)[-1]])
    return all(
        columns[name].tobytes() == column.tobytes() for name, column in bars._asdict().items()
    )


@pytest.mark.parametrize("name", DIALECTS)
def test_a_history_is_the_same_in_every_dialect(tmp_path, name):
    dialect = DIALECTS[name]
    found = import_files([write(BARS, dialect, tmp_path)], zone=dialect.zone)
    assert same(found)
    again = import_files(
        [write(BARS, dialect, tmp_path)], msgspec.structs.replace(found.recipe, zone=dialect.zone)
    )
    assert same(again)


def refused(tmp_path, text: str, **given) -> BadInput:
    path = tmp_path / "export.csv"
    path.write_text(text)
    with pytest.raises(BadInput) as told:
        import_files([path], **{"zone": "UTC", **given})
    assert str(path) in told.value.sentence or "--tz" in told.value.sentence
    assert "\n" not in told.value.sentence
    return told.value


def lines(*rows: str, header: str = "time,open,high,low,close") -> str:
    return "\n".join([header, *rows]) + "\n"


GOOD = "2031-03-05T09:30:00Z,1.0,1.2,0.9,1.1"


def test_one_row_decides_between_day_and_month(tmp_path):
    days = [f"{day:02d}.03.2031 10:00,1.0,1.2,0.9,1.1" for day in (3, 4, 13)]
    path = tmp_path / "export.csv"
    path.write_text(lines(*days))
    read = import_files([path], zone="UTC")
    assert any(one.endswith("day before month; row 4 shows it") for one in read.sentences())
    found = read.as_json()["files"][0]
    assert (found["dates"], found["decided_by_row"], found["doubtful"]) == ("dmy", 4, False)


def test_where_no_row_decides_the_order_in_which_times_go_on_does(tmp_path):
    path = tmp_path / "export.csv"
    # 2 March to 5 March, written month first: day first they would jump from month to month and
    # come back
    rows = [f"{m:02d}/{d:02d}/2031 10:00,1.0,1.2,0.9,1.1" for m, d in ((3, 11), (3, 12), (4, 1))]
    path.write_text(lines(*rows))
    found = import_files([path], zone="UTC")
    assert found.reads[0].decided.dates == "mdy"
    assert not found.reads[0].decided.open


def test_what_nothing_decides_is_told(tmp_path):
    path = tmp_path / "export.csv"
    path.write_text(lines(*(f"0{day}.04.2031,1.0,1.2,0.9,1.1" for day in (3, 5, 6))))
    found = import_files([path], zone="UTC")
    assert found.reads[0].decided.open
    assert any("no row shows whether day or month comes first" in one for one in found.sentences())


def test_a_recipe_is_taken_at_its_word(tmp_path):
    path = tmp_path / "export.csv"
    path.write_text(lines(*(f"0{day}.04.2031,1.0,1.2,0.9,1.1" for day in (3, 5, 6))))
    recipe = msgspec.structs.replace(import_files([path], zone="UTC").recipe, dates="mdy")
    found = import_files([path], recipe, zone="UTC")
    assert str(found.history.times.astype("datetime64[ns]")[0])[:10] == "2031-03-04"
    path.write_text(lines("13.04.2031,1.0,1.2,0.9,1.1"))
    with pytest.raises(BadInput, match=r"row 2, column time: .*month, day, year, got '13.04.2031'"):
        import_files([path], recipe)


@pytest.mark.parametrize(
    ("text", "told"),
    [
        ("", "holds no rows"),
        ("nothing\nbut words\n", "no row of figures"),
        (
            lines(GOOD, "2031-03-05T09:45:00Z,1.0,x,0.9,1.1"),
            "row 3, column high: expected a number, got 'x'",
        ),
        (lines(GOOD, "2031-03-05T09:45:00Z,1.0,,0.9,1.1"), "row 3, column high: expected a price"),
        (lines(GOOD, "2031-03-05T09:45:00Z,1.0,1.2,0.9,-1"), "row 3, column close: expected"),
        (
            lines(GOOD, "2031-03-05T09:45:00Z,1.0,1.2,0.9"),
            "row 3, expected 5 cells in each row, got 4",
        ),
        (
            lines(GOOD, "2031-03-05T09:45:00Z,1.0,0.8,0.9,1.1"),
            "row 3, column high: expected high at",
        ),
        (lines(GOOD, "2031-03-05T09:45:00Z,1.3,1.2,0.9,1.1"), "row 3, column open: expected a pr"),
        (lines(GOOD, "2031-02-30T09:45:00Z,1.0,1.2,0.9,1.1"), "row 3, column time: expected a ti"),
        (lines(GOOD, "2031-03-05T09:45:00,1.0,1.2,0.9,1.1"), "row 3, column time: expected an off"),
        (lines(GOOD, "soon,1.0,1.2,0.9,1.1"), "row 3, column time: expected a date"),
        (
            lines(GOOD, "2031-03-05T09:45:00Z,1,1,1,1", "2031-03-05T09:40:00Z,1,1,1,1"),
            "row 4: its time 2031-03-05T09:40:00Z is before",
        ),
        (
            lines(GOOD, "2031-03-05T09:30:00Z,1.0,1.2,0.9,1.15"),
            "have the same time 2031-03-05T09:30:00Z and differ in close",
        ),
        (
            lines("2031-03-05T09:30:00Z,1.2,1.1", header="time,bid,ask"),
            "row 2, column ask: expected an ask at or above",
        ),
    ],
)
def test_what_cannot_be_is_refused_with_its_row(tmp_path, text, told):
    assert told in refused(tmp_path, text).sentence


def test_times_without_an_offset_need_a_zone(tmp_path):
    text = lines("2031-03-05 09:30,1.0,1.2,0.9,1.1")
    error = refused(tmp_path, text, zone="")
    assert error.code == "naive_time"
    assert refused(tmp_path, text, zone="Nowhere/None").code == "bad_zone"
    never = lines("2031-03-30 02:30,1.0,1.2,0.9,1.1")
    assert "a time that there is in Europe/Zurich" in refused(tmp_path, never, zone=ZONE).sentence


def test_several_files_are_one_history(tmp_path):
    early, late = (BARS.mapped(lambda c: c[:250]), BARS.mapped(lambda c: c[200:]))
    paths = []
    for name, part in (("b", late), ("a", early)):
        (tmp_path / name).mkdir()
        paths.append(
            write(part, DIALECTS["semicolons" if name == "a" else "tabs"], tmp_path / name)
        )
    found = import_files(paths)
    assert same(found)
    assert [(one.code, one.often) for one in found.found if one.code == "twice"] == [("twice", 50)]


def test_two_files_that_contradict_each_other_are_refused(tmp_path):
    other = BARS._replace(close=np.where(np.arange(400) == 220, BARS.close + 1e-5, BARS.close))
    other = other._replace(high=np.maximum(other.high, other.close))
    for name, part in (("a", BARS), ("b", other)):
        (tmp_path / name).mkdir()
        write(part, PLAIN, tmp_path / name)
    with pytest.raises(BadInput, match=r"have the same time .* and differ in"):
        import_files([tmp_path / "a/export.csv", tmp_path / "b/export.csv"])


def test_ticks(tmp_path):
    path = tmp_path / "ticks.csv"
    path.write_text(
        "Time;Bid;Ask;Volume\n"
        "05.03.2031 09:30:00.125;0,64001;0,64003;5\n"
        "05.03.2031 09:30:00.125;0,64002;0,64002;1\n"
        "13.03.2031 09:30:01.5;0,64002;0,64004;7\n"
    )
    found = import_files([path], zone="UTC")
    assert found.history.ticks
    assert list(found.history.columns) == ["bid", "ask", "Volume"]
    assert found.history.times[0] % 10**9 == 125_000_000
    assert found.history.columns["bid"].tolist() == [0.64001, 0.64002, 0.64002]
    assert [(one.code, one.rows[0][1]) for one in found.found] == [("no_spread", 3)]


def test_parquet_with_other_names_and_types(tmp_path):
    import pyarrow as pa
    import pyarrow.parquet as pq

    path = tmp_path / "history.parquet"
    for times in (
        pa.array(BARS.time).view(pa.timestamp("ns", "UTC")),
        pa.array(BARS.time // 10**6).view(pa.timestamp("ms", "UTC")),
        pa.array(BARS.time // 10**9),
        pa.array([str(np.datetime64(int(one), "ns")) + "Z" for one in BARS.time]),
    ):
        table = {"Timestamp": times, "Spread": BARS.spread.astype(np.int32)}
        table |= {name.title(): getattr(BARS, name) for name in ("close", "open", "high", "low")}
        pq.write_table(pa.table(table), path)
        assert same(import_files([path]))


def test_what_is_worth_a_look_is_told_with_its_rows(tmp_path):
    high = BARS.high.copy()
    high[300] += 0.5
    path = write(BARS._replace(high=high, spread=BARS.spread * 0), PLAIN, tmp_path)
    found = {one.code: one for one in import_files([path], instrument=pair()).found}
    assert [row for _, row in found["spikes"].rows] == [302]
    assert [row for _, row in found["gaps"].rows] == [202]
    assert found["no_spread"].often == 400
    coarse = pair(tick=Decimal("0.0001"))
    found = {one.code: one for one in import_files([path], instrument=coarse).found}
    assert found["off_tick"].often > 300


def test_the_command_writes_what_the_others_read(tmp_path, capsys):
    path = write(BARS, DIALECTS["all at once"], tmp_path)
    out, recipe = tmp_path / "bars.parquet", tmp_path / "recipe.toml"
    given = ["import", str(path), "--out", str(out), "--tz", ZONE, "--recipe-out", str(recipe)]
    assert main([*given, "--json"]) == 0
    told = json.loads(capsys.readouterr().out)
    assert (told["rows"], told["bar_s"], told["files"][0]["newest_first"]) == (400, 900.0, True)
    from hawser.formats.bars import read_bars, read_unrounded

    again = read_unrounded(out)
    assert all(a.tobytes() == b.tobytes() for a, b in zip(again, BARS, strict=True))
    text = tmp_path / "bars.csv"
    assert main(["import", str(path), "--out", str(text), "--recipe", str(recipe)]) == 0
    assert "400 bars from 2031-10-24T20:00:00Z" in capsys.readouterr().out
    again = read_bars(text, pair()).bars
    assert all(a.tobytes() == b.tobytes() for a, b in zip(again, BARS, strict=True))


def test_nothing_is_written_where_something_is_wrong(tmp_path, capsys):
    path = tmp_path / "export.csv"
    path.write_text(lines(GOOD, "2031-03-05T09:45:00Z,1.0,1.2,0.9,-1"))
    out = tmp_path / "bars.csv"
    assert main(["import", str(path), "--out", str(out)]) == 2
    assert not out.exists()
    assert "row 3, column close" in capsys.readouterr().err


def test_rows_are_named_as_in_the_file_also_where_the_newest_comes_first(tmp_path):
    rows = ["2031-03-05T09:45:00Z,1.0,1.2,0.9,1.3", GOOD]
    assert "row 2, column close" in refused(tmp_path, lines(*rows)).sentence


def test_the_hour_that_comes_twice_is_told_apart_by_order(tmp_path):
    found = import_files([write(BARS, LOCAL, tmp_path)], zone=ZONE)
    assert (np.diff(found.history.times) > 0).all()
    assert same(found)


def test_a_column_that_is_meant_twice_is_refused(tmp_path):
    path = write(BARS, PLAIN, tmp_path)
    recipe = import_files([path]).recipe
    for changed in (
        {"columns": recipe.columns | {"high": "open"}},
        {"keep": ("spread",)},
    ):
        with pytest.raises(BadInput, match="is meant twice"):
            import_files([path], msgspec.structs.replace(recipe, **changed))


def test_a_recipe_that_names_no_column_of_the_file_is_refused(tmp_path):
    path = write(BARS, PLAIN, tmp_path)
    recipe = import_files([path]).recipe
    for columns, told in (
        (recipe.columns | {"high": "top"}, "there is no column top for high; it has time, open"),
        ({"time": "time"}, "no column for open, high, low, close"),
    ):
        with pytest.raises(BadInput, match=told):
            import_files([path], msgspec.structs.replace(recipe, columns=columns))
    for changed, told in (
        ({"encoding": "klingon"}, "encoding: expected one such as utf-8"),
        ({"decimal": ","}, "expected a number"),
    ):
        with pytest.raises(BadInput, match=told):
            import_files([path], msgspec.structs.replace(recipe, **changed))
    kept = tmp_path / "recipe.toml"
    kept.write_text('separator = ";;"')
    with pytest.raises(BadInput, match=r"recipe.toml: separator: expected one sign, .* got ';;'"):
        load(Recipe, kept)


@pytest.mark.parametrize(
    ("decimal", "grouping"), [(".", ","), (",", "."), (".", "'"), (",", "\u00a0"), (".", " ")]
)
@pytest.mark.parametrize("separator", [";", ","])
def test_signs_between_thousands_are_left_out(tmp_path, decimal, grouping, separator):
    prices = [np.array([float(f"{price * 1e4:.5f}") for price in one]) for one in BARS[1:5]]
    high = BARS._replace(open=prices[0], high=prices[1], low=prices[2], close=prices[3])
    dialect = replace(PLAIN, decimal=decimal, grouping=grouping, separator=separator)
    found = import_files([write(high, dialect, tmp_path)])
    assert (found.recipe.decimal, found.recipe.grouping) == (decimal, grouping)
    assert same(found, high)


DATES = [
    ("%Y-%m-%dT%H:%M:%SZ", ""),
    ("%d.%m.%Y %H:%M:%S", ""),
    ("%m/%d/%Y %I:%M %p", ""),
    ("%b %d, %Y %H:%M", ""),
    ("%Y%m%d%H%M", ""),
    ("%d-%m-%Y %H.%M", ""),
    ("%Y/%m/%d %H:%M:%S,000", ""),
    ("%d.%m.%y", "%H:%M:%S.000"),
    ("%Y%m%d", "%H%M"),
    ("%m/%d/%Y", "%I:%M %p"),
    ("%d %b %Y", "%H:%M"),
]


@settings(max_examples=60, deadline=None)
@given(data=st.data())
def test_what_no_list_foresaw_is_the_same_history_too(tmp_path_factory, data):
    """Any date with any separator, letters, packing and order."""

    def one(*choices):
        return data.draw(st.sampled_from(choices))

    date, clock = one(*DATES)
    zone = "UTC" if date.endswith("Z") else one("UTC", ZONE, "America/New_York")
    dialect = replace(
        PLAIN,
        separator=one(",", ";", "\t", "|"),
        decimal=one(".", ","),
        header=one(TWO if clock else PLAIN.header, None),
        date=date,
        clock=clock,
        zone=zone,
        encoding=one("utf-8", "utf-8-sig", "utf-16", "cp1252"),
        quoting=one(csv.QUOTE_MINIMAL, csv.QUOTE_ALL),
        above=one((), ("# x", "# y; z"), ("Made up", "")),
        comment_at=one(-1, 20),
        newest_first=one(False, True),
        packed=one("", "gz", "zip", "xz"),
        ending=one("\r\n", "\n"),
        trailing=one(False, True),
        blank=one(False, True),
    )
    assert same(import_files([write(BARS, dialect, tmp_path_factory.mktemp("any"))], zone=zone))


def test_a_recipe_reads_what_nobody_would_guess(tmp_path):
    """Columns without names, in an order of their own, after a row that looks like figures."""
    path = tmp_path / "export.txt"
    rows = [f"x~{4000 + day}~4011~3990~4001~{day}.3.31 9:05" for day in range(1, 10)]
    path.write_text("\n".join(["1~2~3~4~5~6", *rows]))
    names = {"open": 2, "high": 3, "low": 4, "close": 5, "time": 6}
    recipe = Recipe(
        separator="~",
        above=1,
        header=False,
        columns={role: f"column {number}" for role, number in names.items()},
        dates="dmy",
        zone=ZONE,
    )
    found = import_files([path], recipe)
    assert found.history.columns["open"].tolist() == [4000.0 + day for day in range(1, 10)]
    assert found.history.row[0] == 2
    with pytest.raises(BadInput, match=r"no column holds dates|no row of figures|expected columns"):
        import_files([path])


def test_a_time_that_never_was_is_named_by_its_row_also_where_the_newest_comes_first(tmp_path):
    rows = [f"2031-03-{day} {hour}:30,1.0,1.2,0.9,1.1" for day, hour in ((31, 10), (30, "02"))]
    text = lines(*rows, "2031-03-29 10:30,1.0,1.2,0.9,1.1")
    assert "row 3, column time" in refused(tmp_path, text, zone=ZONE).sentence


def test_a_spread_in_prices_is_told(tmp_path):
    path = write(BARS._replace(spread=BARS.spread / 100), PLAIN, tmp_path)
    path.write_text(path.read_text().replace(",0\n", ",0.3\n"))
    found = {one.code: one.often for one in import_files([path]).found}
    assert found["small_spread"] > 300


@pytest.mark.parametrize("encoding", ["hex", "rot13", "nothing"])
def test_what_is_no_encoding_of_text_is_refused(encoding):
    with pytest.raises(BadInput, match=f"encoding: expected one such as utf-8, got {encoding}"):
        Recipe(encoding=encoding)


def test_an_encoding_that_the_file_is_not_written_in_is_told(tmp_path):
    path = tmp_path / "export.csv"
    path.write_text("time,open,high,low,close\n2031-01-06T08:00:00Z,1,1,1,1\n")
    with pytest.raises(BadInput, match=r"export.csv: is not written in utf-16"):
        columns_of(path, Recipe(encoding="utf-16"))


def test_every_command_that_takes_bars_takes_another_program_s_by_a_recipe(tmp_path, capsys):
    """The export of the examples, as it is and as `hawser import` makes it: the same answers."""
    export, instrument = "examples/export.csv", str(ROOT / "examples/quillan-ferry.toml")
    recipe, own = tmp_path / "recipe.toml", tmp_path / "own.csv"
    words = ["import", str(ROOT / export), "--tz", ZONE, "--out", str(own)]
    assert main([*words, "--recipe-out", str(recipe)]) == 0
    ways = {
        "own": ["--bars", str(own)],
        "export": ["--bars", str(ROOT / export), "--recipe", str(recipe)],
    }
    told = {}
    for name, files in ways.items():
        out = tmp_path / f"{name}-lines.csv"
        spec = ["--spec", str(ROOT / "examples/lines.toml"), "--out", str(out)]
        assert main(["lines", *files, *spec]) == 0
        policy = ["--guards", str(ROOT / "examples/harbour-watch.toml"), "--instrument", instrument]
        capsys.readouterr()
        main(["guards", *files, *policy, "--at", "2031-03-04T12:00:00Z", "--json"])
        answer = capsys.readouterr().out
        inputs = Inputs(Path(files[1]), Path(instrument), recipe=recipe if files[2:] else None)
        held = [column.tobytes() for column in inputs.history.bars]
        told[name] = (read_table(out).drop_columns("time"), answer, held)
    assert told["own"] == told["export"]
    assert told["own"][0].num_columns > 6


def test_what_a_column_is_by_its_place_alone_is_told(tmp_path):
    """A header that calls two columns open: the last is the close, which nobody said."""
    path = tmp_path / "twice.csv"
    path.write_text("time,open,high,low,open\n" + "2031-03-05T09:00:00Z,1.0,1.2,0.9,1.1\n")
    found = import_files([path])
    assert "Column 'open 5' is taken as close, by its place" in found.sentences()
    assert found.as_json()["by_place"] == ["Column 'open 5' is taken as close, by its place"]
    assert import_files([path], found.recipe).placed == ()  # a recipe says it for sure
    path.write_text("2031-03-05T09:00:00Z,1.0,1.2,0.9,1.1\n2031-03-05T09:15:00Z,1.0,1.2,0.9,1.1\n")
    told = import_files([path]).sentences()[1]
    assert told.startswith("No row names the columns: they are taken as open, high, low, close")
    assert import_files([write(BARS, PLAIN, tmp_path)], zone=PLAIN.zone).placed == ()


def test_a_pipe_is_refused_instead_of_waited_for(tmp_path):
    for name in ("pipe.csv", "pipe.parquet"):
        os.mkfifo(tmp_path / name)
        with pytest.raises(BadInput, match="expected a file; this is a pipe"):
            guessed(tmp_path / name)


@pytest.mark.parametrize(
    "words",
    [
        ["quay", "--socket", "x.sock"],
        ["guards", "--guards", "g.toml", "--instrument", "i.toml", "--at", "2031-03-04T12:00:00Z"],
        ["--demo"],
    ],
)
@pytest.mark.parametrize("option", ["--recipe", "--tz"])
def test_how_bars_are_read_is_not_said_where_there_are_none(words, option, capsys):
    """It did nothing, and nobody was told."""
    assert main([*words, option, "UTC"]) == 2
    assert f"{option}: expected together with --bars" in capsys.readouterr().err
