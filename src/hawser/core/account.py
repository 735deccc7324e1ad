"""The account a trade is sized for: equity, conversion rates, size method, costs and policy (interface.md)."""

from __future__ import annotations

from decimal import Decimal
from typing import Literal

import msgspec

from hawser.core.errors import BadInput

Method = Literal["risk_percent", "risk_money", "volatility", "notional_percent", "invest", "fixed"]
Basis = Literal["equity", "balance", "free_margin"]


class Rate(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """A mid rate and its age in seconds."""

    mid: float
    age_s: float = 0.0


class SizeRule(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """How large: one method with the keys it needs."""

    method: Method = "risk_percent"
    percent: float | None = None
    basis: Basis = "equity"
    amount: float | None = None
    risk: float | None = None
    multiple: float | None = None
    qty: Decimal | None = None

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
            if value is None or not value > 0 or value == float("inf"):
                raise BadInput("bad_size", f"size.{key}: method {self.method} expects a positive number", key=key)


class Costs(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """Costs in ticks: the spread where bars have none, and the slippage expected in sizing."""

    spread_ticks: float = 0.0
    entry_slippage_ticks: float = 0.0
    exit_slippage_ticks: float = 0.0

    def __post_init__(self) -> None:
        for key in self.__struct_fields__:
            if not 0 <= getattr(self, key) < float("inf"):
                raise BadInput("bad_costs", f"costs.{key}: expected ticks, 0 or more", key=key)


class Policy(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """Caps on a size, and how old a conversion rate may be. None: not set."""

    caps: Literal["fit", "refuse"] = "fit"
    max_notional_percent: float | None = None
    max_margin_percent: float | None = None
    max_heat_percent: float | None = None
    max_currency_heat_percent: float | None = None
    max_positions: int | None = None
    max_rate_age_s: float | None = None
    never_widen: bool = False
    exposed_deadline_s: float = 5.0

    def __post_init__(self) -> None:
        for key in self.__struct_fields__:
            value = getattr(self, key)
            if isinstance(value, (int, float)) and not 0 <= value < float("inf"):
                raise BadInput("bad_policy", f"policy.{key}: expected a number, 0 or more", key=key)


class Account(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """Money in `currency`; rates keyed 'AAA/BBB' as units of BBB for one AAA."""

    currency: str
    equity: float
    balance: float | None = None
    margin_used: float = 0.0
    days_per_year: int = 252
    rates: dict[str, float | Rate] = {}
    size: SizeRule = SizeRule(percent=0.5)
    costs: Costs = Costs()
    policy: Policy = Policy()
    name: str = ""

    def __post_init__(self) -> None:
        if not 0 < self.equity < float("inf"):
            raise BadInput("bad_account", "equity: expected a positive amount", key="equity")
        for key, amount in (("balance", self.balance), ("margin_used", self.margin_used)):
            if amount is not None and not 0 <= amount < float("inf"):
                raise BadInput("bad_account", f"{key}: expected an amount, 0 or more", key=key)
        for pair, rate in self.rates.items():
            mid = rate.mid if isinstance(rate, Rate) else rate
            if len(pair.split("/")) != 2 or not 0 < mid < float("inf"):
                raise BadInput("bad_account", f'rates."{pair}": expected "AAA/BBB" = a positive mid rate', key=pair)

    def basis_money(self, basis: Basis) -> float:
        """The amount a percentage is taken of."""
        if basis == "balance":
            return self.equity if self.balance is None else self.balance
        return self.free_margin if basis == "free_margin" else self.equity

    @property
    def free_margin(self) -> float:
        return self.equity - self.margin_used
