"""A second, slow reading of reckoning sections 1 to 6 in exact fractions and plain search, for
comparison only.

Takes a request as JSON is read and gives the figures that decide: ref, stop, quantity, caps,
targets, risk, or a code.
"""

from __future__ import annotations

from decimal import Decimal
from fractions import Fraction
from typing import Any

SLACK = 1 + Fraction(1, 10**9)


class No(Exception):
    """A refusal by its code."""


def exact(value: Any) -> Fraction:
    return Fraction(str(value))


def whole(x: Fraction) -> int | None:
    nearest = int(x + Fraction(1, 2)) if x >= 0 else -int(-x + Fraction(1, 2))
    near = min(Fraction(1, 10**9) * max(1, abs(nearest)), Fraction(1, 10**6))
    return nearest if abs(x - nearest) <= near else None


def floor(x: Fraction) -> int:
    found = whole(x)
    return found if found is not None else x.numerator // x.denominator


def rounded(x: Fraction, side: int) -> int:
    return floor(x) if side > 0 else -floor(-x)


def leg(a: str, b: str, rates: dict[str, Any], most: Any) -> Fraction | None:
    for pair, inverse in ((f"{a}/{b}", False), (f"{b}/{a}", True)):
        if pair in rates:
            rate = rates[pair]
            mid, age = (rate["mid"], rate.get("age_s", 0)) if isinstance(rate, dict) else (rate, 0)
            if most is not None and age > most:
                raise No("rate_stale")
            return 1 / exact(mid) if inverse else exact(mid)
    return None


def convert(a: str, b: str, rates: dict[str, Any], most: Any) -> Fraction:
    if a == b:
        return Fraction(1)
    straight = leg(a, b, rates, most)
    if straight is not None:
        return straight
    names = sorted({name for pair in rates for name in pair.split("/")} - {a, b})
    for name in names:
        if leg(a, name, rates, None) is not None and leg(name, b, rates, None) is not None:
            return leg(a, name, rates, most) * leg(name, b, rates, most)  # type: ignore[operator]
    raise No("rate_missing")


class Slow:
    """One request, read slowly."""

    def __init__(self, data: dict[str, Any]) -> None:
        self.data, self.of, self.acc = data, data["instrument"], data["account"]
        self.size = {"method": "risk_percent", "basis": "equity"} | self.acc.get("size", {})
        self.policy = {"caps": "fit"} | self.acc.get("policy", {})
        self.side = 1 if data["side"] == "long" else -1
        self.tick, self.step = exact(self.of["tick"]), exact(self.of["qty_step"])
        self.bid, self.ask = (self.near(data["quote"][key]) for key in ("bid", "ask"))
        entry = data.get("entry")
        self.ref = (
            self.near(entry) if entry is not None else (self.ask if self.side > 0 else self.bid)
        )
        exit_side = self.bid if self.side > 0 else self.ask
        self.exit = exit_side if entry is None else self.ref - self.side * (self.ask - self.bid)
        self.equity = exact(self.acc["equity"])
        costs = self.acc.get("costs", {})
        self.slip = exact(costs.get("entry_slippage_ticks", 0)) + exact(
            costs.get("exit_slippage_ticks", 0)
        )
        self.atr = data.get("atr")

    def near(self, price: Any) -> int:
        return int((Decimal(str(price)) / Decimal(self.of["tick"])).to_integral_value())

    def money(self) -> None:
        self.fx = convert(
            self.of["quote"],
            self.acc["currency"],
            self.acc.get("rates", {}),
            self.policy.get("max_rate_age_s"),
        )
        self.unit = exact(self.of["multiplier"]) * self.fx

    def fee(self, steps: int, ticks: int) -> Fraction:
        fees = self.of.get("commission", {})
        qty = steps * self.step
        rate = (
            exact(fees.get("per_unit", 0)) * qty
            + exact(fees.get("per_notional", 0)) * qty * ticks * self.tick * self.unit
        )
        return max(exact(fees.get("minimum", 0)), rate)

    def risk(self, steps: int, stop: int) -> Fraction:
        moved = steps * self.step * (abs(self.ref - stop) + self.slip) * self.tick * self.unit
        return moved + self.fee(steps, self.ref) + self.fee(steps, stop)

    def most_steps(self, budget: Fraction, stop: int) -> int:
        low, high = 0, 1
        while self.risk(high, stop) <= budget * SLACK:
            low, high = high, high * 2
        while high - low > 1:
            middle = (low + high) // 2
            low, high = (
                (middle, high) if self.risk(middle, stop) <= budget * SLACK else (low, middle)
            )
        return low

    def of_notional(self, money: Fraction) -> int:
        return max(0, floor(money / (self.ref * self.tick * self.unit * self.step)))

    def farthest(self, budget: Fraction, steps: int) -> int:
        if self.risk(steps, self.ref) > budget * SLACK:
            raise No("costs_exceed_risk")
        low, high = 0, 1
        while self.risk(steps, self.ref - self.side * high) <= budget * SLACK:
            low, high = high, high * 2
        while high - low > 1:
            middle = (low + high) // 2
            inside = self.risk(steps, self.ref - self.side * middle) <= budget * SLACK
            low, high = (middle, high) if inside else (low, middle)
        return self.ref - self.side * low

    @property
    def least(self) -> int:
        steps = exact(self.of["qty_min"]) / self.step
        return max(1, -(-steps.numerator // steps.denominator))

    def level(self, rule: dict[str, Any], toward: int, r_ticks: int = 0) -> int:
        (kind,) = set(rule) - {"share"}
        value = exact(rule[kind])
        away = {
            "atr": lambda: value * exact(self.atr) / self.tick,
            "percent": lambda: self.ref * value / 100,
            "ticks": lambda: value,
            "r": lambda: value * r_ticks,
        }
        if kind == "price":
            return rounded(value / self.tick, self.side)
        return rounded(self.ref + toward * self.side * away[kind](), self.side)

    def basis(self) -> Fraction:
        used = exact(self.acc.get("margin_used", 0))
        balance = self.acc.get("balance")
        return {
            "equity": self.equity,
            "balance": exact(balance) if balance is not None else self.equity,
            "free_margin": self.equity - used,
        }[self.size["basis"]]

    def budget(self) -> Fraction | None:
        method = self.size["method"]
        if method == "risk_percent":
            return exact(self.size["percent"]) / 100 * self.basis()
        if method == "risk_money":
            return exact(self.size["amount"])
        return exact(self.size["risk"]) if method == "invest" else None

    def answer(self) -> dict[str, Any]:
        self.money()
        method, stop_rule = self.size["method"], self.data.get("stop")
        targets = self.data.get("targets", [])
        live = [
            t for t in targets if t["share"] != 0 and exact(t[next(iter(set(t) - {"share"}))]) != 0
        ]
        if method == "invest":  # its risk is the stop
            stop_rule = None
        needs = (
            (stop_rule and "atr" in stop_rule)
            or any("atr" in t for t in live)
            or method == "volatility"
        )
        if needs and not (self.atr and self.atr > 0):
            raise No("indicator_not_ready")
        given = None
        if method == "fixed":
            steps = exact(self.size["qty"]) / self.step
            if steps.denominator != 1:
                raise No("qty_off_step")
            given = int(steps)
        elif method == "invest":
            given = self.of_notional(exact(self.size["amount"]))
        if method == "invest" or "money" in (stop_rule or {}):
            budget = exact(self.size["risk"]) if method == "invest" else exact(stop_rule["money"])
            stop = self.farthest(budget, max(given, self.least))
        else:
            stop = self.level(stop_rule, -1)
        self.check_stop(stop)
        r_ticks = abs(self.ref - stop)
        for rule in live:
            if "price" in rule and self.side * (self.level(rule, 1) - self.ref) < 0:
                raise No("target_wrong_side")
        asked = given if given is not None else self.asked(stop)
        if (
            self.policy.get("max_positions") is not None
            and self.data.get("positions", 0) >= self.policy["max_positions"]
        ):
            raise No("max_positions")
        caps = self.caps(stop)
        steps = min([asked, *(most for _, most in caps)])
        if steps < asked and self.policy["caps"] == "refuse":
            raise No(next(name for name, most in caps if most < asked))
        if steps < self.least:
            raise No("below_min")
        bound = (
            next((name for name, most in caps if most == steps), None) if steps < asked else None
        )
        return {
            "ref": self.ref,
            "stop": stop,
            "r_ticks": r_ticks,
            "steps": steps,
            "risk": self.risk(steps, stop),
            "caps": [(name, most, name == bound) for name, most in caps],
            "targets": self.targets(steps, r_ticks),
        }

    def check_stop(self, stop: int) -> None:
        if stop <= 0:
            raise No("stop_not_positive")
        if self.side * (self.ref - stop) <= 0:
            raise No("stop_wrong_side")
        if self.side * (self.exit - stop) < max(1, self.of.get("min_stop_ticks", 0)):
            raise No("stop_too_near")

    def asked(self, stop: int) -> int:
        budget = self.budget()
        if budget is not None:
            return self.most_steps(budget, stop)
        money = exact(self.size["percent"]) / 100 * self.equity
        if self.size["method"] == "notional_percent":
            return self.of_notional(money)
        return floor(
            money / (exact(self.size["multiple"]) * exact(self.atr) * self.unit * self.step)
        )

    def caps(self, stop: int) -> list[tuple[str, int]]:
        policy, rate = self.policy, exact(self.of["margin_rate"])
        free = self.equity - exact(self.acc.get("margin_used", 0))
        maximum = exact(self.of["qty_max"]) / self.step
        found = [("qty_max", maximum.numerator // maximum.denominator)]

        def risk(money: Fraction) -> int:
            return self.most_steps(money, stop) if money > 0 else 0

        if rate > 0:
            found.append(("free_margin", self.of_notional(free / rate * SLACK)))
        if policy.get("max_notional_percent") is not None:
            found.append(
                (
                    "max_notional_percent",
                    self.of_notional(
                        exact(policy["max_notional_percent"]) / 100 * self.equity * SLACK
                    ),
                )
            )
        if policy.get("max_margin_percent") is not None and rate > 0:
            found.append(
                (
                    "max_margin_percent",
                    self.of_notional(
                        exact(policy["max_margin_percent"]) / 100 * free / rate * SLACK
                    ),
                )
            )
        if policy.get("max_heat_percent") is not None:
            room = exact(policy["max_heat_percent"]) / 100 * self.equity - exact(
                self.data.get("open_heat", 0)
            )
            found.append(("max_heat_percent", risk(room)))
        if policy.get("max_currency_heat_percent") is not None:
            names = (
                [self.of["base"], self.of["quote"]]
                if self.of["kind"] == "fx"
                else [self.of["quote"]]
            )
            taken = max(
                exact(self.data.get("open_heat_by_currency", {}).get(name, 0)) for name in names
            )
            found.append(
                (
                    "max_currency_heat_percent",
                    risk(exact(policy["max_currency_heat_percent"]) / 100 * self.equity - taken),
                )
            )
        if self.data.get("day_loss_room") is not None:
            found.append(("day_loss_room", risk(exact(self.data["day_loss_room"]))))
        return found

    def targets(self, steps: int, r_ticks: int) -> list[tuple[int, int, Fraction]]:
        """Level, steps and net money of each."""
        found, share, taken = [], Fraction(0), 0
        for rule in self.data.get("targets", []):
            (kind,) = set(rule) - {"share"}
            level = self.ref
            if exact(rule["share"]) != 0 and exact(rule[kind]) != 0:
                level = self.level(rule, 1, r_ticks)
            if level in (self.ref,) or level <= 0:
                found.append((self.ref, 0, Fraction(0)))
                continue
            share += exact(rule["share"])
            part = max(0, min(steps, floor(share * steps)) - taken)
            taken += part
            gross = part * self.step * self.side * (level - self.ref) * self.tick * self.unit
            net = (
                gross - self.fee(part, level) - self.fee(steps, self.ref) * part / steps
                if part
                else Fraction(0)
            )
            found.append((level, part, net))
        return found


def slowly(data: dict[str, Any]) -> dict[str, Any] | str:
    """The answer's deciding figures, or the code of the refusal."""
    try:
        return Slow(data).answer()
    except No as refusal:
        return str(refusal)
