"""A person's rigs."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path
from typing import ClassVar

from hawser.core.rig import Rig
from hawser.formats.rigs import load_rig, read_rig, rig_text, save_rig
from hawser.service.profiles.shelf import Shelf

SHIPPED = (
    "short-hitch",
    "slow-warp",
    "spring-line",
    "bar-by-bar",
    "even-keel",
    "soft-landing",
    "other-tack",
    "three-rungs",
)


class RigShelf(Shelf[Rig]):
    """Rigs by name."""

    WORD: ClassVar[str] = "rig"

    def load(self, path: Path) -> Rig:
        return load_rig(path)

    def text(self, one: Rig) -> bytes:
        return rig_text(one)

    def save(self, one: Rig, path: Path) -> None:
        save_rig(one, path)

    def shipped(self) -> Iterator[Rig]:
        return shipped()


def shipped() -> Iterator[Rig]:
    """The rigs that come with Hawser."""
    from importlib.resources import files

    root = files("hawser.demo") / "rigs"
    for name in SHIPPED:
        yield read_rig((root / f"{name}.toml").read_text(encoding="utf-8"), name)
