"""A storm of processes: Hawser, the venue and the dead man's watch, each killed, frozen or away, in
real time.

    .venv/bin/python tests/processes.py FIRST COUNT [AT_ONCE]

Each seed opens two positions at a Quay, starts a watch that flattens, lets some things happen that
no Hawser dies of, after which nothing may have been closed for it, and then something it does,
after which all must be flat soon. Some 40 seconds each; several at once do not disturb each other.
Prints what happened, and `BAD` where a promise was broken.
"""

from __future__ import annotations

import os
import random
import shutil
import signal
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

from hawser.service.profiles.profile import far_name, profile
from hawser.service.watchdog.heartbeat import read_pulse
from hawser.venue.quay.store import BookStore

FULL = Path("/dev/full")  # takes no line, as a file on a full disk
WATCHED = Path(__file__).with_name("watched.py")
SILENT, POSITIONS = 4.0, 2
FLAT_WITHIN = SILENT + 60.0  # a flattening that failed is tried again after 30 s
PATIENCE = 60.0


class Broken(Exception):
    """A promise that was broken."""


class TooSlow(Exception):
    """This machine takes longer to open Hawser again than its watch waits: rightly all is closed
    then."""


class Story:
    """Three processes around one folder, and what is done to them."""

    def __init__(self, seed: int, folder: Path) -> None:
        self._draw, self.told = random.Random(seed), list[str]()
        self._folder, self._socket, self._root = folder, folder / "q.sock", folder / "profile"
        self._pulse = profile(far_name(self._socket), self._root).heartbeat
        self._full = seed % 3 == 0
        if self._full:
            self.told.append("the watch cannot write a line")
        self._quay = self._open_quay()
        self._hawser = self._open_hawser(asks=POSITIONS)
        self._until(
            lambda: self._held() == self._rests() == POSITIONS,
            PATIENCE,
            "positions were never protected",
        )
        time.sleep(1.5)
        self._watch = self._open_watch()
        time.sleep(2.5)

    def play(self) -> None:
        for act in self._draw.choices(
            (
                self._naps,
                self._watch_naps,
                self._all_nap,
                self._quay_naps,
                self._quay_dies,
                self._watch_dies,
                self._restarts,
                self._loses_its_pulse,
            ),
            k=3,
        ):
            self._note(act)
            act()
            self._lives()
        end = self._draw.choice(
            (
                self._killed,
                self._frozen,
                self._killed_with_quay,
                self._killed_with_watch,
                self._wakes,
            )
        )
        self._note(end)
        end()

    def close(self) -> None:
        for process in (self._watch, self._hawser, self._quay):
            process.send_signal(signal.SIGCONT)
            process.kill()
            process.wait()

    # What nobody dies of

    def _naps(self) -> None:
        for _ in range(self._draw.randint(1, 3)):
            self._sleeps([self._hawser], self._draw.uniform(0.3, SILENT / 2))
            time.sleep(2)

    def _watch_naps(self) -> None:
        self._sleeps([self._watch], self._draw.uniform(1, 9))

    def _all_nap(self) -> None:
        """As on a machine that sleeps; the watch may be the first to wake."""
        self._sleeps(
            [self._hawser, self._watch, self._quay][: self._draw.choice((2, 3))],
            self._draw.uniform(5.5, 9),
        )

    def _quay_naps(self) -> None:
        self._sleeps([self._quay], self._draw.uniform(1, 12))

    def _quay_dies(self) -> None:
        self._end(self._quay)
        time.sleep(self._draw.uniform(0, 8))
        self._quay = self._open_quay()

    def _watch_dies(self) -> None:
        self._end(self._watch)
        time.sleep(self._draw.uniform(0, 4))
        self._watch = self._open_watch()

    def _restarts(self) -> None:
        self._end(self._hawser)
        self._hawser, end = self._open_hawser(asks=0), time.monotonic() + SILENT - 0.5
        while (read := read_pulse(self._pulse)) is None or read.pid != self._hawser.pid:
            if time.monotonic() > end:
                raise TooSlow
            time.sleep(0.1)

    def _loses_its_pulse(self) -> None:
        how = self._draw.choice(("gone", "garbage", "a folder", "moved away"))
        self.told.append(how)
        if how == "garbage":
            self._pulse.write_bytes(b"{\xff")
        elif how == "moved away":
            self._pulse.parent.rename(self._folder / f"away-{time.time()}")
        else:
            self._pulse.unlink(missing_ok=True)
        if how == "a folder":
            (self._pulse / "x").mkdir(parents=True)
        time.sleep(SILENT + 4)
        shutil.rmtree(self._pulse, ignore_errors=True)

    # What it does

    def _killed(self) -> None:
        self._end(self._hawser)
        self._becomes_flat()

    def _frozen(self) -> None:
        self._hawser.send_signal(signal.SIGSTOP)
        self._becomes_flat()

    def _killed_with_quay(self) -> None:
        self._end(self._hawser)
        self._end(self._quay)
        time.sleep(SILENT + 8)
        self._quay = self._open_quay()
        self._becomes_flat()

    def _killed_with_watch(self) -> None:
        self._end(self._hawser)
        self._end(self._watch)
        time.sleep(2)
        self._watch = self._open_watch()
        self._becomes_flat()

    def _wakes(self) -> None:
        """While it may be flattened, or just before: whatever is left, Hawser knows of it."""
        self._sleeps([self._hawser], SILENT + self._draw.uniform(0.2, 2.5))
        time.sleep(6)
        self._until(
            lambda: (read := read_pulse(self._pulse)) is not None and read.open == self._held(),
            PATIENCE,
            "Hawser and its venue differ",
        )

    # How it stands

    def _lives(self) -> None:
        time.sleep(3)
        for name, process in (
            ("watch", self._watch),
            ("Hawser", self._hawser),
            ("venue", self._quay),
        ):
            if process.poll() is not None:
                raise Broken(f"the {name} has ended with {process.returncode}")
        if self._held() != POSITIONS:
            raise Broken(f"{self._held()} of {POSITIONS} positions are left, though Hawser lived")

    def _becomes_flat(self) -> None:
        self._until(
            lambda: self._held() + self._rests() == 0, FLAT_WITHIN, "not everything was closed"
        )

    def _held(self) -> int:
        return self._count(lambda book: len(book.positions))

    def _rests(self) -> int:
        return self._count(
            lambda book: sum(order.status == "resting" for order in book.orders.values())
        )

    def _count(self, of: Callable[..., int]) -> int:
        store = BookStore(self._socket.with_suffix(".sqlite"))
        book = store.load()
        store.close()
        return of(book) if book is not None else 0

    def _until(self, holds: Callable[[], bool], seconds: float, otherwise: str) -> None:
        end = time.monotonic() + seconds
        while not holds():
            if time.monotonic() > end:
                raise Broken(otherwise)
            time.sleep(0.2)

    def _note(self, act: Callable[[], None]) -> None:
        self.told.append(act.__name__.strip("_").replace("_", " "))

    # The processes

    def _open_quay(self) -> subprocess.Popen[bytes]:
        path = self._socket
        path.unlink(missing_ok=True)
        quay = self._open(
            "quay", "-m", "hawser", "quay", "--socket", path, "--speed", "5", "--severity", "calm"
        )
        self._until(path.is_socket, PATIENCE, "the venue does not listen")
        return quay

    def _open_hawser(self, asks: int) -> subprocess.Popen[bytes]:
        return self._open("hawser", WATCHED, self._socket, self._root, asks)

    def _open_watch(self) -> subprocess.Popen[bytes]:
        return self._open(
            "watch",
            "-m",
            "hawser",
            "watch",
            "--quay",
            self._socket,
            "--silent",
            SILENT,
            "--flatten",
            "--profile-root",
            self._root,
        )

    def _open(self, name: str, *arguments: object) -> subprocess.Popen[bytes]:
        with (FULL if self._full and name == "watch" else self._folder / f"{name}.txt").open(
            "ab"
        ) as out:
            return subprocess.Popen([sys.executable, *map(str, arguments)], stdout=out, stderr=out)

    @staticmethod
    def _end(process: subprocess.Popen[bytes]) -> None:
        process.kill()
        process.wait()

    def _sleeps(self, processes: list[subprocess.Popen[bytes]], seconds: float) -> None:
        self._draw.shuffle(processes)
        for process in processes:
            process.send_signal(signal.SIGSTOP)
        time.sleep(seconds)
        self._draw.shuffle(processes)
        for process in processes:
            process.send_signal(signal.SIGCONT)
            time.sleep(self._draw.uniform(0, 0.5))


def played(seed: int) -> bool:
    """Whether all went as it should."""
    with tempfile.TemporaryDirectory(prefix="processes-") as folder:
        story, wrong = Story(seed, Path(folder)), ""
        try:
            story.play()
        except TooSlow:
            story.told.append("too slow")
        except Broken as broken:
            said = Path(folder) / "watch.txt"
            wrong = f"BAD: {broken}\n{said.read_text() if said.exists() else ''}"
        finally:
            story.close()
        print(seed, "; ".join(story.told), wrong or "as it should be", flush=True)
        return not wrong


if __name__ == "__main__":
    os.environ["QT_QPA_PLATFORM"] = "offscreen"
    first, count = int(sys.argv[1]), int(sys.argv[2])
    with ThreadPoolExecutor(int(sys.argv[3]) if len(sys.argv) > 3 else 1) as pool:
        sys.exit(0 if all(list(pool.map(played, range(first, first + count)))) else 1)
