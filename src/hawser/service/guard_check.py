"""`hawser guards`: what every guard says at one moment, from files. The same functions as the live
engine asks."""

from __future__ import annotations

import math
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any, NamedTuple

from hawser.core.bars import Bars
from hawser.core.clock import SECOND
from hawser.core.errors import BadInput
from hawser.core.guards.context import Closed
from hawser.core.guards.declared import Guards
from hawser.core.guards.measures import measures_for
from hawser.core.instrument import Instrument
from hawser.core.numbers import or_nan
from hawser.engine.clearance.guards import context_of, one_verdict, watching
from hawser.engine.guards.memory import roll
from hawser.engine.model.state import EngineState, Market
from hawser.engine.outbox import Outbox

EARLIEST, LATEST = 1970, 2200  # years that a moment may be in


class CheckedFiles(NamedTuple):
    """What is looked at: a policy or a session with one, instruments, and bars for each or for
    none."""

    guards: Path | None
    session: Path | None
    instruments: tuple[Path, ...]
    bars: tuple[Path, ...]
    zone: str | None
    recipe: Path | None = None


class GuardSaid(NamedTuple):
    """What one guard says of one instrument; `closed` None: open."""

    symbol: str
    guard: str
    kind: str
    closed: Closed | None


def moment(text: str) -> int:
    """ISO 8601 with an offset as UTC ns; raises BadInput."""
    try:
        at = datetime.fromisoformat(text)
    except ValueError:
        raise BadInput(
            "bad_time", f"--at {text}: expected ISO 8601, as 2031-03-05T14:00:00+01:00"
        ) from None
    if at.tzinfo is None:
        raise BadInput("bad_time", f"--at {text}: expected an offset, as 2031-03-05T14:00:00+01:00")
    try:
        since = at.astimezone(UTC) - datetime(1970, 1, 1, tzinfo=UTC)
    except OverflowError:
        since = timedelta.max
    if not EARLIEST <= at.year <= LATEST or since == timedelta.max:
        raise BadInput("bad_time", f"--at {text}: expected a moment from {EARLIEST} to {LATEST}")
    return (since.days * 86_400 + since.seconds) * SECOND + since.microseconds * 1_000


def check(
    files: CheckedFiles, at: int, side: int, r_ticks: float | None, source: str
) -> list[GuardSaid]:
    """Every guard that watches one of the instruments, with what it says at `at`; raises
    BadInput."""
    if r_ticks is not None and not 0 < r_ticks < math.inf:
        raise BadInput("usage", "--r-ticks: expected a number above 0")
    state = _state(files, at)
    found = []
    for symbol in state.instruments:
        context = context_of(state, symbol, side, or_nan(r_ticks))
        for guard in watching(state, symbol, source):
            found.append(
                GuardSaid(
                    symbol, guard.name, guard.KIND, one_verdict(state, guard, context, source)
                )
            )
    return found


def _state(files: CheckedFiles, at: int) -> EngineState:
    """The state that the files describe, at `at`."""
    from hawser.formats.declared import load
    from hawser.formats.history_file import read_history
    from hawser.formats.news import read_calendars
    from hawser.ledger.verify import folded

    state = folded(files.session) if files.session is not None else EngineState()
    if at < state.now:
        raise BadInput(
            "bad_time",
            (
                f"--at: expected a moment from the session's end on; {files.session} goes "
                "on after it"
            ),
        )
    state.now = at
    roll(Outbox(state))
    if files.guards is not None:
        state.guards = load(Guards, files.guards)
        state.calendars = read_calendars(state.guards.news, files.guards.parent, at)
    instruments = [load(Instrument, path) for path in files.instruments]
    state.instruments = {one.symbol: one for one in instruments}
    state.measures, state.markets = {}, {}
    for instrument, path in zip(instruments, files.bars, strict=False):
        history = read_history(path, instrument, zone=files.zone, recipe=files.recipe)
        _add_bars(state, instrument, path, history.bars)
    return state


def _add_bars(state: EngineState, instrument: Instrument, path: Path, bars: Bars) -> None:
    """The spread and the measures as of the last bar that was complete."""
    from hawser.core.bars import span_of
    from hawser.service.runtime.bar_store import BarStore

    span = span_of(bars.time)
    done = bars.mapped(lambda column: column[: int((bars.time + span <= state.now).sum())])
    if not done.time.size:
        raise BadInput("no_bars", f"{path}: holds no bar that was complete at --at")
    store = BarStore(instrument, span, done)
    found: dict[str, float] = {}
    for other in store.series:
        found |= measures_for(
            state.guards, instrument.symbol, other, span, lambda other: store.series[other].bars()
        )
    state.measures[instrument.symbol] = found
    bid, spread = round(float(done.close[-1]) / instrument.tick_size), float(done.spread[-1])
    if not math.isnan(spread):
        state.markets[instrument.symbol] = Market(bid, bid + round(spread), state.now)


def as_json(said: list[GuardSaid]) -> dict[str, Any]:
    """The whole answer: open or closed, and each verdict."""
    return {
        "open": not any(one.closed for one in said),
        "verdicts": [
            {
                "instrument": one.symbol,
                "guard": one.guard,
                "kind": one.kind,
                "open": one.closed is None,
                "code": one.closed.code if one.closed else None,
                "message": one.closed.text if one.closed else None,
                "until": _iso(one.closed.until) if one.closed and one.closed.until else None,
            }
            for one in said
        ],
    }


def as_text(said: list[GuardSaid]) -> str:
    """A line for each verdict."""
    lines = []
    for one in said:
        text = "open" if one.closed is None else f"CLOSED: {one.closed.text}"
        until = (
            f", until {_iso(one.closed.until)}"
            if one.closed is not None and one.closed.until
            else ""
        )
        lines.append(f"{one.symbol}  {one.guard} ({one.kind}): {text}{until}")
    return "\n".join(lines) or "no guard watches these instruments: entries open"


def _iso(time: int) -> str:
    at = datetime.fromtimestamp(time // SECOND, UTC)
    return at.isoformat(timespec="seconds").replace("+00:00", "Z")
