"""Engine, ledger and Quay back to back in bad weather: more than 300 seeded storms, and not one broken promise."""

import json
import subprocess
import sys
from collections import Counter

import msgspec
import pytest

from hawser.core.clock import SECOND
from hawser.core.guards.news import Calendar, NewsEvent
from hawser.engine.commands import Submit, Tell
from hawser.engine.events import TimerFired
from hawser.engine.state import Order, Rung
from hawser.ledger.ledger import Ledger
from hawser.service.storm import Findings, Storm, traced, weathered
from hawser.service.stormguards import GuardWatch
from hawser.service.stormreport import LABELS, summary, written
from hawser.venue.quay.weather import KINDS, Weather

GROUPS, EACH = 30, 10
KILLED_GROUPS, KILLED_EACH = 4, 8
RAGING = Weather(
    "raging", reject=0.3, lost=0.12, mute=0.12, duplicate=0.15, late=0.1, pieces=0.6, slip_ticks=20, drops=1.0,
    squalls=3.0, halts=0.5, latency_ms=140.0, latency_tail=1.0,
)  # fmt: skip


@pytest.mark.parametrize("group", range(GROUPS))
def test_no_gale_breaks_a_promise(group):
    """Never without cover past the deadline, never two entries for one request, never more protection than position,
    no fill lost."""
    met = dict.fromkeys(KINDS, 0)
    for seed in range(group * EACH, (group + 1) * EACH):
        found = Storm(seed, "gale").run(8)
        assert not found.broken, (seed, found.broken)
        assert found.longest_exposed <= 5 * SECOND
        for kind, count in found.faults.items():
            met[kind] += count
    assert all(met.values()), met


@pytest.mark.parametrize("group", range(KILLED_GROUPS))
def test_no_gale_and_no_kill_breaks_a_promise(group):
    """On a real ledger, killed now and then: the record also folds to the state and replays to its commands."""
    kills = 0
    for seed in range(1000 + group * KILLED_EACH, 1000 + (group + 1) * KILLED_EACH):
        found = weathered(seed, "gale", 6, kills=0.08)
        assert not found.broken, (seed, found.broken)
        kills += found.kills
    assert kills >= KILLED_EACH


def test_with_every_guard_on_no_entry_passes_one_and_every_switch_trips():
    """Killed now and then; what may pass is reckoned apart from the engine."""
    told = Counter()
    for seed in range(16):
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
    entry = Submit(order="x", trade="T", symbol=symbol, role="entry", side=1, kind="market", steps=1, level=None,
                   closes=None, why="")  # fmt: skip
    event = NewsEvent(state.now + 30 * SECOND, "CAD", "high", "x")
    assert not list(GuardWatch(()).heard((TimerFired(time=state.now, name="x"), [entry]), state))
    window = GuardWatch((Calendar("c", (event,)),))
    assert "window" in next(window.heard((TimerFired(time=state.now, name="x"), [entry]), state))
    latch = Tell(weight="alarm", code="guard_tripped", text="closes entries", guard="pair", subject=symbol)
    list(watch.heard((TimerFired(time=state.now, name="x"), [latch]), state))
    passed = list(watch.heard((TimerFired(time=event.time + 900 * SECOND, name="x"), [entry]), state))
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
    """More faults than any deadline can be kept in: alarms, and all is settled once the air is clear."""
    for seed in range(10):
        found = Storm(seed, RAGING).run(6)
        late = [what for what in found.broken.pop("naked", []) if "exposed for" not in what]
        assert not late, (seed, late)
        assert not found.broken, (seed, found.broken)


def test_a_storm_can_be_repeated_with_its_kills(tmp_path):
    first, second = weathered(76, "gale", 6, kills=0.2), weathered(76, "gale", 6, kills=0.2)
    assert first == second
    assert first.kills
    found, lines = traced(76, "gale", 6, kills=0.2)
    assert found == first
    assert any("Ask the venue for all it holds" in line.text for line in lines)


def test_the_records_of_the_same_storm_are_the_same_to_the_byte(tmp_path):
    storms = [Storm(78, "gale", Ledger(tmp_path / f"{name}.sqlite")) for name in "ab"]
    for storm in storms:
        storm.run(4)
    rows = [[msgspec.msgpack.encode(row) for row in storm.ledger.rows()] for storm in storms]
    assert rows[0] == rows[1]
    assert len(rows[0]) > 100
    for storm in storms:
        storm.session.close()


def test_the_checks_can_fail():
    """A storm whose book is tampered with is found out: an unknown position, a stop too many, a lost fill."""
    storm = Storm(12, "calm")
    for _ in range(60):
        storm._act()
        storm.watch(storm.venue.now + 5 * SECOND)
        if any(trade.state == "protected" for trade in storm.state.live()):
            break
    trade = next(trade for trade in storm.state.live() if trade.state == "protected")
    book = storm.venue.book
    stop = next(order for order in book.resting(trade.symbol) if order.closes == trade.entry and order.kind == "stop")
    book._resting[trade.symbol].append(msgspec.structs.replace(stop, id="S-forged"))
    storm._promises()
    storm._agree()
    assert "overcovered" in storm.found.broken
    storm.state.orders[trade.entry].fills.clear()
    storm._fills()
    assert "lost_fills" in storm.found.broken
    trade.rungs = [Rung(2, 100, 4, filled=4)]
    for name in ("S-r1", "S-r2"):  # the same rung sent twice over
        storm.state.orders[name] = Order(name, trade.id, "rung", 1, "limit", 4, 100, 2, filled=4)
        trade.order_ids.append(name)
    storm._entries()
    assert "doubled" in storm.found.broken
    trade.rungs[0].filled = 8  # known as such, and still twice what was to be
    storm.found.broken.clear()
    storm._entries()
    assert "doubled" in storm.found.broken
    book.state.positions[trade.entry].steps += 1
    book._resting[trade.symbol].clear()
    storm._agree()
    assert "naked" in storm.found.broken


def test_hawser_storm_as_a_process():
    done = subprocess.run(
        [sys.executable, "-m", "hawser", "storm", "--seeds", "4", "--json"],
        capture_output=True, text=True, check=False, timeout=200,
    )  # fmt: skip
    assert done.returncode == 0, done.stderr
    told = json.loads(done.stdout)
    assert told["storms"] == 4
    assert all(told[kind] == 0 for kind in LABELS)
    assert told["trades"] > 20


def test_a_storm_that_never_ends_is_told_and_costs_no_other(monkeypatch):
    monkeypatch.setattr("hawser.service.storm.STUCK_AFTER", 3)
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
