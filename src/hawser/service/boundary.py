"""The crossing between the engine's whole ticks and steps and the venue's decimal strings. Exact both ways."""

from __future__ import annotations

from decimal import Decimal

from hawser.core.errors import HawserBug
from hawser.core.instrument import Instrument
from hawser.engine import commands as cm
from hawser.engine import events as ev
from hawser.venue import port


def as_request(command: cm.VenueCommand, instruments: dict[str, Instrument]) -> port.Request:
    """A command as the venue's request. A level with too many digits cannot come out of here."""
    if isinstance(command, cm.QueryAll):
        return port.AskHoldings(token=command.token, orders=command.orders)
    instrument = instruments[command.symbol]
    if isinstance(command, cm.Submit):
        level = None if command.level is None else _level(instrument, command.level)
        return port.NewOrder(
            id=command.order, symbol=command.symbol, side=command.side, kind=command.kind,
            qty=_qty(instrument, command.steps), level=level, closes=command.closes,
            bound=_bound(instrument, command.bound), until=command.until, adds=command.adds,
        )  # fmt: skip
    if isinstance(command, cm.Amend):
        level = _level(instrument, command.level)
        bound = _bound(instrument, command.bound)
        return port.AmendOrder(id=command.order, level=level, qty=_qty(instrument, command.steps), bound=bound)
    if isinstance(command, cm.Cancel):
        return port.CancelOrder(id=command.order)
    return port.AskOrder(id=command.order)


def _level(instrument: Instrument, ticks: int) -> str:
    if ticks <= 0:
        raise HawserBug("level_not_positive", f"{instrument.symbol}: a level of {ticks} ticks was about to leave.")
    return instrument.price(ticks)


def _bound(instrument: Instrument, ticks: int | None) -> str | None:
    return None if ticks is None else _level(instrument, ticks)


def _qty(instrument: Instrument, steps: int) -> str:
    if steps <= 0:
        raise HawserBug("qty_not_positive", f"{instrument.symbol}: a quantity of {steps} steps was about to leave.")
    return instrument.qty(steps)


class Inward:
    """Turns the venue's messages into events, stamped with the time they arrived."""

    def __init__(self, instruments: dict[str, Instrument]) -> None:
        self._instruments = instruments
        self._of_order: dict[str, Instrument] = {}

    def note(self, order: str, symbol: str) -> None:
        """Remember what an order is in, so that its answers can be read."""
        self._of_order[order] = self._instruments[symbol]

    def event(self, message: port.Told, now: int) -> ev.VenueEvent | None:
        """One message as an event; None for a bar, which the bar store turns into events of its own."""
        if isinstance(message, port.QuoteTold):
            instrument = self._instruments[message.symbol]
            bid, ask = ticks(instrument, message.bid), ticks(instrument, message.ask)
            high = ticks(instrument, message.high_bid) if message.high_bid else bid
            low = ticks(instrument, message.low_ask) if message.low_ask else ask
            return ev.Quote(time=now, symbol=message.symbol, bid=bid, ask=ask, high_bid=high, low_ask=low)
        if isinstance(message, port.BarTold):
            return None
        if isinstance(message, port.RateTold):
            return ev.RateSeen(time=now, pair=message.pair, mid=message.mid)
        if isinstance(message, port.FiguresTold):
            return ev.Figures(time=now, balance=message.balance, equity=message.equity, margin_used=message.margin_used)
        if isinstance(message, port.StateTold):
            return ev.InstrumentState(time=now, symbol=message.symbol, open=message.open, until=message.until)
        if isinstance(message, port.LinkTold):
            return ev.VenueUp(time=now) if message.up else ev.VenueDown(time=now, why=message.why)
        return self._about_orders(message, now)

    def _about_orders(self, message: port.Told, now: int) -> ev.VenueEvent:
        if isinstance(message, port.Accepted):
            rests = None if message.level is None else ticks(self._of_order[message.id], message.level)
            return ev.OrderAccepted(time=now, order=message.id, level=rests)
        if isinstance(message, port.Rejected):
            kinds: dict[str, type[ev.OrderRejected | ev.AmendRejected | ev.CancelRejected]] = {
                "order": ev.OrderRejected, "amend": ev.AmendRejected, "cancel": ev.CancelRejected,
            }  # fmt: skip
            return kinds[message.what](time=now, order=message.id, code=message.code, text=message.text)
        if isinstance(message, port.Cancelled):
            instrument = self._of_order[message.id]
            filled = int(Decimal(message.filled) / instrument.qty_step)
            return ev.OrderCancelled(time=now, order=message.id, why=message.why, filled=filled)
        if isinstance(message, port.StatusTold):
            return ev.OrderStatus(time=now, known=self._known(message.order))
        if isinstance(message, port.HoldingsTold):
            return self._holdings(message, now)
        if isinstance(message, port.Filled):
            instrument = self._of_order[message.id]
            return ev.OrderFilled(time=now, order=message.id, fill=_fill(instrument, message.fill))
        if isinstance(message, port.Amended):
            instrument = self._of_order[message.id]
            level, steps = ticks(instrument, message.level), _steps(instrument, message.qty)
            return ev.AmendAccepted(time=now, order=message.id, level=level, steps=steps)
        raise HawserBug("unknown_message", f"No event for a message of type {type(message).__name__}.")

    def _held(self, told: port.PositionTold) -> ev.Held:
        instrument = self._instruments[told.symbol]
        entry = told.entry / instrument.tick_size
        return ev.Held(told.id, told.symbol, told.side, _steps(instrument, told.qty), entry)

    def _known(self, order: port.OrderTold) -> ev.Known:
        if not order.symbol:
            return ev.Known(order.id, order.status, 0, 0)
        instrument = self._instruments[order.symbol]
        self._of_order[order.id] = instrument
        level = 0 if order.level is None else ticks(instrument, order.level)
        fills = tuple(_fill(instrument, fill) for fill in order.fills)
        return ev.Known(order.id, order.status, level, _steps(instrument, order.qty), fills)

    def _holdings(self, message: port.HoldingsTold, now: int) -> ev.Holdings:
        positions = tuple(self._held(held) for held in message.positions)
        asked = tuple(self._known(order) for order in message.asked)
        return ev.Holdings(
            time=now, token=message.token, asked=asked, resting=message.resting, positions=positions,
            as_of=message.time,
        )  # fmt: skip


def ticks(instrument: Instrument, text: str) -> int:
    """A price as the venue writes it, in ticks."""
    return instrument.ticks(Decimal(text))


def _steps(instrument: Instrument, text: str) -> int:
    return int(Decimal(text) / instrument.qty_step)


def _fill(instrument: Instrument, fill: port.FillTold) -> ev.Fill:
    return ev.Fill(
        fill.id, fill.time, _steps(instrument, fill.qty), ticks(instrument, fill.price), fill.profit, fill.commission
    )
