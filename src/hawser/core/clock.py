"""Spans of time in nanoseconds (reckoning section 1), without importing NumPy."""

MILLISECOND = 1_000_000
SECOND = 1_000_000_000
MINUTE = 60 * SECOND
HOUR = 60 * MINUTE
DAY = 24 * HOUR
TIMEFRAMES: dict[str, int] = {
    "1m": MINUTE, "5m": 5 * MINUTE, "15m": 15 * MINUTE, "1h": HOUR, "4h": 4 * HOUR, "1d": DAY,
}  # fmt: skip


def timeframe_name(span_ns: int) -> str:
    """'15m' for fifteen minutes; seconds where no timeframe of ours fits."""
    return next((name for name, span in TIMEFRAMES.items() if span == span_ns), f"{span_ns // SECOND}s")
