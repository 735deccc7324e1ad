"""A hand that does what nobody should. Any number of them: HAND_LO=100 HAND_HI=140 HAND_STEPS=300
before pytest."""

import os
import random
from functools import partial

import pytest
from hand import Hand, files_in

from hawser.core.account import Account, Policy
from hawser.demo.boot import boot_beside
from hawser.desk.models.settings import Settings
from hawser.ledger.verify import verify
from hawser.service.profiles.profile import profile

SECOND = Account(
    currency="EUR",
    equity=18_000.0,
    balance=18_000.0,
    name="Breakwater",
    rates={"EUR/CHF": 0.94},
    policy=Policy(max_heat_percent=1.5),
)


@pytest.mark.parametrize(
    "seed", range(int(os.environ.get("HAND_LO", "0")), int(os.environ.get("HAND_HI", "2")))
)
def test_whatever_a_hand_does(open_desk, tmp_path, monkeypatch, seed):
    more = (("Breakwater", profile("demo-breakwater", tmp_path), partial(boot_beside, SECOND)),)
    trader = open_desk(more=more)
    trader.window.account_desks[1].runtime.start()
    trader.qtbot.waitUntil(
        lambda: trader.window.account_desks[1].latest is not None, timeout=60_000
    )
    files_in(tmp_path, random.Random(seed), monkeypatch)
    hand = Hand(trader, seed)
    try:
        for _ in range(int(os.environ.get("HAND_STEPS", "120"))):
            hand.act()
            if hand.broken:
                break
        else:
            hand.look()
        assert not hand.broken, "\n".join(hand.did[-25:])
    finally:
        print("\n".join(hand.did))
    window = trader.window
    window.close()
    assert Settings(window._settings.path).kept == window._settings.kept
    for account_desk in window.account_desks:
        assert verify(account_desk.runtime.profile.ledger).line == 0
