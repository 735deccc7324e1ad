"""Whole or not at all: files are written beside their place and moved there when they are done.

Several files of one folder take their places by one swap of the whole folder, so that not even a
kill leaves some new and some old. Where a folder cannot be swapped, because it holds folders of a
person's own or somebody stands in it, its files are moved one after the other. A link is followed:
what it points to is written.
"""

from __future__ import annotations

import contextlib
import io
import os
import signal
import threading
from collections.abc import Callable, Iterable, Iterator, Sequence
from pathlib import Path
from typing import IO, Self

from hawser.core.errors import BadInput

_unfinished: set[Path] = set()  # of this process, beside their places
_placed: set[Path] = set()  # what this process has written whole
_placing = threading.RLock()  # while files take their places, which another thread may want to end
SWAP = 2  # of renameat2: each gets the other's place


def discard() -> bool:
    """Take away what is not whole yet, for a process that ends where it stands; whether anything
    else was written."""
    with _placing:
        for fresh in tuple(_unfinished):
            _away(fresh)
        return bool(_placed)


def _away(path: Path) -> None:
    with contextlib.suppress(OSError):
        if path.is_dir():
            import shutil

            shutil.rmtree(path)
        else:
            path.unlink()


def _beside(path: Path) -> Path:
    """Where something is written before it takes its place. What a process that is no more left
    there is cleared."""
    for left in path.parent.glob(f".{_plain(path.name)}.*.new"):
        number = left.name.split(".")[-2]
        if number.isdecimal() and not Path(f"/proc/{number}").exists():
            _away(left)
    return path.with_name(f".{path.name}.{os.getpid()}.new")


def _plain(name: str) -> str:
    """A name for `glob`, none of whose signs mean anything."""
    return "".join(f"[{sign}]" if sign in "*?[" else sign for sign in name)


class Together:
    """Files that all take their places when the block has ended, or none: it raised, or was told to
    stop."""

    def __init__(self) -> None:
        # its place, where it is written, itself
        self._files: list[tuple[Path, Path, IO[bytes]]] = []
        self._gone: list[Path] = []

    def away(self, path: Path) -> None:
        """A file that is to be no more once the others have taken their places."""
        self._gone.append(path)

    def open(self, path: Path, private: bool = False) -> IO[bytes]:
        """A file to write to. `private`: nobody but its owner may read it, at no moment. Raises
        BadInput."""
        path = path.resolve() if path.is_symlink() else path
        # told now, not when others have taken their places
        if path.exists() and not path.is_file():
            what = (
                "it is a directory"
                if path.is_dir()
                else "it is no file but a device, a pipe or a socket"
            )
            raise BadInput("unwritable", f"{path}: cannot be written ({what})")
        fresh = _beside(path)
        _unfinished.add(fresh)
        try:
            opened = os.open(
                fresh, os.O_WRONLY | os.O_CREAT | os.O_TRUNC, 0o600 if private else 0o666
            )
        except OSError as error:
            _unfinished.discard(fresh)
            raise _unwritable(path, error) from None
        self._files.append((path, fresh, os.fdopen(opened, "wb")))
        return self._files[-1][2]

    def __enter__(self) -> Self:
        return self

    def __exit__(self, kind: object, error: BaseException | None, trace: object) -> None:
        path = self._files[-1][0] if self._files else Path()  # the one that is written to
        try:
            if error is None:
                # told below where it is the one that fails
                for path, _, file in self._files:  # noqa: B007
                    file.flush()
                    os.fsync(file.fileno())
                with _undisturbed():
                    for path, fresh, _ in self._files:
                        fresh.replace(path)
                        _placed.add(path)
                    for path in self._gone:
                        path.unlink(missing_ok=True)
            elif isinstance(error, OSError):
                raise error
        except OSError as failure:
            raise _unwritable(path, failure) from None
        finally:
            for _, fresh, file in self._files:
                with contextlib.suppress(OSError):
                    file.close()
                with contextlib.suppress(OSError):
                    fresh.unlink()
                _unfinished.discard(fresh)


def _unwritable(path: Path, error: OSError) -> BadInput:
    return BadInput("unwritable", f"{path}: cannot be written ({error.strerror})")


@contextlib.contextmanager
def _undisturbed() -> Iterator[None]:
    """A moment in which nobody's wish to stop is heard: it is heard right after."""
    before = signal.pthread_sigmask(signal.SIG_BLOCK, {signal.SIGINT, signal.SIGTERM})
    try:
        with _placing:
            yield
    finally:
        signal.pthread_sigmask(signal.SIG_SETMASK, before)


@contextlib.contextmanager
def folder_written(folder: Path, names: Sequence[str]) -> Iterator[Callable[[str], IO[bytes]]]:
    """The files `names` of a folder, which is made: after the block those that were opened are
    there, whole, and the others are not; or all is as it was. Other files in the folder stay.
    Raises BadInput.
    """
    folder = folder.resolve()
    try:
        folder.parent.mkdir(parents=True, exist_ok=True)
        swapped = _can_swap(folder, names)
        if not swapped:
            folder.mkdir(exist_ok=True)
    except OSError as error:
        raise BadInput("unwritable", f"{folder}: cannot be made ({error.strerror})") from None
    if swapped:
        with _swapped(folder, names) as opened:
            yield opened
        return
    with Together() as files:
        opened_names: set[str] = set()

        def in_place(name: str) -> IO[bytes]:
            opened_names.add(name)
            return files.open(folder / name)

        yield in_place
        for name in set(names) - opened_names:
            files.away(folder / name)


def _can_swap(folder: Path, names: Sequence[str]) -> bool:
    """Whether another folder may take a folder's place: nobody stands in it, as far as is known
    here, and all else in it can be linked.
    """
    if (
        not os.access(folder.parent, os.W_OK)
        or folder == Path.cwd()
        or folder in Path.cwd().parents
    ):
        return False
    if not folder.exists():
        return True
    others = [one for one in folder.iterdir() if one.name not in names]
    ours = all(not (folder / name).is_dir() for name in names)
    return (
        ours
        and not folder.is_mount()
        and all(one.is_file() and not one.is_symlink() for one in others)
    )


@contextlib.contextmanager
def _swapped(folder: Path, names: Sequence[str]) -> Iterator[Callable[[str], IO[bytes]]]:
    fresh = _beside(folder)
    _unfinished.add(fresh)
    path = folder  # that is written to
    try:
        with contextlib.ExitStack() as files:
            fresh.mkdir()
            opened: list[IO[bytes]] = []

            def beside(name: str) -> IO[bytes]:
                nonlocal path
                path = folder / name
                opened.append(files.enter_context((fresh / name).open("wb")))
                return opened[-1]

            yield beside
            for file in opened:
                file.flush()
                os.fsync(file.fileno())
        path = folder
        if folder.exists():
            for other in folder.iterdir():
                if other.name not in names:
                    os.link(other, fresh / other.name)
            import shutil

            shutil.copymode(folder, fresh)
        with _undisturbed():
            _exchange(fresh, folder)
            _placed.add(folder)
    except OSError as failure:
        raise _unwritable(path, failure) from None
    finally:
        _away(fresh)
        _unfinished.discard(fresh)


def _exchange(fresh: Path, folder: Path) -> None:
    """`fresh` takes the place of `folder`, and what was there the place of `fresh`, in one step
    where the system knows such a step.
    """
    if not folder.exists():
        fresh.rename(folder)
        return
    import ctypes

    here, there = os.fsencode(fresh), os.fsencode(folder)
    swap = getattr(ctypes.CDLL(None, use_errno=True), "renameat2", None)
    if swap is not None and swap(-100, here, -100, there, SWAP) == 0:
        return
    aside = fresh.with_suffix(".old")
    folder.rename(aside)
    fresh.rename(folder)
    aside.rename(fresh)


@contextlib.contextmanager
def written(path: Path, private: bool = False) -> Iterator[IO[bytes]]:
    """One such file: `path` has the new content after the block, or is untouched where the block
    raised."""
    with Together() as files:
        yield files.open(path, private)


def export_csv(path: Path, rows: Iterable[Iterable[object]]) -> None:
    """The same for a table that a spreadsheet may open: no text of it is taken for a formula
    there."""
    write_csv(path, ([_no_formula(cell) for cell in row] for row in rows))


def _no_formula(cell: object) -> object:
    return (
        f"'{cell}"
        if isinstance(cell, str) and cell.startswith(("=", "+", "-", "@", "\t", "\r"))
        else cell
    )


def write_csv(path: Path, rows: Iterable[Iterable[object]]) -> None:
    """Rows, the first of them the header, as CSV (RFC 4180, UTF-8)."""
    import csv

    with written(path) as file:
        text = io.TextIOWrapper(file, encoding="utf-8", newline="")
        csv.writer(text).writerows(rows)
        text.flush()
        text.detach()
