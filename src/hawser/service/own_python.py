"""A source's own Python, asked in a process of its own (interface.md, Source).

Where bubblewrap is there it sees a read-only system, its own file and a scratch folder: no other
files, no network, no environment, no second process. Where it is missing, the limits on time,
memory and written files are all there is, and that is told.
"""

from __future__ import annotations

import contextlib
import io
import json
import os
import shutil
import signal
import stat
import subprocess
import sys
import tempfile
import zipfile
from collections.abc import Iterator, Mapping, Sequence
from functools import cache
from pathlib import Path
from typing import NamedTuple

import msgspec
import numpy as np

from hawser.core.bars import Bars
from hawser.core.errors import UNDECODABLE, BadInput, one_line
from hawser.core.indicators import Array
from hawser.core.sources.conditions.base import Part
from hawser.core.sources.conditions.told import Python
from hawser.formats.declared import small_text

WORKER = Path(__file__).with_name("own_python_worker.py")
SPREAD_CUTS, LAST_CUTS = 24, 8  # shorter histories: over the whole, and one bar less at a time
MOST_PRINTED = 4_000  # signs of what it printed that are shown
ROOM = 100_000  # bytes that what is told, and an array's own head, take at most
UNSAFE = (
    "bubblewrap (bwrap) is not installed or may not be used here: the file runs with limits on "
    "time and memory alone, and could read files and use the network"
)


class CallLimits(NamedTuple):
    """Of one call, for all its histories together."""

    wall_s: float = 300.0
    memory: int = 4 << 30  # bytes
    file_bytes: int = 256 << 20


class Ahead(msgspec.Struct, frozen=True):
    """A bar of which something else was said with all bars than with so many."""

    bar: int
    bars: int
    first: int
    later: int


class Told(msgspec.Struct, frozen=True):
    """What the process left about its end; it may have been left by the file itself."""

    rows: int = 0  # of its answer
    ahead: Ahead | None = None
    memory: bool = False  # there was not enough
    wrong: str = ""  # its answer is none
    error: str = ""
    line: int | None = None


class PythonAnswer(NamedTuple):
    """What a file said: for entering and for leaving, float64 of the bars' shape; what it
    printed."""

    enter: Array
    leave: Array
    printed: str


def answers(
    asked: Sequence[tuple[Part, str, Python]],
    source: Path,
    bars: Bars,
    columns: Mapping[str, Array],
    limits: CallLimits = CallLimits(),  # noqa: B008 # a tuple
) -> tuple[dict[str, Array], list[str]]:
    """What each condition's file says, by the condition's place, and what is to be minded; raises
    BadInput. `columns`: further columns of the bars."""
    found: dict[str, Array] = {}
    minded: list[str] = []
    done: dict[str, PythonAnswer] = {}
    for part, place, condition in asked:
        key = json.dumps([condition.file, condition.function, condition.settings], default=str)
        if key not in done:
            done[key] = ask(
                condition,
                f"{source}: {place}",
                source.parent,
                bars=bars,
                columns=columns,
                limits=limits,
            )
            if done[key].printed:
                minded.append(f"{condition.file} printed: {done[key].printed}")
        one = done[key]
        found[place] = one.leave if part == "leave" else one.enter
    if asked and not sandboxed():
        minded.append(UNSAFE)
    return found, minded


def ask(
    condition: Python,
    place: str,
    folder: Path,
    bars: Bars,
    columns: Mapping[str, Array],
    limits: CallLimits,
) -> PythonAnswer:
    """Run one file over a history and shorter ones; raises BadInput where it fails, hangs or looks
    ahead."""
    path = folder / condition.file
    small_text(path)  # told before a process is begun for it
    size = bars.time.size
    with _scratch() as scratch:
        given = {
            **columns,
            "time": bars.time.astype("datetime64[ns]"),
            "open": bars.open,
            "high": bars.high,
            "low": bars.low,
            "close": bars.close,
            "spread": np.nan_to_num(bars.spread, nan=0.0),
        }
        np.savez(scratch / "bars.npz", *given.values())  # a column may be called as anything is
        shutil.copyfile(path, scratch / "own.py")
        job = {
            "path": "own.py",
            "columns": list(given),
            "function": condition.function,
            "settings": condition.settings,
            "cuts": cuts(size),
            "sites": _sites(),
            "memory": limits.memory,
            "cpu_s": int(limits.wall_s) + 1,
            "file_bytes": limits.file_bytes,
        }
        (scratch / "job.json").write_text(json.dumps(job, default=str), "utf-8")
        ended = _run(scratch, limits.wall_s)
        printed = _printed(scratch / "printed.txt")
        told = _told(scratch / "told.json")
        _refuse(told, ended, limits, place=place, path=path, bars=bars, printed=printed)
        return _answer(scratch / "answer.npz", size, place, printed)


def cuts(size: int) -> list[int]:
    """How many bars the shorter histories have, ascending."""
    last = range(max(1, size - LAST_CUTS), size)
    whole = (size * part // (SPREAD_CUTS + 1) for part in range(1, SPREAD_CUTS + 1))
    return sorted({*last, *(count for count in whole if 0 < count < size)})


def _refuse(
    told: Told,
    ended: int | None,
    limits: CallLimits,
    *,
    place: str,
    path: Path,
    bars: Bars,
    printed: str,
) -> None:
    """Raise what went wrong, in a sentence."""

    def wrong(code: str, sentence: str) -> BadInput:
        end = f"; it printed: {printed}" if printed else ""
        return BadInput(code, f"{place}: {path}: {sentence}{end}")

    if ended is None:
        raise wrong(
            "python_hangs", f"was ended after {limits.wall_s:g} s; expected an answer by then"
        )
    if told.ahead is not None and 0 <= told.ahead.bar < bars.time.size:
        ahead = told.ahead
        at = np.datetime_as_string(bars.time[ahead.bar].astype("datetime64[ns]"), unit="s")
        raise wrong(
            "looks_ahead",
            f"looks ahead: of the bar of {at}Z it says {_said(ahead.first)} with {ahead.bars} bars "
            f"and {_said(ahead.later)} with all; expected the same",
        )
    if told.memory or ended == -signal.SIGKILL:
        raise wrong("python_memory", f"needs more than {limits.memory >> 30} GB of memory")
    if told.wrong:
        raise wrong("python_answer", told.wrong)
    if told.error:
        line = f"line {told.line}: " if told.line else ""
        raise wrong("python_error", f"{line}{told.error}")
    if not told.rows:
        raise wrong("python_ended", f"ended without an answer (status {ended})")


def _said(value: int) -> str:
    return f"{value:+d}" if value else "0"


def _answer(path: Path, size: int, place: str, printed: str) -> PythonAnswer:
    """The arrays that were left, checked once more: they come from outside."""
    try:
        with np.load(io.BytesIO(_left(path, 2 * size + ROOM)), allow_pickle=False) as held:
            rows = held["answer"]
    except (OSError, ValueError, KeyError, TypeError, EOFError, zipfile.BadZipFile):
        raise BadInput("python_answer", f"{place}: left no answer that can be read") from None
    if rows.dtype != np.int8 or rows.ndim != 2 or rows.shape[1] != size or len(rows) not in (1, 2):
        raise BadInput("python_answer", f"{place}: expected one or two arrays of {size} values")
    if (np.abs(rows) > 1).any():
        raise BadInput("python_answer", f"{place}: expected +1, 0 or -1")
    return PythonAnswer(rows[0].astype(np.float64), rows[-1].astype(np.float64), printed)


def _told(path: Path) -> Told:
    try:
        return msgspec.json.decode(_left(path, ROOM), type=Told)
    except (OSError, *UNDECODABLE):
        return Told()


def _printed(path: Path) -> str:
    with contextlib.suppress(OSError):
        text = _left(path, MOST_PRINTED * 4, cut=True).decode("utf-8", "replace").strip()
        return one_line(text.replace("\n", " | "), MOST_PRINTED)
    return ""


def _left(path: Path, most: int, cut: bool = False) -> bytes:
    """What a file holds that was left in the scratch folder. It may be anything by now: a link to
    a file of ours, a pipe that nobody writes to, a device. Raises OSError; `cut`: of one that is
    longer, the beginning."""
    number = os.open(path, os.O_RDONLY | os.O_NOFOLLOW | os.O_NONBLOCK)
    with os.fdopen(number, "rb") as file:
        told = os.fstat(number)
        if not stat.S_ISREG(told.st_mode) or (told.st_size > most and not cut):
            raise OSError(f"{path}: no file of at most {most} bytes")
        return file.read(most)


@contextlib.contextmanager
def _scratch() -> Iterator[Path]:
    with tempfile.TemporaryDirectory(prefix="hawser-own-") as name:
        yield Path(name)


def _run(scratch: Path, wall_s: float) -> int | None:
    """Its exit status; None where it was ended for taking too long."""
    own = [sys.executable, "-I", "-c", WORKER.read_text("utf-8")]
    command = [*_sandbox(scratch), *own] if sandboxed() else own
    environment = {"OPENBLAS_NUM_THREADS": "1", "LANG": "C.UTF-8", "HOME": "/nowhere"}
    with (scratch / "printed.txt").open("wb") as printed:
        process = subprocess.Popen(
            command,
            cwd=scratch,
            env=environment,
            stdin=subprocess.DEVNULL,
            stdout=printed,
            stderr=printed,
            start_new_session=True,
        )
        try:
            return process.wait(wall_s)
        except subprocess.TimeoutExpired:
            return None
        finally:  # also where the command is cancelled
            if process.poll() is None:
                with contextlib.suppress(ProcessLookupError):
                    os.killpg(process.pid, signal.SIGKILL)
                process.wait()


def _sites() -> list[str]:
    """Where NumPy is."""
    return [str(Path(np.__file__).parents[1])]


def _system() -> list[str]:
    """What an interpreter reads: the system's libraries, Python's own and NumPy's."""
    wanted = ["/usr", "/lib", "/lib64", "/lib32", "/bin", "/etc/ld.so.cache", "/etc/localtime"]
    wanted += [sys.base_prefix, sys.prefix, *_sites()]
    return [name for name in dict.fromkeys(wanted) if Path(name).exists()]


def _sandbox(scratch: Path) -> list[str]:
    """The command that stands before the interpreter's."""
    found = ["bwrap", "--unshare-all", "--die-with-parent", "--new-session"]
    found += ["--proc", "/proc", "--dev", "/dev", "--tmpfs", "/tmp"]
    for name in _system():
        found += ["--ro-bind", name, name]
    return [*found, "--bind", str(scratch), str(scratch), "--chdir", str(scratch)]


@cache
def sandboxed() -> bool:
    """Whether bubblewrap is there and may be used."""
    if shutil.which("bwrap") is None:
        return False
    with _scratch() as scratch:
        tried = subprocess.run(
            [*_sandbox(scratch), sys.executable, "-I", "-c", ""], capture_output=True, check=False
        )
    return tried.returncode == 0
