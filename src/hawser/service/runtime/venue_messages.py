"""The crossing between the engine's whole ticks and steps and the venue's decimal strings. Exact
both ways.

What the venue says is data: a message that cannot be so, or cannot be read, comes out as an `Odd`
and changes nothing.
"""

from __future__ import annotations

import math
from collections.abc import Container
from typing import Literal, NamedTuple

from hawser.core.clock import HOUR
from hawser.core.decimals import of_text
from hawser.core.errors import HawserBug, HawserError
from hawser.core.instrument import MOST_STEPS, MOST_TICKS, Instrument
from hawser.core.numbers import MOST
from hawser.engine import commands as cm
from hawser.engine import events as ev
from hawser.venue import port

MOST_TIME = 1 << 62  # UTC ns
TIDY_AFTER = 1_000  # orders more than were kept


class Odd(NamedTuple):
    """A message that is set aside: of what kind, and of which instrument where that is known."""

    what: Literal["crossed", "one_sided", "unreadable", "foreign"]
    symbol: str


def as_request(
    command: cm.VenueCommand, instruments: dict[str, Instrument], skew: int = 0
) -> port.Request:
    """A command as the venue's request. A level with too many digits cannot come out of here.
    `skew`: how far the venue's clock is ahead of ours, ns, for orders that it gives up at a
    moment."""
    if isinstance(command, cm.QueryAll):
        return port.AskHoldings(token=command.token, orders=command.orders)
    if isinstance(command, cm.Cancel):
        return port.CancelOrder(id=command.order)
    if isinstance(command, cm.Query):
        return port.AskOrder(id=command.order, token=command.token)
    instrument = instruments[command.symbol]
    if isinstance(command, cm.Amend):
        level = _level(instrument, command.level)
        bound = _bound(instrument, command.bound)
        qty = _qty(instrument, command.steps)
        return port.AmendOrder(
            id=command.order, level=level, qty=qty, bound=bound, token=command.token
        )
    return port.NewOrder(
        id=command.order,
        symbol=command.symbol,
        side=command.side,
        kind=command.kind,
        qty=_qty(instrument, command.steps),
        level=None if command.level is None else _level(instrument, command.level),
        closes=command.closes,
        bound=_bound(instrument, command.bound),
        until=max(1, command.until + skew) if command.until else 0,
        adds=command.adds,
    )


def _level(instrument: Instrument, ticks: int) -> str:
    if ticks <= 0:
        raise HawserBug(
            "level_not_positive",
            f"{instrument.symbol}: a level of {ticks} ticks was about to leave.",
        )
    return instrument.price(ticks)


def _bound(instrument: Instrument, ticks: int | None) -> str | None:
    return None if ticks is None else _level(instrument, ticks)


def _qty(instrument: Instrument, steps: int) -> str:
    if steps <= 0:
        raise HawserBug(
            "qty_not_positive",
            f"{instrument.symbol}: a quantity of {steps} steps was about to leave.",
        )
    return instrument.qty(steps)


class FromVenue:
    """Turns the venue's messages into events, stamped with the time they arrived."""

    def __init__(self, instruments: dict[str, Instrument]) -> None:
        self._instruments = instruments
        self._of_order: dict[str, str] = {}
        self._tidy_at = TIDY_AFTER
        self._quoted: dict[str, int] = {}  # the venue's time of each instrument's last quote

    def note(self, order: str, symbol: str, known: Container[str]) -> None:
        """Remember what an order is in, so that its answers can be read; from time to time, drop
        those that are not `known` any more."""
        self._of_order[order] = symbol
        if len(self._of_order) >= self._tidy_at:
            self._of_order = {
                name: symbol for name, symbol in self._of_order.items() if name in known
            }
            self._tidy_at = 2 * len(self._of_order) + TIDY_AFTER

    def event(self, message: port.VenueMessage, now: int) -> ev.VenueEvent | Odd:
        """One message as an event."""
        try:
            return self._event(message, now)
        except (HawserError, ValueError, ArithmeticError, KeyError, TypeError, AttributeError):
            return Odd("unreadable", str(getattr(message, "symbol", "")))

    def _event(self, message: port.VenueMessage, now: int) -> ev.VenueEvent | Odd:
        if isinstance(message, port.QuoteTold):
            return self._quote(message, now)
        if isinstance(message, port.RateTold):
            if not 0 < message.mid <= MOST or message.pair.count("/") != 1:
                return Odd("unreadable", message.pair)
            return ev.RateSeen(time=now, pair=message.pair, mid=message.mid)
        if isinstance(message, port.FiguresTold):
            return _figures(message, now)
        if isinstance(message, port.StateTold):
            self._instruments[message.symbol]  # one that is not traded here cannot be read
            return ev.InstrumentState(
                time=now, symbol=message.symbol, open=message.open, until=message.until
            )
        if isinstance(message, port.LinkTold):
            return ev.VenueUp(time=now) if message.up else ev.VenueDown(time=now, why=message.why)
        if isinstance(message, port.HoldingsTold):
            return self._holdings(message, now)
        return self._about_order(message, now)

    def _quote(self, message: port.QuoteTold, now: int) -> ev.Quote | Odd:
        instrument = self._instruments[message.symbol]
        bid, ask = instrument.ticks_written(message.bid), instrument.ticks_written(message.ask)
        if bid <= 0 or ask <= 0:
            return Odd("one_sided", message.symbol)
        if bid > ask:
            return Odd("crossed", message.symbol)
        high = instrument.ticks_written(message.high_bid) if message.high_bid else bid
        low = instrument.ticks_written(message.low_ask) if message.low_ask else ask
        self._quoted[message.symbol] = message.time
        return ev.Quote(
            time=now, symbol=message.symbol, bid=bid, ask=ask, high_bid=high, low_ask=low
        )

    def _about_order(self, message: port.VenueMessage, now: int) -> ev.VenueEvent | Odd:
        order = (
            message.order.id
            if isinstance(message, port.StatusTold)
            else str(getattr(message, "id", ""))
        )
        symbol = self._of_order.get(order)
        if symbol is None:
            return Odd("foreign", "")
        instrument = self._instruments.get(symbol)
        if isinstance(message, port.Rejected):
            kinds: dict[str, type[ev.OrderRejected | ev.CancelRejected]] = {
                "order": ev.OrderRejected,
                "cancel": ev.CancelRejected,
            }
            if message.what == "amend":
                return ev.AmendRejected(
                    time=now, order=order, code=message.code, text=message.text, token=message.token
                )
            return kinds[message.what](time=now, order=order, code=message.code, text=message.text)
        if instrument is None:
            return Odd("unreadable", symbol)
        if isinstance(message, port.Accepted):
            rests = (
                None
                if message.level is None
                else _positive(instrument.ticks_written(message.level))
            )
            return ev.OrderAccepted(time=now, order=order, level=rests)
        if isinstance(message, port.Cancelled):
            filled = _steps(instrument, message.filled)
            return ev.OrderCancelled(time=now, order=order, why=message.why, filled=filled)
        if isinstance(message, port.StatusTold):
            return ev.OrderStatus(time=now, known=self._known(message.order), token=message.token)
        if isinstance(message, port.Filled):
            return ev.OrderFilled(
                time=now, order=order, fill=self._fill(instrument, message.fill, now)
            )
        if isinstance(message, port.Amended):
            level = _positive(instrument.ticks_written(message.level))
            steps = _positive(_steps(instrument, message.qty))
            return ev.AmendAccepted(
                time=now, order=order, level=level, steps=steps, token=message.token
            )
        raise HawserBug(
            "unknown_message", f"No event for a message of type {type(message).__name__}."
        )

    def _fill(self, instrument: Instrument, fill: port.FillTold, now: int) -> ev.Fill:
        """A fill. Bars since an entry are counted from its time, which is the venue's: where that
        lies far from the quotes of its instrument, the last quote's time stands for it."""
        last = self._quoted.get(instrument.symbol, now)
        time = fill.time if abs(fill.time - last) <= HOUR else last
        if not (math.isfinite(fill.profit) and math.isfinite(fill.commission)):
            raise ValueError("a fill's money is no number")
        steps = _positive(_steps(instrument, fill.qty))
        price = _positive(instrument.ticks_written(fill.price))
        return ev.Fill(
            id=fill.id,
            time=time,
            steps=steps,
            price=price,
            profit=fill.profit,
            commission=fill.commission,
        )

    def _held(self, told: port.PositionTold) -> ev.VenuePosition:
        instrument = self._instruments[told.symbol]
        entry = told.entry / instrument.tick_size if math.isfinite(told.entry) else 0.0
        if told.side not in (1, -1):
            raise ValueError(f"{told.side} is no side")
        steps = _steps(instrument, told.qty)
        return ev.VenuePosition(
            told.id, told.symbol, told.side, steps, entry if 0 < entry <= MOST_TICKS else 0.0
        )

    def _known(self, order: port.OrderTold) -> ev.OrderReport:
        instrument = self._instruments.get(order.symbol)
        if instrument is None:
            return ev.OrderReport(order.id, order.status, 0, 0)
        self._of_order[order.id] = order.symbol
        level = 0 if order.level is None else _positive(instrument.ticks_written(order.level))
        fills = tuple(self._fill(instrument, fill, fill.time) for fill in order.fills)
        return ev.OrderReport(order.id, order.status, level, _steps(instrument, order.qty), fills)

    def _holdings(self, message: port.HoldingsTold, now: int) -> ev.Holdings:
        here = [self._held(one) for one in message.positions if one.symbol in self._instruments]
        # less than one step can be neither protected nor closed
        positions = tuple(one for one in here if one.steps)
        asked = tuple(self._known(order) for order in message.asked)
        return ev.Holdings(
            time=now,
            token=message.token,
            asked=asked,
            resting=message.resting,
            positions=positions,
            as_of=message.time,
            closing=message.closing,
        )


def _figures(message: port.FiguresTold, now: int) -> ev.Figures | Odd:
    paid = message.transferred
    money = (message.balance, message.equity, message.margin_used, 0.0 if paid is None else paid)
    if not all(abs(one) <= MOST for one in money):  # nor NaN
        return Odd("unreadable", "")
    return ev.Figures(
        time=now,
        balance=message.balance,
        equity=message.equity,
        margin_used=message.margin_used,
        transferred=paid,
    )


def _steps(instrument: Instrument, text: str) -> int:
    """A quantity as the venue writes it, in whole steps: what is off the step is left out."""
    qty = of_text(text)
    if not 0 <= qty <= MOST_STEPS * instrument.qty_step:
        raise ValueError(f"{text} is no quantity")
    return int(qty / instrument.qty_step)


def _positive(value: int) -> int:
    if value <= 0:
        raise ValueError("expected more than 0")
    return value
