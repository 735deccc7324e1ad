"""`hawser fleet`: several members on one account, under the chosen order and under both others;
files in, files out."""

from __future__ import annotations

from collections.abc import Iterator
from functools import partial
from pathlib import Path
from typing import Any, NamedTuple

from hawser.core import figures as fg
from hawser.core.account import Account
from hawser.core.clock import timeframe_name
from hawser.core.errors import BadInput, is_line
from hawser.core.indicators import Array
from hawser.core.instrument import Instrument
from hawser.core.joined_bars import alone
from hawser.core.sources.lines.base import Line
from hawser.core.sources.view import BarsSeen, View
from hawser.formats.declared import load
from hawser.formats.fleets import Fleet, MemberFiles, load_fleet
from hawser.formats.rehearsed import instants, price_text, write_rehearsal
from hawser.formats.sources import load_source
from hawser.rehearsal.fleet.report import fleet_report
from hawser.rehearsal.fleet.run import FleetMember, FleetOutcome, FleetRehearsal
from hawser.rehearsal.fleet.tables import FleetTables
from hawser.rehearsal.report import guard_figures
from hawser.rehearsal.watch import acting
from hawser.service.rehearsing import (
    ORDERS,
    Done,
    Files,
    HistoryRead,
    made,
    named_in,
    progress_of,
    read,
)
from hawser.service.run_record import RunRecord
from hawser.service.signalling import BarFiles, Reading, named_files

LONGEST_NAME, STRUCTURAL = 120, set(',"')


class FleetFiles(NamedTuple):
    """What the command is given."""

    fleet: Path
    zone: str | None = None
    guards: Path | None = None
    others: tuple[str, ...] = ()  # NAME=FILE: bars that sources look at
    references: tuple[str, ...] = ()  # NAME=FILE
    rates: tuple[str, ...] = ()  # PAIR=FILE
    timeframe: str | None = None


class FleetRead(NamedTuple):
    """A fleet and all that its members need. `files`: what each would be rehearsed with alone."""

    fleet: Fleet
    names: list[str]
    files: list[Files]
    reads: list[HistoryRead]
    known: BarFiles
    bars_of: dict[str, Path]  # files of bars by the names that sources know them by


def read_fleet(files: FleetFiles) -> FleetRead:
    """Read a fleet and everything that its members need; raises BadInput."""
    fleet = load_fleet(files.fleet)
    place = files.fleet.parent
    names = _names(files.fleet, fleet)
    bars_of = _bars_by_name(files, fleet, names)
    # a member is known to the others as it is read itself
    known = BarFiles({place / one.bars: _reading(files, one) for one in fleet.file.member})
    account = load(Account, place / fleet.file.account)
    each, serves = [], set[str]()
    for member in fleet.file.member:
        quote = load(Instrument, place / member.instrument).quote
        pairs = (f"{quote}/{account.currency}", f"{account.currency}/{quote}")
        rates = tuple(one for one in files.rates if one.partition("=")[0] in pairs)
        serves.update(rates)
        each.append(_files_of(files, fleet, member, bars_of, rates))
    for text in files.rates:
        if text not in serves:
            raise BadInput(
                "usage",
                f"--rate {text}: expected the pair of a member's quote currency and "
                f"{account.currency}, which alone serves here",
            )
    reads = [read(one, known) for one in each]
    _one_length(files.fleet, fleet, reads)
    return FleetRead(fleet, names, each, reads=reads, known=known, bars_of=bars_of)


def _names(path: Path, fleet: Fleet) -> list[str]:
    """The members' names, each its own; raises BadInput."""
    names: list[str] = []
    for number, member in enumerate(fleet.file.member):
        name = member.name or load(Instrument, path.parent / member.instrument).symbol
        if not is_line(name, LONGEST_NAME) or set(name) & STRUCTURAL:
            raise BadInput(
                "bad_value",
                f"{path}: member[{number}].name: expected a name of at most {LONGEST_NAME} signs "
                "without commas and quotes, which stands in every row that is written",
            )
        if name in names:
            raise BadInput(
                "bad_value",
                f"{path}: member[{number}].name: {name} is the name of member[{names.index(name)}]"
                " too; expected another",
            )
        names.append(name)
    return names


def _bars_by_name(files: FleetFiles, fleet: Fleet, names: list[str]) -> dict[str, Path]:
    """Files of bars by name: the members', the fleet file's, those of the command, of which the
    later go before the earlier. Raises BadInput where the command names one that nobody looks
    at."""
    place, given = files.fleet.parent, named_files(files.others)
    wanted = {fleet.rank.instrument} if fleet.rank is not None else set()
    for member in fleet.file.member:
        if member.source is not None:
            wanted.update(load_source(place / member.source).instruments)
    for name in given:
        if name not in wanted:
            raise BadInput("usage", f"--bars-of {name}: no source looks at it, and no rank does")
    members = zip(names, fleet.file.member, strict=True)
    found = {name: place / member.bars for name, member in members}
    return found | {name: place / path for name, path in fleet.file.bars_of.items()} | given


def _files_of(
    files: FleetFiles,
    fleet: Fleet,
    member: MemberFiles,
    bars_of: dict[str, Path],
    rates: tuple[str, ...],
) -> Files:
    place, reading = files.fleet.parent, _reading(files, member)
    source = place / member.source if member.source is not None else None
    wanted = load_source(source).instruments if source is not None else ()
    return Files(
        bars=place / member.bars,
        instrument=place / member.instrument,
        rig=place / member.rig,
        account=place / fleet.file.account,
        signal=member.signal,
        exit_signal=member.exit_signal,
        zone=reading.zone,
        guards=files.guards,
        source=source,
        source_name=member.source_name,
        others=tuple(f"{name}={bars_of[name]}" for name in wanted if name in bars_of),
        references=files.references,
        timeframe=files.timeframe or fleet.file.timeframe,
        rates=rates,
        recipe=reading.recipe,
    )


def _reading(files: FleetFiles, member: MemberFiles) -> Reading:
    recipe = files.fleet.parent / member.recipe if member.recipe is not None else None
    return Reading(member.tz or files.zone, recipe)


def _one_length(path: Path, fleet: Fleet, reads: list[HistoryRead]) -> None:
    """Refuse bars of different lengths; raises BadInput."""
    spans = [(one.joined or alone(one.bars)).span for one in reads]
    first = next((number for number, one in enumerate(reads) if one.bars.time.size > 1), 0)
    for number, (span, one) in enumerate(zip(spans, reads, strict=True)):
        if span != spans[first] and one.bars.time.size > 1:
            raise BadInput(
                "bad_bars",
                f"{path}: member[{number}].bars: bars of {timeframe_name(span)}; expected of "
                f"{timeframe_name(spans[first])}, as member[{first}] has",
            )


def made_fleet(found: FleetRead) -> FleetRehearsal:
    """The rehearsal of what was read; raises BadInput where a rate is missing."""
    file, reads = found.fleet.file, found.reads
    since = min(int((one.joined or alone(one.bars)).bars.time[0]) for one in reads)
    members = []
    for name, files, one in zip(found.names, found.files, reads, strict=True):
        rank = _rank(found, files, one) if found.fleet.rank is not None else None
        members.append(FleetMember(name, made(files, one, since), rank))
    policies = [one.policy for one in reads]
    sources = [policy.source for policy in policies if policy is not None]
    return FleetRehearsal(members, file.basket, policies[0], sources)


def _rank(found: FleetRead, files: Files, one: HistoryRead) -> Array:
    """What a member is ranked by at each close."""
    line, path = found.fleet.rank, files.bars
    assert isinstance(line, Line)
    decided = one.joined or alone(one.bars)
    name = line.instrument or ""
    wanted = {name: found.bars_of[name]} if name in found.bars_of else {}
    others = found.known.bars(wanted, files.zone)
    view = View(one.joined.span if one.joined is not None else None)
    view.see(BarsSeen(decided.bars, others))
    try:
        return view.series(line, "rank").copy()
    except BadInput as error:
        raise BadInput(error.code, f"{path}: {error.sentence}", **error.values) from None


def rehearse_fleet(files: FleetFiles, out: Path, order: str, record: RunRecord) -> Done:
    """Rehearse and write every file. Raises BadInput."""
    found = read_fleet(files)
    for one in found.files:
        record.add([*one.inputs(), *named_in(one.source, one.guards)])
    fleet, name = made_fleet(found), found.fleet.file.name
    joined = any(one.joined is not None for one in found.reads)
    del found  # what was read is not kept beside what was made of it
    chosen = _told(fleet, order)
    net = {order: chosen.end - chosen.start}
    for way in ("pessimistic", "optimistic"):
        if way != order:
            other = _told(fleet, way)
            net[way] = other.end - other.start
    figures = fleet_report(fleet, chosen, order, (net["pessimistic"], net["optimistic"]))
    if joined:
        figures["fine_bars"] = fleet.fine_bars
    if fleet.policy is not None:
        figures["guards"] = guard_figures(chosen.guarded, fleet.policy, set(_acts(fleet)))
    told = [*_came_to(name, fleet, chosen, figures), f"Written: {out}/"]
    tables = FleetTables(fleet, chosen, instants, lambda one: partial(price_text, one))
    write_rehearsal(out, tables, figures, record.told())
    return Done(figures, told)


def _acts(fleet: FleetRehearsal) -> Iterator[int]:
    """The guards that act for one member at least, by their numbers."""
    for member in fleet.members:
        policy = member.rehearsal.policy
        if policy is not None:
            symbol = member.rehearsal.instrument.symbol
            yield from (number for number, _ in acting(policy, symbol, policy.source))


def _told(fleet: FleetRehearsal, name: str) -> FleetOutcome:
    """One run, with its progress where somebody looks."""
    with progress_of(name, fleet.time.size) as progress:
        return fleet.run(ORDERS[name], progress)


def _came_to(
    name: str, fleet: FleetRehearsal, chosen: FleetOutcome, figures: dict[str, Any]
) -> list[str]:
    """What a run came to."""
    currency, bars = fleet.account.currency, fg.counted(figures["bars"], "opening")
    refused = figures["refused"]
    lines = [f"{name}: no trade over {bars}"]
    if chosen.count:
        lines = [
            f"{name}: {fg.counted(chosen.count, 'trade')} of "
            f"{fg.counted(len(fleet.members), 'member')} over {bars}, net "
            f"{fg.money(figures['net'], currency, sign=True)}; at most "
            f"{fg.money(figures['max_drawdown'], currency)} below the peak at a close",
            f"Heat {fg.money(figures['heat_mean'], currency)} on average, at most "
            f"{fg.money(figures['heat_most'], currency)}; at most "
            f"{fg.counted(figures['open_most'], 'trade')} open at once",
            f"The order of high and low matters in {fg.counted(chosen.dependent, 'bar')}",
        ]
    if refused:
        often = sorted(refused, key=refused.__getitem__, reverse=True)
        each = ", ".join(f"{code} {fg.number(refused[code], 0)}" for code in often)
        count = fg.counted(sum(refused.values()), "entry", "entries")
        lines.append(f"{count} refused ({each})")
    return lines
