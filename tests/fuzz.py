"""Mutated inputs over every reader: nothing but a sentence may come of them, soon and in little
memory.

    .venv/bin/python tests/fuzz.py FIRST COUNT [--apart]

Each input is made from its number alone, so that one that fails can be made again. `--apart`: by
`hawser` commands in processes of their own, judged by exit status, which costs a second each.
"""

from __future__ import annotations

import contextlib
import json
import random
import resource
import subprocess
import sys
import tempfile
import time
import traceback
from collections.abc import Callable
from functools import partial
from pathlib import Path
from typing import NamedTuple

import msgspec

import dialects
from hawser.core import field_parser as fp
from hawser.core import rig as rigs
from hawser.core.account import Account
from hawser.core.errors import BadInput, HawserError
from hawser.core.guards.declared import Guards, NewsSources
from hawser.core.instrument import Instrument
from hawser.core.rig import Rig
from hawser.engine import events as ev
from hawser.formats.bars import Columns, read_bars
from hawser.formats.declared import load, record, toml
from hawser.formats.importing.importing import import_files
from hawser.formats.importing.writing import write_history
from hawser.formats.lines import add_lines, read_lines
from hawser.formats.news import _read_csv
from hawser.formats.policytext import read_policy
from hawser.formats.rigs import read_rig
from hawser.formats.size_json import answer_one
from hawser.formats.sources import load_source
from hawser.service.alerts.settings import AlertSettings
from hawser.service.watchdog.control import WatchSettings
from hawser.venue.quay import wire

HERE = Path(__file__).resolve().parents[1]
EXAMPLES, DEMO = HERE / "examples", HERE / "src" / "hawser" / "demo"
SLOW, LARGE = 5.0, 500 * 1024  # seconds; kB beyond what the process had
TOKENS = (
    "nan",
    "inf",
    "-inf",
    "1e-300",
    "1e300",
    "9" * 30,
    "9" * 5000,
    "-5",
    "0",
    "-0.0",
    "1_0",
    "１０",
    "٣",
    "\x00",
    "\ud7ff",
    "\U0001f4a9",
    "\x1b[2J",
    "<img src=x>",
    "=HYPERLINK(1)",
    '"',
    "'",
    '"""',
    "[",
    "]" * 40,
    "[" * 300,
    "{",
    "}",
    "\\",
    "\n",
    "\r",
    ",",
    ",,",
    ";",
    "0001-01-01T00:00:00+14:00",
    "9999-12-31T23:59:59-14:00",
    "2031-01-06",
    "true",
    "null",
    "{}",
    "a.b" * 30,
    "a" * 3000,
    " " * 3000,
    "\ufeff",
    "é",
    "\u202e",
    "e",
    "E+",
    ".",
    "-",
    "+",
    "NaN",
    "sNaN",
    "Infinity",
    "1e999999999",
)


def _bars() -> str:
    """With more signals than the example's."""
    rows = (EXAMPLES / "quillan-ferry-5m.csv").read_text().splitlines()[:40]
    told = [f"{row.rpartition(',')[0]},{number % 3 - 1}" for number, row in enumerate(rows[1:])]
    return "\n".join([rows[0], *told, ""])


def _request() -> str:
    instrument, account = (
        toml((EXAMPLES / name).read_text(), "x") for name in ("quillan-ferry.toml", "account.toml")
    )
    return json.dumps(
        {
            "instrument": instrument,
            "account": account,
            "side": "long",
            "quote": {"bid": "100.00", "ask": "100.05"},
            "atr": 1.0,
            "stop": {"atr": 2.0},
            "targets": [{"r": 1.0, "share": 0.4}],
            "entry": None,
            "positions": 1,
            "open_heat": 0.0,
            "open_heat_by_currency": {"CHF": 1.0},
            "day_loss_room": 100.0,
        }
    )


INSTRUMENT = load(Instrument, EXAMPLES / "quillan-ferry.toml")
SOURCES = NewsSources(tz="Europe/Zurich")
NEWS = (
    "time,currency,impact,title\n2031-01-06T08:00:00Z,CHF,high,Rates\n"
    "2031-01-07T08:00:00+01:00,CAD,low,Jobs\n"
)
SOURCE_FILES = tuple(path.read_text() for path in sorted((DEMO / "sources").glob("*.toml")))
SPEC = (
    '[[line]]\nname = "a"\nkind = "supertrend"\nlength = 10\nfactor = 3.0\n[[line]]\nname = '
    '"b"\nkind = "sma"\n'
)
ALERTS = (
    'most_per_min = 6\n[events]\nalarm = ["email"]\n[smtp]\nhost = "mail.example.org"\nsender = '
    '"a@b.example"\n'
    'to = ["c@d.example"]\nport = 587\nuser = "me"\npassword = "x"\n[webhook]\nurl = '
    '"https://example.org/x"\n'
    'secret = "s"\n'
)
TYPED = (
    "0.6 % of balance",
    "1 % per 2.5 atr",
    "invest 5000 risk 150 CHF",
    "2 units",
    "2.5 atr",
    "3 bars + 2 t",
    "pivot 2 3",
    "supertrend 10 3",
    "1.5 R",
    "40 %",
    "rest",
    "limit 0.5 atr",
    "market within 5 t",
    "straddle 1 atr",
    "14:30",
    "30 min",
    "2 R, settle 500 ms",
    "20 t + 1 atr",
    "target 2",
    "900, or 1.5 %",
    "0.61605",
)
READERS = [
    getattr(module, name)
    for module in (fp, rigs)
    for name in module.__dict__
    if name.startswith("read_") and name != "read_unit"
]
MORE = {"read_size": ("CHF",), "read_stop": ("CHF",), "read_target": (0.5,), "read_share": (0.5,)}


class Kind(NamedTuple):
    """One way in: what is mutated, and what reads it in `folder`."""

    name: str
    seeds: tuple[str, ...]
    read: Callable[[bytes, Path], object]


def _at(read_file: Callable[[Path], object]) -> Callable[[bytes, Path], object]:
    def read(data: bytes, folder: Path) -> object:
        path = folder / "x.toml"
        path.write_bytes(data)
        return read_file(path)

    return read


def _declared(kind: type[msgspec.Struct]) -> Callable[[bytes, Path], object]:
    return _at(partial(load, kind))


def _bar_file(data: bytes, folder: Path) -> object:
    path = folder / "x.csv"
    path.write_bytes(data)
    return read_bars(path, INSTRUMENT, "Europe/Zurich", Columns("signal", "", ("signal",)))


def _line_file(data: bytes, folder: Path) -> None:
    bars, spec = folder / "l.csv", folder / "l.toml"
    bars.write_bytes(data)
    spec.write_text(SPEC)
    add_lines(bars, spec, folder / "out.csv", zone="UTC")


def _export(data: bytes, folder: Path) -> None:
    path = folder / "export.csv"
    path.write_bytes(data)
    write_history(import_files([path], zone="Europe/Zurich").history, folder / "imported.parquet")


def _exports() -> tuple[str, ...]:
    """The same history as several programs write it."""
    bars = dialects.history(40)
    chosen = [one for one in dialects.DIALECTS.values() if one.encoding == "utf-8"]
    return tuple(dialects.text_of(bars, one) for one in chosen if not one.packed)


def _fields(data: bytes, folder: Path) -> None:
    text = data.decode("utf-8", "replace")
    for reader in READERS:
        try:
            reader(text, *MORE.get(reader.__name__, ()))
        except BadInput:
            continue


def _frames(data: bytes, folder: Path) -> None:
    wire.Frames(wire.FromVenue).feed(data)


_event = msgspec.msgpack.Decoder(ev.AnyEvent)


def _record_line(data: bytes, folder: Path) -> None:
    try:
        _event.decode(data)
    except (msgspec.MsgspecError, ValueError):
        return


def _toml(*paths: Path) -> tuple[str, ...]:
    return tuple(path.read_text() for path in paths)


KINDS = (
    Kind("instrument", _toml(EXAMPLES / "quillan-ferry.toml"), _declared(Instrument)),
    Kind("account", _toml(EXAMPLES / "account.toml"), _declared(Account)),
    Kind("policy", _toml(EXAMPLES / "harbour-watch.toml", DEMO / "guards.toml"), _declared(Guards)),
    Kind(
        "rig",
        _toml(EXAMPLES / "slow-harbour.toml", *sorted((DEMO / "rigs").glob("*.toml"))),
        lambda data, _: read_rig(data.decode("utf-8", "replace"), "here"),
    ),
    Kind(
        "policy text",
        _toml(DEMO / "guards.toml"),
        lambda data, _: read_policy(data.decode("utf-8", "replace")),
    ),
    Kind("spec", (SPEC,), _at(read_lines)),
    Kind("source", SOURCE_FILES, _at(load_source)),
    Kind("alerts", (ALERTS,), _declared(AlertSettings)),
    Kind("watch", ("on = true\nsilent_s = 20.0\nflatten = false\n",), _declared(WatchSettings)),
    Kind(
        "rig record",
        ('{"stop": {"atr": 2.0}, "step": [{"at": {"r": 1.0}, "to": {"r": 0.5}}]}',),
        lambda data, _: record(Rig, _json(data), "here"),
    ),
    Kind("size", (_request(),), lambda data, _: answer_one(_json(data))),
    Kind("bars", (_bars(),), _bar_file),
    Kind("lines", (_bars(),), _line_file),
    Kind("export", _exports(), _export),
    Kind("news", (NEWS,), lambda data, _: _read_csv(data, SOURCES)),
    Kind("fields", TYPED, _fields),
    Kind("frames", (), _frames),
    Kind("record", (), _record_line),
)
COST = {"lines": 6, "bars": 3, "export": 6}  # as many times as rare: they take longer


def _json(data: bytes) -> object:
    try:
        return json.loads(data.decode("utf-8"))
    except (ValueError, RecursionError):
        raise BadInput("not_json", "here: expected JSON") from None


def _binary(draw: random.Random, kind: str) -> bytes:
    encode = msgspec.msgpack.Encoder().encode
    if kind == "frames":
        return wire.framed(
            draw.choice(
                (
                    wire.port.NewOrder(
                        id="x", symbol="CAD/CHF", side=1, kind="stop", qty="0.1", level="0.6"
                    ),
                    wire.Hello(not_before=5),
                    wire.MakeGust(kind="halt", symbol="CAD/CHF", length=5),
                    wire.Pace(speed=2.0),
                )
            )
        )
    return encode(
        draw.choice(
            (
                ev.Quote(time=1, symbol="CAD/CHF", bid=1, ask=2, high_bid=1, low_ask=2),
                ev.VenueUp(time=1),
                ev.OrderFilled(time=1, order="x", fill=ev.Fill("f", 1, 2, 3, 1.0, 1.0)),
            )
        )
    )


def mutated(draw: random.Random, data: bytes) -> bytes:
    """Some changes: bytes, tokens, pieces doubled, moved or gone, numbers replaced."""
    made = bytearray(data)
    for _ in range(draw.choice((1, 1, 1, 2, 3, 8))):
        at, kind = draw.randrange(len(made) + 1), draw.random()
        end = min(len(made), at + draw.choice((1, 2, 5, 20, 200)))
        if kind < 0.15 and made:
            made[at % len(made)] = draw.randrange(256)
        elif kind < 0.5:
            made[at : at if draw.random() < 0.5 else end] = draw.choice(TOKENS).encode()
        elif kind < 0.6:
            made[at:at] = made[at:end] * draw.choice((1, 2, 50))
        elif kind < 0.7:
            del made[at:end]
        elif kind < 0.75:
            del made[at:]
        else:
            _number_replaced(draw, made, at)
    return bytes(made[: 1 << 20])


def _number_replaced(draw: random.Random, made: bytearray, at: int) -> None:
    digits = b"0123456789."
    while at < len(made) and made[at] not in digits:
        at += 1
    end = at
    while end < len(made) and made[end] in digits:
        end += 1
    made[at:end] = draw.choice((*TOKENS[:14], "1e999999999", "1e16", "0x10")).encode()


def one(number: int, folder: Path) -> str:
    """Make the input `number` and have it read; what is wrong, or nothing."""
    draw = random.Random(number)
    kind = draw.choice(KINDS)
    while draw.random() > 1 / COST.get(kind.name, 1):
        kind = draw.choice(KINDS)
    data = mutated(
        draw, draw.choice(kind.seeds).encode() if kind.seeds else _binary(draw, kind.name)
    )
    begun = time.process_time()
    try:
        kind.read(data, folder)
    except HawserError as error:
        if len(error.sentence) > 2_000 or "\n" in error.sentence.strip():
            return f"{number} {kind.name}: not one sentence: {error.sentence[:200]!r}"
    except Exception:
        return f"{number} {kind.name}: {traceback.format_exc(limit=-4)}"
    seconds = time.process_time() - begun  # of work: a loaded machine makes nothing slow
    return f"{number} {kind.name}: took {seconds:.1f} s" if seconds > SLOW else ""


def apart(number: int, folder: Path) -> str:
    """The same by a command in a process of its own, judged by its exit status and what it says."""
    draw = random.Random(number)
    files = {
        "bars": _bars(),
        "instrument": KINDS[0].seeds[0],
        "account": KINDS[1].seeds[0],
        "rig": draw.choice(KINDS[3].seeds),
        "guards": KINDS[2].seeds[0],
        "spec": SPEC,
        "request": _request(),
    }
    command, needs = draw.choice(
        (
            ("rehearse", ("bars", "instrument", "account", "rig")),
            ("lines", ("bars", "spec")),
            ("size", ("request",)),
            ("guards", ("guards", "instrument")),
            ("parity", ("bars", "instrument", "account", "rig")),
        )
    )
    hit = draw.choice(needs)
    arguments = [command]
    for name in needs:
        path = folder / f"{name}.{'csv' if name == 'bars' else 'toml'}"
        data = files[name].encode()
        path.write_bytes(mutated(draw, data) if name == hit else data)
        arguments += [str(path)] if name == "request" else [f"--{name}", str(path)]
    arguments += {
        "rehearse": ["--replace", "--out", str(folder / "out")],
        "lines": ["--out", str(folder / "out.csv")],
        "guards": ["--at", "2031-01-06T09:00:00Z"],
    }.get(command, [])
    begun = _worked()
    done = subprocess.run(
        [sys.executable, "-m", "hawser", *arguments],
        capture_output=True,
        text=True,
        errors="replace",
        check=False,
    )
    wrong = "Traceback" in done.stderr or done.returncode not in (0, 1, 2)
    wrong = wrong or (done.returncode == 2 and len(done.stderr.strip().splitlines()) != 1)
    wrong = wrong or (done.returncode == 1 and not done.stdout) or _worked() - begun > 6 * SLOW
    return (
        f"{number} {command} ({hit}): status {done.returncode}\n{done.stderr[-1500:]}"
        if wrong
        else ""
    )


def _worked() -> float:
    """Seconds of work of all processes that were begun here and have ended."""
    used = resource.getrusage(resource.RUSAGE_CHILDREN)
    return used.ru_utime + used.ru_stime


def run(first: int, count: int, judge: Callable[[int, Path], str] = one) -> list[str]:
    """So many inputs from `first` on; every one that something is wrong with."""
    before = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss
    with tempfile.TemporaryDirectory() as folder:
        for kind in KINDS:  # what is loaded and compiled once is no input's doing
            with contextlib.suppress(HawserError):
                kind.read(kind.seeds[0].encode() if kind.seeds else b"", Path(folder))
        found = [
            told for number in range(first, first + count) if (told := judge(number, Path(folder)))
        ]
    grown = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss - before
    return found + ([f"from {first} on: grown by {grown // 1024} MB"] if grown > LARGE else [])


if __name__ == "__main__":
    wrong = run(int(sys.argv[1]), int(sys.argv[2]), apart if "--apart" in sys.argv else one)
    print("\n".join(wrong[:40]))
    print(f"{sys.argv[2]} inputs from {sys.argv[1]} on: {len(wrong)} wrong")
    sys.exit(bool(wrong))
