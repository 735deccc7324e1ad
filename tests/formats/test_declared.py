"""TOML and JSON into records: one sentence with file and key for whatever is wrong."""

import json
import subprocess
import sys
from decimal import Decimal

import pytest
from hypothesis import given
from hypothesis import strategies as st

from hawser.cli import main
from hawser.core.account import Account, Rate
from hawser.core.errors import BadInput
from hawser.core.instrument import Instrument
from hawser.formats.declared import load
from hawser.formats.size_json import answer_many, answer_one
from madeup import CASES, needs_cases

INSTRUMENT = """
symbol = "CAD/CHF"
kind = "fx"
quote = "CHF"
base = "CAD"
tick = "0.00001"
multiplier = 100000
qty_step = "0.01"
qty_min = "0.01"
qty_max = "50"
margin_rate = 0.05
min_stop_ticks = 10
currencies = ["CAD", "CHF"]
[commission]
per_unit = 2.5
"""
ACCOUNT = """
currency = "CHF"
days_per_year = 252
equity = 64000.0
balance = 64000.0
margin_used = 0.0
[rates]
"USD/CHF" = 0.88
"EUR/CHF" = { mid = 0.95, age_s = 4 }
[size]
method = "risk_percent"
percent = 0.6
basis = "equity"
[costs]
spread_ticks = 12
[policy]
caps = "fit"
max_notional_percent = 500.0
max_heat_percent = 3.0
max_rate_age_s = 60
"""


def read(folder, kind, text):
    path = folder / "file.toml"
    path.write_text(text)
    return load(kind, path)


def test_the_contract_s_files(tmp_path):
    instrument = read(tmp_path, Instrument, INSTRUMENT)
    assert instrument.tick == Decimal("0.00001")
    assert (instrument.price_digits, instrument.qty_digits, instrument.exposure) == (
        5,
        2,
        ("CAD", "CHF"),
    )
    account = read(tmp_path, Account, ACCOUNT)
    assert account.rates == {"USD/CHF": 0.88, "EUR/CHF": Rate(0.95, 4)}
    assert account.policy.max_rate_age_s == 60
    assert account.free_margin == 64_000.0


@pytest.mark.parametrize(
    ("old", "new", "told"),
    [
        ('tick = "0.00001"', "", "key tick is missing"),
        ('tick = "0.00001"', 'tik = "0.00001"', "unknown key tik; the nearest known one is tick"),
        (
            "per_unit = 2.5",
            "per_unt = 2.5",
            "unknown key commission.per_unt; the nearest known one is per_unit",
        ),
        ('tick = "0.00001"', 'tick = "small"', 'tick: expected a decimal number such as "0.01"'),
        ('tick = "0.00001"', 'tick = "0"', "tick: expected a positive decimal"),
        ('kind = "fx"', 'kind = "pair"', "kind: invalid enum value"),
        ("margin_rate = 0.05", "margin_rate = 5", "margin_rate: expected a fraction from 0 to 1"),
        ("margin_rate = 0.05", 'margin_rate = "5 %"', "margin_rate: expected"),
        ('base = "CAD"', "", "base: expected the base currency of a pair"),
        ('qty_min = "0.01"', 'qty_min = "99"', "qty_min: expected a quantity from 0 to qty_max"),
        ("multiplier = 100000", "multiplier = ", "expected TOML"),
    ],
)
def test_a_wrong_instrument_is_told_in_one_sentence(tmp_path, old, new, told):
    with pytest.raises(BadInput) as caught:
        read(tmp_path, Instrument, INSTRUMENT.replace(old, new))
    assert caught.value.sentence.startswith(f"{tmp_path / 'file.toml'}: ")
    assert told in caught.value.sentence
    assert "\n" not in caught.value.sentence


def test_files_that_cannot_be_read(tmp_path):
    with pytest.raises(BadInput, match="cannot be read"):
        load(Account, tmp_path / "nothing.toml")
    path = tmp_path / "latin.toml"
    path.write_bytes(b'name = "\xff"')
    with pytest.raises(BadInput, match="expected UTF-8"):
        load(Account, path)


@given(
    st.dictionaries(
        st.text(max_size=6),
        st.one_of(st.integers(), st.text(max_size=4), st.booleans()),
        max_size=5,
    )
)
def test_no_request_raises_anything_but_bad_input(data):
    try:
        answer_one(data)
    except BadInput as error:
        assert error.sentence.startswith("request: ")


def test_a_faulty_request_in_a_list_leaves_the_others_alone():
    good = {
        "instrument": {
            "symbol": "CAD/CHF",
            "kind": "fx",
            "quote": "CHF",
            "base": "CAD",
            "tick": "0.00001",
            "multiplier": 100000,
            "qty_step": "0.01",
            "qty_min": "0.01",
            "qty_max": "50",
            "margin_rate": 0.05,
            "min_stop_ticks": 10,
        },
        "account": {
            "currency": "CHF",
            "equity": 64000.0,
            "size": {"method": "risk_percent", "percent": 0.6},
        },
        "side": "long",
        "quote": {"bid": "0.61230", "ask": "0.61242"},
        "atr": 0.00145,
        "stop": {"atr": 2.5},
    }
    answers = answer_many([good, {**good, "side": "up"}, 5, {**good, "atr": None}, good])
    assert [answer.get("code", "ok") for answer in answers] == [
        "ok",
        "bad_request",
        "bad_request",
        "indicator_not_ready",
        "ok",
    ]
    assert "request 2" in answers[1]["message"]
    assert answers[0] == answers[4]


def command(*arguments, **options):
    return subprocess.run(
        [sys.executable, "-m", "hawser", *arguments],
        capture_output=True,
        text=True,
        check=False,
        timeout=120,
        **options,
    )


@needs_cases
def test_hawser_size_as_a_process(tmp_path):
    cases = json.loads((CASES / "size.json").read_text())
    good = next(case for case in cases if case["answer"]["ok"])
    bad = next(case for case in cases if case["answer"].get("code") == "below_min")
    path = tmp_path / "request.json"
    path.write_text(json.dumps(good["request"]))
    done = command("size", str(path))
    assert done.returncode == 0
    assert json.loads(done.stdout)["qty"] == good["answer"]["qty"]
    refused = command("size", "-", input=json.dumps(bad["request"]))
    assert refused.returncode == 1
    assert json.loads(refused.stdout)["code"] == "below_min"
    several = command("size", "-", input=json.dumps([good["request"], {}]))
    assert several.returncode == 0
    assert [answer["ok"] for answer in json.loads(several.stdout)] == [True, False]


def test_hawser_size_refuses_what_is_no_request(tmp_path):
    for arguments, text in (
        (["size", "-"], "{not json"),
        (["size", "-"], "{}"),
        (["size", str(tmp_path / "none.json")], ""),
    ):
        wrong = command(*arguments, input=text)
        assert wrong.returncode == 2
        assert wrong.stdout == ""
        assert wrong.stderr.count("\n") == 1
        assert "Traceback" not in wrong.stderr


@pytest.mark.parametrize(
    "arguments",
    [
        ["--bars", "x.csv"],
        ["--speed", "0", "--demo"],
        ["--speed", "fast"],
        ["--demo", "--bars", "x.csv"],
        ["--fresh"],
        ["--account", "a.toml"],
        ["--zone", "Mars/North", "--demo"],
        ["--unknown"],
        ["size"],
        ["--bars", "none.csv", "--instrument", "none.toml"],
    ],
)
def test_a_wrong_call_is_one_line_and_status_2(arguments, capsys, tmp_path):
    assert (
        main([*arguments, *([] if arguments == ["size"] else ["--profile-root", str(tmp_path)])])
        == 2
    )
    told = capsys.readouterr()
    assert told.out == ""
    assert told.err.count("\n") == 1


def test_the_command_line_loads_neither_qt_nor_a_compiler():
    script = (
        "import sys, os; os.environ['NUMBA_DISABLE_JIT'] = '1'; import hawser.cli, "
        "hawser.formats.size_json;"
        "print([name for name in ('PyQt6', 'numba', 'pyarrow', 'numpy') if name in sys.modules])"
    )
    done = subprocess.run(
        [sys.executable, "-c", script], capture_output=True, text=True, check=False, timeout=60
    )
    assert done.stdout.strip() == "[]"


def test_version_and_help():
    assert command("--version").stdout.startswith("hawser 0.")
    told = command("--help")
    assert told.returncode == 0
    assert "--demo" in told.stdout
    assert "hawser size" in told.stdout


def test_without_a_display_it_says_so_in_one_line(tmp_path):
    import os

    bare = {
        key: value
        for key, value in os.environ.items()
        if key not in ("DISPLAY", "WAYLAND_DISPLAY", "QT_QPA_PLATFORM")
    }
    done = command("--demo", "--profile-root", str(tmp_path), env=bare)
    assert done.returncode == 2
    assert done.stderr.count("\n") == 1
    assert "xvfb-run -a make demo" in done.stderr


@pytest.mark.parametrize(
    ("change", "said"),
    [
        ({"entry": "nan"}, 'entry: expected a decimal number such as "0.01"'),
        ({"entry": "1e" + "9" * 30}, 'entry: expected a decimal number such as "0.01"'),
        ({"entry": "1_000"}, 'entry: expected a decimal number such as "0.01"'),
        (
            {"quote": {"bid": "１００", "ask": "100.5"}},
            'quote.bid: expected a decimal number such as "0.01"',
        ),
        ({"stop": {"price": " 90"}}, 'stop.price: expected a decimal number such as "0.01"'),
        (
            {"targets": [{"r": 1.0, "share": 0.5}, {"price": "1_10", "share": 0.5}]},
            'targets[1].price: expected a decimal number such as "0.01"',
        ),
        ({"atr": 1e200}, "atr: expected a number of at most 1e+15"),
        (
            {"account": {"size": {"method": "fixed", "qty": "1_0"}}},
            "account.size.qty: expected a decimal number",
        ),
        (
            {"account": {"size": {"method": "fixed", "qty": "-1"}}},
            "size.qty: method fixed expects a positive number",
        ),
        (
            {"instrument": {"commission": {"per_unit": 10**40}}},
            "instrument.commission.per_unit: expected a number",
        ),
        (
            {
                "instrument": {
                    "sessions": [
                        {"days": [0], "opens": "08:00", "closes": "09:00", "zone": "Sea/Bed"}
                    ]
                }
            },
            "expected a time zone such as Europe/Zurich, got 'Sea/Bed'",
        ),
        (
            {"instrument": {"qty_step": 1e308}},
            "instrument.qty_step: expected a number of at most 1e+15",
        ),
    ],
)
def test_a_number_that_nothing_can_be_reckoned_with_is_told_with_its_key(change, said):
    """One such among many requests: the others are answered."""
    good = {
        "instrument": {
            "symbol": "A",
            "kind": "index",
            "quote": "CHF",
            "tick": "0.5",
            "multiplier": 1,
            "qty_step": "1",
            "qty_min": "1",
            "qty_max": "50",
            "margin_rate": 0.1,
        },
        "account": {
            "currency": "CHF",
            "equity": 64_000.0,
            "size": {"method": "risk_percent", "percent": 1.0},
        },
        "side": "long",
        "quote": {"bid": "100", "ask": "100.5"},
        "stop": {"ticks": 20},
    }
    bad = {
        key: good.get(key, {}) | value if isinstance(value, dict) else value
        for key, value in change.items()
    }
    first, second = answer_many([good | bad, good])
    assert first["code"] == "bad_request", first
    assert said in first["message"]
    assert second["ok"], second
