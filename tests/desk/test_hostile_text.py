"""Names, notes and titles from outside are text: no markup, no formula, no control of a
terminal."""

import re
from pathlib import Path

import pytest
from PyQt6.QtCore import Qt

from hawser.core import figures as fg
from hawser.core.account import Account
from hawser.core.errors import BadInput, Refused
from hawser.core.guards.declared import CountGuard, NewsSources
from hawser.core.levels import StopRule
from hawser.core.rig import Rig
from hawser.desk.common import notifying
from hawser.desk.common.words import Label, escaped, plain_tip
from hawser.formats.atomic import export_csv
from hawser.formats.news import event_of

IMAGE = '<img src="file:///etc/hostname"> & <b>bold</b>'
DESK = Path(notifying.__file__).parent


def test_a_label_shows_markup_as_it_is(qtbot):
    label = Label(IMAGE)
    qtbot.addWidget(label)
    assert label.textFormat() == Qt.TextFormat.PlainText
    assert label.text() == IMAGE


def test_every_label_of_the_desk_is_such_a_one():
    """And every tooltip that is made of more than our own words goes through `plain_tip`."""
    wrong = []
    for path in DESK.rglob("*.py"):
        text = path.read_text()
        if path.name != "words.py" and re.search(r"(?<![\w.\[])QLabel\(", text):
            wrong.append(path.name)
        # What is given by name is our own: constants, parameters that are called with literals,
        # keys of declarations.
        for found in re.findall(r"setToolTip\(\s*(f\"[^\n]*)", text):
            wrong.append(f"{path.name}: {found}")
    assert not wrong


def test_tooltips_and_markup_of_our_own():
    assert plain_tip("two\nlines") == "two\nlines"
    assert plain_tip(IMAGE).startswith("<span>&lt;img")
    assert "<img" not in escaped(IMAGE)


def test_a_notification_s_body_is_escaped():
    assert notifying.body(IMAGE).startswith("&lt;img")
    assert notifying.message("title", IMAGE, urgent=False).member() == "Notify"


def test_an_exported_table_has_no_formula(tmp_path):
    path = tmp_path / "x.csv"
    export_csv(path, [["a"], ["=HYPERLINK(1)"], ["@x"], ["-1+2"], [-1.5], ["plain"]])
    assert path.read_text().splitlines()[1:6] == ["'=HYPERLINK(1)", "'@x", "'-1+2", "-1.5", "plain"]


def test_names_have_no_control_signs_and_titles_lose_theirs():
    for make in (
        lambda: Rig(name="a\x1b[2J"),
        lambda: CountGuard(name="x\ny", most=1),
        lambda: Account(currency="CHF", equity=1.0, name="a\x07"),
        lambda: CountGuard(name="x" * 500, most=1),
    ):
        with pytest.raises(BadInput):
            make()
    assert event_of(0, "a\x1b[2Jb", (), NewsSources()).title == "a [2Jb"


def test_an_error_s_sentence_is_one_line_without_control_signs():
    told = BadInput("x", f"a\x1b[2J\nb{'y' * 5000}").sentence
    assert told.isprintable()
    assert len(told) < 700
    amount = Refused("x", f"costs {fg.money(1_234_567.5, 'CHF')}").sentence
    assert amount == f"costs {fg.money(1_234_567.5, 'CHF')}"  # with its no-break spaces
    assert Rig(name="two\u00a0words", stop=StopRule(atr=2.0)).name
