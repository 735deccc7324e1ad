"""A process killed at any instant restarts to the state it had written down, and to a protected
account."""

import random
import signal
import subprocess
import sys
from pathlib import Path

import pytest

from hawser.engine.engine import Engine
from hawser.engine.events import Event
from hawser.ledger.ledger import Ledger
from killed import digest, open_storm

KILLS_EACH = 6
HERE = Path(__file__).parents[1]


def killed_once(folder: Path, seed: int, draw: random.Random) -> tuple[int, str]:
    """Run, kill at some moment after so many lines; the last line that was wholly told."""
    process = subprocess.Popen(
        [sys.executable, str(HERE / "killed.py"), str(folder), str(seed)],
        stdout=subprocess.PIPE,
        text=True,
    )
    assert process.stdout is not None
    first = process.stdout.readline()  # it is running
    more = [process.stdout.readline() for _ in range(draw.randrange(60))]
    process.send_signal(signal.SIGKILL)
    told = ("".join((first, *more)) + process.stdout.read()).splitlines(keepends=True)
    process.stdout.close()
    assert process.wait() == -signal.SIGKILL
    whole = [line for line in told if line.endswith("\n")]
    seq, state = whole[-1].split()
    return int(seq), state


def folded(folder: Path, seq: int) -> Engine:
    """The record's first `seq` lines, folded without any snapshot."""
    ledger, engine = Ledger(folder / "ledger.sqlite"), Engine()
    for row in ledger.rows():
        if row.seq <= seq and isinstance(row.item, Event):
            engine.handle(row.item)
    ledger.close()
    return engine


@pytest.mark.parametrize("seed", range(3))
def test_a_killed_process_restarts_to_the_same_state_and_to_cover(tmp_path, seed):
    draw, seen = random.Random(seed), 0
    for number in range(KILLS_EACH):
        seq, state = killed_once(tmp_path, seed * 100 + number, draw)
        assert digest(folded(tmp_path, seq).state) == state
        ledger = Ledger(tmp_path / "ledger.sqlite")
        first, second = ledger.restore(), ledger.restore()
        print(f"killed.py FOLDER {seed * 100 + number} {ledger.seq}")  # shown where the test fails
        assert ledger.seq >= seq
        ledger.close()
        assert digest(first.state) == digest(second.state)
        seen += len(first.state.live())
    assert seen, "no kill ever met an open trade"
    # Once more, in good weather, until all is settled: nothing is naked, nothing is left over.
    storm = open_storm(tmp_path, seed * 100 + 99)
    storm.settle()
    assert not storm.found.broken
    storm.session.close()
    storm.venue.close()
