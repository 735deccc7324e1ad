"""The fields of forms: words on the screen, the file's values behind them."""

from typing import Annotated, Literal

import msgspec
import pytest
from PyQt6.QtCore import Qt
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QApplication, QMenu

from hawser.core.account import Account, SizeRule
from hawser.core.field_help import help_text, keys_of, named
from hawser.core.guards.declared import KINDS, LossSwitch
from hawser.core.instrument import Instrument
from hawser.desk.common.fields import (
    BoxesField,
    ChoiceField,
    LineField,
    PicksField,
    SwitchField,
    field_of,
)

KEY, LEFT = Qt.Key, Qt.MouseButton.LeftButton


class Made(msgspec.Struct):
    name: Annotated[str, help_text("its name")]
    way: Annotated[Literal["up", "down_wards"], help_text("which way", words={"up": "upwards"})] = (
        "up"
    )
    does: Annotated[
        tuple[Literal["a", "b"], ...], help_text("what it does", words={"b": "the second"})
    ] = ()
    on: Annotated[bool, help_text("on or off")] = True
    of: Annotated[tuple[str, ...], help_text("of what")] = ()


KEYS = {key.path: key for key in keys_of(Made)}


def shown(qtbot, path, known=None):
    field = field_of(KEYS[path], known)
    qtbot.addWidget(field)
    with qtbot.waitExposed(field):
        field.show()
    heard = []
    field.edited.connect(heard.append)
    return field, heard


def test_a_choice_shows_words_and_gives_what_a_file_has(qtbot):
    field, heard = shown(qtbot, "way")
    assert isinstance(field, ChoiceField)
    assert [field.itemText(row) for row in range(field.count())] == ["upwards", "down wards"]
    QTest.keyClick(field, KEY.Key_Down)
    assert heard == ["down_wards"] == [field.value()]
    field.set_value("up")
    assert field.currentText() == "upwards"


def test_any_of_a_few_are_boxes(qtbot):
    field, heard = shown(qtbot, "does")
    assert isinstance(field, BoxesField)
    assert [box.text() for box in field.boxes.values()] == ["the second", "a"]
    QTest.keyClick(field.boxes["a"], KEY.Key_Space)
    QTest.keyClick(field.boxes["b"], KEY.Key_Space)
    assert heard[-1] == "b, a"
    field.set_value("a")
    assert field.value() == "a"


def test_on_and_off_is_a_switch(qtbot):
    field, heard = shown(qtbot, "on")
    assert isinstance(field, SwitchField)
    field.set_value("yes")
    QTest.keyClick(field, KEY.Key_Space)
    assert (heard[-1], field.text()) == ("no", "off")


def test_names_are_typed_or_picked_from_what_is_known(qtbot):
    field, heard = shown(qtbot, "of", lambda: ["CAD/CHF", "Tin Z"])
    assert isinstance(field, PicksField)
    field.setFocus()
    QTest.keyClicks(field.line, "Other")
    QTest.keyClick(field.line, KEY.Key_Down)
    menu = QApplication.activePopupWidget()
    assert isinstance(menu, QMenu)
    assert [(one.text(), one.isChecked()) for one in menu.actions()] == [
        ("CAD/CHF", False),
        ("Tin Z", False),
        ("Other", True),
    ]
    menu.actions()[1].trigger()
    assert heard[-1] == field.value() == "Other, Tin Z"
    menu.actions()[2].trigger()
    assert field.value() == "Tin Z"
    menu.close()


def test_nothing_known_says_so(qtbot):
    field, _ = shown(qtbot, "of", list)
    QTest.mouseClick(field.button, LEFT)
    menu = QApplication.activePopupWidget()
    assert [(one.text(), one.isEnabled()) for one in menu.actions()] == [
        ("none is known yet", False)
    ]
    menu.close()


def test_what_is_typed_is_a_line(qtbot):
    field, heard = shown(qtbot, "name")
    assert isinstance(field, LineField)
    QTest.keyClicks(field, "ab")
    assert heard == ["a", "ab"]


@pytest.mark.parametrize(
    ("key", "unit", "words"),
    [
        ("max_rate_age_s", "s", "Max rate age"),
        ("ticks", "ticks", "Ticks"),
        ("window_min", "min", "Window"),
        ("days_per_year", "days", "Days per year"),
        ("from_r", "", "From r"),
    ],
)
def test_a_key_in_words_leaves_its_unit_out(key, unit, words):
    assert named(key, unit) == words


@pytest.mark.parametrize("kind", [Account, Instrument, *KINDS], ids=lambda kind: kind.__name__)
def test_no_form_shows_a_key_of_a_file(kind):
    for key in keys_of(kind):
        assert "_" not in key.name + key.help + "".join(map(key.word, key.choices))
        assert key.name[0].isupper()
        assert key.help
        assert set(key.words) <= set(key.choices)
        assert all(set(choices) <= set(_choices(kind, path)) for path, choices in key.only.items())


def _choices(kind, path):
    return next(key.choices for key in keys_of(kind) if key.path == path)


def test_what_counts_with_a_method_is_what_the_method_needs():
    for key in keys_of(SizeRule):
        for method, needs in SizeRule.NEEDS.items():
            assert key.path not in needs or method in key.only["method"]


def test_a_file_s_own_words_stand_where_one_is_written():
    told = next(key.in_a_file for key in keys_of(LossSwitch) if key.path == "then")
    assert "`break_even` (stop to the entry)" in told


def test_a_field_that_does_not_count_says_with_what_it_would(trader):
    trader.window.edit_account()
    editor = trader.window.editors["account"]
    method, amount = editor.field("size.method"), editor.field("size.amount")
    assert not amount.isEnabled()
    assert editor._helps["size.amount"].text() == (
        "only with method 'risk in money' or 'money invested'"
    )
    method.setCurrentIndex(method.findData("risk_money"))
    assert amount.isEnabled()
    assert not editor.field("size.percent").isEnabled()
    assert editor.editing.errors.keys() == {"size.amount"}
    QTest.keyClicks(amount, "250")
    trader.click(editor.apply_button)
    trader.until(
        lambda s: (s.settings.size.method, s.settings.size.amount) == ("risk_money", 250.0)
    )


def test_what_a_guard_does_on_closing_is_a_set_of_boxes(trader):
    station = trader.window.account_desk.guards
    trader.window.show_station("Guards")
    trader.qtbot.waitUntil(lambda: station.picture is not None)
    station.edit_guard("Day loss")
    form = station.forms.forms[LossSwitch]
    for box in ("flatten", "close"):
        trader.key(form.field("then").boxes[box], KEY.Key_Space)
    form.field("instruments").open_list()
    menu = QApplication.activePopupWidget()
    next(one for one in menu.actions() if one.text() == "CAD/CHF").trigger()
    menu.close()
    trader.click(form.apply_button)
    trader.qtbot.waitUntil(lambda: station.editor.kept().named("Day loss").then == ("close",))
    assert station.editor.kept().named("Day loss").instruments == ("CAD/CHF",)
