"""`hawser rehearse`: files in, a rehearsal under the chosen order and under both others, files
out."""

from __future__ import annotations

import sys
from functools import partial
from pathlib import Path
from typing import Any, NamedTuple

import numpy as np

from hawser.core import figures as fg
from hawser.core.account import Account
from hawser.core.bars import Bars
from hawser.core.errors import BadInput, Refused
from hawser.core.fx import line_for
from hawser.core.guards.declared import Guards
from hawser.core.instrument import Instrument
from hawser.core.joined_bars import Joined, joined_to
from hawser.core.rig import Rig
from hawser.core.rules.inside_bar import OPTIMISTIC, PATH, PESSIMISTIC
from hawser.core.timeframes import timeframe
from hawser.formats.bars import BarFile, read_unrounded
from hawser.formats.declared import load
from hawser.formats.history_file import read_history
from hawser.formats.rehearsed import instants, price_text, write_rehearsal
from hawser.formats.rigs import load_rig
from hawser.rehearsal.nothing import why_nothing
from hawser.rehearsal.report import guard_figures, report
from hawser.rehearsal.run import Outcome, Rehearsal, Signals, check
from hawser.rehearsal.tables import OutcomeTables
from hawser.rehearsal.watch import HistoryPolicy

ORDERS = {"pessimistic": PESSIMISTIC, "optimistic": OPTIMISTIC, "path": PATH}


class Files(NamedTuple):
    """What the commands are given."""

    bars: Path
    instrument: Path
    rig: Path
    account: Path
    signal: str
    exit_signal: str | None
    zone: str | None
    guards: Path | None = None
    source: str = ""
    references: tuple[str, ...] = ()  # NAME=FILE
    timeframe: str | None = None  # of the bars that are decided on
    recipe: Path | None = None  # how the bars are read, where another program wrote them


class Read(NamedTuple):
    """What stands in them."""

    bars: Bars
    signals: Signals
    instrument: Instrument
    account: Account
    rig: Rig
    policy: HistoryPolicy | None
    joined: Joined | None  # the bars that are decided on, where they are others


def read(files: Files) -> Read:
    """Read everything that a rehearsal needs; raises BadInput."""
    instrument, account = load(Instrument, files.instrument), load(Account, files.account)
    rig = load_rig(files.rig)
    try:
        check(rig, account, instrument, files.guards is not None)
    except BadInput as error:
        raise BadInput(error.code, f"{files.rig}: {error.sentence}") from None
    names = [files.signal] + ([files.exit_signal] if files.exit_signal else [])
    history = read_history(
        files.bars,
        instrument,
        zone=files.zone,
        recipe=files.recipe,
        signals=names,
        ticks=True,
    )
    signal = history.signals[0]
    leave = history.signals[1] if files.exit_signal else np.zeros_like(signal)
    if history.off_grid:
        print(
            f"{files.bars}: {history.off_grid} prices were off the tick and were rounded to it",
            file=sys.stderr,
        )
    return Read(
        bars=history.bars,
        signals=Signals(signal, leave),
        instrument=instrument,
        account=account,
        rig=rig,
        policy=_policy(files, history.bars),
        joined=_joined(files, rig, history),
    )


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


def _policy(files: Files, bars: Bars) -> HistoryPolicy | None:
    """The guards with the news of the whole history, and what their regimes refer to."""
    if files.guards is None:
        return None
    from hawser.formats.news import read_calendars

    guards, references = load(Guards, files.guards), {}
    for text in files.references:
        name, equals, path = text.partition("=")
        if not (name and equals and path):
            raise BadInput(
                "usage", f"--reference {text}: expected NAME=FILE, an instrument and its bars"
            )
        references[name] = read_unrounded(Path(path), files.zone)
    calendars = read_calendars(
        guards.news, files.guards.parent, int(bars.time[0]), int(bars.time[-1])
    )
    return HistoryPolicy(guards, calendars, files.source, references)


def made(files: Files, found: Read) -> Rehearsal:
    """The rehearsal of what was read; raises BadInput where a rate is missing."""
    try:
        return Rehearsal(*found)
    except Refused as refusal:
        sentence = f"{files.account}: rates: {refusal.sentence.rstrip('.')}{line_for(refusal)}"
        raise BadInput(refusal.code, sentence) from None
    except BadInput as error:
        of = f"{files.guards}: " if error.code in ("bad_guard", "no_reference") else ""
        raise BadInput(error.code, of + error.sentence) from None


class Done(NamedTuple):
    """What a rehearsal came to: the report as it was written, and in sentences."""

    report: dict[str, Any]
    told: list[str]


def rehearse(files: Files, out: Path, order: str) -> Done:
    """Rehearse and write every file. Raises BadInput."""
    rehearsal = made(files, read(files))  # what was read is not kept beside what was made of it
    chosen = _told(rehearsal, order)
    net = {order: chosen.end - chosen.start}
    for name in ("pessimistic", "optimistic"):
        if name != order:
            other = _told(rehearsal, name)
            net[name] = other.end - other.start
    both = (net["pessimistic"], net["optimistic"])
    figures = report(chosen, rehearsal.time, order, rehearsal.account.days_per_year, both)
    if rehearsal.joined is not None:
        figures["fine_bars"] = int(rehearsal.fine_time.size)
    if rehearsal.policy is not None:
        figures["guards"] = guard_figures(chosen, rehearsal.policy, rehearsal.instrument.symbol)
    told = [*_came_to(rehearsal, chosen, figures), f"Written: {out}/"]
    price = partial(price_text, rehearsal.instrument)
    tables = OutcomeTables(rehearsal, chosen, instants, price)
    del rehearsal  # its bars are a large part of what is in memory
    write_rehearsal(out, tables, figures)
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
    shown = [-1]

    def progress(bar: int) -> None:
        percent = 100 * bar // rehearsal.time.size
        if percent != shown[0]:
            shown[0] = percent
            print(f"\r{name}: {percent} %", end="", file=sys.stderr, flush=True)

    outcome = rehearsal.run(ORDERS[name], progress if sys.stderr.isatty() else None)
    if sys.stderr.isatty():
        print(f"\r{name}: done ", file=sys.stderr)
    return outcome
