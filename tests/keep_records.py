"""Keeps the records of some storms, with every command the engine gave: run when what it gives has changed on purpose.

Usage: keep_records.py. `test_records.py` replays them: whatever else changes, the engine decides as it did, to the
word. The seeds are those of 100 storms that together run the most lines of it.
"""

from __future__ import annotations

import tempfile
from pathlib import Path

from hawser.ledger.ledger import Ledger
from hawser.service.storm import Storm
from keep_ledgers import packed

RECORDS = Path(__file__).with_name("records")
SEEDS = {
    4014: False, 4020: False, 4026: False, 4027: False, 4028: False, 4032: False, 4038: False, 4044: False, 4046: False,
    4100: True, 4103: True, 4104: True, 4107: True, 4109: True, 4134: True, 4149: True,
}  # fmt: skip
MINUTES, KILLS = 8, 0.05


def keep(seed: int, guards: bool) -> None:
    with tempfile.TemporaryDirectory() as place:
        path = Path(place) / "ledger.sqlite"
        storm = Storm(seed, "gale", Ledger(path), kills=KILLS, guards=guards)
        found = storm.run(MINUTES)
        assert not found.broken, found
        storm.session.close()
        (RECORDS / f"{seed}.sqlite.xz").write_bytes(packed(path))


if __name__ == "__main__":
    RECORDS.mkdir(exist_ok=True)
    for old in RECORDS.iterdir():
        old.unlink()
    for seed, guards in SEEDS.items():
        keep(seed, guards)
