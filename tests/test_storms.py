"""Engine and Quay back to back in bad weather: at least 300 seeded storms, and not one broken promise."""

import msgspec
import pytest

from hawser.core.clock import SECOND
from hawser.ledger.ledger import Ledger
from hawser.venue.quay.weather import Weather
from storms import Storm

GROUPS = 30
EACH = 10
RAGING = Weather("raging", reject=0.3, lost=0.12, mute=0.12, latency_ms=140.0, latency_tail=1.0)


@pytest.mark.parametrize("group", range(GROUPS))
def test_no_gale_breaks_a_promise(group):
    """Never without cover past the deadline, never two entries for one request, never more protection than position."""
    for seed in range(group * EACH, (group + 1) * EACH):
        found = Storm(seed, "gale").run()
        assert found.trades > 3, seed
        assert found.requests > 20, seed
        assert not found.broken, (seed, found.broken[:3])
        assert found.longest_exposed <= 5 * SECOND


def test_fair_weather_leaves_nothing_exposed_for_long():
    for seed in range(5):
        found = Storm(seed, "fair").run(6)
        assert not found.broken
        assert found.longest_naked < SECOND


def test_the_worst_weather_still_ends_in_order():
    """More faults than any deadline can be kept in: alarms, and all is settled once the air is clear."""
    for seed in range(10):
        found = Storm(seed, RAGING).run(6)
        assert not [what for what in found.broken if "exposed for" not in what], (seed, found.broken)


def test_a_storm_can_be_repeated(tmp_path):
    first, second = (Storm(77, "gale", Ledger(tmp_path / f"{name}.sqlite")) for name in "ab")
    found = [first.run(5), second.run(5)]
    assert found[0] == found[1]
    rows = [[msgspec.msgpack.encode(row) for row in storm.ledger.rows()] for storm in (first, second)]
    assert rows[0] == rows[1]
    assert len(rows[0]) > 100
    for storm in (first, second):
        storm.session.close()
