"""The engine decides as it did: records of storms, replayed, give every command that was recorded, to the word.

Where that has changed on purpose, `tests/keep_records.py` keeps new ones.
"""

import lzma
from pathlib import Path

import pytest

from hawser.ledger.verify import verify
from keep_records import RECORDS, SEEDS


@pytest.mark.parametrize("seed", SEEDS)
def test_a_recorded_storm_replays_to_the_same_commands(seed, tmp_path):
    path = Path(tmp_path) / "ledger.sqlite"
    path.write_bytes(lzma.decompress((RECORDS / f"{seed}.sqlite.xz").read_bytes()))
    verdict = verify(path)
    told = f"line {verdict.line}\n recorded {verdict.recorded}\n replayed {verdict.replayed}"
    assert not verdict.line, told
    assert verdict.commands > 100
