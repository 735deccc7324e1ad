"""Asking the venue what it holds while the link stands: what was lost without a word is found here.

A stop that vanished, a fill that was never told, a position changed by another hand: nothing says
so. So the venue is asked from time to time, sooner while something is open, and at once after a
silence. Only a difference becomes an event; an answer that agrees leaves no trace in the record. A
trade is judged only where nothing about it has changed from the question to the answer. What was
sent before the question has arrived before it, or never will: so the answer also says what became
of requests that were under way.
"""

from __future__ import annotations

from hawser.core.clock import SECOND
from hawser.engine import events as ev
from hawser.engine.model.state import EngineState, Trade
from hawser.engine.outbox import open_orders
from hawser.engine.reconcile import differs
from hawser.venue import port

EVERY_OPEN, EVERY_IDLE = 10 * SECOND, 60 * SECOND
AGAIN = 2 * SECOND  # where something has changed meanwhile
SILENCE = 5 * SECOND  # without a word of the venue, after which it is asked as soon as it speaks
# after which it is asked once more; an answer to the earlier question still counts
UNANSWERED = 5 * SECOND // 2
OPEN_QUESTIONS = 4
# an answer to what was asked so long ago, before the machine slept perhaps, says nothing of now
STALE = 10 * SECOND

Appearance = tuple[object, ...]


class Checking:
    """When to ask, and what an answer says. Tokens are negative: the engine's own are not."""

    def __init__(self) -> None:
        self._token = 0
        self._next = self._asked_at = self._heard = 0
        # Questions without an answer: when they were asked, and the trades as they were then.
        self._open: dict[int, tuple[int, dict[str, Appearance]]] = {}
        self._patience = 0

    def heard(self, now: int) -> None:
        """The venue has said something."""
        if self._heard and now - self._heard > SILENCE:
            self.soon(now)
        self._heard = now

    def soon(self, now: int) -> None:
        """Ask as soon as may be."""
        self._next = min(self._next, now)

    def reset(self, now: int) -> None:
        """The link was lost or stands again: the comparison that follows comes first."""
        self._open.clear()
        self._asked_at, self._next = now, now + EVERY_OPEN

    def due(self, state: EngineState, now: int, patience: int = 0) -> port.AskHoldings | None:
        """The question, where it is time for one. An answer is given at least `patience` ns."""
        waiting = bool(self._open)
        if waiting and now - self._asked_at > max(UNANSWERED, patience):
            waiting, self._next = False, now
        live = state.under_way()
        if live:  # since the last question something may have been opened
            self._next = min(self._next, self._asked_at + max(patience, EVERY_OPEN))
        if waiting or now < self._next or not (state.link_up and state.reconciled):
            return None
        self._token -= 1
        self._asked_at, self._patience = now, patience
        self._next = now + max(patience, EVERY_IDLE)
        self._open[self._token] = now, {trade.id: _look(state, trade) for trade in live}
        if len(self._open) > OPEN_QUESTIONS:
            del self._open[min(self._open, key=abs)]
        return port.AskHoldings(token=self._token, orders=open_orders(state))

    def answers(self, token: int) -> bool:
        """Whether an answer is to a question of ours."""
        return token < 0

    def difference(self, state: EngineState, told: ev.Holdings, now: int) -> ev.Checked | None:
        """What the answer says that is not known; None where there is nothing. One told twice is
        dropped, and so is one that is stale or comes after the answer to a later question."""
        asked = self._open.pop(told.token, None)
        if asked is None:
            return None
        at, before = asked
        if now - at > max(STALE, self._patience):
            self.soon(now)
            return None
        self._open.clear()
        live = state.under_way()
        quiet = tuple(one.id for one in live if before.get(one.id) == _look(state, one))
        if len(quiet) < len(live):
            self._next = min(self._next, now + AGAIN)
        event = ev.Checked(
            time=now,
            asked=told.asked,
            resting=told.resting,
            positions=told.positions,
            quiet=quiet,
            closing=told.closing,
        )
        return event if differs(state, event) else None


def _look(state: EngineState, trade: Trade) -> Appearance:
    """All about a trade that a request or an answer changes."""
    orders = [state.orders[name] for name in trade.order_ids]
    kept = tuple(
        (
            one.id,
            one.state,
            one.level,
            one.steps,
            one.filled,
            one.told_filled,
            one.pending,
            one.token,
        )
        for one in orders
    )
    return (trade.entered, trade.closed, trade.state, kept)
