"""Where what a person made in the window is kept: histories with their instruments, accounts. Each
gets a name that no file has yet."""

from __future__ import annotations

from collections.abc import Iterator
from itertools import count
from pathlib import Path

import msgspec

from hawser.core.account import Account
from hawser.core.errors import BadInput
from hawser.core.instrument import Instrument
from hawser.formats.declared import save
from hawser.formats.importing.importing import Imported
from hawser.formats.importing.writing import write_history
from hawser.service.profiles.last_opened import OpenedFiles
from hawser.service.profiles.profile import plain, profile


def keep_history(
    root: Path | None, found: Imported, instrument: Instrument, account: Account
) -> OpenedFiles:
    """The history as a bar file, its instrument and its account; raises BadInput."""
    folder = _folder(root, "histories")
    base = plain(instrument.symbol) or "history"
    bars = next(path for path in _names(folder, base, ".parquet") if not path.exists())
    write_history(found.history, bars)
    of, whose = bars.with_suffix(".toml"), bars.with_suffix(".account.toml")
    try:
        save(instrument, of)
        save(account, whose)
    except BadInput:
        for path in (bars, of):  # one without the others is of no use
            path.unlink(missing_ok=True)
        raise
    return OpenedFiles(bars=str(bars), instrument=str(of), account=str(whose))


def keep_account(root: Path | None, account: Account) -> OpenedFiles:
    """The account's file, under its name or the next one; raises BadInput."""
    folder, name = _folder(root, "accounts"), account.name
    for number, path in enumerate(_names(folder, plain(name) or "account", ".toml"), start=1):
        if not path.exists():
            named = msgspec.structs.replace(
                account, name=name if number == 1 else f"{name} {number}"
            )
            save(named, path)
            return OpenedFiles(of="account", account=str(path))
    raise AssertionError("unreachable: names do not end")


def _folder(root: Path | None, name: str) -> Path:
    folder = profile("own", root).data / name
    try:
        folder.mkdir(parents=True, exist_ok=True, mode=0o700)
    except OSError as error:
        raise BadInput("unwritable", f"{folder}: cannot be made ({error.strerror})") from None
    return folder.resolve()


def _names(folder: Path, base: str, ending: str) -> Iterator[Path]:
    yield folder / f"{base}{ending}"
    for number in count(2):
        yield folder / f"{base}-{number}{ending}"
