"""Conversion into the account's currency (reckoning section 2): direct, else inverse, else one bridge.

Where a feed tells rates, the account's file speaks only where nothing live does: a figure of last year once beat the
feed's inverse pair, and sizes were a quarter too large.
"""

from __future__ import annotations

from collections.abc import Mapping

from hawser.core.account import FiledRate, Rate
from hawser.core.errors import Refused

Rates = Mapping[str, float | Rate]


def with_filed(live: Rates, filed: Rates, read_s: float) -> dict[str, float | Rate]:
    """Live rates, and of those `filed` in the account what nothing live answers: neither the pair, nor its inverse, nor
    a bridge. `read_s`: how long ago the file was read, seconds, on top of the age it tells itself."""
    rates: dict[str, float | Rate] = dict(live)
    for pair, rate in filed.items():
        source, _, target = pair.partition("/")
        if _answered(source, target, live):
            continue
        mid, age_s = (rate.mid, rate.age_s) if isinstance(rate, Rate) else (rate, 0.0)
        rates[pair] = FiledRate(mid, age_s + read_s)
    return rates


def _answered(source: str, target: str, rates: Rates) -> bool:
    try:
        convert(source, target, rates)
    except Refused:
        return False
    return True


def used(source: str, target: str, rates: Rates) -> list[tuple[str, float | Rate]]:
    """The rates that a conversion takes, with their pairs; none where none is needed or known."""
    names = {name for pair in rates for name in pair.split("/")}
    ways = [[(source, target)], *([(source, bridge), (bridge, target)] for bridge in sorted(names - {source, target}))]
    for way in ways if source != target else ():
        if all(_known(*leg, rates) for leg in way):
            found = [pair if (pair := f"{a}/{b}") in rates else f"{b}/{a}" for a, b in way]
            return [(pair, rates[pair]) for pair in found]
    return []


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
            whose = " of the account's file" if isinstance(rate, FiledRate) else ""
            sentence = f"The rate {pair}{whose} is {age_s:.0f} s old; the policy allows {max_age_s:.0f} s."
            raise Refused("rate_stale", sentence, pair=pair, age_s=age_s)
        return 1.0 / mid if inverse else mid
    return None
