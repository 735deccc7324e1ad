"""The window's own ways: keys, finder, themes, charts of any length, settings, errors that take
nothing down."""

import subprocess
import sys
import threading
from itertools import pairwise

import msgspec
import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from PyQt6.QtCore import QEvent, QPoint, QPointF, QSize, Qt
from PyQt6.QtGui import QWheelEvent
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import (
    QAbstractItemView,
    QApplication,
    QComboBox,
    QFileDialog,
    QInputDialog,
    QLineEdit,
    QMessageBox,
    QPushButton,
    QWidget,
)

from byhand import ByHand
from hawser.core.bars import Bars
from hawser.core.clock import HOUR, MINUTE
from hawser.core.errors import BadInput
from hawser.core.guards import declared as dc
from hawser.desk.app.bars import HaltBar
from hawser.desk.app.finder import matches, nearness
from hawser.desk.app.stations import GUARDS, LOGBOOK
from hawser.desk.app.window import first_size
from hawser.desk.models.planning import Draft
from hawser.desk.models.pyramid import Pyramid
from hawser.desk.models.settings import Kept, Settings
from hawser.desk.theme.palette import NIGHT, PAPER, contrast, qt_palette, stylesheet
from hawser.engine import events as ev
from hawser.engine.model.state import Halted
from hawser.service.alerts.settings import AlertSettings
from hawser.service.runtime import opening_history
from hawser.service.views.taking import taken
from hawser.service.watchdog.control import WatchSettings
from madeup import NO_JSON, ROOT

CTRL = Qt.KeyboardModifier.ControlModifier
ALT = Qt.KeyboardModifier.AltModifier


@pytest.mark.parametrize("palette", [PAPER, NIGHT], ids=lambda p: p.name)
def test_text_can_be_read_in_both_themes(palette):
    for ink in ("ink", "ink2", "gain", "loss", "caution"):
        for ground in ("ground", "panel"):
            ratio = contrast(getattr(palette, ink), getattr(palette, ground))
            assert ratio >= 4.5, (palette.name, ink, ground, ratio)
    assert contrast(palette.on_ink, palette.ink) >= 4.5
    assert contrast(palette.on_caution, palette.caution) >= 4.5


def test_every_target_is_large_enough_and_has_a_name(trader):
    for kind in (QPushButton, QLineEdit, QComboBox):
        for widget in trader.window.findChildren(kind):
            # its own field is inside the box
            if widget.isVisible() and not isinstance(widget.parent(), QComboBox):
                assert widget.height() >= 24, (widget.accessibleName(), widget.height())
                if not isinstance(widget, QPushButton):
                    assert widget.accessibleName(), widget


def test_no_figure_is_clipped_at_1280_by_800(trader):
    trader.window.resize(1280, 800)
    trader.frames()
    line = trader.window.waterline
    for figure in (line.equity, line.today, line.heat, line.protection):
        shown = figure.value if figure.value.isVisible() else figure.caption
        assert shown.width() >= shown.sizeHint().width(), shown.text()
    for label, figure in trader.plan.reckoning._rows:
        if not label.isHidden():
            assert figure.width() >= figure.sizeHint().width()
            assert figure.geometry().right() <= trader.plan.reckoning.width()


def test_stations_by_key_and_by_mouse(trader):
    QTest.keyClick(trader.window, Qt.Key.Key_6, ALT)
    assert trader.window.stack.currentWidget() is trader.window.logbook
    QTest.keyClick(trader.window, Qt.Key.Key_1, ALT)
    assert trader.window.stack.currentWidget() is trader.helm
    trader.click(trader.window.rail.buttons["Rigs"])
    assert trader.window.stack.currentWidget() is trader.window.rigs
    QTest.keyClick(trader.window, Qt.Key.Key_4, ALT)
    assert trader.window.stack.currentWidget() is trader.window.account_desk.guards
    assert trader.window.station == GUARDS
    QTest.keyClick(trader.window, Qt.Key.Key_6, ALT)
    assert trader.window.station == LOGBOOK


@pytest.mark.parametrize(
    ("free", "size"),
    [
        ((2560, 1440), (1280, 800)),
        ((1280, 720), (1272, 680)),  # 1920x1080 at 150 %
        ((1280, 800), (1272, 760)),
        ((800, 600), (980, 620)),  # less than that shows nothing well
    ],
)
def test_the_first_window_fits_the_desktop(free, size):
    assert first_size(QSize(*free)) == QSize(*size)


def test_the_finder_finds_by_the_beginnings_of_words(trader):
    finder = trader.window.finder
    QTest.keyClick(trader.window, Qt.Key.Key_K, CTRL)
    assert finder.isVisible()
    assert matches("Instrument: NZD/SEK", "NZD/SEK")
    assert nearness("Instrument: NZD/SEK", "nzd/sek") < nearness("Close NZD/SEK", "nzd/sek")
    QTest.keyClicks(finder.field, "inst nzd")
    texts = [finder.list.item(row).text() for row in range(finder.list.count())]
    assert [text for text in texts if not text.startswith("Help: ")] == texts[:1]
    QTest.keyClick(finder.field, Qt.Key.Key_Return)
    trader.until(lambda s: trader.helm.symbol == "NZD/SEK")
    assert not finder.isVisible()
    finder.open()
    QTest.keyClicks(finder.field, "nothing like it")
    assert "No command and no page of the help has that name" in finder.list.item(0).text()
    QTest.keyClick(finder.field, Qt.Key.Key_Escape)
    assert not finder.isVisible()
    finder.open()
    QTest.keyClicks(finder.field, "theme")
    QTest.keyClick(finder.field, Qt.Key.Key_Return)
    assert trader.window.appearance.palette.name == "night"


def test_the_finder_reaches_every_action_without_harm(trader):
    texts = [action.text for action in trader.window.commands()]
    assert len(texts) == len(set(texts))
    for part in (
        "Place",
        "Close all",
        "Station",
        "Theme",
        "Instrument",
        "Timeframe",
        "Quay",
        "export",
    ):
        assert any(part in text for text in texts), part
    assert matches("Instrument: CAD/CHF", "inst chf")
    assert not matches("Instrument: CAD/CHF", "ruments")
    turn = "Turn around: close at 12.00 CHF and go short, with a new size"
    close = "Close short: 2 of 9 trades"
    assert sorted([turn, close], key=lambda text: nearness(text, "close short")) == [close, turn]


def test_the_chart_pans_zooms_and_reads_bars(trader):
    chart, keys = trader.chart, Qt.Key
    shown = chart.shown
    for key in (keys.Key_Minus, keys.Key_Minus):
        QTest.keyClick(chart.plot, key)
    assert chart.shown > shown * 1.5
    right = chart.view.right
    QTest.keyClick(chart.plot, keys.Key_Left)
    assert chart.view.right < right
    QTest.keyClick(chart.plot, keys.Key_End)
    assert chart.view.right == pytest.approx(right, abs=2)
    QTest.keyClick(chart.plot, keys.Key_Home)
    assert chart.shown >= chart._pyramid.size
    for key in (keys.Key_End, keys.Key_Plus):
        QTest.keyClick(chart.plot, key)
    canvas = chart.plot
    middle = QPointF(canvas.rect().center())
    before = chart.shown
    none = (
        Qt.MouseButton.NoButton,
        Qt.KeyboardModifier.NoModifier,
        Qt.ScrollPhase.NoScrollPhase,
        False,
    )
    wheel = QWheelEvent(middle, canvas.mapToGlobal(middle), QPoint(0, 0), QPoint(0, 120), *none)
    QApplication.sendEvent(canvas, wheel)
    assert chart.shown < before
    QTest.mouseMove(canvas, middle.toPoint())
    trader.qtbot.waitUntil(lambda: " at " in chart._readout.text(), timeout=3000)
    assert "O " in chart._readout.text()
    QApplication.sendEvent(canvas, QEvent(QEvent.Type.Leave))
    assert " at " not in chart._readout.text()


def test_the_plan_s_fields_scroll_where_there_is_no_room_for_all(trader):
    plan, names = trader.plan, ("entry", "stop", "target1", "trail")
    whole = lambda field: field.visibleRegion().boundingRect().height() == field.height()  # noqa: E731
    trader.window.resize(1280, 1000)
    trader.frames(2)
    assert all(whole(plan.field(name)) for name in names)
    trader.window.resize(1280, 680)
    trader.frames(2)
    fields = [plan.field(name) for name in names]
    tops = [field.mapTo(plan, QPoint(0, 0)).y() for field in fields]
    # none lies on another
    assert all(after - before >= fields[0].height() for before, after in pairwise(tops))
    assert not whole(plan.field("trail"))
    for name in ("trail", "entry"):
        plan.field(name).setFocus()
        trader.frames(1)
        assert whole(plan.field(name))
    assert whole(plan.button)


def test_timeframes_are_joined_from_what_is_there(trader):
    for span, button in trader.chart.span_buttons.items():
        trader.click(button)
        trader.qtbot.waitUntil(lambda s=span: trader.chart._span == s, timeout=5000)
        times = trader.chart._pyramid.bars.time
        assert (times % span == 0).all()
        assert trader.helm.plan.planning.span == span


def test_the_time_axis_speaks_the_person_s_zone(trader):
    axis = trader.chart.time_axis
    noon = int(np.searchsorted(axis.times, axis.times[-1] // HOUR * HOUR))
    text = axis.words([noon], HOUR)[0]
    utc_hour = int(axis.times[noon] // HOUR % 24)
    assert text == f"{(utc_hour + 1) % 24:02d}:00"


def test_pause_speed_and_weather(trader):
    foot = trader.window.simulation.bar
    trader.click(foot.pause)
    trader.frames()
    still = trader.now.time
    trader.frames()
    assert trader.now.time == still
    trader.click(foot.pause)
    foot.speeds.setCurrentText("\u00d760")
    trader.until(lambda s: s.time > still + MINUTE, 10)
    foot.weathers.setCurrentText("gale")
    trader.qtbot.waitUntil(
        lambda: trader.window.runtime.simulation.sky.weather.name == "gale", timeout=3000
    )


def test_an_error_in_the_window_is_written_down_told_and_survived(trader, monkeypatch):
    from hawser.desk.app import start

    monkeypatch.setattr(sys, "excepthook", sys.excepthook)
    start._catch_errors(trader.window)
    try:
        raise ZeroDivisionError("in a slot")
    except ZeroDivisionError as error:
        sys.excepthook(type(error), error, error.__traceback__)
    assert "ZeroDivisionError: in a slot" in trader.window.notice.text.text()
    assert trader.window.runtime.faults.count == 1
    trader.frames()


def test_each_alarm_stays_until_it_is_read(trader):
    notice = trader.window.notice
    notice.tell("alarm", "first")
    notice.tell("alarm", "read me")
    notice.tell("alarm", "read me")
    assert (notice.text.text(), notice.read.text()) == ("read me", "Understood, 1 more alarm")
    notice.tell("caution", "not this")
    assert notice.text.text() == "read me"
    notice.tell("refused", "the answer to what was asked")  # and the alarm is back after it
    assert (notice.text.text(), notice.read.text()) == (
        "the answer to what was asked",
        "Understood, 2 more alarms",
    )
    notice._timer.timeout.emit()
    assert notice.text.text() == "read me"
    notice.tell("refused", "another")
    for expected in ("read me", "first"):
        trader.click(notice.read)
        assert notice.text.text() == expected
    trader.click(notice.read)
    assert not notice.isVisible()
    notice.tell("info", "nothing to see")
    assert not notice.isVisible()


def test_the_venue_s_silence_is_shown_where_one_looks(open_desk):
    trader = open_desk()
    session_venue = trader.window.runtime.simulation
    from hawser.venue import port

    trader.window.runtime.link.inbox.put(
        session_venue.now, port.LinkTold(time=session_venue.now, up=False, why="cable")
    )
    trader.until(lambda s: not s.link_up)
    trader.frames()
    assert "CLOSED" in trader.window.waterline.entries.value.text()
    assert "cable" in trader.window.waterline.entries.value.text()
    assert "LINK DOWN" in trader.window.foot.link.text()
    assert "still protect" in trader.window.notice.text.text()


def test_own_history_opens_on_the_same_desk(open_desk):
    files = [
        ROOT / "examples" / name
        for name in ("quillan-ferry-5m.csv", "quillan-ferry.toml", "account.toml")
    ]
    inputs = opening_history.Inputs(*files)
    trader = open_desk(
        speed=3600.0, make=lambda where: opening_history.boot(inputs, where), name="own"
    )
    assert trader.helm.symbol == "Quillan Ferry"
    assert not trader.chart.span_buttons[5 * MINUTE].isHidden()
    assert trader.chart.span_buttons[MINUTE].isHidden()
    # It starts shortly before an evening; what is placed must have a morning before it.
    start = trader.now.time
    trader.until(
        lambda s: (
            s.time > start + 10 * HOUR and s.instruments[0].open and not s.instruments[0].closed
        ),
        40,
    )
    trader.window.runtime.clock.set(speed=10.0)
    trader.frames()
    trade = trader.place(risk="0.5 %", stop="3 atr")
    assert trade.covered


def test_settings_that_cannot_be_read_are_set_aside(tmp_path):
    path = tmp_path / "desk.json"
    path.write_text("{ not json")
    settings = Settings(path)
    assert settings.kept == Kept()
    assert (tmp_path / "desk.unreadable").read_text() == "{ not json"
    settings.kept.drafts["CAD/CHF"] = Draft(side=-1, risk="0.4 %")
    settings.save(60)
    assert Settings(path).kept.drafts["CAD/CHF"].risk == "0.4 %"
    odd = (b'{"station": -5}', b'{"columns": {"logbook": [9999999999]}}', b'{"geometry": "AAA"}')
    for damaged in (*NO_JSON, *odd):
        path.write_bytes(damaged)
        assert Settings(path).kept == Kept()
        assert (tmp_path / "desk.unreadable").read_bytes() == damaged


def test_what_is_kept_by_name_is_written_long_before_the_window_closes(trader):
    """A crash, or a power cut, lost every plan that was named since the start."""
    window = trader.window
    assert window._remembers.isActive()
    window._settings.kept.plans["Dawn tide"] = Draft(side=-1, risk="0.4 %")
    window._remembers.timeout.emit()
    window._settings._writing.join(60)
    assert Settings(window._settings.path).kept.plans["Dawn tide"].risk == "0.4 %"


def test_a_disk_that_hangs_does_not_hold_the_window_up(tmp_path, monkeypatch):
    settings, goes_on, begun = Settings(tmp_path / "desk.json"), threading.Event(), []
    write = Settings._write

    def hang(self, path, data):
        begun.append(data)
        goes_on.wait(60)
        write(self, path, data)

    monkeypatch.setattr(Settings, "_write", hang)
    for symbol in ("CAD/CHF", "NZD/SEK"):
        settings.kept.symbol = symbol
        settings.save()  # comes back at once
    assert len(begun) <= 1
    goes_on.set()
    settings.save(60)  # what was begun, and then what has changed since
    assert Settings(tmp_path / "desk.json").kept.symbol == "NZD/SEK"
    assert len(begun) == 2
    settings.save(60)
    assert len(begun) == 2  # nothing has changed


def test_a_disk_that_hangs_is_told_where_something_is_to_be_kept_and_the_window_lives(
    trader, monkeypatch, hanging
):
    """It hung with the disk: nothing could be flattened by it."""
    window, station = trader.window, trader.window.account_desk.guards
    station.edit_guard("Day loss")
    form = station.forms.forms[dc.LossSwitch]
    form.field("percent").set_value("1.5")
    form.field("percent").edited.emit("1.5")
    monkeypatch.setattr("hawser.desk.guards.policy_editor.small_text", hanging)
    for module in ("alerts.channels", "watchdog.control"):
        monkeypatch.setattr(f"hawser.service.{module}.save", hanging)
    monkeypatch.setattr("hawser.service.profiles.rigs.save_rig", hanging)
    window.show_station(GUARDS)
    trader.click(form.apply_button)
    assert form.isVisible()
    assert "the disk does not answer" in form.told.text()
    assert form.field("percent").value() == "1.5"
    shelf, runtime = window.rigs.shelf, window.runtime
    rig = next(iter(shelf.all.values()))
    for keep in (
        lambda: runtime.alerts.change(AlertSettings()),
        lambda: runtime.sentry.change(WatchSettings()),
        lambda: shelf.put(msgspec.structs.replace(rig, note="another")),
    ):
        with pytest.raises(BadInput, match="the disk does not answer"):
            keep()
    with pytest.raises(BadInput, match="the disk does not answer"):
        shelf.drop(rig.name)
    assert shelf.all[rig.name] == rig
    assert rig.name in shelf._paths
    # while one hangs, no other is begun
    assert sum(thread.name == "disk" for thread in threading.enumerate()) == 1
    window.flatten()
    trader.until(lambda s: s.halted)


def bars_of(size):
    rng = np.random.default_rng(size)
    close = 100 + np.cumsum(rng.normal(size=size))
    open_ = np.r_[100.0, close[:-1]]
    high, low = np.maximum(open_, close) + 0.1, np.minimum(open_, close) - 0.1
    return Bars(
        np.arange(size, dtype=np.int64) * MINUTE, open_, high, low, close, np.full(size, 1.0)
    )


@given(st.integers(1, 5000), st.floats(0, 1), st.floats(0.01, 1), st.integers(260, 600))
def test_no_level_of_detail_hides_an_extreme(size, start, part, most):
    bars = bars_of(size)
    first = start * size
    last = min(size - 1.0, first + part * size)
    columns = Pyramid(bars).columns(first, last, most)
    inside = slice(int(first), int(last) + 1)
    assert columns.x.size <= most + 4
    assert columns.high.max() >= bars.high[inside].max(initial=-np.inf)
    assert columns.low.min() <= bars.low[inside].min(initial=np.inf)
    assert columns.high.max() <= bars.high.max()


@given(st.integers(1, 3000), st.integers(1, 9))
def test_a_pyramid_grown_bar_by_bar_equals_one_made_at_once(size, more):
    bars = bars_of(size + more)
    grown = first = Pyramid(bars.mapped(lambda column: column[:size]))
    before = [column.tolist() for column in first.columns(0, size, 500)[:6]]
    for index in range(size, size + more):
        prices = tuple(float(column[index]) for column in bars[1:5])
        grown = grown.with_bar(int(bars.time[index]), prices, 1.0)
    whole = Pyramid(bars)
    assert all(a.tolist() == b.tolist() for a, b in zip(grown.bars, bars, strict=True))
    for most in (1, 40, 500):
        mine, theirs = (one.columns(0, size + more, most) for one in (grown, whole))
        if mine.width == theirs.width:
            assert [np.asarray(one).tolist() for one in mine] == [
                np.asarray(one).tolist() for one in theirs
            ]
    assert [column.tolist() for column in first.columns(0, size, 500)[:6]] == before


def test_two_bars_that_follow_on_the_same_history_do_not_disturb_each_other():
    first = Pyramid(bars_of(300))
    one = first.with_bar(300 * MINUTE, (1.0, 2.0, 0.5, 1.5), 1.0)
    other = first.with_bar(301 * MINUTE, (5.0, 6.0, 4.5, 5.5), 2.0)
    assert (one.bars.close[-1], other.bars.close[-1]) == (1.5, 5.5)
    assert (first.size, one.size, other.size) == (300, 301, 301)


SCALED = """
import sys, tempfile
from pathlib import Path
sys.path.insert(0, {tests!r})
from PyQt6.QtCore import QTimer
from hawser.demo.boot import boot
from hawser.desk.app.start import application, make_window
from hawser.desk.app.shots import settle
from hawser.service.profiles.profile import profile
app = application()
with tempfile.TemporaryDirectory() as root:
    window = make_window(profile("demo", Path(root)), boot, "scaled", running=False)
    window.resize(1280, 800)
    window.show()
    window.runtime.start()
    settle(window, lambda: window.latest is not None and window.latest.link_up, 280_000)
    print(window.devicePixelRatio(), window.grab().width(), window.width())
    window.close()
"""


@pytest.mark.parametrize("factor", [1.5])
def test_screens_are_scaled(factor):
    import os

    done = subprocess.run(
        [sys.executable, "-c", SCALED.format(tests=str(ROOT / "tests" / "desk"))],
        capture_output=True,
        text=True,
        check=False,
        timeout=290,
        env={**os.environ, "QT_SCALE_FACTOR": str(factor)},
    )
    ratio, pixels, width = done.stdout.split()
    assert float(ratio) == factor, done.stderr
    assert int(pixels) == round(int(width) * factor)


def test_no_line_of_one_instrument_stands_over_the_bars_of_another(trader):
    """Its scale could be dragged there, in prices that are not its own."""
    table, model = trader.helm.instruments.table, trader.helm.instruments.model
    focus, seen = trader.scale.focus, set()
    for symbol in ("Harbour 40", "CAD/CHF"):
        trader.click(
            table.viewport(), table.visualRect(model.index(model.row_of(symbol), 0)).center()
        )

        def both(symbol: str = symbol) -> bool:
            focus, of = trader.scale.focus, trader.chart._instrument.symbol
            seen.add((of == trader.helm.symbol, focus is None))
            assert focus is None or focus.instrument.symbol == of
            return of == symbol and focus is not None

        trader.qtbot.waitUntil(both)
    assert focus is not None
    assert (False, True) in seen  # on the way: the old bars, and no lines


@pytest.mark.parametrize("palette", [PAPER, NIGHT], ids=lambda p: p.name)
@pytest.mark.parametrize("make", [QMessageBox, QFileDialog, QInputDialog])
def test_dialogs_wear_the_theme_where_the_desktop_brings_none_of_its_own(qtbot, palette, make):
    ground = QWidget()
    QApplication.setPalette(qt_palette(palette))
    ground.setStyleSheet(stylesheet())
    dialog = make(ground)
    qtbot.addWidget(ground)
    if make is QFileDialog:
        dialog.setOption(QFileDialog.Option.DontUseNativeDialog)
    with qtbot.waitExposed(dialog):
        dialog.show()
    image = dialog.grab().toImage()
    assert image.pixelColor(2, 2) == palette.color("panel")
    for view in dialog.findChildren(QAbstractItemView):
        if view.isVisible():
            assert view.viewport().grab().toImage().pixelColor(
                1, view.viewport().height() - 2
            ) == palette.color("panel")


def test_what_halts_says_whether_anything_is_being_closed(qtbot):
    """An older record closes entries and nothing else; the bar said that all trades were still
    closing."""
    hand, bar = ByHand(), HaltBar()
    qtbot.addWidget(bar)
    hand.protect()
    hand.engine.state.halt = Halted(hand.now, "an older copy of the record was put back")
    bar.show_snapshot(taken(hand.engine.state))
    assert "put back; 1 open." in bar.text.text()
    hand.engine.state.halt = None
    hand.do(ev.Halt, ask_id="H", why="enough")
    bar.show_snapshot(taken(hand.engine.state))
    assert "enough; 1 still closing." in bar.text.text()
