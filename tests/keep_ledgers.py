"""Keeps ledgers of this version for all later ones: run before a version lands, once.

Usage: keep_ledgers.py FOLDER (tests/ledgers/COMMIT). What is written there is never written again.
"""

from __future__ import annotations

import contextlib
import json
import lzma
import sqlite3
import sys
import tempfile
from collections.abc import Callable
from pathlib import Path
from typing import Any

from hawser.core.clock import MINUTE, SECOND
from hawser.engine.model.state import EngineState
from hawser.ledger.ledger import Ledger
from hawser.verification.storm import Storm


def summary(state: EngineState) -> dict[str, Any]:
    """What a person would miss: trades with their orders, the halt, what has latched."""
    return {
        "halt": state.halt is not None,
        "trades": {
            trade.id: {
                "state": trade.state,
                "symbol": trade.symbol,
                "side": trade.side,
                "open": trade.open_steps,
                "stop": trade.stop,
                "entry": trade.entry.order_id,
                "profit": trade.profit,
                "orders": {
                    name: [
                        state.orders[name].role,
                        state.orders[name].state,
                        state.orders[name].level,
                        state.orders[name].steps,
                        state.orders[name].filled,
                    ]
                    for name in trade.order_ids
                },
            }
            for trade in state.trades.values()
        },
        "latched": sorted(key for key, memory in state.memory.items() if memory.latched),
    }


def packed(path: Path) -> bytes:
    """A closed ledger in one piece, compressed."""
    with contextlib.closing(sqlite3.connect(path)) as db:
        db.execute("PRAGMA journal_mode=DELETE")
        db.execute("VACUUM")
    return lzma.compress(path.read_bytes(), preset=9)


def keep(
    folder: Path,
    name: str,
    first: int,
    minutes: float,
    clean: bool,
    guards: bool,
    wanted: Callable[[EngineState], bool],
) -> None:
    """The first storm from seed `first` on that ends as is wanted."""
    for seed in range(first, first + 400):
        with tempfile.TemporaryDirectory() as place:
            path = Path(place) / "ledger.sqlite"
            storm = Storm(seed, "gale", Ledger(path), guards=guards)
            end = storm.venue.now + int(minutes * MINUTE)
            while storm.venue.now < end:
                storm._act()
                storm.watch(storm.venue.now + int(storm.random.uniform(0.05, 15) * SECOND))
            storm._disk.recover(storm.ledger, storm.venue.now)  # what is kept is whole
            storm.watch(storm.venue.now + 60 * SECOND)
            storm.session.write_down()
            if wanted(storm.state):
                told = summary(storm.state)
                storm.session.close() if clean else storm.ledger.close()
                (folder / f"{name}.sqlite.xz").write_bytes(packed(path))
                (folder / f"{name}.json").write_text(json.dumps(told, indent=1) + "\n")
                return
            storm.ledger.close()


def several(state: EngineState) -> bool:
    return sum(trade.open_steps > 0 for trade in state.live()) >= 2


if __name__ == "__main__":
    into = Path(sys.argv[1])
    into.mkdir(parents=True)
    keep(into, "clean", 500, 3, True, False, several)
    keep(into, "killed", 700, 3, False, False, several)
    keep(
        into,
        "guarded",
        900,
        4,
        False,
        True,
        lambda state: several(state) and any(memory.latched for memory in state.memory.values()),
    )
    keep(into, "halted", 1100, 3, False, False, lambda state: state.halt is not None)
    keep(
        into,
        "ladder",
        1300,
        4,
        False,
        False,
        lambda state: any(
            rung.filled for trade in state.live() if trade.open_steps for rung in trade.ladder.rungs
        ),
    )
