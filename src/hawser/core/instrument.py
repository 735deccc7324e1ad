"""What is traded (reckoning section 2): grid, multiplier, limits, commission."""

from __future__ import annotations

import re
from decimal import Decimal
from functools import cached_property
from typing import Annotated, Literal

import msgspec

from hawser.core.clock import zone_known
from hawser.core.decimals import DecimalGrid, digits_of, exact_units, of_text, to_units, write_units
from hawser.core.errors import BadInput, is_line
from hawser.core.field_help import help_text
from hawser.core.numbers import LEAST, MOST
from hawser.core.rules.quantity import Fees

MOST_SYMBOL, MOST_NAME = 64, 200  # signs
MOST_DIGITS = 15  # decimals of a tick or a step
MOST_STEPS = MOST_TICKS = 10**15  # a float counts so many one by one
CLOCK = re.compile(r"[0-2][0-9]:[0-5][0-9]")
Kind = Literal["fx", "equity", "index", "future", "option", "crypto"]


class Commission(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """Per fill: `max(minimum, per_unit*qty + per_notional*notional)`, in the account's currency."""

    per_unit: Annotated[
        float,
        help_text("commission of one fill for each unit", "money", least=0, name="For each unit"),
    ] = 0.0
    per_notional: Annotated[
        float,
        help_text(
            "commission of one fill as a fraction of its notional",
            "fraction",
            least=0,
            name="For the notional",
        ),
    ] = 0.0
    minimum: Annotated[
        float, help_text("least commission of one fill", "money", least=0, name="At least")
    ] = 0.0


class WeeklySession(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """Weekly opening hours: `days` 0 = Monday .. 6 = Sunday, from `opens` to `closes` ("HH:MM",
    zone's time)."""

    days: tuple[int, ...]
    opens: str
    closes: str
    zone: str = "UTC"

    def __post_init__(self) -> None:
        if not self.days or not all(0 <= day <= 6 for day in self.days):
            raise BadInput.at(
                "bad_instrument", "sessions", "expected days from 0 (Monday) to 6", key="sessions"
            )
        for clock in (self.opens, self.closes):
            if not (CLOCK.fullmatch(clock) and clock <= "24:00"):
                raise BadInput.at(
                    "bad_instrument",
                    "sessions",
                    f"expected a time such as 08:00, got '{clock}'",
                    key="sessions",
                )
        if not zone_known(self.zone):
            expected = f"sessions: expected a time zone such as Europe/Zurich, got '{self.zone}'"
            raise BadInput("bad_instrument", expected, key="sessions")
        if self.opens >= self.closes:
            raise BadInput.at(
                "bad_instrument", "sessions", "expected to open before it closes", key="sessions"
            )


class Instrument(msgspec.Struct, frozen=True, dict=True, forbid_unknown_fields=True):
    """An instrument. `tick` and `qty_step` are exact decimals; their written decimals are its
    digits."""

    symbol: Annotated[str, help_text("what it is called at the venue", example="CAD/CHF")]
    kind: Annotated[
        Kind,
        help_text(
            "what kind of instrument it is", words={"fx": "currency pair", "equity": "share"}
        ),
    ]
    quote: Annotated[
        str, help_text("currency its price is in", name="Quote currency", example="CHF")
    ]
    tick: Annotated[
        Decimal,
        help_text(
            "smallest step of its price; its decimals are those shown", "price", example="0.00001"
        ),
    ]
    multiplier: Annotated[
        float,
        help_text("quote currency that one unit gains when the price rises by 1", example="100000"),
    ]
    qty_step: Annotated[
        Decimal,
        help_text(
            "smallest step of its quantity; its decimals are those shown",
            "units",
            name="Quantity step",
            example="0.01",
        ),
    ]
    qty_min: Annotated[
        Decimal,
        help_text("least quantity of one order", "units", name="Least quantity", example="0.01"),
    ]
    qty_max: Annotated[
        Decimal,
        help_text(
            "greatest quantity of one order", "units", name="Greatest quantity", example="50"
        ),
    ]
    margin_rate: Annotated[
        float, help_text("margin as a fraction of notional", "fraction", example="0.05")
    ]
    name: Annotated[str, help_text("its name in words", example="Canadian dollar")] = ""
    base: Annotated[
        str | None, help_text("a pair's base currency", name="Base currency", example="CAD")
    ] = None
    min_stop_ticks: Annotated[
        int,
        help_text(
            "the venue refuses a resting level nearer than this",
            "ticks",
            name="Least stop distance",
        ),
    ] = 0
    currencies: Annotated[
        tuple[str, ...],
        help_text("currencies whose news concerns it, as CAD, CHF", example="CAD, CHF"),
    ] = ()
    commission: Commission = Commission()
    sessions: Annotated[
        tuple[WeeklySession, ...],
        help_text(
            "weekly opening hours, as mon-fri 08:00-16:30 Europe/London; sun 22:00-24:00",
            example="mon-fri 08:00-16:30 Europe/London",
        ),
    ] = ()

    def __post_init__(self) -> None:
        for key, text, signs in (
            ("symbol", self.symbol, MOST_SYMBOL),
            ("name", self.name, MOST_NAME),
        ):
            _expect(is_line(text, signs), key, f"one line of at most {signs} signs")
        _expect(self.symbol.strip() != "", "symbol", "a name")
        for key, step in (("tick", self.tick), ("qty_step", self.qty_step)):
            fits = (
                step.is_finite()
                and LEAST <= step <= MOST
                and int(step.as_tuple().exponent) >= -MOST_DIGITS
            )
            _expect(fits, key, f"a positive decimal with at most {MOST_DIGITS} decimals")
        _expect(0 < self.multiplier <= MOST, "multiplier", "a positive number")
        _expect(0 <= self.margin_rate <= 1, "margin_rate", "a fraction from 0 to 1")
        _expect(
            0 <= self.min_stop_ticks <= MOST_TICKS,
            "min_stop_ticks",
            "a whole number of ticks, 0 or more",
        )
        _expect(self.kind != "fx" or bool(self.base), "base", "the base currency of a pair")
        most = MOST_STEPS * self.qty_step
        _expect(
            self.qty_max.is_finite() and 0 < self.qty_max <= most,
            "qty_max",
            f"a quantity above 0, up to {most:g}",
        )
        enough = self.qty_min.is_finite() and (
            self.qty_min == 0 or LEAST <= self.qty_min <= self.qty_max
        )
        _expect(enough, "qty_min", "a quantity from 0 to qty_max")
        for key in self.commission.__struct_fields__:
            if not 0 <= getattr(self.commission, key) <= MOST:
                raise BadInput.at(
                    "bad_instrument", f"commission.{key}", "expected a number, 0 or more", key=key
                )
        if self.commission.per_notional >= 1:
            raise BadInput.at(
                "bad_instrument",
                "per_notional",
                "expected a fraction below 1",
                key="per_notional",
            )

    @cached_property
    def tick_size(self) -> float:
        """One tick in price units."""
        return float(self.tick)

    @cached_property
    def step_size(self) -> float:
        """One quantity step in units of quantity."""
        return float(self.qty_step)

    @cached_property
    def price_grid(self) -> DecimalGrid:
        return DecimalGrid.of(self.tick)

    @cached_property
    def price_digits(self) -> int:
        return digits_of(self.tick)

    @cached_property
    def qty_digits(self) -> int:
        return digits_of(self.qty_step)

    @cached_property
    def qty_max_steps(self) -> int:
        return int(self.qty_max / self.qty_step)

    @cached_property
    def qty_min_steps(self) -> int:
        """The least number of whole steps that is not below `qty_min`."""
        return -int(-self.qty_min // self.qty_step)

    @cached_property
    def exposure(self) -> tuple[str, ...]:
        """Currencies of exposure: base and quote of a pair, else the quote (section 5, caps)."""
        return (self.base, self.quote) if self.kind == "fx" and self.base else (self.quote,)

    @property
    def news_currencies(self) -> tuple[str, ...]:
        """Currencies whose news concerns it: those it names, else those of its exposure."""
        return self.currencies or self.exposure

    def ticks(self, price: Decimal) -> int:
        """Nearest whole tick to `price`; raises BadInput where that is no price."""
        if not (price.is_finite() and price.copy_abs() <= MOST_TICKS * self.tick):
            raise BadInput("bad_price", f"expected a price, got {price}")
        return to_units(price, self.tick)

    def ticks_written(self, text: str) -> int:
        """The same for a price as a venue or a file writes it; ValueError where it is no
        number."""
        count = self.price_grid.read(text)
        if count is not None and count <= MOST_TICKS:
            return count
        return self.ticks(of_text(text))

    def fees(self, unit_money: float) -> Fees:
        """What a fill costs where a move of 1.0 by one unit is `unit_money`, in the account's
        currency. Floats: a whole number would be another type to the compiled rules."""
        of = self.commission
        return Fees(unit_money, float(of.per_unit), float(of.per_notional), float(of.minimum))

    def price(self, ticks: int) -> str:
        """A level as it is written at every boundary: a decimal string with the instrument's
        digits."""
        return write_units(ticks, self.tick, self.price_digits)

    def qty(self, steps: int) -> str:
        """A quantity as a decimal string with the step's digits."""
        return write_units(steps, self.qty_step, self.qty_digits)

    def steps(self, qty: Decimal) -> int | None:
        """Whole steps of `qty`, or None where it is off the step."""
        return exact_units(qty, self.qty_step)


def _expect(holds: bool, key: str, expected: str) -> None:
    if not holds:
        raise BadInput.at("bad_instrument", key, f"expected {expected}", key=key)
