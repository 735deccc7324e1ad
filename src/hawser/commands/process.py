"""How a command's process works: signals it hears at any moment, long work, and what it does
without."""

from __future__ import annotations

import gc
import os
import signal
import sys
import threading
from collections.abc import Callable, Iterator
from contextlib import contextmanager, suppress
from typing import TypeVar

from hawser.commands.parsing import DONE, REFUSED

Result = TypeVar("Result")


def cancellable() -> None:
    """From here on Ctrl+C or SIGTERM ends the process where it stands, with nothing half-written.
    An exception instead would go through whatever runs just then, and a library that loads machine
    code does not survive that."""
    from hawser.formats.atomic import discard

    def stop(*_: object) -> None:
        os.write(
            2,
            b"cancelled; all had been written\n"
            if discard()
            else b"cancelled; nothing was written\n",
        )
        os._exit(REFUSED)

    for number in (signal.SIGINT, signal.SIGTERM):
        signal.signal(number, stop)


def aside(work: Callable[[], Result]) -> Result:
    """Have long work done by another thread: compiled loops hear no signal, the thread that waits
    here does."""
    made: list[Result] = []
    wrong: list[BaseException] = []

    def run() -> None:
        try:
            made.append(work())
        except BaseException as error:  # raised again where somebody waits for it
            wrong.append(error)

    thread = threading.Thread(target=run, name="work", daemon=True)
    thread.start()
    thread.join()
    if wrong:
        raise wrong[0]
    return made[0]


def leavable() -> None:
    """Until the window is there to close, Ctrl+C or SIGTERM ends the process where it stands:
    nothing is open yet."""

    def leave(number: int, _: object) -> None:
        os._exit(DONE if number == signal.SIGINT else 128 + number)

    for number in (signal.SIGINT, signal.SIGTERM):
        signal.signal(number, leave)


@contextmanager
def uncollected() -> Iterator[None]:
    """Work done once, with large libraries loaded for it, and then the process ends: looking
    through all of it for garbage, while it loads and as it ends, would take a fifth of the time and
    free nothing."""
    gc.disable()
    try:
        yield
    finally:
        gc.freeze()
        gc.enable()


def interpret() -> None:
    """Run the rules interpreted in this process: the same source, without waiting for a compiler to
    load."""
    if "numba" not in sys.modules:
        os.environ["NUMBA_DISABLE_JIT"] = "1"


def say(sentence: str) -> None:
    """On standard error, which may be a file on a full disk: the exit status is right all the
    same."""
    with suppress(OSError):
        print(sentence, file=sys.stderr)
