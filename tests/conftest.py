"""What every test shares: no leaked threads, seeded properties."""

from __future__ import annotations

import threading
from collections.abc import Iterator

import pytest
from hypothesis import HealthCheck, settings

from hawser.service.recording import Aside

# Compiled rules are slow the first time they are met, never after: no deadline, and the same examples each run.
settings.register_profile(
    "hawser", deadline=None, derandomize=True, suppress_health_check=[HealthCheck.too_slow], max_examples=120
)
settings.load_profile("hawser")


@pytest.fixture(autouse=True)
def patient_disk(monkeypatch: pytest.MonkeyPatch) -> None:
    """A slow disk is no disk that hangs, however loaded the machine; tests of one that does set their own."""
    monkeypatch.setattr(Aside, "patience", 600.0)


@pytest.fixture(autouse=True)
def no_leaked_threads() -> Iterator[None]:
    """Whoever starts a thread ends it."""
    before = set(threading.enumerate())
    yield
    for thread in set(threading.enumerate()) - before:
        thread.join(5)
        assert not thread.is_alive(), f"{thread.name} was left running"
