"""Heat: what is lost from entry if every stop fills at its level now (reckoning section 5)."""

from __future__ import annotations

import math
from collections.abc import Iterable

import msgspec

from hawser.core.rules.quantity import Fees, result_at_stop


class Stake(msgspec.Struct, frozen=True):
    """An open position as heat sees it. Prices in price units."""

    side: int
    qty: float
    entry: float
    stop: float
    fees: Fees
    exposure: tuple[str, ...]


def outcome_at_stop(stake: Stake) -> float:
    """Money if the stop fills at its level, both commissions included; negative is a loss."""
    return result_at_stop(stake.side, stake.qty, stake.entry, stake.stop, stake.fees)


def heat(stake: Stake) -> float:
    """The loss of one position at its stop, never below 0; NaN where its money is not known."""
    outcome = outcome_at_stop(stake) if stake.qty else 0.0
    return outcome if math.isnan(outcome) else max(0.0, -outcome)


def locked(stake: Stake) -> float:
    """The profit a stop beyond entry secures; told apart, never offset against heat. NaN where it
    is not known."""
    outcome = outcome_at_stop(stake) if stake.qty else 0.0
    return outcome if math.isnan(outcome) else max(0.0, outcome)


def heat_by_currency(stakes: Iterable[Stake]) -> dict[str, float]:
    """Heat summed for each currency of exposure."""
    totals: dict[str, float] = {}
    for stake in stakes:
        for name in stake.exposure:
            totals[name] = totals.get(name, 0.0) + heat(stake)
    return totals
