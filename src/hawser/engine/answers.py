"""The venue's answers about orders, folded into orders and trades. Each may come late, twice, or
out of order."""

from __future__ import annotations

from hawser.core import figures as fg
from hawser.core.clock import SECOND
from hawser.core.rules.rounding import level_ticks
from hawser.engine import events as ev
from hawser.engine.entries.anchoring import anchor
from hawser.engine.entries.placing import first_fill, moved, resize
from hawser.engine.model import reasons as rs
from hawser.engine.model import transitions as states
from hawser.engine.model.reasons import Reason, words
from hawser.engine.model.state import Order, RestingLevel, Rung, TargetLine, Trade
from hawser.engine.outbox import Outbox, settled
from hawser.engine.pacing import MARKET_CLOSED_RETRY, TARGET_RETRY, pause, urgent
from hawser.engine.protection.converge import advance_trade, converge, heard_out, leave
from hawser.engine.protection.parts import ROLE_NAMES
from hawser.engine.rigs.tending import want_hours

MARKET_CLOSED, BAD_QTY = "market_closed", "bad_qty"
OPENING = 5 * SECOND  # so long after it opened an answer may still be to what was sent before
LEVEL_TRIES = 2  # refusals of its level after which an exposed trade no longer waits for its stop
# Refusals that the same level would meet again.
LEVEL_CODES = {"too_near", "wrong_side", "bad_level"}


def _again_at(outbox: Outbox, trade: Trade, role: str, failures: int, code: str) -> int:
    """When what failed is tried again; `failures` in a row, this one among them. A venue that is
    not trading says when it opens: until then it is asked now and then, in case that is not heard,
    whatever it failed by, for what is tried then is not left to be tried at the opening. Where it
    has just opened, what was sent before came too early, and is a failure like any other."""
    market, now = outbox.state.markets[trade.symbol], outbox.state.now
    wait = pause(failures, urgent(trade, role))
    if not market.open or (code == MARKET_CLOSED and now - market.opened > OPENING):
        wait = MARKET_CLOSED_RETRY
    if role in ("target", "loss", "rung"):
        wait = max(wait, TARGET_RETRY)
    at = now + wait
    outbox.wake(trade, at)
    return at


def accepted(outbox: Outbox, order: Order, level: int | None = None) -> None:
    """The order rests, or is about to fill. A late acceptance of a request already answered changes
    nothing. `level`: where the venue has it rest, where it says so."""
    first = order.state in (states.SENDING, states.UNKNOWN, states.MISSING)
    outbox.state.advance(order, "accept")
    # An amend or a cancel that is under way has an answer of its own coming: only its time-out may
    # end the wait for it.
    if order.pending == "submit" or (order.pending == "query" and first and not order.elsewhere):
        settled(order)
    trade = outbox.state.trades[order.trade]
    _succeeded(trade, order)
    if (
        level is not None
        and not order.over
        and level != order.level
        and not _was_asked(order, level)
    ):
        if first:
            _adjusted(outbox, trade, order, level)
        else:
            _ask_where(outbox, order, level)
    if order.role == "stop" and not order.over:
        _note_rest(outbox, trade, order)
    converge(outbox, trade)


def _succeeded(trade: Trade, order: Order) -> None:
    """What had failed before has not failed now."""
    line = rung_of(trade, order) if order.role == "rung" else line_of(trade, order)
    if line is not None:
        line.failures = 0
    elif order.role == "close":
        trade.closing.failures = 0


def _was_asked(order: Order, level: int) -> bool:
    """Whether an order was asked to rest at a level, now or before: an answer may be told again."""
    return any(level == one for one, _ in order.asked)


def _adjusted(outbox: Outbox, trade: Trade, order: Order, level: int) -> None:
    """The venue has the order rest at another level than was asked: that counts, and nothing is
    asked again. An entry is sized anew from there."""
    # To ask again for the old level would go round for ever: a venue that puts it elsewhere once
    # does so each time, and 1,074 changes a minute were sent for one stop before its level was
    # taken.
    if order.kind == "market":
        return
    instrument = outbox.state.instruments[trade.symbol]
    asked = order.asked[-1][0] if order.asked else level
    order.level = level
    line, later = line_of(trade, order), _wanted_later(trade, order, level)
    name = f"{ROLE_NAMES[order.role]} {line.number}" if line is not None else f"the {order.role}"
    then = f"it goes on to {instrument.price(later)}" if later else "its level counts"
    text = (
        f"The venue adjusted {name} from {instrument.price(asked)} to "
        f"{instrument.price(level)}: {then}"
    )
    outbox.tell("caution", "level_adjusted", text, trade)
    if later:
        return
    if order.role == "stop" and _one_of_several(outbox, trade):
        order.given_up = trade.venue_stop
    elif order.role == "stop":
        _take_stop(outbox, trade, level, rs.ADJUSTED)
    elif order.role == "rung":
        rung = rung_of(trade, order)
        if rung is not None:
            rung.level = level
    elif order.role == "entry" and not trade.entered:
        next_terms, trade.entry.then = trade.entry.then, None
        resize(outbox, trade, level)
        trade.entry.moving = (
            next_terms or trade.entry.moving
        )  # what was asked for meanwhile comes next
    elif line is not None:
        line.level = level


def _wanted_later(trade: Trade, order: Order, rests: int) -> int:
    """The level that is wanted by now of a stop, target, loss step or rung that rests at `rests`,
    where that is another than it was last asked for; 0 where it is not. An entry's is in
    `Trade.then`."""
    line = rung_of(trade, order) if order.role == "rung" else line_of(trade, order)
    wanted = trade.venue_stop if order.role == "stop" else line.level if line is not None else 0
    if not order.asked or order.asked[-1][0] == wanted:
        return 0
    nearer = trade.side * (rests - wanted) > 0
    tightens = trade.side * (wanted - order.asked[-1][0]) > 0
    # A stop that was to be nearer, and is nearer still, is not moved away.
    return 0 if order.role == "stop" and nearer and tightens else wanted


def _one_of_several(outbox: Outbox, trade: Trade) -> bool:
    """Whether the stop is split: what the venue does with one order is no reason to move all the
    others."""
    return len(outbox.state.orders_of(trade, "stop")) > 1


def _take_stop(outbox: Outbox, trade: Trade, level: int, code: str) -> None:
    """The stop wanted is the one that rests."""
    trade.cover.why = "kept where it rests" if code == rs.KEPT else "as it rests at the venue"
    trade.cover.code = code
    if trade.held:
        trade.cover.backstop = level
    else:
        trade.stop = level


def _moved_after_all(outbox: Outbox, trade: Trade, order: Order, level: int) -> None:
    """Where the venue has carried out a move of the stop that seemed refused, or put elsewhere:
    that answer was to another try of it. The stop stays where it rests, which is nearer: to put it
    back would move it away from the market, and nobody has asked for that."""
    nearer = trade.side * (level - trade.venue_stop) > 0
    if order.role != "stop" or trade.cover.code not in rs.AS_IT_RESTS or not nearer:
        return
    price = outbox.state.instruments[trade.symbol].price(level)
    outbox.tell(
        "info",
        "moved_after_all",
        f"The venue has moved the stop after all: it rests at {price}",
        trade,
    )
    if _one_of_several(outbox, trade):
        order.given_up = trade.venue_stop
    else:
        _take_stop(outbox, trade, level, rs.KEPT)


def _note_rest(outbox: Outbox, trade: Trade, order: Order) -> None:
    if (
        not trade.held
        and order.level is not None
        and (not trade.cover.trace or trade.cover.trace[-1].level != order.level)
    ):
        trade.cover.trace.append(RestingLevel(outbox.state.now, order.level))


def rejected(outbox: Outbox, order: Order, code: str, text: str) -> None:
    """The venue said no to a new order."""
    if order.over:
        return
    trade = outbox.state.trades[order.trade]
    outbox.state.advance(order, "reject")
    settled(order)
    if order.role == "close" and code == "no_position" and not trade.open_steps:
        converge(outbox, trade)  # sent beside one that has closed it meanwhile: no failure
        return
    outbox.tell(
        "caution", f"rejected_{code}", f"The venue refused the {order.role} order: {text}", trade
    )
    too_large = _note_most(outbox, trade, order, order.steps, code)
    _without(outbox, trade, order, code, text, failed=not too_large)


def _note_most(outbox: Outbox, trade: Trade, order: Order, steps: int, code: str) -> bool:
    """A quantity the venue refuses for a stop or an exit is too large for one order: smaller parts
    are sent. Whether that is so: then the next try is another, and no failure more."""
    instrument = outbox.state.instruments[trade.symbol]
    least = max(1, instrument.qty_min_steps)
    if code != BAD_QTY or order.role in ("entry", "rung") or steps <= least:
        return False
    # Half, and not one step less: what the venue takes is not known, and each try is a stretch
    # without cover.
    half = max(least, steps // 2)
    trade.cover.most_steps, trade.cover.most_at = (
        min(trade.cover.most_steps or half, half),
        outbox.state.now,
    )
    return True


def _without(
    outbox: Outbox, trade: Trade, order: Order, code: str, text: str, failed: bool = True
) -> None:
    """What follows where an order of `trade` came to nothing; `failed`: it counts as one more
    failure in a row."""
    if trade.left:  # nothing of it is tended, so nothing is said to be
        if order.role == "stop" and trade.open_steps:
            text = (
                f"A stop of what was left as it rests is gone: {text}. Adopt the position, or "
                "close it at the venue"
            )
            outbox.tell("alarm", "left_bare", text, trade)
        return
    if code == "no_position" and trade.open_steps and outbox.state.reconciled:
        outbox.tell(
            "caution",
            "nothing_to_close",
            "The venue holds nothing to close: comparing with it",
            trade,
        )
        outbox.compare()
    if order.role == "entry":
        trade.end = Reason(rs.ENTRY_GONE if code == "cancelled" else rs.ENTRY_REFUSED, name=text)
    elif order.role == "rung":
        _without_rung(outbox, trade, order, code, text)
    elif order.role == "stop":
        trade.cover.failures += failed
        # A stop that the market has passed can never rest there: the trade is where it was to end.
        market = outbox.state.markets[trade.symbol]
        if trade.side * (market.exit_side(trade.side) - trade.venue_stop) <= 0 and trade.open_steps:
            outbox.tell(
                "caution", "stop_passed", "The market is already at the stop: closing", trade
            )
            leave(outbox, trade, Reason(rs.STOP_PASSED))
        elif (
            code in LEVEL_CODES
            and trade.cover.failures >= LEVEL_TRIES
            and trade.open_steps
            and trade.cover.exposed_since
        ):
            outbox.tell(
                "caution",
                "stop_impossible",
                "No stop may rest so near the market: closing",
                trade,
            )
            trade.cover.hurried = True
            leave(outbox, trade, Reason(rs.STOP_TOO_NEAR))
        trade.cover.retry_at = _again_at(outbox, trade, "stop", trade.cover.failures, code)
    elif order.role == "close":
        trade.closing.failures += failed
        # Told at growing distances: an alarm at each try would bury the others.
        if trade.closing.failures in (3, 10, 30, 100):
            outbox.tell(
                "alarm",
                "close_fails",
                f"Closing has failed {trade.closing.failures} times: {text}",
                trade,
            )
        trade.closing.retry_at = _again_at(outbox, trade, "close", trade.closing.failures, code)
    else:
        line = line_of(trade, order)
        if line is not None:
            line.failures += failed
            line.retry_at = _again_at(outbox, trade, order.role, line.failures, code)
    converge(outbox, trade)


def _without_rung(outbox: Outbox, trade: Trade, order: Order, code: str, text: str) -> None:
    """A rung is tried again, but one that the margin forbids is given up: what is open is protected
    as it is."""
    rung = rung_of(trade, order)
    if rung is None:
        return
    # Its margin will not come back while the trade is open: what is held has lost since the first
    # rung.
    if code == "margin":
        rung.steps = rung.filled
        outbox.tell("caution", "rung_given_up", f"Rung {rung.number} is given up: {text}", trade)
    else:
        rung.failures += 1
        rung.retry_at = _again_at(outbox, trade, "rung", rung.failures, code)


def filled(outbox: Outbox, order: Order, fill: ev.Fill) -> None:
    """A fill, counted once however often it is told."""
    # By the fill's own id: the same fill may be told by an answer, by a query and by a comparison.
    if fill.id in order.fills:
        return
    trade = outbox.state.trades[order.trade]
    order.fills.append(fill.id)
    order.filled += fill.steps
    # A change whose answer is not here yet, or was lost, may have made the order larger than what
    # is known of it.
    whole = order.filled == max(order.steps, order.steps_under_way)
    outbox.state.advance(order, "whole" if whole else "part")
    if not whole and order.filled >= order.steps and not order.pending:
        outbox.query(order)
    # A part says nothing of a part before it, whose telling may be lost: the request is still asked
    # about.
    if order.over:
        settled(order)
    trade.commission += fill.commission
    if order.role in ("entry", "rung"):
        _entered(outbox, trade, order, fill)
    else:
        _left(outbox, trade, order, fill)
    converge(outbox, trade)


def _entered(outbox: Outbox, trade: Trade, order: Order, fill: ev.Fill) -> None:
    trade.entered += fill.steps
    trade.entry_value += fill.steps * fill.price
    instrument, market = outbox.state.instruments[trade.symbol], outbox.state.markets[trade.symbol]
    if not trade.opened:
        trade.opened = fill.time
        trade.progress.best_exit = market.exit_side(trade.side)
        trade.entry.equity = outbox.state.equity
    # An entry may fill after its trade was given up: its cancel and the fill have crossed. What has
    # filled is a position, so the trade lives again, gets its stop like any other, and is closed.
    if trade.state in (states.ENTERING, states.ENDED):
        late = trade.state == states.ENDED
        advance_trade(outbox, trade, "open")
        trade.ended = 0
        if late:
            outbox.tell(
                "alarm", "late_fill", f"The {order.role} filled after it had been given up", trade
            )
        if trade.leave or late:
            leave(outbox, trade, Reason(rs.LATE_FILL, name=order.role))
    word = fg.side_word(trade.side)
    text = f"{word} {instrument.qty(fill.steps)} {trade.symbol} at {instrument.price(fill.price)}"
    if order.role == "rung":
        rung = rung_of(trade, order)
        if rung is not None:
            rung.filled += fill.steps
        trade.ladder.steps_this_bar += fill.steps
        average = instrument.price(level_ticks(trade.entry_price, trade.side))
        outbox.tell(
            "info",
            "rung_entered",
            f"Rung {order.number} entered {text}: average {average}",
            trade,
        )
        return
    outbox.tell("info", "entered", f"Entered {text}", trade)
    anchor(outbox, trade)
    if trade.held and not trade.cover.trace:
        trade.cover.trace.append(RestingLevel(outbox.state.now, trade.stop))
    want_hours(outbox, trade)
    first_fill(outbox, trade)


def rung_of(trade: Trade, order: Order) -> Rung | None:
    """The rung that an order is for; None where another rig has taken it away."""
    return next((rung for rung in trade.ladder.rungs if rung.number == order.number), None)


def line_of(trade: Trade, order: Order) -> TargetLine | None:
    """The target or loss step that an order is for."""
    lines = {"target": trade.targets, "loss": trade.losses}.get(order.role, [])
    return next((line for line in lines if line.number == order.number), None)


def _left(outbox: Outbox, trade: Trade, order: Order, fill: ev.Fill) -> None:
    # More can be closed than is open where a stop and a close both filled; the position is reversed
    # then, which the next comparison with the venue finds and settles.
    over = trade.closed + fill.steps - trade.entered
    trade.closed += fill.steps
    trade.profit += fill.profit
    instrument = outbox.state.instruments[trade.symbol]
    by = _left_by(trade, order)
    line = line_of(trade, order)
    if line is not None:
        line.filled += fill.steps
        line.whole = line.whole or trade.open_steps <= trade.ladder.steps_this_bar
    if trade.closed >= trade.entered:
        trade.end = by
    qty, price = instrument.qty(fill.steps), instrument.price(fill.price)
    text = f"Left {qty} {trade.symbol} at {price} by {words(by, outbox.currency)}"
    outbox.tell("info", "left", text, trade)
    if over > 0:
        outbox.tell(
            "alarm", "overfilled", f"{instrument.qty(over)} more was closed than was open", trade
        )


def _left_by(trade: Trade, order: Order) -> Reason:
    """What a fill of an order that closes is due to."""
    if order.role == "close":
        return trade.leave or Reason(rs.CLOSED)
    code = {"stop": rs.STOP, "target": rs.TARGET, "loss": rs.LOSS_STEP}[order.role]
    return Reason(code, order.number if order.role != "stop" else 0)


def cancelled(outbox: Outbox, order: Order, why: str, filled: int = 0) -> None:
    """The order is gone, by our wish or the venue's. `filled`: what it had filled; fills not told
    yet are asked for."""
    # Kept also where the order is over: a fill told later must find that the venue had counted it
    # already.
    order.told_filled = max(order.told_filled, filled)
    if order.over:
        return
    trade = outbox.state.trades[order.trade]
    moot = not trade.open_steps and order.role != "entry"
    wished = order.unwanted or moot or bool(trade.leave)
    unheard = order.state in (states.SENDING, states.UNKNOWN) or order.pending == "submit"
    outbox.state.advance(order, "cancel")
    settled(order)
    if unheard or order.told_filled > order.filled:  # what it filled before may not have been told
        outbox.query(order)
    if wished:
        converge(outbox, trade)
    else:
        outbox.tell(
            "caution",
            "cancelled_by_venue",
            f"The venue gave the {order.role} order up: {why}",
            trade,
        )
        _without(outbox, trade, order, "cancelled", why)


def amended(outbox: Outbox, order: Order, level: int, steps: int, token: int = 0) -> None:
    """An order was changed, by the request of that `token`; 0: by another hand, or by nobody says
    which."""
    trade, changing = outbox.state.trades[order.trade], _is_changing(order)
    outbox.state.numbered |= token > 0
    if token and not (changing and token == order.changed):
        return  # the answer to an earlier change, or told again: it knows less than we do
    if token or steps == order.steps_under_way:
        order.steps_under_way = 0
    if order.role == "entry":
        moved(outbox, trade, level, steps)
    if order.over:
        return
    if not token and level != order.level and not _was_asked(order, level):
        _ask_where(outbox, order, level, changing)
        return
    if token or order.role != "entry" or (trade.ref, trade.entry.asked_steps) == (level, steps):
        order.level, order.steps = level, steps
    if order.pending in ("amend", "query") and not order.elsewhere:
        settled(order)
    order.refusals = 0
    if token and order.asked and level != order.asked[-1][0]:
        _adjusted(outbox, trade, order, level)
    else:
        _moved_after_all(outbox, trade, order, level)
    if order.role == "stop":
        _note_rest(outbox, trade, order)
    converge(outbox, trade)


def _is_changing(order: Order) -> bool:
    """Whether a change is under way whose end nothing has told yet."""
    return order.steps_under_way != 0 and order.pending in ("amend", "query")


def _ask_where(outbox: Outbox, order: Order, level: int, changing: bool = False) -> None:
    """An answer names a level that nobody here has asked for: where the order rests is what the
    venue says when it is asked, and only that. `changing`: a change is under way, which the venue
    may have carried out so."""
    # It may be an acceptance that is told late, or another hand's change. Taken for where the order
    # rests by now, a late one would move a stop back to where it was before (storm 7921200); passed
    # over, a nearer stop of another hand's would be moved back (storm 7930311), or by a change that
    # a late refusal lets go ahead (storm 8001042).
    if order.kind == "market":
        return
    order.elsewhere_by_venue = changing or (order.elsewhere_by_venue and order.elsewhere == level)
    if order.pending != "cancel" and (level != order.elsewhere or order.pending != "query"):
        outbox.query(order)
        order.changed = order.token  # what was asked before may be of before it
    order.elsewhere = level


def amend_refused(outbox: Outbox, order: Order, code: str, text: str, token: int = 0) -> None:
    """The order rests as it did. A level the venue won't have is given up; anything else is tried
    again."""
    if order.over or order.elsewhere:  # where it rests is asked already, and what it has
        return
    # of an earlier change, or told again
    if token and not (token == order.changed and _is_changing(order)):
        return
    trade = outbox.state.trades[order.trade]
    settled(order)
    order.steps_under_way = 0
    if order.filled >= order.steps:  # it may be at its end, or larger than is known
        outbox.query(order)
        return
    last = order.asked[-1][1] if order.asked else 0
    # less than it has filled, perhaps: not too much
    if code == BAD_QTY and last < order.steps and not order.refusals:
        order.refusals = 1
        order.retry_at = _again_at(outbox, trade, order.role, order.refusals, code)
        outbox.query(order)
        return
    # what has filled counts with it
    if code == BAD_QTY and order.filled and order.role in ("target", "loss"):
        outbox.cancel(trade, order, "the venue refuses to change it: what is left is sent anew")
        return
    if code == BAD_QTY:
        _note_most(outbox, trade, order, last, code)
    # Where another level is wanted by now, the venue may take that.
    if (
        code in LEVEL_CODES
        and order.level is not None
        and not _wanted_later(trade, order, order.level)
    ):
        _give_level_up(outbox, trade, order, order.level, text)
    order.refusals += 1
    order.retry_at = _again_at(outbox, trade, order.role, order.refusals, code)
    converge(outbox, trade)


def _give_level_up(outbox: Outbox, trade: Trade, order: Order, rests: int, text: str) -> None:
    """The venue won't have the level that is wanted: the order is wanted where it rests."""
    if order.role == "stop" and trade.venue_stop != rests:
        outbox.tell("caution", "move_refused", f"The venue refused to move the stop: {text}", trade)
        if _one_of_several(outbox, trade):
            order.given_up = trade.venue_stop
        else:
            _take_stop(outbox, trade, rests, rs.KEPT)
    if order.role == "entry" and trade.entry.moving is not None:
        outbox.tell(
            "caution", "move_refused", f"The venue refused to move the entry: {text}", trade
        )
        smaller = trade.entry.moving.ref == rests and trade.entry.moving.steps < order.steps
        trade.entry.moving, trade.entry.then = trade.entry.then, None
        if (
            smaller and trade.entry.moving is None
        ):  # it risks more than was asked for where it rests
            leave(
                outbox,
                trade,
                Reason(rs.ENTRY_GONE, name="could not be sized where the venue has it rest"),
            )
    line = line_of(trade, order)
    # a ladder's is where the average says
    if line is not None and line.level != rests and not trade.ladder.rungs:
        name = f"{ROLE_NAMES[order.role]} {line.number}"
        outbox.tell("caution", "move_refused", f"The venue refused to move {name}: {text}", trade)
        line.level = rests


def displaced(trade: Trade, order: Order, known: ev.OrderReport) -> bool:
    """Whether an entry waits elsewhere, or for other steps, than its trade was sized for, and is
    not on its way."""
    waits = (
        not trade.entered
        and trade.entry.moving is None
        and not trade.left
        and order.kind != "market"
    )
    return (
        waits
        and known.level != 0
        and (known.level, known.steps) != (trade.ref, trade.entry.asked_steps)
    )


def _rests_at(
    outbox: Outbox, trade: Trade, order: Order, known: ev.OrderReport, asked: bool, sure: bool
) -> None:
    """Where an order rests, by the venue's books; `sure`: it is no older answer that says so. A
    level that was never asked for is the venue's own where a request was under way (`asked`), else
    another hand's: a tighter stop and another target are taken over, a looser stop is put back."""
    level = known.level
    if not level:  # not told
        return
    if _was_asked(order, level) or level == order.level:
        order.level = level
        _moved_after_all(outbox, trade, order, level)
        if order.role == "entry":
            moved(outbox, trade, level, known.steps)
            # the answer to the later of two changes is lost
            if sure and displaced(trade, order, known):
                resize(outbox, trade, level)
        return
    if (
        asked
        or order.state in (states.SENDING, states.UNKNOWN)
        or order.role not in ("stop", "target", "loss")
    ):
        _adjusted(outbox, trade, order, level)
        return
    instrument = outbox.state.instruments[trade.symbol]
    order.level = level
    tighter, later = trade.side * (level - trade.venue_stop) > 0, _wanted_later(trade, order, level)
    # What a person wants since the last change was sent is newer than any level that is told here.
    takes = tighter if order.role == "stop" else order.role == "target" and not later
    what = (
        "is taken over"
        if takes
        else f"goes on to {instrument.price(later)}"
        if later
        else "is put back"
    )
    name = "stop" if order.role == "stop" else f"{ROLE_NAMES[order.role]} {order.number}"
    text = f"The {name} was moved to {instrument.price(level)} by another hand: it {what}"
    outbox.tell("caution", "moved_elsewhere", text, trade)
    line = line_of(trade, order)
    if order.role == "stop" and takes:
        _take_stop(outbox, trade, level, rs.ELSEWHERE)
    elif line is not None and takes:
        line.level = level


def nearer_elsewhere(trade: Trade, order: Order, known: ev.OrderReport) -> bool:
    """Whether a stop rests nearer to the market than is wanted, where nobody here ever had it: that
    holds whatever else is under way about it, while anything else that an answer says of it may be
    older."""
    nearer = known.level != 0 and trade.side * (known.level - trade.venue_stop) > 0
    if (
        order.role != "stop"
        or order.state != states.RESTING
        or known.status != "resting"
        or not nearer
    ):
        return False
    earlier = _was_asked(order, known.level) or any(
        rest.level == known.level for rest in trade.cover.trace
    )
    return known.level != order.level and not earlier


def take_nearer(outbox: Outbox, order: Order, known: ev.OrderReport) -> None:
    """Another hand, or the venue, has put a stop nearer to the market: a change of its quantity
    would put it back."""
    trade = outbox.state.trades[order.trade]
    _rests_at(outbox, trade, order, known, order.pending in ("submit", "amend"), sure=False)


def cancel_refused(outbox: Outbox, order: Order, code: str, text: str) -> None:
    """The cancel did not work: ask what the order is now, after a pause where it was a passing
    refusal."""
    if not order.over:
        settled(order)
        outbox.query(order)


def status(outbox: Outbox, order: Order, known: ev.OrderReport, token: int = 0) -> None:
    """The answer to a question about an order: missed fills first, then where it stands. Where it
    is `token`'s, from before the last change that was sent, only what cannot change any more is
    taken from it."""
    with heard_out(outbox):
        _missed_fills(outbox, order, known)
        outbox.state.numbered |= token > 0
        # What was asked before a change, or before an answer that named another level, knows less
        # than we do: taken for the last word, it had a stop moved back to where it was before
        # (storm 8001317).
        if 0 < token < order.changed and known.status in ("resting", "missing"):
            return
        _stands(outbox, order, known, token > 0)


def held(outbox: Outbox, order: Order, known: ev.OrderReport) -> None:
    """What the venue holds of an order now, with nothing under way."""
    with heard_out(outbox):
        _missed_fills(outbox, order, known)
        _stands(outbox, order, known, sure=True)


def _missed_fills(outbox: Outbox, order: Order, known: ev.OrderReport) -> None:
    for fill in known.fills:
        filled(outbox, order, fill)


def _stands(outbox: Outbox, order: Order, known: ev.OrderReport, sure: bool) -> None:
    """Where an order stands, once its fills are taken. `sure`: nothing was sent about it since it
    was asked."""
    trade = outbox.state.trades[order.trade]
    order.steps_under_way, was_pending = 0, order.pending
    # Where answers are numbered, that to a change tells by itself that the venue has put the order
    # elsewhere. If it is lost, the level may as well be another hand's: what is wanted is asked for
    # again, and that has an answer.
    changing = was_pending == "amend" or (
        order.elsewhere_by_venue and known.level == order.elsewhere
    )
    asked = was_pending == "submit" or (changing and not outbox.state.numbered)
    order.elsewhere, order.elsewhere_by_venue = 0, False
    settled(order)
    if order.over:
        return
    if known.status == "resting":
        # an entry that rests elsewhere is sized anew from what it has now
        order.steps = known.steps
        if order.kind != "market":
            _rests_at(outbox, trade, order=order, known=known, asked=asked, sure=sure)
        accepted(outbox, order)
    elif known.status == "filled":  # with all its fills, which were taken above
        order.steps = order.filled
        outbox.state.advance(order, "whole")
        converge(outbox, trade)
    elif known.status == "cancelled":
        cancelled(outbox, order, "cancelled at the venue")
    elif known.status == "rejected":
        rejected(outbox, order, "refused", "refused while nobody heard the answer")
    else:
        outbox.state.advance(order, "lost")
        outbox.tell("caution", "request_lost", f"The venue never got the {order.role} order", trade)
        _without(outbox, trade, order, "lost", "the venue never got the order")
