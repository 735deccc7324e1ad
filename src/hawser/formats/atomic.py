"""Whole or not at all: files are written beside their place and moved there when they are done."""

from __future__ import annotations

import contextlib
import csv
import io
import os
import signal
from collections.abc import Iterable, Iterator
from pathlib import Path
from typing import IO, Self

from hawser.core.errors import BadInput

_unfinished: set[Path] = set()  # of this process, beside their places
_placed: set[Path] = set()  # what this process has written whole


def discard() -> bool:
    """Take away what is not whole yet, for a process that ends where it stands; whether anything else was written."""
    for fresh in _unfinished:
        with contextlib.suppress(OSError):
            fresh.unlink()
    return bool(_placed)


class Together:
    """Files that all take their places when the block has ended, or none: it raised, or was told to stop."""

    def __init__(self) -> None:
        self._files: list[tuple[Path, Path, IO[bytes]]] = []  # its place, where it is written, itself

    def open(self, path: Path, private: bool = False) -> IO[bytes]:
        """A file to write to. `private`: nobody but its owner may read it, at no moment. Raises BadInput."""
        if path.is_dir():  # told now, not when others have taken their places
            raise BadInput("unwritable", f"{path}: cannot be written (it is a directory)")
        fresh = path.with_name(f".{path.name}.{os.getpid()}.new")
        _unfinished.add(fresh)
        try:
            opened = os.open(fresh, os.O_WRONLY | os.O_CREAT | os.O_TRUNC, 0o600 if private else 0o666)
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
                for path, _, file in self._files:  # noqa: B007  # told below where it is the one that fails
                    file.flush()
                    os.fsync(file.fileno())
                with _undisturbed():
                    for path, fresh, _ in self._files:
                        fresh.replace(path)
                        _placed.add(path)
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
        yield
    finally:
        signal.pthread_sigmask(signal.SIG_SETMASK, before)


@contextlib.contextmanager
def written(path: Path, private: bool = False) -> Iterator[IO[bytes]]:
    """One such file: `path` has the new content after the block, or is untouched where the block raised."""
    with Together() as files:
        yield files.open(path, private)


def write_csv(path: Path, rows: Iterable[Iterable[object]]) -> None:
    """Rows, the first of them the header, as CSV (RFC 4180, UTF-8)."""
    with written(path) as file:
        text = io.TextIOWrapper(file, encoding="utf-8", newline="")
        csv.writer(text).writerows(rows)
        text.flush()
        text.detach()
