"""What stands beside the files of a run: the command, the version, the inputs by their check sums,
so that a run can be told from another and made again."""

from __future__ import annotations

import hashlib
import threading
import time
from collections.abc import Sequence
from pathlib import Path
from typing import Any

from hawser import __version__
from hawser.core.errors import BadInput

RUN_FILE = "run.json"


class RunRecord:
    """Begun with the run; the inputs are read beside it."""

    def __init__(self, command: Sequence[str], inputs: Sequence[Path], seed: int | None = None):
        self._begun = time.monotonic()
        self._command, self._seed = list(command), seed
        self._sums: dict[str, str] = {}
        self._reader = threading.Thread(
            target=self._read, args=(tuple(dict.fromkeys(inputs)),), name="sums", daemon=True
        )
        self._reader.start()

    def _read(self, inputs: Sequence[Path]) -> None:
        for path in inputs:
            try:
                with path.open("rb") as file:
                    self._sums[str(path)] = hashlib.file_digest(file, "sha256").hexdigest()
            except OSError:  # told by whoever needs what stands in it
                self._sums[str(path)] = ""

    def told(self) -> dict[str, Any]:
        """The record as it is written."""
        self._reader.join()
        return {
            "command": ["hawser", *self._command],
            "hawser": __version__,
            "inputs": self._sums,
            "seed": self._seed,
            "seconds": round(time.monotonic() - self._begun, 3),
        }


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
