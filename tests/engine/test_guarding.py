"""Guards in the engine: what closes entries, what trips and latches, and what a person may do about
it."""

from typing import Any

import msgspec
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from byhand import SYMBOL, ByHand, codes, of, plan
from hawser.core.account import Policy
from hawser.core.clock import DAY, MINUTE, SECOND
from hawser.core.entry import EntryRule
from hawser.core.guards import declared as dc
from hawser.core.guards.news import Calendar, NewsEvent
from hawser.core.levels import StopRule
from hawser.engine import commands as cm
from hawser.engine import events as ev
from hawser.engine.clearance.entries import entry_verdict
from hawser.engine.clearance.guards import cancels
from hawser.engine.engine import Engine
from hawser.engine.guards import money as guard_money
from hawser.engine.guards.tripping import action_for
from hawser.engine.model import transitions as states
from hawser.engine.model.exposure import Valuation
from hawser.engine.model.state import EngineState, Market
from madeup import account, pair

LIMIT = EntryRule("limit", atr=1.0)


def guarded(*guards: Any, **policy: Any) -> ByHand:
    hand = ByHand()
    hand.do(ev.ChangeGuards, ask_id="G", guards=dc.Guards(guard=guards, **policy))
    return hand


def equity(hand: ByHand, money: float) -> list[cm.AnyCommand]:
    return hand.do(ev.Figures, balance=64_000.0, equity=money, margin_used=0.0)


def closed(hand: ByHand, side: int = 1, source: str = "by hand") -> list[str]:
    return [one.code for one in entry_verdict(hand.engine.state, SYMBOL, side, source)]


def submitted(commands: list[cm.AnyCommand], role: str) -> list[cm.Submit]:
    return [one for one in of(commands, cm.Submit) if one.role == role]


def waiting(hand: ByHand, ask: str = "W") -> Any:
    hand.place(ask, entry=LIMIT)
    hand.do(ev.OrderAccepted, order=hand.trade.entry.order_id)
    return hand.trade


def news_at(hand: ByHand, seconds: float, **more: Any) -> NewsEvent:
    event = NewsEvent(hand.now + int(seconds * SECOND), "CHF", "high", "Rate decision")
    hand.do(ev.CalendarChanged, calendars=(Calendar("made up", (event,), **more),))
    return event


# Entries


def test_what_closes_longs_only_closes_nothing_where_no_side_is_asked_about():
    """As the row of an instrument shows it: what only some plans meet is left out."""
    guard = dc.RegimeGuard(name="tide", reference=SYMBOL, entries="with")
    hand = guarded(guard)
    hand.engine.state.measures[SYMBOL] = {guard.measure_key: -0.002}
    state = hand.engine.state
    assert [one.code for one in entry_verdict(state, SYMBOL, 1)] == ["regime"]
    assert not entry_verdict(state, SYMBOL, -1)
    assert not entry_verdict(state, SYMBOL)


def test_a_closed_filter_refuses_an_entry_with_its_sentence_and_exits_pass():
    hand = guarded(dc.SpreadGuard(name="Wide", max_ticks=20))
    hand.protect()
    stop = hand.order("stop")
    hand.quote(61220, 61242)
    told = hand.place("A2")
    assert not of(told, cm.Submit)
    assert of(told, cm.Tell)[0].text == "Entries closed: spread 22 t, at most 20 t"
    moved = hand.do(ev.MoveStop, ask_id="M", trade=hand.trade.id, level=hand.trade.stop + 10)
    assert of(moved, cm.Amend)[0].order == stop.id
    assert submitted(hand.do(ev.CloseTrade, ask_id="C", trade=hand.trade.id), "close")


def test_the_spread_as_a_part_of_r_is_looked_at_once_r_is_known():
    hand = guarded(dc.SpreadGuard(name="Of R", max_percent_of_r=3.0))
    assert closed(hand) == []  # of no plan
    told = hand.place(stop=StopRule(atr=2.5))  # 12 of 363 t
    assert "of R, at most 3.0" in of(told, cm.Tell)[0].text
    assert not of(told, cm.Submit)
    assert submitted(hand.place("A2", stop=StopRule(atr=3.0)), "entry")


def test_a_guard_may_watch_one_source_or_one_instrument_only():
    hand = guarded(dc.CountGuard(name="x", most=0, sources=("relay",)))
    assert submitted(hand.place(), "entry")
    assert not submitted(hand.place("A2", source="relay"), "entry")
    assert codes(hand.place("A3", source="relay")) == ["trade_count"]
    other = guarded(dc.CountGuard(name="x", most=0, instruments=("NZD/SEK",)))
    assert submitted(other.place(), "entry")


def test_a_follow_on_of_a_source_stays_that_source_s():
    assert plan(source="relay").source == "relay"
    assert msgspec.structs.replace(plan(source="relay"), side=-1).source == "relay"


# News


@pytest.mark.parametrize(
    ("then", "role", "even"),
    [(("cancel",), "", False), (("close",), "close", False), (("break_even",), "", True)],
)
def test_entering_a_news_window_does_what_was_chosen(then, role, even):
    hand = guarded(
        dc.NewsGuard(name="News", before_min=0.5, after_min=10, then=then, missing="warn")
    )
    hand.protect()
    open_trade, stop = hand.trade, hand.trade.stop
    hand.quote(61600, 61612)
    pending = waiting(hand)
    event = news_at(hand, 60)
    hand.later(29.9)
    assert not closed(hand)
    told = hand.later(0.1)
    assert closed(hand) == ["news"]
    text = next(one.text for one in of(told, cm.Tell) if one.code == "guard_closed")
    assert text.startswith(
        f"News ({SYMBOL}) closes entries: news in 30\u00a0s (CHF, high): Rate decision"
    )
    cancelled = [one.order for one in of(told, cm.Cancel)]
    assert (pending.entry.order_id in cancelled) == (not even)
    assert bool(submitted(told, "close")) == (role == "close")
    assert (open_trade.stop > stop) == even
    hand.now = event.time + 10 * MINUTE - 1
    hand.quote(61600, 61612)
    assert closed(hand) == ["news"]
    hand.later(1 / SECOND)
    assert closed(hand) == []
    assert "guard_open" in codes(hand.all)


def test_a_calendar_that_ends_closes_when_its_horizon_is_reached():
    hand = guarded(dc.NewsGuard(name="News", horizon_h=1.0))
    assert closed(hand) == ["no_calendar"]
    hand.do(
        ev.CalendarChanged, calendars=(Calendar("c", (), reaches=hand.now + 2 * 3600 * SECOND),)
    )
    assert closed(hand) == []
    hand.later(3601)
    hand.quote(61230, 61242)
    assert closed(hand) == ["no_calendar"]
    hand.do(ev.CalendarChanged, calendars=(Calendar("c", (), state="unreadable", why="row 3"),))
    assert "calendar" in codes(hand.all)


def test_a_guard_that_only_warns_of_its_calendar_does_so_once_and_closes_nothing():
    hand = guarded(dc.NewsGuard(name="News", horizon_h=1.0, missing="warn", then=("flatten",)))
    assert hand.protect()
    hand.do(
        ev.CalendarChanged, calendars=(Calendar("c", (), reaches=hand.now + 2 * 3600 * SECOND),)
    )
    hand.later(3600)
    told = [one.text for one in of(hand.all, cm.Tell) if one.code == "calendar"]
    hand.later(1)
    hand.quote(61230, 61242)
    hand.quote(61231, 61243)
    told += [one.text for one in of(hand.all, cm.Tell) if one.code == "calendar"][len(told) :]
    assert told == [
        "News lets entries pass without news: there is no news calendar",
        "News knows the news again",
        "News lets entries pass without news: news calendar c ends within 1 h",
    ]
    assert closed(hand) == []
    assert hand.trade.open_steps


def test_a_news_guard_that_waits_to_go_is_not_left_without_its_news():
    news = dc.NewsGuard(name="News", then=("flatten",))
    hand = ByHand()
    calendars = (Calendar("c", (), reaches=0),)
    hand.do(ev.ChangeGuards, ask_id="G", guards=dc.Guards(guard=(news,)), calendars=calendars)
    hand.protect()
    hand.do(ev.ChangeGuards, ask_id="G2", guards=dc.Guards(), calendars=())
    assert hand.engine.state.guards.named("News") == news
    assert closed(hand) == []
    assert hand.trade.state == states.PROTECTED
    hand.later(DAY / SECOND)
    assert hand.engine.state.guards.guard == ()


# Kill switches


def test_a_day_s_loss_latches_flattens_and_opens_with_the_next_day():
    hand = guarded(dc.LossSwitch(name="Day loss", percent=2.5, then=("flatten",)))
    hand.protect()
    equity(hand, 62_400.01)
    assert closed(hand) == []
    told = equity(hand, 62_400.0)
    hand.fill(submitted(told, "close")[0].order, 104, 61230)
    for order in [order for order in hand.engine.state.orders.values() if not order.over]:
        hand.do(ev.OrderCancelled, order=order.id, why="asked for")
    assert "2.50" in next(one.text for one in of(told, cm.Tell) if one.code == "guard_tripped")
    assert codes(hand.place("A2")) == ["latched"]
    equity(hand, 64_000.0)  # it stays latched though the money is back
    assert closed(hand) == ["latched"]
    until = entry_verdict(hand.engine.state, SYMBOL)[0].until
    assert until == (hand.now // DAY + 1) * DAY
    hand.now = until - 1
    hand.quote(61230, 61242)
    assert closed(hand) == ["latched"]
    hand.later(1 / SECOND)
    assert closed(hand) == []
    assert "guard_open" in codes(hand.all)
    equity(hand, 62_400.01)  # counted from the new day's start
    assert closed(hand) == []


def test_the_period_s_start_is_the_equity_known_before_it_with_positions_open():
    hand = guarded(dc.LossSwitch(name="Day", money=500.0))
    hand.protect()
    equity(hand, 63_600.0)
    hand.now = (hand.now // DAY + 1) * DAY
    hand.quote(61230, 61242)
    equity(hand, 63_200.0)
    assert closed(hand) == []  # 400 since midnight
    equity(hand, 63_100.0)
    assert closed(hand) == ["latched"]


def test_latches_survive_being_written_down_and_read_again():
    hand = guarded(
        dc.LossSwitch(name="Week", percent=1.0, period="week"), dc.CountGuard(name="n", most=1)
    )
    hand.protect()
    equity(hand, 60_000.0)
    state = msgspec.msgpack.decode(msgspec.msgpack.encode(hand.engine.state), type=EngineState)
    hand.engine = Engine(state)
    assert closed(hand) == ["latched", "trade_count"]
    told = hand.do(ev.RearmGuard, ask_id="R", guard="Week", reason="looked into it")
    assert codes(told) == ["guard_rearmed"]
    assert closed(hand) == ["trade_count"]


@pytest.mark.parametrize(
    ("seconds", "reason", "code"),
    [
        (0, "it is fine", "not_rearmed"),
        (601, "  x ", "not_rearmed"),
        (601, "it is fine", "guard_rearmed"),
    ],
)
def test_rearming_needs_a_reason_and_the_cool_down(seconds, reason, code):
    hand = guarded(dc.LossSwitch(name="Loss", percent=1.0, cool_down_min=10))
    equity(hand, 63_000.0)
    hand.later(seconds)
    assert codes(hand.do(ev.RearmGuard, ask_id="R", guard="Loss", reason=reason)) == [code]
    if code == "guard_rearmed":
        equity(hand, 62_500.0)  # it counts anew from 63 000
        assert "latched" not in closed(hand)
        equity(hand, 62_370.0)
        assert "latched" in closed(hand)


def test_nothing_latched_cannot_be_rearmed_and_a_floor_not_while_equity_lies_below():
    hand = guarded(dc.FloorSwitch(name="Floor", money=63_000.0))
    assert codes(hand.do(ev.RearmGuard, ask_id="R", guard="Floor", reason="because")) == [
        "not_rearmed"
    ]
    equity(hand, 63_000.0)
    assert closed(hand) == ["latched"]
    assert codes(hand.do(ev.RearmGuard, ask_id="R", guard="Floor", reason="because")) == [
        "not_rearmed"
    ]
    equity(hand, 63_000.01)
    assert codes(hand.do(ev.RearmGuard, ask_id="R", guard="Floor", reason="because")) == [
        "guard_rearmed"
    ]


def test_a_drawdown_is_from_the_highest_equity_also_one_that_was_told_in_short():
    hand = guarded(dc.DrawdownSwitch(name="Drawdown", percent=5.0))
    hand.do(ev.Figures, balance=64_000.0, equity=66_000.0, margin_used=0.0, high=70_000.0)
    assert closed(hand) == ["latched"]
    assert "5.71" in next(one.text for one in of(hand.all, cm.Tell) if one.code == "guard_tripped")
    hand.now += 3 * DAY
    hand.quote(61230, 61242)
    equity(hand, 70_000.0)
    assert closed(hand) == ["latched"]  # until it is re-armed


def test_a_limit_still_broken_when_its_day_turns_stays_closed_and_does_nothing_a_second_time():
    """Nothing had to be done when it broke; what is open at the turn is as a person has settled it
    since."""
    hand = guarded(dc.FloorSwitch(name="Floor", money=63_000.0, period="day", then=("break_even",)))
    hand.protect()
    trade = hand.trade
    hand.quote(61150, 61162)  # below the entry: no stop may stand there
    equity(hand, 62_900.0)
    assert closed(hand) == ["latched"]
    stop = trade.stop
    hand.quote(61400, 61412)
    tripped = hand.engine.state.memory["Floor\n"].tripped
    hand.now += DAY
    told = [*hand.quote(61402, 61414), *equity(hand, 62_950.0)]
    assert [one.text for one in of(told, cm.Tell) if one.code.startswith("guard")] == [
        "Floor stays closed until the new day ends: "
        "equity 62\u00a0900.00\u00a0CHF is at the floor of 63\u00a0000.00\u00a0CHF"
    ]
    assert hand.engine.state.memory["Floor\n"].tripped > tripped
    assert closed(hand) == ["latched"]
    assert trade.stop == stop
    assert not of(told, cm.Amend)
    equity(hand, 63_500.0)
    hand.now += DAY
    assert codes(equity(hand, 63_500.0)) == ["guard_open"]
    assert "latched" not in closed(hand)


def test_a_file_s_equity_latches_nothing_when_a_day_turns():
    hand = guarded(dc.FloorSwitch(name="Floor", money=63_000.0, period="day"))
    equity(hand, 62_900.0)
    hand.engine.state.figured = False  # the venue has not told the account's money yet
    hand.now += DAY
    hand.do(ev.TimerFired, name=f"guards:{hand.engine.state.guards_at}")
    assert "latched" not in closed(hand)


def losing(hand: ByHand, ask: str, profit: float = -100.0) -> None:
    hand.enter(ask_id=ask)
    trade = hand.trade
    hand.do(ev.CloseTrade, ask_id=f"{ask}-c", trade=trade.id)
    hand.fill(hand.order("close").id, trade.open_steps, 61230, profit)
    assert trade.state == states.ENDED


def test_a_losing_streak_and_a_cool_down():
    hand = guarded(
        dc.StreakSwitch(name="Streak", losses=2),
        dc.CoolDownGuard(name="Calm", minutes=5, from_r=0.2),
    )
    losing(hand, "A1")
    assert closed(hand) == ["cool_down"]
    hand.later(299)
    hand.quote(61230, 61242)
    assert closed(hand) == ["cool_down"]
    hand.later(1)
    hand.quote(61230, 61242)
    assert closed(hand) == []
    losing(hand, "A2", profit=50.0)  # a winner in between
    losing(hand, "A3", profit=-10.0)  # too little for the cool-down
    assert closed(hand) == []
    losing(hand, "A4", profit=-10.0)
    assert closed(hand) == ["latched"]


def test_a_close_of_what_is_closed_already_is_no_reject_of_the_venue():
    hand = guarded(dc.RejectSwitch(name="Rejects", most=1))
    hand.protect()
    hand.do(ev.CloseTrade, ask_id="C", trade=hand.trade.id)
    close = hand.order("close").id
    hand.do(ev.OrderRejected, order=close, code="no_position", text="there is no position to close")
    assert "latched" not in closed(hand)  # what the venue holds is asked; nobody is at fault


def test_a_close_the_venue_is_too_busy_for_is_a_reject():
    hand = guarded(dc.RejectSwitch(name="Rejects", most=1))
    hand.protect()
    hand.do(ev.CloseTrade, ask_id="C", trade=hand.trade.id)
    hand.do(ev.OrderRejected, order=hand.order("close").id, code="busy", text="the venue is busy")
    assert "latched" in closed(hand)


def test_rejects_within_the_window_trip_and_older_ones_do_not_count():
    hand = guarded(dc.RejectSwitch(name="Rejects", most=2, window_min=1))
    for number, pause in enumerate((0, 61, 59)):
        hand.later(pause)
        hand.quote(61230, 61242)
        hand.place(f"A{number}")
        hand.do(
            ev.OrderRejected, order=hand.trade.entry.order_id, code="busy", text="the venue is busy"
        )
        assert closed(hand) == (["latched"] if number == 2 else [])


def test_an_order_rate_beyond_the_limit_trips_and_protection_goes_on():
    hand = guarded(dc.RateSwitch(name="Rate", most=1, window_s=10))
    hand.enter()  # the entry, and its stop at once: two
    assert closed(hand) == ["latched"]
    assert hand.order("stop").state != states.CANCELLED
    hand.do(ev.OrderAccepted, order=hand.order("stop").id)
    assert hand.trade.state == states.PROTECTED


@pytest.mark.parametrize(("price", "trips"), [(61247, False), (61248, True)])
def test_a_fill_beyond_the_slippage_allowed_trips(price, trips):
    hand = guarded(dc.SlippageSwitch(name="Slip", ticks=5))
    hand.place()
    hand.fill(hand.trade.entry.order_id, 104, price)
    assert bool(closed(hand)) == trips


def test_a_silent_feed_trips_while_the_market_is_open_and_the_link_stands():
    hand = guarded(dc.SilenceSwitch(name="Silence", seconds=30))
    hand.later(29)
    assert closed(hand) == []
    hand.quote(61230, 61242)
    hand.later(29.9)
    assert closed(hand) == []
    hand.later(6)
    assert closed(hand) == ["latched"]
    quiet = guarded(dc.SilenceSwitch(name="Silence", seconds=30))
    quiet.do(ev.VenueDown, why="cable")
    quiet.later(100)
    quiet.do(ev.VenueUp)
    assert "latched" not in closed(quiet)


def test_a_loss_of_one_instrument_is_counted_by_its_trades():
    hand = guarded(dc.LossSwitch(name="Pair", money=150.0, per="instrument", then=("close",)))
    losing(hand, "A1", -100.0)
    equity(hand, 50_000.0)  # whatever the account has come to
    assert closed(hand) == []
    losing(hand, "A2", -60.0)
    equity(hand, 50_000.0)
    assert closed(hand) == ["latched"]


# Changing them


def test_a_limit_that_was_reached_is_loosened_from_the_next_period_on():
    hand = guarded(dc.LossSwitch(name="Day", percent=1.0), loosen="now")
    equity(hand, 63_000.0)
    looser = dc.Guards(loosen="now", guard=(dc.LossSwitch(name="Day", percent=9.0),))
    assert "guard_loosened" in codes(hand.do(ev.ChangeGuards, ask_id="G2", guards=looser))
    assert closed(hand) == ["latched"]
    assert hand.engine.state.guards.named("Day").percent == 1.0
    # taking it away does not help either
    hand.do(ev.ChangeGuards, ask_id="G3", guards=dc.Guards(loosen="now"))
    assert closed(hand) == ["latched"]
    hand.later(((hand.now // DAY + 1) * DAY - hand.now) / SECOND)
    assert hand.engine.state.guards.named("Day") is None


@pytest.mark.parametrize(("loosen", "at_once"), [("now", 2.0), ("next_period", 1.0)])
def test_an_unreached_limit_is_loosened_when_the_policy_lets_it(loosen, at_once):
    hand = guarded(dc.LossSwitch(name="Day", percent=1.0), loosen=loosen)
    looser = dc.Guards(loosen="now", guard=(dc.LossSwitch(name="Day", percent=2.0),))
    assert "guard_loosened" in codes(hand.do(ev.ChangeGuards, ask_id="G2", guards=looser))
    assert hand.engine.state.guards.named("Day").percent == at_once
    tighter = dc.Guards(loosen="now", guard=(dc.LossSwitch(name="Day", percent=0.5),))
    hand.do(ev.ChangeGuards, ask_id="G3", guards=tighter)
    assert hand.engine.state.guards.named("Day").percent == 0.5  # tightening holds at once
    assert not hand.engine.state.guards_later
    hand.later(((hand.now // DAY + 1) * DAY - hand.now) / SECOND)
    assert hand.engine.state.guards.loosen == "now"


@pytest.mark.parametrize("with_news", [True, False])
def test_other_news_waits_with_the_rules_that_wait_and_the_same_news_is_taken_at_once(with_news):
    hand = guarded(dc.LossSwitch(name="Day", percent=1.0), loosen="next_period")
    old = hand.engine.state.guards
    news = dc.NewsSources(files=("other.csv",)) if with_news else old.news
    calendars = (Calendar("other", (), reaches=hand.now + DAY),)
    later = msgspec.structs.replace(old, day_starts="05:00", news=news)
    hand.do(ev.ChangeGuards, ask_id="G2", guards=later, calendars=calendars)
    assert hand.engine.state.rules_later is not None
    assert hand.engine.state.guards.news == old.news
    assert hand.engine.state.calendars == (() if with_news else calendars)


def test_a_looser_guard_waits_for_its_own_turn_not_for_that_of_another():
    day = dc.LossSwitch(name="Day", percent=1.0)
    week = dc.LossSwitch(name="Week", percent=3.0, period="week")
    hand = guarded(day, week)
    looser = dc.Guards(guard=(day, dc.LossSwitch(name="Week", percent=6.0, period="week")))
    hand.do(ev.ChangeGuards, ask_id="G2", guards=looser)
    turn = hand.engine.state.guards_later["Week"].at
    assert turn > (hand.now // DAY + 1) * DAY
    hand.later(((hand.now // DAY + 1) * DAY - hand.now) / SECOND)  # the day's
    assert hand.engine.state.guards.named("Week").percent == 3.0
    hand.later((turn - hand.now) / SECOND)
    assert hand.engine.state.guards.named("Week").percent == 6.0


# The property


ALL = (
    dc.SpreadGuard(name="spread", max_ticks=25, max_percent_of_r=6.0, then=("cancel",)),
    dc.NewsGuard(
        name="news", before_min=2, after_min=3, missing="warn", then=("break_even", "cancel")
    ),
    dc.CountGuard(name="count", most=4),
    dc.CoolDownGuard(name="calm", minutes=2),
    dc.LossSwitch(name="loss", percent=1.0, then=("close",)),
    dc.DrawdownSwitch(name="fall", percent=3.0),
    dc.FloorSwitch(name="floor", money=60_000.0, then=("flatten",)),
    dc.StreakSwitch(name="streak", losses=2),
    dc.RejectSwitch(name="rejects", most=3),
    dc.RateSwitch(name="rate", most=30, window_s=60),
    dc.SilenceSwitch(name="silence", seconds=60),
    dc.SlippageSwitch(name="slip", ticks=6),
)

STEPS = st.lists(
    st.tuples(
        st.sampled_from(
            [
                "place",
                "limit",
                "quote",
                "equity",
                "later",
                "fill",
                "reject",
                "accept",
                "news",
                "close",
                "rearm",
                "bar",
            ]
        ),
        st.integers(0, 1000),
    ),
    min_size=5,
    max_size=60,
)


@settings(max_examples=150, deadline=None)
@given(STEPS)
def test_no_entry_leaves_through_a_closed_guard_and_no_stop_is_cancelled_or_loosened(steps):
    hand = guarded(*ALL)
    for number, (what, n) in enumerate(steps):
        state = hand.engine.state
        stops = {trade.id: trade.stop for trade in state.live()}
        told = _step(hand, what, n, number)
        entries = [one for one in of(told, cm.Submit) if one.role in ("entry", "rung")]
        if entries:  # nothing but the count itself has changed by their leaving
            assert set(closed(hand)) <= {"trade_count", "latched"}
            assert all(
                "new orders within" in one.text
                for one in entry_verdict(state, SYMBOL)
                if one.code == "latched"
            )
        for trade in state.live():
            assert trade.side * (trade.stop - stops.get(trade.id, trade.stop)) >= 0
        for cancel in of(told, cm.Cancel):
            order = state.orders[cancel.order]
            assert order.role != "stop" or not state.trades[order.trade].open_steps


def _step(hand: ByHand, what: str, n: int, number: int) -> list[cm.AnyCommand]:
    state = hand.engine.state
    live = [order for order in state.orders.values() if not order.over]
    if what in ("place", "limit"):
        return hand.place(
            f"A{number}", entry=LIMIT if what == "limit" else EntryRule(), side=1 if n % 2 else -1
        )
    if what == "quote":
        return hand.quote(61000 + n // 2, 61012 + n // 2 + n % 30)
    if what == "equity":
        return equity(hand, 61_000.0 + 4 * n)
    if what == "later":
        return hand.later(n / 10)
    if what == "news":
        news_at(hand, n)
        return []
    if what == "bar":
        return hand.bar(0.61 + n / 1e5, atr=0.00145, span=MINUTE)
    if what == "rearm":
        return hand.do(
            ev.RearmGuard,
            ask_id=f"R{number}",
            guard=ALL[n % len(ALL)].name,
            reason="looked into it",
        )
    if not live:
        return []
    order = live[n % len(live)]
    if what == "fill":
        price = order.level or order.seen + n % 9 * order.side
        return hand.fill(order.id, max(1, order.left), price, float(n - 700))
    if what == "reject" and order.state == states.SENDING:
        return hand.do(ev.OrderRejected, order=order.id, code="busy", text="busy")
    if what == "close":
        return hand.do(ev.CloseTrade, ask_id=f"C{number}", trade=order.trade)
    return hand.do(ev.OrderAccepted, order=order.id)


# What planted faults did not meet


def test_a_market_that_was_told_as_open_and_never_quoted_has_no_quote():
    hand = ByHand()
    hand.engine.state.markets[SYMBOL] = Market()
    assert [(one.code, one.text) for one in entry_verdict(hand.engine.state, SYMBOL)] == [
        ("no_quote", "CAD/CHF has no quote yet")
    ]


def test_a_silent_feed_is_told_with_its_age():
    hand = ByHand()
    hand.now += 91 * SECOND
    hand.do(ev.TimerFired, name="guards:0")
    assert [one.text for one in entry_verdict(hand.engine.state, SYMBOL)] == [
        "CAD/CHF has had no quote for 91 s"
    ]


def test_a_record_that_cannot_be_written_is_told_once():
    hand = ByHand()
    [told] = of(hand.do(ev.RecordFailed, why="the disk is full"), cm.Tell)
    assert told.weight == "alarm"
    text = (
        "The record cannot be written (the disk is full): entries are closed, open trades are "
        "protected all the same"
    )
    assert told.text == text
    assert not of(hand.do(ev.RecordFailed, why="the disk is full"), cm.Tell)


def test_a_guard_of_one_instrument_closes_nothing_of_another():
    loss = dc.LossSwitch(name="Loss", percent=1.0, per="instrument", then=("close",))
    hand = guarded(loss)
    hand.protect()
    state = hand.engine.state
    assert action_for(state, loss, SYMBOL, hand.trade) == "close"
    assert action_for(state, loss, "EUR/USD", hand.trade) == ""
    everything = msgspec.structs.replace(loss, then=("flatten",))
    assert action_for(state, everything, "EUR/USD", hand.trade) == "close"
    hand.do(ev.CloseTrade, ask_id="C", trade=hand.trade.id)
    assert action_for(state, everything, SYMBOL, hand.trade) == ""


def test_the_loss_of_one_instrument_counts_what_is_open_in_it_and_nothing_that_only_waits():
    hand = guarded(dc.LossSwitch(name="Loss", percent=0.5, per="instrument"))
    waiting(hand)
    hand.protect()
    hand.quote(hand.trade.ref - 250, hand.trade.ref - 238)
    assert "guard_tripped" not in codes(equity(hand, 64_000.0))  # 266 of 320
    hand.quote(hand.trade.ref - 320, hand.trade.ref - 308)
    assert "guard_tripped" in codes(equity(hand, 64_000.0))


def test_a_guard_whose_first_equity_was_not_known_counts_from_the_first_that_is_told():
    hand = guarded(dc.LossSwitch(name="Loss", percent=1.0))
    state = hand.engine.state
    [memory] = state.memory.values()
    memory.base = memory.high = float("nan")
    guard_money.first_figures(state)
    assert (memory.base, memory.high) == (64_000.0, 64_000.0)
    memory.base = memory.high = 70_000.0
    guard_money.first_figures(state)
    assert memory.base == 70_000.0


# Time alone


def test_a_period_ends_though_it_was_begun_after_all_was_looked_at_last():
    """A loss counted in one instrument began with its first trade; no bar came before midnight, and
    it counted on over all later days."""
    hand = guarded(dc.LossSwitch(name="Loss", percent=0.5, per="instrument"))
    hand.protect()
    equity(hand, 64_000.0)
    [memory] = hand.engine.state.memory.values()
    assert hand.engine.state.guards_at <= memory.end
    hand.do(
        ev.OrderFilled,
        order=hand.order("stop").id,
        fill=ev.Fill("S", hand.now, 104, 61_000, -250.0, 1.0),
    )
    assert memory.won == -252.0
    hand.later((memory.end - hand.now) / SECOND + 1)
    assert memory.won == 0.0
    assert memory.start <= hand.now < memory.end


def test_a_record_that_forgot_the_end_of_a_period_is_put_right():
    hand = guarded(dc.LossSwitch(name="Loss", percent=1.0))
    state = hand.engine.state
    equity(hand, 63_000.0)
    assert closed(hand) == ["latched"]
    state.guards_at = 1 << 62
    hand.now += 2 * DAY
    hand.do(ev.InstrumentState, symbol=SYMBOL, open=True, until=hand.now + DAY)
    hand.later(1)
    hand.quote(61_230, 61_242)
    assert closed(hand) == []


def test_looser_limits_come_in_without_any_guard():
    hand = ByHand(policy=Policy(max_positions=2))
    account = msgspec.structs.replace(hand.engine.state.account, policy=Policy(max_positions=5))
    hand.do(ev.ChangeAccount, ask_id="A", account=account)
    assert hand.engine.state.account.policy.max_positions == 2
    hand.later(DAY // SECOND + 1)
    assert hand.engine.state.account.policy.max_positions == 5


def test_a_drill_of_a_filter_is_over_in_time():
    hand = guarded(dc.SpreadGuard(name="Wide", max_ticks=20))
    hand.do(ev.Drill, ask_id="D", guard="Wide", subject=SYMBOL, seconds=30)
    hand.later(0)
    assert closed(hand) == ["cool_down"]
    told = hand.later(31)
    assert "guard_open" in codes(told)
    assert closed(hand) == []


@pytest.mark.parametrize(
    "guard",
    [
        dc.CoolDownGuard(name="x", minutes=5, then=("cancel",)),
        dc.CountGuard(name="x", most=9, then=("cancel",)),
    ],
)
def test_a_drill_of_a_guard_that_counts_takes_nothing_back_once_it_is_over(guard):
    hand = guarded(guard)
    hand.do(ev.Drill, ask_id="D", guard="x", seconds=30)
    assert closed(hand) == ["cool_down"]
    hand.later(31)
    hand.quote(61_230, 61_242)
    assert closed(hand) == []
    trade = waiting(hand)
    assert not cancels(hand.engine.state, trade)
    assert not of(hand.bar(0.6123, atr=0.00145), cm.Cancel)


def test_a_count_of_two_lets_two_entries_pass():
    hand = guarded(dc.CountGuard(name="Two", most=2))
    hand.place("A1")
    assert closed(hand) == []
    hand.place("A2")
    assert closed(hand) == ["trade_count"]


def test_what_floated_while_no_rate_was_known_is_valued_by_the_rate_of_now():
    hand = ByHand()
    hand.protect()
    hand.quote(61_300, 61_312)
    values = Valuation(hand.engine.state)
    mark = values.so_far(hand.trade)
    assert mark.floating > 0
    unknown = msgspec.structs.replace(mark, floating=float("nan"))
    assert values.earlier(unknown, SYMBOL) == pytest.approx(values.earlier(mark, SYMBOL))


def test_only_the_quote_of_a_pair_is_a_rate():
    hand = ByHand()
    index = pair(symbol="Harbour 40", kind="index", base=None, quote="USD", currencies=())
    hand.do(ev.Opened, prefix="P", account=account(), instruments=(pair(), index))
    hand.do(ev.Quote, symbol="Harbour 40", bid=8_000, ask=8_010, high_bid=8_000, low_ask=8_010)
    assert list(hand.engine.state.rates) == ["CAD/CHF"]
