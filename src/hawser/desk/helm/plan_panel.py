"""The plan: side, risk, stop, targets, trail as typed; the reckoning step by step; and the button
that places it."""

from __future__ import annotations

import msgspec
from PyQt6.QtCore import QPointF, QSize, Qt, pyqtSignal
from PyQt6.QtGui import QPainter, QPaintEvent, QPolygonF
from PyQt6.QtWidgets import (
    QButtonGroup,
    QCheckBox,
    QFrame,
    QGridLayout,
    QHBoxLayout,
    QLabel,
    QLineEdit,
    QPushButton,
    QScrollArea,
    QSizePolicy,
    QStackedWidget,
    QVBoxLayout,
    QWidget,
)

from hawser.core.derivation import AT_RISK, DerivationStep, derivation
from hawser.core.rig import Rig, sentence
from hawser.desk.common.appearance import Appearance
from hawser.desk.common.buttons import OnceButton
from hawser.desk.common.choice import Choice
from hawser.desk.common.explained import explain, topic
from hawser.desk.common.scrolled import Scrolled
from hawser.desk.common.words import Label, plain_tip
from hawser.desk.helm.plan_names import PlanNames
from hawser.desk.helm.what_if_curve import WhatIf
from hawser.desk.models import figures as fg
from hawser.desk.models.planning import TARGETS, Draft, Planning, with_rig
from hawser.desk.theme.roles import give
from hawser.service.views.snapshot import Snapshot

MARGIN = 12
MOST_STEPS = 99  # of a reckoning
LEAST_FIELDS = 170  # px: from the rig to the first target; the others are scrolled to
LEAST_PAGE = 26  # px: a line of the reckoning, where notices and reasons need the room
NO_RIG = "none: the lines below"


class SideButton(QPushButton):
    """Long or short: a word and a drawn triangle."""

    def __init__(self, side: int, appearance: Appearance) -> None:
        super().__init__(fg.side_word(side).capitalize())
        self._side, self._appearance = side, appearance
        self.setCheckable(True)
        self.setMinimumHeight(32)
        explain(self, "side")

    def paintEvent(self, event: QPaintEvent) -> None:
        super().paintEvent(event)
        p, painter = self._appearance.palette, QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(p.color("on_ink" if self.isChecked() else "ink"))
        middle = QPointF(self.width() / 2 - 32, self.height() / 2)
        tip = -5 * self._side
        shape = [QPointF(-5, -tip), QPointF(5, -tip), QPointF(0, tip)]
        painter.drawPolygon(QPolygonF([middle + point for point in shape]))
        painter.end()


class Reckoning(QWidget):
    """The steps of the size, label left and figure right."""

    def __init__(self) -> None:
        super().__init__()
        self._grid = QGridLayout(self)
        self._grid.setContentsMargins(0, 0, 6, 0)
        self._grid.setVerticalSpacing(2)
        self._grid.setHorizontalSpacing(6)
        self._grid.setColumnStretch(0, 1)
        self._grid.setRowStretch(MOST_STEPS, 1)  # steps stay together where there is more room
        self._rows: list[tuple[Label, Label]] = []

    def show_steps(self, steps: tuple[DerivationStep, ...]) -> None:
        while len(self._rows) < len(steps):
            label, figure = Label(), Label()
            label.setProperty("role", "small-second")
            label.setWordWrap(True)
            label.setAlignment(Qt.AlignmentFlag.AlignTop)
            figure.setProperty("role", "small")
            figure.setAlignment(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignTop)
            row = len(self._rows)
            self._grid.addWidget(label, row, 0)
            self._grid.addWidget(figure, row, 1)
            self._rows.append((label, figure))
        for number, (label, figure) in enumerate(self._rows):
            shown = number < len(steps)
            label.setVisible(shown)
            figure.setVisible(shown)
            if shown:
                step = steps[number]
                if label.text() != step.label:
                    label.setText(step.label)
                    for part in (label, figure):
                        part.setToolTip("")
                        explain(part, f"step_{step.code}")
                text = step.figure.replace(" ", fg.GROUP)
                if figure.text() != text:
                    figure.setText(text)


class Also(QWidget):
    """The other accounts that a plan may be placed on too, each with what it comes to there."""

    def __init__(self) -> None:
        super().__init__()
        self._box = QVBoxLayout(self)
        self._box.setContentsMargins(0, 0, 0, 0)
        self._box.setSpacing(2)
        self.boxes: dict[str, QCheckBox] = {}
        self.hide()

    def set_names(self, names: list[str]) -> None:
        for name in names:
            box = QCheckBox(f"also on {name}")
            explain(box, "also")
            self.boxes[name] = box
            self._box.addWidget(box)
        self.setVisible(bool(names))

    def show_sizes(self, sizes: dict[str, str]) -> None:
        for name, words in sizes.items():
            text = f"also on {name}: {words}" if words else f"also on {name}"
            if self.boxes[name].text() != text:
                self.boxes[name].setText(text)

    def wanted(self) -> list[str]:
        return [name for name, box in self.boxes.items() if box.isChecked()]


class PlanPanel(QFrame):
    """Holds a Planning; says when what is typed changes and when it is to be placed."""

    changed = pyqtSignal()
    place = pyqtSignal()
    focused = pyqtSignal()

    def __init__(self, appearance: Appearance) -> None:
        super().__init__()
        self.setObjectName("panel")
        self._appearance, self.planning = appearance, Planning()
        self._fields: dict[str, QLineEdit] = {}
        self._rows: dict[str, list[QWidget]] = {}
        self._problems: dict[str, QLabel] = {}  # what is wrong with a field, told under it
        self._unlocked = ""  # the size as it was typed before the quantity was locked
        self._make_sides()
        form = self._make_form()
        self.trouble = Label()
        self.trouble.setProperty("role", "caution")
        self.trouble.setWordWrap(True)
        self.trouble.hide()
        self.names = PlanNames()
        self.names.applied.connect(self.take)
        self.names.save_asked.connect(lambda name: self.names.save(name, self._typed()))
        heading, amount = self._make_pages(), self._make_amount()
        box = QVBoxLayout(self)
        box.setContentsMargins(MARGIN, 8, MARGIN, 12)
        box.setSpacing(6)
        box.addWidget(self.names)
        box.addLayout(self._sides)
        fields = QVBoxLayout()
        fields.setSpacing(6)
        fields.addLayout(self._make_rig())
        fields.addLayout(form)
        self._scrolled = Scrolled(fields, LEAST_FIELDS)
        box.addWidget(self._scrolled)
        box.addLayout(heading)
        box.addWidget(self.pages, 1)
        box.addWidget(self.trouble)
        self.also = Also()
        box.addWidget(self.also)
        box.addLayout(amount)
        box.addWidget(self.button)

    def sizeHint(self) -> QSize:
        return QSize(288, 500)

    def _make_amount(self) -> QHBoxLayout:
        """What is at risk and how much of it, large, and the button that places it."""
        self.at_risk, self.qty, self.units = Label(), Label(fg.NONE), Label("units")
        amount = QHBoxLayout()
        for label, role in ((self.at_risk, "strong"), (self.qty, "big"), (self.units, "second")):
            label.setProperty("role", role)
        amount.addWidget(self.at_risk)
        amount.addStretch(1)
        amount.addWidget(self.qty)
        amount.addWidget(self.units, 0, Qt.AlignmentFlag.AlignBottom)
        self.button = OnceButton("Place")
        self.button.setProperty("role", "place")
        explain(self.button, "place")
        for label in (self.at_risk, self.qty, self.units):
            explain(label, "quantity")
        self.button.clicked.connect(self.place)
        self.button.setEnabled(False)
        return amount

    def _make_pages(self) -> QHBoxLayout:
        """The reckoning and the what-if curve share one place."""
        self.pages, self.reckoning, self.what_if = (
            QStackedWidget(),
            Reckoning(),
            WhatIf(self._appearance),
        )
        self.what_if.stop_moved.connect(lambda price: self.take(self.planning.with_stop_at(price)))
        self.what_if.locked.connect(self._lock)
        scroll = QScrollArea()
        scroll.setWidget(self.reckoning)
        scroll.setWidgetResizable(True)
        scroll.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        scroll.setSizePolicy(QSizePolicy.Policy.Preferred, QSizePolicy.Policy.Expanding)
        heading, group = QHBoxLayout(), QButtonGroup(self)
        heading.setContentsMargins(0, 0, 0, 0)
        self.pages.setMinimumHeight(LEAST_PAGE)
        # what the fields leave
        self.pages.setSizePolicy(QSizePolicy.Policy.Preferred, QSizePolicy.Policy.Ignored)
        for number, (name, page) in enumerate((("Reckoning", scroll), ("What if", self.what_if))):
            self.pages.addWidget(page)
            button = QPushButton(name)
            button.setCheckable(True)
            button.setChecked(number == 0)
            button.setProperty("role", "flat")
            explain(button, ("quantity", "what_if")[number])
            button.clicked.connect(lambda _, number=number: self.show_page(number))
            group.addButton(button, number)
            heading.addWidget(button)
        heading.addStretch(1)
        self._page_buttons = group
        return heading

    def show_page(self, number: int) -> None:
        """0: the reckoning; 1: what if."""
        self.pages.setCurrentIndex(number)
        self.pages.setMinimumHeight(
            self.what_if.minimumSizeHint().height() if number else LEAST_PAGE
        )
        button = self._page_buttons.button(number)
        assert button is not None
        button.setChecked(True)
        if number:
            self.what_if.curve.show_sizing(self.planning.request, self.planning.sizing)

    def _lock(self, quantity: bool) -> None:
        """Lock the quantity: it is typed into the size; the risk that stood there comes back when
        it is let go."""
        planning, sizing = self.planning, self.planning.sizing
        if quantity and sizing is not None and planning.request is not None:
            self._unlocked = planning.draft.risk
            risk = f"{planning.request.instrument.qty(sizing.steps)} units"
        elif not quantity and self._unlocked:
            risk, self._unlocked = self._unlocked, ""
        else:
            return
        self._take(msgspec.structs.replace(self._typed(), risk=risk))

    def _make_sides(self) -> None:
        self._sides = QHBoxLayout()
        self.long, self.short = SideButton(1, self._appearance), SideButton(-1, self._appearance)
        self.long.setChecked(True)
        self.long.clicked.connect(lambda: self.set_side(1))
        self.short.clicked.connect(lambda: self.set_side(-1))
        self._sides.addWidget(self.long)
        self._sides.addWidget(self.short)

    def _make_rig(self) -> QGridLayout:
        """Which rig tends the trade; it lays its stop, targets and trail into the fields below."""
        self.rig = Choice()
        self.rig.setAccessibleName("Rig")
        self.rig.addItem(NO_RIG)
        self.rig.activated.connect(self._rig_chosen)
        self._rig_told = Label()
        self._rig_told.setProperty("role", "problem")
        self._rig_told.setWordWrap(True)
        self._rig_told.hide()
        label = Label("Rig")
        label.setBuddy(self.rig)
        explain(label, "rig")
        explain(self.rig, "rig", tip=False)
        grid = QGridLayout()
        grid.setHorizontalSpacing(6)
        grid.setVerticalSpacing(2)
        grid.addWidget(label, 0, 0)
        grid.addWidget(self.rig, 0, 1)
        grid.addWidget(self._rig_told, 1, 0, 1, 2)
        grid.setColumnStretch(1, 1)
        return grid

    def set_rigs(self, rigs: dict[str, Rig]) -> None:
        """The rigs there are now; a plan with one of them follows its changes."""
        self.planning.rigs = rigs
        chosen = self.planning.draft.rig
        self.rig.blockSignals(True)
        self.rig.clear()
        self.rig.addItem(NO_RIG)
        for name in sorted(rigs):
            self.rig.addItem(name)
            self.rig.setItemData(
                self.rig.count() - 1, plain_tip(sentence(rigs[name])), Qt.ItemDataRole.ToolTipRole
            )
        self.rig.blockSignals(False)
        self._show_rig(chosen)
        self.planning.change(self.planning.draft)
        self._changed()

    def _show_rig(self, name: str) -> None:
        if name and self.rig.findText(name) < 0:
            self.rig.addItem(name)  # deleted since: it stays shown, and is told as an error
        self.rig.setCurrentText(name or NO_RIG)
        rig = self.planning.rigs.get(name)
        self.rig.setToolTip(
            plain_tip(sentence(rig))
            if rig is not None
            else "Only the stop, targets and trail below tend the trade"
        )

    def _rig_chosen(self, index: int) -> None:
        self.take_rig(self.planning.rigs.get(self.rig.itemText(index)) if index else None)

    def take_rig(self, rig: Rig | None) -> None:
        """Plan with a rig, or with none; where a ladder goes, the plan has a stop of its own
        again."""
        draft = with_rig(self._typed(), rig, self.planning.currency)
        if rig is None and self.planning.ladder is not None:
            draft = msgspec.structs.replace(draft, stop=Draft().stop)
        self._take(draft)

    def _make_form(self) -> QGridLayout:
        form = QGridLayout()
        form.setVerticalSpacing(3)
        form.setHorizontalSpacing(6)
        form.setColumnStretch(0, 1)
        rows = [
            ("Entry", ["entry"]),
            ("waits until", ["good"]),
            ("Size", ["risk"]),
            ("Stop", ["stop"]),
        ]
        rows += [(f"Target {n}, takes", [f"target{n}", f"share{n}"]) for n in range(1, TARGETS + 1)]
        rows += [("Trail", ["trail"]), ("Held lines, backstop", ["held"])]
        for row, (caption, names) in enumerate(rows):
            self._add_row(form, row, caption, names)
        self.field("entry").setMinimumWidth(136)
        self.field("held").setPlaceholderText("at the venue")
        self.anchor = QPushButton()
        self.anchor.setCheckable(True)
        explain(self.anchor, "anchor")
        self.anchor.clicked.connect(self._edited)
        self.more = QPushButton("More")
        self.more.setCheckable(True)
        self.more.setProperty("role", "flat")
        self.more.setAccessibleName("More: held lines, levels after a fill at another price")
        self.more.toggled.connect(self._show_rows)
        explain(self.more, "more_fields")
        form.addWidget(self.more, 2 * len(rows), 0)
        form.addWidget(self.anchor, 2 * len(rows), 1, 1, 2)
        return form

    def _show_rows(self) -> None:
        """Only rows that say something: the next free target, the wait of an entry that waits, more
        where asked."""
        typed = [self._fields[f"target{n}"].text().strip() for n in range(1, TARGETS + 1)]
        used = max((n for n, text in enumerate(typed, start=1) if text), default=0)
        plain = self.planning.ladder is None  # which brings its stop and target, and has no trail
        for name in ("stop", "trail"):
            self._row_shown(name, plain or bool(self._fields[name].text()))
        self._row_shown("good", self._fields["entry"].text().strip().lower() not in ("", "market"))
        for number in range(1, TARGETS + 1):
            self._row_shown(f"target{number}", number <= (max(used + 1, 2) if plain else used))
        more = self.more.isChecked()
        self._row_shown("held", more)
        self.anchor.setVisible(more)
        fill = self.anchor.isChecked()
        self.anchor.setText(
            "fill off: move lines along" if fill else "fill off: keep planned levels"
        )
        held, lines = self._fields["held"].text().strip(), "lines at the venue"
        self.more.setText(
            "Less" if more else f"More: {f'held, backstop {held}' if held else lines}"
        )

    def _row_shown(self, name: str, shown: bool) -> None:
        for widget in self._rows[name]:
            widget.setVisible(shown and (not isinstance(widget, QLabel) or bool(widget.text())))

    def _add_row(self, form: QGridLayout, row: int, caption: str, names: list[str]) -> None:
        label = Label(caption)
        form.addWidget(label, 2 * row, 0)
        problem = Label()
        problem.setProperty("role", "problem")
        problem.setWordWrap(True)
        problem.hide()
        form.addWidget(problem, 2 * row + 1, 0, 1, 3)
        for column, name in enumerate(names, start=1):
            field = QLineEdit()
            field.setAlignment(Qt.AlignmentFlag.AlignRight)
            field.setAccessibleName(caption if column == 1 else f"Share of target {name[-1]}")
            explain(field, name.rstrip("12345"))
            field.setMinimumWidth(52)
            field.textEdited.connect(self._edited)
            field.installEventFilter(self)
            form.addWidget(field, 2 * row, column, 1, 1 if len(names) == 2 else 2)
            self._fields[name], self._problems[name] = field, problem
        self._rows[names[0]] = [label, problem, *(self._fields[name] for name in names)]
        label.setBuddy(self._fields[names[0]])
        explain(label, names[0].rstrip("12345"))

    # QObject, QEvent
    def eventFilter(self, watched, event) -> bool:  # type: ignore[no-untyped-def]
        if event.type() == event.Type.FocusIn:
            self.planning.unseen = ""
            self._scrolled.ensureWidgetVisible(watched, 0, 4)  # also where no Tab key has led to it
            self.focused.emit()
        return bool(super().eventFilter(watched, event))

    # The draft

    def field(self, name: str) -> QLineEdit:
        return self._fields[name]

    def set_instrument(self, symbol: str, span: int, draft: Draft | None) -> None:
        """Another instrument or timeframe: its last plan comes back."""
        self.planning.symbol, self.planning.span = symbol, span
        self._show_draft(draft or self.planning.draft)
        self._changed()

    def set_side(self, side: int) -> None:
        self.planning.unseen = ""
        self._take(msgspec.structs.replace(self._typed(), side=side))

    def take(self, draft: Draft) -> None:
        """A draft changed by dragging."""
        self._take(draft)

    def _take(self, draft: Draft) -> None:
        self._show_draft(draft)
        self._changed()

    def _show_draft(self, draft: Draft) -> None:
        texts = {
            "risk": draft.risk,
            "stop": draft.stop,
            "trail": draft.trail,
            "entry": draft.entry,
            "good": draft.good,
            "held": draft.held,
        }
        self.anchor.setChecked(draft.anchor == "fill")
        self._show_rig(draft.rig)
        for number, (level, share) in enumerate(draft.rows(), start=1):
            texts |= {f"target{number}": level, f"share{number}": share}
        for name, text in texts.items():
            if self._fields[name].text() != text:
                self._fields[name].setText(text)
        self.long.setChecked(draft.side > 0)
        self.short.setChecked(draft.side < 0)
        self.planning.change(draft)

    def _typed(self) -> Draft:
        rows = tuple(
            (self._fields[f"target{n}"].text(), self._fields[f"share{n}"].text())
            for n in range(1, TARGETS + 1)
        )
        text = {name: field.text() for name, field in self._fields.items()}
        return Draft(
            side=1 if self.long.isChecked() else -1,
            risk=text["risk"],
            stop=text["stop"],
            targets=rows,
            trail=text["trail"],
            entry=text["entry"],
            good=text["good"],
            held=text["held"],
            anchor="fill" if self.anchor.isChecked() else "planned",
            rig="" if self.rig.currentText() == NO_RIG else self.rig.currentText(),
        )

    def _edited(self) -> None:
        self.planning.change(self._typed())
        self._changed()

    def _changed(self) -> None:
        for name, field in self._fields.items():
            give(field, "bad", name in self.planning.errors)
            help_text = topic(name.rstrip("12345")).tip
            field.setToolTip(plain_tip(self.planning.errors.get(name, help_text)))
        self._show_rows()
        told: dict[QLabel, str] = {self._rig_told: self.planning.errors.get("rig", "")}
        for name, problem in self._problems.items():
            told[problem] = told.get(problem, "") or self.planning.errors.get(name, "")
        for problem, text in told.items():
            problem.setText(text)
            problem.setVisible(bool(text))
            if text:  # the grid alone would give a wrapped line too little height
                problem.setFixedHeight(problem.heightForWidth(self.width() - 2 * MARGIN))
        self.changed.emit()

    # The answer

    def _button_text(self, word: str, qty: str) -> str:
        more = len(self.also.wanted())
        beside = f", and on {more} more" if more else ""
        return self._what_is_placed(word, qty) + beside

    def _what_is_placed(self, word: str, qty: str) -> str:
        planning, request = self.planning, self.planning.request
        rungs = (
            len(planning.sizing.rungs) - 1
            if planning.sizing is not None and planning.sizing.rungs
            else 0
        )
        qty += f" + {fg.counted(rungs, 'rung')}" if rungs else ""
        if planning.straddle is not None:
            return f"Place straddle {planning.symbol}, {planning.straddle:g} ATR away"
        if planning.waits and request is not None:
            return (
                f"Place {word} {qty} {planning.symbol}, {planning.waits} "
                f"{request.instrument.price(request.ref)}"
            )
        return f"Place {word} {qty} {planning.symbol} at market"

    def show_snapshot(self, snapshot: Snapshot) -> None:
        """Size the plan against this moment and show how it came about."""
        planning = self.planning
        planning.reckon(snapshot)
        sizing, request = planning.sizing, planning.request
        trouble = planning.trouble(snapshot.time)
        if self.trouble.text() != trouble:
            self.trouble.setText(trouble)
            self.trouble.setVisible(bool(trouble))
            self.trouble.setToolTip(
                plain_tip("\n".join(fg.reason(one, snapshot.time) for one in planning.closed))
            )
        self.button.setEnabled(planning.may_be_placed)
        word = fg.side_word(planning.draft.side)
        if self.pages.currentIndex() == 1:
            fixed = planning.plan is not None and planning.plan.size.method == "fixed"
            self.what_if.show_lock(fixed)
            self.what_if.curve.show_sizing(request, sizing)
        if sizing is None or request is None:
            self.qty.setText(fg.NONE)
            self.units.setText("units")
            self.at_risk.setText("")
            self.button.setText(f"Place {word} {planning.symbol}")
            self.reckoning.show_steps(())
            return
        qty = request.instrument.qty(sizing.steps)
        self.qty.setText(qty)
        self.units.setText(
            f"of {request.instrument.qty(sizing.whole_steps)} units" if sizing.rungs else "units"
        )
        cur = snapshot.currency
        whole = f"at risk with all {len(sizing.rungs)} rungs" if sizing.rungs else "at risk"
        self.at_risk.setText(
            f"{fg.money(sizing.risk_money, cur)} = {fg.percent(sizing.risk_percent, 3)}\n{whole}"
        )
        self.button.setText(self._button_text(word, qty))
        steps = [
            step for step in derivation(request, sizing) if step.code != AT_RISK
        ]  # told large, below
        for target in sizing.targets:
            if target.number in sizing.merged:
                steps.append(
                    DerivationStep(f"target {target.number}", "merged into the next", "target")
                )
            elif target.steps:
                part = request.instrument.qty(target.steps)
                level = request.instrument.price(target.level)
                steps.append(
                    DerivationStep(
                        f"target {target.number}, {part} at {level}",
                        fg.money(target.money, cur, sign=True),
                        "target",
                    )
                )
        self.reckoning.show_steps(tuple(steps))
