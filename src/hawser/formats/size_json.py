"""`hawser size`: requests and answers as JSON (interface.md). Importing this loads no compiler and
no Qt."""

from __future__ import annotations

import math
from decimal import Decimal
from typing import Annotated, Any, Literal

import msgspec

from hawser.core.account import Account
from hawser.core.derivation import derivation
from hawser.core.errors import BadInput, Refused
from hawser.core.field_help import help_text
from hawser.core.instrument import Instrument
from hawser.core.levels import StopRule, TargetRule, check_shares
from hawser.core.plan import check_stop_and_size
from hawser.core.size_terms import SizeRequest, Sizing
from hawser.core.sizing import sized
from hawser.formats.declared import record


class _Quote(msgspec.Struct, frozen=True):
    bid: Decimal
    ask: Decimal


class _Wire(msgspec.Struct, frozen=True, kw_only=True):
    """A request as it is written; keys we do not know are let pass."""

    instrument: Instrument
    account: Account
    side: Literal["long", "short"]
    quote: _Quote
    atr: Annotated[float, help_text("of completed bars", "price", least=0)] | None = None
    basis: float | None = None  # the level a stop by bars, pivot or line stands on, price units
    stop: StopRule | None = None
    targets: tuple[TargetRule, ...] = ()
    entry: Decimal | None = None
    open_heat: Annotated[float, help_text("heat of the trades open", "money", least=0)] = 0.0
    open_heat_by_currency: dict[
        str, Annotated[float, help_text("the same for one currency", "money", least=0)]
    ] = {}
    positions: Annotated[int, help_text("trades open", "trades", least=0)] = 0
    day_loss_room: float | None = None


def _ticks(instrument: Instrument, price: Decimal, where: str) -> int:
    try:
        return instrument.ticks(price)
    except BadInput as error:
        raise BadInput("bad_request", f"{where}: {error.sentence}") from None


def read_request(data: object, where: str) -> SizeRequest:
    """One written request; raises BadInput."""
    wire = record(_Wire, data, where)
    instrument = wire.instrument
    bid, ask = (
        _ticks(instrument, price, f"{where}: quote") for price in (wire.quote.bid, wire.quote.ask)
    )
    if not 0 < bid <= ask:
        raise BadInput("bad_request", f"{where}: quote: expected 0 < bid <= ask")
    heats = wire.open_heat_by_currency.values()
    for key, values in (
        ("atr", [wire.atr]),
        ("basis", [wire.basis]),
        ("day_loss_room", [wire.day_loss_room]),
        ("open_heat", [wire.open_heat]),
        ("open_heat_by_currency", heats),
    ):
        if any(value is not None and not math.isfinite(value) for value in values):
            raise BadInput("bad_request", f"{where}: {key}: expected a number")
    try:
        check_stop_and_size(wire.stop, wire.account.size)
        check_shares(wire.targets)
    except BadInput as error:
        raise BadInput("bad_request", f"{where}: {error.sentence}") from None
    entry = None if wire.entry is None else _ticks(instrument, wire.entry, f"{where}: entry")
    if entry is not None and not entry > 0:
        raise BadInput("bad_request", f"{where}: entry: expected a positive level or null")

    def known(value: float | None) -> float:
        return math.nan if value is None else value

    return SizeRequest(
        instrument=instrument,
        account=wire.account,
        side=1 if wire.side == "long" else -1,
        bid=bid,
        ask=ask,
        atr=known(wire.atr),
        basis=known(wire.basis),
        stop=wire.stop,
        targets=wire.targets,
        entry=entry,
        open_heat=wire.open_heat,
        open_heat_by_currency=wire.open_heat_by_currency,
        positions=wire.positions,
        day_loss_room=wire.day_loss_room,
    )


def written(request: SizeRequest, sizing: Sizing) -> dict[str, Any]:
    """An answer with the contract's keys: levels and quantities as strings, money as numbers."""
    of = request.instrument
    answer: dict[str, Any] = {"ok": True, "side": "long" if request.side > 0 else "short"}
    answer |= {
        "ref": of.price(sizing.ref),
        "stop": of.price(sizing.stop),
        "r_ticks": sizing.r_ticks,
    }
    answer["qty"] = of.qty(sizing.steps)
    for key in (
        "risk_money",
        "risk_percent",
        "budget",
        "tick_value",
        "risk_per_unit",
        "notional",
        "equity_used_percent",
        "margin",
        "spread_percent_of_r",
    ):
        answer[key] = getattr(sizing, key)
    answer["targets"] = [
        {
            "level": of.price(target.level),
            "qty": of.qty(target.steps),
            "r": target.r,
            "money": target.money,
        }
        for target in sizing.targets
    ]
    answer["caps"] = [
        {"name": cap.name, "qty": of.qty(cap.steps), "bound": cap.bound} for cap in sizing.caps
    ]
    answer["derivation"] = [f"{step.label}: {step.figure}" for step in derivation(request, sizing)]
    return answer


def answer_one(data: object, where: str = "request") -> dict[str, Any]:
    """Answer one request; a refusal is an answer too. Raises BadInput."""
    request = read_request(data, where)
    try:
        return written(request, sized(request))
    except Refused as refusal:
        return {
            "ok": False,
            "code": refusal.code,
            "message": refusal.sentence,
            "details": refusal.values,
        }


def answer_many(requests: list[Any]) -> list[dict[str, Any]]:
    """Answer each; a faulty one answers `bad_request` and the others are answered."""
    answers = []
    for index, data in enumerate(requests):
        try:
            answers.append(answer_one(data, f"request {index + 1}"))
        except BadInput as error:
            answers.append(
                {"ok": False, "code": "bad_request", "message": error.sentence, "details": {}}
            )
    return answers
