"""`hawser lines`: the cases with right answers, other formats, and what is refused without touching
anything."""

import csv
import math

import pyarrow.csv
import pyarrow.parquet
import pytest

from hawser.cli import main
from hawser.core.errors import BadInput
from hawser.formats.atomic import written
from madeup import CASES, needs_cases

BARS = (
    "time,open,high,low,close,remark\r\n"
    '2031-03-03T00:00:00Z,1.0400,1.0410,1.0390,1.0400,"a, b"\r\n'
    "2031-03-03T00:15:00Z,1.0400,1.0430,1.0400,1.0420,\r\n"
    "2031-03-03T00:30:00Z,1.0420,1.0440,1.0410,1.0410,c\r\n"
)


def run(folder, spec, bars=BARS, out="out.csv", name="bars.csv"):
    (folder / name).write_text(bars, newline="")
    (folder / "spec.toml").write_text(spec)
    return main(
        [
            "lines",
            "--bars",
            str(folder / name),
            "--spec",
            str(folder / "spec.toml"),
            "--out",
            str(folder / out),
        ]
    )


def read(path):
    with path.open(newline="", encoding="utf-8") as file:
        return list(csv.reader(file))


@needs_cases
@pytest.mark.parametrize("case", ["00", "01", "02"])
def test_cases_with_right_answers(case, tmp_path):
    folder, out = CASES / "lines" / case, tmp_path / "out.csv"
    files = ["--bars", folder / "bars.csv", "--spec", folder / "lines.toml", "--out", out]
    assert main(["lines", *map(str, files)]) == 0
    mine, theirs = read(out), read(folder / "expected.csv")
    assert mine[0] == theirs[0]
    assert len(mine) == len(theirs)
    old = len(read(folder / "bars.csv")[0])
    for row, right in zip(mine[1:], theirs[1:], strict=True):
        assert row[:old] == right[:old]
        for value, want in zip(row[old:], right[old:], strict=True):
            same = value == want or (
                value and want and math.isclose(float(value), float(want), rel_tol=1e-9)
            )
            assert same, (case, row[0], value, want)


def test_what_was_there_stays_to_the_letter_and_unknown_is_empty(tmp_path):
    assert run(tmp_path, '[[line]]\nname = "my, line"\nkind = "sma"\nlength = 2\n') == 0
    rows = read(tmp_path / "out.csv")
    assert rows[0] == ["time", "open", "high", "low", "close", "remark", "my, line"]
    assert rows[1] == ["2031-03-03T00:00:00Z", "1.0400", "1.0410", "1.0390", "1.0400", "a, b", ""]
    assert [row[-1] for row in rows[2:]] == [repr((1.04 + 1.042) / 2), repr((1.042 + 1.041) / 2)]


def test_parquet_in_and_out(tmp_path):
    assert (
        run(
            tmp_path,
            '[[line]]\nname = "x"\nkind = "channel_high"\nlength = 2\n',
            out="out.parquet",
        )
        == 0
    )
    table = pyarrow.parquet.read_table(tmp_path / "out.parquet")
    assert table.column("x").to_pylist() == [None, 1.043, 1.044]
    spec = tmp_path / "spec.toml"
    spec.write_text('[[line]]\nname = "y"\nkind = "channel_low"\nlength = 1\n')
    back = tmp_path / "back.csv"
    plain = tmp_path / "plain.parquet"
    pyarrow.parquet.write_table(pyarrow.csv.read_csv(tmp_path / "bars.csv"), plain)
    assert (
        main(
            ["lines", "--bars", str(plain), "--spec", str(spec), "--out", str(back), "--tz", "UTC"]
        )
        == 0
    )
    assert [row[-1] for row in read(back)[1:]] == ["1.039", "1.04", "1.041"]


@pytest.mark.parametrize(
    ("spec", "told"),
    [
        ("", "expected at least one [[line]]"),
        ("line = []\n", "at least one"),
        (
            '[[line]]\nname = "x"\nkind = "sam"\n',
            "line[0].kind: unknown kind sam; the nearest known one is sma",
        ),
        (
            '[[line]]\nname = "x"\nkind = "sma"\nlenght = 3\n',
            "unknown key line[0].lenght; the nearest known one is length",
        ),
        (
            '[[line]]\nname = "x"\nkind = "sma"\nlength = 0\n',
            "line[0]: length: expected a number of at least 1",
        ),
        ('[[line]]\nname = "x"\nkind = "sma"\nlength = 2.5\n', "line[0]: length: expected `int`"),
        (
            '[[line]]\nname = "x"\nkind = "sma"\nfactor = 2.0\n',
            "unknown key line[0].factor; the nearest known one is timeframe (sma takes timeframe, "
            "instrument, length)",
        ),
        (
            '[[line]]\nname = "x"\nkind = "supertrend"\n',
            "line[0]: key factor is missing",
        ),
        (
            '[[line]]\nname = "x"\nkind = "parabolic"\nstep = 0.3\nceiling = 0.2\n',
            "expected 0 < step <= ceiling",
        ),
        (
            '[[line]]\nname = "close"\nkind = "sma"\n',
            "close: a column of that name is already there",
        ),
        (
            '[[line]]\nname = "x"\nkind = "sma"\n[[line]]\nname = "x"\nkind = "ema"\n',
            "x: a column of that name",
        ),
        ('[[line]]\nname = " "\nkind = "sma"\n', "expected a column's name"),
    ],
)
def test_a_wrong_spec_is_one_line_and_nothing_is_written(tmp_path, capsys, spec, told):
    (tmp_path / "out.csv").write_text("mine")
    assert run(tmp_path, spec) == 2
    error = capsys.readouterr().err
    assert error.startswith(f"{tmp_path / 'spec.toml'}: ")
    assert told in error
    assert error.count("\n") == 1
    assert (tmp_path / "out.csv").read_text() == "mine"
    assert sorted(path.name for path in tmp_path.iterdir()) == ["bars.csv", "out.csv", "spec.toml"]


def test_wrong_bars_and_a_place_that_cannot_be_written(tmp_path, capsys):
    spec = '[[line]]\nname = "x"\nkind = "sma"\n'
    assert run(tmp_path, spec, BARS.replace("1.0430", "1.0030")) == 2
    assert "row 3, column" in capsys.readouterr().err
    assert run(tmp_path, spec, out="no/where.csv") == 2
    assert "cannot be written" in capsys.readouterr().err


def test_writing_is_whole_or_not_at_all(tmp_path):
    path = tmp_path / "file"
    path.write_bytes(b"old")
    with pytest.raises(RuntimeError), written(path) as file:
        file.write(b"half")
        raise RuntimeError
    assert path.read_bytes() == b"old"
    with written(path) as file:
        file.write(b"new")
    assert path.read_bytes() == b"new"
    assert [found.name for found in tmp_path.iterdir()] == ["file"]
    with (
        pytest.raises(BadInput, match="cannot be written"),
        written(tmp_path / "none" / "file") as file,
    ):
        file.write(b"x")
