"""The chart's drawing surface: what is drawn anew, what the mouse does, and where prices and times
are told."""

import itertools

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from PyQt6.QtCore import QPoint, Qt
from PyQt6.QtTest import QTest

from hawser.core.bars import Bars
from hawser.core.clock import DAY, HOUR, MINUTE
from hawser.desk.chart.axes import PRICE_PX, TIME_PX, PriceAxis, PriceFlag, TimeAxis, price_marks
from hawser.desk.chart.candles import FormingCandle
from hawser.desk.chart.levels import Level, LevelLines
from hawser.desk.chart.ribbon import Ribbon
from hawser.desk.chart.strokes import steps
from hawser.desk.chart.surface import Layer, Surface
from hawser.desk.chart.viewport import Viewport
from hawser.desk.common.appearance import Appearance
from hawser.desk.models.pyramid import Pyramid

LEFT = Qt.MouseButton.LeftButton


class Counted(Layer):
    """A layer that counts how often it is painted."""

    def __init__(self, kept):
        self.kept, self.painted = kept, 0

    def paint(self, painter, view):
        self.painted += 1


@pytest.fixture
def surface(qtbot):
    found = Surface(Appearance("paper", "UTC"))
    qtbot.addWidget(found)
    found.resize(566, 420)
    found.see(0.0, 100.0)
    found.see_prices(10.0, 20.0)
    with qtbot.waitExposed(found):
        found.show()
    return found


def test_what_is_behind_is_kept_as_pixels_until_it_changes(surface):
    behind, front = Counted(kept=True), Counted(kept=False)
    surface.add(behind, front)
    surface.grab()
    behind.painted = front.painted = 0
    front.changed()
    surface.grab()
    assert (behind.painted, front.painted > 0) == (0, True)
    for change in (
        behind.changed,
        lambda: surface.see(1.0, 101.0),
        lambda: surface.resize(500, 400),
    ):
        behind.painted = 0
        change()
        surface.grab()
        assert behind.painted == 1
    behind.painted = 0
    surface.see(1.0, 101.0)  # what is seen already
    surface.grab()
    assert behind.painted == 0


def test_another_theme_is_painted_at_once(surface):
    surface.add(Counted(kept=True))
    light = surface.grab().toImage().pixelColor(5, 5)
    surface._appearance.set_theme("night")
    assert surface.grab().toImage().pixelColor(5, 5).lightness() < light.lightness() / 2


def lines_on(surface, *levels):
    layer = LevelLines(surface._appearance)
    layer.lines = list(levels)
    surface.add(layer)
    surface.grips = list(levels)


def test_a_line_is_taken_moved_and_set_by_the_mouse(surface):
    line, fixed = Level("stop"), Level("entry")
    line.place(15.0, "stop")
    fixed.place(14.9, "entry")
    line.movable = True
    lines_on(surface, line, fixed)
    moved, dropped = [], []
    surface.dragged.connect(lambda grip: moved.append((grip, grip.price)))
    surface.dropped.connect(dropped.append)
    at = QPoint(100, round(surface.view.y(14.9)))  # nearer to the one that cannot be moved
    QTest.mousePress(surface, LEFT, pos=at)
    line.place(16.0, "stop")  # where it is told to be while it is held
    QTest.mouseMove(surface, QPoint(100, round(surface.view.y(12.0))))
    assert line.dragging
    line.place(16.0, "stop")
    assert line.price == pytest.approx(12.0, abs=0.05)
    QTest.mouseRelease(surface, LEFT, pos=QPoint(100, round(surface.view.y(12.0))))
    assert dropped == [line]
    assert [grip for grip, _ in moved] == [line]
    assert not line.dragging


def test_what_is_let_go_is_not_set(surface):
    line = Level("stop")
    line.place(15.0, "stop")
    line.movable = True
    lines_on(surface, line)
    heard = []
    surface.dropped.connect(heard.append)
    at = QPoint(100, round(surface.view.y(15.0)))
    QTest.mousePress(surface, LEFT, pos=at)
    QTest.mouseMove(surface, at + QPoint(0, 30))
    surface.let_go()
    QTest.mouseMove(surface, at + QPoint(0, 60))
    QTest.mouseRelease(surface, LEFT, pos=at + QPoint(0, 60))
    assert heard == []
    assert not line.dragging


def test_the_mouse_pans_and_a_click_is_no_pan(surface):
    panned, clicked = [], []
    surface.panned.connect(panned.append)
    surface.clicked.connect(clicked.append)
    start = QPoint(100, 100)
    QTest.mousePress(surface, LEFT, pos=start)
    QTest.mouseMove(surface, start + QPoint(2, 1))
    QTest.mouseRelease(surface, LEFT, pos=start + QPoint(2, 1))
    assert (panned, len(clicked)) == ([], 1)
    QTest.mousePress(surface, LEFT, pos=start)
    for x in (20, 50):
        QTest.mouseMove(surface, start + QPoint(x, 0))
    QTest.mouseRelease(surface, LEFT, pos=start + QPoint(50, 0))
    assert sum(panned) == pytest.approx(50 / surface.view.across)
    assert len(clicked) == 1
    QTest.mousePress(surface, LEFT, pos=QPoint(540, 100))  # on the axis
    QTest.mouseMove(surface, QPoint(520, 100))
    QTest.mouseRelease(surface, LEFT, pos=QPoint(520, 100))
    assert len(panned) == 2


def test_the_unfinished_bar_leaves_the_others_pixels_alone(surface):
    behind, forming = Counted(kept=True), FormingCandle(surface._appearance)
    surface.add(behind, forming)
    surface.grab()
    behind.painted = 0
    for close in (15.0, 15.2):
        forming.show_bar(99, (0, 15.0, 15.5, 14.0, close, 3.0))
        surface.grab()
    assert behind.painted == 0


def test_the_price_s_flag_leaves_no_half_of_a_price_behind_it(surface):
    axis = PriceAxis(surface._appearance)
    axis.digits = 2
    flag = PriceFlag(surface._appearance, axis)
    surface.add(axis, flag)
    bare = {price for price in price_marks(surface.view, 2)[1:-1] if _inked(surface, price)}
    assert bare
    near = sorted(bare)[len(bare) // 2]
    # so near that it covers the upper half of that price
    flag.show_price(near + 12 / surface.view.up)
    assert not _inked(surface, near, below=9)
    flag.show_price(near + 40 / surface.view.up)
    assert _inked(surface, near, below=9)


def _inked(surface, price, below=0):
    """Whether there are letters where the axis tells a price, from so many pixels above the foot of
    its words."""
    picture, panel = surface.grab().toImage(), surface._appearance.color("panel").rgb()
    y = round(surface.view.y(price))
    rows = range(y + 8 - below, y + 8) if below else range(y - 8, y + 8)
    left = round(surface.view.width) + 6
    return any(
        picture.pixel(x, row) != panel
        for row in rows
        for x in range(left, left + 50)
        if row < picture.height()
    )


views = st.builds(
    lambda left, bars, low, high, width, height: Viewport(
        left, left + bars, low, low + high, width, height
    ),
    st.floats(-1e6, 1e6),
    st.floats(1, 1e6),
    st.floats(0.001, 1e6),
    st.floats(0.01, 1e5),
    st.floats(50, 4000),
    st.floats(50, 3000),
)


@given(views, st.floats(0, 1), st.floats(0, 1))
def test_a_viewport_goes_there_and_back(view, across, down):
    x, y = across * view.width, down * view.height
    assert view.x(view.bar_at(x)) == pytest.approx(x, abs=0.01)
    assert view.y(view.price_at(y)) == pytest.approx(y, abs=0.01)
    bars = np.array([view.left, view.right])
    assert view.xs(bars) == pytest.approx([0.0, view.width], abs=0.01)


@given(views, st.integers(0, 6))
def test_prices_are_told_at_even_steps_with_room_for_each(view, digits):
    marks = price_marks(view, digits)
    places = [view.y(price) for price in marks]
    assert all(-1 <= place <= view.height + 1 for place in places)
    assert all(before - after >= PRICE_PX - 1 for before, after in itertools.pairwise(places))
    assert len({f"{price:.{digits}f}" for price in marks}) == len(marks)


@given(
    st.sampled_from((MINUTE, 15 * MINUTE, HOUR, DAY)),
    st.integers(2, 5000),
    st.floats(0.02, 1.0),
    st.booleans(),
)
def test_times_are_told_with_room_for_each(span, size, part, gaps):
    axis = TimeAxis(Appearance("paper", "Europe/Zurich"))
    axis.times = 1_790_000_000_000_000_000 // span * span + np.arange(size, dtype=np.int64) * span
    if gaps:
        axis.times = axis.times[np.arange(size) % 50 < 30]
    shown = max(2.0, part * size)
    view = Viewport(axis.times.size - shown, axis.times.size + 1.0, 0, 1, 700, 300)
    axis.span = span
    step, bars = axis.marks(view)
    words = axis.words(bars, step)
    assert len(words) == len(bars) == len(set(bars))
    assert all(
        (after - before) * view.across >= 0.75 * TIME_PX
        for before, after in itertools.pairwise(bars)
    )


def test_a_history_of_spreads_is_drawn_by_its_widest(qapp):
    size = 9000
    spread = np.full(size, 5.0)
    spread[1234], spread[:300] = 88.0, np.nan
    prices = np.full(size, 1.0)
    ribbon = Ribbon(Appearance("paper", "UTC"))
    ribbon.show_bars(
        Pyramid(Bars(np.arange(size) * MINUTE, prices, prices, prices, prices, spread))
    )
    at, widest, each = ribbon.columns(0, size)
    assert each > 1
    assert at.size < 600
    assert widest.max() == 88.0
    assert abs(at[widest.argmax()] - 1234) <= each
    assert at.min() >= 300 - each


def test_a_level_that_moves_is_drawn_as_steps():
    assert steps([], 9.0) == []
    assert steps([(1.0, 5.0), (3.0, 6.0)], 9.0) == [(1.0, 5.0), (3.0, 5.0), (3.0, 6.0), (9.0, 6.0)]
