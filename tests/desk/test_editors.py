"""Editors of accounts and instruments: typed, explained, undone, imported, exported, applied."""

import tomllib
from decimal import Decimal

import pytest
from hypothesis import given
from hypothesis import strategies as st
from PyQt6.QtCore import Qt
from PyQt6.QtTest import QTest

from hawser.core.account import Account, Policy, SizeRule
from hawser.core.field_help import keys_of
from hawser.core.guards.declared import LossSwitch
from hawser.core.instrument import Instrument, WeeklySession
from hawser.desk.app.stations import GUARDS
from hawser.desk.models.editing import Editing, differences
from hawser.formats.declared import load, save
from madeup import account, pair


@pytest.mark.parametrize("kind", [Account, Instrument])
def test_every_key_is_explained_by_its_declaration(kind):
    keys = keys_of(kind)
    assert len(keys) > 15
    for key in keys:
        assert len(key.help) > 10, key.path


def test_a_record_survives_being_text():
    rich = account(
        rates={"USD/CHF": 0.88, "CHF/SEK": 12.0},
        size=SizeRule("invest", amount=5000.0, risk=150.0),
        policy=Policy(caps="refuse", max_heat_percent=2.5, never_widen=True, max_positions=4),
    )
    assert Editing(Account, rich).made == rich
    of = pair(sessions=(WeeklySession((0, 1), "08:00", "16:30", "Europe/London"),))
    assert Editing(Instrument, of).made == of


@pytest.mark.parametrize(
    ("path", "text", "told"),
    [
        ("policy.max_heat_percent", "lots", "Expected a number"),
        ("policy.max_positions", "2.5", "whole number"),
        ("policy.max_heat_percent", "-1", "0 or more"),
        ("equity", "", "Expected a value"),
        ("equity", "0", "positive"),
        ("rates", "USD/CHF 0.88", "AAA/BBB = 0.88"),
        ("rates", "USDCHF = 0.88", "AAA/BBB"),
        ("size.percent", "", "positive number"),
        ("costs.spread_ticks", "-2", "0 or more"),
    ],
)
def test_what_is_wrong_is_told_at_its_own_field_and_stays_as_typed(path, text, told):
    editing = Editing(Account, account())
    editing.change(path, text)
    assert editing.made is None
    assert told in " ".join([*editing.errors.values(), editing.general])
    assert path in editing.errors or any(pair in editing.general for pair in ("USDCHF",))
    assert editing.texts[path] == text


@pytest.mark.parametrize(
    ("text", "told"),
    [
        ("mon-fri 8", "mon-fri 08:00-16:30"),
        ("xyz 08:00-16:00", "days such as mon-fri"),
        ("mon 08:00-16:00 Mars/North", "time zone"),
        ("mon 18:00-16:00", "open before it closes"),
        ("mon 08:00-25:00", "a time such as 08:00"),
    ],
)
def test_hours_are_typed_in_words(text, told):
    editing = Editing(Instrument, pair())
    editing.change("sessions", "mon-fri 08:00-16:30 Europe/London; sun 22:00-24:00")
    assert editing.made.sessions == (
        WeeklySession((0, 1, 2, 3, 4), "08:00", "16:30", "Europe/London"),
        WeeklySession((6,), "22:00", "24:00"),
    )
    assert Editing(Instrument, editing.made).made == editing.made
    editing.change("sessions", text)
    assert editing.made is None
    assert told in editing.errors["sessions"]


def test_undo_and_redo_step_over_fields_not_letters():
    editing = Editing(Account, account())
    for text in ("1", "1.", "1.5"):
        editing.change("policy.max_heat_percent", text)
    editing.change("name", "Mine")
    assert editing.made.policy.max_heat_percent == 1.5
    assert editing.undo()
    assert editing.texts["name"] == ""
    assert editing.undo()
    assert editing.made.policy.max_heat_percent is None
    assert not editing.undo()
    assert editing.redo()
    assert editing.redo()
    assert editing.made.name == "Mine"
    assert not editing.redo()


@given(
    st.lists(
        st.tuples(
            st.sampled_from(["equity", "name", "policy.max_heat_percent"]), st.text(max_size=4)
        ),
        max_size=12,
    )
)
def test_undoing_everything_comes_back_to_the_start(changes):
    editing = Editing(Account, account())
    start = dict(editing.texts)
    for path, text in changes:
        editing.change(path, text)
    while editing.undo():
        pass
    assert editing.texts == start


def test_files_read_back_to_the_same(tmp_path):
    for made in (
        account(rates={"USD/CHF": 0.88}),
        pair(sessions=(WeeklySession((0,), "08:00", "16:30", "UTC"),)),
    ):
        path = tmp_path / "x.toml"
        save(made, path)
        assert load(type(made), path) == made
        assert tomllib.loads(path.read_text())


def test_differences_are_named():
    assert differences(account(), account(policy=Policy(max_heat_percent=2.0))) == [
        "Most heat: none to 2"
    ]


# The windows


def typed(editor, path, text):
    field = editor.field(path)
    field.setFocus()
    field.selectAll()
    QTest.keyClicks(field, text)


def test_a_limit_is_changed_says_when_it_holds_and_survives_a_restart(open_desk):
    trader = open_desk()
    trader.window.edit_account()
    editor = trader.window.editors["account"]
    assert editor.isVisible()
    assert not editor.field("equity").isEnabled()
    typed(editor, "policy.max_heat_percent", "x")
    assert not editor.apply_button.isEnabled()
    assert editor._problems["policy.max_heat_percent"].isVisible()
    typed(editor, "policy.max_heat_percent", "0.1")
    assert "Most heat: 3 to 0.1" in editor.told.text()
    assert "from the next entry on" in editor.told.text()
    assert "no entry fits until it falls" in editor.told.text()
    trader.click(editor.apply_button)
    trader.until(lambda s: s.settings.policy.max_heat_percent == 0.1)
    trader.frames()
    assert "of 0.1" in trader.window.waterline.heat.caption.text()
    trader.choose("NZD/SEK")
    assert "below the minimum" in trader.plan.trouble.text()
    assert any(
        "Account changed (policy)" in line.text for line in trader.window.logbook.model.lines
    )
    trader.choose("CAD/CHF")
    trader.window.close()
    again = open_desk()
    assert again.now.settings.policy.max_heat_percent == 0.1
    assert again.now.settings.equity == 64_000.0


def test_the_editor_undoes_by_key_imports_exports_and_refuses(trader, tmp_path):
    trader.window.edit_instrument()
    editor = trader.window.editors["instrument"]
    before = editor.field("tick").value()
    typed(editor, "tick", "0.25")
    assert editor.editing.made.tick == Decimal("0.25")
    QTest.keyClick(editor, Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier)
    assert editor.field("tick").value() == before
    path = tmp_path / "mine.toml"
    editor.export_to(path)
    assert load(Instrument, path) == editor.editing.made
    typed(editor, "symbol", "Other")
    editor.import_from(path)
    assert editor.field("symbol").value() != "Other"
    bad = tmp_path / "bad.toml"
    bad.write_text("symbol = 5")
    editor.import_from(bad)
    assert "nothing was changed" in editor.told.text()
    assert load(Instrument, path) == editor.editing.made
    QTest.keyClick(editor, Qt.Key.Key_Escape)
    assert not editor.isVisible()


def test_what_is_typed_in_forms_and_not_applied_is_there_again_also_at_the_next_start(open_desk):
    trader = open_desk()
    trader.window.edit_account()
    typed(trader.window.editors["account"], "policy.max_heat_percent", "0.")
    trader.window.edit_instrument()
    typed(trader.window.editors["instrument"], "symbol", "Other")
    symbol = trader.helm.symbol
    station = trader.window.account_desk.guards
    station.edit_guard("Day loss")
    station.editor.text.setPlainText("# typed, not applied")
    trader.window.edit_account()  # asked for once more: what was typed is no less there
    assert trader.window.editors["account"].field("policy.max_heat_percent").value() == "0."
    trader.window.close()
    again = open_desk()
    again.window.edit_account()
    editor = again.window.editors["account"]
    assert editor.field("policy.max_heat_percent").value() == "0."
    assert "You typed this earlier" in editor.told.text()
    QTest.keyClick(editor, Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier)
    assert editor.field("policy.max_heat_percent").value() == "3"
    again.window.edit_account()
    assert editor.field("policy.max_heat_percent").value() == "3"
    typed(editor, "policy.max_heat_percent", "2.5")
    again.click(editor.apply_button)
    again.until(lambda s: s.settings.policy.max_heat_percent == 2.5)
    again.window.edit_account()
    assert "You typed this earlier" not in editor.told.text()
    again.helm.choose_instrument(symbol)
    again.window.edit_instrument()
    assert again.window.editors["instrument"].field("symbol").value() == "Other"
    policy = again.window.account_desk.guards.editor
    policy.open()
    assert policy.text.toPlainText() == "# typed, not applied"
    policy.reload()
    again.window.remember()
    kept = again.window._settings.kept
    assert kept.policy == ""
    assert list(kept.forms) == [f"instrument {symbol}"]


def test_a_guard_s_form_that_is_refused_stays_as_it_was_typed(trader):
    station = trader.window.account_desk.guards
    station.editor.policy = station.editor.kept()
    station.edit_guard("Day loss")
    form = station.forms.forms[LossSwitch]
    typed(form, "percent", "1.75")
    station.editor.open()
    station.editor.text.setPlainText(station.editor.text.toPlainText() + "\n# typed, not applied")
    trader.window.show_station(GUARDS)
    for button in (form.apply_button, form.remove_button, form.remove_button):
        trader.click(button)
        assert form.isVisible()
        assert form.field("percent").value() == "1.75"
    assert "text was changed" in form.told.text()
    station.editor.reload()
    trader.click(form.apply_button)
    assert form.isHidden()
    assert station.editor.kept().named("Day loss").percent == 1.75


@given(
    st.dictionaries(
        st.sampled_from(["equity", "name", "policy.max_heat_percent", "gone"]), st.text(max_size=4)
    )
)
def test_what_was_typed_is_gone_on_with_over_what_a_record_is_by_now(changes):
    first = Editing(Account, account())
    for path, text in changes.items():
        if path in first.texts:
            first.change(path, text)
    now = Editing(Account, account(name="Another by now"))
    before = dict(now.texts)
    resumed = now.resume(first.typed | {"gone": "x"})
    assert now.texts == before | first.typed
    assert resumed == (now.texts != before)
    assert not resumed or now.undo()
    assert now.texts == before
