"""Sources against a slow reading of section 12, against themselves bar by bar, and by hand."""

from __future__ import annotations

import random

import numpy as np
import pytest

import randomsources as rs
from hawser.core.compiled import interpreted
from hawser.core.errors import BadInput
from hawser.core.sources import followed as fw
from hawser.core.sources.evaluation import Evaluation, evaluated
from hawser.core.sources.followed import followed
from hawser.core.sources.lines.averages import Ema
from hawser.core.sources.said import sentence
from hawser.core.sources.source import worries
from hawser.core.sources.view import BarsSeen, View
from hawser.formats.sources import source_of
from slow_sources import Reading

# interpreted, each takes thirty times as long: some of them say whether both ways agree
PART = 12 if interpreted() else 1
SEEDS = range(400 // PART)
LATE = (20_196, 20_332)  # another instrument's bars, of which one alone had ended at first


def said(case):
    return rs.listed(evaluated(case.made(), case.seen()))


def refused_for_its_bars(case) -> bool:
    try:
        evaluated(case.made(), case.seen())
    except BadInput as error:
        assert error.code == "bad_timeframe"
        return True
    return False


def cases(seeds, most=120):
    """Those that are not refused because a timeframe does not go with the bars."""
    for seed in seeds:
        case = rs.case(seed, most)
        if not refused_for_its_bars(case):
            yield seed, case


def test_they_say_what_a_slow_reading_says():
    looked = signals = 0
    for seed, case in cases(SEEDS):
        right = Reading(case.source, case.bars, case.others, case.columns).said()
        assert said(case) == right, seed
        looked += 1
        signals += sum(map(abs, right[0]))
    assert looked > len(SEEDS) * 0.7
    assert signals > 1_500 / PART / 2


def test_bar_by_bar_and_in_chunks_they_say_the_same():
    for seed, case in cases((*range(1_000, 1_000 + 120 // PART), *LATE), most=60):
        whole, draw = said(case), random.Random(seed)
        live, at = Evaluation(case.made(), case.step), 0
        while at < len(case.bars):
            at = min(len(case.bars), at + draw.choice((1, 1, 1, 7)))
            found = rs.listed(live.extended(case.seen(at, following=draw.random() < 0.5)))
        assert found == whole, seed


def test_what_comes_later_changes_nothing_before_it():
    """But for a clock at the last bar, which waits for the bar that follows."""
    for seed, case in cases(range(2_000, 2_000 + 120 // PART), most=60):
        signal, leave, _ = said(case)
        for count in {2, len(case.bars) // 2, len(case.bars) - 1} & set(range(2, len(case.bars))):
            part = case._replace(bars=case.bars[:count])
            if part.step != case.step:
                continue
            columns = {name: values[:count] for name, values in case.columns.items()}
            early = evaluated(case.made(), part._replace(columns=columns).seen(), case.step)
            assert early.signal.tolist()[:-1] == signal[: count - 1], (seed, count)
            assert early.leave.tolist()[:-1] == leave[: count - 1], (seed, count)


MIRRORED = {"high": "low", "low": "high", "channel_high": "channel_low"}
MIRRORED |= {"channel_low": "channel_high", "highest_close": "lowest_close"}
MIRRORED |= {"lowest_close": "highest_close", "band_upper": "band_lower"}
MIRRORED["band_lower"] = "band_upper"
EVEN = ("sma", "ema", "open", "close", *MIRRORED)  # lines that know no up and down


def mirrored(side):
    if isinstance(side, str):
        return MIRRORED.get(side, side)
    return {**side, "kind": MIRRORED.get(side["kind"], side["kind"])}


def test_mirrored_prices_give_mirrored_signals():
    looked = 0
    for seed, case in cases(range(3_000, 3_000 + 800 // PART), most=80):
        sides = [one[key] for one in case.source["enter"] for key in ("a", "b") if key in one]
        kinds = [side.get("kind") if isinstance(side, dict) else side for side in sides]
        if not sides or not all(kind in EVEN for kind in kinds):
            continue
        enter = [
            one for one in case.source["enter"] if "b_short" not in one and not one.get("either")
        ]
        enter = [one for one in enter if one["kind"] in ("above", "crosses", "rises")]
        if not enter:
            continue
        source = {"name": "Even", "enter": enter}
        turned = [
            {key: mirrored(value) if key in ("a", "b") else value for key, value in one.items()}
            for one in enter
        ]
        bars = {
            name: [(at, 100 - o, 100 - low, 100 - high, 100 - c) for at, o, high, low, c in of]
            for name, of in {"": case.bars, **case.others}.items()
        }
        there = case._replace(
            source={"name": "Turned", "enter": turned},
            bars=bars.pop(""),
            others=bars,
        )
        here = said(case._replace(source=source))[0]
        assert said(there)[0] == [-one for one in here], seed
        looked += 1
    assert looked > 40 / PART / 2


def test_a_line_that_two_conditions_ask_for_is_made_once():
    view = View()
    view.see(BarsSeen(rs.arrays(rs.history(random.Random(1), 50, rs.MINUTE, 0))))
    assert np.shares_memory(view.series(Ema(length=5)), view.series(Ema(length=5)))


def source(**keys):
    return source_of({"name": "Made", **keys}, "ebb.toml")


@pytest.mark.parametrize(
    ("keys", "told"),
    [
        (
            {"enter": [{"kind": "crossses", "a": "close", "b": 1.0}]},
            "the nearest known one is crosses",
        ),
        (
            {"enter": [{"kind": "above", "a": "clsoe", "b": 1.0}]},
            "enter[0].a: clsoe is no price; the nearest known one is close",
        ),
        (
            {"enter": [{"kind": "above", "a": "close", "b": {"kind": "smma"}}]},
            "enter[0].b.kind: unknown kind smma; the nearest known one is sma",
        ),
        (
            {"enter": [{"kind": "above", "a": "close", "b": {"kind": "sma", "lenght": 3}}]},
            "unknown key enter[0].b.lenght; the nearest known one is length",
        ),
        (
            {"enter": [{"kind": "rises", "a": "close", "bar": 3}]},
            "unknown key enter[0].bar; the nearest known one is bars",
        ),
        ({"entre": [{"kind": "always"}]}, "unknown key entre; the nearest known one is enter"),
        ({"enter": []}, "expected at least one [[enter]]"),
        ({"enter": [{"kind": "clock", "at": "9:00", "zone": "UTC"}]}, "at: expected a time"),
        (
            {"enter": [{"kind": "clock", "at": "09:00", "zone": "Europe/Zorich"}]},
            "there is no time zone Europe/Zorich",
        ),
        ({"enter": [{"kind": "breaks"}]}, "enter[0].length is missing"),
        (
            {"enter": [{"kind": "breaks", "length": 0}]},
            "enter[0].length: expected a number of at least 1",
        ),
        (
            {"enter": [{"kind": "above", "a": "close", "b": {"kind": "band_upper"}}]},
            "enter[0].b.factor is missing",
        ),
        (
            {"enter": [{"kind": "above", "a": "close", "b": {"kind": "sma", "timeframe": "4x"}}]},
            "timeframe: expected a whole number",
        ),
        (
            {
                "enter": [
                    {
                        "kind": "flips",
                        "line": {"kind": "supertrend", "factor": 1.0, "timeframe": "1h"},
                    }
                ]
            },
            "line.timeframe",
        ),
        ({"enter": [{"kind": "flips", "line": {"kind": "sma"}}]}, "line"),
        ({"enter": [{"kind": "python", "file": "/etc/x.py"}]}, "in the source's folder"),
        ({"enter": [{"kind": "python", "file": "../x.py"}]}, "in the source's folder"),
        ({"enter": [{"kind": "python", "file": "x.py", "function": "1x"}]}, "function"),
        ({"enter": [{"kind": "always", "either": "yes"}]}, "enter[0].either"),
        ({"enter": [3]}, "enter[0]: expected a table"),
        ({"enter": {"kind": "always"}}, "expected tables [[enter]]"),
    ],
)
def test_what_nobody_can_mean_is_one_sentence_with_the_key(keys, told):
    with pytest.raises(BadInput) as refused:
        source(**keys)
    assert "ebb.toml" in refused.value.sentence
    assert told in refused.value.sentence


@pytest.mark.parametrize(
    ("keys", "told"),
    [
        ({"enter": [{"kind": "always"}]}, "no signal"),
        ({"enter": [{"kind": "clock", "at": "09:00", "zone": "UTC"}]}, "no signal"),
        ({"enter": [{"kind": "always"}], "only": [{"kind": "above", "a": "close", "b": 1.0}]}, ""),
        ({"enter": [{"kind": "always"}], "sides": "long"}, ""),
        ({"enter": [{"kind": "above", "a": 1.0, "b": 2.0}]}, "can never signal long"),
        (
            {"enter": [{"kind": "above", "a": 1.0, "b": 2.0, "against": True}]},
            "can never signal short",
        ),
        (
            {"enter": [{"kind": "rises", "a": 1.0}], "sides": "short"},
            "can never signal short, and long is not allowed",
        ),
        (
            {
                "enter": [{"kind": "rises", "a": 1.0}, {"kind": "rises", "a": "close"}],
                "combine": "any",
            },
            "",
        ),
    ],
)
def test_what_never_signals_is_told(keys, told):
    found = worries(source(**keys))
    assert any(told in one for one in found) if told else not found


def test_a_timeframe_that_does_not_go_with_the_bars_is_refused_with_its_key():
    bars = rs.arrays(rs.history(random.Random(1), 9, 15 * rs.MINUTE, 0))
    for text, told in (("5m", "5m is finer than the bars, 15m"), ("20m", "20m is no whole")):
        made = source(enter=[{"kind": "rises", "a": {"kind": "sma", "timeframe": text}}])
        with pytest.raises(BadInput) as refused:
            evaluated(made, BarsSeen(bars))
        assert refused.value.sentence.startswith("enter[0].a: ")
        assert told in refused.value.sentence


def test_what_followed_by_hand():
    """14 bars of a range of 2 make the ATR 2; then a long gains 3 within a bar and 1 in the end."""
    flat = [(at * rs.MINUTE, 10.0, 11.0, 9.0, 10.0) for at in range(14)]
    bars = rs.arrays([*flat, (14 * rs.MINUTE, 10.0, 13.0, 9.5, 11.0)])
    signal = np.zeros(15, np.int8)
    signal[13] = 1
    found = followed(bars, signal)
    assert (found[1].count, found[1].mean, found[1].best, found[1].worst) == (1, 0.5, 1.5, -0.25)
    assert found[1].chance == 1.0  # there is one bar to draw
    assert found[5].count == 0 and found[5].mean is None


def test_what_followed_of_shorts_has_its_signs():
    flat = [(at * rs.MINUTE, 10.0, 11.0, 9.0, 10.0) for at in range(14)]
    bars = rs.arrays([*flat, (14 * rs.MINUTE, 10.0, 13.0, 9.5, 11.0)])
    signal = np.zeros(15, np.int8)
    signal[13] = -1
    found = followed(bars, signal)[1]
    assert (found.mean, found.best, found.worst, found.share_above_0) == (-0.5, 0.25, -1.5, 0.0)


@pytest.mark.skipif(interpreted(), reason="5,000 draws of thousands take minutes then")
def test_the_chance_of_many_is_that_of_some_drawn():
    """Where so many are drawn that the normal law stands for them, both ways agree."""
    bars = rs.arrays(rs.history(random.Random(4), 3_000, rs.MINUTE, 0))
    every, draw = fw.outcomes(bars, 5), np.random.default_rng(1)
    for longs, shorts in ((500, 500), (700, 100), (0, 900)):
        count = longs + shorts
        for _ in range(3):
            chosen = every.result[draw.choice(every.result.size, count, replace=False)]
            mean = float(chosen[:longs].sum() - chosen[longs:].sum()) / count
            drawn = fw.drawn_at_least(every.result, longs, shorts, mean * count, 5_000, 3) / 5_000
            assert drawn == pytest.approx(
                fw._normal_chance(every.result, longs, shorts, mean), abs=0.03
            )


def test_a_column_that_is_called_as_a_price_is_told_by_its_name():
    source = source_of({"name": "Weft", "enter": [{"kind": "column", "name": "close"}]}, "here")
    assert "the column close is" in sentence(source) and "the column the" not in sentence(source)
