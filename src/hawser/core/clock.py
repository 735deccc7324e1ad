"""Spans of time in nanoseconds (reckoning section 1), without importing NumPy."""

from zoneinfo import ZoneInfo, ZoneInfoNotFoundError

MILLISECOND = 1_000_000
SECOND = 1_000_000_000
MINUTE = 60 * SECOND
HOUR = 60 * MINUTE
DAY = 24 * HOUR
MINUTE_END = 59 * SECOND  # where a minute's last second begins
TIMEFRAMES: dict[str, int] = {
    "1m": MINUTE,
    "5m": 5 * MINUTE,
    "15m": 15 * MINUTE,
    "1h": HOUR,
    "4h": 4 * HOUR,
    "1d": DAY,
}


def next_minute_end(now: int) -> int:
    """The next 59th second of a minute after `now`."""
    at = now - now % MINUTE + MINUTE_END
    return at if at > now else at + MINUTE


def timeframe_name(span_ns: int) -> str:
    """'15m' for fifteen minutes, '2w' for two weeks: a whole number of the largest unit it is made
    of."""
    units = (
        ("w", 7 * DAY),
        ("d", DAY),
        ("h", HOUR),
        ("m", MINUTE),
        ("s", SECOND),
        ("ms", MILLISECOND),
    )
    return next(
        (f"{span_ns // unit}{name}" for name, unit in units if span_ns % unit == 0), f"{span_ns} ns"
    )


def zone_known(zone: str) -> bool:
    """Whether there is a time zone of that name."""
    try:
        ZoneInfo(zone)
    except (ZoneInfoNotFoundError, ValueError, OSError):
        return False
    return True
