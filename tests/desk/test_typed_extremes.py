"""Numbers that nobody would type, in every field of a plan and of a rig: refused there, or in the
range of files."""

import msgspec
from hypothesis import given, settings
from hypothesis import strategies as st

from byhand import SYMBOL
from hawser.core.clock import MINUTE
from hawser.core.levels import StopRule
from hawser.core.numbers import LEAST, MOST
from hawser.core.rig import Rig, TimeExit
from hawser.desk.models.planning import Draft, Planning
from hawser.desk.models.rig_draft import RigDraft, sections_of
from hawser.formats.declared import as_read

NUMBERS = st.sampled_from(
    [
        "9" * 60,
        "9" * 19,
        "9" * 16,
        "1" + "0" * 15,
        "0." + "0" * 60 + "1",
        "0.0000000000001",
        "0",
        "1",
        "0,5",
        "nan",
        "inf",
        "1_0",
        "\u0664",
        "1e9",
        "-5",
    ]
)
FORMS = {
    "risk": [
        "{} %",
        "{} CHF",
        "{} units",
        "invest {} risk {} CHF",
        "{} % per {} atr",
        "{} % notional",
    ],
    "stop": [
        "{} atr",
        "{} t",
        "{} %",
        "{}",
        "{} CHF",
        "{} bars",
        "pivot {} {}",
        "supertrend {} {}",
        "sma {} + {} t",
    ],
    "entry": [
        "limit {}",
        "stop {}",
        "limit {} atr",
        "straddle {} atr within {} t",
        "stop {} within {} t",
        "market within {} t",
    ],
    "good": ["{} h", "{} min"],
    "trail": ["{} atr", "{} t", "{} %", "{} bars", "{} t + {} atr", "sma {}"],
    "held": ["{} R", "{} R, settle {} ms"],
}
TARGETS = ["{} R", "{} atr", "{} %", "{} t", "{}"]


@st.composite
def typed(draw, forms):
    form = draw(st.sampled_from(forms))
    return form.format(*(draw(NUMBERS) for _ in range(form.count("{}"))))


@st.composite
def drafts(draw):
    fields = {
        name: draw(typed(forms)) for name, forms in FORMS.items() if draw(st.integers(0, 3)) == 0
    }
    targets = ((draw(typed(TARGETS)), draw(typed(["{} %", "rest"]))), *[("", "")] * 4)
    return Draft(side=draw(st.sampled_from((1, -1))), targets=targets, **fields)


def wild(value):
    """The numbers in a record that no file could have."""
    if isinstance(value, dict):
        return [found for one in value.values() for found in wild(one)]
    if isinstance(value, (list, tuple)):
        return [found for one in value for found in wild(one)]
    number = isinstance(value, (int, float)) and not isinstance(value, bool)
    return [value] if number and value and not LEAST <= abs(value) <= MOST else []


@settings(max_examples=400)
@given(drafts())
def test_no_plan_has_a_number_that_no_file_could_have(draft):
    planning = Planning(SYMBOL, 15 * MINUTE)
    planning.currency = "CHF"
    planning.change(draft)
    assert (planning.plan is None) == bool(planning.errors)
    if planning.plan is not None:
        assert not wild(msgspec.to_builtins(planning.plan))
        assert as_read(planning.plan) is planning.plan


@settings(max_examples=300)
@given(st.data())
def test_no_rig_has_a_number_that_no_file_could_have(data):
    section = data.draw(st.sampled_from(sections_of(Rig)))
    draft = RigDraft(Rig(name="Extreme", stop=StopRule(atr=2.0)))
    if not draft.texts[section.key]:
        draft.add(section.key)
    for blank in section.blanks:
        if not blank.choices:
            text = data.draw(
                typed(["{}", *TARGETS, "{} CHF", "after {} R", *FORMS["trail"], *FORMS["stop"]])
            )
            draft.change((section.key, 0, blank.key), text)
    if draft.made is not None:
        assert not wild(msgspec.to_builtins(draft.made))


def test_what_a_file_could_not_have_is_told_beside_its_field():
    planning = Planning(SYMBOL, 15 * MINUTE)
    planning.change(Draft(stop="2000000 bars", entry="market within 9999999999999999 t"))
    assert planning.errors["stop"] == "Expected a number of at most 1e+06"
    assert planning.errors["entry"].startswith("Expected a number of at most 1e+15")
    draft = RigDraft(Rig(name="Extreme", stop=StopRule(atr=2.0), time_exit=TimeExit(bars=5)))
    draft.change(("time_exit", 0, "bars"), "2000000")
    assert draft.made is None
    assert draft.errors == {("time_exit", 0, "bars"): "Expected a number of at most 1e+06"}
    draft.change(("time_exit", 0, "bars"), "2" * 5_000)
    assert draft.errors == {("time_exit", 0, "bars"): "Expected a whole number"}
    draft.change(("time_exit", 0, "bars"), "5")
    draft.change(("general", 0, "atr_length"), "2" * 16)
    assert list(draft.errors) == [("general", 0, "atr_length")]
