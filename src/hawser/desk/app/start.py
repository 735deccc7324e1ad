"""Starting the desktop: the window comes first, what is heavy follows on the engine's thread."""

from __future__ import annotations

import contextlib
import gc
import os
import signal
import sys
from collections.abc import Callable, Iterator, Sequence
from functools import cache, partial
from types import TracebackType
from typing import NoReturn

from PyQt6.QtCore import QProcess, QTimer
from PyQt6.QtWidgets import QApplication

from hawser.desk.app.commands import Commands
from hawser.desk.app.window import Window
from hawser.desk.common.appearance import Appearance
from hawser.desk.common.bridge import Bridge
from hawser.desk.common.timing import every
from hawser.desk.models.settings import Settings
from hawser.desk.theme.fonts import font, load_fonts
from hawser.service.profiles.profile import Profile
from hawser.service.profiles.rigs import RigShelf
from hawser.service.profiles.sources import SourceShelf
from hawser.service.runtime.hooks import Boot
from hawser.service.runtime.preparing import prepared
from hawser.service.runtime.runtime import Runtime
from hawser.venue.clock import uptime

LOOK_MS = 100  # between looks whether a signal has come: Python sees none while Qt waits
HELP_MS, PIECE_MS = 3000, 50  # after the engines were started; between two pieces of the help


def display_missing() -> bool:
    """Whether Qt has nowhere to show a window."""
    chosen = os.environ.get("QT_QPA_PLATFORM", "")
    return not (chosen or os.environ.get("DISPLAY") or os.environ.get("WAYLAND_DISPLAY"))


@cache
def application() -> QApplication:
    """The one QApplication, with Hawser's fonts; kept, for Qt ends with the last that holds it."""
    app = QApplication.instance()
    if not isinstance(app, QApplication):
        # Named here, for `setStyle` gives a `QStyle`, and PyQt makes 564 members of its kinds then.
        app = QApplication([*sys.argv[:1], "-style", "Fusion"])
        app.setApplicationName("Hawser")
        app.setDesktopFileName("hawser")
        load_fonts()
        app.setFont(font(12))
    return app


# an account's name, where it is kept, how it is opened
Start = tuple[str, Profile, Callable[[Profile], Boot]]


def make_window(
    profile: Profile,
    boot: Callable[[Profile], Boot],
    title: str,
    speed: float = 1.0,
    running: bool = True,
    zone: str | None = None,
    theme: str | None = None,
    more: tuple[Start, ...] = (),
    name: str = "first",
    real: Callable[[], int] = uptime,
) -> Window:
    """A window and its runtimes, not yet started; `more` accounts beside the first, each with a
    runtime of its own. `real`: counts real time for their clocks.
    """
    settings = Settings(profile.config / f"desk-{profile.name}.json")
    appearance = Appearance(theme or settings.kept.theme, zone)
    accounts = []
    for one, where, make in ((name, profile, boot), *more):
        bridge = Bridge()
        accounts.append(
            (
                one,
                Runtime(
                    profile=where,
                    boot=make,
                    hooks=bridge.hooks(),
                    speed=speed,
                    running=running,
                    real=real,
                ),
                bridge,
            )
        )
    window = Window(
        accounts=accounts,
        appearance=appearance,
        settings=settings,
        title=title,
        speed=speed,
        shelf=RigShelf(profile.config / "rigs"),
        sources=SourceShelf(profile.config / "sources"),
    )
    commands = Commands(window)
    window.commands, window.help_for = commands.all, commands.help_for
    return window


def run(
    profile: Profile,
    boot: Callable[[Profile], Boot],
    title: str,
    speed: float = 1.0,
    zone: str | None = None,
    more: tuple[Start, ...] = (),
    name: str = "first",
    first_steps: bool = False,
) -> NoReturn:
    """Open the desk and stay until it is closed; the process ends with it. `first_steps`: lead to a
    first trade, where nobody has been led before."""
    app = application()
    window = make_window(profile, boot, title, speed, zone=zone, more=more, name=name)
    _catch_errors(window)
    window.dropped.connect(partial(open_beside, window))
    if first_steps:
        window.offer_first_steps()
    window.show()
    QTimer.singleShot(0, gc.enable)  # `commands/desktop.py` has held it off so far
    QTimer.singleShot(0, partial(_begin, window, _pieces(window)))
    leave_on_signals(window)
    _leave(int(app.exec()))


def open_beside(window: Window, paths: Sequence[str]) -> None:
    """Files that were dropped on the window, in a Hawser of their own: this one goes on as it
    is."""
    folders = sys.argv[1:]  # where data lies, if it was told
    at = folders.index("--profile-root") if "--profile-root" in folders else len(folders)
    words = ["-m", "hawser", *folders[at : at + 2], "--import", *paths]
    if not QProcess.startDetached(sys.executable, words)[0]:
        window.tell_fault("Another Hawser cannot be started for the file that was dropped")


def _pieces(window: Window) -> Iterator[None]:
    """What is still to be done before the engines start, each a few milliseconds."""
    window.style()  # the first `QStyle` that Python sees has PyQt make all members of its kinds
    yield
    yield from window.shelf.reading()
    yield from prepared()


def _begin(window: Window, pieces: Iterator[None]) -> None:
    """Once the window has been painted: read the rigs and load what the engines need, one piece in
    each turn of Qt's, start them, and load the stations that are not shown."""
    for _ in pieces:
        QTimer.singleShot(0, partial(_begin, window, pieces))
        return
    window.take_rigs()
    for account_desk in window.account_desks:
        account_desk.runtime.start()
    QTimer.singleShot(0, window.stack.load_rest)
    QTimer.singleShot(HELP_MS, partial(_learn, window))


def _learn(window: Window, pieces: Iterator[None] | None = None) -> None:
    """In quiet moments: what the help is made of, so that its first search answers at once."""
    if pieces is None:
        from hawser.desk.models.topics.search import prepared as pages

        pieces = pages()
    for _ in pieces:
        QTimer.singleShot(PIECE_MS, partial(_learn, window, pieces))
        return


def leave_on_signals(window: Window) -> None:
    """Close when a signal says so: between two events, never in the middle of what it came into,
    which would stay half done while the window waits for its threads."""
    told: list[int] = []  # nothing that locks: a second signal may come while the first is noted
    for number in (signal.SIGINT, signal.SIGTERM):
        signal.signal(number, lambda number, _: told.append(number))
    every(window, LOOK_MS, lambda: window.leave() if told else None).start()


def _leave(status: int) -> NoReturn:
    """End here, with everything written down. Threads may still load a compiler or wait for a
    network, and an interpreter that takes itself apart under them ends in a fault of memory.
    """
    for stream in (sys.stdout, sys.stderr):
        # files on a full disk, or closed before we began
        with contextlib.suppress(OSError, AttributeError):
            stream.flush()
    os._exit(status)


def _catch_errors(window: Window) -> None:
    """An unexpected error in the window is written down and told; the window and the tending go
    on."""

    def caught(
        kind: type[BaseException], error: BaseException, trace: TracebackType | None
    ) -> None:
        if issubclass(kind, KeyboardInterrupt):
            window.close()
            return
        window.tell_fault(window.runtime.faults.record(error.with_traceback(trace)))

    sys.excepthook = caught
