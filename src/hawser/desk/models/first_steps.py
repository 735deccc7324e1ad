"""Three steps to a first protected trade, done by the person on the real controls; without Qt."""

from __future__ import annotations

from hawser.core import figures as fg
from hawser.service.views.snapshot import InstrumentView, Snapshot, TradeView

CHOOSE, PLACE, PROTECTED, DONE = range(1, 5)


class FirstSteps:
    """Where the person is: `step`, DONE where nothing is to be said any more."""

    def __init__(self) -> None:
        self.step = DONE
        self._known: set[str] | None = None
        self._trade = ""

    def begin(self) -> None:
        self.step, self._known, self._trade = CHOOSE, None, ""

    def end(self) -> None:
        self.step = DONE

    def look(self, snapshot: Snapshot, symbol: str) -> str:
        """What is to be done now, or was reached."""
        if self._known is None:
            self._known = {trade.id for trade in snapshot.trades}
        view = snapshot.instrument(symbol)
        if self.step == CHOOSE and view is not None and _free(snapshot, view):
            self.step = PLACE
        if self.step == PLACE:
            new = [trade for trade in snapshot.trades if trade.id not in self._known]
            if new:
                self.step, self._trade = PROTECTED, new[-1].id
            elif view is None or not _free(snapshot, view):
                self.step = CHOOSE  # another was chosen, or it closed
        if self.step == CHOOSE:
            such = _such_as(snapshot)
            return (
                f"1 of 3. Choose what to trade: a click at the left, or Ctrl+K and its name{such}"
            )
        if self.step == PLACE:
            return (
                f"2 of 3. The plan at the right says what {symbol} would risk; its stop decides "
                "the quantity. Change what you like, and place it: Ctrl+Enter"
            )
        trade = snapshot.trade(self._trade)
        return f"3 of 3. {_what_became(snapshot, trade)}"


def _free(snapshot: Snapshot, view: InstrumentView) -> bool:
    """Whether the instrument may be entered, and no trade is in it."""
    held = any(t.symbol == view.instrument.symbol and _lives(t) for t in snapshot.trades)
    return bool(view.bid) and not view.closed and not held


def _lives(trade: TradeView) -> bool:
    return bool(trade.open_steps) or trade.pending


def _such_as(snapshot: Snapshot) -> str:
    names = (one.instrument.symbol for one in snapshot.instruments if _free(snapshot, one))
    name = next(names, "")
    return f", such as {name}" if name else ""


def _what_became(snapshot: Snapshot, trade: TradeView | None) -> str:
    view = snapshot.instrument(trade.symbol) if trade is not None else None
    if trade is None or view is None:
        return "The trade is over"
    price = view.instrument.price
    if trade.ended:
        return f"The trade is over: {trade.end_reason}"
    if trade.pending:
        return f"It waits to enter at {price(trade.ref)}; its stop goes to the venue as it fills"
    if not trade.open_steps:
        return "It is on its way to the venue"
    if not trade.covered:
        return "It has filled, and the venue is about to confirm its stop"
    risk = fg.money(trade.heat, snapshot.currency)
    return (
        f"Protected: the stop at {price(trade.resting_stop)} rests at the venue, also while Hawser "
        f"is closed. Hit there, the trade loses {risk}; more if the price jumps over it"
    )
