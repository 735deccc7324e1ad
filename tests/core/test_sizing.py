"""One trade sized: the cases with right answers, the order of refusals, caps, targets, properties
(sections 4 to 6)."""

import json
import math
from decimal import Decimal

import msgspec
import pytest
from hypothesis import given
from hypothesis import strategies as st

from hawser.core.account import Costs, Policy, SizeRule
from hawser.core.derivation import derivation
from hawser.core.errors import BadInput, Refused
from hawser.core.instrument import Commission
from hawser.core.levels import StopRule, TargetRule
from hawser.core.plan import Plan
from hawser.core.rig import Ladder, Measure, Trail
from hawser.core.size_terms import SizeRequest
from hawser.core.sizing import sized
from hawser.formats.size_json import answer_many
from madeup import CASES, account, needs_cases, pair


def request(**changes):
    values = {
        "instrument": pair(),
        "account": account(),
        "side": 1,
        "bid": 61230,
        "ask": 61242,
        "atr": 0.00145,
        "stop": StopRule(atr=2.5),
    } | changes
    return SizeRequest(**values)


def code(**changes):
    with pytest.raises(Refused) as caught:
        sized(request(**changes))
    return caught.value.code


def close_to(found, right):
    if isinstance(right, float) and found is not None:
        return found == pytest.approx(right, rel=1e-6, abs=1e-9)
    return found == right


@needs_cases
def test_every_case_with_a_right_answer():
    cases = json.loads((CASES / "size.json").read_text())
    answers = answer_many([case["request"] for case in cases])
    for number, (case, found) in enumerate(zip(cases, answers, strict=True)):
        right = case["answer"]
        if not right["ok"]:
            assert found.get("code") == right["code"], number
            continue
        assert found["ok"], (number, found)
        for key in right.keys() - {"derivation", "targets"}:
            assert close_to(found[key], right[key]), (number, key)
        assert len(found["targets"]) == len(right["targets"]), number
        for mine, theirs in zip(found["targets"], right["targets"], strict=True):
            assert all(close_to(mine[key], theirs[key]) for key in theirs), (number, mine, theirs)


def test_the_contract_s_example():
    found = sized(
        request(
            targets=(TargetRule(share=0.4, r=1.0),),
            account=account(policy=Policy(max_notional_percent=500.0, max_heat_percent=3.0)),
        )
    )
    assert (found.ref, found.stop, found.r_ticks, found.steps) == (61242, 60879, 363, 104)
    assert found.risk_money == pytest.approx(382.72)
    assert found.risk_per_unit == pytest.approx(368.0)
    assert found.targets[0].level == 61605
    assert found.targets[0].steps == 41
    assert found.targets[0].money == pytest.approx(146.78)
    assert [(cap.name, cap.steps, cap.bound) for cap in found.caps] == [
        ("qty_max", 5000, False),
        ("free_margin", 2090, False),
        ("max_notional_percent", 522, False),
        ("max_heat_percent", 521, False),
    ]


def test_the_derivation_has_every_step_with_its_unit():
    steps = derivation(request(), sized(request()))
    text = "\n".join(f"{step.label}: {step.figure}" for step in steps)
    for part in (
        "64\u00a0000.00 \u00d7 0.6 %",
        "384.00\u00a0CHF",
        "363 t",
        "368.00\u00a0CHF",
        "1.0435 units",
        "1.04 units",
        "382.72\u00a0CHF",
        "notional",
        "margin",
        "of R",
    ):
        assert part in text, part


def test_refusals_come_in_the_reckoning_s_order():
    foreign = pair(quote="SEK", currencies=("CAD", "SEK"))
    wrong = StopRule(price=Decimal("0.70000"))
    assert code(instrument=foreign, stop=wrong) == "rate_missing"
    assert (
        code(atr=math.nan, account=account(size=SizeRule(method="fixed", qty=Decimal("0.015"))))
        == "indicator_not_ready"
    )
    assert (
        code(stop=wrong, account=account(size=SizeRule(method="fixed", qty=Decimal("0.015"))))
        == "qty_off_step"
    )
    assert code(stop=StopRule(atr=600.0)) == "stop_not_positive"
    assert code(stop=wrong) == "stop_wrong_side"
    assert code(stop=StopRule(ticks=21)) == "stop_too_near"
    assert sized(request(stop=StopRule(ticks=22))).r_ticks == 22
    target = (TargetRule(share=0.5, price=Decimal("0.60000")),)
    full = account(policy=Policy(max_positions=2))
    assert code(targets=target, account=full, positions=2) == "target_wrong_side"
    assert code(account=full, positions=2) == "max_positions"
    assert code(account=account(equity=30.0, balance=30.0)) == "below_min"


def test_below_the_minimum_tells_what_the_minimum_would_risk():
    with pytest.raises(Refused) as caught:
        sized(
            request(
                account=account(equity=500.0, balance=500.0),
                instrument=pair(qty_min=Decimal("0.10")),
            )
        )
    assert caught.value.code == "below_min"
    assert caught.value.values["min_risk"] == pytest.approx(36.8)
    assert "0.10" in caught.value.sentence
    assert "36.80" in caught.value.sentence


def test_a_pending_order_s_exit_side_is_its_level_less_the_spread():
    assert code(entry=61000, stop=StopRule(ticks=21)) == "stop_too_near"
    assert sized(request(entry=61000, stop=StopRule(ticks=22))).ref == 61000


def test_caps_fit_or_refuse_and_name_the_first():
    tight = Policy(max_notional_percent=50.0, max_heat_percent=0.2)
    found = sized(request(account=account(policy=tight)))
    assert [cap.name for cap in found.caps if cap.bound] == ["max_heat_percent"]
    assert found.risk_money <= 128.0
    strict = msgspec.structs.replace(tight, caps="refuse")
    assert code(account=account(policy=strict)) == "max_notional_percent"


def test_heat_already_at_stake_counts_also_by_currency():
    policy = Policy(max_heat_percent=1.0, max_currency_heat_percent=0.9)
    found = sized(
        request(
            account=account(policy=policy), open_heat=300.0, open_heat_by_currency={"CAD": 260.0}
        )
    )
    caps = {cap.name: cap.steps for cap in found.caps}
    assert caps["max_heat_percent"] == int(340 / 368 * 100)
    assert caps["max_currency_heat_percent"] == int((576 - 260) / 368 * 100)
    assert code(account=account(policy=policy), open_heat=640.0) == "below_min"


def test_a_target_too_small_is_merged_and_told():
    small = pair(qty_step=Decimal(1), qty_min=Decimal(1))
    found = sized(
        request(
            instrument=small,
            account=account(size=SizeRule(method="fixed", qty=Decimal(2))),
            targets=(
                TargetRule(share=0.3, r=1),
                TargetRule(share=0.3, r=2),
                TargetRule(share=0.4, r=3),
            ),
        )
    )
    assert [target.steps for target in found.targets] == [0, 1, 1]
    assert found.merged == (1,)


def test_a_target_on_the_entry_or_without_share_is_off():
    found = sized(request(targets=(TargetRule(share=0.5, ticks=0.4), TargetRule(share=0.0, r=2))))
    assert [(target.steps, target.r) for target in found.targets] == [(0, 0.0), (0, 0.0)]


@given(
    st.sampled_from([1, -1]),
    st.floats(0.05, 5),
    st.floats(0.5, 9),
    st.floats(500, 900_000),
    st.floats(0, 9),
    st.floats(0, 40),
)
def test_risk_is_never_above_what_was_asked(side, percent, k, equity, per_unit, minimum):
    of = pair(
        commission=Commission(per_unit=per_unit, minimum=minimum),
        qty_max=Decimal(100_000),
        margin_rate=0.0,
    )
    asked = request(
        instrument=of,
        side=side,
        stop=StopRule(atr=k),
        account=account(
            equity=equity, size=SizeRule(percent=percent), costs=Costs(exit_slippage_ticks=3)
        ),
    )
    try:
        found = sized(asked)
    except Refused as refusal:
        assert refusal.code == "below_min"
        return
    budget = percent / 100 * equity
    assert found.risk_money <= budget * (1 + 1e-9)
    more = msgspec.structs.replace(
        asked,
        account=account(
            size=SizeRule(method="fixed", qty=Decimal(of.qty(found.steps + 1))),
            costs=Costs(exit_slippage_ticks=3),
            equity=equity,
        ),
    )
    assert sized(more).risk_money > budget


@given(st.floats(0.1, 3), st.integers(20, 4000), st.integers(1, 30))
def test_long_and_short_mirror(percent, ticks, spread):
    sizes = account(size=SizeRule(percent=percent))
    up = sized(
        request(account=sizes, bid=61230, ask=61230 + spread, stop=StopRule(ticks=ticks + spread))
    )
    middle = 61230 + spread
    down = sized(
        request(
            account=sizes,
            side=-1,
            bid=middle,
            ask=middle + spread,
            stop=StopRule(ticks=ticks + spread),
        )
    )
    assert down.stop - down.ref == up.ref - up.stop
    assert down.steps == up.steps
    assert down.risk_money == pytest.approx(up.risk_money)


@given(st.integers(2, 9))
def test_more_equity_scales_the_risk(times):
    free = pair(commission=Commission(), qty_max=Decimal(10_000), margin_rate=0.0)
    one = sized(
        request(instrument=free, account=account(equity=36_300.0, size=SizeRule(percent=1.0)))
    )
    many = sized(
        request(
            instrument=free, account=account(equity=36_300.0 * times, size=SizeRule(percent=1.0))
        )
    )
    assert many.steps == one.steps * times
    assert many.risk_money == pytest.approx(one.risk_money * times)


def test_the_tick_value_follows_the_rate_of_the_moment():
    foreign = pair(quote="SEK", currencies=("CAD", "SEK"))
    first = sized(request(instrument=foreign, account=account(rates={"CHF/SEK": 12.0})))
    second = sized(request(instrument=foreign, account=account(rates={"CHF/SEK": 10.0})))
    assert second.tick_value == pytest.approx(first.tick_value * 1.2)


@pytest.mark.parametrize(
    "make",
    [
        StopRule,
        lambda: StopRule(atr=2.0, ticks=3),
        lambda: StopRule(atr=0.0),
        lambda: TargetRule(share=0.5),
        lambda: TargetRule(share=1.5, r=1.0),
        lambda: TargetRule(share=0.5, r=-1.0),
        lambda: Trail(atr=0.0),
        lambda: Plan("CAD/CHF", 0, SizeRule(percent=0.5), StopRule(atr=2.0)),
        lambda: Plan("CAD/CHF", 1, SizeRule(percent=0.5), None),
        lambda: Plan(
            "CAD/CHF",
            1,
            SizeRule(percent=1.0),
            StopRule(atr=2.0),
            (TargetRule(share=0.7, r=1), TargetRule(share=0.4, r=2)),
        ),
        lambda: Plan(
            "CAD/CHF",
            1,
            SizeRule(percent=1.0),
            StopRule(atr=2.0),
            (TargetRule(share=0.1, r=1),) * 6,
        ),
        lambda: SizeRule(method="invest", amount=100.0),
        lambda: SizeRule(percent=float("nan")),
        lambda: Costs(spread_ticks=-1),
        lambda: Policy(max_heat_percent=-1.0),
        lambda: account(equity=0.0),
        lambda: account(rates={"CHFSEK": 12.0}),
        lambda: pair(tick=Decimal(0)),
        lambda: pair(base=None),
        lambda: pair(qty_min=Decimal(60)),
        lambda: pair(commission=Commission(per_unit=-1.0)),
    ],
)
def test_what_makes_no_sense_cannot_be_made(make):
    with pytest.raises(BadInput) as caught:
        make()
    assert "expect" in caught.value.sentence or "add up" in caught.value.sentence


def test_a_ladder_that_a_cap_cuts_is_refused_where_the_policy_refuses():
    ladder = Ladder(3, Measure(ticks=100.0), 60.0, 80.0)
    room = {
        "fit": Policy(max_notional_percent=60.0),
        "refuse": Policy(caps="refuse", max_notional_percent=60.0),
    }
    given = {"stop": None, "ladder": ladder}
    fitted = sized(request(account=account(policy=room["fit"]), **given))
    assert fitted.steps < fitted.asked_steps
    assert [cap.name for cap in fitted.caps if cap.bound] == ["max_notional_percent"]
    assert code(account=account(policy=room["refuse"]), **given) == "max_notional_percent"
    wide = sized(request(account=account(policy=Policy(caps="refuse")), **given))
    assert wide.steps == wide.asked_steps > fitted.steps
