"""A person's sources. What reads them is loaded when the first one is wanted: the window shows
itself before."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path
from typing import TYPE_CHECKING, ClassVar

from hawser.service.profiles.shelf import Shelf

if TYPE_CHECKING:
    from hawser.core.sources.source import Source


class SourceShelf(Shelf["Source"]):
    """Sources by name; what their own Python is lies beside them."""

    WORD: ClassVar[str] = "source"

    def load(self, path: Path) -> Source:
        from hawser.formats.sources import load_source

        return load_source(path)

    def text(self, one: Source) -> bytes:
        from hawser.formats.sources import source_text

        return source_text(one)

    def save(self, one: Source, path: Path) -> None:
        from hawser.formats.sources import save_source

        save_source(one, path)

    def shipped(self) -> Iterator[Source]:
        from hawser.formats.sources import read_source

        for name, data in _shipped(".toml").items():
            yield read_source(data.decode(), name)

    def beside(self) -> dict[str, bytes]:
        return _shipped(".py")


def _shipped(ending: str) -> dict[str, bytes]:
    """The files that come with Hawser, by their names."""
    from importlib.resources import files

    root = files("hawser.demo") / "sources"
    return {
        one.name: one.read_bytes()
        for one in sorted(root.iterdir(), key=lambda one: one.name)
        if one.name.endswith(ending)
    }
