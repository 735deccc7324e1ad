"""Buttons for what must not happen by accident: one is held, one is pressed twice, and none by a
hand that twitches. No dialog."""

from __future__ import annotations

from PyQt6.QtCore import QElapsedTimer, QRectF, Qt, pyqtSignal
from PyQt6.QtGui import QFocusEvent, QKeyEvent, QMouseEvent, QPainter, QPaintEvent
from PyQt6.QtWidgets import QPushButton, QWidget

from hawser.desk.common.appearance import Appearance
from hawser.desk.common.timing import every, once
from hawser.desk.theme.fonts import font
from hawser.desk.theme.roles import give

HOLD_MS = 500
SURE_MS = 3000


class HoldButton(QPushButton):
    """Fires after being held for half a second, by mouse, space bar or a chord (`press` and
    `release`)."""

    fired = pyqtSignal()

    def __init__(self, text: str, appearance: Appearance, parent: QWidget | None = None) -> None:
        super().__init__(text, parent)
        self._appearance, self._held = appearance, QElapsedTimer()
        self._timer = every(self, 16, self._tick)
        self._down = False
        self.setMinimumSize(132, 32)
        self.setAutoRepeat(False)

    def press(self) -> None:
        if not self._down:
            self._down = True
            self._held.start()
            self._timer.start()

    def release(self) -> None:
        self._down = False
        self._timer.stop()
        self.update()

    def _tick(self) -> None:
        if self._down and self._held.elapsed() >= HOLD_MS:
            self.release()
            self.fired.emit()
        self.update()

    def mousePressEvent(self, event: QMouseEvent) -> None:
        if event.button() == Qt.MouseButton.LeftButton:
            self.press()

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        self.release()

    def leaveEvent(self, event) -> None:  # type: ignore[no-untyped-def]  # QEvent
        self.release()
        super().leaveEvent(event)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        if event.key() == Qt.Key.Key_Space and not event.isAutoRepeat():
            self.press()
        else:
            super().keyPressEvent(event)

    def keyReleaseEvent(self, event: QKeyEvent) -> None:
        if event.key() == Qt.Key.Key_Space and not event.isAutoRepeat():
            self.release()
        else:
            super().keyReleaseEvent(event)

    def focusOutEvent(self, event: QFocusEvent) -> None:
        self.release()  # the key may be let go where nobody hears it
        super().focusOutEvent(event)

    def paintEvent(self, event: QPaintEvent) -> None:
        p = self._appearance.palette
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        box = QRectF(self.rect()).adjusted(0.5, 0.5, -0.5, -0.5)
        painter.setPen(p.color("ink" if self.hasFocus() else "caution"))
        painter.setBrush(p.color("caution"))
        painter.drawRoundedRect(box, 3, 3)
        if self._down:
            part = min(1.0, self._held.elapsed() / HOLD_MS)
            painter.fillRect(
                QRectF(4, box.bottom() - 5, (box.width() - 8) * part, 3), p.color("on_caution")
            )
        painter.setPen(p.color("on_caution"))
        painter.setFont(font(12, bold=True))
        text = "keep holding \u2026" if self._down else self.text()
        painter.drawText(box, Qt.AlignmentFlag.AlignCenter, text)
        painter.end()


class OnceButton(QPushButton):
    """A double click is one press: what it does would be done twice."""

    def mouseDoubleClickEvent(self, event: QMouseEvent | None) -> None:
        if event is not None:
            event.accept()


class SureButton(OnceButton):
    """The first press says in figures what would happen; a second within three seconds does it."""

    sure = pyqtSignal()
    asked = pyqtSignal(bool)

    def __init__(self, text: str, parent: QWidget | None = None) -> None:
        super().__init__(text, parent)
        self._plain, self._asking = text, False
        self._meaning: object = None
        self._timer = once(self, SURE_MS, self.calm)
        self.consequence = "Sure?"
        self.clicked.connect(self._clicked)

    def _clicked(self) -> None:
        if self._asking:
            self.calm()
            self.sure.emit()
            return
        self._asking = True
        self.setText(self.consequence)
        give(self, "role", "sure")
        self._timer.start()
        self.asked.emit(True)

    @property
    def calm_text(self) -> str:
        """What the plain button says."""
        return self._plain

    def name(self, text: str) -> None:
        """Another text for the plain button."""
        self._plain = text
        if not self._asking and self.text() != text:
            self.setText(text)

    def means(self, meaning: object) -> None:
        """What a press is about: where that has become another, the first press does not count for
        it."""
        if meaning != self._meaning:
            self._meaning = meaning
            self.calm()

    def calm(self) -> None:
        """Back to the plain button."""
        self._timer.stop()
        if self._asking:
            self._asking = False
            self.setText(self._plain)
            give(self, "role", "")
            self.asked.emit(False)
