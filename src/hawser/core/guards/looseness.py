"""What makes a policy, its news, its periods or the account's limits looser: one judgement for all
of them, whichever file or form a change comes by (reckoning section 9). What is looser waits; what
is tighter holds at once.
"""

from __future__ import annotations

import msgspec

from hawser.core.account import Policy
from hawser.core.errors import BadInput
from hawser.core.guards.declared import IMPACTS, AnyGuard, Guards, NewsSources

PERIODS = ("zone", "day_starts", "week_starts")
# +1: a limit of the account holds back less when it grows
ACCOUNT_LIMITS = {
    "max_notional_percent": 1,
    "max_margin_percent": 1,
    "max_heat_percent": 1,
    "max_currency_heat_percent": 1,
    "max_positions": 1,
    "max_rate_age_s": 1,
    "exposed_deadline_s": 1,
}


def loosened(old: AnyGuard, new: AnyGuard | None) -> list[str]:
    """The keys in which `new` holds back less than `old` did; 'on' where it is gone or off. A
    change whose direction cannot be told counts as looser."""
    if not old.on:
        return []
    if new is None or not new.on or type(new) is not type(old):
        return ["on"]
    found = []
    for key in old.__struct_fields__:
        before, after = getattr(old, key), getattr(new, key)
        if before == after or key == "on":
            continue
        if key in ("instruments", "sources"):
            # none named means all
            looser = bool(after) and (not before or not set(before) <= set(after))
        elif key == "then":
            looser = not set(before) <= set(after)
        else:
            looser = _looser(before, after, old.LOOSER.get(key, 0))
        if looser:
            found.append(key)
    return found


def _looser(before: object, after: object, way: int) -> bool:
    if (
        not way
        or not isinstance(before, (int, float, type(None)))
        or not isinstance(after, (int, float, type(None)))
    ):
        return True
    if before is None:
        return False  # a limit more
    return after is None or way * (after - before) > 0


def loosened_news(old: NewsSources, new: NewsSources) -> bool:
    """Whether events may be missed, or count for less, that counted before. Further calendars, a
    higher impact and more currencies for events that name none are no less."""
    gone = not set(old.files) <= set(new.files)
    currency = new.otherwise_currency not in (old.otherwise_currency, "ALL")
    impact = IMPACTS.index(new.otherwise_impact) < IMPACTS.index(old.otherwise_impact)
    return gone or currency or impact or old.tz != new.tz or old.rule != new.rule


def loosened_account(old: Policy, new: Policy) -> list[str]:
    """The account's limits in which `new` holds back less."""
    found = [key for key, way in ACCOUNT_LIMITS.items() if _changed_looser(old, new, key, way)]
    if old.never_widen and not new.never_widen:
        found.append("never_widen")
    if old.caps == "refuse" and new.caps == "fit":
        found.append("caps")
    return found


def _changed_looser(old: Policy, new: Policy, key: str, way: int) -> bool:
    before, after = getattr(old, key), getattr(new, key)
    return bool(before != after and _looser(before, after, way))


def tightest_account(old: Policy, new: Policy) -> Policy:
    """`new` with the limits of `old` where those hold back more."""
    return msgspec.structs.replace(
        new, **{key: getattr(old, key) for key in loosened_account(old, new)}
    )


def tightest_guard(old: AnyGuard, new: AnyGuard | None) -> AnyGuard:
    """`new` with what holds back more in `old`."""
    keys = loosened(old, new)
    if new is None or "on" in keys:
        return old
    try:
        return msgspec.structs.replace(new, **{key: getattr(old, key) for key in keys})
    except BadInput:  # the two do not go together
        return old


def loosened_rules(old: Guards, new: Guards) -> list[str]:
    """Of what holds for all guards: periods that begin at other times, news that counts for less,
    no more waiting. With no guard there is nothing to loosen."""
    if not old.guard:
        return []
    found = [key for key in PERIODS if getattr(old, key) != getattr(new, key)]
    if loosened_news(old.news, new.news):
        found.append("news")
    if old.loosen == "next_period" and new.loosen == "now":
        found.append("loosen")
    return found
