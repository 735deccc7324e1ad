"""`hawser rehearse`: files in, a rehearsal under the chosen order and under both others, files out."""

from __future__ import annotations

import sys
from functools import partial
from pathlib import Path
from typing import Any, NamedTuple

import numpy as np

from hawser.core.account import Account
from hawser.core.bars import Bars
from hawser.core.errors import BadInput, Refused
from hawser.core.instrument import Instrument
from hawser.core.rig import Rig
from hawser.core.rules.tending import OPTIMISTIC, PATH, PESSIMISTIC
from hawser.formats.bars import read_bars, read_signals
from hawser.formats.declared import load
from hawser.formats.rehearsed import instants, price_text, write_rehearsal
from hawser.formats.rigs import load_rig
from hawser.rehearsal.report import report
from hawser.rehearsal.run import Outcome, Rehearsal, Signals, check
from hawser.rehearsal.tables import OutcomeTables

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


class Read(NamedTuple):
    """What stands in them."""

    bars: Bars
    signals: Signals
    instrument: Instrument
    account: Account
    rig: Rig


def read(files: Files) -> Read:
    """Read everything that a rehearsal needs; raises BadInput."""
    instrument, account = load(Instrument, files.instrument), load(Account, files.account)
    rig = load_rig(files.rig)
    try:
        check(rig, account, instrument)
    except BadInput as error:
        raise BadInput(error.code, f"{files.rig}: {error.sentence}") from None
    history = read_bars(files.bars, instrument, files.zone)
    names = [files.signal] + ([files.exit_signal] if files.exit_signal else [])
    columns = read_signals(files.bars, names)
    leave = columns[1] if len(columns) > 1 else np.zeros_like(columns[0])
    if history.off_grid:
        print(f"{files.bars}: {history.off_grid} prices were off the tick and were rounded to it", file=sys.stderr)
    return Read(history.bars, Signals(columns[0], leave), instrument, account, rig)


def made(files: Files, found: Read) -> Rehearsal:
    """The rehearsal of what was read; raises BadInput where a rate is missing."""
    try:
        return Rehearsal(*found)
    except Refused as refusal:
        raise BadInput(refusal.code, f"{files.account}: rates: {refusal.sentence}") from None


def rehearse(files: Files, out: Path, order: str) -> dict[str, Any]:
    """Rehearse and write every file; returns the report. Raises BadInput."""
    found = read(files)
    rehearsal = made(files, found)
    outcomes: dict[str, Outcome] = {}
    for name in dict.fromkeys((order, "pessimistic", "optimistic")):
        outcomes[name] = _told(rehearsal, name)
    chosen = outcomes[order]
    nets = tuple(outcomes[name].end - outcomes[name].start for name in ("pessimistic", "optimistic"))
    told = report(chosen, rehearsal.time, order, found.account.days_per_year, (nets[0], nets[1]))
    price = partial(price_text, found.instrument)
    write_rehearsal(out, OutcomeTables(rehearsal, chosen, instants, price), told)
    return told


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
