"""CountFigures and money as they are written, heat, and what people type into fields."""

from decimal import Decimal

import pytest
from hypothesis import given
from hypothesis import strategies as st

from hawser.core import field_parser as fp
from hawser.core import figures as fg
from hawser.core import rig as rigs
from hawser.core.account import SizeRule
from hawser.core.errors import BadInput
from hawser.core.heat import Stake, heat, heat_by_currency, locked, outcome_at_stop
from hawser.core.levels import LineRule, StopRule
from hawser.core.money import minor_digits, rounded
from hawser.core.rules.quantity import Fees

NBSP, MINUS = "\u00a0", "\u2212"


def test_money_is_rounded_half_even_to_the_minor_unit():
    assert rounded(0.125, "CHF") == Decimal("0.12")
    assert rounded(0.375, "CHF") == Decimal("0.38")
    assert rounded(2.5, "JPY") == Decimal(2)
    assert rounded(1.0005, "BHD") == Decimal("1.000")
    assert minor_digits("CLF") == 4


def test_figures_have_groups_a_true_minus_and_their_unit():
    assert fg.money(-1234567.891, "CHF") == f"{MINUS}1{NBSP}234{NBSP}567.89{NBSP}CHF"
    assert fg.money(1234.5, "JPY", sign=True) == f"+1{NBSP}234{NBSP}JPY"
    assert fg.money(-0.001, "CHF", sign=True) == f"0.00{NBSP}CHF"
    assert fg.r(-0.004) == f"0.00{NBSP}R"
    assert fg.r(1.5) == f"+1.50{NBSP}R"
    assert fg.percent(0.598, 3) == f"0.598{NBSP}%"
    assert fg.number(float("nan"), 2) == fg.amount(float("nan"), "CHF") == "\u2013"


@given(st.floats(-1e9, 1e9))
def test_a_figure_reads_back(value):
    text = fg.number(value, 2).replace(NBSP, "").replace(MINUS, "-")
    assert float(text) == pytest.approx(value, abs=0.0051)


def stake(**changes):
    values = {
        "side": 1,
        "qty": 2.0,
        "entry": 100.0,
        "stop": 97.0,
        "fees": Fees(10.0, 1.0, 0.0, 0.0),
        "exposure": ("CAD", "CHF"),
    } | changes
    return Stake(**values)


def test_heat_is_the_loss_at_the_stop_with_both_commissions():
    assert outcome_at_stop(stake()) == -64.0
    assert heat(stake()) == 64.0
    assert heat(stake(side=-1, stop=103.0)) == 64.0


def test_locked_profit_never_offsets_heat():
    safe = stake(stop=105.0)
    assert heat(safe) == 0.0
    assert locked(safe) == 96.0
    assert heat(stake()) + heat(safe) == 64.0
    assert locked(stake()) == 0.0


def test_heat_by_currency_counts_base_and_quote():
    assert heat_by_currency([stake(), stake(exposure=("CHF",))]) == {"CAD": 64.0, "CHF": 128.0}


CHF = "CHF"


@pytest.mark.parametrize(
    ("text", "rule"),
    [
        ("0.6%", SizeRule(percent=0.6)),
        (" 0,6 % ", SizeRule(percent=0.6)),
        ("1", SizeRule(percent=1.0)),
        (".5 percent", SizeRule(percent=0.5)),
        ("0.6 % of balance", SizeRule(percent=0.6, basis="balance")),
        ("0.6 % free margin", SizeRule(percent=0.6, basis="free_margin")),
        ("1 % equity", SizeRule(percent=1.0)),
        ("385 CHF", SizeRule("risk_money", amount=385.0)),
        ("1 385.50chf", SizeRule("risk_money", amount=1385.5)),
        ("2 units", SizeRule("fixed", qty=Decimal(2))),
        ("0,04 u", SizeRule("fixed", qty=Decimal("0.04"))),
        ("150 % notional", SizeRule("notional_percent", percent=150.0)),
        ("1 % per 2.5 atr", SizeRule("volatility", percent=1.0, multiple=2.5)),
        ("invest 5 000 CHF risk 150 CHF", SizeRule("invest", amount=5000.0, risk=150.0)),
        ("invest 5000 risk 150", SizeRule("invest", amount=5000.0, risk=150.0)),
        ("Invest 5000CHF, risk 150 chf", SizeRule("invest", amount=5000.0, risk=150.0)),
    ],
)
def test_sizes_are_typed_the_way_people_type(text, rule):
    assert fp.read_size(text, CHF) == rule
    assert fp.read_size(fp.size_text(rule, CHF), CHF) == rule


@pytest.mark.parametrize(
    ("text", "rule"),
    [
        ("2.5 atr", StopRule(atr=2.5)),
        ("2,5ATR", StopRule(atr=2.5)),
        ("0.8 %", StopRule(percent=0.8)),
        ("46t", StopRule(ticks=46.0)),
        ("46 ticks", StopRule(ticks=46.0)),
        ("0.6", StopRule(price=Decimal("0.6"))),
        ("150 CHF", StopRule(money=150.0)),
        ("3 bars", StopRule(bars=3)),
        ("1 bar + 2t", StopRule(bars=1, offset_ticks=2)),
        ("pivot 2 3 - 1 t", StopRule(pivot=(2, 3), offset_ticks=-1)),
        ("sma 20", StopRule(line=LineRule("sma", 20))),
        ("channel 55", StopRule(line=LineRule("channel", 55))),
        ("supertrend 10 3", StopRule(line=LineRule("supertrend", 10, 3.0))),
        ("supertrend 10 2.5 + 4 t", StopRule(line=LineRule("supertrend", 10, 2.5), offset_ticks=4)),
        ("Parabolic", StopRule(line=LineRule("parabolic"))),
    ],
)
def test_stops(text, rule):
    assert fp.read_stop(text, CHF) == rule
    assert fp.read_stop(fp.stop_text(rule, CHF), CHF) == rule


def test_targets_shares_and_trails():
    assert fp.read_target("1.5R", 0.4).r == 1.5
    assert fp.read_target("0.7", 0.4).price == Decimal("0.7")
    assert fp.read_share("40 %", 1.0) == 0.4
    assert fp.read_share("0.4", 1.0) == 0.4
    assert fp.read_share("1", 1.0) == 1.0
    assert fp.read_share("25", 1.0) == 0.25
    assert fp.read_share("rest", 0.3) == 0.3
    assert rigs.read_trail("3 atr").atr == 3.0
    assert rigs.read_trail("") is None
    assert rigs.read_trail(" none ") is None


def read_size(text):
    return fp.read_size(text, CHF)


def read_stop(text):
    return fp.read_stop(text, CHF)


@pytest.mark.parametrize(
    ("reader", "text"),
    [
        (read_size, "two"),
        (read_size, "101 %"),
        (read_size, "0.6 atr"),
        (read_size, ""),
        (read_size, "385 USD"),
        (read_size, "0 CHF"),
        (read_size, "1 % of my equity"),
        (read_size, "invest 5000 CHF"),
        (read_size, "2 units 3"),
        (read_stop, "2.5 R"),
        (read_stop, "-3 atr"),
        (read_stop, "0 t"),
        (read_stop, "1e9"),
        (read_stop, "pivot 2"),
        (read_stop, "supertrend 10"),
        (read_stop, "sma 2.5"),
        (read_stop, "0 bars"),
        (read_stop, "pivot 0 2"),
        (rigs.read_trail, "3 R"),
        (rigs.read_trail, "pivot 2 2"),
        (rigs.read_after, "target 7"),
        (rigs.read_measure, "1 furlong"),
        (rigs.read_amount, "3 R"),
        (lambda text: fp.read_share(text, 1.0), "140 %"),
        (lambda text: fp.read_target(text, 0.5), "1.5 x"),
    ],
)
def test_what_is_not_understood_is_explained(reader, text):
    with pytest.raises(BadInput) as caught:
        reader(text)
    assert "xpected" in caught.value.sentence


WORDS = st.sampled_from(
    [
        "1",
        "2.5",
        "%",
        "atr",
        "chf",
        "of",
        "balance",
        "per",
        "bars",
        "pivot",
        "sma",
        "+",
        "t",
        "risk",
        "invest",
    ]
)


@given(st.one_of(st.text(max_size=12), st.lists(WORDS, max_size=6).map(" ".join)))
def test_no_typing_ever_raises_anything_else(text):
    for reader in (read_size, read_stop, rigs.read_trail):
        try:
            reader(text)
        except BadInput as error:
            assert error.sentence
