"""What a stranger who is to help would ask for: versions, folders and their rights, disk, clock,
records, the last faults. Nothing secret is in it, and nothing is changed."""

from __future__ import annotations

import importlib.metadata
import os
import platform
import shutil
import sqlite3
import stat
import time
from collections.abc import Iterator
from pathlib import Path
from typing import NamedTuple

import platformdirs

from hawser import __version__
from hawser.core import figures as fg
from hawser.core.clock import SECOND
from hawser.core.errors import BadInput, HawserError
from hawser.service.watchdog.heartbeat import read_pulse

LIBRARIES = ("PyQt6", "numpy", "numba", "msgspec", "pyarrow", "platformdirs")
LITTLE = 200_000_000  # bytes of disk: less is told
FAULTS = 3  # of the last that are told
OPEN_TO_OTHERS = stat.S_IRWXG | stat.S_IRWXO


class Check(NamedTuple):
    """One thing that was looked at: `ok` None where it is only told."""

    name: str
    ok: bool | None
    text: str


class Roots(NamedTuple):
    """Where Hawser keeps its data, settings and traces."""

    data: tuple[Path, ...]
    config: tuple[Path, ...]
    state: tuple[Path, ...]


def roots(root: Path | None = None) -> Roots:
    """The folders in use; `root`: all of them under one."""
    if root is not None:
        return Roots((root / "data",), (root / "config",), (root / "state",))
    names = ("hawser", "hawser-demo")
    return Roots(
        tuple(Path(platformdirs.user_data_dir(name)) for name in names),
        tuple(Path(platformdirs.user_config_dir(name)) for name in names),
        tuple(Path(platformdirs.user_state_dir(name)) for name in names),
    )


def examine(root: Path | None = None) -> Iterator[Check]:
    """All of it, one after the other."""
    where = roots(root)
    yield from _program()
    yield from _folders(where)
    for data, traces in zip(where.data, where.state, strict=True):
        for ledger in sorted(data.glob("*/ledger.sqlite")) if data.is_dir() else ():
            yield from _account(ledger, traces / ledger.parent.name)
    yield from _secrets(where)
    yield from _faults(where)


def _program() -> Iterator[Check]:
    yield Check("Hawser", None, f"{__version__}, at {Path(__file__).parents[1]}")
    yield Check(
        "system",
        None,
        f"{platform.system()} {platform.release()}, {os.cpu_count()} processors, Python "
        f"{platform.python_version()}",
    )
    for name in LIBRARIES:
        try:
            yield Check(name, None, importlib.metadata.version(name))
        except importlib.metadata.PackageNotFoundError:
            yield Check(name, False, "is not installed")
    yield Check("SQLite", None, sqlite3.sqlite_version)
    display = os.environ.get("WAYLAND_DISPLAY") or os.environ.get("DISPLAY")
    yield Check("display", None, display or "none: a window needs one, or xvfb-run")
    from hawser.service.own_python import UNSAFE, sandboxed

    safe = "Python of your own in sources runs in a sandbox (bubblewrap)"
    yield Check("sandbox", None, safe if sandboxed() else UNSAFE)


def _folders(where: Roots) -> Iterator[Check]:
    seen: set[int] = set()
    for name, folders in zip(("data", "settings", "traces"), where, strict=True):
        for folder in folders:
            if not folder.is_dir():
                yield Check(name, None, f"{folder} is not there yet")
                continue
            writable = os.access(folder, os.W_OK | os.X_OK)
            yield Check(name, writable, f"{folder}{'' if writable else ' cannot be written to'}")
            device = folder.stat().st_dev
            if device not in seen:
                seen.add(device)
                free = shutil.disk_usage(folder).free
                yield Check("disk", free >= LITTLE, f"{free // 1_000_000:,} MB free at {folder}")


def _account(ledger: Path, state: Path) -> Iterator[Check]:
    """The record of one account, and whether somebody works on it."""
    from hawser.ledger.verify import damage, folded

    name = f"account {ledger.parent.name}"
    try:
        found = damage(ledger)
        yield Check(
            name, not found, found or f"the record is whole ({ledger.stat().st_size:,} bytes)"
        )
        held = folded(ledger)
        trades = held.live()
        still = sum(trade.open_steps > 0 for trade in trades)
        text = f"{fg.counted(still, 'trade')} open, {len(trades) - still} waiting; the link was "
        yield Check(
            name, None, f"{text}{'up' if held.link_up else 'down'} when it was last written"
        )
        if held.halt is not None:
            yield Check(name, False, "entries are halted")
    except (HawserError, OSError, sqlite3.Error) as error:
        yield Check(name, False, getattr(error, "sentence", None) or f"{ledger}: {error}")
    yield from _sign_of_life(name, state / "heartbeat.json")


def _sign_of_life(name: str, path: Path) -> Iterator[Check]:
    try:
        pulse = read_pulse(path)
    except (BadInput, OSError) as error:
        yield Check(name, False, f"{path}: {error}")
        return
    if pulse is None:
        return
    age = time.time() - pulse.time
    if age < -1:
        yield Check(
            "clock", False, f"{name} was alive {-age:.0f} s from now: the clock was set back"
        )
    elif pulse.ended:
        yield Check(name, None, f"ended {fg.duration(round(age) * SECOND)} ago")
    else:
        here = Path(f"/proc/{pulse.pid}").exists()
        told = f"process {pulse.pid}, sign of life {fg.duration(round(age) * SECOND)} ago"
        yield Check(name, here and age < 60, told if here else f"{told}; it is gone")


def _secrets(where: Roots) -> Iterator[Check]:
    """What holds passwords may be read by its owner only."""
    for folder in where.config:
        for path in sorted(folder.glob("alerts-*.toml")) if folder.is_dir() else ():
            if path.stat().st_mode & OPEN_TO_OTHERS:
                yield Check("secrets", False, f"{path} may be read by others: chmod 600 {path}")


def _faults(where: Roots) -> Iterator[Check]:
    """The last unexpected errors: when, what kind, where in Hawser. Their words are left out: they
    may hold what a person typed."""
    found = [
        path for folder in where.state if folder.is_dir() for path in folder.glob("**/faults/*.txt")
    ]
    for path in sorted(found, key=lambda one: one.name)[-FAULTS:]:
        lines = path.read_text(encoding="utf-8", errors="replace").rstrip().splitlines()
        kind = lines[-1].split(":")[0].strip() if lines else "empty"
        places = [line.strip() for line in lines if line.strip().startswith("File ")]
        at = f", {places[-1]}" if places else ""
        yield Check("fault", None, f"{kind}{at}; whole trace: {path}")


def as_text(checks: list[Check]) -> str:
    """For a person."""
    marks = {True: "good ", False: "WRONG", None: "     "}
    width = max(len(one.name) for one in checks)
    lines = [f"{marks[one.ok]} {one.name:<{width}}  {one.text}" for one in checks]
    wrong = sum(one.ok is False for one in checks)
    lines += ["", f"{fg.counted(wrong, 'thing')} wrong" if wrong else "Nothing is wrong"]
    return "\n".join(lines)
