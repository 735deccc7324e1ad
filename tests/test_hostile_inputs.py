"""Commands fed with what nobody should write: status 2 and one line, whatever it is; nothing is
left half-written."""

import gzip
import json
import lzma
import subprocess
import sys
from pathlib import Path

import pyarrow as pa
import pyarrow.parquet as pq
import pytest

from fuzz import EXAMPLES, SPEC, _bars, _request
from hawser.cli import main

BARS, LEDGERS = _bars(), sorted(Path(__file__).with_name("ledgers").glob("*/ladder.sqlite.xz"))
ROWS = BARS.splitlines()
HEAD = ROWS[0]


def with_open(text: str) -> str:
    cells = ROWS[20].split(",")
    cells[1] = text
    return "\n".join([*ROWS[:20], ",".join(cells), *ROWS[21:]]) + "\n"


def parquet(times: list, kind: pa.DataType, **more: list) -> bytes:
    ones = [1.0] * len(times)
    table = pa.table(
        {
            "time": pa.array(times, kind),
            "open": ones,
            "high": ones,
            "low": ones,
            "close": ones,
            **more,
        }
    )
    sink = pa.BufferOutputStream()
    pq.write_table(table, sink)
    return sink.getvalue().to_pybytes()


UTC_US = pa.timestamp("us", "UTC")
RIG = (EXAMPLES / "slow-harbour.toml").read_text()
INSTRUMENT = (EXAMPLES / "quillan-ferry.toml").read_text()
HOSTILE_TOML = {
    "a number of 5,000 digits": "min_stop_ticks = " + "9" * 5_000,
    "deep lists": "a = " + "[" * 20_000 + "]" * 20_000,
    "a long dotted key": ".".join(["a"] * 20_000) + " = 1",
    "a table of many parts": "[" + ".".join(["a"] * 999) + "]",
    "a huge key": "a" * 2_000_000 + " = 1",
    "half a byte": b"\xff\xfe",
    "no times there are": "from = 0001-01-01T00:00:00+14:00",
    "nor these": "to = 9999-12-31T23:59:59-14:00",
    "a name of 300 signs": 'symbol = "' + "x" * 300 + '"',
    "control signs": 'name = "\\u001b[2J"',
}
HOSTILE_BARS = {
    "1_0": with_open("1_0"),
    "wide digits": with_open("１０"),
    "hexadecimal": with_open("0x10"),
    "inf": with_open("inf"),
    "a column twice": "\n".join(f"{row},{row.split(',')[1]}" for row in ROWS),
    "a header in another code": (HEAD + ",\xfc\n" + ROWS[1] + ",1\n").encode("latin-1"),
    "nothing": "",
    "a header alone": HEAD + "\n",
    "no first time": HEAD + "\n," + ROWS[1].partition(",")[2] + "\n",
    "zeros": with_open("\0"),
    "year 9999": "\n".join([HEAD, "9999-12-31T23:59:59Z," + ROWS[1].partition(",")[2]]) + "\n",
    "an open quote": "\n".join([*ROWS[:9], '"' + ROWS[9], *ROWS[10:]]),
}
HOSTILE_PARQUET = {
    "year 3000": parquet([32_503_680_000_000_000, 32_503_680_000_000_001], UTC_US),
    "a null first": parquet([None, 1], UTC_US),
    "a null text first": parquet([None, "2031-01-06T08:00:00Z"], pa.string()),
    "lists as prices": parquet([1_000_000], UTC_US, close=[[1.0]]),
    "no Parquet": b"PAR1" * 9,
}
HOSTILE_JSON = {
    "deep": "[" * 100_000,
    "digits": _request().replace("1.0", "9" * 5_000, 1),
    "half a sign": '{"side": "\\ud800"}',
    "a number": "3",
    "null": "null",
    "nothing": "",
    "another code": _request().encode("utf-16"),
    "a huge bid": _request().replace('"100.00"', '"1e999999999"'),
    "no bid": _request().replace('"100.00"', '"sNaN"'),
    "a tiny tick": _request().replace('"0.05"', '"1e-999999999"'),
}


def refused(arguments: list, capsys) -> str:
    """Run a command that has to refuse its input; what it said."""
    assert main([str(one) for one in arguments]) == 2
    told = capsys.readouterr()
    assert len(told.err.splitlines()) == 1, told.err
    assert told.err.isprintable() or told.err.rstrip("\n").isprintable()
    assert len(told.err) < 1_000
    return told.err


def put(path: Path, text: str | bytes) -> Path:
    path.write_bytes(text if isinstance(text, bytes) else text.encode())
    return path


@pytest.fixture
def files(tmp_path):
    return {
        "bars": put(tmp_path / "bars.csv", BARS),
        "instrument": EXAMPLES / "quillan-ferry.toml",
        "rig": EXAMPLES / "slow-harbour.toml",
        "account": EXAMPLES / "account.toml",
    }


def rehearsal(files: dict, out: Path, **changed: Path) -> list:
    return [
        "rehearse",
        *(part for name, path in (files | changed).items() for part in (f"--{name}", path)),
        "--out",
        out,
    ]


@pytest.mark.parametrize("text", HOSTILE_TOML.values(), ids=HOSTILE_TOML)
@pytest.mark.parametrize("kind", ["instrument", "rig"])
def test_declared_files(files, tmp_path, capsys, kind, text):
    bad = put(tmp_path / "bad.toml", text)
    assert "bad.toml: " in refused(rehearsal(files, tmp_path / "out", **{kind: bad}), capsys)
    assert not (tmp_path / "out").exists()


@pytest.mark.parametrize("text", HOSTILE_BARS.values(), ids=HOSTILE_BARS)
def test_bar_files(files, tmp_path, capsys, text):
    bad, spec = put(tmp_path / "bad.csv", text), put(tmp_path / "spec.toml", SPEC)
    assert "bad.csv: " in refused(rehearsal(files, tmp_path / "out", bars=bad), capsys)
    refused(["lines", "--bars", bad, "--spec", spec, "--out", tmp_path / "out.csv"], capsys)
    assert not (tmp_path / "out").exists()
    assert not (tmp_path / "out.csv").exists()


@pytest.mark.parametrize("data", HOSTILE_PARQUET.values(), ids=HOSTILE_PARQUET)
def test_parquet_files(files, tmp_path, capsys, data):
    assert "bad.parquet: " in refused(
        rehearsal(files, tmp_path / "out", bars=put(tmp_path / "bad.parquet", data)), capsys
    )


@pytest.mark.parametrize("text", HOSTILE_JSON.values(), ids=HOSTILE_JSON)
def test_requests(tmp_path, capsys, text):
    assert "bad.json: " in refused(["size", put(tmp_path / "bad.json", text)], capsys)


def test_one_request_that_cannot_be_leaves_the_others_of_a_list(tmp_path, capsys):
    good, bad = json.loads(_request()), json.loads(HOSTILE_JSON["a huge bid"])
    assert main(["size", str(put(tmp_path / "list.json", json.dumps([good, bad, good])))]) == 0
    answers = json.loads(capsys.readouterr().out)
    assert [answer["ok"] for answer in answers] == [True, False, True]


def test_packed_bars_and_nested_columns_of_lines(tmp_path, capsys):
    spec = put(tmp_path / "spec.toml", SPEC)
    packed = put(tmp_path / "bars.csv.gz", gzip.compress(BARS.encode()))
    assert (
        main(
            [
                "lines",
                "--bars",
                str(packed),
                "--spec",
                str(spec),
                "--out",
                str(tmp_path / "out.csv"),
            ]
        )
        == 0
    )
    assert len((tmp_path / "out.csv").read_text().splitlines()) == len(ROWS)
    nested = put(
        tmp_path / "n.parquet", parquet([1_000_000, 2_000_000], UTC_US, x=[{"a": 1}, {"a": 2}])
    )
    assert (
        main(
            [
                "lines",
                "--bars",
                str(nested),
                "--spec",
                str(spec),
                "--out",
                str(tmp_path / "out.parquet"),
            ]
        )
        == 0
    )
    told = refused(
        ["lines", "--bars", nested, "--spec", spec, "--out", tmp_path / "out2.csv"], capsys
    )
    assert "--out FILE.parquet" in told


@pytest.mark.parametrize(
    "moment",
    ["0001-01-01T00:00:00+14:00", "9999-12-31T23:59:59-14:00", "1677-01-01T00:00:00Z", "x"],
)
def test_moments(capsys, moment):
    guards, instrument = EXAMPLES / "harbour-watch.toml", EXAMPLES / "quillan-ferry.toml"
    refused(["guards", "--guards", guards, "--instrument", instrument, "--at", moment], capsys)


@pytest.mark.parametrize("figure", ["0", "-1", "nan", "inf"])
def test_a_distance_that_is_none(capsys, figure):
    guards, instrument = EXAMPLES / "harbour-watch.toml", EXAMPLES / "quillan-ferry.toml"
    at = ["--at", "2031-01-06T09:00:00Z", "--r-ticks", figure]
    assert "--r-ticks" in refused(
        ["guards", "--guards", guards, "--instrument", instrument, *at], capsys
    )


@pytest.mark.parametrize("hurt", ["cut", "text", "empty", "overwritten"])
def test_damaged_ledgers(tmp_path, capsys, hurt):
    whole = lzma.decompress(LEDGERS[0].read_bytes())
    data = {
        "cut": whole[: len(whole) // 2],
        "text": b"no ledger",
        "empty": b"",
        "overwritten": whole[:9000] + b"\xfa" * 200_000,
    }[hurt]
    path = put(tmp_path / "ledger.sqlite", data)
    instrument = ["--instrument", EXAMPLES / "quillan-ferry.toml", "--at", "2040-01-06T09:00:00Z"]
    assert "ledger.sqlite: " in refused(["guards", "--session", path, *instrument], capsys)
    assert main(["verify", str(path)]) in (1, 2)


@pytest.mark.skipif(not Path("/dev/full").exists(), reason="the system has no full device")
def test_a_full_output_is_told_and_a_device_is_never_replaced(files, tmp_path, capsys):
    request = put(tmp_path / "request.json", _request())
    for arguments in (["size", request], ["--version"], ["size", "--help"]):
        with Path("/dev/full").open("w") as full:
            done = subprocess.run(
                [sys.executable, "-m", "hawser", *arguments],
                stdout=full,
                stderr=subprocess.PIPE,
                check=False,
            )
        assert (done.returncode, done.stderr.decode()) == (
            2,
            "standard output: cannot be read or written (No space left on device)\n",
        )
    spec = put(tmp_path / "spec.toml", SPEC)
    assert "is no file" in refused(
        ["lines", "--bars", files["bars"], "--spec", spec, "--out", "/dev/full"], capsys
    )
    assert Path("/dev/full").is_char_device()


@pytest.mark.parametrize("closed", ["<&-", ">&-", "2>&-", "<&- >&- 2>&-"])
def test_closed_streams_are_no_reason_to_fail_and_no_file_takes_their_numbers(tmp_path, closed):
    """A file that is opened would get the number of a stream that is closed, and what complains
    would write into it."""
    made = tmp_path / "made"
    code = (
        f"import hawser.cli as cli; cli._fill_streams(); print(open({str(made)!r}, 'w').fileno(), "
        "file=open('n', 'w'))"
    )
    shell = 'exec "$0" "$@" ' + closed
    subprocess.run(["bash", "-c", shell, sys.executable, "-c", code], cwd=tmp_path, check=True)
    assert int((tmp_path / "n").read_text()) > 2
    told = subprocess.run(
        ["bash", "-c", shell, sys.executable, "-m", "hawser", "--version"], check=False
    )
    # what was asked for could not be said
    assert told.returncode == (2 if ">&-" in closed.split() else 0)
    wrong = [sys.executable, "-m", "hawser", "size", tmp_path / "none.json"]
    assert subprocess.run(["bash", "-c", shell, *wrong], check=False).returncode == 2


def test_a_folder_that_cannot_be_made(files, tmp_path, capsys):
    assert "cannot be made" in refused(rehearsal(files, files["bars"] / "out"), capsys)
