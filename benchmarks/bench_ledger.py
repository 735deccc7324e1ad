"""Starting on a ledger of 1,000,000 events: seconds, and the ratio to only reading the file, in the
same run."""

from __future__ import annotations

import sqlite3
import tempfile
import time
from decimal import Decimal
from pathlib import Path

from hawser.core.account import Account
from hawser.core.clock import MINUTE, SECOND
from hawser.core.instrument import Commission, Instrument
from hawser.engine import events as ev
from hawser.engine.engine import Engine
from hawser.ledger.ledger import Entry, Ledger
from hawser.service.runtime.engine_thread import HEAR
from hawser.service.views.logbook_lines import Teller

EVENTS, BATCH = 1_000_000, 20_000
INSTRUMENT = Instrument(
    symbol="Harbour 40",
    kind="index",
    quote="CHF",
    tick=Decimal("0.5"),
    multiplier=5.0,
    qty_step=Decimal("0.1"),
    qty_min=Decimal("0.1"),
    qty_max=Decimal(50),
    margin_rate=0.05,
    commission=Commission(per_unit=1.5),
)
START = 1_930_435_200 * SECOND


def event(number: int) -> ev.AnyEvent:
    """What a long session records: quotes before bars, bars, the account's figures."""
    now = START + number * SECOND
    if number % 4 == 0:
        opened = now // MINUTE * MINUTE
        return ev.BarCompleted(
            time=now,
            symbol="Harbour 40",
            span=MINUTE,
            opened=opened,
            open=4100.0,
            high=4101.0,
            low=4099.0,
            close=4100.5,
            spread=3.0,
            atr=5.5,
        )
    if number % 4 == 1:
        return ev.Figures(
            time=now, balance=64_000.0, equity=64_000.0 + number % 100, margin_used=0.0
        )
    bid = 8200 + number % 17
    return ev.Quote(
        time=now, symbol="Harbour 40", bid=bid, ask=bid + 3, high_bid=bid, low_ask=bid + 3
    )


def write(path: Path) -> None:
    ledger, engine = Ledger(path), Engine()
    account = Account(currency="CHF", equity=64_000.0, balance=64_000.0)
    batch: list[Entry] = []
    opened = ev.Opened(time=START, prefix="B", account=account, instruments=(INSTRUMENT,))
    for number in range(EVENTS):
        one = opened if number == 0 else event(number)
        batch.append((one, engine.handle(one)))
        if len(batch) == BATCH:
            ledger.append(batch)
            batch.clear()
            ledger.snapshot(engine.state)
    ledger.append(batch)
    ledger.close()


def read_only(path: Path) -> float:
    """Every byte of the record, and nothing made of it."""
    begun, db = time.perf_counter(), sqlite3.connect(path)
    total = sum(len(body) for (body,) in db.execute("SELECT body FROM record"))
    db.close()
    took = time.perf_counter() - begun
    size = path.stat().st_size / 1e6
    print(
        f"{EVENTS} events, {total / 1e6:.0f} MB of records, file {size:.0f} MB; read in "
        f"{took:.2f} s"
    )
    return took


def main() -> None:
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "ledger.sqlite"
        write(path)
        reading = read_only(path)
        begun = time.perf_counter()
        ledger = Ledger(path)
        engine = ledger.restore()
        lines = Teller()
        lines.begin(engine.state)
        told = lines.told(ledger.rows(after=ledger.seq - HEAR))
        start = time.perf_counter() - begun
        print(
            f"start with a snapshot, the last {len(told)} lines: {start:.2f} s, ratio "
            f"{start / reading:.2f}"
        )
        ledger._db.execute("DELETE FROM snapshot")
        begun = time.perf_counter()
        ledger.restore()
        whole = time.perf_counter() - begun
        print(
            f"folding all of it, without the snapshot: {whole:.2f} s, ratio {whole / reading:.1f}"
        )
        ledger.close()


if __name__ == "__main__":
    main()
