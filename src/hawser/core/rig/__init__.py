"""A rig and its rules, a file for each. What the rest of Hawser needs of them stands here."""

from hawser.core.rig.basket import Basket, basket_text, read_basket
from hawser.core.rig.break_even import BreakEven
from hawser.core.rig.follow_on import FollowOn
from hawser.core.rig.ladder import Ladder, ladder_spacing
from hawser.core.rig.loss_step import MAX_LOSS_STEPS, LossStep
from hawser.core.rig.parts import (
    After,
    Amount,
    Measure,
    after_words,
    measure_words,
    read_after,
    read_amount,
    read_measure,
)
from hawser.core.rig.rig import LONGEST_NAME, LONGEST_NOTE, SECTIONS, Rig, brief, sentence
from hawser.core.rig.rule import YES, Blank, RuleSection
from hawser.core.rig.step import MAX_STEPS, Step
from hawser.core.rig.time_exit import TimeExit
from hawser.core.rig.trail import Trail, read_trail, trail_text, trail_words

__all__ = [
    "LONGEST_NAME",
    "LONGEST_NOTE",
    "MAX_LOSS_STEPS",
    "MAX_STEPS",
    "SECTIONS",
    "YES",
    "After",
    "Amount",
    "Basket",
    "Blank",
    "BreakEven",
    "FollowOn",
    "Ladder",
    "LossStep",
    "Measure",
    "Rig",
    "RuleSection",
    "Step",
    "TimeExit",
    "Trail",
    "after_words",
    "basket_text",
    "brief",
    "ladder_spacing",
    "measure_words",
    "read_after",
    "read_amount",
    "read_basket",
    "read_measure",
    "read_trail",
    "sentence",
    "trail_text",
    "trail_words",
]
