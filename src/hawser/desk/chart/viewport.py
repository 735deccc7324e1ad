"""What part of a chart is seen: bar numbers and prices as pixels, and back. Numbers alone, no
window."""

from __future__ import annotations

from typing import NamedTuple

from hawser.core.indicators import Array


class Viewport(NamedTuple):
    """`left` and `right` are bar numbers with their parts, `low` and `high` prices; `width` and
    `height` the plot's pixels, from its upper left corner."""

    left: float = 0.0
    right: float = 1.0
    low: float = 0.0
    high: float = 1.0
    width: float = 1.0
    height: float = 1.0

    @property
    def across(self) -> float:
        """Pixels a bar."""
        return self.width / ((self.right - self.left) or 1.0)

    @property
    def up(self) -> float:
        """Pixels for a price one higher."""
        return self.height / ((self.high - self.low) or 1.0)

    def x(self, bar: float) -> float:
        return (bar - self.left) * self.across

    def y(self, price: float) -> float:
        return (self.high - price) * self.up

    def xs(self, bars: Array) -> Array:
        """The same for many."""
        return (bars - self.left) * self.across

    def ys(self, prices: Array) -> Array:
        return (self.high - prices) * self.up

    def bar_at(self, x: float) -> float:
        return self.left + x / self.across

    def price_at(self, y: float) -> float:
        return self.high - y / self.up
