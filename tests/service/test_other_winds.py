"""Faults that once broke a promise, each by itself, on a calm venue in simulated time: nobody
tells, clocks differ, the disk is full, the market is shut, quotes cannot be, money comes and
goes."""

from __future__ import annotations

import random
import shutil
import sqlite3
from decimal import Decimal

import msgspec
import numpy as np
import pytest

from byhand import ByHand, of
from calmworld import PLAN, SYMBOL, World
from hawser.core.account import Rate
from hawser.core.bars import Bars
from hawser.core.clock import DAY, MINUTE, SECOND
from hawser.core.entry import EntryRule, GoodUntil
from hawser.core.errors import Refused, VenueRefused
from hawser.core.fx import convert, with_filed
from hawser.core.guards import declared as dc
from hawser.core.levels import StopRule
from hawser.core.rig import Rig, TimeExit
from hawser.engine import commands as cm
from hawser.engine import events as ev
from hawser.engine.clearance.entries import account_verdict
from hawser.engine.engine import Engine
from hawser.engine.model import transitions as states
from hawser.engine.model.requests import account_now
from hawser.engine.model.state import EngineState
from hawser.engine.pacing import URGENT_BURST, VENUE_A_MINUTE, free_at
from hawser.ledger.ledger import Ledger
from hawser.ledger.verify import verify
from hawser.service.runtime.session import Session
from hawser.service.runtime.venue_checks import Checking
from hawser.service.runtime.venue_messages import FromVenue
from hawser.service.views.taking import taken
from hawser.venue import port
from hawser.venue.quay import hands
from hawser.venue.quay.quay import Quay
from hawser.venue.quay.store import reread
from hawser.venue.quay.weather import SEVERITIES, Weather
from hawser.verification import world as storm_world
from hawser.verification.world import ACCOUNT, BooksInMemory, Disk
from madeup import account, pair

# What nobody tells


def test_a_stop_that_vanished_at_the_venue_is_set_again():
    world = World()
    world.place()
    assert world.trade.state == states.PROTECTED
    world.venue.book.cancel(
        next(one.id for one in world.venue.book.resting(SYMBOL) if one.kind == "stop")
    )
    world.run(40)
    assert world.stops() == world.trade.open_steps > 0
    assert "check_differs" in world.told()


def test_a_stop_that_filled_untold_ends_the_trade():
    world = World()
    world.place()
    world.venue.book.fill(
        next(one for one in world.venue.book.resting(SYMBOL) if one.kind == "stop")
    )
    world.run(40)
    assert world.trade.state == states.ENDED


@pytest.mark.parametrize("change", [50, -20])
def test_a_position_that_another_hand_changed_is_covered_as_it_is(change):
    world = World()
    world.place()
    held = world.venue.book.state.positions[world.trade.entry.order_id]
    held.steps += change
    world.run(25)
    assert world.trade.open_steps == world.stops() == held.steps > 0


def test_a_position_that_was_turned_about_is_shown_as_not_ours_and_nothing_of_ours_is_left():
    world = World()
    world.place()
    held = world.venue.book.state.positions[world.trade.entry.order_id]
    held.side, held.steps = -1, 7
    world.run(60)
    assert world.trade.state == states.ENDED
    assert held.id in world.state.unexplained
    assert not [one for one in world.venue.book.resting(SYMBOL) if one.closes == held.id]


# Clocks that differ


@pytest.mark.parametrize("ahead", [600, 86_400 * 3, -600, -86_400])
def test_deadlines_hold_whatever_the_venue_s_clock_says(ahead):
    """The stop is refused for as long as it takes: the trade is closed in time by our own clock."""
    world = World()
    world.venue.book.state.ahead = ahead * SECOND

    def no_stops(quay: Quay, request: port.Request) -> list[port.VenueMessage] | None:
        if isinstance(request, port.NewOrder) and request.kind == "stop":
            return [
                port.Rejected(
                    time=quay.book.time, id=request.id, what="order", code="busy", text="busy"
                )
            ]
        return None

    world.venue.otherwise = no_stops
    world.place()
    world.run(4)
    assert world.trade.state == states.ENDED
    assert world.trade.cover.longest_exposed <= 5 * SECOND
    assert world.state.now - world.venue.now < SECOND


def test_a_venue_s_clock_that_stands_still_stops_no_deadline():
    world = World()
    world.venue.book.state.still = world.venue.book.time
    world.venue.otherwise = lambda quay, request: (
        [] if isinstance(request, port.NewOrder) and request.kind == "stop" else None
    )
    world.place()
    world.run(5)
    assert world.trade.state == states.ENDED


# A disk that is full


def test_what_is_open_is_protected_though_nothing_can_be_written_and_all_is_written_later(tmp_path):
    ledger = Ledger(tmp_path / "ledger.sqlite")
    world = World(ledger)
    world.session.ask(ev.PlaceTrade(time=world.venue.now, ask_id="a", plan=PLAN))
    ledger.limit(full=True)
    world.run(5)
    assert world.trade.state == states.PROTECTED
    assert world.stops() == world.trade.open_steps > 0
    world.place(side=-1)
    # no entry is sent that cannot be written down first
    assert len(world.venue.book.state.positions) == 1
    assert world.trade.state == states.ENDED
    assert world.state.record_down
    ledger.limit(full=False)
    world.run(30)
    assert not world.state.record_down
    world.place(side=-1)
    assert world.trade.state == states.PROTECTED
    world.session.write_down()
    decode = msgspec.msgpack.Decoder(EngineState).decode
    mine = msgspec.msgpack.encode(decode(msgspec.msgpack.encode(world.state)))
    assert msgspec.msgpack.encode(ledger.restore().state) == mine
    assert verify(ledger.path).line == 0
    world.session.close()


def test_an_event_that_waits_for_the_disk_is_written_as_it_was(tmp_path):
    """Measures that came with a policy were counted on in the event itself: the record had later
    ones."""
    ledger = Ledger(tmp_path / "ledger.sqlite")
    world = World(ledger)
    ledger.limit(full=True)
    regime = dc.RegimeGuard(name="r", reference=SYMBOL, timeframe="1m", length=3)
    world.session.set_guards(dc.Guards(guard=(regime,)), "g")
    first = world.state.measures[SYMBOL].copy()
    world.run(180)
    assert world.state.measures[SYMBOL] != first
    ledger.limit(full=False)
    world.run(5)
    (told,) = [row.item for row in ledger.rows(kinds=("ChangeGuards",))]
    assert told.measures[SYMBOL] == first
    world.session.close()


def test_an_engine_that_fails_begins_anew_also_while_the_disk_hangs(tmp_path):
    """It waited for the disk to read the record, with a position to be tended."""
    ledger = Ledger(tmp_path / "ledger.sqlite")
    disk = Disk()
    world = World(ledger, way=disk)
    world.place()
    disk.trouble(ledger, 1, "hanging disk")
    world.session.ask(
        ev.MoveStop(
            time=world.venue.now, ask_id="m", trade=world.trade.id, level=world.trade.stop + 5
        )
    )
    handle, engine = world.session.engine.handle, world.session.engine

    def failing(event):
        handle(event)
        raise ArithmeticError

    engine.handle = failing
    world.run(2)
    assert world.session.engine is not engine
    assert [type(error) for error in world.faults] == [ArithmeticError]
    assert world.state.reconciled
    assert world.trade.state == states.PROTECTED
    disk.recover(ledger, world.venue.now)
    world.run(5)
    assert not world.state.record_down
    world.session.write_down()
    assert not verify(ledger.path).line
    world.session.close()


@pytest.mark.parametrize("linked", [True, False])
def test_an_engine_that_fails_without_a_link_does_not_take_it_for_standing(tmp_path, linked):
    world = World(Ledger(tmp_path / "ledger.sqlite"))
    world.place()
    if not linked:
        world.venue._cut("drop", world.venue.now + 20 * SECOND)
        world.run(0.5)

    def failing(event):
        raise ArithmeticError

    world.session.engine.handle = failing
    since = len(world.entries)
    world.session.ask(ev.StopToEntry(time=world.venue.now, ask_id="b", trade=world.trade.id))
    assert world.faults
    assert world.state.link_up == linked
    assert bool(world.sent(cm.QueryAll, since)) == linked
    world.run(40)
    assert world.state.link_up
    assert world.trade.state == states.PROTECTED
    world.session.close()


# Floods


def test_a_trade_without_cover_in_a_market_that_is_shut_does_not_flood_it(tmp_path):
    ledger = Ledger(tmp_path / "ledger.sqlite")
    world = World(ledger)

    def shut(quay: Quay, request: port.Request) -> list[port.VenueMessage] | None:
        if isinstance(request, port.NewOrder) and request.closes is not None:
            quay.book.closed.add(SYMBOL)
        return None

    world.venue.otherwise = shut
    before = ledger.seq
    world.place()
    for _ in range(5):
        since, lines = len(world.entries), ledger.seq
        world.run(60)
        assert world.sent(cm.Submit, since) + world.sent(cm.Query, since) < 2 * URGENT_BURST
        assert ledger.seq - lines < 400
    assert ledger.seq - before < 1_500
    assert world.trade.state == states.EXPOSED or world.trade.leave
    world.venue.otherwise = None
    world.venue.book.closed.discard(SYMBOL)
    world.venue._tell_state(SYMBOL)
    world.run(3)
    # at once, whatever was sent
    assert world.trade.state == states.ENDED or world.stops() == world.trade.open_steps


def test_an_amend_that_is_answered_with_another_level_is_taken_as_it_is():
    world = World()
    world.place()

    def coarse(quay: Quay, request: port.Request) -> list[port.VenueMessage] | None:
        if isinstance(request, port.AmendOrder):
            level = int(Decimal(request.level) / Decimal("0.00001")) // 5 * 5
            return quay.book.amend(msgspec.structs.replace(request, level=f"{level / 100_000:.5f}"))
        return None

    world.venue.otherwise = coarse
    since, wanted = len(world.entries), world.trade.stop // 5 * 5 + 13
    world.session.ask(
        ev.MoveStop(time=world.venue.now, ask_id="m", trade=world.trade.id, level=wanted)
    )
    world.run(60)
    assert world.sent(cm.Amend, since) == 1
    assert world.trade.stop == wanted - 3
    assert "level_adjusted" in world.told(since)


def test_what_still_rests_of_an_ended_trade_is_taken_back_after_a_restart(tmp_path):
    """Its cancel was refused, and a kill came before the next try: the stop rested on without a
    position."""
    world = World(Ledger(tmp_path / "ledger.sqlite"))
    world.place()

    def busy(quay: Quay, request: port.Request) -> list[port.VenueMessage] | None:
        if isinstance(request, port.CancelOrder):
            raise VenueRefused("busy", "the venue is busy")
        return None

    world.venue.otherwise = busy
    world.session.ask(ev.CloseTrade(time=world.venue.now, ask_id="c", trade=world.trade.id))
    world.run(2)
    while any(world.state.orders[name].pending for name in world.trade.live_ids):
        world.run(0.1)
    assert world.trade.state == states.ENDED
    assert len(world.venue.book.resting(SYMBOL)) == 2
    world.venue.hang_up()
    world.ledger.close()
    world.venue.pick_up()
    world.venue.otherwise = None
    world.ledger = Ledger(tmp_path / "ledger.sqlite")
    world.open()
    assert not world.venue.book.resting(SYMBOL)
    world.session.close()


def test_holdings_with_a_time_before_the_last_fill_are_taken_all_the_same():
    world = World(weather=Weather("w", drops=0.0))
    world.place()
    world.venue.book.state.ahead = -3_600 * SECOND
    since = len(world.entries)
    world.venue._cut("drop", world.venue.now + 2 * SECOND)
    world.run(60)
    assert world.state.reconciled
    assert world.sent(cm.QueryAll, since) < 8


def test_the_whole_account_has_a_bound_too_which_no_cover_waits_for():
    world = World()
    world.place()
    state, trade = world.state, world.trade
    state.sent_minute, state.sent_count = state.now // MINUTE, VENUE_A_MINUTE
    assert free_at(state, trade, "target", 1) == (state.now // MINUTE + 1) * MINUTE
    trade.cover.exposed_since = state.now
    assert free_at(state, trade, "stop", 0) <= state.now


# Quotes that cannot be


@pytest.mark.parametrize(
    ("bid", "ask"), [("0.61300", "0.61290"), ("0", "0.61290"), ("0.61290", "0"), ("", "0.61290")]
)
def test_a_quote_that_cannot_be_is_set_aside_and_costs_nothing(tmp_path, bid, ask):
    world = World(Ledger(tmp_path / "ledger.sqlite"))
    world.place()
    market = world.state.markets[SYMBOL]
    held = (market.bid, market.ask)
    for _ in range(20):
        world.venue._ready.append(
            port.QuoteTold(time=world.venue.now, symbol=SYMBOL, bid=bid, ask=ask)
        )
        world.session.run_until(world.venue.now)
    assert (market.bid, market.ask) == held
    assert not world.faults
    assert world.trade.state == states.PROTECTED
    assert world.state.reconciled


def test_a_foreign_order_s_fill_is_data(tmp_path):
    world = World(Ledger(tmp_path / "ledger.sqlite"))
    world.place()
    fill = port.FillTold("other", world.venue.now, "0.10", "0.61200", 0.0, 1.0)
    world.venue._ready.append(port.Filled(time=world.venue.now, id="stranger-1", fill=fill))
    world.run(1)
    assert not world.faults
    assert world.trade.state == states.PROTECTED


# Positions beyond the greatest quantity


def test_a_position_larger_than_one_order_may_be_is_covered_and_closed_in_parts():
    world = World()
    world.place()
    whole = world.venue.instruments[SYMBOL]
    most = max(1, world.trade.open_steps // 3)
    for book in (world.venue.book.instruments, world.state.instruments):
        book[SYMBOL] = msgspec.structs.replace(whole, qty_max=whole.qty_step * most)
    held = world.venue.book.state.positions[world.trade.entry.order_id]
    held.steps += 2 * most  # another hand has made it larger
    world.run(25)
    assert world.stops() == held.steps == world.trade.open_steps > 2 * most
    rests = [one for one in world.venue.book.resting(SYMBOL) if one.kind == "stop"]
    assert len(rests) > 3
    assert max(one.steps for one in rests) <= most
    world.session.ask(ev.CloseTrade(time=world.venue.now, ask_id="c", trade=world.trade.id))
    world.run(30)
    assert world.trade.state == states.ENDED
    assert not world.venue.book.state.positions


# Money


def test_what_is_paid_in_or_out_is_no_loss_and_no_profit():
    world = World()
    loss = dc.LossSwitch(name="Day loss", percent=2.0, then=("flatten",))
    world.session.set_guards(dc.Guards(guard=(loss,)), "guards")
    world.place()
    world.run(5)
    paid = [hands.paid(world.venue.book, random.Random(seed)) for seed in range(8)]
    assert min(paid) < -1_280 < 1_280 < max(paid)  # 2 % of the equity
    world.run(30)
    assert world.trade.state == states.PROTECTED
    assert not any(memory.latched for memory in world.state.memory.values())


def test_a_loss_is_counted_beside_payments():
    world = World()
    loss = dc.LossSwitch(name="Day loss", money=100.0)
    world.session.set_guards(dc.Guards(guard=(loss,)), "guards")
    world.place()
    world.venue.book.state.positions[world.trade.entry.order_id].entry += 300
    world.run(10)
    assert any(memory.latched for memory in world.state.memory.values())


@pytest.mark.parametrize(
    ("live", "rate"),
    [
        ({"CHF/EUR": 1.05}, 1 / 1.05),
        ({"EUR/CHF": 0.97}, 0.97),
        ({"EUR/USD": 1.1, "USD/CHF": 0.9}, 0.99),
    ],
)
def test_a_rate_of_the_file_serves_only_where_no_way_leads_by_live_ones(live, rate):
    filed = {"EUR/CHF": 2.0}
    rates = with_filed({pair: Rate(mid, 0.0) for pair, mid in live.items()}, filed, 5.0)
    assert convert("EUR", "CHF", rates) == pytest.approx(rate)
    alone = with_filed({}, filed, 500.0)
    assert convert("EUR", "CHF", alone) == 2.0
    with pytest.raises(Refused):
        convert("EUR", "CHF", alone, max_age_s=60.0)  # it ages from when it was read


# Another grid


@pytest.mark.parametrize("lives", [True, False])
@pytest.mark.parametrize("finer", [True, False])
def test_another_tick_is_carried_over_exactly_or_left_with_an_alarm(tmp_path, finer, lives):
    """At a restart of Hawser, and while it lives and the line was cut."""
    path = tmp_path / "ledger.sqlite"
    world = World(Ledger(path))
    world.place()
    old, whole = world.state.instruments[SYMBOL], world.trade.stop
    tick = (
        old.tick / 2
        if finer
        else old.tick * next(factor for factor in (3, 7, 11) if whole % factor)
    )
    new = msgspec.structs.replace(old, tick=tick)
    anew = [
        (new, character) if one.symbol == SYMBOL else (one, character)
        for one, character in storm_world.WORLD
    ]
    state = storm_world._carried(reread(world.venue.book.state), old, new)
    since = len(world.entries)
    if lives:
        world.another_answers(anew, state)
        assert world.told(since) >= {"link_down", "instrument_changed"}
        assert not world.faults
    else:
        world.session.close()
        world.venue.hang_up()
        world.venue, world.ledger = (
            world._quay(anew, SEVERITIES["calm"], BooksInMemory(state), world.venue.now),
            Ledger(path),
        )
        world.open()
    assert world.state.markets[SYMBOL].time > world.session.now - 10 * SECOND  # its quotes are read
    if finer:
        assert world.trade.stop == whole * 2
        assert world.trade.state == states.PROTECTED
        assert world.stops() == world.trade.open_steps
    else:
        assert world.trade.left
        assert not world.sent(cm.Submit, since) + world.sent(cm.Amend, since)
    world.session.close()


@pytest.mark.parametrize("whole", [True, False])
def test_bars_that_completed_while_the_line_was_cut_count_like_the_others(whole):
    """A time exit by bars came late by as many, and averages were taken over a hole. Where the
    venue's process was away it tells its `whole` history, else what was missed."""
    world = World()
    rig = Rig(name="timed", stop=StopRule(ticks=900), time_exit=TimeExit(bars=6))
    world.place(rig=rig, stop=rig.stop, targets=())
    assert world.trade.state == states.PROTECTED
    until, since = world.venue.now + 10 * MINUTE, len(world.entries)
    if whole:
        while world.venue.next_message(until) is not None:  # nobody hears it
            pass
        world.another_answers(list(storm_world.WORLD), reread(world.venue.book.state))
    else:
        world.venue.gust("drop", "", 10 * MINUTE)
        world.run(11 * 60)
    times = world.session.stores[SYMBOL].series[MINUTE].bars().time[-12:]
    assert set(times[1:] - times[:-1]) == {MINUTE}
    assert world.state.bars[f"{SYMBOL}@{MINUTE}"].opened == times[-1]
    assert world.trade.progress.bars >= 6
    assert world.trade.state == states.ENDED
    assert not [
        event for event, _ in world.entries[since:] if isinstance(event, ev.InstrumentsChanged)
    ]


def test_a_contract_that_is_worth_more_while_hawser_lives_makes_the_next_size_smaller(tmp_path):
    """A venue's process that came back once had another contract behind the same name: what was
    placed then risked ten times what the account allows."""
    world = World(Ledger(tmp_path / "ledger.sqlite"))
    world.place()
    before = world.trade.entered
    world.session.ask(ev.CloseTrade(time=world.venue.now, ask_id="c", trade=world.trade.id))
    world.run(10)
    old = world.state.instruments[SYMBOL]
    dearer = msgspec.structs.replace(old, multiplier=old.multiplier * 10)
    traded = [
        (dearer if one.symbol == SYMBOL else one, character) for one, character in storm_world.WORLD
    ]
    world.another_answers(traded, reread(world.venue.book.state))
    world.place()
    assert world.trade.entered == pytest.approx(before / 10, abs=1)
    world.session.close()
    assert not verify(tmp_path / "ledger.sqlite").line
    again = Ledger(tmp_path / "ledger.sqlite")
    assert again.restore().state.instruments[SYMBOL].multiplier == dearer.multiplier
    again.close()


def test_an_engine_that_fails_by_a_changed_instrument_takes_it_all_the_same(tmp_path):
    world = World(Ledger(tmp_path / "ledger.sqlite"))
    world.place()
    whole, old, engine = world.trade.stop, world.state.instruments[SYMBOL], world.session.engine
    new = msgspec.structs.replace(old, tick=old.tick / 2)

    def handle(event):
        if isinstance(event, ev.InstrumentsChanged):
            raise RuntimeError("half-way")
        return Engine.handle(engine, event)

    engine.handle = handle
    state = storm_world._carried(reread(world.venue.book.state), old, new)
    world.another_answers(
        [(new, how) if one.symbol == SYMBOL else (one, how) for one, how in storm_world.WORLD],
        state,
    )
    assert len(world.faults) == 1
    assert world.state.instruments[SYMBOL] == new
    assert world.trade.stop == whole * 2
    assert world.stops() == world.trade.open_steps
    world.session.close()


def test_an_instrument_that_is_gone_while_hawser_lives_leaves_its_trade():
    world = World()
    world.place()
    without = [one for one in storm_world.WORLD if one[0].symbol != SYMBOL]
    world.another_answers(without, storm_world._without(reread(world.venue.book.state), SYMBOL))
    assert world.trade.left
    assert SYMBOL not in world.session.stores
    since = len(world.entries)
    world.place()  # nothing of it is sent any more
    assert world.sent(cm.Tell, since)
    assert not world.sent(cm.Submit, since)
    assert not world.faults


def test_an_instrument_that_is_gone_at_a_restart_leaves_the_others(tmp_path):
    path = tmp_path / "ledger.sqlite"
    world = World(Ledger(path))
    world.place()
    # its market is another one after the restart
    world.place(symbol="Harbour 40", stop=StopRule(percent=9.0))
    assert world.trade.state == states.PROTECTED
    world.session.close()
    world.venue.hang_up()
    anew = [one for one in storm_world.WORLD if one[0].symbol != SYMBOL]
    state = storm_world._without(reread(world.venue.book.state), SYMBOL)
    world.venue, world.ledger = (
        world._quay(anew, SEVERITIES["calm"], BooksInMemory(state), world.venue.now),
        Ledger(path),
    )
    world.open()
    assert world.trade.state == states.PROTECTED
    assert next(iter(world.state.trades.values())).left
    world.session.close()


def test_what_was_left_as_it_rests_is_as_it_is_at_each_check():
    hand = ByHand()
    hand.protect()
    trade, state = hand.trade, hand.engine.state
    other = msgspec.structs.replace(pair(), symbol="NZD/SEK")
    hand.do(ev.Opened, prefix="P", account=account(), instruments=(other,))
    hand.do(ev.VenueUp)
    rests = [state.orders[name] for name in trade.live_ids]
    held = (ev.VenuePosition(trade.entry.order_id, trade.symbol, 1, trade.open_steps, 61_242.0),)
    known = tuple(ev.OrderReport(one.id, "resting", one.level, one.steps) for one in rests)
    names = tuple(one.id for one in rests)
    hand.holdings(held, names, known)
    assert trade.left
    assert names
    assert taken(state).left == (trade.entry.order_id,)
    checking = Checking()
    asked = checking.due(state, hand.now)
    told = ev.Holdings(time=hand.now, token=asked.token, asked=known, resting=names, positions=held)
    assert checking.difference(state, told, hand.now) is None
    stop = next(one for one in rests if one.role == "stop")
    hand.engine.state.markets[trade.symbol].bid = trade.stop - 50  # whatever the market does
    gone = hand.do(ev.OrderCancelled, order=stop.id, why="cancelled at the venue")
    alarm = next(one for one in of(gone, cm.Tell) if one.code == "left_bare")
    assert "A stop of what was left as it rests is gone" in alarm.text
    assert trade.leave is None  # nothing says that it is being closed: it is not
    assert not [one for one in gone if not isinstance(one, cm.Tell)]


# No equity


def test_without_equity_nothing_is_entered():
    world = World()
    world.venue.book.state.balance = -5.0
    world.run(5)
    world.place()
    assert not world.state.trades
    assert "no_equity" in {
        one.code for _, commands in world.entries for one in commands if isinstance(one, cm.Tell)
    }


def test_an_equity_of_less_than_a_cent_is_sized_as_it_is():
    world = World()
    world.state.equity = 0.004
    assert account_now(world.state).equity == 0.004


def test_an_older_copy_of_the_record_never_strips_a_position_of_its_stop(tmp_path):
    """Somebody puts this morning's record back while a trade of noon is open: the stop of it bears
    a name of ours, and no record has it."""
    world = World(Ledger(tmp_path / "ledger.sqlite"))
    world.place()
    with (
        sqlite3.connect(tmp_path / "older.sqlite") as older,
        sqlite3.connect(world.ledger.path) as own,
    ):
        own.backup(older)
    world.place(symbol="Harbour 40", stop=StopRule(ticks=400), targets=())
    position = world.trade.entry.order_id
    world.venue.hang_up()
    world.ledger.close()
    world.venue.pick_up()
    world.ledger = Ledger(tmp_path / "older.sqlite")
    since = len(world.entries)
    world.open()
    for _ in range(60):
        world.run(1)
    resting = [one for one in world.venue.book.resting("Harbour 40") if one.closes == position]
    assert [one.kind for one in resting] == ["stop"]
    assert {"stray_stays", "position_unexplained"} <= world.told(since)
    lines = world.ledger.seq
    for _ in range(60):
        world.run(1)
    assert world.ledger.seq - lines < 40  # bars; nothing that says the same again
    # what is risked is not known
    assert "record_behind" in {one.code for one in account_verdict(world.state)}
    plan = msgspec.structs.replace(PLAN, symbol="Harbour 40", stop=StopRule(ticks=300), targets=())
    world.session.ask(ev.Adopt(time=world.venue.now, ask_id="adopt", position=position, plan=plan))
    for _ in range(60):
        world.run(1)
    resting = [one for one in world.venue.book.resting("Harbour 40") if one.closes == position]
    assert not account_verdict(world.state)
    # The adopted trade has its own, the other is taken back.
    assert [one.id in world.state.orders for one in resting] == [True]
    assert world.trade.state == states.PROTECTED
    sent = [one.id for one in world.venue.book.state.orders.values()]
    assert len(sent) == len(set(sent))


def test_an_older_copy_of_the_record_enters_nothing_before_a_person_has_re_armed(tmp_path):
    """What had latched since is not in it: it traded on as if no kill switch had tripped."""
    world = World(Ledger(tmp_path / "ledger.sqlite"))
    world.place()
    with (
        sqlite3.connect(tmp_path / "older.sqlite") as older,
        sqlite3.connect(world.ledger.path) as own,
    ):
        own.backup(older)
    reached, count = world.session.extent, world.ledger.seq
    world.session.ask(ev.Halt(time=world.venue.now, ask_id="h", why="enough"))
    world.run(3)
    for lines, closed in ((world.ledger.seq, True), (count, False)):
        world.venue.hang_up()
        world.ledger.close()
        world.venue.pick_up()
        shutil.copy(tmp_path / "older.sqlite", tmp_path / f"{lines}.sqlite")
        world.ledger = Ledger(tmp_path / f"{lines}.sqlite")
        since = len(world.entries)
        world.open(last=msgspec.structs.replace(reached, lines=lines))
        assert (world.state.halt is not None) == closed
        assert ("record_older" in world.told(since)) == closed
        world.place(symbol="Harbour 40", stop=StopRule(ticks=400), targets=())
        entered = any(
            one.role == "entry"
            for _, all_ in world.entries[since:]
            for one in all_
            if isinstance(one, cm.Submit)
        )
        assert entered != closed
        if closed:
            world.session.ask(ev.Rearm(time=world.venue.now, ask_id="r", reason="I have looked"))
            assert not account_verdict(world.state)


def test_a_check_without_an_answer_is_asked_again_soon_and_a_late_answer_still_counts():
    """With half of all answers lost it once took 46 s until a fill was found that nobody had
    told."""
    world = World()
    world.place()
    state, checking, now = world.state, Checking(), world.state.now + MINUTE
    first = checking.due(state, now)
    assert checking.due(state, now + 2 * SECOND) is None
    asked = [first] + [checking.due(state, now + count * 13 * SECOND // 5) for count in range(1, 6)]
    assert len({one.token for one in asked}) == 6
    held = tuple(
        ev.VenuePosition(one.entry.order_id, one.symbol, one.side, one.open_steps + 7)
        for one in state.live()
    )

    def told(question, after=14):
        holdings = ev.Holdings(time=now, token=question.token, asked=(), resting=(), positions=held)
        return checking.difference(state, holdings, now + after * SECOND)

    assert told(asked[0]) is None  # too many have been asked since
    assert told(asked[2], after=300) is None  # the machine has slept
    assert told(asked[3]).quiet == tuple(one.id for one in state.live())
    assert told(asked[5]) is None  # answered meanwhile
    assert checking.due(state, now + 30 * SECOND) is not None


def test_a_shut_market_is_not_tried_anew_each_time_the_line_is_back():
    """Each try counts against what may be sent a minute: when the market opened, the close once had
    to wait 10 s."""
    world = World()
    world.place()
    world.venue.gust("halt", SYMBOL, 20 * MINUTE)
    world.venue.book.cancel(
        next(one.id for one in world.venue.book.resting(SYMBOL) if one.kind == "stop")
    )
    for _ in range(30):
        world.run(1)
    assert world.trade.state != states.PROTECTED
    since = len(world.entries)
    for _ in range(8):
        world.venue.gust("drop", "", 2 * SECOND)
        for _ in range(7):
            world.run(1)
    assert world.sent(cm.Submit, since) <= 4
    world.venue.set_air_clear()
    for _ in range(5):
        world.run(1)
    assert world.trade.state == states.ENDED


def test_two_sessions_of_one_record_never_give_the_same_order_id():
    """Also where the second begins from an older copy within the same minute: the venue once took a
    target for a stop of the session before."""
    world, serials = World(), set()
    for _ in range(3):
        world.run(0.06)
        # each from the beginning
        serials.add(Session(ACCOUNT, world.venue, None, prefix="S").engine.state.serial)
    assert len(serials) == 3


def test_an_ended_trade_is_remembered_while_another_hand_has_what_it_opened():
    """Else its position would be taken, a day later, for one that the record lacks, and entries
    would close."""
    world = World()
    world.place()
    held = world.venue.book.state.positions[world.trade.entry.order_id]
    held.side, held.steps = -1, 7
    for _ in range(60):
        world.run(1)
    assert world.trade.state == states.ENDED
    world.trade.ended -= 2 * DAY
    world.session.engine.handle(
        ev.Figures(time=world.session.now + DAY, balance=1e5, equity=1e5, margin_used=0.0)
    )
    assert held.id in world.state.unexplained
    assert "record_behind" not in {one.code for one in account_verdict(world.state)}


def test_what_is_less_than_one_step_hides_nothing_else_that_the_venue_holds():
    """Dust that a venue's own fees leave made all of it unreadable: Hawser never agreed with the
    venue again."""
    one = pair()
    held = tuple(
        port.PositionTold(f"p{steps}", one.symbol, 1, str(one.qty_step * Decimal(steps)))
        for steps in ("0.4", "3.5")
    )
    told = port.HoldingsTold(time=1, token=7, asked=(), resting=(), positions=held)
    found = FromVenue({one.symbol: one}).event(told, 5)
    assert isinstance(found, ev.Holdings)
    assert [(held.id, held.steps) for held in found.positions] == [("p3.5", 3)]


@pytest.mark.parametrize(("side", "spikes"), [(1, True), (-1, True), (1, False)])
def test_the_best_price_of_a_bar_that_nobody_looked_at_counts(side, spikes):
    """Only the last of the bars that completed while the line was cut was looked at."""
    world = World()
    world.place(side=side, targets=(), trail=None, timeframe_ns=world.venue.base_span)
    world.run(20)
    trade, span = world.trade, world.venue.base_span
    histories = {
        symbol: store.series[span].bars() for symbol, store in world.session.stores.items()
    }
    before, tick = histories[SYMBOL], float(world.session.stores[SYMBOL].instrument.tick)
    first = trade.opened - trade.opened % span + span
    time = np.array([first + span * number for number in range(3)], np.int64)
    close, far = np.full(3, before.close[-1]), side * trade.r_ticks * 1.5 * tick * spikes
    high, low = close.copy(), close.copy()
    high[1], low[1] = high[1] + max(0.0, far), low[1] + min(0.0, far)
    told = (
        np.concatenate(one)
        for one in zip(before, (time, close, high, low, close, np.ones(3)), strict=True)
    )
    histories[SYMBOL] = Bars(*told)
    anew = port.InstrumentsTold(
        time=world.venue.now,
        instruments=tuple(world.venue.instruments.values()),
        base_span=span,
        histories=histories,
    )
    world.session._safely(world.session.message, anew, world.session.now)
    assert not world.faults
    best = side * (world.trade.progress.best_exit - trade.ref)
    assert (best > trade.r_ticks) == spikes


def test_an_entry_until_the_session_s_end_follows_the_hours_of_who_answers_now():
    world = World()
    symbol = "Tin Z"
    world.place(
        symbol=symbol,
        entry=EntryRule("limit", atr=9.0, good=GoodUntil(session_end=True)),
        stop=StopRule(ticks=40),
    )
    order = world.state.orders[world.trade.entry.order_id]
    before = order.until
    earlier = [
        (
            msgspec.structs.replace(one, sessions=storm_world.OTHER_HOURS[2])
            if one.symbol == symbol
            else one,
            character,
        )
        for one, character in storm_world.WORLD
    ]
    world.another_answers(earlier, reread(world.venue.book.state))
    assert world.state.orders[order.id].until == before - 3 * MINUTE
