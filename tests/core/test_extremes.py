"""No whole number of the rules wraps around: compiled they give what they give interpreted, where
none has an end."""

from __future__ import annotations

import json
import math
import os
import subprocess
import sys
from collections import Counter
from pathlib import Path

WRITER = Path(__file__).with_name("extremes.py")
COUNTED = 10**15  # what is read at most; whole numbers beyond are as exact as a float is


def near(one, other):
    if isinstance(one, list):
        return isinstance(other, list) and len(one) == len(other) and all(map(near, one, other))
    if one is None:
        return other is None
    if isinstance(one, float) or abs(one) > COUNTED:
        return math.isclose(one, other, rel_tol=1e-12, abs_tol=0.0) or (
            math.isnan(one) and math.isnan(other)
        )
    return one == other


def written(seed, **environment):
    words = [sys.executable, str(WRITER), str(seed), "250"]
    done = subprocess.run(
        words, env={**os.environ, **environment}, capture_output=True, text=True, check=True
    )
    return [json.loads(line) for line in done.stdout.splitlines()]


def test_rules_at_the_extremes():
    slow, fast = written(15, NUMBA_DISABLE_JIT="1"), written(15, NUMBA_DISABLE_JIT="0")
    counted = Counter(name for name, _, result in slow if result != "division")
    assert len(counted) >= 55
    assert min(counted.values()) > 100
    for one, other in zip(slow, fast, strict=True):
        assert one[:2] == other[:2] or near(one[1], other[1])
        assert one[2] == "division" or near(one[2], other[2]), (one, other[2])
