"""Words beside a chart's lines: none covers another's, however close the lines are."""

from itertools import combinations, pairwise

import pytest
from hypothesis import given
from hypothesis import strategies as st
from PyQt6.QtCore import QRectF

from hawser.desk.chart.levels import Level, part_words, spread
from hawser.desk.chart.news import NewsLines
from hawser.desk.chart.viewport import Viewport
from hawser.desk.common.appearance import Appearance

WORDS = [
    "target 1  5.9530  +1.00 R",
    "trail begins at 5.9530",
    "break-even to 5.9579 at target 1",
    "stop 5.9632",
    "x",
]


@pytest.mark.parametrize("width", [320, 900])
@pytest.mark.parametrize(
    "apart", [0.0, 0.4, 1.0, 3.0], ids=lambda apart: f"{apart} % of the height"
)
def test_no_words_cover_others(qapp, width, apart):
    lines = []
    for number, text in enumerate(WORDS):
        line = Level("rule", number)
        line.place(50 + number * apart, text)
        lines.append(line)
    part_words(lines, Viewport(0, 100, 0, 100, width, 500))
    assert not [pair for pair in combinations(lines, 2) if pair[0].words.intersects(pair[1].words)]
    highest = lines[-1] if apart else lines[0]
    assert highest.words.right() > 0.9 * width


def test_words_of_news_give_way_to_those_of_levels(qapp):
    view = Viewport(0, 100, 0, 100, 430, 380)
    news = NewsLines(Appearance("paper", None), float)
    named = [(view.x(bar), f"21:0{bar % 10} NZD medium") for bar in (50, 52, 99)]
    free = news.boxes(named, view)
    assert [round(b.top() - a.top()) for a, b in pairwise(free)] == [-16, -16]
    assert free[0].left() > named[0][0]
    # at the right edge it stands on the other side of its line
    assert free[2].right() < named[2][0]
    taken = [(200.0, view.width, view.height - 58.0), (200.0, view.width, view.height - 90.0)]
    news.keep_clear(taken)
    levels = [QRectF(left, top, right - left, 17.0) for left, right, top in taken]
    found = news.boxes(named, view)
    assert len(found) == 3
    assert not [box for box in found if any(box.intersects(level) for level in levels)]
    news.keep_clear([(0.0, view.width, top) for top in range(0, int(view.height), 16)])
    assert news.boxes(named, view) == []


@given(st.lists(st.floats(0, 400), max_size=9))
def test_places_are_spread_in_their_order_and_within_the_height(places):
    found = spread(places, 16.0, 400.0)
    _, ordered = zip(*sorted(zip(places, found, strict=True)), strict=True) if places else ((), ())
    assert all(after - before >= 16.0 - 1e-9 for before, after in pairwise(ordered))
    assert all(8.0 <= place <= 392.0 for place in found)
    free = all(after - before >= 16.0 for before, after in pairwise(sorted(places)))
    if free and all(8.0 <= place <= 392.0 for place in places):
        assert found == places  # nothing is moved without need
