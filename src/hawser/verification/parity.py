"""Parity: the live engine and the rehearsal over the same bars and signals, compared trade by trade
(section 11), of one instrument or of a fleet."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any, NamedTuple

import msgspec
import numpy as np

from hawser.core import figures as fg
from hawser.core.account import Account
from hawser.core.bars import Bars, span_of
from hawser.core.clock import TIMEFRAMES, timeframe_name
from hawser.core.errors import BadInput
from hawser.core.guards.declared import Counted, Filter, RegimeGuard
from hawser.core.instrument import Instrument
from hawser.core.joined_bars import Joined
from hawser.core.rig import Rig
from hawser.core.rules.bar_close import move_name
from hawser.core.rules.refusals import Refusal
from hawser.rehearsal.fleet import records
from hawser.rehearsal.fleet.run import FleetOutcome, FleetRehearsal, fleet_of_one
from hawser.rehearsal.run import Played, Rehearsal, SignalColumns, exit_name
from hawser.rehearsal.watch import HistoryPolicy
from hawser.service.fleets import FleetFiles, made_fleet, read_fleet
from hawser.service.rehearsing import ORDERS, Files, HistoryRead, made, read
from hawser.verification.walk import Walk
from hawser.verification.walk_members import ComparedTrade, RefusedEntry

SHOWN = 20  # differences that are told one by one
MONEY = 1e-6
AT_ONE_CLOSE = {("guard", "basket"), ("guard", "time"), ("basket", "time")}


def check_parity(found: HistoryRead) -> None:
    """What the engine does not do, or not in whole ticks, is refused; raises BadInput."""
    instrument, account = found.instrument, found.account
    for guard in found.policy.guards.guard if found.policy is not None else ():
        if isinstance(guard, RegimeGuard) and guard.reference != instrument.symbol:
            sentence = (
                f"guard '{guard.name}': reference: only {instrument.symbol} trades here, "
                f"not {guard.reference}"
            )
            raise BadInput("bad_guard", sentence)
    if found.joined is not None and found.joined.finer:
        check_inside(found.rig, found.policy, found.joined)
    for key in ("entry_slippage_ticks", "exit_slippage_ticks"):
        if getattr(account.costs, key) != round(getattr(account.costs, key)):
            raise BadInput(
                "bad_account", f"costs.{key}: expected whole ticks, as a venue fills on them"
            )


def check_inside(rig: Rig, policy: HistoryPolicy | None, joined: Joined) -> None:
    """What the two do otherwise where finer bars lie inside those that are decided on; raises
    BadInput. The engine is told the latter alone, and joins of them what a trail or a guard needs;
    and a filter that closes within one acts at once, in a rehearsal when it is over."""
    text = rig.trail.timeframe if rig.trail is not None else None
    wide = TIMEFRAMES[text] if text else 0
    if wide > joined.span and wide % joined.span:
        sentence = (
            f"trail.timeframe: bars of {text} cannot be joined of those that are decided on, "
            f"{timeframe_name(joined.span)}"
        )
        raise BadInput("bad_rig", sentence)
    for guard in policy.guards.guard if policy is not None else ():
        if not isinstance(guard, Filter):
            continue
        wide = guard.bars_span(joined.span)
        if not guard.BY_CLOCK and wide % joined.span:
            sentence = (
                f"guard '{guard.name}': timeframe: {timeframe_name(wide)} cannot be joined of the "
                f"bars that are decided on, {timeframe_name(joined.span)}"
            )
            raise BadInput("bad_guard", sentence)
        if guard.leads_to:
            sentence = (
                f"guard '{guard.name}': then: it acts at once, in a rehearsal at the close of the "
                "bar that is decided on; expected nothing, or no finer bars inside"
            )
            raise BadInput("bad_guard", sentence)


def check_fleet(fleet: FleetRehearsal) -> None:
    """What an account cannot have live: two rates of one currency at a time, and a clock that goes
    back; raises BadInput."""
    of_quote: dict[str, tuple[str, Rehearsal]] = {}
    for member in fleet.members:
        of, quote = member.rehearsal, member.rehearsal.instrument.quote
        name, first = of_quote.setdefault(quote, (member.name, of))
        if not _same_rates(first, of):
            sentence = (
                f"rates: {name} and {member.name} have different rates of {quote} at one time; an "
                "account has one"
            )
            raise BadInput("bad_account", sentence)
    if fleet.policy is None:
        return
    _check_switches(fleet)
    head = fleet.members[0]
    for member in fleet.members[1:]:
        ours, theirs = head.rehearsal, member.rehearsal
        spans = span_of(ours.fine_time), span_of(theirs.fine_time)
        if min(ours.fine_time.size, theirs.fine_time.size) > 1 and (
            spans[0] != spans[1] or (ours.fine_time[0] - theirs.fine_time[0]) % spans[0]
        ):
            sentence = (
                f"bars: those of {head.name} and of {member.name} overlap in time; under a policy "
                "expected bars that open together or one after the other"
            )
            raise BadInput("bad_bars", sentence)


def _check_switches(fleet: FleetRehearsal) -> None:
    """A switch that trips within a bar closes the others' trades at once, in a rehearsal when the
    bar is over; raises BadInput."""
    joined = (one.rehearsal.joined for one in fleet.members)
    if len(fleet.members) == 1 or not any(one is not None and one.finer for one in joined):
        return
    assert fleet.policy is not None
    for guard in fleet.policy.guards.guard:
        if isinstance(guard, Counted) and guard.leads_to:
            sentence = (
                f"guard '{guard.name}': then: it acts at once on the others' trades, in a "
                "rehearsal at the close of the bar that is decided on; expected nothing, or no "
                "finer bars inside"
            )
            raise BadInput("bad_guard", sentence)


def _same_rates(one: Rehearsal, other: Rehearsal) -> bool:
    """Whether a currency is worth the same to both whenever both have begun."""
    if one.rates is None and other.rates is None:
        return True
    times = np.union1d(one.fine_time, other.fine_time)
    times = times[times >= max(one.fine_time[0], other.fine_time[0])]
    return bool(np.array_equal(_rates_at(one, times), _rates_at(other, times)))


def _rates_at(of: Rehearsal, times: Any) -> Any:
    if of.rates is None:
        return np.full(times.size, of.money.fees.unit_money / of.instrument.multiplier)
    return of.rates[np.searchsorted(of.fine_time, times, side="right") - 1]


def rehearsed(outcome: FleetOutcome) -> list[ComparedTrade]:
    """The rehearsal's trades in the same form, by their numbers."""
    found: list[ComparedTrade | None] = [None] * outcome.count
    for number, member in enumerate(outcome.of):
        for place, one in zip(member.places.tolist(), member.trades.trades, strict=True):
            found[place] = _compared(number, one, int(member.times[one.first]))
    return [one for one in found if one is not None]


def _compared(member: int, one: Played, time: int) -> ComparedTrade:
    fills = [
        (int(row[0]), "entry" if row[1] > 0 else exit_name(row), float(row[4]), int(row[5]))
        for row in one.fills
    ]
    moves = [(bar, level, move_name(why)) for bar, level, why in one.moves]
    return ComparedTrade(
        member=member,
        time=time,
        side=one.side,
        first=one.first,
        last=one.last,
        stop=one.stop,
        risk=one.planned_risk,
        net=one.net,
        fills=fills,
        moves=moves,
    )


def refused_in(outcome: FleetOutcome) -> list[RefusedEntry]:
    """What the rehearsal refused, in the same form."""
    return [
        RefusedEntry(
            row[records.TIME],
            row[records.WHO],
            row[records.SIDE],
            Refusal(row[records.WHY]).code,
        )
        for row in outcome.refused.tolist()
    ]


def differences(
    live: list[ComparedTrade], other: list[ComparedTrade], names: Sequence[str] = ()
) -> list[str]:
    """Each difference in words: the live engine's first. `names`: of the members, where there are
    several."""
    found = []
    for number, (one, two) in enumerate(zip(live, other, strict=False), start=1):
        where = f"trade {number} of {names[two.member]}" if names else f"trade {number}"
        for key in ComparedTrade.__struct_fields__:
            ours, theirs = getattr(one, key), getattr(two, key)
            if key in ("risk", "net"):
                same = abs(ours - theirs) <= MONEY * max(1.0, abs(theirs))
            elif key == "fills":
                same = len(ours) == len(theirs) and all(map(_alike, ours, theirs))
            else:
                same = ours == theirs
            if not same:
                found.append(f"{where}, {key}: live {_short(ours, theirs)}")
    if len(live) != len(other):
        found.append(f"live {len(live)} trades, rehearsed {len(other)}")
    return found


def refusals_differ(
    live: list[RefusedEntry], other: list[RefusedEntry], names: Sequence[str] = ()
) -> list[str]:
    """Each entry that only one of them refused, or for another reason, in words."""
    ours, theirs = set(live), set(other)
    return [
        f"{'live' if one in ours else 'rehearsed'} only: an entry "
        f"{fg.side_word(one.side)} of {names[one.member] if names else 'the instrument'} due at "
        f"{np.datetime64(one.time, 'ns').astype('datetime64[s]')}Z refused, {one.code}"
        for one in sorted(ours ^ theirs)
    ]


LEFT = {"signal", "basket", "time", "guard"}


def _meant(one: ComparedTrade) -> ComparedTrade:
    """Without the moves that never held, as the reckoning writes some of them: those that a guard,
    or the rig beside one, decided at the close at which the trade was left, and those that another
    member's end brought about in the bar of its own."""
    before = one.last + (not one.fills or one.fills[-1][1] not in LEFT)
    return msgspec.structs.replace(one, moves=[move for move in one.moves if move[0] < before])


def _alike(live: tuple[int, str, float, int], other: tuple[int, str, float, int]) -> bool:
    """Whether two fills are the same. Where a guard, a basket and the time decide at one close, the
    engine names what it heard first, the reckoning has an order of its own."""
    told = (live[1], other[1])
    return (
        live[::2] == other[::2]
        and live[3] == other[3]
        and (told[0] == told[1] or told in AT_ONE_CLOSE)
    )


def _short(ours: Any, theirs: Any) -> str:
    if isinstance(ours, list):
        at = next(
            (i for i, pair in enumerate(zip(ours, theirs, strict=False)) if pair[0] != pair[1]),
            None,
        )
        at = min(len(ours), len(theirs)) if at is None else at
        return (
            f"{ours[at : at + 1]}, rehearsed {theirs[at : at + 1]}, at {at + 1} of {len(ours)} "
            f"and {len(theirs)}"
        )
    return f"{ours}, rehearsed {theirs}"


class Report(NamedTuple):
    """What a comparison came to."""

    bars: int
    trades: int
    fills: int
    moves: int
    differences: list[str]


def compare(
    bars: Bars,
    signals: SignalColumns,
    instrument: Instrument,
    account: Account,
    rig: Rig,
    order: int,
    policy: HistoryPolicy | None = None,
    joined: Joined | None = None,
) -> Report:
    """Run both over the same bars of one instrument; raises BadInput."""
    rehearsal = Rehearsal(
        bars=bars,
        signals=signals,
        instrument=instrument,
        account=account,
        rig=rig,
        policy=policy,
        joined=joined,
    )
    return compare_fleet(fleet_of_one(rehearsal), order)


def compare_fleet(fleet: FleetRehearsal, order: int) -> Report:
    """Run both over the same bars of all members; raises BadInput."""
    check_fleet(fleet)
    outcome, walk = fleet.run(order), Walk(fleet, order)
    live, other = walk.run(), rehearsed(outcome)
    if fleet.policy is not None:
        live, other = list(map(_meant, live)), list(map(_meant, other))
    names = [one.name for one in fleet.members] if len(fleet.members) > 1 else []
    found = differences(live, other, names)
    found += refusals_differ(walk.refused, refused_in(outcome), names)
    fills, moves = sum(len(one.fills) for one in other), sum(len(one.moves) for one in other)
    return Report(fleet.time.size, len(other), fills, moves, found)


def parity(files: Files, order: str) -> Report:
    """Compare over files; raises BadInput."""
    found = read(files)
    rehearsal = made(files, found)
    _checked(files, found)
    return compare_fleet(fleet_of_one(rehearsal), ORDERS[order])


def parity_of_fleet(files: FleetFiles, order: str) -> Report:
    """Compare over the files of a fleet; raises BadInput."""
    found = read_fleet(files)
    fleet = made_fleet(found)
    for one, of in zip(found.files, found.reads, strict=True):
        _checked(one, of)
    try:
        return compare_fleet(fleet, ORDERS[order])
    except BadInput as error:
        raise BadInput(error.code, f"{files.fleet}: {error.sentence}") from None


def _checked(files: Files, found: HistoryRead) -> None:
    """Refuse what the engine does not do, as of the file that asks for it; raises BadInput."""
    try:
        check_parity(found)
    except BadInput as error:
        at = {"bad_guard": files.guards, "bad_rig": files.rig}.get(error.code, files.account)
        raise BadInput(error.code, f"{at}: {error.sentence}") from None


def written(report: Report) -> str:
    """The report in words."""
    head = (
        f"{report.bars} bars, {report.trades} trades, {report.fills} fills, {report.moves} stop "
        "moves: "
    )
    if not report.differences:
        return head + "no difference"
    more = len(report.differences) - SHOWN
    tail = [f"... and {more} more"] if more > 0 else []
    return "\n".join(
        [f"{head}{len(report.differences)} differences", *report.differences[:SHOWN], *tail]
    )
