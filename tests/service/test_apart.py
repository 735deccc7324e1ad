"""Two accounts in one process: the storm of one never delays the other's protection."""

import time

from hawser.core.account import Account, SizeRule
from hawser.core.clock import MINUTE, SECOND
from hawser.core.levels import StopRule
from hawser.core.plan import Plan
from hawser.engine import events as ev
from hawser.engine.model import transitions as states
from hawser.ledger.ledger import Ledger
from hawser.service.profiles.profile import profile
from hawser.service.runtime.hooks import Boot, Hooks
from hawser.service.runtime.runtime import Runtime
from hawser.venue.quay.generator import GeneratedFeed
from hawser.venue.quay.quay import Quay
from hawser.venue.quay.weather import SEVERITIES
from hawser.verification.world import START, WORLD


def runtime(root, name, weather, shots):
    def boot(where):
        venue = Quay(
            GeneratedFeed(WORLD, {}, 3, START, 1), "CHF", 64_000.0, {}, SEVERITIES[weather]
        )
        return Boot(
            Account(currency="CHF", equity=64_000.0, balance=64_000.0),
            venue,
            Ledger(where.ledger),
            venue,
        )

    made = Runtime(
        profile(name, root),
        boot,
        Hooks(snapshot=lambda shot: shots.__setitem__(name, shot)),
        speed=10.0,
    )
    made.start()
    return made


def until(condition, seconds=300):  # only one that is hung waits so long
    end = time.monotonic() + seconds
    while not condition():
        assert time.monotonic() < end, "waited in vain"
        time.sleep(0.01)


def place(one, percent):
    plan = Plan(
        symbol="CAD/CHF",
        side=1,
        size=SizeRule(percent=percent),
        stop=StopRule(atr=2.0),
        timeframe_ns=MINUTE,
    )
    return one.ask(lambda now, ask_id: ev.PlaceTrade(time=now, ask_id=ask_id, plan=plan))


def test_one_account_s_storm_never_delays_another_s_protection(tmp_path):
    shots: dict = {}
    rough, calm = (
        runtime(tmp_path, name, weather, shots)
        for name, weather in (("rough", "gale"), ("calm", "fair"))
    )
    try:
        until(
            lambda: (
                len(shots) == 2
                and shots["calm"].link_up
                and not shots["calm"].closed
                and shots["calm"].instrument("CAD/CHF").atr.get(MINUTE)
            )
        )
        ask = place(calm, 0.5)
        # while that one is under way; most of these are refused, some are traded in a gale
        for _ in range(100):
            place(rough, 0.05)
        until(
            lambda: any(
                t.ask_id == ask and t.state == states.PROTECTED for t in shots["calm"].trades
            )
        )
        trade = next(t for t in shots["calm"].trades if t.ask_id == ask)
        # of the venue's time: in fair weather, as if it were alone
        assert trade.trace[0].time - trade.opened <= 5 * SECOND
        until(lambda: place(rough, 0.05) and len(shots["rough"].trades) > 20)
        assert len(shots["calm"].trades) == 1  # nothing of the one is in the other
    finally:
        rough.stop()
        calm.stop()
