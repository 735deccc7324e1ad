"""A policy's text with one guard changed: the guard reads back, and the rest stays to the
letter."""

from __future__ import annotations

from random import Random

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from hawser.core.errors import BadInput
from hawser.formats.policytext import read_policy, with_guard, without_guard
from madeup import ROOT
from randomguards import a_policy
from randomrigs import history

SHIPPED = (ROOT / "src/hawser/demo/guards.toml").read_text(encoding="utf-8")


@settings(max_examples=40)  # each writes and reads the whole text a dozen times
@given(st.integers(0, 1 << 40))
def test_a_guard_put_into_a_text_reads_back_and_the_others_stay(seed):
    draw = Random(seed)
    bars, _, instrument = history(draw, 60)
    guards, before = a_policy(draw, bars, instrument).guards.guard, read_policy(SHIPPED)
    text = SHIPPED
    for guard in guards:  # each behind the others, then each in another's place
        text = with_guard(text, "", guard)
    assert read_policy(text).guard == (*before.guard, *guards)
    changed = with_guard(
        text,
        before.guard[0].name,
        guards[0].__class__(
            **{
                **{key: getattr(guards[0], key) for key in guards[0].__struct_fields__},
                "name": "in its place",
            }
        ),
    )
    assert read_policy(changed).guard[0].name == "in its place"
    assert read_policy(changed).guard[1:] == (*before.guard[1:], *guards)
    for guard in guards:
        text = without_guard(text, guard.name)
    assert read_policy(text) == before


def test_comments_and_what_was_not_touched_stay_as_they_were_written():
    text = """# mine
zone = "UTC"     # of the harbour
[[guard]]
kind = "loss"
name = "Day loss"   # never more
percent = 2.0       # two
period = "day"      # what it is anyway
then = ["flatten"]

# the end
"""
    day = read_policy(text).named("Day loss")
    changed = with_guard(text, "Day loss", type(day)(name="Day loss", percent=1.5, money=300.0))
    assert "# mine" in changed
    assert 'zone = "UTC"     # of the harbour' in changed
    assert 'name = "Day loss"   # never more' in changed
    assert "percent = 1.5" in changed
    assert 'period = "day"      # what it is anyway' in changed
    assert "then" not in changed  # it does nothing beside closing entries any more
    assert read_policy(without_guard(text, "Day loss")).guard == ()
    assert without_guard(text, "none of that name") == text


def test_what_is_no_policy_is_told():
    with pytest.raises(BadInput, match="expected TOML"):
        read_policy("zone =")
    with pytest.raises(BadInput, match="unknown key"):
        read_policy("zon = 1")
