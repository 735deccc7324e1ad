"""Engine, ledger and Quay back to back in bad weather: more than 200 seeded storms, and not one
broken promise."""

import json
import subprocess
import sys
from collections import Counter

import msgspec
import pytest

from hawser.core.clock import MINUTE, SECOND
from hawser.core.guards.news import Calendar, NewsEvent
from hawser.engine.commands import Submit, Tell
from hawser.engine.events import BarCompleted, TimerFired
from hawser.engine.model.state import Order, Rung
from hawser.ledger.ledger import Ledger
from hawser.venue import port
from hawser.venue.quay.weather import KINDS, Weather
from hawser.verification import filters
from hawser.verification.filters import FiltersWatch
from hawser.verification.guards import GuardWatch
from hawser.verification.judge import FITS_AFTER, FLOOD, SHOWN_FALSELY, Findings
from hawser.verification.limits import POLICY, LimitsWatch
from hawser.verification.places import place_of
from hawser.verification.report import LABELS, summary, written
from hawser.verification.storm import Storm, together, traced, weathered
from nonsense import Babbling

GROUPS, EACH = 10, 20
KILLED_GROUPS, KILLED_EACH = 4, 6
RAGING = Weather(
    "raging",
    reject=0.3,
    lost=0.12,
    mute=0.12,
    duplicate=0.15,
    late=0.1,
    pieces=0.6,
    slip_ticks=20,
    drops=1.0,
    squalls=3.0,
    halts=0.5,
    latency_ms=140.0,
    latency_tail=1.0,
)


@pytest.mark.parametrize("group", range(GROUPS))
def test_no_gale_breaks_a_promise(group):
    """Never without cover past the deadline, never two entries for one request, never more
    protection than position, no fill lost, nothing loosened in the heat."""
    met = Counter()
    for seed in range(group * EACH, (group + 1) * EACH):
        found = Storm(seed, "gale").run(4)
        assert not found.broken, (seed, found.broken)
        assert found.longest_exposed <= 5 * SECOND
        met.update(found.faults)
    rare = {"shut", "call", "still", "jump", "smaller", "hand", "adjust"}  # some gusts in an hour
    assert all(met[kind] for kind in KINDS if kind not in rare), met


@pytest.mark.parametrize("group", range(KILLED_GROUPS))
def test_no_gale_and_no_kill_breaks_a_promise(group):
    """On a real ledger, killed now and then, the disk full for a while, another tick or step
    afterwards: the record also folds to the state and replays to its commands."""
    kills, met = 0, Counter()
    for seed in range(1000 + group * KILLED_EACH, 1000 + (group + 1) * KILLED_EACH):
        found = weathered(seed, "gale", 6, kills=0.08)
        assert not found.broken, (seed, found.broken)
        kills += found.kills
        met.update(found.faults)
    assert kills >= KILLED_EACH
    assert (
        met["instrument"]
        + met["full disk"]
        + met["hanging disk"]
        + met["sleep"]
        + met["older record"]
    )


def test_with_every_guard_on_no_entry_passes_one_and_every_switch_trips():
    """Killed now and then; what may pass is reckoned apart from the engine."""
    told = Counter()
    for seed in range(9):
        with pytest.MonkeyPatch.context() as patch:
            heard = GuardWatch.heard

            def count(self, entry, state, heard=heard):
                told.update(command.code for command in entry[1] if isinstance(command, Tell))
                return heard(self, entry, state)

            patch.setattr(GuardWatch, "heard", count)
            found = weathered(seed, "gale", 8, kills=0.05, guards=True)
        assert not found.broken, (seed, found.broken)
    assert told["guard_tripped"] > 10
    assert told["guard_closed"] > 10
    assert told["guard_rearmed"] > 5


def test_the_watch_over_the_guards_can_fail():
    storm = Storm(3, "calm", guards=True)
    watch, state = storm._guards, storm.state
    symbol = "CAD/CHF"
    entry = Submit(
        order="x",
        trade="T",
        symbol=symbol,
        role="entry",
        side=1,
        kind="market",
        steps=1,
        level=None,
        closes=None,
        why="",
    )
    event = NewsEvent(state.now + 30 * SECOND, "CAD", "high", "x")
    assert not list(GuardWatch(()).heard((TimerFired(time=state.now, name="x"), [entry]), state))
    window = GuardWatch((Calendar("c", (event,)),))
    assert "window" in next(window.heard((TimerFired(time=state.now, name="x"), [entry]), state))
    latch = Tell(
        weight="alarm", code="guard_tripped", text="closes entries", guard="pair", subject=symbol
    )
    list(watch.heard((TimerFired(time=state.now, name="x"), [latch]), state))
    passed = list(
        watch.heard((TimerFired(time=event.time + 900 * SECOND, name="x"), [entry]), state)
    )
    assert any("pair was latched" in text for text in passed)
    assert not list(watch.untripped(state))
    state.equity = 62_000.0
    assert {text.partition(" ")[0] for text in watch.untripped(state)} == {"loss", "fall", "floor"}


def test_fair_weather_leaves_nothing_exposed_for_long():
    for seed in range(5):
        found = Storm(seed, "fair").run(6)
        assert not found.broken
        assert found.longest_naked < SECOND


def test_the_worst_weather_still_ends_in_order():
    """More faults than any deadline can be kept in: alarms, and all is settled once the air is
    clear."""
    for seed in range(10):
        found = Storm(seed, RAGING).run(6)
        late = [what for what in found.broken.pop("naked", []) if "exposed for" not in what]
        assert not late, (seed, late)
        assert not found.broken, (seed, found.broken)


def test_a_venue_that_tells_nonsense_ends_no_tending(monkeypatch):
    """What cannot be is set aside. Promises about money cannot be kept where the venue lies; an
    error nobody foresaw would be ours."""
    monkeypatch.setattr("hawser.verification.storm.Overheard", Babbling)
    for seed in (*range(18), 121, 133):
        found = weathered(seed, "gale", 6, kills=0.05)
        assert "unfinished" not in found.broken, (seed, found.broken)


def test_a_storm_can_be_repeated_with_its_kills(tmp_path):
    first, second = weathered(76, "gale", 6, kills=0.2), weathered(76, "gale", 6, kills=0.2)
    assert first == second
    assert first.kills
    found, lines = traced(76, "gale", 6, kills=0.2)
    assert found == first
    assert any("Ask the venue for all it holds" in line.text for line in lines)


def test_the_judge_sees_a_position_stripped_that_an_older_record_lacks():
    storm = Storm(12, "calm")
    trade = protected_trade(storm)
    storm.judge.put_back()
    trade.entry.order_id = "another"  # as if the record had no such trade
    storm.judge.look()
    assert "naked" not in storm.found.broken
    storm.state.reconciled = False  # which excuses nothing
    storm.venue.book._resting[trade.symbol].clear()
    storm.judge.look()
    assert any("no trade in the record" in text for text in storm.found.broken["naked"])


def test_the_judge_knows_what_nobody_has_told_hawser_yet():
    """Storm 8150007: a hand took back one of nine stops, and what closed the trade let Hawser take
    back another."""
    storm = Storm(12, "calm")
    trade = protected_trade(storm)
    own = storm.state.orders_of(trade, "stop")[0]
    rests, book = storm.venue.book.state.orders[own.id], storm.venue.book
    # a second stop that nobody needs
    storm.state.orders["another"] = msgspec.structs.replace(own, id="another")
    trade.live_ids.append("another")
    book.state.orders["another"] = msgspec.structs.replace(rests, id="another")
    rests.status = "cancelled"
    book._resting[trade.symbol] = [book.state.orders["another"]]
    storm.judge.sent(port.CancelOrder(id="another"))
    assert storm.found.broken.pop("stripped")  # the venue took it back, and that is never untold
    storm.venue.meddled.add(own.id)
    storm.judge.sent(port.CancelOrder(id="another"))
    assert "stripped" not in storm.found.broken


def test_what_one_of_several_accounts_broke_says_how_to_trace_it():
    one, other = Findings(10), Findings(1_000_000_027)
    one.broke("naked", "a")
    other.broke("naked", "b")
    other.broke("floods", "c")
    said = "beside it, in storm 1000000027: "
    assert one.joined(other).broken == {"naked": ["a", f"{said}b"], "floods": [f"{said}c"]}


def test_accounts_beside_each_other_leave_the_records_that_each_leaves_alone(tmp_path):
    """What they share is the interpreter: whatever one account keeps outside its own state, another
    would meet."""

    def storms(name):
        return [
            Storm(seed, "gale", Ledger(tmp_path / f"{name}-{seed}.sqlite"), kills=0.1)
            for seed in (0, 3, 10)
        ]

    beside, alone = storms("beside"), storms("alone")
    found = together(beside, 5)
    for storm in alone:
        storm.run(5)
        storm.session.close()
    assert len({storm.account.currency for storm in alone}) == 3
    assert found.trades == sum(storm.found.trades for storm in alone)
    assert found.kills > 2
    for one, other in zip(beside, alone, strict=True):
        rows = [
            [msgspec.msgpack.encode(row) for row in Ledger(s.ledger.path).rows()]
            for s in (one, other)
        ]
        assert rows[0] == rows[1]


def test_the_records_of_the_same_storm_are_the_same_to_the_byte(tmp_path):
    storms = [Storm(78, "gale", Ledger(tmp_path / f"{name}.sqlite")) for name in "ab"]
    for storm in storms:
        storm.run(4)
    rows = [[msgspec.msgpack.encode(row) for row in storm.ledger.rows()] for storm in storms]
    assert rows[0] == rows[1]
    assert len(rows[0]) > 100
    for storm in storms:
        storm.session.close()


def protected_trade(storm):
    """The first trade of a calm storm that is protected."""
    for _ in range(60):
        storm._act()
        storm.watch(storm.venue.now + 5 * SECOND)
        found = [
            trade
            for trade in storm.state.live()
            if trade.state == "protected" and storm.judge._cover(trade.entry.order_id, trade.symbol)
        ]
        if found:
            return found[0]
    raise AssertionError("no trade came to be protected")


def test_the_judge_can_fail():
    """A storm whose book is tampered with is found out: a stop too many, a lost fill, a rung twice,
    no cover."""
    storm = Storm(12, "calm")
    trade = protected_trade(storm)
    book, broken, judge = storm.venue.book, storm.found.broken, storm.judge
    stop = next(
        order
        for order in book.resting(trade.symbol)
        if order.closes == trade.entry.order_id and order.kind == "stop"
    )
    long_ago = storm.venue.now - SHOWN_FALSELY - 1
    judge._whole[trade.entry.order_id] = long_ago
    rests = book._resting[trade.symbol]
    book._resting[trade.symbol] = [order for order in rests if order.closes != trade.entry.order_id]
    judge.look()
    assert "uncovered" in broken
    book._resting[trade.symbol] = [*rests, msgspec.structs.replace(stop, id="S-forged")]
    judge._fitting[trade.entry.order_id] = storm.venue.now - FITS_AFTER - 1
    judge.look()
    assert "overcovered" in broken
    broken.clear()
    judge.settled()
    assert "overcovered" in broken
    storm.state.orders[trade.entry.order_id].fills.clear()
    judge._fills()
    assert "lost_fills" in broken
    trade.ladder.rungs = [Rung(2, 100, 4, filled=4)]
    for name in ("S-r1", "S-r2"):  # the same rung sent twice over
        storm.state.orders[name] = Order(name, trade.id, "rung", 1, "limit", 4, 100, 2, filled=4)
        trade.order_ids.append(name)
    judge._entries()
    assert "doubled" in broken
    trade.ladder.rungs[0].filled = 8  # known as such, and still twice what was to be
    broken.clear()
    judge._entries()
    assert "doubled" in broken
    book.state.positions[trade.entry.order_id].steps += 1
    book._resting[trade.symbol].clear()
    judge._agree()
    assert "naked" in broken
    assert f"venue {trade.open_steps + 1}" in broken["lost_fills"][-1]


def test_a_stop_that_the_venue_put_elsewhere_counts_there_once_that_is_told():
    """What Hawser could not know is no fault of its entries."""
    storm = Storm(12, "calm")
    trade = protected_trade(storm)
    book, judge = storm.venue.book, storm.judge
    stop = next(
        order
        for order in book.resting(trade.symbol)
        if order.closes == trade.entry.order_id and order.kind == "stop"
    )
    asked, moved = stop.level, book.adjust(stop.id, -3 * trade.side)
    assert moved == asked - 3 * trade.side
    assert judge.stop_levels(trade.entry.order_id, trade.symbol) == [asked]
    level = storm.venue.instruments[trade.symbol].price(moved)
    judge.told(port.Amended(time=storm.venue.now, id=stop.id, level=level, qty="1"))
    assert judge.stop_levels(trade.entry.order_id, trade.symbol) == [moved]


def test_the_judge_counts_floods_and_time_without_cover():
    storm = Storm(12, "calm")
    trade = protected_trade(storm)
    amend = port.AmendOrder(storm.state.orders_of(trade, "stop")[0].id, level="0.6", qty="0.1")
    for _ in range(FLOOD):
        storm.judge.sent(amend)
    assert "floods" not in storm.found.broken
    storm.judge.sent(amend)
    assert "floods" in storm.found.broken
    trade.cover.exposed_since = storm.state.now - 6 * SECOND
    storm.judge._blocked.clear()
    storm.judge.look()
    # it has its stop at the venue, whatever is believed of it
    assert "naked" not in storm.found.broken
    storm.venue.book._resting[trade.symbol].clear()
    storm.judge.look()
    assert "exposed for" in storm.found.broken["naked"][0]


def test_the_watch_over_limits_can_fail():
    storm = Storm(3, "gale")
    state = storm.state
    watch = LimitsWatch(state)
    assert not list(watch.look(state))
    spread = msgspec.structs.replace(POLICY.guard[0], max_ticks=400.0)
    state.guards = msgspec.structs.replace(
        POLICY, guard=(spread, *POLICY.guard[2:]), day_starts="17:00", loosen="now"
    )
    found = " ".join(watch.look(state))
    for told in ("spread: max_ticks from 120.0 to 400.0", "count is gone", "day_starts", "loosen"):
        assert told in found
    account = storm.state.account
    state.guards = POLICY
    state.account = msgspec.structs.replace(
        account, policy=msgspec.structs.replace(account.policy, never_widen=True)
    )
    watch = LimitsWatch(state)
    state.account = msgspec.structs.replace(
        account, policy=msgspec.structs.replace(account.policy, never_widen=False)
    )
    assert "account: never_widen" in list(watch.look(state))


def test_the_watch_over_filters_can_fail():
    place = place_of(0)
    kinds = {one.name: one for seed in range(20) for one in filters.drawn(seed, place)}
    assert set(kinds) == {"pause", "wild", "regime"}
    watch, state = FiltersWatch(place, tuple(kinds.values())), Storm(0, "calm").state
    symbol = place.world[0][0].symbol
    state.measures = {symbol: {filters.WILD.measure_key: 50.0}}

    def told(minutes, side=1):
        entry = Submit(
            order="x",
            trade="T",
            symbol=symbol,
            role="entry",
            side=side,
            kind="market",
            steps=1,
            level=None,
            closes=None,
            why="",
        )
        return " ".join(
            watch.heard((TimerFired(time=place.start + minutes * MINUTE, name="x"), [entry]), state)
        )

    assert not told(1)
    assert "within the hours" in told(2)
    assert not told(3)
    for number, close in enumerate((1.0, 2.0, 3.0)):
        bar = BarCompleted(
            time=place.start,
            symbol=symbol,
            span=MINUTE,
            opened=place.start + number * MINUTE,
            open=close,
            high=close,
            low=close,
            close=close,
            spread=1.0,
            atr=0.1,
        )
        assert not list(watch.heard((bar, []), state))
    assert not told(4)
    assert "against the regime" in told(4, side=-1)
    state.measures = {symbol: {filters.WILD.measure_key: 100.0}}
    assert "at a percentile of 100.0" in told(4)
    state.measures = {}
    assert "at a percentile of None" in told(4)


def test_storms_blow_at_other_moments_over_other_instruments_and_far_away():
    places = [place_of(seed) for seed in range(200)]
    assert len({place.start for place in places}) > 6
    assert len({one.tick for place in places for one, _ in place.world}) > 5
    assert len({place.zone for place in places}) == 3
    assert {place.far for place in places} == {1.0, 3.0}
    crossing = [place for place in places if place.clock(0) > place.clock(9)]
    assert crossing  # some go over midnight


def test_the_watch_over_sizes_can_fail():
    storm = Storm(12, "calm")
    trade = protected_trade(storm)
    state, policy = storm.state, storm.account.policy
    entry = storm.venue.book.state.orders[trade.entry.order_id]
    sent = Submit(
        order=entry.id,
        trade=trade.id,
        symbol=trade.symbol,
        role="entry",
        side=trade.side,
        kind="market",
        steps=entry.steps,
        level=trade.ref,
        closes=None,
        why="",
    )

    def told(steps=1, **limits):
        state.account = msgspec.structs.replace(
            storm.account, policy=msgspec.structs.replace(policy, **limits)
        )
        again = msgspec.structs.replace(sent, steps=entry.steps * steps)
        return " ".join(storm._sizes.heard((TimerFired(time=state.now, name="x"), [again]), state))

    assert not told(
        max_positions=len(state.live()), max_heat_percent=5.0, max_currency_heat_percent=5.0
    )
    assert "risks" in told(steps=2)
    assert "trade of 0" in told(max_positions=0)
    assert "the heat is" in told(max_heat_percent=0.01)
    assert "the currency heat is" in told(max_currency_heat_percent=0.01)
    wide = {"max_heat_percent": 5.0, "max_currency_heat_percent": 5.0}
    # on its way to be wider: the venue may have it there already
    trade.stop -= 20 * trade.side * trade.r_ticks
    assert "the heat is" in told(**wide)
    trade.stop += 20 * trade.side * trade.r_ticks
    assert not told(**wide)


def test_hawser_storm_as_a_process():
    done = subprocess.run(
        [sys.executable, "-m", "hawser", "storm", "--seeds", "4", "--json"],
        capture_output=True,
        text=True,
        check=False,
        timeout=900,
    )
    assert done.returncode == 0, done.stderr
    told = json.loads(done.stdout)
    assert told["storms"] == 4
    assert all(told[kind] == 0 for kind in LABELS)
    assert told["trades"] > 20


def test_a_storm_that_never_ends_is_told_and_costs_no_other(monkeypatch):
    monkeypatch.setattr("hawser.verification.storm.STUCK_AFTER", 3)
    stuck = weathered(76, "gale", 6)
    assert "events in one moment" in stuck.broken["unfinished"][0]
    text = written(summary([Findings(30), stuck], 1.0))
    assert "storms that did not come to their end: 1" in text
    assert "hawser storm --replay 76" in text


def test_a_broken_promise_is_told_with_its_seed():
    bad = Findings(31, trades=3, simulated=SECOND)
    bad.broke("lost_fills", "entry S-4: ['F7']")
    text = written(summary([Findings(30), bad], 1.0))
    assert "lost fills: 1" in text
    assert "hawser storm --replay 31" in text
    assert "F7" in text
