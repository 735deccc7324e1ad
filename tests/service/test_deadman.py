"""The dead man's watch: a Hawser that is killed or frozen with positions open, in processes of
their own."""

from __future__ import annotations

import contextlib
import signal
import subprocess
import sys
import threading
import time
from decimal import Decimal
from pathlib import Path

import msgspec
import pytest

from hawser.cli import main
from hawser.core.errors import BadInput, Unavailable
from hawser.formats.declared import save
from hawser.service.alerts.settings import AlertSettings, Webhook
from hawser.service.profiles.profile import far_name, profile
from hawser.service.recording import Extent
from hawser.service.timed_io import Patient
from hawser.service.watchdog.control import Alone, Sentry, WatchSettings
from hawser.service.watchdog.heartbeat import Heart, Pulse, read_pulse
from hawser.service.watchdog.process import say
from hawser.service.watchdog.voice import idle_of
from hawser.service.watchdog.watch import (
    DeadMansWatch,
    WatchFinding,
    _closes,
    flatten,
    to_take_back,
)
from hawser.venue import port
from hawser.venue.quay.quay import Quay
from hawser.venue.quay.store import BookStore
from hawser.verification import world as storm_world
from madeup import NO_JSON

# seconds: on a loaded machine a Hawser that is at work may be late with its sign of life
SILENT = "10"
WATCHED = str(Path(__file__).parents[1] / "watched.py")


class Clocked:
    """A watch with a clock of the test's, and what it found."""

    def __init__(self, path: Path, flat=None) -> None:
        self.found: list[WatchFinding] = []
        self.watch = DeadMansWatch(path, 20.0, self.found.append, flat)

    def at(self, *moments: float) -> list[str]:
        self.found.clear()
        for now in moments:
            self.watch.look(now)
        return [one.kind for one in self.found]


def test_silence_with_positions_open_is_told_once_and_so_is_the_return(tmp_path):
    path = tmp_path / "heartbeat.json"
    heart, watch = Heart(path, "demo"), Clocked(path)
    assert watch.at(0.0) == []  # no Hawser has run yet
    heart.beat(0.0, 2, 1)
    assert watch.at(*range(1, 21)) == []
    assert watch.at(21.0, 22.0, 23.0) == ["silent"]
    heart.beat(5.0, 2, 1)
    assert watch.at(24.0) == ["back"]
    assert "2 positions open" in watch.found[0].text
    heart.beat(10.0, 0, 0)
    assert watch.at(*range(25, 80)) == []  # nothing is open: silence costs nothing
    heart.beat(20.0, 1, 0, ended=True)
    assert not watch.watch.look(81.0)


@pytest.fixture(autouse=True)
def patient(monkeypatch):
    """However loaded the machine is, what does not hang is waited for."""
    monkeypatch.setattr("hawser.service.timed_io.WAIT_S", 60.0)


def test_a_disk_that_hangs_hides_no_silence(tmp_path, request, monkeypatch):
    path = tmp_path / "heartbeat.json"
    heart, watch = Heart(path, "demo"), Clocked(path)
    heart.beat(0.0, 1, 0)
    assert watch.at(0.0) == []
    monkeypatch.setattr(
        "hawser.service.watchdog.watch.read_pulse", request.getfixturevalue("hanging")
    )
    assert watch.at(*range(1, 20)) == []
    assert watch.at(20.0) == ["silent"]


def test_the_look_for_a_watch_never_holds_up_who_tends(tmp_path, hanging, monkeypatch):
    """It once opened a file on the engine's thread: a disk that hung stopped all tending."""
    sentry, before = Sentry(profile("demo", tmp_path), print), set(threading.enumerate())
    sentry.settings = WatchSettings(on=True)
    monkeypatch.setattr(Alone, "taken", lambda _: hanging())
    for now in (0.0, 10.0, 20.0):
        sentry.look(now)
    assert sentry.state(AlertSettings()) == "Wanted, not there yet"
    assert len(set(threading.enumerate()) - before) == 1  # one that hangs is enough


def test_a_log_that_hangs_holds_up_no_watch(hanging, monkeypatch):
    monkeypatch.setattr("hawser.service.watchdog.process._LINES", Patient("lines"))
    monkeypatch.setattr("builtins.print", hanging)
    for text in ("one", "two"):
        say(text)


def test_after_a_sleep_of_the_machine_hawser_gets_its_time_again(tmp_path):
    path = tmp_path / "heartbeat.json"
    Heart(path, "demo").beat(0.0, 1, 0)
    watch = Clocked(path)
    assert watch.at(0.0, 0.5, 3600.0, 3601.0, 3605.0, 3609.0, 3613.0, 3617.0) == []
    assert watch.at(3619.0, 3620.0) == ["silent"]


def test_what_comes_of_flattening_is_told(tmp_path):
    path = tmp_path / "heartbeat.json"
    Heart(path, "demo", "/there").beat(0.0, 0, 2)
    done = Clocked(path, lambda pulse, _: f"Flat at {pulse.venue}")
    assert done.at(0.0, 4.0, 8.0, 12.0, 16.0, 20.0) == ["silent", "flattened"]
    assert "0 positions open and 2 entries waiting: flattening" in done.found[0].text
    assert done.found[1].text == "Flat at /there"

    def fails(pulse: Pulse, _) -> str:
        raise Unavailable("x", "nobody answers")

    failing = Clocked(path, fails)
    assert failing.at(0.0, 4.0, 8.0, 12.0, 16.0, 20.0) == ["silent", "failed"]


def test_flattening_is_tried_until_it_is_done_or_hawser_is_back(tmp_path):
    """A market that is shut for the moment, or a venue that is away, is no reason to leave
    everything open for good."""
    path = tmp_path / "heartbeat.json"
    heart, tries = Heart(path, "demo", "/there"), []
    heart.beat(0.0, 1, 0)

    def shut(pulse: Pulse, _) -> str:
        tries.append(pulse)
        if len(tries) in (3, 5):
            return "Flat"
        raise Unavailable("not_flat", "the venue was not flat after 60 s")

    watch = Clocked(path, shut)
    assert watch.at(*range(0, 21, 4)) == ["silent", "failed"]
    assert watch.found[1].text == (
        "Not flattened: the venue was not flat after 60 s; it is tried again every 30 s"
    )
    assert watch.at(*range(24, 90, 4)) == ["flattened"]
    assert len(tries) == 3
    # what is opened there by hand from now on is nobody else's
    assert watch.at(*range(92, 400, 4)) == []
    heart.beat(1.0, 1, 0)
    assert watch.at(*range(400, 424, 4)) == ["back", "silent", "failed"]
    heart.beat(2.0, 1, 0)
    assert watch.at(424, 428) == ["back"]
    assert len(tries) == 4


def test_whatever_goes_wrong_with_flattening_the_watch_goes_on(tmp_path):
    path = tmp_path / "heartbeat.json"
    Heart(path, "demo", "/there").beat(0.0, 1, 0)
    answers = iter((ValueError("a quantity nobody can read"), OSError("the line is down")))

    def stumbles(pulse: Pulse, _) -> str:
        raise next(answers)

    watch = Clocked(path, stumbles)
    assert watch.at(*range(0, 21, 4)) == ["silent", "failed"]
    assert "a quantity nobody can read" in watch.found[1].text
    assert watch.at(*range(24, 56, 4)) == []  # tried again, told once
    assert next(answers, None) is None


def test_a_watch_that_can_tell_nobody_closes_all_the_same(tmp_path, monkeypatch):
    """What it says goes into a file: on a disk that is full, no line of it."""
    path, closed = tmp_path / "heartbeat.json", []
    Heart(path, "demo", "/there").beat(0.0, 1, 0)
    full = Path("/dev/full").open("w", buffering=1)  # noqa: SIM115  # its end fails too
    watch = DeadMansWatch(
        path,
        20.0,
        lambda finding: print(finding.text, file=full, flush=True),
        lambda *_: closed.append(1),
    )
    for now in range(0, 25, 4):
        watch.look(float(now))
    with monkeypatch.context() as nobody:
        nobody.setattr(sys, "stderr", full)
        say("nobody reads this")
    with contextlib.suppress(OSError):
        full.close()
    assert closed == [1]


def test_whatever_a_look_fails_by_the_next_one_is_taken(tmp_path, monkeypatch):
    looks = iter((MemoryError(), OSError("no more files"), MemoryError()))
    watch = Clocked(tmp_path / "heartbeat.json")

    def look(now):
        error = next(looks, None)
        if error is not None:
            raise error
        return False

    monkeypatch.setattr("hawser.service.watchdog.watch.LOOK", 0.0)
    monkeypatch.setattr(watch.watch, "look", look)
    assert watch.watch.run()
    assert [one.kind for one in watch.found] == ["failed"]


def test_flattening_ends_where_hawser_wakes_meanwhile(tmp_path):
    """The two would take the line to the venue from each other, and Hawser tends again."""
    path, still = tmp_path / "heartbeat.json", []
    heart = Heart(path, "demo", "/there")
    heart.beat(0.0, 1, 0)

    def slow(pulse: Pulse, silent) -> str:
        still.append(silent())
        heart.beat(20.0, 1, 0)
        still.append(silent())
        raise Unavailable("back", "Hawser gave signs of life meanwhile")

    watch = Clocked(path, slow)
    # an alarm that it was not done would be false
    assert watch.at(*range(0, 25, 4)) == ["silent", "back"]
    assert still == [True, False]
    assert watch.at(*range(28, 40, 4)) == []


def test_the_first_thing_to_lose_is_told_at_once(tmp_path):
    """Who dies within the same second had said that nothing is open: a watch would never have
    closed anything."""
    heart = Heart(tmp_path / "heartbeat.json", "demo")
    heart.beat(0.0, 0, 0)
    heart.beat(0.1, 0, 1)
    assert read_pulse(heart.path).waiting == 1
    heart.beat(0.2, 1, 0)  # a second has not gone by
    assert read_pulse(heart.path).waiting == 1


def test_what_may_still_open_something_is_taken_back_first_and_stops_last():
    position = port.PositionTold(id="p", symbol="A", side=1, qty="1")
    held = port.HoldingsTold(
        time=0,
        token=1,
        asked=(),
        resting=("stop", "entry"),
        positions=(position,),
        closing={"stop": "p"},
    )
    assert to_take_back(held) == ["entry"]
    # any of them may be a stop
    assert to_take_back(msgspec.structs.replace(held, closing=None)) == []
    assert to_take_back(msgspec.structs.replace(held, positions=())) == ["stop", "entry"]


def test_a_hawser_that_cannot_write_is_asked_before_it_is_taken_for_dead(tmp_path, monkeypatch):
    """Its disk hangs: a watch would have closed everything."""
    path = tmp_path / "heartbeat.json"
    heart, watch = Heart(path, "demo"), Clocked(path)
    heart.speak()
    heart.beat(0.0, 2, 0)
    assert watch.at(*range(0, 21, 4)) == ["unwritten"]
    assert watch.at(*range(24, 120, 4)) == []  # told once
    heart.beat(5.0, 2, 0)
    assert watch.at(124) == []
    at_work = time.monotonic()
    monkeypatch.setattr(time, "monotonic", lambda: at_work + 20.5)  # it is there, and does nothing
    assert watch.at(*range(128, 150, 4)) == ["silent"]
    heart.end()
    assert idle_of(path) is None


def test_only_the_same_person_s_processes_are_believed(tmp_path, monkeypatch):
    heart = Heart(tmp_path / "heartbeat.json", "demo")
    assert idle_of(heart.path) is None
    heart.speak()
    assert 0 <= idle_of(heart.path) < 60
    monkeypatch.setattr("os.getuid", lambda: 12345)
    assert idle_of(heart.path) is None
    heart.end()


def test_a_sign_of_life_that_is_gone_is_no_sign_of_life(tmp_path):
    path = tmp_path / "heartbeat.json"
    Heart(path, "demo").beat(0.0, 2, 0)
    watch = Clocked(path)
    assert watch.at(0.0) == []
    path.unlink()
    assert watch.at(*range(4, 21, 4)) == ["silent"]


def test_a_full_disk_is_no_death(tmp_path):
    """Nothing new can be written; the watch would have closed everything."""
    path = tmp_path / "heartbeat.json"
    heart, watch = Heart(path, "demo"), Clocked(path)
    heart.beat(0.0, 12, 1, extent=Extent("a" * 200, 5))
    assert watch.at(0.0, 4.0) == []
    path.with_suffix(".new").mkdir()  # in the place of what has no room
    for now in range(5, 65, 3):
        heart.beat(float(now), 3, 0)
        assert watch.at(now) == []
    assert (read_pulse(path).open, read_pulse(path).waiting) == (3, 0)
    assert watch.at(*range(63, 90, 2)) == ["silent"]  # and then it dies


def test_a_pulse_that_cannot_be_read_or_written_harms_nobody(tmp_path):
    path = tmp_path / "heartbeat.json"
    for damaged in NO_JSON:
        path.write_bytes(damaged)
        assert read_pulse(path) is None
    path.unlink()
    path.mkdir()
    Heart(path, "demo").beat(0.0, 1, 0)


def test_a_folder_that_another_hand_has_removed_is_there_again_for_the_next_pulse(tmp_path):
    heart = Heart(tmp_path / "state" / "heartbeat.json", "demo")
    heart.beat(0.0, 1, 0)
    heart.beat(1.0, 2, 0)
    assert read_pulse(heart.path).open == 2
    assert heart.path.parent.stat().st_mode & 0o077 == 0


@pytest.fixture
def quay(tmp_path):
    socket = tmp_path / "quay.sock"
    command = [
        sys.executable,
        "-m",
        "hawser",
        "quay",
        "--socket",
        str(socket),
        "--speed",
        "5",
        "--severity",
        "calm",
    ]
    process = subprocess.Popen(command, stderr=subprocess.PIPE, text=True)
    assert "listens" in process.stderr.readline()
    process.stderr.close()
    yield socket
    process.terminate()
    process.wait(300)


def positions(socket: Path) -> int:
    store = BookStore(socket.with_suffix(".sqlite"))
    book = store.load()
    store.close()
    return len(book.positions)


@pytest.mark.parametrize("how", [signal.SIGKILL, signal.SIGSTOP])
def test_a_hawser_that_is_killed_or_frozen_is_noticed_and_its_positions_are_closed(
    quay, tmp_path, how
):
    root = tmp_path / "profile"
    hawser = subprocess.Popen(
        [sys.executable, WATCHED, str(quay), str(root), "2"], stdout=subprocess.PIPE, text=True
    )
    watch = None
    try:
        for line in hawser.stdout:
            if line.strip() == "held 2":
                break
        command = [
            sys.executable,
            "-m",
            "hawser",
            "watch",
            "--quay",
            str(quay),
            "--silent",
            SILENT,
            "--flatten",
            "--profile-root",
            str(root),
        ]
        watch = subprocess.Popen(command, stderr=subprocess.PIPE, text=True)
        assert "Watching" in watch.stderr.readline()
        assert positions(quay) == 2
        hawser.send_signal(how)
        told = [watch.stderr.readline() for _ in range(2)]
        assert "silent for" in told[0], told
        assert "2 positions open" in told[0], told
        assert "Flat: " in told[1], told
        assert positions(quay) == 0
    finally:
        for process in (watch, hawser):
            if process is not None:
                process.kill()
                process.wait(300)
                (process.stdout or process.stderr).close()


def test_hawser_starts_a_watch_of_its_own_that_outlives_it_and_goes_when_it_is_not_wanted(
    quay, tmp_path
):
    chosen = profile(far_name(quay), tmp_path / "profile")
    save(WatchSettings(on=True, silent_s=float(SILENT), flatten=True), chosen.watch)
    lock = Alone(chosen)
    hawser = subprocess.Popen(
        [sys.executable, WATCHED, str(quay), str(tmp_path / "profile"), "2"],
        stdout=subprocess.PIPE,
        text=True,
    )
    try:
        for line in hawser.stdout:
            if line.strip() == "held 2":
                break
        until(lock.taken)
        hawser.kill()
        hawser.wait(300)
        until(lambda: positions(quay) == 0)
        until(lambda: "Flat: " in (chosen.state / "watch.log").read_text())
        assert lock.taken()  # it goes on: Hawser may come back
        # one is enough
        assert (
            main(["watch", "--quay", str(quay), "--profile-root", str(tmp_path / "profile")]) == 0
        )
    finally:
        hawser.kill()
        hawser.stdout.close()
        save(WatchSettings(on=False), chosen.watch)
        until(lambda: not lock.taken())
    assert "No watch is wanted any more" in (chosen.state / "watch.log").read_text()


def until(condition, seconds=300.0):
    end = time.monotonic() + seconds
    while not condition():
        assert time.monotonic() < end, "it did not come to that"
        time.sleep(0.1)


def test_a_watch_that_cannot_be_started_now_is_started_later(tmp_path, monkeypatch):
    chosen, started, wrong = profile("demo", tmp_path).made(), threading.Event(), []
    sentry = Sentry(chosen, wrong.append)
    sentry.settings = WatchSettings(on=True)
    with monkeypatch.context() as full:
        full.setattr(
            threading.Thread,
            "start",
            lambda thread: (_ for _ in ()).throw(RuntimeError("no more threads")),
        )
        with pytest.raises(RuntimeError):
            sentry.look(0.0)

    def run(*command, **options):
        started.set()
        raise MemoryError

    monkeypatch.setattr("subprocess.run", run)
    sentry.look(100.0)
    assert started.wait(60)
    until(lambda: wrong)
    assert wrong[0].startswith("The dead man's watch cannot be started")


def test_settings_of_the_watch_are_checked_and_a_venue_that_ends_is_not_flattened(tmp_path):
    chosen, wrong = profile("demo", tmp_path), []
    chosen.watch.write_text("silent_s = 0.1\n")
    sentry = Sentry(chosen, wrong.append)
    sentry.begin("")
    assert "expected 2 to 3600 seconds; nobody watches over Hawser" in wrong[0]
    with pytest.raises(BadInput, match="ends with Hawser"):
        sentry.change(WatchSettings(on=True, flatten=True))
    assert sentry.state(AlertSettings()).startswith("Off: nobody notices")
    sentry.change(WatchSettings(on=True))
    assert sentry.state(AlertSettings()) == "Wanted, not there yet"
    other = Alone(chosen)
    assert other.take()
    sentry.look(0.0)
    until(lambda: "can tell nobody" in sentry.state(AlertSettings()))
    hook = AlertSettings(webhook=Webhook("https://a.example/x"))
    assert sentry.state(hook).endswith("with positions open it alerts by webhook")
    other.leave()


def test_flattening_where_nobody_listens_is_told(tmp_path):
    with pytest.raises(Unavailable):
        flatten(tmp_path / "none.sock")


def test_nothing_is_closed_for_a_hawser_that_is_back(quay):
    with pytest.raises(Unavailable, match="signs of life"):
        flatten(quay, lambda: False)


def test_the_watch_ends_when_hawser_was_closed_and_wrong_options_are_told(tmp_path, capsys):
    chosen = profile("demo", tmp_path)
    Heart(chosen.heartbeat, "demo").beat(0.0, 3, 0, ended=True)
    assert main(["watch", "--demo", "--profile-root", str(tmp_path)]) == 0
    assert "Hawser was closed" in capsys.readouterr().err
    for arguments in (
        ["watch"],
        ["watch", "--demo", "--flatten"],
        ["watch", "--demo", "--silent", "1"],
    ):
        assert main(arguments) == 2
        assert "expected" in capsys.readouterr().err


def test_a_watch_on_a_path_that_is_mistyped_is_told(tmp_path, capsys, monkeypatch):
    assert main(["watch", "--quay", str(tmp_path / "no" / "quay.sock"), "--flatten"]) == 2
    assert f"there is no folder {tmp_path / 'no'}" in capsys.readouterr().err

    def by_hand(*_: object) -> bool:
        raise KeyboardInterrupt

    monkeypatch.setattr(DeadMansWatch, "run", by_hand)
    typo = [
        "watch",
        "--quay",
        str(tmp_path / "quaz.sock"),
        "--flatten",
        "--profile-root",
        str(tmp_path),
    ]
    assert main(typo) == 0
    told = capsys.readouterr().err
    assert "no sign of life of" in told
    assert "Nobody listens at" in told


def test_a_position_beyond_the_greatest_quantity_is_closed_in_parts():
    venue = Quay(
        storm_world.feed_of(storm_world.WORLD, 1),
        "CHF",
        64_000.0,
        dict(storm_world.RATES),
        "calm",
        1,
    )
    harbour = venue.instruments["Harbour 40"]
    held = port.PositionTold("p", "Harbour 40", 1, harbour.qty(harbour.qty_max_steps * 2 + 3))
    parts = list(_closes(venue, held))
    assert [one.qty for one in parts[:2]] == [harbour.qty(harbour.qty_max_steps)] * 2
    assert sum(Decimal(one.qty) for one in parts) == Decimal(held.qty)
    assert {(one.side, one.closes, one.kind) for one in parts} == {(-1, "p", "market")}
