"""Conversion into the account's currency (reckoning section 2): direct, else inverse, else one bridge."""

from __future__ import annotations

from collections.abc import Mapping

from hawser.core.account import Rate
from hawser.core.errors import Refused

Rates = Mapping[str, float | Rate]


def convert(source: str, target: str, rates: Rates, max_age_s: float | None = None) -> float:
    """Units of `target` for one `source`, at mid rates.

    Raises Refused `rate_missing`, or `rate_stale` where a rate it needs is older than `max_age_s`.
    """
    if source == target:
        return 1.0
    straight = _leg(source, target, rates, max_age_s)
    if straight is not None:
        return straight
    names = {name for pair in rates for name in pair.split("/")}
    for bridge in sorted(names - {source, target}):
        if _known(source, bridge, rates) and _known(bridge, target, rates):
            first = _leg(source, bridge, rates, max_age_s)
            second = _leg(bridge, target, rates, max_age_s)
            assert first is not None and second is not None  # both are known
            return first * second
    pair = f"{source}/{target}"
    raise Refused("rate_missing", f"No conversion rate from {source} to {target}.", pair=pair)


def _known(source: str, target: str, rates: Rates) -> bool:
    return f"{source}/{target}" in rates or f"{target}/{source}" in rates


def _leg(source: str, target: str, rates: Rates, max_age_s: float | None) -> float | None:
    for pair, inverse in ((f"{source}/{target}", False), (f"{target}/{source}", True)):
        rate = rates.get(pair)
        if rate is None:
            continue
        mid, age_s = (rate.mid, rate.age_s) if isinstance(rate, Rate) else (rate, 0.0)
        if max_age_s is not None and age_s > max_age_s:
            sentence = f"The rate {pair} is {age_s:.0f} s old; the policy allows {max_age_s:.0f} s."
            raise Refused("rate_stale", sentence, pair=pair, age_s=age_s)
        return 1.0 / mid if inverse else mid
    return None
