"""What every test shares: no leaked threads, seeded properties."""

from __future__ import annotations

import threading
from collections.abc import Iterator
from pathlib import Path

import pytest
from hypothesis import HealthCheck, settings

from hawser.service.profiles.profile import profile
from hawser.service.recording import Aside

# Compiled rules are slow the first time they are met, never after: no deadline, and the same
# examples each run.
settings.register_profile(
    "hawser",
    deadline=None,
    derandomize=True,
    suppress_health_check=[HealthCheck.too_slow],
    max_examples=120,
)
settings.load_profile("hawser")


@pytest.fixture(autouse=True)
def patient_disk(monkeypatch: pytest.MonkeyPatch) -> None:
    """A slow disk is no disk that hangs, however loaded the machine; tests of one that does set
    their own. Who leaves waits until all has ended."""
    monkeypatch.setattr(Aside, "patience", 600.0)
    monkeypatch.setattr("hawser.service.timed_io.ENDING", 200.0)
    monkeypatch.setattr("hawser.service.timed_io.WAIT_S", 600.0)


@pytest.fixture(autouse=True)
def no_leaked_threads() -> Iterator[None]:
    """Whoever starts a thread ends it. Those of Qt's pools are Qt's: Python only knows of one, as a
    dummy, where what runs there asks which thread it is in."""
    before = set(threading.enumerate())
    yield
    for thread in set(threading.enumerate()) - before:
        if isinstance(thread, threading._DummyThread):
            continue
        thread.join(120)  # only one that hangs is waited for so long
        assert not thread.is_alive(), f"{thread.name} was left running"


@pytest.fixture(scope="session")
def morning(tmp_path_factory) -> Path:
    """A demo profile whose morning has been traded, once for all tests; each gets a copy."""
    from hawser.demo.boot import boot  # late: the core's tests need none of it
    from hawser.service.runtime.session import Session

    root = tmp_path_factory.mktemp("morning")
    made = boot(profile("demo", root))
    session = Session(made.account, made.venue, made.ledger, prefix=made.prefix)
    assert made.prepare is not None
    made.prepare(session)
    session.close()
    made.venue.close()
    return root


@pytest.fixture
def hanging(monkeypatch):
    """Stands for what waits for a disk, until the test has ended."""
    over = threading.Event()
    monkeypatch.setattr("hawser.service.timed_io.WAIT_S", 0.05)
    yield lambda *_, **__: over.wait(600)
    over.set()
