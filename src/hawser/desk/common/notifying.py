"""Alerts that the window makes: a sound, and a notification of the desktop (freedesktop, over
D-Bus). Never waits."""

from __future__ import annotations

from html import escape

from PyQt6.QtCore import QMetaType
from PyQt6.QtDBus import QDBusArgument, QDBusConnection, QDBusMessage
from PyQt6.QtWidgets import QApplication

from hawser.core.errors import Unavailable

SERVICE, PLACE = "org.freedesktop.Notifications", "/org/freedesktop/Notifications"
STAYS_MS, URGENT = 10_000, 2


def sound() -> None:
    """The desktop's own bell."""
    QApplication.beep()


def body(text: str) -> str:
    """A text as the body of a notification, which is markup."""
    return escape(text, quote=False)


def message(title: str, text: str, urgent: bool) -> QDBusMessage:
    """The call that shows a notification, as the freedesktop specification has it."""
    call = QDBusMessage.createMethodCall(SERVICE, PLACE, SERVICE, "Notify")
    replaces, none = QDBusArgument(), QDBusArgument()
    # an int, which the stubs call a Type
    replaces.add(0, QMetaType.Type.UInt.value)  # type: ignore[arg-type]
    none.beginArray(QMetaType(QMetaType.Type.QString.value))  # type: ignore[call-overload]
    none.endArray()
    hints = {"desktop-entry": "hawser", "urgency": _byte(URGENT if urgent else 1)}
    call.setArguments(
        ["Hawser", replaces, "hawser", title, body(text), none, hints, 0 if urgent else STAYS_MS]
    )
    return call


def _byte(value: int) -> QDBusArgument:
    found = QDBusArgument()
    found.add(value, QMetaType.Type.UChar.value)  # type: ignore[arg-type]
    return found


def notify(title: str, text: str, urgent: bool = False) -> None:
    """Show it; raises Unavailable where no desktop is there to."""
    bus = QDBusConnection.sessionBus()
    if not bus.isConnected():
        raise Unavailable("no_notifications", "this desktop has no notification service")
    bus.asyncCall(message(title, text, urgent))
