"""`hawser rehearse`: files in, a rehearsal under the chosen order and under both others, files out."""

from __future__ import annotations

import sys
from pathlib import Path
from typing import Any, NamedTuple

import numpy as np

from hawser.core.account import Account
from hawser.core.errors import BadInput, Refused
from hawser.core.instrument import Instrument
from hawser.core.rules.tending import OPTIMISTIC, PATH, PESSIMISTIC
from hawser.formats.bars import read_bars, read_signals
from hawser.formats.declared import load
from hawser.formats.rehearsed import instants, price_text, write_rehearsal
from hawser.formats.rigs import load_rig
from hawser.rehearsal.report import report
from hawser.rehearsal.run import Outcome, Rehearsal, Signals, check
from hawser.rehearsal.tables import OutcomeTables

ORDERS = {"pessimistic": PESSIMISTIC, "optimistic": OPTIMISTIC, "path": PATH}


class Request(NamedTuple):
    """What the command was given."""

    bars: Path
    instrument: Path
    rig: Path
    account: Path
    out: Path
    signal: str
    exit_signal: str | None
    order: str
    zone: str | None


def rehearse(request: Request) -> dict[str, Any]:
    """Rehearse and write every file; returns the report. Raises BadInput."""
    instrument, account = load(Instrument, request.instrument), load(Account, request.account)
    rig = load_rig(request.rig)
    try:
        check(rig, account)
    except BadInput as error:
        raise BadInput(error.code, f"{request.rig}: {error.sentence}") from None
    history = read_bars(request.bars, instrument, request.zone)
    names = [request.signal] + ([request.exit_signal] if request.exit_signal else [])
    columns = read_signals(request.bars, names)
    leave = columns[1] if len(columns) > 1 else np.zeros_like(columns[0])
    try:
        rehearsal = Rehearsal(history.bars, Signals(columns[0], leave), instrument, account, rig)
    except Refused as refusal:
        raise BadInput(refusal.code, f"{request.account}: rates: {refusal.sentence}") from None
    if history.off_grid:
        print(f"{request.bars}: {history.off_grid} prices were off the tick and were rounded to it", file=sys.stderr)
    outcomes: dict[str, Outcome] = {}
    for name in dict.fromkeys((request.order, "pessimistic", "optimistic")):
        outcomes[name] = _told(rehearsal, name)
    chosen = outcomes[request.order]
    nets = tuple(outcomes[name].end - outcomes[name].start for name in ("pessimistic", "optimistic"))
    made = report(chosen, rehearsal.time, request.order, account.days_per_year, (nets[0], nets[1]))
    tables = OutcomeTables(rehearsal, chosen, instants(rehearsal.time), lambda ticks: price_text(instrument, ticks))
    write_rehearsal(request.out, tables, made)
    return made


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
