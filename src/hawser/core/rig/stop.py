"""The first stop of a rig: its rule is `levels.StopRule`, which plans have too."""

from __future__ import annotations

from typing import TYPE_CHECKING

from hawser.core.account import SizeRule
from hawser.core.field_parser import read_stop, stop_text
from hawser.core.instrument import Instrument
from hawser.core.levels import StopRule, in_ticks
from hawser.core.rig.parts import line_words, number_words, offset_words
from hawser.core.rig.rule import Blank, RuleSection
from hawser.core.rules.kinds import Kind

if TYPE_CHECKING:
    from hawser.core.rig.rig import Rig
    from hawser.core.rules.trade_levels import StopSetup


def numbers(rule: StopRule | None, size: SizeRule, instrument: Instrument) -> StopSetup:
    """The initial stop."""
    from hawser.core.rules.trade_levels import StopSetup

    if rule is None:
        return StopSetup(int(Kind.LADDER), 0.0, 0.0)
    if size.method == "invest":
        return StopSetup(int(Kind.MONEY), float(size.risk or 0.0), 0.0)
    if rule.money is not None:
        return StopSetup(int(Kind.MONEY), float(rule.money), 0.0)
    if rule.from_bars:
        return StopSetup(int(Kind.COLUMN), 0.0, float(rule.offset_ticks))
    value = in_ticks(rule.price, instrument) if rule.price is not None else float(rule.value)
    return StopSetup(StopRule.KINDS[rule.kind], value, 0.0)


def stop_words(stop: StopRule) -> str:
    """Where an initial stop stands."""
    offset = offset_words(stop.offset_ticks)
    if stop.bars is not None:
        return f"behind the extreme of {stop.bars} bars{offset}"
    if stop.pivot is not None:
        return f"behind the last pivot ({stop.pivot[0]}, {stop.pivot[1]}){offset}"
    if stop.line is not None:
        return f"behind {line_words(stop.line)}{offset}"
    if stop.price is not None:
        return f"at {stop.price}"
    if stop.money is not None:
        return f"where {number_words(stop.money)} are lost"
    unit = {"atr": "ATR", "percent": "%", "ticks": "t"}[stop.kind]
    return f"{number_words(stop.value)} {unit} from the entry"


def _says(rules: tuple[StopRule, ...], rig: Rig) -> list[str]:
    return [f"Stop {stop_words(one)}." for one in rules]


SECTION = RuleSection(
    key="stop",
    title="Stop",
    most=1,
    words=(
        Blank(
            "stop",
            "stop",
            "Where the trade is wrong: 2.5 atr, 0.8 %, 46 t, a price, 3 bars, pivot 2 3, sma "
            "20, "
            "supertrend 10 3, parabolic; those from bars also with an offset: 3 bars + 2 t",
            lambda text: read_stop(text, "?"),
            "2.5 atr",
        ),
    ),
    empty="set by the ladder",
    make=lambda values: values["stop"],
    fill=lambda stop: {"stop": stop_text(stop, "?")},
    says=_says,
    brief=lambda rules: f"stop {stop_text(rules[0], '')}",
    rank=0,
)
