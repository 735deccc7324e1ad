"""What stands beside the files of a run: the command, the version, the inputs by their check sums,
so that a run can be told from another and made again."""

from __future__ import annotations

import hashlib
import threading
import time
from collections.abc import Iterable, Sequence
from pathlib import Path
from typing import Any

from hawser import __version__
from hawser.core.errors import BadInput


class RunRecord:
    """Begun with the run; the inputs are read beside it, on a thread of its own."""

    def __init__(self, command: Sequence[str], inputs: Iterable[Path], seed: int | None = None):
        self._begun = time.monotonic()
        self._command, self._seed = list(command), seed
        self._sums: dict[str, str] = {}
        self._readers: list[threading.Thread] = []
        self.add(inputs)

    def add(self, inputs: Iterable[Path]) -> None:
        """Further files that the run reads."""
        reader = threading.Thread(
            target=self._read, args=(tuple(dict.fromkeys(inputs)),), name="sums", daemon=True
        )
        self._readers.append(reader)
        reader.start()

    def _read(self, inputs: Iterable[Path]) -> None:
        for path in inputs:
            self._sums[str(path)] = _sum_of(path)

    def told(self) -> dict[str, Any]:
        """The record as it is written."""
        for reader in self._readers:
            reader.join()
        return {
            "command": ["hawser", *self._command],
            "hawser": __version__,
            "inputs": self._sums,
            "seed": self._seed,
            "seconds": round(time.monotonic() - self._begun, 3),
        }


def _sum_of(path: Path) -> str:
    """SHA-256 of a file; nothing of a pipe or a device, which gives what it has only once, nor of
    what cannot be read, which whoever needs it tells."""
    try:
        if not path.is_file():
            return ""
        with path.open("rb") as file:
            return hashlib.file_digest(file, "sha256").hexdigest()
    except OSError:
        return ""


def check_folder(out: Path, replace: bool) -> None:
    """Refuse a folder that holds something, unless its files are to be replaced; raises
    BadInput."""
    try:
        holds = out.is_dir() and any(out.iterdir())
    except OSError as error:
        raise BadInput("unwritable", f"{out}: cannot be read ({error.strerror})") from None
    if holds and not replace:
        raise BadInput(
            "not_empty",
            f"{out}: is not empty; expected a new or empty folder, or --replace, which replaces "
            "the files that are written",
        )
