"""What guards remember: periods that begin and end, what latched for them, looser guards that wait
for the next."""

from __future__ import annotations

import math
from typing import Literal

import msgspec

from hawser.core.account import Policy
from hawser.core.guards.declared import Counted, Guard
from hawser.core.guards.looseness import loosened_account, tightest_account
from hawser.core.guards.memory import GuardMemory
from hawser.core.guards.periods import period_at
from hawser.engine.clearance.guards import about, memory_key, whole_account
from hawser.engine.model.exposure import Valuation
from hawser.engine.model.state import EngineState, LaterPolicy
from hawser.engine.outbox import Outbox


def period_of(guard: Guard) -> Literal["day", "week"]:
    """What a guard counts in; one without a period of its own counts in days."""
    return "week" if getattr(guard, "period", "day") == "week" else "day"


def period_now(state: EngineState, guard: Guard) -> tuple[int, int]:
    """The guard's present period, `[starts, ends)` UTC ns."""
    return period_at(state.guards, state.now, period_of(guard) == "week")


def called(guard: Guard, subject: str) -> str:
    return f"{guard.name} ({subject})" if subject else guard.name


def memory_of(state: EngineState, guard: Guard, subject: str) -> GuardMemory:
    """What a guard remembers of a subject, begun where it remembers nothing yet."""
    key = memory_key(guard, subject)
    memory = state.memory.get(key)
    if memory is None:
        memory = state.memory[key] = GuardMemory(high=_equity(state))
        memory.start, memory.end = period_now(state, guard)
        count_anew(state, guard, subject, memory)
    return memory


def memories(state: EngineState, name: str) -> dict[str, GuardMemory]:
    """All that a guard remembers, by subject."""
    return {
        key[len(name) + 1 :]: memory
        for key, memory in state.memory.items()
        if key.startswith(f"{name}\n")
    }


def _equity(state: EngineState) -> float:
    """The account's equity; NaN until the venue has told it: a file's figure is no start for a
    loss."""
    return state.equity if state.figured else math.nan


def count_anew(state: EngineState, guard: Guard, subject: str, memory: GuardMemory) -> None:
    """From this moment on: a loss from the present equity, or from what the open trades have come
    to."""
    memory.base, memory.won, memory.before = _equity(state), 0.0, {}
    if not isinstance(guard, Counted):
        return
    guard.period_begins(memory)
    if guard.BY_RESULT and not whole_account(guard):
        values = Valuation(state)
        meant = [trade for trade in state.live() if trade.entered and about(guard, subject, trade)]
        memory.before = {trade.id: values.so_far(trade) for trade in meant}


def unlatch(memory: GuardMemory) -> None:
    memory.latched, memory.latched_until, memory.why, memory.count = 0, 0, "", 0
    memory.times = []


def roll(outbox: Outbox) -> list[tuple[Guard, str]]:
    """Periods that are over give way to the next; what latched for them opens, looser guards that
    waited come in. What opened: guards, each with its subject."""
    # Latches open before looser guards come in: a switch that is latched keeps its own looser limit
    # out (section 9).
    state, opened = outbox.state, list[tuple[Guard, str]]()
    guards = {guard.name: guard for guard in state.guards.guard}
    for key, memory in list(state.memory.items()):
        name, _, subject = key.partition("\n")
        guard = guards.get(name)
        if guard is None:
            del state.memory[key]
        elif memory.end <= state.now:
            if memory.latched and memory.latched_until:
                unlatch(memory)
                opened.append((guard, subject))
            memory.start, memory.end = period_now(state, guard)
            count_anew(state, guard, subject, memory)
    _let_in(outbox)
    return opened


def _let_in(outbox: Outbox) -> None:
    """Looser guards whose wait is over, where nothing of theirs is latched."""
    state = outbox.state
    for name, later in list(state.guards_later.items()):
        if later.at > state.now or any(memory.latched for memory in memories(state, name).values()):
            continue
        del state.guards_later[name]
        rest = [later.guard if one.name == name else one for one in state.guards.guard]
        replace_guards(state, guard=tuple(one for one in rest if one is not None))
        outbox.tell(
            "caution", "guard_loosened", f"{name} is looser from now on, as was asked for earlier"
        )
    let_rules_in(outbox)
    let_policy_in(outbox)


def let_rules_in(outbox: Outbox) -> None:
    """Periods, news and the rest that waited; what counts in periods goes by the new ones from its
    next turn on."""
    state, later = outbox.state, outbox.state.rules_later
    if later is None or later.at > state.now:
        return
    state.rules_later = None
    replace_guards(
        state,
        zone=later.zone,
        day_starts=later.day_starts,
        week_starts=later.week_starts,
        loosen=later.loosen,
        news=later.news,
    )
    outbox.tell(
        "caution", "guard_loosened", "Periods, news and waiting are as was asked for earlier"
    )


def let_policy_in(outbox: Outbox) -> None:
    """The account's limits that waited."""
    state, later = outbox.state, outbox.state.policy_later
    if later is None or later.at > state.now or state.account is None:
        return
    state.policy_later = None
    keys = ", ".join(loosened_account(state.account.policy, later.policy))
    state.account = msgspec.structs.replace(state.account, policy=later.policy)
    outbox.tell(
        "caution",
        "account_loosened",
        f"The account's limits are looser from now on, as was asked for: {keys}",
    )


def take_policy(outbox: Outbox, old: Policy, new: Policy, ask_id: str = "") -> Policy:
    """Another policy of the account: what holds of it now. Looser limits wait for the next day
    where the guards' policy says that loosening does."""
    state, keys = outbox.state, loosened_account(old, new)
    state.policy_later = None
    if not keys:
        return new
    # A limit that waits is not lost: the tighter of both holds until the next day, whatever else
    # the edit has changed.
    told = ", ".join(keys)
    if state.guards.loosen == "now":
        outbox.tell(
            "caution",
            "account_loosened",
            f"The account's limits are looser from now on: {told}",
            ask_id=ask_id,
        )
        return new
    at = period_at(state.guards, state.now, week=False)[1]
    state.policy_later = LaterPolicy(at, new)
    text = f"The account's limits are looser ({told}) from the next day on: the policy says so"
    outbox.tell("caution", "account_loosened", text, ask_id=ask_id)
    return tightest_account(old, new)


def replace_guards(state: EngineState, **changed: object) -> None:
    """Change the policy in part; guards that are gone are forgotten."""
    state.guards = msgspec.structs.replace(state.guards, **changed)
    names = {guard.name for guard in state.guards.guard}
    state.memory = {
        key: memory for key, memory in state.memory.items() if key.partition("\n")[0] in names
    }
