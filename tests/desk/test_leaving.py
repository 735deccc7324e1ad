"""A signal at any moment of the demo's start, run and end: it leaves cleanly, and its record is
whole."""

import errno
import os
import signal
import sqlite3
import subprocess
import sys
import time
from collections.abc import Callable
from pathlib import Path

import pytest

from hawser.cli import main
from hawser.ledger.verify import damage, verify

CLEAN = (0, 143, -signal.SIGTERM)  # the last: before Python listens, as 143 to a shell


def lines(root: Path) -> int:
    """Lines in the demo's record; 0 before there is one."""
    path = root / "data" / "demo" / "ledger.sqlite"
    try:
        with sqlite3.connect(f"file:{path}?mode=ro", uri=True) as db:
            return int(db.execute("SELECT count(*) FROM record").fetchone()[0])
    except sqlite3.Error:
        return 0


MOMENTS: dict[str, Callable[[Path], bool]] = {
    "at once": lambda root: True,
    "a profile is made": lambda root: (root / "data" / "demo").is_dir(),
    "the record begins": lambda root: lines(root) > 0,
    "the morning is played": lambda root: lines(root) > 200,
    "it runs": lambda root: (root / "state" / "demo" / "heartbeat.json").is_file(),
}


@pytest.mark.parametrize(
    ("moment", "times"), [(moment, 3 if moment == "it runs" else 1) for moment in MOMENTS]
)
def test_a_signal_at_any_moment_leaves_cleanly(tmp_path, moment, times):
    process = subprocess.Popen(
        [sys.executable, "-m", "hawser", "--demo", "--fresh", "--profile-root", str(tmp_path)],
        stderr=subprocess.PIPE,
        text=True,
        env=dict(os.environ, QT_QPA_PLATFORM="offscreen"),
    )
    try:
        while process.poll() is None and not MOMENTS[moment](tmp_path):
            time.sleep(0.005)
        for _ in range(times):
            process.send_signal(signal.SIGTERM)
        _, told = process.communicate(timeout=300)
    finally:
        process.kill()
    assert process.returncode in CLEAN, told
    assert "Traceback" not in told
    ledger = tmp_path / "data" / "demo" / "ledger.sqlite"
    if lines(tmp_path):
        assert damage(ledger) == ""
        assert verify(ledger).line == 0


def test_a_full_disk_keeps_no_history_from_being_opened(tmp_path, monkeypatch, capsys):
    """Only which one it was is not noted."""

    def full(*_: object) -> None:
        raise OSError(errno.ENOSPC, "No space left on device")

    opened: list[object] = []
    monkeypatch.setattr("hawser.desk.app.start.run", lambda *told, **_: opened.append(told) or 0)
    monkeypatch.setattr("hawser.formats.atomic.os.fsync", full)
    files = Path(__file__).parents[2] / "examples"
    bars = [
        "--bars",
        str(files / "quillan-ferry-5m.csv"),
        "--instrument",
        str(files / "quillan-ferry.toml"),
    ]
    accounts = [
        text
        for name in ("account", "second-account")
        for text in ("--account", str(files / f"{name}.toml"))
    ]
    assert main([*bars, *accounts, "--profile-root", str(tmp_path)]) == 0
    assert len(opened) == 1
    assert (
        "last-opened.toml: cannot be written (No space left on device)"
    ) in capsys.readouterr().err
