"""How files of other programs were read, remembered by what they look like: the next file of that
shape is read the same way."""

from __future__ import annotations

import contextlib
import hashlib
import json
from pathlib import Path

from hawser.core.errors import BadInput
from hawser.formats.declared import load, save
from hawser.formats.importing.recipe import Recipe


class Recipes:
    """One file for each shape, in a folder among the settings."""

    def __init__(self, folder: Path) -> None:
        self._folder = folder

    def _path(self, guessed: Recipe, names: tuple[str, ...]) -> Path:
        """By what stands in the file itself: its columns, and the sign between them."""
        shape = json.dumps([*names, guessed.separator, guessed.header])
        return self._folder / f"{hashlib.sha256(shape.encode()).hexdigest()[:16]}.toml"

    def known(self, guessed: Recipe, names: tuple[str, ...]) -> Recipe | None:
        """How a file of that shape was read last; None where there was none. One that cannot be
        read any more is none."""
        path = self._path(guessed, names)
        with contextlib.suppress(BadInput):
            if path.is_file():
                return load(Recipe, path)
        return None

    def keep(self, guessed: Recipe, names: tuple[str, ...], used: Recipe) -> None:
        """Raises BadInput where it cannot be written."""
        self._folder.mkdir(parents=True, exist_ok=True, mode=0o700)
        save(used, self._path(guessed, names))
