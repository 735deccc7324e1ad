"""Sizing 10,000 different requests through the core, against the bare closed formula in Python
floats; and `hawser size` as a whole process against a process that only imports NumPy."""

from __future__ import annotations

import json
import math
import random
import subprocess
import sys
import tempfile
import time
from decimal import Decimal
from pathlib import Path

from figures import line, median, ratio
from hawser.core.account import Account, Costs, Policy, SizeRule
from hawser.core.instrument import Commission, Instrument
from hawser.core.levels import StopRule, TargetRule
from hawser.core.size_terms import SizeRequest
from hawser.core.sizing import sized
from hawser.formats.size_json import written

COUNT, SLICE, RUNS = 10_000, 250, 7


def requests() -> list[SizeRequest]:
    """Different quotes, stops and risks, on four instruments, all of which can be sized."""
    draw, found = random.Random(3), []
    instruments = [
        Instrument(
            symbol=f"Made {n}",
            kind="index",
            quote="CHF",
            tick=Decimal(tick),
            multiplier=multiplier,
            qty_step=Decimal(step),
            qty_min=Decimal(step),
            qty_max=Decimal(100_000),
            margin_rate=0.05,
            min_stop_ticks=2,
            commission=Commission(per_unit=2.5),
        )
        for n, (tick, multiplier, step) in enumerate(
            (
                ("0.00001", 100_000.0, "0.01"),
                ("0.25", 2.0, "1"),
                ("0.01", 1.0, "1"),
                ("0.5", 5.0, "0.1"),
            )
        )
    ]
    targets = (TargetRule(share=0.4, r=1.0), TargetRule(share=0.3, r=2.5))
    for number in range(COUNT):
        account = Account(
            currency="CHF",
            equity=draw.uniform(2e5, 4e5),
            size=SizeRule(percent=draw.uniform(0.3, 2)),
            costs=Costs(),
            policy=Policy(max_notional_percent=500.0, max_heat_percent=3.0),
        )
        bid = draw.randint(40_000, 70_000)
        of = instruments[number % 4]
        found.append(
            SizeRequest(
                instrument=of,
                account=account,
                side=draw.choice((1, -1)),
                bid=bid,
                ask=bid + 12,
                atr=145 * of.tick_size,
                stop=StopRule(atr=draw.uniform(1, 4)),
                targets=targets,
            )
        )
    return found


def bare(request: SizeRequest) -> float:
    """The closed formula a trader keeps in a spreadsheet: no caps, no targets, no rounding of
    levels."""
    of = request.instrument
    ref = request.ask if request.side > 0 else request.bid
    distance = request.stop.atr * request.atr
    per_unit = distance * of.multiplier + 2 * of.commission.per_unit
    qty = request.account.size.percent / 100 * request.account.equity / per_unit
    steps = math.floor(qty / of.step_size)
    return steps * of.step_size * per_unit + 0.0 * ref


def seconds(work, items) -> float:
    started = time.perf_counter()
    for item in items:
        work(item)
    return (time.perf_counter() - started) / len(items)


def process(*command: str) -> float:
    started = time.perf_counter()
    subprocess.run(command, check=True, stdout=subprocess.DEVNULL)
    return time.perf_counter() - started


def main() -> int:
    items = requests()
    seconds(sized, items[:200])
    # In turn, slice by slice: what the machine takes from one it takes from the other.
    slices = [items[start : start + SLICE] for start in range(0, COUNT, SLICE)]
    pairs = [(seconds(sized, part), seconds(bare, part)) for part in slices]
    core, formula = median([pair[0] for pair in pairs]), median([pair[1] for pair in pairs])
    print(f"Sizing {COUNT} different requests")
    line("the bare formula", formula * 1e6, "us a request")
    line("the core, explained, capped, with two targets", core * 1e6, "us a request")
    kept = ratio("core / bare formula", median([pair[0] / pair[1] for pair in pairs]), 1.0, 40.0)
    answer = written(items[0], sized(items[0]))
    assert answer["ok"]
    text = json.dumps(
        {
            "instrument": {
                "symbol": "Made",
                "kind": "index",
                "quote": "CHF",
                "tick": "0.01",
                "multiplier": 1,
                "qty_step": "1",
                "qty_min": "1",
                "qty_max": "100000",
                "margin_rate": 0.05,
            },
            "account": {
                "currency": "CHF",
                "equity": 64000.0,
                "size": {"method": "risk_percent", "percent": 0.6},
            },
            "side": "long",
            "quote": {"bid": "94.60", "ask": "94.62"},
            "atr": 0.4,
            "stop": {"atr": 2.5},
        }
    )
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "request.json"
        path.write_text(text)
        ours, theirs = [], []
        for _ in range(RUNS):
            ours.append(process(str(Path(sys.executable).with_name("hawser")), "size", str(path)))
            theirs.append(process(sys.executable, "-c", "import numpy"))
    line("python -c 'import numpy'", median(theirs) * 1e3, "ms")
    line("hawser size", median(ours) * 1e3, "ms")
    kept &= ratio("hawser size / import numpy", median(ours), median(theirs), 2.5)
    return 0 if kept else 1


if __name__ == "__main__":
    sys.exit(main())
