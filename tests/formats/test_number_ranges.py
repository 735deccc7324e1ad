"""Every number of every file has its range: what is none, too large, too small or negative is
refused by its key."""

from __future__ import annotations

import copy
import math
import tomllib
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import msgspec
import pytest

from hawser.core.account import Account
from hawser.core.errors import BadInput
from hawser.core.guards.declared import Guards
from hawser.core.instrument import Instrument
from hawser.core.rig import Rig
from hawser.core.sources.lines.averages import BandLower
from hawser.core.sources.lines.trends import Parabolic, Supertrend
from hawser.core.sources.source import Source
from hawser.formats.declared import record
from hawser.formats.rigs import load_rig, plain_rig
from hawser.formats.size_json import _Wire
from hawser.service.alerts.settings import AlertSettings
from hawser.service.watchdog.control import WatchSettings

HERE = Path(__file__).resolve().parents[2]
RIGS = sorted((HERE / "src/hawser/demo/rigs").glob("*.toml"))
GUARDS = (HERE / "examples/harbour-watch.toml", HERE / "src/hawser/demo/guards.toml")
INSTRUMENT = tomllib.loads((HERE / "examples/quillan-ferry.toml").read_text())
ACCOUNT = tomllib.loads((HERE / "examples/account.toml").read_text())
FULL_ACCOUNT = {
    "currency": "CHF",
    "equity": 64_000.0,
    "balance": 64_000.0,
    "margin_used": 10.0,
    "days_per_year": 252,
    "rates": {"CAD/CHF": 0.6, "NZD/CHF": {"mid": 0.5, "age_s": 3.0}},
    "size": {"method": "invest", "amount": 900.0, "risk": 90.0},
    "costs": {"spread_ticks": 1.0, "entry_slippage_ticks": 1.0, "exit_slippage_ticks": 1.0},
    "policy": {
        "max_notional_percent": 900.0,
        "max_margin_percent": 50.0,
        "max_heat_percent": 6.0,
        "max_currency_heat_percent": 4.0,
        "max_positions": 6,
        "max_rate_age_s": 60.0,
        "hold_backstop_r": 2.0,
        "hold_settle_ms": 500,
        "exposed_deadline_s": 5.0,
    },
}
MORE_RIGS: list[dict[str, Any]] = [
    {
        "stop": {"ticks": 40.0},
        "trail": {"atr": 2.0, "base_ticks": 10.0, "offset_ticks": 2.0, "step_ticks": 3},
        "break_even": {"after": {"r": 1.0}, "offset_ticks": 2.0},
        "atr_length": 14,
    },
    {
        "stop": {"line": {"kind": "parabolic", "step": 0.02, "ceiling": 0.2}},
        "trail": {"ticks": 30.0},
    },
    {
        "stop": {"percent": 1.0},
        "time_exit": {"bars": 4},
        "basket": {"target": {"money": 90.0}},
        "step": [
            {"at": {"ticks": 40.0}, "to": {"percent": 0.1}},
            {"at": {"atr": 2.0}, "to": {"r": 0.5}},
        ],
    },
    {
        "stop": {"money": 300.0},
        "loss_step": [{"r": 0.5, "share": 0.4}],
        "target": [{"atr": 2.0, "share": 0.3}],
    },
]
REQUEST = {
    "instrument": INSTRUMENT,
    "account": ACCOUNT,
    "side": "long",
    "quote": {"bid": "100.0", "ask": "100.1"},
    "atr": 1.0,
    "basis": 99.0,
    "stop": {"atr": 2.0},
    "open_heat": 10.0,
    "open_heat_by_currency": {"CHF": 10.0},
    "positions": 1,
    "day_loss_room": 100.0,
}
LINES = (
    (Supertrend, {"kind": "supertrend", "length": 10, "factor": 3.0}),
    (Parabolic, {"kind": "parabolic", "step": 0.02, "ceiling": 0.2}),
    (BandLower, {"kind": "band_lower", "length": 10, "factor": 3.0}),
)
SOURCE = {
    "name": "Ebb",
    "enter": [
        {"kind": "above", "a": {"kind": "rsi", "length": 14}, "b": 70.0, "b_short": 30.0},
        {"kind": "rises", "a": "close", "bars": 3},
        {"kind": "breaks", "length": 85, "length_short": 35},
        {"kind": "clock", "at": "09:00", "zone": "UTC", "within_min": 30.0},
        {"kind": "python", "file": "own.py", "history": 500},
    ],
}
ALERTS = {"most_per_min": 6, "smtp": {"host": "h", "sender": "a@b", "to": ["a@b"], "port": 25}}
# What may be below zero: it says on which side of something a level is, or the room that is left.
SIGNED = {"offset_ticks", "to", "basis", "day_loss_room", "days", "b", "b_short"}


def documents() -> Iterator[tuple[type[msgspec.Struct], dict[str, Any]]]:
    yield Account, FULL_ACCOUNT
    for size in (
        {"method": "fixed", "qty": "3"},
        {"method": "risk_money", "amount": 3.0},
        {"method": "volatility", "percent": 1.0, "multiple": 2.0},
    ):
        yield Account, ACCOUNT | {"size": size}
    yield Instrument, INSTRUMENT
    for path in RIGS:
        yield Rig, plain_rig(load_rig(path))
    for rig in MORE_RIGS:
        yield Rig, rig
    for path in GUARDS:
        yield Guards, tomllib.loads(path.read_text())
    yield _Wire, REQUEST
    yield from LINES
    yield Source, SOURCE
    yield WatchSettings, {"silent_s": 20.0}
    yield AlertSettings, ALERTS


def numbers(data: Any, way: tuple[Any, ...] = ()) -> Iterator[tuple[Any, ...]]:
    """The way to each number, also one in quotes."""
    if isinstance(data, dict):
        for key, value in data.items():
            yield from numbers(value, (*way, key))
    elif isinstance(data, list):
        for number, value in enumerate(data):
            yield from numbers(value, (*way, number))
    elif (isinstance(data, (int, float)) and not isinstance(data, bool)) or (
        isinstance(data, str)
        and way[-1] in ("tick", "qty", "qty_step", "qty_min", "qty_max", "price", "bid", "ask")
    ):
        yield way


def put(data: dict[str, Any], way: tuple[Any, ...], value: Any) -> dict[str, Any]:
    made = copy.deepcopy(data)
    inner: Any = made
    for part in way[:-1]:
        inner = inner[part]
    inner[way[-1]] = str(value) if isinstance(inner[way[-1]], str) else value
    return made


PLACES = [(kind, data, way) for kind, data in documents() for way in numbers(data)]


def key_of(way: tuple[Any, ...]) -> str:
    return next(part for part in reversed(way) if isinstance(part, str))


def test_there_are_enough_of_them():
    assert len(PLACES) > 150
    assert (
        len(
            {
                (kind, tuple(part for part in way if isinstance(part, str)))
                for kind, _, way in PLACES
            }
        )
        > 90
    )


def refused(
    kind: type[msgspec.Struct], data: dict[str, Any], way: tuple[Any, ...], value: object
) -> bool:
    """Whether a value is refused with its key."""
    try:
        record(kind, put(data, way, value), "here")
    except BadInput as error:
        # its keys are currencies
        table = way[0] if way[0] == "open_heat_by_currency" else key_of(way)
        return table in error.sentence
    return False


@pytest.mark.parametrize(
    "value", [math.nan, math.inf, -math.inf, 1e-300, -1e-300, 1e300, 10**30, 1e16]
)
def test_what_nothing_can_be_reckoned_with_is_refused_everywhere(value):
    read_later = ("bid", "ask")  # by the instrument's own grid
    passed = [
        (kind.__name__, way)
        for kind, data, way in PLACES
        if key_of(way) not in read_later and not refused(kind, data, way, value)
    ]
    assert not passed


def test_a_negative_number_is_refused_wherever_it_has_no_meaning():
    passed = [
        (kind.__name__, way)
        for kind, data, way in PLACES
        if not SIGNED & {*way, key_of(way)}
        and key_of(way) not in ("bid", "ask", "price")
        and not refused(kind, data, way, -5)
    ]
    assert not passed


def test_as_they_are_they_are_taken():
    for kind, data in documents():
        assert record(kind, data, "here")
