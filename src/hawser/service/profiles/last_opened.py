"""Which history was opened last, so that a bare `hawser` opens it again. One TOML file among the
settings."""

from __future__ import annotations

from pathlib import Path
from typing import Literal

import msgspec

from hawser.core.errors import BadInput
from hawser.formats.declared import load, save
from hawser.service.profiles.profile import profile

NOTHING = (
    "Nothing was opened before. Open a history with: hawser --bars FILE --instrument FILE.toml, "
    "or look around first with: hawser --demo"
)


class OpenedFiles(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """What was opened: the files of a replay, as absolute paths; or the demo (`of`), or an account
    of one's own in the demo's market, whose file `account` is."""

    bars: str = ""
    instrument: str = ""
    of: Literal["history", "demo", "account"] = "history"
    account: str | None = None
    zone: str | None = None
    recipe: str | None = None
    speed: float = 1.0
    accounts: tuple[str, ...] = ()  # further ones

    def keep(self, root: Path | None) -> None:
        save(self, _path(root))


def _path(root: Path | None) -> Path:
    return profile("own", root).config / "last-opened.toml"


def note_opened(
    root: Path | None,
    bars: Path,
    instrument: Path,
    accounts: list[Path],
    zone: str | None,
    recipe: Path | None,
    speed: float,
) -> OpenedFiles:
    """The files of this start; `keep` writes them down once they have been found good."""
    names = [str(account.resolve()) for account in accounts]
    first = names[0] if names else None
    return OpenedFiles(
        bars=str(bars.resolve()),
        instrument=str(instrument.resolve()),
        account=first,
        zone=zone,
        recipe=str(recipe.resolve()) if recipe else None,
        speed=speed,
        accounts=tuple(names[1:]),
    )


def last_opened(root: Path | None) -> OpenedFiles:
    """The files of the last start; raises BadInput where there was none."""
    path = _path(root)
    if not path.exists():
        raise BadInput("nothing_opened", NOTHING)
    return load(OpenedFiles, path)
