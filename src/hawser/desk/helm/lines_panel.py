"""The lines of the Helm's chart, chosen in a panel that lies over it."""

from __future__ import annotations

from collections.abc import Callable

from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtGui import QKeyEvent
from PyQt6.QtWidgets import QHBoxLayout, QPushButton, QVBoxLayout, QWidget

from hawser.desk.common.overlay import Overlay
from hawser.desk.common.sentences import SentenceForm
from hawser.desk.common.words import Label
from hawser.desk.models.form_words import Words
from hawser.desk.models.lines_draft import EMPTY, SECTIONS, LinesDraft, words_of

WIDE, HIGH = 420, 360  # pixels, where there is room


class LinesForm(SentenceForm[LinesDraft]):
    """The lines as sentences."""

    def __init__(self, sources: Callable[[], tuple[str, ...]]) -> None:
        self._sources = sources
        super().__init__(SECTIONS, LinesDraft(EMPTY))

    def words_of(self, key: str, row: dict[str, str]) -> Words:
        return words_of(key, row, self._sources())

    def said(self) -> str:
        return self.draft.said


class LinesPanel(Overlay):
    """`changed` tells that other lines are wanted."""

    changed = pyqtSignal()

    def __init__(self, parent: QWidget, sources: Callable[[], tuple[str, ...]]) -> None:
        super().__init__(parent)
        self.form = LinesForm(sources)
        self.form.changed.connect(self.changed)
        self._title = Label()
        self._title.setProperty("role", "title")
        close = QPushButton("Close")
        close.clicked.connect(self.hide)
        self._wrong = Label()
        self._wrong.setProperty("role", "problem")
        self._wrong.setWordWrap(True)
        self._wrong.hide()
        foot = QHBoxLayout()
        foot.addStretch(1)
        foot.addWidget(close)
        box = QVBoxLayout(self)
        box.setContentsMargins(12, 8, 12, 8)
        box.addWidget(self._title)
        box.addWidget(self.form, 1)
        box.addWidget(self._wrong)
        box.addLayout(foot)
        self.hide()

    def open(self, title: str, draft: LinesDraft, over: QWidget) -> None:
        """Show what is drawn on `over`, in its lower left corner: the newest bars stay in sight."""
        parent = self.parentWidget()
        assert parent is not None
        self.show_of(title, draft)
        at = over.mapTo(parent, over.rect().bottomLeft())
        high = min(HIGH, over.height() - 8)
        wide = min(WIDE, over.width() - 8)
        self.setGeometry(at.x() + 4, at.y() - high - 4, wide, high)
        self.show()
        self.raise_()
        fields = list(self.form.parts["lines"].fields.values())
        (fields[0] if fields else self.form.parts["lines"].add_button).setFocus()

    def show_of(self, title: str, draft: LinesDraft) -> None:
        """What is drawn on one instrument."""
        self._title.setText(title)
        self.tell("")
        if draft is not self.form.draft:
            self.form.show_draft(draft)

    def tell(self, sentence: str) -> None:
        """What is wrong with what is to be drawn; empty: nothing."""
        self._wrong.setText(sentence)
        self._wrong.setVisible(bool(sentence))

    def keyPressEvent(self, event: QKeyEvent) -> None:
        if event.key() == Qt.Key.Key_Escape:
            self.hide()
        else:
            super().keyPressEvent(event)
