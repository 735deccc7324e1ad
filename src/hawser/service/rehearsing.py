"""`hawser rehearse`: files in, a rehearsal under the chosen order and under both others, files
out."""

from __future__ import annotations

import sys
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from functools import partial
from pathlib import Path
from typing import Any, NamedTuple

import numpy as np

from hawser.core import figures as fg
from hawser.core.account import Account
from hawser.core.bars import Bars
from hawser.core.columns import pair_rates
from hawser.core.errors import BadInput, Refused
from hawser.core.fx import convert, line_for
from hawser.core.guards.declared import Guards
from hawser.core.indicators import Array
from hawser.core.instrument import Instrument
from hawser.core.joined_bars import Joined, alone, cells, joined_to
from hawser.core.rig import Rig
from hawser.core.rules.inside_bar import OPTIMISTIC, PATH, PESSIMISTIC
from hawser.core.sources.source import Source, too_short, worries
from hawser.core.timeframes import timeframe
from hawser.formats.bars import BarFile, Columns
from hawser.formats.declared import load
from hawser.formats.history_file import read_history
from hawser.formats.rehearsed import instants, price_text, write_rehearsal
from hawser.formats.rigs import load_rig
from hawser.formats.sources import load_source
from hawser.rehearsal.fleet.report import fleet_report
from hawser.rehearsal.fleet.run import fleet_of_one
from hawser.rehearsal.nothing import why_nothing
from hawser.rehearsal.report import guard_figures
from hawser.rehearsal.run import Outcome, Rehearsal, SignalColumns, check
from hawser.rehearsal.tables import OutcomeTables
from hawser.rehearsal.watch import HistoryPolicy, acting
from hawser.service.run_record import RunRecord
from hawser.service.signalling import BarFiles, named_files, said_over

ORDERS = {"pessimistic": PESSIMISTIC, "optimistic": OPTIMISTIC, "path": PATH}


class Files(NamedTuple):
    """What the commands are given."""

    bars: Path
    instrument: Path
    rig: Path
    account: Path
    signal: str | None  # the column; None: it is called signal, or there is a source
    exit_signal: str | None
    zone: str | None
    guards: Path | None = None
    source: Path | None = None
    source_name: str = ""  # of columns, to guards
    others: tuple[str, ...] = ()  # NAME=FILE: bars that the source looks at
    references: tuple[str, ...] = ()  # NAME=FILE
    timeframe: str | None = None  # of the bars that are decided on
    rates: tuple[str, ...] = ()  # PAIR=FILE: the bars of a pair of currencies
    recipe: Path | None = None  # how the bars are read, where another program wrote them

    def inputs(self) -> list[Path]:
        """The files that are named here; what these name in turn is in `named_in`."""
        named = (text.partition("=")[2] for text in (*self.references, *self.others, *self.rates))
        given = (self.bars, self.instrument, self.rig, self.account)
        may_be = (self.guards, self.source, self.recipe)
        return [*given, *(one for one in may_be if one is not None), *map(Path, named)]


def named_in(source: Path | None, guards: Path | None) -> Iterator[Path]:
    """The files that a source and a policy name: Python of one's own, calendars."""
    if source is not None:
        for *_, one in load_source(source).own_python():
            yield source.parent / one.file
    if guards is not None:
        from hawser.formats.news import calendar_files

        yield from calendar_files(load(Guards, guards).news, guards.parent)


class HistoryRead(NamedTuple):
    """What stands in them."""

    bars: Bars
    signals: SignalColumns
    instrument: Instrument
    account: Account
    rig: Rig
    policy: HistoryPolicy | None
    joined: Joined | None  # the bars that are decided on, where they are others
    rates: Array | None = None  # of the quote currency at each row of prices, where they move


def read(files: Files, known: BarFiles | None = None) -> HistoryRead:
    """Read everything that a rehearsal needs; raises BadInput. `known`: bars of other instruments
    that have been read."""
    known = known or BarFiles()
    instrument, account = load(Instrument, files.instrument), load(Account, files.account)
    rig = load_rig(files.rig)
    try:
        check(rig, account, instrument)
    except BadInput as error:
        raise BadInput(error.code, f"{files.rig}: {error.sentence}") from None
    source = load_source(files.source) if files.source is not None else None
    history = read_history(
        files.bars,
        instrument,
        zone=files.zone,
        recipe=files.recipe,
        wanted=_wanted(files, source)._replace(rate=instrument.quote != account.currency),
        ticks=True,
    )
    if history.off_grid:
        print(
            f"{files.bars}: {history.off_grid} prices were off the tick and were rounded to it",
            file=sys.stderr,
        )
    joined = _joined(files, rig, history)
    return HistoryRead(
        bars=history.bars,
        signals=_signals(files, source, history, joined, known),
        instrument=instrument,
        account=account,
        rig=rig,
        policy=_policy(files, source, history.bars, known),
        joined=joined,
        rates=_rates(files, history, instrument, account, known),
    )


def _rates(
    files: Files, history: BarFile, instrument: Instrument, account: Account, known: BarFiles
) -> Array | None:
    """What one unit of the quote currency is worth in the account's at each row of prices; None
    where it is worth the same all the time. A pair's bars go before a column."""
    quote, money = instrument.quote, account.currency
    ways = {f"{quote}/{money}": False, f"{money}/{quote}": True}
    found = history.rate
    pairs = known.bars(named_files(files.rates, "--rate"), files.zone)
    for pair, bars in pairs.items():
        if pair not in ways or quote == money:
            told = f"expected the pair of {quote} and {money}, which alone serves here"
            raise BadInput("usage", f"--rate {pair}: {told}")
        found = pair_rates(
            history.bars.time, bars, ways[pair], lambda: _rate_of(files, quote, account)
        )
    return found


def _rate_of(files: Files, quote: str, account: Account) -> float:
    """The account's own rate; raises BadInput where it has none."""
    try:
        return convert(quote, account.currency, account.rates, account.policy.max_rate_age_s)
    except Refused as refusal:
        raise _no_rate(files, refusal) from None


def _no_rate(files: Files, refusal: Refused) -> BadInput:
    sentence = f"{files.account}: rates: {refusal.sentence.rstrip('.')}{line_for(refusal)}"
    return BadInput(refusal.code, sentence)


def _wanted(files: Files, source: Source | None) -> Columns:
    """The columns of the bar file that the signals are made of."""
    if source is None:
        return Columns(files.signal or "signal", files.exit_signal or "")
    for option, given in (("--signal", files.signal), ("--exit-signal", files.exit_signal)):
        if given:
            raise BadInput("usage", f"{option}: expected without --source, which says both")
    if files.source_name:
        raise BadInput("usage", "--source-name: expected without --source, which has a name")
    return Columns(told=source.columns, every=bool(source.own_python()))


def _signals(
    files: Files, source: Source | None, history: BarFile, joined: Joined | None, known: BarFiles
) -> SignalColumns:
    """What is signalled at the last row of prices of each bar that is decided on."""
    if source is None or files.source is None:
        if files.others:
            raise BadInput("usage", "--bars-of: expected together with --source")
        signal = history.signals[0]
        return SignalColumns(
            signal, history.signals[1] if files.exit_signal else np.zeros_like(signal)
        )
    decided = joined or alone(history.bars)
    said, minded = said_over(
        source,
        files.source,
        decided.bars,
        columns={
            name: cells(name, column, decided.firsts, decided.ends)
            for name, column in history.columns.items()
        },
        others=known.bars(named_files(files.others), files.zone),
        span=joined.span if joined is not None else None,
    )
    for sentence in (*minded, *worries(source), *too_short(source, decided.bars.time.size)):
        print(sentence, file=sys.stderr)
    made = [np.zeros(history.bars.time.size, np.int8) for _ in range(2)]
    for column, values in zip(made, (said.signal, said.leave), strict=True):
        column[decided.lasts] = values
    return SignalColumns(*made)


def _joined(files: Files, rig: Rig, history: BarFile) -> Joined | None:
    """The bars that are decided on, where a timeframe is given; the command's goes before the
    rig's."""
    text = files.timeframe or rig.timeframe
    if text is None:
        return None
    try:
        return joined_to(history.bars, timeframe(text), history.ticks)
    except BadInput as error:
        at = "--timeframe" if files.timeframe else f"{files.rig}: timeframe"
        raise BadInput(error.code, f"{at}: {error.sentence}") from None


def _policy(
    files: Files, source: Source | None, bars: Bars, known: BarFiles
) -> HistoryPolicy | None:
    """The guards with the news of the whole history, and what their regimes refer to."""
    if files.guards is None:
        return None
    from hawser.formats.news import read_calendars

    guards = load(Guards, files.guards)
    references = known.bars(named_files(files.references, "--reference"), files.zone)
    calendars = read_calendars(
        guards.news, files.guards.parent, int(bars.time[0]), int(bars.time[-1])
    )
    name = source.name if source is not None else files.source_name
    return HistoryPolicy(guards, calendars, name, references)


def made(files: Files, found: HistoryRead, since: int | None = None) -> Rehearsal:
    """The rehearsal of what was read; raises BadInput where a rate is missing. `since`: from when
    guards count days and weeks (UTC ns)."""
    try:
        return Rehearsal(*found, since=since)
    except Refused as refusal:
        raise _no_rate(files, refusal) from None
    except BadInput as error:
        of = f"{files.guards}: " if error.code in ("bad_guard", "no_reference") else ""
        raise BadInput(error.code, of + error.sentence) from None


class Done(NamedTuple):
    """What a rehearsal came to: the report as it was written, and in sentences."""

    report: dict[str, Any]
    told: list[str]


def rehearse(files: Files, out: Path, order: str, record: RunRecord) -> Done:
    """Rehearse and write every file. Raises BadInput."""
    rehearsal = made(files, read(files))  # what was read is not kept beside what was made of it
    record.add(named_in(files.source, files.guards))
    nets = {}
    for name in ("pessimistic", "optimistic"):
        if name != order:
            other = _told(rehearsal, name)
            nets[name] = other.end - other.start
    # The order that is asked for goes as a fleet of one, which gives the same to the last digit and
    # knows the heat at each close too.
    fleet = fleet_of_one(rehearsal)
    with progress_of(order, rehearsal.time.size) as progress:
        whole = fleet.run(ORDERS[order], progress)
    chosen = whole.alone()
    nets[order] = whole.end - whole.start
    figures = fleet_report(fleet, whole, order, (nets["pessimistic"], nets["optimistic"]))
    del fleet, whole
    if rehearsal.joined is not None:
        figures["fine_bars"] = int(rehearsal.fine_time.size)
    if rehearsal.policy is not None:
        policy, symbol = rehearsal.policy, rehearsal.instrument.symbol
        acts = {number for number, _ in acting(policy, symbol, policy.source)}
        figures["guards"] = guard_figures(chosen.guarded, policy, acts)
    told = [*_came_to(rehearsal, chosen, figures), f"Written: {out}/"]
    price = partial(price_text, rehearsal.instrument)
    tables = OutcomeTables(rehearsal, chosen, instants, price)
    del rehearsal  # its bars are a large part of what is in memory
    write_rehearsal(out, tables, figures, record.told())
    return Done(figures, told)


def _came_to(rehearsal: Rehearsal, chosen: Outcome, figures: dict[str, Any]) -> list[str]:
    """What a run came to, or why it made no trade; and how much hangs on the order inside bars."""
    currency, bars = rehearsal.account.currency, figures["bars"]
    if not chosen.count:
        return [f"No trade over {fg.counted(bars, 'bar')}", *why_nothing(rehearsal, chosen)]
    told = [
        f"{fg.counted(chosen.count, 'trade')} over {fg.counted(bars, 'bar')}, net "
        f"{fg.money(figures['net'], currency, sign=True)}; at most "
        f"{fg.money(figures['max_drawdown'], currency)} below the peak at a close"
    ]
    depends, all_of = fg.counted(chosen.dependent, "bar"), fg.number(bars, 0)
    if rehearsal.joined is None or not rehearsal.joined.finer:
        return [*told, f"The order of high and low matters in {depends} of {all_of}"]
    within = f"{depends} of the {fg.number(rehearsal.fine_time.size, 0)} finer ones"
    try:
        coarse = rehearsal.alone().run(ORDERS[figures["order"]]).dependent
    except BadInput:  # a guard needs bars between the two
        return [*told, f"The order of high and low matters in {within}"]
    return [
        *told,
        f"The order of high and low matters in {within}; without them it would in "
        f"{fg.number(coarse, 0)} of {all_of}",
    ]


def _told(rehearsal: Rehearsal, name: str) -> Outcome:
    """One run, with its progress where somebody looks."""
    with progress_of(name, rehearsal.time.size) as progress:
        return rehearsal.run(ORDERS[name], progress)


@contextmanager
def progress_of(name: str, size: int) -> Iterator[Callable[[int], None] | None]:
    """What is told how far a run has come, and shows it as part of `size`; None where nobody
    looks."""
    if not sys.stderr.isatty():
        yield None
        return
    shown = [-1]

    def progress(bar: int) -> None:
        percent = 100 * bar // size
        if percent != shown[0]:
            shown[0] = percent
            print(f"\r{name}: {percent} %", end="", file=sys.stderr, flush=True)

    yield progress
    print(f"\r{name}: done ", file=sys.stderr)
