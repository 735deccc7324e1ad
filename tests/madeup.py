"""Made-up instruments and accounts, and where the cases with right answers are."""

from __future__ import annotations

from decimal import Decimal
from pathlib import Path

import pytest

from hawser.core.account import Account, Costs, Policy, SizeRule
from hawser.core.instrument import Commission, Instrument

ROOT = Path(__file__).parents[1]
CASES = ROOT.parent / "shared" / "cases"
needs_cases = pytest.mark.skipif(not CASES.is_dir(), reason="the cases are not beside the project")

# In the place of what Hawser wrote down for itself: cut off, of a disk that failed, and what only a
# decoder trips over.
NO_UTF8 = b'{"venue": "\xff", "theme": "\xff", "webhook": [["\xff", 1.0]]}'
NO_JSON = (b"", b"{", b"\0" * 64, NO_UTF8, b'{"more": ' + b"[" * 200_000)


def pair(**changes: object) -> Instrument:
    """A made-up currency pair."""
    values = {
        "symbol": "CAD/CHF",
        "kind": "fx",
        "quote": "CHF",
        "base": "CAD",
        "tick": Decimal("0.00001"),
        "multiplier": 100_000.0,
        "qty_step": Decimal("0.01"),
        "qty_min": Decimal("0.01"),
        "qty_max": Decimal(50),
        "margin_rate": 0.05,
        "min_stop_ticks": 10,
        "currencies": ("CAD", "CHF"),
        "commission": Commission(per_unit=2.5),
    } | changes
    return Instrument(**values)  # type: ignore[arg-type]


def account(**changes: object) -> Account:
    """A made-up account."""
    values = {
        "currency": "CHF",
        "equity": 64_000.0,
        "balance": 64_000.0,
        "size": SizeRule(percent=0.6),
        "costs": Costs(),
        "policy": Policy(),
    } | changes
    return Account(**values)  # type: ignore[arg-type]
