"""The timeframe that a rig decides on, typed into its form."""

from __future__ import annotations

import msgspec

from calmworld import PLAN
from hawser.core.clock import HOUR
from hawser.core.levels import StopRule
from hawser.core.rig import Rig, sentence
from hawser.desk.models.planning import plan_of
from hawser.desk.models.rig_draft import RigDraft
from hawser.formats.rigs import read_rig, rig_text

PLACE = ("general", 0, "timeframe")


def test_a_timeframe_is_typed_kept_and_said():
    draft = RigDraft(Rig(name="Slow", stop=StopRule(atr=2.0)))
    assert draft.texts["general"][0]["timeframe"] == "the chart's"
    draft.change(PLACE, "soon")
    assert draft.errors[PLACE].startswith("expected a whole number and m, h, d or w")
    assert draft.made is None
    draft.change(PLACE, "2h")
    assert draft.made.timeframe == "2h"
    assert sentence(draft.made).endswith("It decides on bars of 2h.")
    assert read_rig(rig_text(draft.made).decode(), "rig") == draft.made
    assert RigDraft(draft.made).texts["general"][0]["timeframe"] == "2h"
    draft.change(PLACE, "the chart's")
    assert draft.made.timeframe is None


def test_a_plan_with_the_rig_uses_its_bars():
    rig = Rig(name="Slow", stop=StopRule(atr=2.0), timeframe="1h")
    assert plan_of(rig, PLAN).timeframe_ns == HOUR
    alone = msgspec.structs.replace(rig, timeframe=None)
    assert plan_of(alone, PLAN).timeframe_ns == PLAN.timeframe_ns
