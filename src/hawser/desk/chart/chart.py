"""The chart: candles, the lines of the plan or a trade, the stop's past, crosshair and readout,
beside the R scale."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np
from PyQt6.QtCore import QPointF, Qt, pyqtSignal
from PyQt6.QtGui import QHideEvent, QKeyEvent, QShowEvent
from PyQt6.QtWidgets import QButtonGroup, QFrame, QHBoxLayout, QPushButton, QSizePolicy, QVBoxLayout

from hawser.core.bars import Bars
from hawser.core.clock import TIMEFRAMES, timeframe_name
from hawser.core.instrument import Instrument
from hawser.desk.chart.axes import PriceAxis, PriceFlag, TimeAxis
from hawser.desk.chart.candles import Candles, FormingCandle
from hawser.desk.chart.levels import Level, LevelLines, part_words
from hawser.desk.chart.news import NewsLines
from hawser.desk.chart.ribbon import Ribbon
from hawser.desk.chart.rscale import RScale
from hawser.desk.chart.strokes import Crosshair, Polyline, steps
from hawser.desk.chart.surface import Surface
from hawser.desk.chart.viewport import Viewport
from hawser.desk.common.appearance import Appearance
from hawser.desk.common.explained import explain, topic
from hawser.desk.common.words import Label, plain_tip
from hawser.desk.models import figures as fg
from hawser.desk.models.focus import Focus, about
from hawser.desk.models.pyramid import Pyramid
from hawser.engine.events import BarCompleted

if TYPE_CHECKING:
    from hawser.core.sources.evaluation import Signalled
    from hawser.desk.chart.over import Over
    from hawser.desk.models.curves import Curve, Panel

DEFAULT_BARS = 110
WORDS = 190.0  # pixels kept free on the right for the lines' words, where the chart is wide enough
MOST_SHOWN = 1_000_000.0
FEWEST = 12.0
NEAR_PX = 5.0  # from the pointer to an event that it tells of
NO_SIGNALS = np.empty(0, np.int8)
EASY = 1.25  # how much larger than needed the price range may be before it is fitted again


class Chart(QFrame):
    """One instrument, one timeframe. Levels cross its signals in ticks."""

    span_chosen = pyqtSignal(object)
    moved = pyqtSignal(str, int, int)
    dropped = pyqtSignal(str, int, int)
    menu_asked = pyqtSignal(object)
    lines_asked = pyqtSignal()
    bars_changed = pyqtSignal()

    def __init__(self, appearance: Appearance) -> None:
        super().__init__()
        self.setObjectName("panel")
        self._appearance = appearance
        self._instrument: Instrument | None = None
        self._span = 0
        self._pyramid: Pyramid | None = None
        # where the crosshair is, if anywhere
        self._read_at: tuple[float | None, float | None] = None, None
        self._forming: tuple[float, ...] | None = None
        self._focus: Focus | None = None
        self.shown = float(DEFAULT_BARS)
        self._offset = 0.0  # bars between the newest and the right end of what is shown
        self.scale = RScale(appearance)
        self._make_plot()
        self._make_header()
        self.scale.moved.connect(self.moved)
        self.scale.dropped.connect(self.dropped)
        self._over: Over | None = None
        self._left = QVBoxLayout()
        self._left.setSpacing(0)
        self._left.addWidget(self.plot, 1)
        middle = QHBoxLayout()
        middle.setContentsMargins(0, 0, 0, 0)
        middle.setSpacing(0)
        middle.addLayout(self._left, 1)
        middle.addWidget(self.scale)
        self._box = box = QVBoxLayout(self)
        box.setContentsMargins(1, 1, 1, 1)
        box.setSpacing(0)
        box.addLayout(self._header)
        box.addWidget(self._readout)
        box.addLayout(middle, 1)

    def _make_plot(self) -> None:
        appearance = self._appearance
        self.plot = Surface(appearance)
        self.plot.setAccessibleName("Chart")
        self.time_axis, self._price_axis = TimeAxis(appearance), PriceAxis(appearance)
        self.ribbon, self.news = Ribbon(appearance), NewsLines(appearance, self._place)
        self._candles, self._forming_candle = Candles(appearance), FormingCandle(appearance)
        self._trace, self._crosshair = Polyline(appearance, "loss", 1.5), Crosshair(appearance)
        self._levels, self._flag = LevelLines(appearance), PriceFlag(appearance, self._price_axis)
        self._lines: dict[tuple[str, int], Level] = {}
        self.plot.add(
            self._price_axis, self.time_axis, self.news, self.ribbon, self._candles, self._trace
        )
        self.plot.add(self._forming_candle, self._flag, self._levels, self._crosshair)
        self.plot.resized.connect(self._set_range)
        self.plot.zoomed.connect(self.zoom)
        self.plot.panned.connect(self.pan)
        self.plot.hovered.connect(self._hovered)
        self.plot.dragged.connect(self._line_dragged)
        self.plot.dropped.connect(self._line_dropped)
        self.plot.given_up.connect(self.scale.cancelled)
        self.plot.menu_asked.connect(self.menu_asked)
        self.plot.pressed.connect(self._pressed)

    def _make_header(self) -> None:
        explain(self, "chart", tip=False)
        explain(self.scale, "r_scale")
        self._title, self._readout = Label(), Label()
        self._title.setProperty("role", "title")
        self._readout.setProperty("role", "small-second")
        self._readout.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Fixed)
        self._readout.setContentsMargins(10, 0, 10, 4)
        self._header = QHBoxLayout()
        self._header.setContentsMargins(10, 4, 10, 0)
        self._header.setSpacing(2)
        self._header.addWidget(self._title)
        self._header.addSpacing(8)
        self._spans, self.span_buttons = QButtonGroup(self), dict[int, QPushButton]()
        for name, span in TIMEFRAMES.items():
            self._add_span(name, span)
        self.lines_button = QPushButton("lines")
        self.lines_button.setProperty("role", "flat")
        self.lines_button.setAccessibleName("Lines over the bars")
        explain(self.lines_button, "chart_lines")
        self.lines_button.clicked.connect(lambda _: self.lines_asked.emit())
        self._header.addWidget(self.lines_button)
        self._tended = Label()
        self._tended.setProperty("role", "small-second")
        self._tended.setAlignment(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
        self._tended.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Fixed)
        self._header.addWidget(self._tended, 1)
        explain(self._readout, "readout", tip=False)  # its own tip names the bar
        explain(self._tended, "tended", tip=False)

    def _add_span(self, name: str, span: int) -> None:
        """A button for bars of one length, behind those there are."""
        button = QPushButton(name)
        button.setCheckable(True)
        button.setProperty("role", "flat")
        button.setAccessibleName(f"Timeframe {name}")
        explain(button, "timeframe")
        button.clicked.connect(lambda _, span=span: self.span_chosen.emit(span))
        self._spans.addButton(button)
        self._header.insertWidget(2 + len(self.span_buttons), button)
        self.span_buttons[span] = button

    @property
    def view(self) -> Viewport:
        """What part of the bars and prices is seen."""
        return self.plot.view

    # Data

    def show_bars(
        self, instrument: Instrument, span: int, pyramid: Pyramid, available: list[int]
    ) -> None:
        """Another instrument or timeframe."""
        self._instrument, self._span, self._pyramid, self._forming = instrument, span, pyramid, None
        self._title.setText(instrument.symbol)
        self._price_axis.digits = instrument.price_digits
        for other in available:
            if other not in self.span_buttons:
                self._add_span(timeframe_name(other), other)
        for other, button in self.span_buttons.items():
            button.setVisible(other in available)
            button.setChecked(other == span)
        self._offset = 0.0
        self._refresh()
        self._read_bar(None)

    def add_bar(self, bar: BarCompleted) -> None:
        """A bar of what is shown completed."""
        if (
            self._pyramid is None
            or self._instrument is None
            or bar.symbol != self._instrument.symbol
        ):
            return
        times = self._pyramid.bars.time
        if bar.span == self._span and (not times.size or bar.opened > times[-1]):
            prices = (bar.open, bar.high, bar.low, bar.close)
            self._pyramid = self._pyramid.with_bar(bar.opened, prices, bar.spread)
            self._forming = None
            if self._offset:
                self._offset += 1  # what a person looks at stays where it is
            self._refresh()

    @property
    def bars(self) -> Bars | None:
        """The completed bars shown."""
        return self._pyramid.bars if self._pyramid is not None else None

    def show_forming(self, forming: tuple[float, ...] | None) -> None:
        """The unfinished bar."""
        if self._pyramid is None or forming == self._forming:
            return
        if forming is not None and self._pyramid.size and forming[0] <= self._pyramid.bars.time[-1]:
            return  # of the timeframe shown before
        self._forming = forming
        self._forming_candle.show_bar(self._pyramid.size, forming)
        self._fit_prices(easy=True)
        self._read_bar(*self._read_at)

    def show_focus(self, focus: Focus | None) -> None:
        """The plan or the trade whose lines are drawn; none over another instrument's bars, whose
        own are on their way."""
        if focus is not None and (
            self._instrument is None or focus.instrument.symbol != self._instrument.symbol
        ):
            focus = None
        if focus == self._focus:
            return
        reach = focus is None or self._focus is None or _levels(focus) != _levels(self._focus)
        if about(focus) != about(self._focus):  # a line that is being dragged was another trade's
            self._lines.clear()
            self.plot.let_go()
        self._focus = focus
        self._tell_rig(focus)
        self._draw_lines()
        if reach:
            self._fit_prices(easy=True)
        self.scale.show_focus(focus)

    @property
    def instrument(self) -> Instrument | None:
        """Whose bars are shown."""
        return self._instrument

    @property
    def symbol(self) -> str:
        return self._instrument.symbol if self._instrument is not None else ""

    @property
    def span(self) -> int:
        return self._span

    def show_lines(self, curves: list[Curve], panels: list[Panel]) -> None:
        """Lines over the bars, and strips below them."""
        if self._over is not None or curves or panels:
            self.over.show_lines(curves, panels, self._price_axis.digits)
            self._set_range()

    def show_said(self, said: Signalled | None) -> None:
        """Where a source enters and leaves; None: no source is laid on the bars."""
        if said is not None:
            self.over.said.show_said(self._pyramid, said.signal, said.leave)
        elif self._over is not None:
            self._over.said.show_said(None, NO_SIGNALS, NO_SIGNALS)

    @property
    def over(self) -> Over:
        """What lies over the bars; made when it is first wanted: most charts show bars alone."""
        if self._over is None:
            from hawser.desk.chart.over import Over

            over = self._over = Over(self._appearance, self.plot, self._trace)
            over.strips.zoomed.connect(self.zoom)
            over.strips.panned.connect(self.pan)
            over.strips.hovered.connect(self._hovered_below)
            self._left.addWidget(over.strips)
            self._box.insertWidget(2, over.legend)  # between the readout and the bars
        return self._over

    # Lines

    def _draw_lines(self) -> None:
        focus = self._focus
        wanted: dict[tuple[str, int], tuple[int, str, str, bool]] = {}
        if focus is not None:
            price = focus.instrument.price
            plan = not focus.trade
            text = f"{focus.label}{f', {focus.entry}' if focus.entry else ' at'} {price(focus.ref)}"
            if focus.mirror:
                wanted[("mirror", 0)] = (
                    focus.mirror,
                    f"the other side waits at {price(focus.mirror)}",
                    "ink2",
                    True,
                )
            wanted[("entry", 0)] = (focus.ref, text, "ink" if focus.entry else "ink2", True)
            bare = "" if focus.covered else ", not resting yet"
            if focus.venue_stop:
                text = (
                    f"backstop at the venue  {price(focus.venue_stop)}  "
                    f"{fg.r(focus.r(focus.venue_stop))}"
                )
                wanted[("backstop", 0)] = (focus.venue_stop, text, "ink2", True)
                bare += ", held here"
            text = f"stop {price(focus.stop)}  {fg.r(focus.r(focus.stop))}{bare}"
            wanted[("stop", 0)] = (focus.stop, text, "loss" if focus.covered else "caution", plan)
            for mark in focus.targets:
                done = ", done" if mark.done else ""
                text = (
                    f"target {mark.number}  {price(mark.level)}  {fg.r(focus.r(mark.level))}{done}"
                )
                wanted[("target", mark.number)] = (mark.level, text, "gain", plan or mark.done)
            for number, (level, text) in enumerate((*focus.waits, *focus.others)):
                if level:
                    wanted[("rule", number)] = (level, text, "ink2", True)
        self._lines = {key: self._lines.get(key) or Level(*key) for key in wanted}
        for key, (level, text, tone, dash) in wanted.items():
            line = self._lines[key]
            line.style(tone, dash, 1.0 if dash else 2.0)
            assert focus is not None
            filled = key[0] == "target" and any(
                m.number == key[1] and m.done for m in focus.targets
            )
            free = key[0] in ("stop", "target") and not filled and not focus.fixed
            line.movable = free or (key[0] == "entry" and bool(focus.entry))
            line.place(level * focus.instrument.tick_size, text)
        self._levels.lines = list(self._lines.values())
        self.plot.grips = [*self._levels.lines]
        self._levels.changed()
        self._lay_words()
        self._flag.show_price(
            focus.price * focus.instrument.tick_size if focus is not None else None
        )
        self._draw_trace(focus)

    def _lay_words(self) -> None:
        self.news.keep_clear(part_words(self._levels.lines, self.view))

    def _line_ticks(self, line: Level) -> int:
        assert self._focus is not None
        return max(1, round(line.price / self._focus.instrument.tick_size))

    def _line_dragged(self, line: Level) -> None:
        if self._focus is not None and self._draws(line):
            self.moved.emit(line.role, line.number, self._line_ticks(line))

    def _line_dropped(self, line: Level) -> None:
        if self._focus is not None and self._draws(line):
            self.dropped.emit(line.role, line.number, self._line_ticks(line))

    def let_go(self) -> None:
        """Give up what is being dragged: nobody sees any more what it would do."""
        self.scale.let_go()
        self.plot.let_go()
        self._draw_lines()

    def hideEvent(self, event: QHideEvent | None) -> None:
        self.let_go()
        super().hideEvent(event)

    def _draws(self, line: Level) -> bool:
        """Whether a line is one of those that are drawn now; the mouse may still hold one that is
        gone."""
        return self._lines.get((line.role, line.number)) is line

    @property
    def dragging(self) -> bool:
        return self.scale.busy or any(line.dragging for line in self._lines.values())

    def _draw_trace(self, focus: Focus | None) -> None:
        """The stop's past as a stepped line over the bars."""
        if focus is None or self._pyramid is None or not self._pyramid.size:
            self._trace.show_points(())
            return
        times, tick = self._pyramid.bars.time, focus.instrument.tick_size
        rests = [(self._bar_at(rest.time, times), rest.level * tick) for rest in focus.trace]
        self._trace.show_points(steps(rests, float(times.size)))

    def _bar_at(self, time: int, times: np.ndarray) -> float:
        """A moment as a bar number with its part of the bar."""
        index = int(np.searchsorted(times, time, side="right")) - 1
        if index < 0:
            return 0.0
        return index + min(1.0, (time - int(times[index])) / self._span) - 0.5

    def _place(self, time: int) -> float:
        """The same for any moment, also one that no bar has come to yet."""
        times = self._pyramid.bars.time if self._pyramid is not None else np.empty(0, np.int64)
        if not times.size or time < times[0]:
            return -FEWEST  # before all there is
        ahead = (time - int(times[-1])) / self._span
        return times.size - 1.5 + ahead if ahead > 1.0 else self._bar_at(time, times)

    # Range

    def _refresh(self) -> None:
        assert self._pyramid is not None
        self.time_axis.show_times(self._pyramid.bars.time, self._span)
        self._candles.show_bars(self._pyramid)
        self._forming_candle.show_bar(self._pyramid.size, self._forming)
        self.ribbon.show_bars(self._pyramid)
        self._set_range()
        self._draw_lines()
        self.bars_changed.emit()

    @property
    def _room(self) -> float:
        """The part of the width kept free."""
        return min(0.42, WORDS / max(1.0, self.view.width))

    def _set_range(self) -> None:
        if self._pyramid is None:
            self.lay_scale()
            return
        self.shown = min(
            max(FEWEST, self.shown), max(FEWEST, min(MOST_SHOWN, self._pyramid.size + 1))
        )
        self._offset = max(0.0, min(self._offset, self._pyramid.size - FEWEST / 2))
        right, room = self._pyramid.size + 1 - self._offset, self._room
        self.plot.see(right - self.shown, right + self.shown * room / (1 - room))
        if self._over is not None:
            self._over.strips.follow()
        self._fit_prices()
        self.lay_scale()

    def zoom(self, factor: float) -> None:
        self.shown *= factor
        self._set_range()

    def pan(self, bars: float) -> None:
        """Bars that were before the left edge come into view."""
        self._offset += bars
        self._set_range()

    def _pressed(self, event: QKeyEvent) -> None:
        event.setAccepted(self.key(event.key()))

    def key(self, key: int) -> bool:
        """Keys of the chart; True where it was one."""
        keys = Qt.Key
        if key == keys.Key_Left:
            self.pan(max(1.0, self.shown // 10))
        elif key == keys.Key_Right:
            self.pan(-max(1.0, self.shown // 10))
        elif key in (keys.Key_Plus, keys.Key_Equal):
            self.zoom(0.8)
        elif key == keys.Key_Minus:
            self.zoom(1.25)
        elif key == keys.Key_End:
            self._offset = 0.0
            self._set_range()
        elif key == keys.Key_Home:
            self.shown, self._offset = MOST_SHOWN, 0.0
            self._set_range()
        elif key == keys.Key_L:
            self.lines_asked.emit()
        else:
            return False
        return True

    def _fit_prices(self, easy: bool = False) -> None:
        """The shown bars and, unless they are far away, the lines of the focus.

        `easy` leaves the range as it is while all of it is in view: axes are only drawn anew when
        they must be.
        """
        if self._pyramid is None or self.dragging:
            return
        right = self.view.right
        found = self._pyramid.extremes(self.view.left, right)
        if found is None:
            return
        low, high = found
        if self._forming is not None and right >= self._pyramid.size:
            low, high = min(low, self._forming[3]), max(high, self._forming[2])
        if self._focus is not None:
            tick, reach = self._focus.instrument.tick_size, 1.2 * (high - low)
            for level in _levels(self._focus):
                price = level * tick
                if low - reach <= price <= high + reach:
                    low, high = min(low, price), max(high, price)
        room = (high - low) * 0.06 or abs(high) * 0.001
        bottom, top = self.view.low, self.view.high
        edge = room / 2  # the words at a line need as much
        if (
            easy
            and bottom <= low - edge
            and high + edge <= top
            and top - bottom <= EASY * (high - low + 2 * room)
        ):
            return
        self.plot.see_prices(low - room, high + room)
        self.lay_scale()

    def lay_scale(self) -> None:
        """Give the R scale the plot's price axis."""
        view, top = self.view, float(self.plot.y() - self.scale.y())
        self.scale.set_axis(view.low, view.high, top, top + view.height)
        self._lay_words()

    def showEvent(self, event: QShowEvent) -> None:
        super().showEvent(event)
        self.lay_scale()

    # Crosshair

    def _hovered(self, at: QPointF | None) -> None:
        if at is None or self._pyramid is None:
            self._crosshair.show_at(None)
            self._read_bar(None)
            self._read_lines(-1)
        else:
            point = self.view.bar_at(at.x()), self.view.price_at(at.y())
            self._crosshair.show_at(point)
            self._read_bar(*point)
            self._read_lines(round(point[0]))

    def _hovered_below(self, at: QPointF | None) -> None:
        """The pointer is over a strip: the bar is meant, no price."""
        self._crosshair.show_at(None)
        bar = None if at is None else self.view.bar_at(at.x())
        self._read_bar(bar)
        self._read_lines(-1 if bar is None else round(bar))

    def _read_lines(self, bar: int) -> None:
        """The values of the lines at a bar; -1: at the newest."""
        if self._over is not None:
            self._over.read(bar)

    def _tell_rig(self, focus: Focus | None) -> None:
        """The rig, and its rules that wait for something else than a price; all of them in the
        tip."""
        waits = focus.waits if focus is not None else ()
        unpriced = "; ".join(text for level, text in waits if not level)
        text = ": ".join(
            part for part in (focus.rig if focus is not None else "", unpriced) if part
        )
        if self._tended.text() != text:
            self._tended.setText(text)
        self._tended.setToolTip(
            plain_tip(
                "Still to act:\n" + "\n".join(text for _, text in waits)
                if waits
                else topic("tended").tip
            )
        )

    def tell(self, text: str) -> None:
        """What the line being dragged would mean, in place of the bar's figures."""
        self._readout.setText(text)

    def show_limit(self, limit: float) -> None:
        """The widest spread that the guards let pass, ticks; NaN: any."""
        if self.ribbon.show_limit(limit):
            self._read_bar(*self._read_at)

    def _read_bar(self, x: float | None, y: float | None = None) -> None:
        """The figures of the bar under the crosshair, else of the newest."""
        self._read_at = x, y
        if self.dragging:
            return
        pyramid, of = self._pyramid, self._instrument
        if pyramid is None or of is None or not pyramid.size:
            self._readout.setText("No bars yet")
            return
        index = pyramid.size if x is None else round(x)
        if index >= pyramid.size and self._forming is not None:
            bar = self._forming
        else:
            index = min(max(0, index), pyramid.size - 1)
            bar = tuple(float(column[index]) for column in pyramid.bars)
            bar = (int(pyramid.bars.time[index]), *bar[1:])
        at = fg.moment(int(bar[0]), self._appearance.zone)
        digits = of.price_digits
        prices = "  ".join(
            f"{name} {value:.{digits}f}" for name, value in zip("OHLC", bar[1:5], strict=True)
        )
        limit = f" of {self.ribbon.limit:.0f}" if self.ribbon.limit > 0 else ""
        spread = f"  spread {bar[5]:.0f}{limit} t" if bar[5] == bar[5] else ""
        pointer = f"  at {y:.{digits}f}" if y is not None else ""
        when = f"{at:%d %b %Y}" if self._span >= TIMEFRAMES["1d"] else f"{at:%d %b %H:%M}"
        told = (
            self.news.nearest(self.view, x, NEAR_PX / self.view.across) if x is not None else None
        )
        if told is not None:
            clock = fg.clock(told.time, self._appearance.zone, seconds=False)
            spread, pointer = pointer, f"  news {clock} {told.currency} {told.impact}: {told.title}"
        self._readout.setText(f"{when}  {prices}{spread}{pointer}")
        self._readout.setToolTip(
            plain_tip(f"{timeframe_name(self._span)} bar, bid prices in {of.quote}")
        )


def _levels(focus: Focus) -> tuple[int, ...]:
    return (focus.ref, focus.stop, *(mark.level for mark in focus.targets))
