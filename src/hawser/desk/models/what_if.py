"""What if the stop stood elsewhere: quantity, share of equity and risk over the stop's distance,
without Qt."""

from __future__ import annotations

from decimal import Decimal
from typing import NamedTuple

import msgspec

from hawser.core.account import SizeRule
from hawser.core.errors import Refused
from hawser.core.levels import StopRule
from hawser.core.size_terms import SizeRequest, Sizing
from hawser.core.sizing import sized

POINTS = 36
NEAREST, FARTHEST = 0.25, 3.0  # of the present distance


class Point(NamedTuple):
    """One place of the stop. `ticks` is its distance, `price` its level as typed; `qty` in units,
    risk in money."""

    ticks: int
    price: str
    qty: float
    equity_percent: float
    risk: float


def curve(request: SizeRequest, sizing: Sizing) -> list[Point]:
    """Points from a quarter to three times the present distance, each sized whole; places that are
    refused are left out."""
    distances = {
        max(1, round(sizing.r_ticks * (NEAREST + (FARTHEST - NEAREST) * i / (POINTS - 1))))
        for i in range(POINTS)
    }
    found = (point(request, sizing, ticks) for ticks in sorted(distances | {sizing.r_ticks}))
    return [one for one in found if one is not None]


def point(request: SizeRequest, sizing: Sizing, ticks: int) -> Point | None:
    """The size with the stop `ticks` from the entry; None where that is refused."""
    of, ladder = request.instrument, request.ladder
    price = of.price(sizing.ref - request.side * ticks)
    if ladder is not None:
        behind = (ladder.stop_ticks or 0.0) + ticks - sizing.r_ticks
        if behind < 1:
            return None
        ladder = msgspec.structs.replace(ladder, stop_ticks=behind)
    size = request.account.size
    # its stop follows from the money: what is asked here is the other way round
    if size.method == "invest":
        size = SizeRule("risk_money", amount=size.risk)
    account = msgspec.structs.replace(request.account, size=size)
    try:
        found = sized(
            msgspec.structs.replace(
                request,
                stop=StopRule(price=Decimal(price)),
                targets=(),
                account=account,
                ladder=ladder,
            )
        )
    except Refused:
        return None
    qty = found.whole_steps * of.step_size
    return Point(found.r_ticks, price, qty, found.equity_used_percent, found.risk_money)
