"""The demo world (look.md): made-up instruments, account and market, seeded and the same every
time."""

from __future__ import annotations

from decimal import Decimal

from hawser.core.account import Account, Costs, Policy, SizeRule
from hawser.core.clock import HOUR, MINUTE, SECOND
from hawser.core.instrument import Commission, Instrument, Kind, WeeklySession
from hawser.core.levels import StopRule, TargetRule
from hawser.core.plan import Plan
from hawser.core.rig import Trail
from hawser.venue.quay.generator import Character, GeneratedFeed

SEED = 20310325
HISTORY_DAYS = 24
# Wednesday 5 March 2031; the world is woken at 09:40 UTC and played to OPENS_AT before anybody sees
# it.
MIDNIGHT = 1_930_435_200 * SECOND
WAKES_AT = MIDNIGHT + 9 * HOUR + 40 * MINUTE
OPENS_AT = MIDNIGHT + 13 * HOUR + 52 * MINUTE
ZONE = "Europe/Zurich"

_WEEK = (WeeklySession((0, 1, 2, 3, 4), "00:00", "24:00"),)
_HARBOUR = (WeeklySession((0, 1, 2, 3, 4), "08:00", "22:00", ZONE),)
_SHARES = (WeeklySession((0, 1, 2, 3, 4), "09:00", "17:30", ZONE),)
_LATE = (WeeklySession((0, 1, 2, 3, 4), "15:30", "22:00", ZONE),)


def _instrument(
    symbol: str,
    kind: Kind,
    quote: str,
    tick: str,
    multiplier: float,
    step: str,
    most: str,
    margin: float,
    least: int,
    fee: Commission,
    sessions: tuple[WeeklySession, ...],
    name: str,
    base: str | None = None,
) -> Instrument:
    return Instrument(
        symbol=symbol,
        kind=kind,
        quote=quote,
        base=base,
        tick=Decimal(tick),
        multiplier=multiplier,
        name=name,
        qty_step=Decimal(step),
        qty_min=Decimal(step),
        qty_max=Decimal(most),
        margin_rate=margin,
        min_stop_ticks=least,
        commission=fee,
        sessions=sessions,
        currencies=(base, quote) if base else (quote,),
    )


INSTRUMENTS: list[tuple[Instrument, Character]] = [
    (
        _instrument(
            "CAD/CHF",
            "fx",
            quote="CHF",
            tick="0.00001",
            multiplier=100_000,
            step="0.01",
            most="50",
            margin=0.05,
            least=10,
            fee=Commission(2.5),
            sessions=_WEEK,
            name="Canadian dollar in Swiss francs",
            base="CAD",
        ),
        Character(0.6124, 0.00017, 8),
    ),
    (
        _instrument(
            "NZD/SEK",
            "fx",
            quote="SEK",
            tick="0.0001",
            multiplier=100_000,
            step="0.01",
            most="50",
            margin=0.05,
            least=8,
            fee=Commission(2.5),
            sessions=_WEEK,
            name="New Zealand dollar in Swedish kronor",
            base="NZD",
        ),
        Character(6.214, 0.00022, 14),
    ),
    (
        _instrument(
            "Harbour 40",
            "index",
            quote="EUR",
            tick="0.5",
            multiplier=5,
            step="0.1",
            most="200",
            margin=0.08,
            least=4,
            fee=Commission(0.4),
            sessions=_HARBOUR,
            name="Index of forty made-up harbour companies",
        ),
        Character(4118.0, 0.00021, 3),
    ),
    (
        _instrument(
            "Tin Z",
            "future",
            quote="USD",
            tick="0.25",
            multiplier=50,
            step="1",
            most="60",
            margin=0.10,
            least=2,
            fee=Commission(2.1),
            sessions=_WEEK,
            name="Made-up tin future",
        ),
        Character(1871.0, 0.00026, 2),
    ),
    (
        _instrument(
            "Lumenfold",
            "equity",
            quote="CHF",
            tick="0.01",
            multiplier=1,
            step="1",
            most="20000",
            margin=0.25,
            least=2,
            fee=Commission(0.0, 0.0004, 3.0),
            sessions=_SHARES,
            name="Made-up share",
        ),
        Character(102.4, 0.00041, 3),
    ),
    (
        _instrument(
            "Osier Mills",
            "equity",
            quote="SEK",
            tick="0.02",
            multiplier=1,
            step="1",
            most="40000",
            margin=0.25,
            least=2,
            fee=Commission(0.0, 0.0004, 3.0),
            sessions=_LATE,
            name="Made-up share, opens in the afternoon",
        ),
        Character(312.4, 0.00046, 4),
    ),
    (
        _instrument(
            "Lumenfold C 95",
            "option",
            quote="CHF",
            tick="0.05",
            multiplier=100,
            step="1",
            most="500",
            margin=1.0,
            least=1,
            fee=Commission(1.2),
            sessions=_SHARES,
            name="Made-up option on Lumenfold",
        ),
        Character(
            start_price=3.0, minute_vol=0.0, spread_ticks=2, of="Lumenfold", strike=95.0, life=2.4
        ),
    ),
]

RATES = {"USD/CHF": 0.8812, "EUR/USD": 1.0934, "CHF/SEK": 11.92}

ACCOUNT = Account(
    name="Demo",
    currency="CHF",
    equity=64_000.0,
    balance=64_000.0,
    rates={},
    size=SizeRule(method="risk_percent", percent=0.6),
    costs=Costs(entry_slippage_ticks=0, exit_slippage_ticks=0),
    policy=Policy(
        caps="fit",
        max_notional_percent=800.0,
        max_heat_percent=3.0,
        max_rate_age_s=180,
        exposed_deadline_s=5.0,
    ),
)


def make_feed() -> GeneratedFeed:
    """The demo's market, from its first minute."""
    return GeneratedFeed(INSTRUMENTS, RATES, SEED, WAKES_AT, HISTORY_DAYS)


def _plan(
    symbol: str,
    side: int,
    percent: float,
    atr: float,
    targets: tuple[tuple[float, float], ...],
    trail: float | None,
    span: int = 15 * MINUTE,
) -> Plan:
    return Plan(
        symbol=symbol,
        side=side,
        size=SizeRule(percent=percent),
        stop=StopRule(atr=atr),
        targets=tuple(TargetRule(share=share, r=r) for r, share in targets),
        trail=Trail(atr=trail) if trail else None,
        timeframe_ns=span,
    )


# What the demo's trader did this morning: minutes after waking, and the plan.
MORNING: list[tuple[int, Plan]] = [
    (4, _plan("CAD/CHF", 1, percent=0.6, atr=2.5, targets=((1.0, 0.4), (2.5, 0.3)), trail=3.0)),
    (31, _plan("Lumenfold", 1, percent=0.4, atr=2.0, targets=((2.0, 0.5),), trail=None)),
    (72, _plan("NZD/SEK", -1, percent=0.5, atr=2.2, targets=((1.0, 0.3), (2.0, 0.3)), trail=2.8)),
    (118, _plan("Tin Z", 1, percent=0.75, atr=2.0, targets=((1.5, 0.5), (3.0, 0.25)), trail=2.5)),
    (
        171,
        _plan("Harbour 40", -1, percent=0.5, atr=4.0, targets=((1.2, 0.5), (2.4, 0.25)), trail=5.0),
    ),
]

# What is traded on the example history for its picture: minutes after its start, and the plan.
OWN_PLANS: list[tuple[int, Plan]] = [
    (
        990,
        _plan(
            "Quillan Ferry",
            -1,
            percent=0.8,
            atr=2.5,
            targets=((1.5, 0.5), (6.0, 0.25)),
            trail=4.0,
            span=5 * MINUTE,
        ),
    ),
]
OWN_MINUTES = 1180
