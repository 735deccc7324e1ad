"""Whole or not at all: files are written beside their place and moved there when they are done."""

from __future__ import annotations

import contextlib
import csv
import io
import os
from collections.abc import Iterable, Iterator
from pathlib import Path
from typing import IO

from hawser.core.errors import BadInput


@contextlib.contextmanager
def written(path: Path, private: bool = False) -> Iterator[IO[bytes]]:
    """A file to write to; `path` has the new content after the block, or is untouched where the block raised.
    `private`: nobody but its owner may read it, at no moment."""
    fresh = path.with_name(f".{path.name}.{os.getpid()}.new")
    try:
        opened = os.open(fresh, os.O_WRONLY | os.O_CREAT | os.O_TRUNC, 0o600 if private else 0o666)
        with os.fdopen(opened, "wb") as file:
            yield file
            file.flush()
            os.fsync(file.fileno())
        fresh.replace(path)
    except OSError as error:
        raise BadInput("unwritable", f"{path}: cannot be written ({error.strerror})") from None
    finally:
        with contextlib.suppress(OSError):
            fresh.unlink()


def write_csv(path: Path, rows: Iterable[Iterable[object]]) -> None:
    """Rows, the first of them the header, as CSV (RFC 4180, UTF-8)."""
    with written(path) as file:
        text = io.TextIOWrapper(file, encoding="utf-8", newline="")
        csv.writer(text).writerows(rows)
        text.flush()
        text.detach()
