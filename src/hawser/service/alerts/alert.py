"""What is told to who is away."""

from __future__ import annotations

from typing import NamedTuple


class Alert(NamedTuple):
    """What is told: UTC seconds, the account, one sentence."""

    time: float
    account: str
    weight: str
    text: str
