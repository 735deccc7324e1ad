"""The account a trade is sized for: equity, conversion rates, size method, costs and policy
(interface.md)."""

from __future__ import annotations

from decimal import Decimal
from typing import Annotated, Literal

import msgspec

from hawser.core.errors import BadInput, is_line
from hawser.core.field_help import help_text
from hawser.core.numbers import LEAST, MOST

Method = Literal["risk_percent", "risk_money", "volatility", "notional_percent", "invest", "fixed"]
Basis = Literal["equity", "balance", "free_margin"]
METHOD_WORDS = {
    "risk_percent": "risk in %",
    "risk_money": "risk in money",
    "volatility": "volatility",
    "notional_percent": "notional in %",
    "invest": "money invested",
    "fixed": "fixed quantity",
}

LONGEST_NAME, LONGEST_CURRENCY = 120, 12  # signs


class Rate(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """A mid rate and its age in seconds."""

    mid: Annotated[float, help_text("units of the second currency for one of the first", least=0)]
    age_s: Annotated[float, help_text("how old it is", "s", least=0)] = 0.0


class FiledRate(Rate, frozen=True):
    """A rate of the account's file beside live ones: `age_s` counts from when the file was read."""


class SizeRule(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """How large: one method with the keys it needs."""

    method: Annotated[Method, help_text("how the quantity is found", words=METHOD_WORDS)] = (
        "risk_percent"
    )
    percent: Annotated[
        float | None,
        help_text(
            "risk, notional or movement, of the basis or of equity",
            "%",
            only={"method": ("risk_percent", "volatility", "notional_percent")},
            example="0.6",
        ),
    ] = None
    basis: Annotated[
        Basis, help_text("what the risk is a percentage of", only={"method": ("risk_percent",)})
    ] = "equity"
    amount: Annotated[
        float | None,
        help_text(
            "the risk, or the notional",
            "money",
            only={"method": ("risk_money", "invest")},
            example="385",
        ),
    ] = None
    risk: Annotated[
        float | None,
        help_text(
            "what may be lost at the stop", "money", only={"method": ("invest",)}, example="150"
        ),
    ] = None
    multiple: Annotated[
        float | None,
        help_text(
            "how many ATR the percentage stands for",
            "ATR",
            only={"method": ("volatility",)},
            example="2.5",
        ),
    ] = None
    qty: Annotated[
        Decimal | None,
        help_text(
            "a whole number of steps",
            "units",
            name="Quantity",
            only={"method": ("fixed",)},
            example="2",
        ),
    ] = None

    NEEDS = {
        "risk_percent": ("percent",),
        "risk_money": ("amount",),
        "volatility": ("percent", "multiple"),
        "notional_percent": ("percent",),
        "invest": ("amount", "risk"),
        "fixed": ("qty",),
    }

    def __post_init__(self) -> None:
        for key in self.NEEDS[self.method]:
            value = getattr(self, key)
            known = value is not None and not (isinstance(value, Decimal) and not value.is_finite())
            if not (known and LEAST <= value <= MOST):
                raise BadInput.at(
                    "bad_size",
                    f"size.{key}",
                    f"method {self.method} expects a positive number",
                    key=key,
                )


class Costs(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """Costs in ticks: the spread where bars have none, and the slippage expected in sizing."""

    spread_ticks: Annotated[
        float, help_text("the spread where bars have no column for it", "ticks")
    ] = 0.0
    entry_slippage_ticks: Annotated[
        float, help_text("slippage expected at the entry; part of every size", "ticks")
    ] = 0.0
    exit_slippage_ticks: Annotated[
        float, help_text("slippage expected at the stop; part of every size", "ticks")
    ] = 0.0

    def __post_init__(self) -> None:
        for key in self.__struct_fields__:
            if not 0 <= getattr(self, key) <= MOST:
                raise BadInput.at("bad_costs", f"costs.{key}", "expected ticks, 0 or more", key=key)


class Policy(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """Caps on a size, and how old a conversion rate may be. None: not set."""

    caps: Annotated[
        Literal["fit", "refuse"],
        help_text(
            "what a cap does with a size beyond it",
            words={"fit": "cut the quantity", "refuse": "refuse the trade"},
        ),
    ] = "fit"
    max_notional_percent: Annotated[
        float | None,
        help_text("most notional of one trade", "% of equity", name="Most notional", example="300"),
    ] = None
    max_margin_percent: Annotated[
        float | None,
        help_text("most margin of one trade", "% of free margin", name="Most margin", example="50"),
    ] = None
    max_heat_percent: Annotated[
        float | None,
        help_text(
            "most heat of all trades, the new one included",
            "% of equity",
            name="Most heat",
            example="3",
        ),
    ] = None
    max_currency_heat_percent: Annotated[
        float | None,
        help_text(
            "the same for each currency of exposure",
            "% of equity",
            name="Most heat by currency",
            example="2",
        ),
    ] = None
    max_positions: Annotated[
        int | None, help_text("most trades open at once", "trades", name="Most trades", example="6")
    ] = None
    max_rate_age_s: Annotated[
        float | None,
        help_text("oldest conversion rate a size may use", "s", name="Oldest rate", example="60"),
    ] = None
    never_widen: Annotated[
        bool, help_text("never widen a stop, not even by hand", name="Never widen a stop")
    ] = False
    hold_backstop_r: Annotated[
        float | None,
        help_text(
            "new plans hold their lines here, behind a backstop this far away",
            "R, more than 1",
            name="Backstop",
            example="2",
        ),
    ] = None
    hold_settle_ms: Annotated[
        int,
        help_text(
            "how long a held stop waits for a spread spike to pass", "ms", name="Wait for a spike"
        ),
    ] = 0
    exposed_deadline_s: Annotated[
        float,
        help_text("longest a position may be without its stop", "s", name="Time without a stop"),
    ] = 5.0

    def __post_init__(self) -> None:
        for key in self.__struct_fields__:
            value = getattr(self, key)
            if isinstance(value, (int, float)) and not 0 <= value <= MOST:
                raise BadInput.at(
                    "bad_policy", f"policy.{key}", "expected a number, 0 or more", key=key
                )
        if self.hold_backstop_r is not None and self.hold_backstop_r <= 1:
            raise BadInput.at(
                "bad_policy",
                "policy.hold_backstop_r",
                "expected more than 1",
                key="hold_backstop_r",
            )
        if self.hold_settle_ms > 60_000:
            raise BadInput.at(
                "bad_policy",
                "policy.hold_settle_ms",
                "expected at most 60000",
                key="hold_settle_ms",
            )


class Account(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """Money in `currency`; rates keyed 'AAA/BBB' as units of BBB for one AAA."""

    currency: Annotated[str, help_text("the account's currency, three letters", example="CHF")]
    equity: Annotated[
        float, help_text("balance and floating profit at the start", "money", example="64000")
    ]
    balance: Annotated[
        float | None, help_text("money without floating profit", "money", example="64000")
    ] = None
    margin_used: Annotated[
        float, help_text("margin already in use", "money", name="Margin in use")
    ] = 0.0
    days_per_year: Annotated[
        int,
        help_text(
            "trading days in a year, for the Sharpe ratio",
            "days",
            least=1,
            most=366,
            name="Trading days a year",
        ),
    ] = 252
    rates: Annotated[
        dict[str, float | Rate],
        help_text("mid conversion rates, as AAA/BBB = 0.88, ...", example="EUR/CHF = 0.94"),
    ] = {}
    size: SizeRule = SizeRule(percent=0.5)
    costs: Costs = Costs()
    policy: Policy = Policy()
    name: Annotated[str, help_text("what the account is called", example="Own")] = ""

    def __post_init__(self) -> None:
        for key, text, most in (
            ("name", self.name, LONGEST_NAME),
            ("currency", self.currency, LONGEST_CURRENCY),
        ):
            if not is_line(text, most):
                raise BadInput.at(
                    "bad_account", key, f"expected one line of at most {most} signs", key=key
                )
        if not 0 < self.equity <= MOST:
            raise BadInput.at("bad_account", "equity", "expected a positive amount", key="equity")
        for key, amount in (("balance", self.balance), ("margin_used", self.margin_used)):
            if amount is not None and not 0 <= amount <= MOST:
                raise BadInput.at("bad_account", key, "expected an amount, 0 or more", key=key)
        for pair, rate in self.rates.items():
            mid = rate.mid if isinstance(rate, Rate) else rate
            if len(pair.split("/")) != 2 or not 0 < mid <= MOST:
                raise BadInput(
                    "bad_account",
                    f'rates."{pair}": expected "AAA/BBB" = a positive mid rate',
                    key=pair,
                )

    def basis_money(self, basis: Basis) -> float:
        """The amount a percentage is taken of."""
        if basis == "balance":
            return self.equity if self.balance is None else self.balance
        return self.free_margin if basis == "free_margin" else self.equity

    @property
    def free_margin(self) -> float:
        return self.equity - self.margin_used
