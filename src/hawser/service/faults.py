"""Unexpected errors: written with their trace to the state folder, told in one sentence. Nothing secret is in them."""

from __future__ import annotations

import threading
import time
import traceback
from pathlib import Path

KEEP = 50


class Faults:
    """Writes each fault to a file of its own; remembers how many there were."""

    def __init__(self, folder: Path) -> None:
        self._folder, self._lock = folder / "faults", threading.Lock()
        self.count = 0

    def record(self, error: BaseException) -> str:
        """Write `error` down; returns the sentence to tell."""
        with self._lock:
            self.count += 1
            name = f"{time.strftime('%Y%m%d-%H%M%S')}-{self.count:03d}.txt"
            path = self._folder / name
            try:
                self._folder.mkdir(parents=True, exist_ok=True, mode=0o700)
                trace = "".join(traceback.format_exception(error))
                path.write_text(trace, encoding="utf-8", errors="backslashreplace")
                path.chmod(0o600)
                for old in sorted(self._folder.glob("*.txt"))[:-KEEP]:
                    old.unlink()
                where = str(path)
            except Exception as problem:  # whoever tells a fault must not meet another
                why = getattr(problem, "strerror", None) or type(problem).__name__
                where = f"nowhere, the state folder cannot be written ({why})"
        what = f"{type(error).__name__}: {str(error).splitlines()[0] if str(error) else ''}"
        sentence = f"Hawser met an unexpected error ({what}); tending goes on. Trace: {where}"
        return sentence.encode(errors="replace").decode()  # it goes to files and mail
