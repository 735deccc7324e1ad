"""How benchmarks print: figures of this run and their ratio to a reference in the same run, against
a limit."""

from __future__ import annotations

import statistics
from collections.abc import Sequence


def percentile(values: Sequence[float], part: float) -> float:
    """The value at `part` (0 to 1) of the sorted values."""
    ordered = sorted(values)
    return ordered[min(len(ordered) - 1, int(part * len(ordered)))]


def line(what: str, value: float, unit: str) -> None:
    print(f"  {what:<52} {value:12.3f} {unit}")


def ratio(what: str, value: float, reference: float, most: float) -> bool:
    """Print a ratio and whether it keeps its limit; the run goes on either way."""
    found = value / reference
    kept = found <= most
    print(f"  {what:<52} {found:12.2f} of at most {most:g}  {'kept' if kept else 'NOT KEPT'}")
    return kept


def median(values: Sequence[float]) -> float:
    return statistics.median(values)
