"""Named indicator lines over a bar history, as declared (reckoning section 3; interface.md, `hawser
lines`)."""

from __future__ import annotations

from typing import Annotated, Literal

import msgspec

from hawser.core.bars import Bars
from hawser.core.errors import BadInput, is_line
from hawser.core.field_help import help_text
from hawser.core.indicators import Array, atr, ema, highest, lowest, rsi, sma
from hawser.core.numbers import MOST, MOST_BARS
from hawser.core.stop_lines import parabolic, supertrend

LineKind = Literal[
    "atr", "sma", "ema", "rsi", "channel_high", "channel_low", "supertrend", "parabolic"
]
LONGEST_NAME = 200  # signs of a column's name
LENGTH, STEP, CEILING = 14, 0.02, 0.2
TAKES: dict[str, tuple[str, ...]] = {
    "atr": ("length", "smoothing"),
    "sma": ("length",),
    "ema": ("length",),
    "rsi": ("length",),
    "channel_high": ("length",),
    "channel_low": ("length",),
    "supertrend": ("length", "factor", "smoothing"),
    "parabolic": ("step", "ceiling"),
}


class LineSpec(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """One line: its column's name, its kind, and what the kind takes. None: the default."""

    name: str
    kind: LineKind
    length: Annotated[int, help_text("of its window", "bars", most=MOST_BARS)] | None = None
    factor: float | None = None
    step: float | None = None
    ceiling: float | None = None
    smoothing: Literal["wilder", "simple"] | None = None

    def __post_init__(self) -> None:
        if not self.name.strip() or not is_line(self.name, LONGEST_NAME):
            raise BadInput.at("bad_line", "name", "expected a column's name", key="name")
        for key in ("length", "factor", "step", "ceiling", "smoothing"):
            if getattr(self, key) is not None and key not in TAKES[self.kind]:
                takes = ", ".join(TAKES[self.kind])
                raise BadInput.at(
                    "bad_line",
                    f"{self.name}",
                    f"{key}: a line of kind {self.kind} takes {takes}",
                    key=key,
                )
        if self.length is not None and self.length < 1:
            raise BadInput.at(
                "bad_line",
                f"{self.name}",
                "length: expected a whole number of bars, 1 or more",
                key="length",
            )
        if self.kind == "supertrend" and not (self.factor is not None and 0 < self.factor <= MOST):
            raise BadInput.at(
                "bad_line",
                f"{self.name}",
                "factor: a supertrend expects a positive number",
                key="factor",
            )
        if not 0 < self.first_step <= self.last_step <= 1:
            raise BadInput.at(
                "bad_line", f"{self.name}", "step: expected 0 < step <= ceiling <= 1", key="step"
            )

    @property
    def first_step(self) -> float:
        return STEP if self.step is None else self.step

    @property
    def last_step(self) -> float:
        return max(CEILING, self.first_step) if self.ceiling is None else self.ceiling

    def values(self, bars: Bars) -> Array:
        """The line at every bar, shape (n,); NaN where it has no value yet."""
        length, simple = self.length or LENGTH, self.smoothing == "simple"
        if self.kind == "atr":
            return atr(bars.high, bars.low, bars.close, length, simple)
        if self.kind == "supertrend":
            return supertrend(
                bars.high,
                bars.low,
                close=bars.close,
                length=length,
                factor=float(self.factor or 0.0),
                simple=simple,
            )
        if self.kind == "parabolic":
            return parabolic(
                bars.high, bars.low, bars.close, float(self.first_step), float(self.last_step)
            )[0]
        if self.kind in ("channel_high", "channel_low"):
            return (
                highest(bars.high, length)
                if self.kind == "channel_high"
                else lowest(bars.low, length)
            )
        return {"sma": sma, "ema": ema, "rsi": rsi}[self.kind](bars.close, length)
