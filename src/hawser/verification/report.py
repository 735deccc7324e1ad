"""`hawser storm`: many storms at once, one report of what they did and of every promise that was
broken."""

from __future__ import annotations

import json
import os
import sys
import time
from concurrent.futures import ProcessPoolExecutor
from functools import partial
from typing import Any

from hawser.core.clock import SECOND
from hawser.verification.judge import Findings
from hawser.verification.places import place_of
from hawser.verification.storm import traced, weathered

LABELS = {
    "naked": "positions found without cover past the deadline",
    "doubled": "duplicate entries",
    "overcovered": "protection beyond position",
    "lost_fills": "lost fills",
    "ledger": "ledger mismatches",
    "uncovered": "positions uncovered while shown as protected",
    "loosened": "limits loosened before their time",
    "widened": "stops moved away that nobody asked for",
    "stripped": "stops taken back that were needed",
    "floods": "floods of requests",
    "oversized": "entries beyond what may be risked",
    "passed": "entries through a closed guard",
    "untripped": "kill switches that did not trip",
    "unfinished": "storms that did not come to their end",
}

SHOWN = 10  # failed seeds that are told one by one


def report(first: int, count: int, severity: str, as_json: bool, guards: bool = False) -> bool:
    """Run the storms on every core and print what was found; True where every promise was kept."""
    begun = time.monotonic()
    work = partial(weathered, severity=severity, guards=guards)
    workers = min(os.cpu_count() or 1, count)
    with ProcessPoolExecutor(workers) as pool:
        found = []
        for number, one in enumerate(
            pool.map(work, range(first, first + count), chunksize=4), start=1
        ):
            found.append(one)
            if one.broken:  # told at once: the rest may take an hour
                kinds = ", ".join(LABELS[kind] for kind in one.broken)
                print(f"seed {one.seed} failed: {kinds}", file=sys.stderr, flush=True)
            if sys.stderr.isatty():
                print(f"\r{number} of {count} storms", end="", file=sys.stderr, flush=True)
    if sys.stderr.isatty():
        print(file=sys.stderr)
    summed = summary(found, time.monotonic() - begun)
    print(json.dumps(summed, indent=1) if as_json else written(summed))
    return not summed["failed_seeds"]


def summary(found: list[Findings], seconds: float) -> dict[str, Any]:
    """The report's figures; times in seconds."""
    exposed = sorted(time for one in found for time in one.exposed) or [0]
    faults: dict[str, int] = {}
    for one in found:
        for kind, times in one.faults.items():
            faults[kind] = faults.get(kind, 0) + times
    trades = sum(one.trades for one in found)
    return {
        "storms": len(found),
        "trades": trades,
        "requests": sum(one.requests for one in found),
        "kills": sum(one.kills for one in found),
        "faults": {kind: times for kind, times in faults.items() if kind != "pass"},
        "simulated_hours": sum(one.simulated for one in found) / SECOND / 3600,
        "trades_per_second": trades / seconds,
        "median_exposed_s": exposed[len(exposed) // 2] / SECOND,
        "longest_exposed_s": max(one.longest_exposed for one in found) / SECOND,
        "longest_without_stop_at_venue_s": max(one.longest_naked for one in found) / SECOND,
        **{kind: sum(len(one.broken.get(kind, ())) for one in found) for kind in LABELS},
        "failed_seeds": {one.seed: one.broken for one in found if one.broken},
    }


def written(summed: dict[str, Any]) -> str:
    """The report as people read it."""
    lines = [
        f"{summed['storms']} storms, {summed['simulated_hours']:.1f} simulated hours, "
        f"{summed['trades_per_second']:.1f} trades per second of real time",
        f"trades {summed['trades']}, requests {summed['requests']}, kills {summed['kills']}",
        "faults: "
        + (", ".join(f"{kind} {times}" for kind, times in summed["faults"].items()) or "none"),
        f"exposed: median of all trades {summed['median_exposed_s']:.2f} s, longest while the "
        "venue could be acted on "
        f"{summed['longest_exposed_s']:.2f} s",
        (
            "longest without a stop at the venue, whatever the weather: "
            f"{summed['longest_without_stop_at_venue_s']:.1f} s"
        ),
        *(f"{LABELS[kind]}: {summed[kind]}" for kind in LABELS),
    ]
    failed = summed["failed_seeds"]
    for seed, broken in list(failed.items())[:SHOWN]:
        lines.append(f"seed {seed} failed; trace it with: hawser storm --replay {seed}")
        lines += [
            f"  {LABELS[kind]}: {text}" for kind, texts in broken.items() for text in texts[:2]
        ]
    if len(failed) > SHOWN:
        lines.append(f"and {len(failed) - SHOWN} more seeds failed")
    return "\n".join(lines)


def replay(seed: int, severity: str, guards: bool = False) -> bool:
    """One storm, every line of its Logbook, and what it broke."""
    found, lines = traced(seed, severity, guards=guards)
    start = place_of(seed).start
    for line in lines:
        print(f"{(line.time - start) / SECOND:10.3f}  {line.kind:8} {line.trade:6} {line.text}")
    print(written(summary([found], 1.0)))
    return not found.broken
