"""The same plan sized for every instrument at once, without Qt: one row each, with what it would
risk and cost."""

from __future__ import annotations

import math
from pathlib import Path
from typing import NamedTuple

import msgspec

from hawser.core import figures as fg
from hawser.core.errors import Refused
from hawser.core.indicator_values import own_atr
from hawser.core.numbers import or_nan
from hawser.core.plan import Plan
from hawser.core.size_terms import SizeRequest, Sizing
from hawser.core.sizing import sized
from hawser.engine.model.state import EntryValues
from hawser.formats.atomic import export_csv
from hawser.service.views.snapshot import InstrumentView, Snapshot, plan_request


class AcrossColumn(NamedTuple):
    """A column: its heading, and the key it has in an exported file."""

    head: str
    key: str


COLUMNS = (
    AcrossColumn("instrument", "instrument"),
    AcrossColumn("entries", "entries"),
    AcrossColumn("ATR", "atr"),
    AcrossColumn("ATR of price", "atr_percent"),
    AcrossColumn("R", "r_ticks"),
    AcrossColumn("quantity", "qty"),
    AcrossColumn("at risk", "risk"),
    AcrossColumn("notional", "notional"),
    AcrossColumn("of equity", "equity_percent"),
    AcrossColumn("margin", "margin"),
    AcrossColumn("spread of R", "spread_percent_of_r"),
    AcrossColumn("verdict", "verdict"),
)
DEAR = 15.0  # percent of R: a spread beyond it makes the trade too expensive now
# verdicts that must fit a column; the whole sentence is in the tip and in an exported file
SHORT = {
    "below_min": "below minimum",
    "indicator_not_ready": "no ATR yet",
    "no_quote": "no quote yet",
}
OTHER_PRICE = "a stop or target at a price fits one instrument only"


class AcrossRow(NamedTuple):
    """One instrument. Figures are NaN where there is none; `values` are what the columns sort by
    and export."""

    symbol: str
    texts: tuple[str, ...]
    values: tuple[str | float, ...]
    loud: bool  # something stands in the way of this trade


def across(plan: Plan, snapshot: Snapshot, marks: dict[str, EntryValues]) -> list[AcrossRow]:
    """A row for every instrument. `marks`: what the plan stands on there, by symbol."""
    return [
        _row(plan, snapshot, view, marks.get(view.instrument.symbol, EntryValues()))
        for view in snapshot.instruments
    ]


def _sized(plan: Plan, snapshot: Snapshot, marks: EntryValues) -> tuple[SizeRequest, Sizing]:
    basis, atr = map(or_nan, marks)
    request = plan_request(snapshot, plan, basis, atr)
    return request, sized(request)


def _row(plan: Plan, snapshot: Snapshot, view: InstrumentView, marks: EntryValues) -> AcrossRow:
    of = view.instrument
    verdict, short, sizing = "", "", None
    if of.symbol != plan.symbol and _priced(plan):
        verdict, short = OTHER_PRICE, "has a price of its own"
    else:
        try:
            _, sizing = _sized(msgspec.structs.replace(plan, symbol=of.symbol), snapshot, marks)
        except Refused as refusal:
            verdict = refusal.sentence.rstrip(".")
            short = SHORT.get(refusal.code, refusal.code.replace("_", " "))
    r_ticks = float(sizing.r_ticks) if sizing is not None else math.nan
    closed = snapshot.closed_for(msgspec.structs.replace(plan, symbol=of.symbol), r_ticks)
    entries = "; ".join(reason.text for reason in closed) or "open"
    dear = sizing is not None and sizing.spread_percent_of_r > DEAR
    if dear:
        verdict, short = "the spread is too large a share of R now", "spread too dear"
    loud = bool(closed) or sizing is None or dear
    if not verdict:
        verdict = short = "closed" if closed else "can be placed"
    atr = view.atr.get(plan.timeframe_ns, math.nan) if not own_atr(plan) else math.nan
    row = _written(
        snapshot,
        view,
        atr=atr if marks.atr is None else marks.atr,
        sizing=sizing,
        entries=entries,
        loud=loud,
    )
    return row._replace(texts=(*row.texts, short), values=(*row.values, verdict))


def also_words(plan: Plan, snapshot: Snapshot, marks: EntryValues) -> str:
    """What the same plan comes to on another account, or why it cannot be placed there."""
    try:
        request, sizing = _sized(plan, snapshot, marks)
    except Refused as refusal:
        return SHORT.get(refusal.code, refusal.sentence)
    closed = snapshot.closed_for(plan, float(sizing.r_ticks))
    if closed:
        return f"closed: {closed[0].text}"
    qty = request.instrument.qty(sizing.whole_steps)
    return f"{qty} units, {fg.money(sizing.risk_money, snapshot.currency)} at risk"


def _priced(plan: Plan) -> bool:
    stop = plan.stop is not None and plan.stop.price is not None
    return (
        stop
        or plan.entry.price is not None
        or any(target.price is not None for target in plan.targets)
    )


def _written(
    snapshot: Snapshot,
    view: InstrumentView,
    atr: float,
    sizing: Sizing | None,
    entries: str,
    loud: bool,
) -> AcrossRow:
    """The row without its verdict."""
    of, cur = view.instrument, snapshot.currency
    part = atr / (view.bid * of.tick_size) * 100 if view.bid else math.nan
    texts = [
        of.symbol,
        "open" if entries == "open" else "closed",
        fg.NONE if math.isnan(atr) else f"{atr:.{of.price_digits + 1}f}",
        fg.percent(part, 3),
    ]
    values: list[str | float] = [of.symbol, entries, atr, part]
    if sizing is None:
        texts += [fg.NONE] * 7
        values += [math.nan] * 7
    else:
        qty = sizing.whole_steps * of.step_size
        values += [
            float(sizing.r_ticks),
            qty,
            sizing.risk_money,
            sizing.notional,
            sizing.equity_used_percent,
            sizing.margin,
            sizing.spread_percent_of_r,
        ]
        texts += [
            f"{fg.number(sizing.r_ticks, 0)}{fg.GROUP}t",
            of.qty(sizing.whole_steps),
            fg.money(sizing.risk_money, cur),
            fg.money(sizing.notional, cur),
            fg.percent(sizing.equity_used_percent),
            fg.money(sizing.margin, cur),
            fg.percent(sizing.spread_percent_of_r),
        ]
    return AcrossRow(of.symbol, tuple(texts), tuple(values), loud)


def export(rows: list[AcrossRow], path: Path) -> int:
    """The rows as CSV with unrounded figures; unknown ones are empty. Returns how many; raises
    BadInput."""
    known = (
        ("" if isinstance(value, float) and math.isnan(value) else value for value in row.values)
        for row in rows
    )
    export_csv(path, [[column.key for column in COLUMNS], *known])
    return len(rows)
