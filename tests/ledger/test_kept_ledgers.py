"""Ledgers that landed versions wrote are opened: what was open is open, what had latched is
latched.

`tests/ledgers/` has a folder for each version, named after its commit, made by
`tests/keep_ledgers.py`: after a clean end and after a kill, with guards, a halt and a ladder;
beside each the summary that its own version gave of it.
"""

from __future__ import annotations

import json
import lzma
from pathlib import Path

import pytest

from hawser.ledger.ledger import Ledger
from hawser.ledger.verify import damage, folded
from keep_ledgers import summary

KEPT = Path(__file__).parents[1] / "ledgers"
FILES = sorted(KEPT.glob("*/*.sqlite.xz"))


@pytest.mark.parametrize(
    "file", FILES, ids=lambda path: f"{path.parent.name}/{path.name.partition('.')[0]}"
)
def test_a_kept_ledger_opens_to_what_was_open(file, tmp_path):
    path = tmp_path / "ledger.sqlite"
    path.write_bytes(lzma.decompress(file.read_bytes()))
    then = json.loads(file.with_name(file.name.replace(".sqlite.xz", ".json")).read_text())
    assert damage(path) == ""
    assert summary(folded(path))["trades"].keys() == then["trades"].keys()
    ledger = Ledger(path)
    restored = ledger.restored()
    now = summary(restored.engine.state)
    assert now["latched"] == then["latched"]
    assert now["halt"] == then["halt"]
    for name, trade in then["trades"].items():
        assert now["trades"][name] == trade, restored.trouble
    ledger.snapshot(restored.engine.state)
    ledger.begin_version(restored.engine.state)
    ledger.close()
    again = Ledger(path)
    assert summary(again.restored().engine.state) == now
    again.close()


def test_ledgers_are_kept():
    assert len({file.parent for file in FILES}) >= 1
    assert len(FILES) >= 5
