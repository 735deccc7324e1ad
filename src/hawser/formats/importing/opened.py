"""The bytes of a file, unpacked where it is packed (gzip, xz, zip), and how its signs are
written."""

from __future__ import annotations

import codecs
import gzip
import lzma
import zipfile
import zlib
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import IO, cast

from hawser.core.errors import BadInput

SAMPLE = 256 * 1024  # bytes that a guess is made from
MARKS = (  # what a text may begin with, and what follows from it
    (codecs.BOM_UTF8, "utf-8-sig"),
    (codecs.BOM_UTF16_LE, "utf-16"),
    (codecs.BOM_UTF16_BE, "utf-16"),
)
PACKED = {b"\x1f\x8b": "gzip", b"\xfd7zXZ\x00": "xz", b"PK\x03\x04": "zip"}


def check_plain(path: Path) -> None:
    """Refuse what is neither a file nor missing: to open a pipe would wait for whoever writes."""
    try:
        other = path.exists() and not path.is_file() and not path.is_dir()
    except OSError:  # it is told where it is opened
        return
    if other:
        raise BadInput("unreadable", f"{path}: expected a file; this is a pipe or a device")


@contextmanager
def opened(path: Path) -> Iterator[IO[bytes]]:
    """The file's bytes, unpacked; raises BadInput where it cannot be read."""
    check_plain(path)
    try:
        with path.open("rb") as file:
            start = file.read(8)
            file.seek(0)
            packed = next((how for mark, how in PACKED.items() if start.startswith(mark)), "")
            if packed == "gzip":
                with gzip.open(file) as inner:
                    yield cast(IO[bytes], inner)
            elif packed == "xz":
                with lzma.open(file) as inner:
                    yield inner
            elif packed == "zip":
                with zipfile.ZipFile(file) as folder, folder.open(_only_file(path, folder)) as one:
                    yield one
            else:
                yield file
    except OSError as error:
        raise BadInput(
            "unreadable", f"{path}: cannot be read ({error.strerror or error})"
        ) from None
    except (EOFError, zlib.error, lzma.LZMAError, zipfile.BadZipFile, RuntimeError) as error:
        raise BadInput("unreadable", f"{path}: cannot be unpacked ({error})") from None


@contextmanager
def parquet_read(path: Path) -> Iterator[None]:
    """What goes wrong with a Parquet file, as one sentence."""
    import pyarrow as pa

    check_plain(path)
    try:
        yield
    except OSError as error:
        raise BadInput(
            "unreadable", f"{path}: cannot be read ({error.strerror or error})"
        ) from None
    except pa.ArrowException as error:
        raise BadInput("bad_import", f"{path}: {str(error).splitlines()[0]}") from None


def _only_file(path: Path, folder: zipfile.ZipFile) -> zipfile.ZipInfo:
    files = [one for one in folder.infolist() if not one.is_dir()]
    if len(files) != 1:
        raise BadInput(
            "unreadable", f"{path}: holds {len(files)} files; expected one, or unpack it first"
        )
    return files[0]


def sample(path: Path) -> bytes:
    """The file's first bytes, unpacked."""
    with opened(path) as file:
        return file.read(SAMPLE)


def encoding_of(start: bytes) -> str:
    """How the signs are written, by the first bytes: a byte order mark says so; bytes that are
    UTF-8 are it; noughts at every other place are UTF-16; anything else is what Windows in the West
    writes."""
    for mark, name in MARKS:
        if start.startswith(mark):
            return name
    zeros = start[:1000]
    if zeros.count(0) > len(zeros) // 4:
        return "utf-16-le" if zeros[1::2].count(0) > zeros[::2].count(0) else "utf-16-be"
    try:
        codecs.getincrementaldecoder("utf-8")().decode(start)
    except UnicodeDecodeError:
        return "cp1252"
    return "utf-8"


def lines_of(start: bytes, encoding: str) -> list[str]:
    """The whole lines of the first bytes."""
    text = codecs.getincrementaldecoder(encoding)(errors="replace").decode(start)
    lines = text.splitlines()
    return lines[:-1] if len(start) >= SAMPLE else lines
