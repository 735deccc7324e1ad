"""`hawser signals`, and a rehearsal that takes its signals from a source."""

from __future__ import annotations

import csv
import hashlib
import json
import os
import shlex
import shutil
from pathlib import Path

import pytest

from hawser.cli import main
from hawser.service.run_record import RunRecord
from madeup import CASES, needs_cases

HERE = Path(__file__).parents[2]
EXAMPLES, SOURCES = HERE / "examples", HERE / "src/hawser/demo/sources"
BARS = EXAMPLES / "quillan-ferry-5m.csv"
SLOW = [
    "--bars",
    str(BARS),
    "--instrument",
    str(EXAMPLES / "quillan-ferry.toml"),
    "--rig",
    str(EXAMPLES / "slow-harbour.toml"),
    "--account",
    str(EXAMPLES / "account.toml"),
]


@needs_cases
@pytest.mark.parametrize("case", sorted(CASES.glob("signals/*/expected/out.csv")), ids=str)
def test_a_case_with_right_answers(case, tmp_path, monkeypatch, capsys):
    folder = case.parents[1]
    monkeypatch.chdir(folder)
    words = shlex.split((folder / "command.txt").read_text())[1:]
    words[words.index("--out") + 1] = str(tmp_path / "out.csv")
    assert main(words) == 0
    keys = ("signal", "exit_signal")
    ours, right = (
        [[row[key] for key in keys] for row in rows(one)] for one in (tmp_path / "out.csv", case)
    )
    assert [[int(float(x)) for x in row] for row in ours] == [
        [int(float(x)) for x in row] for row in right
    ]
    if (folder / "expected/out.json").exists():
        told, right = (
            json.loads(capsys.readouterr().out),
            json.loads((folder / "expected/out.json").read_text()),
        )
        for after, figures in right.pop("followed").items():
            for key, value in figures.items():
                near = {"abs": 0.02} if key == "chance" else {"rel": 1e-6}
                assert told["followed"][after][key] == (
                    value if value is None else pytest.approx(value, **near)
                )
        assert {key: told[key] for key in right} == right


def rows(path):
    with path.open() as file:
        return list(csv.DictReader(file))


def signals(tmp_path, source, *more, bars=BARS, out="out.csv"):
    path = tmp_path / out
    words = ["signals", "--bars", str(bars), "--source", str(source), "--out", str(path), *more]
    return main(words), path


@pytest.mark.parametrize("source", sorted(SOURCES.glob("*.toml")), ids=lambda path: path.stem)
def test_every_source_that_ships_says_something_and_both_kinds_of_file_agree(
    source, tmp_path, capsys
):
    bars = tmp_path / "bars.csv"
    head, *lines = BARS.read_text().splitlines()
    told = [f"{line},{('', '1', '0', '-1')[at % 4]}" for at, line in enumerate(lines)]
    bars.write_text("\n".join([f"{head},weft", *told, ""]))
    assert signals(tmp_path, source, "--json", bars=bars)[0] == 0
    report = json.loads(capsys.readouterr().out)
    found = rows(tmp_path / "out.csv")
    assert report["long"] == sum(row["signal"] == "1" for row in found)
    assert report["long"] + report["short"] > 0
    assert report["short"] == sum(row["signal"] == "-1" for row in found)
    assert set(report["followed"]) == {"1", "5", "20", "100"}
    assert [row["weft"] for row in found] == [line.rpartition(",")[2] for line in told]
    assert signals(tmp_path, source, bars=bars, out="out.parquet")[0] == 0
    import pyarrow.parquet

    table = pyarrow.parquet.read_table(tmp_path / "out.parquet")
    for name in ("signal", "exit_signal"):
        assert table[name].to_pylist() == [int(row[name]) for row in found]


def test_a_rehearsal_with_a_source_is_one_with_its_columns(tmp_path, capsys):
    source = EXAMPLES / "ebb-and-flow.toml"
    assert signals(tmp_path, source)[0] == 0
    columns = [
        "--signal",
        "signal",
        "--exit-signal",
        "exit_signal",
        "--source-name",
        "Ebb and flow",
    ]
    words = [*SLOW[:1], str(tmp_path / "out.csv"), *SLOW[2:]]
    assert main(["rehearse", *words, *columns, "--out", str(tmp_path / "by-columns")]) == 0
    assert main(["rehearse", *SLOW, "--source", str(source), "--out", str(tmp_path / "r")]) == 0
    for name in ("trades", "fills", "stops", "equity"):
        mine, other = (tmp_path / folder / f"{name}.csv" for folder in ("r", "by-columns"))
        assert mine.read_bytes() == other.read_bytes()
    assert len(rows(tmp_path / "r/trades.csv")) > 20
    assert any(row["exit_reason"] == "signal" for row in rows(tmp_path / "r/trades.csv"))
    assert main(["parity", *SLOW, "--source", str(source)]) == 0


def test_a_run_says_what_it_was_made_of(tmp_path):
    source = EXAMPLES / "ebb-and-flow.toml"
    assert main(["rehearse", *SLOW, "--source", str(source), "--out", str(tmp_path / "r")]) == 0
    run = json.loads((tmp_path / "r/run.json").read_text())
    assert run["command"][:2] == ["hawser", "rehearse"] and run["seed"] is None
    assert run["inputs"][str(source)] == hashlib.sha256(source.read_bytes()).hexdigest()
    assert set(SLOW[1::2]) <= set(run["inputs"])
    assert run["seconds"] >= 0 and run["hawser"]


def test_what_the_inputs_name_is_told_too(tmp_path):
    """Python of one's own and calendars are inputs; a pipe gives what it has only once."""
    for name in ("own-loom.toml", "own_loom.py"):
        shutil.copy(SOURCES / name, tmp_path)
    (tmp_path / "news.csv").write_text(
        "time,currency,impact,title\n2031-01-06T09:00:00Z,CHF,high,Made\n"
    )
    guards = tmp_path / "guards.toml"
    guards.write_text('[news]\nfiles = ["news.csv"]\n')
    words = [*SLOW, "--source", str(tmp_path / "own-loom.toml"), "--guards", str(guards)]
    assert main(["rehearse", *words, "--out", str(tmp_path / "r")]) == 0
    inputs = json.loads((tmp_path / "r/run.json").read_text())["inputs"]
    for name in ("own-loom.toml", "own_loom.py", "news.csv", "guards.toml"):
        path = tmp_path / name
        assert inputs[str(path)] == hashlib.sha256(path.read_bytes()).hexdigest()


def test_a_pipe_is_left_to_whoever_reads_it(tmp_path):
    pipe = tmp_path / "pipe"
    os.mkfifo(pipe)
    told = RunRecord(["rehearse"], [pipe, tmp_path / "gone"]).told()  # waits for nobody
    assert told["inputs"] == {str(pipe): "", str(tmp_path / "gone"): ""}


def test_a_folder_that_holds_something_is_replaced_only_when_asked(tmp_path, capsys):
    out = tmp_path / "r"
    out.mkdir()
    (out / "notes.txt").write_text("mine")
    (out / "trades.csv").write_text("mine too")
    assert main(["rehearse", *SLOW, "--out", str(out)]) == 2
    assert "is not empty" in capsys.readouterr().err
    assert (out / "trades.csv").read_text() == "mine too" and len(list(out.iterdir())) == 2
    assert main(["rehearse", *SLOW, "--out", str(out), "--replace"]) == 0
    assert (out / "notes.txt").read_text() == "mine"
    assert (out / "trades.csv").read_text().startswith("id,")


def test_another_instrument_is_aligned_and_asked_for_where_it_is_missing(tmp_path, capsys):
    source = tmp_path / "two.toml"
    source.write_text(
        'name = "Two"\n[[enter]]\nkind = "above"\na = "close"\n'
        'b = { kind = "sma", length = 20, timeframe = "1h", instrument = "Harbour 40" }\n'
    )
    status, out = signals(tmp_path, source)
    told = capsys.readouterr().err
    assert status == 2 and not out.exists()
    assert "two.toml: enter[0].b.instrument: there are no bars of Harbour 40" in told
    assert '--bars-of "Harbour 40=FILE"' in told
    assert signals(tmp_path, source, "--bars-of", f"Harbour 40={BARS}")[0] == 0
    own = tmp_path / "own.toml"
    own.write_text(source.read_text().replace(', instrument = "Harbour 40"', ""))
    assert signals(tmp_path, own, out="own.csv")[0] == 0
    assert out.read_bytes() == (tmp_path / "own.csv").read_bytes()  # they are the same bars


@pytest.mark.parametrize(
    ("text", "told"),
    [
        ('kind = "column"\nname = "wefd"', "column wefd is missing"),
        ('kind = "rises"\na = { kind = "sma", timeframe = "7m" }', "enter[0].a: 7m is no whole"),
        ('kind = "rises"\na = { kind = "sma", length = 9000 }', "needs 9000 bars"),
        ('kind = "python"\nfile = "gone.py"', "gone.py: cannot be read"),
        ('kind = "above"\na = 2.0\nb = 1.0', "can never signal short"),
    ],
)
def test_what_is_wrong_or_to_be_minded_is_one_sentence(text, told, tmp_path, capsys):
    source = tmp_path / "made.toml"
    source.write_text(f'name = "Made"\n[[enter]]\n{text}\n')
    signals(tmp_path, source)
    assert told in capsys.readouterr().err


def test_a_column_of_other_figures_is_refused_with_its_row(tmp_path, capsys):
    bars, source = tmp_path / "b.csv", tmp_path / "s.toml"
    head, *lines = BARS.read_text().splitlines()[:30]
    bars.write_text("\n".join([f"{head},weft", *(f"{line},1" for line in lines), ""]))
    bars.write_text(bars.read_text().replace(f"{lines[7]},1", f"{lines[7]},3"))
    source.write_text('name = "Made"\n[[enter]]\nkind = "column"\nname = "weft"\n')
    assert signals(tmp_path, source, bars=bars)[0] == 2
    assert "row 9, column weft: expected +1, -1, 0 or nothing" in capsys.readouterr().err


def test_source_and_columns_at_once_are_refused(tmp_path, capsys):
    source = ["--source", str(EXAMPLES / "ebb-and-flow.toml"), "--out", str(tmp_path / "r")]
    for more in (["--signal", "signal"], ["--source-name", "Ebb"]):
        assert main(["rehearse", *SLOW, *source, *more]) == 2
        assert f"{more[0]}: expected without --source" in capsys.readouterr().err
    assert main(["rehearse", *SLOW, "--bars-of", "X=y.csv", *source[2:]]) == 2
    assert "--bars-of: expected together with --source" in capsys.readouterr().err


def test_a_pattern_of_one_s_own_is_copied_and_runs_elsewhere(tmp_path):
    for name in ("own-loom.toml", "own_loom.py"):
        shutil.copy(SOURCES / name, tmp_path)
    assert signals(tmp_path, tmp_path / "own-loom.toml")[0] == 0
