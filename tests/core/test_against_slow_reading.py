"""Thousands of made-up requests: the core and a second, slow reading in exact fractions agree on
every figure."""

import random

import pytest

from hawser.core.errors import Refused
from hawser.core.sizing import sized
from hawser.formats.size_json import read_request
from slow_reading import slowly

KINDS = [
    ("fx", "0.00001", "0.01", 100_000, 0.61, "CHF"),
    ("fx", "0.001", "0.1", 1000, 148.2, "JPY"),
    ("fx", "0.0001", "0.01", 100_000, 6.21, "SEK"),
    ("index", "0.5", "0.1", 5, 4118.0, "EUR"),
    ("future", "0.25", "1", 50, 1871.0, "USD"),
    ("equity", "0.01", "1", 1, 94.6, "CHF"),
    ("option", "0.05", "1", 100, 3.0, "CHF"),
    ("crypto", "0.01", "0.00001", 1, 41_250.0, "USD"),
]
BASES = ["equity", "balance", "free_margin"]
FEES = [
    {},
    {"per_unit": 2.5},
    {"per_notional": 0.0004, "minimum": 3.0},
    {"per_unit": 0.5, "minimum": 9.0},
]
LIMITS = {
    "max_notional_percent": [50, 500],
    "max_margin_percent": [5, 50],
    "max_heat_percent": [1, 3],
    "max_currency_heat_percent": [0.5, 2],
    "max_positions": [3],
    "max_rate_age_s": [60],
}
RATES = {"USD/CHF": 0.8812, "EUR/USD": 1.0934, "CHF/SEK": 11.92, "CHF/JPY": 171.4}


def made(draw: random.Random) -> dict:
    """A request with round figures, so that exact ties are common."""
    kind, tick, step, multiplier, price, quote = draw.choice(KINDS)
    size = float(tick)
    digits = len(tick.partition(".")[2])
    bid = round(price * draw.uniform(0.9, 1.1) / size)
    spread = draw.randint(0, 20)
    atr = round(draw.choice([5, 12.5, 40, 145, 300]) * size, digits + 2)
    stop = draw.choice(
        [
            {"atr": draw.choice([0.5, 1, 2.5, 3])},
            {"percent": draw.choice([0.1, 0.5, 1, 2.5])},
            {"ticks": draw.choice([3, 20, 46, 46.5, 100, 363])},
            {"price": f"{(bid + draw.randint(-400, 400)) * size:.{digits + draw.randint(0, 1)}f}"},
        ]
    )
    method = draw.choice(
        ["risk_percent"] * 3 + ["risk_money", "volatility", "notional_percent", "invest", "fixed"]
    )
    equity = draw.choice([500.0, 10_000.0, 36_300.0, 64_000.0, 250_000.0])
    rule = {
        "risk_percent": {
            "percent": draw.choice([0.1, 0.5, 0.6, 1, 2]),
            "basis": draw.choice(BASES),
        },
        "risk_money": {"amount": draw.choice([10, 100, 385, 1000.5])},
        "volatility": {"percent": draw.choice([0.2, 1]), "multiple": draw.choice([1, 2.5])},
        "notional_percent": {"percent": draw.choice([5, 20, 150])},
        "invest": {"amount": draw.choice([500, 5000, 20_000]), "risk": draw.choice([20, 150, 600])},
        "fixed": {"qty": draw.choice([step, f"{float(step) * 7:.5f}", "2", "0.015"])},
    }[method]
    if method == "fixed" and draw.random() < 0.4:
        stop = {"money": draw.choice([15, 100, 400.25])}
    shares = draw.choice(
        [[], [0.4], [0.4, 0.3, 0.3], [0.25, 0.25, 0.25, 0.25], [0.1, 0.2, 0.0], [0.05] * 5]
    )
    side = draw.choice(["long", "short"])
    sign = 1 if side == "long" else -1
    targets = [
        {"share": share}
        | draw.choice(
            [
                {"r": draw.choice([0.5, 1, 1.5, 3])},
                {"atr": draw.choice([1, 2])},
                {"percent": draw.choice([0.5, 1, 0])},
                {"ticks": draw.choice([0.4, 30, 80])},
                {"price": f"{(bid + sign * draw.randint(-20, 900)) * size:.{digits}f}"},
            ]
        )
        for share in shares
    ]
    policy = {"caps": draw.choice(["fit", "fit", "refuse"])}
    for key, values in LIMITS.items():
        if draw.random() < 0.35:
            policy[key] = draw.choice(values)
    fees, rates = draw.choice(FEES), {}
    for pair, mid in RATES.items():
        if draw.random() < 0.93:
            rates[pair] = (
                {"mid": mid, "age_s": draw.choice([1, 90])} if draw.random() < 0.2 else mid
            )
    return {
        "instrument": {
            "symbol": "Made",
            "kind": kind,
            "quote": quote,
            "base": "CAD" if kind == "fx" else None,
            "tick": tick,
            "multiplier": multiplier,
            "qty_step": step,
            "qty_min": draw.choice([step, f"{float(step) * 5:.5f}"]),
            "qty_max": draw.choice(["5", "50", "5000"]),
            "margin_rate": draw.choice([0.0, 0.05, 0.25, 1.0]),
            "min_stop_ticks": draw.choice([0, 2, 10]),
            "commission": fees,
        },
        "account": {
            "currency": "CHF",
            "equity": equity,
            "balance": equity * draw.choice([1, 0.9]),
            "rates": rates,
            "margin_used": draw.choice([0.0, 0.0, equity / 4]),
            "size": {"method": method} | rule,
            "policy": policy,
            "costs": draw.choice([{}, {"entry_slippage_ticks": 1, "exit_slippage_ticks": 2.5}]),
        },
        "side": side,
        "quote": {"bid": f"{bid * size:.{digits}f}", "ask": f"{(bid + spread) * size:.{digits}f}"},
        "atr": draw.choice([atr, atr, atr, None]),
        "stop": stop,
        "targets": targets,
        "entry": draw.choice(
            [None, None, f"{max(1, bid + draw.randint(-300, 300)) * size:.{digits}f}"]
        ),
        "open_heat": draw.choice([0.0, 120.5]),
        "open_heat_by_currency": draw.choice([{}, {"CAD": 50.0, "CHF": 80.0}]),
        "positions": draw.choice([0, 3]),
        "day_loss_room": draw.choice([None, None, 250.0, 0.0]),
    }


@pytest.mark.parametrize("group", range(10))
def test_both_readings_agree(group):
    draw, sizes = random.Random(group), 0
    for _ in range(400):
        data = made(draw)
        slow = slowly(data)
        try:
            fast = sized(read_request(data, "request"))
        except Refused as refusal:
            assert refusal.code == slow, data
            continue
        assert not isinstance(slow, str), (slow, data)
        sizes += 1
        assert (fast.ref, fast.stop, fast.r_ticks, fast.steps) == tuple(
            slow[key] for key in ("ref", "stop", "r_ticks", "steps")
        )
        assert [(cap.name, cap.steps, cap.bound) for cap in fast.caps] == slow["caps"], data
        assert fast.risk_money == pytest.approx(float(slow["risk"]), rel=1e-9)
        for mine, (level, steps, money) in zip(fast.targets, slow["targets"], strict=True):
            assert (mine.level, mine.steps) == (level, steps), data
            assert mine.money == pytest.approx(float(money), rel=1e-9, abs=1e-9)
    assert sizes > 40
