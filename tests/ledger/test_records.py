"""The engine decides as it did: records of storms and stories, replayed, give what was recorded, to
the word.

Where that has changed on purpose, `tests/keep_records.py` keeps new ones.
"""

import lzma
from pathlib import Path

import msgspec
import pytest

from hawser.ledger.verify import verify
from keep_records import RECORDS, SEEDS, briefs_of, gales, steps_of, stories


@pytest.mark.parametrize("seed", SEEDS)
def test_a_recorded_storm_replays_to_the_same_commands(seed, tmp_path):
    path = Path(tmp_path) / "ledger.sqlite"
    path.write_bytes(lzma.decompress((RECORDS / f"{seed}.sqlite.xz").read_bytes()))
    verdict = verify(path)
    told = f"line {verdict.line}\n recorded {verdict.recorded}\n replayed {verdict.replayed}"
    assert not verdict.line, told
    assert verdict.commands > 100


def test_the_recorded_stories_replay_to_the_same_commands_and_the_same_state():
    """The commands of every story first: what a difference in the state comes to is seen in them
    where it matters."""
    other = []
    for name, told in stories().items():
        before = msgspec.msgpack.encode(told)
        again = steps_of(step.event for step in told)
        assert msgspec.msgpack.encode(told) == before, (
            f"{name}: the engine changed an event that it had been told"
        )
        for number, (was, now) in enumerate(zip(told, again, strict=True)):
            assert was.commands == now.commands, f"{name}: event {number}, {was.event}"
            if was.state != now.state and not (other and other[-1][0] == name):
                other.append((name, number, was.event))
    assert not other, f"another state in {len(other)} stories, first of all {other[0]}"


def test_the_recorded_gales_replay_to_the_same_commands_and_the_same_state():
    for name, told in gales().items():
        for number, (was, now) in enumerate(
            zip(told, briefs_of(one.event for one in told), strict=True)
        ):
            assert (was.commands, was.state) == (now.commands, now.state), (
                f"{name}: event {number}, {was.event}"
            )
