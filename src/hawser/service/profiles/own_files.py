"""Where what a person made in the window is kept: histories with their instruments, accounts. Each
gets a name that no file has yet."""

from __future__ import annotations

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
    base = plain(instrument.symbol) or "history"
    bars, _ = _taken(_folder(root, "histories"), base, ".parquet")
    of, whose = bars.with_suffix(".toml"), bars.with_suffix(".account.toml")
    try:
        write_history(found.history, bars)
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
    path, number = _taken(folder, plain(name) or "account", ".toml")
    try:
        save(
            msgspec.structs.replace(account, name=name if number == 1 else f"{name} {number}"), path
        )
    except BadInput:
        path.unlink(missing_ok=True)
        raise
    return OpenedFiles(of="account", account=str(path))


def _taken(folder: Path, base: str, ending: str) -> tuple[Path, int]:
    """A file that is ours from now on, under the first name that nobody has, and how many have had
    it: two Hawsers that ask at once get two. Raises BadInput."""
    for number in count(1):
        path = folder / f"{base}{f'-{number}' if number > 1 else ''}{ending}"
        try:
            path.open("x").close()
        except FileExistsError:
            continue
        except OSError as error:
            raise BadInput("unwritable", f"{path}: cannot be made ({error.strerror})") from None
        return path, number
    raise AssertionError("unreachable: names do not end")


def _folder(root: Path | None, name: str) -> Path:
    folder = profile("own", root).data / name
    try:
        folder.mkdir(parents=True, exist_ok=True, mode=0o700)
    except OSError as error:
        raise BadInput("unwritable", f"{folder}: cannot be made ({error.strerror})") from None
    return folder.resolve()
