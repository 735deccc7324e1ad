"""A careless hand in a storm: it edits guards, news, periods and the account's limits, and takes
edits back.

Nothing may get looser at once where the policy says that loosening waits: that is watched here, by
a list of its own of which way each figure loosens.
"""

from __future__ import annotations

import random
from collections.abc import Iterator
from typing import Any

import msgspec

from hawser.core.account import Account, Policy
from hawser.core.clock import MINUTE
from hawser.core.guards import declared as dc
from hawser.core.hours import period_around
from hawser.engine import events as ev
from hawser.engine.model.state import EngineState
from hawser.verification.places import StormPlace

# +1: a larger figure lets more pass
LARGER = {
    "max_ticks": 1,
    "most": 1,
    "percent": 1,
    "money": 1,
    "losses": 1,
    "minutes": -1,
    "before_min": -1,
    "after_min": -1,
    "max_heat_percent": 1,
    "max_currency_heat_percent": 1,
    "max_notional_percent": 1,
    "max_positions": 1,
    "exposed_deadline_s": 1,
}
LIMITS = Policy(
    max_heat_percent=6.0,
    max_currency_heat_percent=4.0,
    max_notional_percent=2_000.0,
    max_positions=6,
    exposed_deadline_s=5.0,
)
POLICY = dc.Guards(
    news=dc.NewsSources(tz="UTC"),
    guard=(
        dc.SpreadGuard(name="spread", max_ticks=120.0),
        dc.CountGuard(name="count", most=40),
        dc.CoolDownGuard(name="calm", minutes=0.1, per="instrument"),
        dc.LossSwitch(name="loss", percent=12.0),
        dc.StreakSwitch(name="streak", losses=12),
        dc.NewsGuard(name="news", before_min=0.5, after_min=0.5, missing="warn"),
    ),
)


def policy_of(place: StormPlace) -> dc.Guards:
    """The policy at the beginning: a day turns within the storm."""
    return msgspec.structs.replace(POLICY, day_starts=place.clock(5), zone=place.zone)


def an_edit(
    draw: random.Random, state: EngineState, now: int, ask_id: str, place: StormPlace
) -> ev.AskEvent | None:
    """Another policy, or other limits of the account."""
    if draw.random() < 0.35 and state.account is not None:
        return ev.ChangeAccount(time=now, ask_id=ask_id, account=_account(draw, state.account))
    return ev.ChangeGuards(
        time=now, ask_id=ask_id, guards=_guards(draw, state.guards, place), measures={}
    )


def _account(draw: random.Random, account: Account) -> Account:
    keys = (
        "max_heat_percent",
        "max_currency_heat_percent",
        "max_notional_percent",
        "max_positions",
        "never_widen",
        "caps",
    )
    key = draw.choice(keys)
    policy = account.policy
    changes: dict[str, Any] = {key: getattr(LIMITS, key, None)}
    if key == "never_widen":
        changes = {key: not policy.never_widen}
    elif key == "caps":
        changes = {key: "refuse" if policy.caps == "fit" else "fit"}
    elif draw.random() < 0.5:
        changes = {
            key: draw.choice((3, 6, 12))
            if key == "max_positions"
            else draw.choice((4.0, 9.0, 3_000.0))
        }
    return msgspec.structs.replace(account, policy=msgspec.structs.replace(policy, **changes))


def _guards(draw: random.Random, old: dc.Guards, place: StormPlace) -> dc.Guards:
    replace, kind = msgspec.structs.replace, draw.random()
    if kind < 0.1:
        return replace(old, loosen=draw.choice(("now", "next_period")))
    if kind < 0.2:
        return replace(
            old, day_starts=draw.choice([place.clock(minutes) for minutes in (3, 5, 8, 480)])
        )
    if kind < 0.3:
        return replace(
            old, news=replace(old.news, otherwise_impact=draw.choice(("low", "medium", "high")))
        )
    if kind < 0.45:  # as it was at the beginning
        return replace(policy_of(place), loosen=draw.choice(("now", "next_period")))
    guards = [*old.guard]
    if not guards:
        return policy_of(place)
    at = draw.randrange(len(guards))
    if draw.random() < 0.2:
        del guards[at]
    elif draw.random() < 0.2:
        guards[at] = replace(guards[at], on=not guards[at].on)
    else:
        guards[at] = _refigured(draw, guards[at])
    return replace(old, guard=tuple(guards))


def _refigured(draw: random.Random, guard: dc.AnyGuard) -> dc.AnyGuard:
    keys = [key for key in LARGER if isinstance(getattr(guard, key, None), (int, float))]
    key, factor = draw.choice(keys), draw.choice((0.5, 0.8, 1.25, 3.0))
    value = getattr(guard, key)
    made = max(1, round(value * factor)) if isinstance(value, int) else value * factor
    return msgspec.structs.replace(guard, **{key: made})


class LimitsWatch:
    """Compares what holds with what held a moment ago."""

    def __init__(self, state: EngineState) -> None:
        self._guards, self._policy, self._at = state.guards, _limits(state), state.now

    def look(self, state: EngineState) -> Iterator[str]:
        """What became looser though it had to wait."""
        old, policy, since = self._guards, self._policy, self._at
        self._guards, self._policy, self._at = state.guards, _limits(state), state.now
        if old is state.guards and policy == self._policy:
            return
        turned = (
            period_around(since, False, old.day_starts, 0, old.zone)[1] <= state.now + MINUTE // 600
        )
        if old.loosen == "now" or turned or not old.guard:
            return
        for guard in old.guard:
            yield from _looser(guard.name, guard, state.guards.named(guard.name))
        yield from _looser("account", policy, self._policy)
        if policy.never_widen and not self._policy.never_widen:
            yield "account: never_widen"
        if policy.caps == "refuse" and self._policy.caps == "fit":
            yield "account: caps"
        if (old.day_starts, old.zone) != (state.guards.day_starts, state.guards.zone):
            yield "day_starts"
        if state.guards.loosen == "now":
            yield "loosen"
        order = ("low", "medium", "high")
        if order.index(state.guards.news.otherwise_impact) < order.index(old.news.otherwise_impact):
            yield "news: otherwise_impact"


def _limits(state: EngineState) -> Policy:
    return state.account.policy if state.account is not None else Policy()


def _looser(name: str, old: Any, new: Any) -> Iterator[str]:
    if getattr(old, "on", True) and (new is None or not getattr(new, "on", True)):
        yield f"{name} is gone"
        return
    for key, way in LARGER.items():
        before, after = getattr(old, key, None), getattr(new, key, None)
        if (
            before is not None
            and getattr(old, "on", True)
            and (after is None or way * (after - before) > 0)
        ):
            yield f"{name}: {key} from {before} to {after}"
