"""Where and when a storm blows: most on a Wednesday morning with the same three instruments, some
at a moment when the clocks, the week or the year change, some with instruments of any kind that a
venue may have.
"""

from __future__ import annotations

import random
from datetime import datetime
from decimal import Decimal
from typing import NamedTuple
from zoneinfo import ZoneInfo

import msgspec
import numpy as np

from hawser.core.account import Account, Costs
from hawser.core.clock import MINUTE
from hawser.core.instrument import Commission, Instrument, WeeklySession
from hawser.venue.quay.generator import Character
from hawser.verification.world import ACCOUNT, HOURS, RATES, START, WORLD, World

EVERY_DAY = tuple(range(7))
MOMENTS = (  # UTC, some minutes before
    "2031-03-07T21:54",  # a week's end in New York
    "2031-03-08T23:54",  # a Sunday, when most is closed
    "2031-03-09T06:54",  # clocks change in New York
    "2031-03-30T00:54",
    "2031-10-26T00:54",  # clocks change in Europe
    "2031-12-31T23:54",
    "2032-02-28T23:54",  # a new year, a day more
    "2038-01-19T03:10",  # seconds no longer fit 31 bits
)
NEW_YORK = (
    WeeklySession((6, 0, 1, 2, 3), "18:00", "24:00", "America/New_York"),
    WeeklySession((0, 1, 2, 3, 4), "00:00", "17:00", "America/New_York"),
)
ZONES = ("UTC", "Europe/Zurich", "America/New_York")
# As quoted, by the inverse, over a bridge, and by an instrument's own quotes.
CURRENCIES = ("CHF", "CHF", "USD", "EUR", "CAD")
AT_RISK = 250.0  # money of a usual entry


class StormPlace(NamedTuple):
    """When a storm begins (UTC ns), its instruments, the rates beside theirs, the zone of its
    policy, its account, how many times as far away the venue is as its weather says, and whether it
    often has a level rest elsewhere than asked, and says so late, and takes smaller orders for a
    while."""

    start: int
    world: World
    rates: dict[str, float]
    zone: str
    account: Account
    far: float = 1.0
    wilful: bool = False

    def clock(self, minutes: int) -> str:
        """The wall clock of the policy's zone, some minutes after the beginning."""
        return clock_of(self.start + minutes * MINUTE, self.zone)


def place_of(seed: int) -> StormPlace:
    """The place of a storm, drawn from its seed alone."""
    draw = random.Random(f"place {seed}")
    currency = random.Random(f"account {seed}").choice(CURRENCIES)
    account = msgspec.structs.replace(ACCOUNT, currency=currency)
    start, world, zone = START, WORLD, "UTC"
    if seed % 4 == 1:
        start, zone = _instant(draw.choice(MOMENTS)), draw.choice(ZONES)
        hours = {"Harbour 40": NEW_YORK, "Tin Z": with_pause(start)}
        world = [
            (msgspec.structs.replace(one, sessions=hours.get(one.symbol, ())), character)
            for one, character in WORLD
        ]
    rates = RATES
    if seed % 3 == 1:
        world = _odd_world(draw, start)
        pairs = {one.symbol for one, _ in world}
        rates = {
            pair: mid for pair, mid in {**RATES, "CAD/CHF": 0.6124}.items() if pair not in pairs
        }
        costs = Costs(0, draw.choice((0, 0, 2)), draw.choice((0, 0, 3)))
        account = msgspec.structs.replace(account, costs=costs)
    return StormPlace(
        start=start,
        world=world,
        rates=rates,
        zone=zone,
        account=account,
        far=draw.choice((1.0, 1.0, 1.0, 3.0)),
        wilful=seed % 5 == 2,
    )


def clock_of(at: int, zone: str = "UTC") -> str:
    """The wall clock at a moment, to the minute."""
    return f"{datetime.fromtimestamp(at // 1_000_000_000, ZoneInfo(zone)):%H:%M}"


def with_pause(start: int) -> tuple[WeeklySession, ...]:
    """Hours of every day with a pause of two minutes within a storm."""
    closes, opens = clock_of(start + 7 * MINUTE), clock_of(start + 9 * MINUTE)
    if closes > opens:  # over midnight
        return (WeeklySession(EVERY_DAY, opens, closes, "UTC"),)
    first = () if closes == "00:00" else (WeeklySession(EVERY_DAY, "00:00", closes, "UTC"),)
    return (*first, WeeklySession(EVERY_DAY, opens, "24:00", "UTC"))


def _instant(text: str) -> int:
    return int(np.datetime64(text).astype("datetime64[ns]").astype(np.int64))


def _odd_world(draw: random.Random, start: int) -> World:
    found: dict[str, tuple[Instrument, Character]] = {}
    for number in range(draw.randint(1, 4)):
        one = _odd_instrument(draw, number, start)
        found[one[0].symbol] = one
    return list(found.values())


def _odd_instrument(draw: random.Random, number: int, start: int) -> tuple[Instrument, Character]:
    """Prices from a few ticks to millions, steps of any size, small greatest quantities, fees or
    none, hours or none; what a step gains is such that some entries are a few steps and others
    thousands."""
    pair = draw.choice(
        (("CHF", "CAD"), ("USD", "EUR"), ("USD", "CHF"), (draw.choice(CURRENCIES), None))
    )
    quote, base = pair if draw.random() < 0.5 else (draw.choice(CURRENCIES), None)
    tick = Decimal(draw.choice(("1", "0.5", "0.00001", "0.01", "0.0001", "100", "0.000001")))
    ticks = draw.choice((3, 5, 12, 30, 60, 900, 30_000, 2_000_000))
    vol = draw.choice((0.0003, 0.0008, 0.003, 0.02))
    step = Decimal(draw.choice(("1", "0.1", "0.01", "0.3", "0.25", "0.001")))
    price = ticks * float(tick)
    moves = max(float(tick), 2 * vol * price)
    multiplier = float(f"{AT_RISK / (draw.choice((3, 30, 300)) * float(step) * moves):.3g}")
    instrument = Instrument(
        symbol=f"{base}/{quote}" if base else f"Cargo {number}",
        kind="fx" if base else "crypto",
        quote=quote,
        base=base,
        tick=tick,
        multiplier=multiplier,
        qty_step=step,
        qty_min=step * draw.choice((1, 1, 5)),
        qty_max=step * draw.choice((6, 40, 1000, 100_000)),
        margin_rate=draw.choice((0.0, 0.001, 0.01)),
        min_stop_ticks=draw.choice((0, 1, 4, 10, 40)),
        sessions=draw.choice(((), (), with_pause(start), HOURS)),
        commission=draw.choice(
            (
                Commission(),
                Commission(per_unit=1.5, minimum=1.0),
                Commission(per_notional=0.0001, minimum=2.0),
            )
        ),
    )
    return instrument, Character(price, vol, draw.choice((1, 2, 8, 40)))
