"""Starting the desktop: the window comes first, what is heavy follows on the engine's thread."""

from __future__ import annotations

import os
import signal
import sys
from collections.abc import Callable
from types import TracebackType

from PyQt6.QtCore import QTimer
from PyQt6.QtWidgets import QApplication

from hawser.desk.bridge import Bridge
from hawser.desk.look import Look
from hawser.desk.settings import Settings
from hawser.desk.theme.fonts import load_fonts
from hawser.desk.window import Window
from hawser.service.profile import Profile
from hawser.service.runtime import Boot, Runtime


def display_missing() -> bool:
    """Whether Qt has nowhere to show a window."""
    chosen = os.environ.get("QT_QPA_PLATFORM", "")
    return not (chosen or os.environ.get("DISPLAY") or os.environ.get("WAYLAND_DISPLAY"))


def application() -> QApplication:
    """The one QApplication, with Hawser's fonts."""
    app = QApplication.instance()
    if not isinstance(app, QApplication):
        app = QApplication(sys.argv[:1])
        app.setApplicationName("Hawser")
        app.setDesktopFileName("hawser")
        app.setStyle("Fusion")
        load_fonts()
    return app


def make_window(
    profile: Profile,
    boot: Callable[[Profile], Boot],
    title: str,
    speed: float = 1.0,
    running: bool = True,
    zone: str | None = None,
    theme: str | None = None,
) -> Window:
    """A window and its runtime, not yet started."""
    settings = Settings(profile.config / f"desk-{profile.name}.json")
    look = Look(theme or settings.kept.theme, zone)
    bridge = Bridge()
    runtime = Runtime(profile, boot, bridge.hooks(), speed, running)
    return Window(runtime, bridge, look, settings, title, speed)


def run(
    profile: Profile, boot: Callable[[Profile], Boot], title: str, speed: float = 1.0, zone: str | None = None
) -> int:
    """Open the desk and stay until it is closed."""
    app = application()
    window = make_window(profile, boot, title, speed, zone=zone)
    _catch_errors(window)
    window.show()
    # The engine starts once the window has been painted.
    QTimer.singleShot(0, window.runtime.start)
    for number in (signal.SIGINT, signal.SIGTERM):
        signal.signal(number, lambda *_: window.close())
    wake = QTimer()  # lets Python look at signals
    wake.timeout.connect(lambda: None)
    wake.start(200)
    return int(app.exec())


def _catch_errors(window: Window) -> None:
    """An unexpected error in the window is written down and told; the window and the tending go on."""

    def caught(kind: type[BaseException], error: BaseException, trace: TracebackType | None) -> None:
        if issubclass(kind, KeyboardInterrupt):
            window.close()
            return
        window.tell_fault(window.runtime.faults.record(error.with_traceback(trace)))

    sys.excepthook = caught
