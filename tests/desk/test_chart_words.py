"""Words beside a chart's lines: none covers another's, however close the lines are."""

from itertools import combinations, pairwise

import pyqtgraph as pg
import pytest
from hypothesis import given
from hypothesis import strategies as st
from PyQt6.QtCore import QPointF, QRectF

from hawser.desk.chart.items import LevelLine, part_words, spread
from hawser.desk.chart.news import NewsLines
from hawser.desk.common.appearance import Appearance

WORDS = ["target 1  5.9530  +1.00 R", "trail begins at 5.9530", "break-even to 5.9579 at target 1", "stop 5.9632", "x"]


@pytest.mark.parametrize("width", [320, 900])
@pytest.mark.parametrize("apart", [0.0, 0.4, 1.0, 3.0], ids=lambda apart: f"{apart} % of the height")
def test_no_words_cover_others(qtbot, width, apart):
    look = Appearance("paper", None)
    plot = pg.PlotWidget()
    qtbot.addWidget(plot)
    plot.resize(width, 500)
    plot.setYRange(0, 100, padding=0)
    with qtbot.waitExposed(plot):
        plot.show()
    lines = []
    for number, text in enumerate(WORDS):
        line = LevelLine(look, "rule", number)
        line.style("ink2")
        plot.addItem(line)
        line.place(50 + number * apart, text)
        lines.append(line)
    part_words(lines, plot.getViewBox())
    plot.grab()  # words find their places as they are painted
    boxes = [line.label.mapRectToScene(line.label.boundingRect()) for line in lines]
    shrunk = [box.adjusted(0, box.height() / 2 - 5, 0, 5 - box.height() / 2) for box in boxes]  # the letters, no margin
    assert not [pair for pair in combinations(range(len(lines)), 2) if shrunk[pair[0]].intersects(shrunk[pair[1]])]
    highest = boxes[-1] if apart else boxes[0]
    assert highest.right() > 0.9 * plot.getViewBox().sceneBoundingRect().right()


def test_words_of_news_give_way_to_those_of_levels(qtbot):
    plot = pg.PlotWidget()
    qtbot.addWidget(plot)
    plot.resize(500, 400)
    plot.setRange(xRange=(0, 100), yRange=(0, 100), padding=0)
    with qtbot.waitExposed(plot):
        plot.show()
    news = NewsLines(Appearance("paper", None), float)
    plot.addItem(news, ignoreBounds=True)
    view, foot = plot.getViewBox(), plot.getViewBox().height()
    device = news.sceneTransform()
    named = [(device.map(QPointF(x, 0.0)), f"21:0{x % 10} NZD medium") for x in (50, 52, 99)]
    free = news._boxes(named, device)
    assert [round(b.top() - a.top()) for a, b in pairwise(free)] == [-16, -16]
    assert free[0].left() > named[0][0].x()
    assert free[2].right() < named[2][0].x()  # at the right edge it stands on the other side of its line
    taken = [(200.0, view.width(), foot - 58.0), (200.0, view.width(), foot - 90.0)]
    news.keep_clear(taken)
    levels = [QRectF(left, top, right - left, 17.0) for left, right, top in taken]
    origin = device.mapRect(news.viewRect()).topLeft()
    found = news._boxes(named, device)
    assert len(found) == 3
    assert not [box for box in found if any(box.intersects(level.translated(origin)) for level in levels)]
    news.keep_clear([(0.0, view.width(), top) for top in range(0, int(foot), 16)])
    assert news._boxes(named, device) == []


@given(st.lists(st.floats(0, 400), max_size=9))
def test_places_are_spread_in_their_order_and_within_the_height(places):
    found = spread(places, 16.0, 400.0)
    _, ordered = zip(*sorted(zip(places, found, strict=True)), strict=True) if places else ((), ())
    assert all(after - before >= 16.0 - 1e-9 for before, after in pairwise(ordered))
    assert all(8.0 <= place <= 392.0 for place in found)
    free = all(after - before >= 16.0 for before, after in pairwise(sorted(places)))
    if free and all(8.0 <= place <= 392.0 for place in places):
        assert found == places  # nothing is moved without need
