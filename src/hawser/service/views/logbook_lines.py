"""The Logbook's lines: every recorded event and command as one line a trader reads."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from typing import TYPE_CHECKING, Any

import msgspec

from hawser.core import figures as fg
from hawser.core.account import Account
from hawser.core.clock import timeframe_name
from hawser.core.field_parser import entry_text, size_text, stop_text
from hawser.core.instrument import Instrument
from hawser.core.plan import Plan
from hawser.core.rig import basket_text
from hawser.engine import commands as cm
from hawser.engine import events as ev
from hawser.engine.model.state import EngineState

if TYPE_CHECKING:
    from hawser.ledger.ledger import RecordLine

HEADER = ("time", "kind", "trade", "instrument", "weight", "text")


def _called(role: str) -> str:
    """An order's role in words."""
    return "loss step" if role == "loss" else role


def _tag(item: ev.Event | cm.Command) -> str:
    """What the record calls it."""
    return str(item.__struct_config__.tag)


class LogLine(msgspec.Struct, frozen=True):
    """One line. `kind`: asked, decided, sent, venue, timer, market or session. `code`: what the
    record calls the event or the command (an order with its role), or the code of what was
    told."""

    time: int
    kind: str
    trade: str
    symbol: str
    weight: str
    text: str
    code: str = ""


class Teller:
    """Makes lines; remembers which trade an order belongs to."""

    def __init__(self) -> None:
        self.currency = ""
        self._instruments: dict[str, Instrument] = {}
        self._orders: dict[str, tuple[str, str, str]] = {}  # order -> trade, symbol, role
        self._symbols: dict[str, str] = {}  # trade -> symbol

    def begin(self, state: EngineState) -> None:
        """Know what was known where the record is taken up in its midst."""
        self.currency = state.account.currency if state.account else self.currency
        self._instruments |= state.instruments
        for order in state.orders.values():
            symbol = state.trades[order.trade].symbol
            self._orders[order.id] = (order.trade, symbol, order.role)
        self._symbols |= {trade.id: trade.symbol for trade in state.trades.values()}

    def told(self, rows: Iterable[RecordLine]) -> list[LogLine]:
        """The lines of recorded rows; commands whose event lies before them are left out."""
        held: tuple[ev.AnyEvent, list[cm.AnyCommand]] | None = None
        found: list[LogLine] = []
        for row in rows:
            if isinstance(row.item, ev.Event):
                if held is not None:
                    found += self.lines(*held)
                held = (row.item, [])
            elif held is not None:
                held[1].append(row.item)
        return found + (self.lines(*held) if held is not None else [])

    def lines(self, event: ev.AnyEvent, commands: list[cm.AnyCommand]) -> list[LogLine]:
        """The lines of one event and what followed it, in order."""
        found = []
        if isinstance(event, ev.Opened):
            self.currency = event.account.currency
        if isinstance(event, (ev.Opened, ev.InstrumentsChanged)):
            self._instruments = {instrument.symbol: instrument for instrument in event.instruments}
        for command in commands:
            self._note(command)
        first = self._event_line(event)
        if first is not None:
            found.append(first)
        for command in commands:
            line = self._command_line(command, event.time)
            if line is not None:
                found.append(line)
        return found

    def _note(self, command: cm.AnyCommand) -> None:
        if isinstance(command, cm.Submit):
            self._orders[command.order] = (command.trade, command.symbol, command.role)
            self._symbols[command.trade] = command.symbol

    def _event_line(self, event: ev.AnyEvent) -> LogLine | None:
        describe = _EVENTS.get(type(event))
        if describe is None:
            return None
        kind, text = describe(self, event)
        order = (
            event.known.order if isinstance(event, ev.OrderStatus) else getattr(event, "order", "")
        )
        trade, symbol, _ = self._orders.get(
            order, (getattr(event, "trade", ""), getattr(event, "symbol", ""), "")
        )
        plan = getattr(event, "plan", None)
        symbol = symbol or (plan.symbol if plan else "") or self._symbols.get(trade, "")
        return LogLine(
            time=event.time,
            kind=kind,
            trade=trade,
            symbol=symbol,
            weight="info",
            text=text,
            code=_tag(event),
        )

    def _command_line(self, command: cm.AnyCommand, time: int) -> LogLine | None:
        if isinstance(command, cm.Tell):
            return LogLine(
                time=time,
                kind="decided",
                trade=command.trade,
                symbol=command.symbol,
                weight=command.weight,
                text=command.text,
                code=command.code,
            )
        if isinstance(command, cm.StartTimer):
            return None
        if isinstance(command, cm.QueryAll):
            text = (
                "Ask the venue for all it holds, and about "
                f"{fg.counted(len(command.orders), 'order')}"
            )
            return LogLine(
                time=time,
                kind="sent",
                trade="",
                symbol="",
                weight="info",
                text=text,
                code=_tag(command),
            )
        role = f" {command.role}" if isinstance(command, cm.Submit) else ""
        return LogLine(
            time=time,
            kind="sent",
            trade=command.trade,
            symbol=command.symbol,
            weight="info",
            text=self._sent(command),
            code=_tag(command) + role,
        )

    def _sent(self, command: cm.Submit | cm.Amend | cm.Cancel | cm.Query) -> str:
        if isinstance(command, cm.Submit):
            instrument = self._instruments[command.symbol]
            verb = "buy" if command.side > 0 else "sell"
            at = (
                "at market"
                if command.level is None
                else f"{command.kind} {instrument.price(command.level)}"
            )
            qty = instrument.qty(command.steps)
            return (
                f"{_called(command.role).capitalize()} order: {verb} {qty} {at} ({command.why}) "
                f"[{command.order}]"
            )
        if isinstance(command, cm.Amend):
            return f"{command.why} [{command.order}]"
        role = self._role(command.order)
        if isinstance(command, cm.Cancel):
            return f"Cancel the {_called(role)} order: {command.why} [{command.order}]"
        return f"Ask what became of the {_called(role)} order [{command.order}]"

    def level(self, trade: str, ticks: int) -> str:
        """A level of a trade, as it is written."""
        instrument = self._instruments.get(self._symbols.get(trade, ""))
        return instrument.price(ticks) if instrument else f"{ticks} ticks"

    def _role(self, order: str) -> str:
        return self._orders.get(order, ("", "", "unknown"))[2]

    def _price(self, order: str, ticks: int) -> str:
        symbol = self._orders.get(order, ("", "", ""))[1]
        return (
            self._instruments[symbol].price(ticks)
            if symbol in self._instruments
            else f"{ticks} ticks"
        )

    def _qty(self, order: str, steps: int) -> str:
        symbol = self._orders.get(order, ("", "", ""))[1]
        return (
            self._instruments[symbol].qty(steps)
            if symbol in self._instruments
            else f"{steps} steps"
        )


def _placed(teller: Teller, event: ev.PlaceTrade) -> tuple[str, str]:
    plan = event.plan
    side = fg.side_word(plan.side)
    return "asked", f"Place {side} {plan.symbol}, {entry_text(plan.entry)}: {_rules(teller, plan)}"


def _rig_name(plan: Plan) -> str:
    return plan.rig.name if plan.rig is not None else ""


def _rules(teller: Teller, plan: Plan) -> str:
    stop = (
        stop_text(plan.stop, teller.currency) if plan.stop is not None else "what the risk allows"
    )
    return f"size {size_text(plan.size, teller.currency)}, stop {stop}"


def _straddled(teller: Teller, event: ev.PlaceStraddle) -> tuple[str, str]:
    return (
        "asked",
        (
            f"Place a straddle in {event.plan.symbol}, {event.atr:g} ATR away: "
            f"{_rules(teller, event.plan)}"
        ),
    )


def _target_set(teller: Teller, event: ev.SetTarget) -> tuple[str, str]:
    name = f"target {event.number}" if event.number else "a new target"
    if not event.share:
        return "asked", f"Take {name} away"
    return (
        "asked",
        (
            f"Set {name} to {teller.level(event.trade, event.level)} for "
            f"{fg.percent(100 * event.share, 0)}"
        ),
    )


def _filled(teller: Teller, event: ev.OrderFilled) -> tuple[str, str]:
    fill, role = event.fill, teller._role(event.order)
    qty, price = teller._qty(event.order, fill.steps), teller._price(event.order, fill.price)
    fee = fg.money(fill.commission, teller.currency)
    return (
        "venue",
        f"Filled: {_called(role)} order, {qty} at {price}, commission {fee} [{event.order}]",
    )


def _moved(teller: Teller, event: ev.MoveStop | ev.MoveTarget | ev.MoveEntry) -> tuple[str, str]:
    if isinstance(event, ev.MoveTarget):
        what = f"target {event.number}"
    else:
        what = "stop" if isinstance(event, ev.MoveStop) else "entry"
    return "asked", f"Move the {what} to {teller.level(event.trade, event.level)}"


def _bar(teller: Teller, event: ev.BarCompleted) -> tuple[str, str]:
    instrument = teller._instruments[event.symbol]
    close = f"{event.close:.{instrument.price_digits}f}"
    atr = f"{event.atr:.{instrument.price_digits + 1}f}"
    return "market", f"{timeframe_name(event.span)} bar completed: close {close}, ATR {atr}"


def _settings(account: Account) -> str:
    """The policy's limits in short."""
    policy = account.policy
    named = [(key, getattr(policy, key)) for key in policy.__struct_fields__]
    return ", ".join(
        f"{key.replace('_', ' ')} {value}" for key, value in named if value is not None
    )


def _plain(kind: str, text: Callable[[Any], str]) -> Callable[[Teller, Any], tuple[str, str]]:
    return lambda teller, event: (kind, text(event))


def _of_order(text: str) -> Callable[[Teller, Any], tuple[str, str]]:
    """A venue's answer about an order; `text` names what follows 'The venue ... the ROLE order'."""

    def describe(teller: Teller, event: Any) -> tuple[str, str]:
        detail = f": {event.text}" if hasattr(event, "text") else ""
        return "venue", f"{text.format(role=teller._role(event.order))}{detail} [{event.order}]"

    return describe


def _calendars(event: ev.CalendarChanged) -> str:
    told = [
        f"{one.name} with {len(one.events)} events"
        if one.state == "good"
        else f"{one.name} is {one.state}"
        for one in event.calendars
    ]
    return ", ".join(told) or "no calendar"


def _closing_one(ask: ev.CloseTrade) -> str:
    if ask.entry_only:
        return "Take the entry back"
    return f"Close {'the trade' if ask.share == 1 else fg.percent(100 * ask.share, 0)} at market"


def _closing(ask: ev.CloseAll) -> str:
    where = f" in {ask.symbol}" if ask.symbol else ""
    return (
        f"Cancel all pending entries{where}"
        if ask.which == "pending"
        else f"Close {ask.which} trades{where} at market"
    )


_EVENTS: dict[type, Callable[[Teller, Any], tuple[str, str]]] = {
    ev.Opened: _plain("session", lambda e: f"Session opened, account in {e.account.currency}"),
    ev.InstrumentsChanged: _plain(
        "venue", lambda e: "What the venue trades is another than before"
    ),
    ev.BarCompleted: _bar,
    ev.InstrumentState: _plain(
        "market", lambda e: f"{e.symbol} {'opens' if e.open else 'closes'} for trading"
    ),
    ev.VenueUp: _plain("venue", lambda e: "The link to the venue stands"),
    ev.VenueDown: _plain("venue", lambda e: f"The link to the venue is lost: {e.why}"),
    ev.OrderAccepted: _of_order("The venue accepted the {role} order"),
    ev.OrderRejected: _of_order("The venue refused the {role} order"),
    ev.OrderFilled: _filled,
    ev.OrderCancelled: _of_order("The {role} order is cancelled"),
    ev.AmendAccepted: lambda teller, e: (
        "venue",
        f"The {teller._role(e.order)} order rests at {teller._price(e.order, e.level)} for "
        f"{teller._qty(e.order, e.steps)} [{e.order}]",
    ),
    ev.AmendRejected: _of_order("The venue refused to change the {role} order"),
    ev.CancelRejected: _of_order("The venue refused to cancel the {role} order"),
    ev.OrderStatus: lambda teller, e: (
        "venue",
        (
            f"The venue says of the {teller._role(e.known.order)} order: {e.known.status} "
            f"[{e.known.order}]"
        ),
    ),
    ev.Holdings: _plain(
        "venue",
        lambda e: (
            f"The venue holds {len(e.positions)} positions and {len(e.resting)} resting orders"
        ),
    ),
    ev.TimerFired: _plain("timer", lambda e: f"Timer {e.name.replace(':', ' ')}"),
    ev.PlaceTrade: _placed,
    ev.MoveStop: _moved,
    ev.MoveTarget: _moved,
    ev.PlaceStraddle: _straddled,
    ev.MoveEntry: _moved,
    ev.LinkEntries: _plain(
        "asked", lambda e: f"Link entries, one cancels the others: {', '.join(e.trades)}"
    ),
    ev.FormBasket: _plain(
        "asked", lambda e: f"Basket over {', '.join(e.trades)}: {basket_text(e.basket)}"
    ),
    ev.DissolveBasket: _plain("asked", lambda e: f"Take {e.name} off"),
    ev.SetTarget: _target_set,
    ev.ChangeRules: lambda teller, e: (
        "asked",
        f"Tend by {_rig_name(e.plan) or 'another plan'}: {_rules(teller, e.plan)}",
    ),
    ev.HoldLines: _plain(
        "asked", lambda e: "Hold the lines here" if e.held else "Let the lines rest at the venue"
    ),
    ev.Adopt: lambda teller, e: ("asked", f"Adopt position {e.position}: {_rules(teller, e.plan)}"),
    ev.CloseTrade: _plain("asked", _closing_one),
    ev.CloseAll: _plain("asked", _closing),
    ev.StopToEntry: _plain("asked", lambda e: "Move the stop to the entry"),
    ev.TurnAround: _plain("asked", lambda e: "Turn the trade around"),
    ev.Halt: _plain("asked", lambda e: f"Flatten & halt: {e.why}"),
    ev.ChangeAccount: _plain(
        "asked", lambda e: f"Change the account's settings: {_settings(e.account)}"
    ),
    ev.CalendarChanged: _plain("market", lambda e: f"News: {_calendars(e)}"),
    ev.ChangeGuards: _plain(
        "asked", lambda e: f"Guards: {', '.join(g.name for g in e.guards.guard) or 'none'}"
    ),
    ev.RearmGuard: _plain(
        "asked", lambda e: f"Re-arm {e.guard}{f' ({e.subject})' if e.subject else ''}: {e.reason}"
    ),
    ev.Drill: _plain(
        "asked",
        lambda e: (
            "Drill "
            f"{e.guard}{f' ({e.subject})' if e.subject else ''}{', watched only' * e.watch_only}"
        ),
    ),
    ev.Rearm: _plain("asked", lambda e: f"Re-arm: {e.reason}"),
}
