"""Conversion into the account's currency (reckoning section 2): direct, else inverse, else one
bridge.

Where a feed tells rates, the account's file speaks only where nothing live does: a figure of last
year once beat the feed's inverse pair, and sizes were a quarter too large.
"""

from __future__ import annotations

from collections.abc import Mapping

from hawser.core.account import FiledRate, Rate
from hawser.core.errors import Refused

Rates = Mapping[str, float | Rate]


def with_filed(live: Rates, filed: Rates, read_s: float) -> dict[str, float | Rate]:
    """Live rates and those `filed` in the account, whose own pair is not told live; which come
    first, `convert` knows. `read_s`: how long ago the file was read, seconds, on top of the age it
    tells itself."""
    rates: dict[str, float | Rate] = dict(live)
    for pair, rate in filed.items():
        if not _known(*_sides(pair), live):
            mid, age_s = (rate.mid, rate.age_s) if isinstance(rate, Rate) else (rate, 0.0)
            rates[pair] = FiledRate(mid, age_s + read_s)
    return rates


def _sides(pair: str) -> tuple[str, str]:
    source, _, target = pair.partition("/")
    return source, target


def used(source: str, target: str, rates: Rates) -> list[tuple[str, float | Rate]]:
    """The rates that a conversion takes, with their pairs; none where none is needed or known."""
    way = _way(source, target, rates)
    found = [pair if (pair := f"{a}/{b}") in rates else f"{b}/{a}" for a, b in way]
    return [(pair, rates[pair]) for pair in found]


def convert(source: str, target: str, rates: Rates, max_age_s: float | None = None) -> float:
    """Units of `target` for one `source`, at mid rates. A rate of the account's file is taken only
    where no way goes by live ones: neither the pair, nor its inverse, nor a bridge.

    Raises Refused `rate_missing`, or `rate_stale` where a rate it needs is older than `max_age_s`.
    """
    if source == target:
        return 1.0
    way = _way(source, target, rates)
    if not way:
        pair = f"{source}/{target}"
        raise Refused("rate_missing", f"No conversion rate from {source} to {target}.", pair=pair)
    found = 1.0
    for leg in way:
        found *= _leg(*leg, rates, max_age_s)
    return found


def line_for(refusal: Refused) -> str:
    """What is to be written into an account's file where a rate is missing; empty for another
    refusal."""
    pair = str(refusal.values.get("pair", "")) if refusal.code == "rate_missing" else ""
    source, _, target = pair.partition("/")
    if not target:
        return ""
    return f'; write under [rates]: "{pair}" = ..., how many {target} one {source} is'


def _way(source: str, target: str, rates: Rates) -> list[tuple[str, str]]:
    """The legs of a conversion: straight, else over the alphabetically first bridge; none where
    there is no way."""
    if source == target:
        return []
    live = {pair: rate for pair, rate in rates.items() if not isinstance(rate, FiledRate)}
    for among in (live, rates) if len(live) < len(rates) else (rates,):
        if _known(source, target, among):
            return [(source, target)]
        names = {name for pair in among for name in pair.split("/")}
        for bridge in sorted(names - {source, target}):
            if _known(source, bridge, among) and _known(bridge, target, among):
                return [(source, bridge), (bridge, target)]
    return []


def _known(source: str, target: str, rates: Rates) -> bool:
    return f"{source}/{target}" in rates or f"{target}/{source}" in rates


def _leg(source: str, target: str, rates: Rates, max_age_s: float | None) -> float:
    """A rate that is known, direct before inverse."""
    direct, inverse = f"{source}/{target}", f"{target}/{source}"
    pair = direct if direct in rates else inverse
    rate = rates[pair]
    mid, age_s = (rate.mid, rate.age_s) if isinstance(rate, Rate) else (rate, 0.0)
    if max_age_s is not None and age_s > max_age_s:
        whose = " of the account's file" if isinstance(rate, FiledRate) else ""
        sentence = (
            f"The rate {pair}{whose} is {age_s:.0f} s old; the policy allows {max_age_s:.0f} s."
        )
        raise Refused("rate_stale", sentence, pair=pair, age_s=age_s)
    return 1.0 / mid if pair == inverse else mid
