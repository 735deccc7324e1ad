"""Unexpected errors: written with their trace to the state folder, told in one sentence. Nothing
secret is in them."""

from __future__ import annotations

import threading
import time
from functools import partial
from pathlib import Path

from hawser.service.timed_io import Patient

KEEP = 50


class Faults:
    """Writes each fault to a file of its own; remembers how many there were."""

    def __init__(self, folder: Path) -> None:
        self._folder, self._lock = folder / "faults", threading.Lock()
        self._disk = Patient("faults")  # who met the fault may be who tends
        self.count = 0

    def record(self, error: BaseException) -> str:
        """Write `error` down; returns the sentence to tell."""
        with self._lock:
            self.count += 1
            name = f"{time.strftime('%Y%m%d-%H%M%S')}-{self.count:03d}.txt"
            path = self._folder / name
            where = self._disk.ask(
                partial(self._written, path, error), "nowhere, the disk does not answer"
            )
        what = f"{type(error).__name__}: {str(error).splitlines()[0] if str(error) else ''}"
        sentence = f"Hawser met an unexpected error ({what}); tending goes on. Trace: {where}"
        return sentence.encode(errors="replace").decode()  # it goes to files and mail

    def _written(self, path: Path, error: BaseException) -> str:
        """Where the trace is, in words; whoever tells a fault must not meet another."""
        try:
            import traceback

            trace = "".join(traceback.format_exception(error))  # which reads the sources
            self._folder.mkdir(parents=True, exist_ok=True, mode=0o700)
            path.write_text(trace, encoding="utf-8", errors="backslashreplace")
            path.chmod(0o600)
            for old in sorted(self._folder.glob("*.txt"))[:-KEEP]:
                old.unlink()
        except Exception as problem:
            why = getattr(problem, "strerror", None) or type(problem).__name__
            return f"nowhere, the state folder cannot be written ({why})"
        return str(path)
