"""Numbers as records hold them: the bounds that each of a file keeps to, and what stands for one
that is missing."""

from __future__ import annotations

import math

# No amount, rate, factor or distance that somebody enters is more: what is reckoned of several
# stays a number.
MOST = 1e15
MOST_BARS = 1_000_000  # of one window
LEAST = 1e-12  # and none that is not 0 is nearer to it


def or_nan(value: float | None) -> float:
    """A value for the compiled rules, to which one that is missing is no number."""
    return math.nan if value is None else float(value)
