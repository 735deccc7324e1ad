"""Quay as a process of its own: either side may be killed, and the other lives on."""

import os
import random
import signal
import socket
import subprocess
import sys
import threading
import time
from pathlib import Path

import msgspec
import pytest

from hawser.core.account import Account
from hawser.core.errors import BadInput, Unavailable
from hawser.ledger.ledger import Ledger
from hawser.service.profiles.profile import profile
from hawser.service.runtime.hooks import Boot, Hooks
from hawser.service.runtime.opening_quay import boot
from hawser.service.runtime.runtime import Runtime
from hawser.service.runtime.session import Session
from hawser.venue import port
from hawser.venue.quay import wire
from hawser.venue.quay.book import BookState
from hawser.venue.quay.client import AGAIN, ANOTHER, GREETING_WAIT_S, SILENT, FarQuay
from hawser.venue.quay.generator import GeneratedFeed
from hawser.venue.quay.quay import Quay
from hawser.venue.quay.server import MOST_CALLERS, Server, listening
from hawser.venue.quay.store import BookStore
from hawser.venue.quay.weather import SEVERITIES
from hawser.verification.storm import Storm
from hawser.verification.world import START, WORLD, World

HERE = Path(__file__).parents[1]
KILLS = int(os.environ.get("HAWSER_KILLS", "5"))


class Running:
    """A `hawser quay` process."""

    def __init__(self, folder: Path, severity: str = "squall") -> None:
        self.socket, self._severity = folder / "quay.sock", severity
        self.start()

    def start(self) -> None:
        command = [
            sys.executable,
            "-m",
            "hawser",
            "quay",
            "--socket",
            str(self.socket),
            "--speed",
            "20",
        ]
        self.process = subprocess.Popen(
            [*command, "--severity", self._severity], stderr=subprocess.PIPE, text=True
        )
        assert self.process.stderr is not None
        assert "listens" in self.process.stderr.readline()
        self.process.stderr.close()

    def kill(self) -> None:
        self.process.send_signal(signal.SIGKILL)
        self.process.wait()

    def stop(self) -> None:
        self.process.terminate()
        self.process.wait(300)


@pytest.fixture
def quay(tmp_path):
    running = Running(tmp_path)
    yield running
    running.stop()


def hawser(folder: Path, quay: Running, seed: int, *more: str) -> subprocess.Popen:
    command = [
        sys.executable,
        str(HERE / "far_hawser.py"),
        str(folder),
        str(quay.socket),
        str(seed),
        *more,
    ]
    return subprocess.Popen(command, stdout=subprocess.PIPE, text=True)


def settled(folder: Path, quay: Running) -> str:
    found, _ = hawser(folder, quay, 0, "settle").communicate(timeout=300)
    return found.splitlines()[-1]


def positions_without_cover(folder: Path) -> list[str]:
    """By the venue's own books: positions of ours that no stop covers whole. Loss steps rest as
    stops beside it."""
    store, ledger = BookStore(folder / "quay.sqlite"), Ledger(folder / "ledger.sqlite")
    book, ours = store.load(), ledger.restore().state.orders
    store.close()
    ledger.close()
    assert isinstance(book, BookState)
    found = []
    for held in book.positions.values():
        stops = [
            one
            for one in book.orders.values()
            if one.closes == held.id
            and one.kind == "stop"
            and one.status == "resting"
            and ours[one.id].role == "stop"
        ]
        if sum(one.steps - one.filled for one in stops) != held.steps:
            found.append(
                f"{held.id}: {held.steps} held, {[one.steps - one.filled for one in stops]} covered"
            )
    return found


def test_hawser_killed_at_any_instant_comes_back_to_a_protected_account(tmp_path, quay):
    draw = random.Random(5)
    for number in range(KILLS):
        process = hawser(tmp_path, quay, number)
        assert process.stdout is not None
        for _ in range(draw.randint(1, 40)):  # it trades, and says what it wrote down
            assert process.stdout.readline()
        process.send_signal(signal.SIGKILL)
        process.communicate()
    assert settled(tmp_path, quay) == "found []"
    quay.stop()
    assert positions_without_cover(tmp_path) == []
    quay.start()


def test_the_venue_killed_under_a_running_hawser_is_found_again(tmp_path, quay):
    process = hawser(tmp_path, quay, 3)
    assert process.stdout is not None
    for _ in range(3):
        for _ in range(20):  # it trades
            assert process.stdout.readline()
        quay.kill()
        quay.start()
    for _ in range(20):  # it lives on
        assert process.stdout.readline()
    process.kill()
    process.communicate()
    assert settled(tmp_path, quay) == "found []"


# The line itself, in one process


@pytest.fixture
def server(tmp_path):
    venue = Quay(GeneratedFeed(WORLD, {}, 1, START, 1), "CHF", 64_000.0, {}, SEVERITIES["calm"])
    served = Server(venue, tmp_path / "q.sock")
    yield served
    served.run(lambda: True)


class Seconds:
    """The clock of a client: it stands still until a test moves it, however long the machine takes
    for a turn."""

    def __init__(self, step: float = 0.0) -> None:
        self.now, self._step = 100.0, step  # the step is made whenever somebody looks at it

    def __call__(self) -> float:
        self.now += self._step
        return self.now


def connected(server: Server, path: Path, seconds: Seconds | None = None) -> FarQuay:
    """A client of a server that is driven by hand."""
    stop = threading.Event()
    thread = threading.Thread(target=lambda: [server.turn() for _ in iter(stop.is_set, True)])
    thread.start()
    try:
        return FarQuay(path, seconds=seconds or Seconds())
    finally:
        stop.set()
        thread.join()


def test_a_client_gets_the_venue_its_history_and_its_answers(tmp_path, server):
    far = connected(server, tmp_path / "q.sock")
    near = server._venue
    assert far.instruments == near.instruments
    symbol = next(iter(far.instruments))
    assert (far.history(symbol).close == near.history(symbol).close).all()
    assert answered(server, far)
    far.close()


def test_what_is_no_frame_ends_the_line_and_nothing_else(tmp_path, server):
    with socket.socket(socket.AF_UNIX, socket.SOCK_STREAM) as line:
        line.connect(str(tmp_path / "q.sock"))
        line.sendall(b"\xff\xff\xff\xffnonsense")
        for _ in range(5):
            server.turn()
        assert line.recv(10) == b""
    connected(server, tmp_path / "q.sock").close()  # the next one is served


def test_a_venue_that_falls_silent_counts_as_a_lost_line(tmp_path, server):
    far = connected(server, tmp_path / "q.sock", seconds := Seconds())
    turned(server, far)
    seconds.now += SILENT
    while (message := far.next_message(0)) is not None:  # what came before it fell silent
        assert not isinstance(message, port.LinkTold)
    seconds.now += 0.001
    message = far.next_message(0)
    assert isinstance(message, port.LinkTold) and not message.up
    assert "does not answer" in message.why
    seconds.now += AGAIN
    # it comes back by itself
    assert [one.up for one in turned(server, far) if isinstance(one, port.LinkTold)] == [True]
    far.close()


def answered(server: Server, far: FarQuay) -> bool:
    """Whether a client gets an answer."""
    far.send(port.AskHoldings(token=7, orders=()), 0)
    end = time.monotonic() + 300
    while time.monotonic() < end:
        if any(
            isinstance(one, port.HoldingsTold) and one.token == 7 for one in turned(server, far, 1)
        ):
            return True
    return False


def turned(server: Server, far: FarQuay, turns: int = 20) -> list[port.VenueMessage]:
    """What a client hears in so many turns."""
    told: list[port.VenueMessage] = []
    for _ in range(turns):
        server.turn()
        while (message := far.next_message(0)) is not None:
            told.append(message)
    return told


def test_who_only_looks_whether_anybody_listens_takes_no_line_away(tmp_path, server):
    """A second venue that is started at the same socket does, and whatever looks for open
    sockets."""
    path = tmp_path / "q.sock"
    far = connected(server, path)
    turned(server, far)
    with pytest.raises(Unavailable):
        Server(server._venue, path)
    nonsense = (
        b"",
        b"\xff\xff\xff\xff",
        wire.framed(wire.Pace(speed=5.0)),
        wire.framed(wire.Hello(not_before=1 << 62)),
    )
    callers = [socket.socket(socket.AF_UNIX, socket.SOCK_STREAM) for _ in range(40)]
    for number, caller in enumerate(callers):
        caller.connect(str(path))
        caller.sendall(nonsense[number % 4])
        assert not [one for one in turned(server, far, 2) if isinstance(one, port.LinkTold)]
    assert len(server._lines) <= 1 + MOST_CALLERS
    assert server._clock.speed == 1.0
    for caller in callers:
        caller.close()
    assert answered(server, far)
    assert list(server._lines) == [server._client]
    far.close()


def test_two_programs_at_one_account_are_told_of_each_other_and_do_not_fight(tmp_path, server):
    path = tmp_path / "q.sock"
    first = connected(server, path, seconds := Seconds())
    turned(server, first)
    second = connected(server, path)
    (lost,) = (one for one in turned(server, first) if isinstance(one, port.LinkTold))
    assert not lost.up
    assert "another program has connected" in lost.why
    seconds.now += ANOTHER - 0.001
    turned(server, first)  # it does not take the line back at once
    assert not [
        one for one in turned(server, second) if isinstance(one, port.LinkTold) and not one.up
    ]
    seconds.now += 0.001
    turned(server, first)
    assert "another program" in next(
        one.why for one in turned(server, second) if isinstance(one, port.LinkTold)
    )
    for far in (first, second):
        far.close()


def another(path: Path, traded: World, currency: str = "CHF") -> Server:
    """Who listens at `path` once the one before is gone."""
    return Server(
        Quay(GeneratedFeed(traded, {}, 1, START, 1), currency, 64_000.0, {}, SEVERITIES["calm"]),
        path,
    )


def heard(far: FarQuay, server: Server, count: int) -> list[port.VenueMessage]:
    """The next messages about the line, and about what is traded on it."""
    told: list[port.VenueMessage] = []
    end = time.monotonic() + 300
    while time.monotonic() < end and len(told) < count:
        server.turn()
        message = far.next_message(0)
        told += [message] if isinstance(message, (port.LinkTold, port.InstrumentsTold)) else []
    return told


def test_who_trades_others_when_the_line_is_back_says_so_before_it_stands(tmp_path, server):
    far = connected(server, tmp_path / "q.sock", seconds := Seconds())
    server.run(lambda: True)
    seconds.now += AGAIN
    (first, how), *others = WORLD
    dearer = msgspec.structs.replace(first, multiplier=first.multiplier * 10)
    served = another(tmp_path / "q.sock", [(dearer, how), *others])
    told = heard(far, served, 4)
    assert [one.up if isinstance(one, port.LinkTold) else one.instruments[0] for one in told] == [
        True,
        False,
        dearer,
        True,
    ]
    assert (far.history(first.symbol).close == served._venue.history(first.symbol).close).all()
    served.run(lambda: True)
    seconds.now += AGAIN
    again = another(tmp_path / "q.sock", [(dearer, how), *others])
    assert [type(one) for one in heard(far, again, 3)] == [
        port.LinkTold,
        port.InstrumentsTold,
        port.LinkTold,
    ]
    far.close()
    again.run(lambda: True)


def test_an_account_in_another_currency_that_answers_later_is_told_once_and_not_heard(
    tmp_path, server
):
    far = connected(server, tmp_path / "q.sock", seconds := Seconds())
    server.run(lambda: True)
    ours = far.welcome
    served = another(tmp_path / "q.sock", list(WORLD), "USD")
    told = []
    for _ in range(200):
        seconds.now += ANOTHER if far._socket is None else 0.0  # it asks again and again
        served.turn()
        message = far.next_message(0)
        told += [] if message is None else [message]
    assert [one.why for one in told if isinstance(one, port.LinkTold)] == [
        "",
        "the venue's process is gone",
        "the account there is in USD, not in CHF",
    ]
    assert {type(one) for one in told} <= {
        port.LinkTold,
        port.QuoteTold,
        port.StateTold,
        port.FiguresTold,
    }
    assert far.welcome == ours
    far.close()
    served.run(lambda: True)


def test_only_its_owner_may_open_the_socket(tmp_path):
    one = listening(tmp_path / "s")
    assert (tmp_path / "s").stat().st_mode & 0o777 == 0o600
    with pytest.raises(Unavailable):
        listening(tmp_path / "s")  # somebody answers there
    one.close()
    listening(tmp_path / "s").close()  # left over: replaced


def test_nobody_there_is_told_in_one_sentence(tmp_path):
    with pytest.raises(Unavailable, match="hawser quay"):
        FarQuay(tmp_path / "none")


def test_a_frame_in_pieces_is_read_whole():
    frames, message = wire.Frames(wire.FromVenue), port.AskOrder(id="x")
    data = wire.framed(message) * 2
    found = [one for byte in data for one in frames.feed(bytes([byte]))]
    assert found == [message, message]


NONSENSE = [
    port.NewOrder(id="n1", symbol="CAD/CHF", side=1, kind="market", qty="abc"),
    port.NewOrder(id="n2", symbol="CAD/CHF", side=1, kind="market", qty="1e999999999"),
    port.NewOrder(id="n3", symbol="CAD/CHF", side=1, kind="stop", qty="0.10", level="Infinity"),
    port.NewOrder(id="n4", symbol="CAD/CHF", side=1, kind="stop", qty="0.10"),
    port.NewOrder(id="n5", symbol="CAD/CHF", side=1, kind="limit", qty="0.10", level="9" * 400),
    port.NewOrder(id="n6", symbol="nowhere", side=1, kind="market", qty="0.10"),
    port.NewOrder(id="n7", symbol="CAD/CHF", side=0, kind="market", qty="0.10"),
    port.NewOrder(id="n8", symbol="CAD/CHF", side=1, kind="market", qty="NaN"),
    port.NewOrder(id="n9", symbol="CAD/CHF", side=1, kind="wish", qty="0.10", level="0.6"),
    port.NewOrder(id="n10", symbol="CAD/CHF", side=1, kind="market", qty="-0.10"),
    port.AmendOrder(id="none", level="x", qty="y"),
    port.CancelOrder(id="none"),
]
SENSELESS = [
    wire.MakeGust(kind="smaller", symbol="nowhere", length=1),
    wire.MakeGust(kind="storm", symbol="CAD/CHF", length=1),
    wire.MakeStray(symbol="CAD/CHF", side=3, steps=1),
    wire.MakeStray(symbol="CAD/CHF", side=1, steps=-5),
    wire.Pace(speed=float("nan")),
    wire.Pace(speed=-1.0),
    wire.Hello(not_before=1 << 62),
]


def test_a_quay_that_is_told_nonsense_refuses_and_lives(tmp_path):
    quay = Running(tmp_path, "calm")
    try:
        _told_nonsense(quay)
    finally:
        quay.stop()


def _told_nonsense(quay: Running) -> None:
    far = FarQuay(quay.socket)
    for request in NONSENSE:
        far.send(request, far.now)
    refused, nonsense = set(), {one.id for one in NONSENSE}
    until = time.monotonic() + 300
    while refused != nonsense and time.monotonic() < until:
        message = far.next_message(far.now)
        if isinstance(message, port.Rejected):
            refused.add(message.id)
    assert refused == nonsense
    far.close()
    for request in SENSELESS:
        with socket.socket(socket.AF_UNIX) as raw:
            raw.settimeout(20)
            raw.connect(str(quay.socket))
            raw.sendall(wire.framed(request))
            while raw.recv(1 << 16):  # it hangs up
                pass
    for garbage in (b"\xff" * 50, b"\x00\x00\x00\x05abcde", b"\x7f\xff\xff\xff"):
        with socket.socket(socket.AF_UNIX) as raw:
            raw.settimeout(20)
            raw.connect(str(quay.socket))
            raw.sendall(garbage)
            while raw.recv(1 << 16):
                pass
    assert quay.process.poll() is None
    again = FarQuay(quay.socket)
    assert again.instruments
    again.close()


def test_an_account_in_another_currency_is_refused_and_leaves_nothing_locked(tmp_path, quay):
    """Every sum that the venue tells would be taken for one in the account's currency: sizes would
    be wrong by the rate between them."""
    where = profile("far", tmp_path / "home")
    with pytest.raises(BadInput, match="is in CHF, not in USD"):
        boot(quay.socket, Account(currency="USD", equity=64_000.0), where)
    own = boot(quay.socket, Account(currency="CHF", equity=64_000.0), where)
    session = Session(own.account, own.venue, own.ledger)
    session.close()
    own.venue.close()
    again = Ledger(where.ledger)
    with pytest.raises(BadInput, match="record is in CHF; expected the same, not USD"):
        Session(Account(currency="USD", equity=64_000.0), Storm(0, "calm").venue, again)
    again.close()
    failed = threading.Event()
    sentences: list[str] = []
    hooks = Hooks(failed=lambda sentence: (sentences.append(sentence), failed.set()))
    wrong = Boot(
        Account(currency="USD", equity=64_000.0), Storm(0, "calm").venue, Ledger(where.ledger)
    )
    runtime = Runtime(where, lambda _: wrong, hooks)
    runtime.start()
    assert failed.wait(300)
    runtime.stop()
    assert "give an account in another currency a name of its own" in sentences[0]
    Ledger(where.ledger).close()  # nobody holds it any more


@pytest.mark.parametrize(
    "columns", [(), (b"123",), (b"12345678",) * 3, (b"12345678",) * 5 + (b"",)]
)
def test_a_history_that_is_none_is_told_in_one_sentence(tmp_path, server, monkeypatch, columns):
    symbol, told = WORLD[0][0].symbol, []
    bars = wire.SentBars(time=1, symbol=symbol, columns=columns)
    monkeypatch.setattr(wire, "packed", lambda *_: told.append(bars) or bars)
    with pytest.raises(Unavailable, match="does not answer as a simulated venue does"):
        connected(server, tmp_path / "q.sock", Seconds(GREETING_WAIT_S / 100))
    assert told


def test_an_opening_that_fails_locks_nothing(tmp_path):
    where = profile("far", tmp_path)
    with pytest.raises(Unavailable, match="no simulated venue listens there"):
        boot(tmp_path / "none", None, where)
    Ledger(where.ledger).close()
