"""A second, slow reading of reckoning section 10 over plain lists and dicts, for comparison only.

Reads the files of `hawser rehearse` by itself and shares no code with it; sizes come from
`slow_reading`, in exact fractions. Prices are mirrored ticks: a short is a long in a world upside
down, so every level is rounded down. Written from the text, a rule at a time, with no thought of
speed.
"""

from __future__ import annotations

import csv
import tomllib
from collections.abc import Callable
from dataclasses import dataclass, field
from datetime import UTC, datetime
from decimal import Decimal
from fractions import Fraction
from itertools import pairwise
from pathlib import Path
from typing import Any

from slow_lines import Bar, atr, extremes, line, pivots
from slow_reading import No, Slow, exact, floor

CAPS = (
    "max_notional_percent",
    "max_margin_percent",
    "max_heat_percent",
    "max_currency_heat_percent",
)
Reach = Callable[[int], None]  # fills what lies within reach of a price


def moment(text: Any) -> datetime:
    found = (
        text
        if isinstance(text, datetime)
        else datetime.fromisoformat(str(text).replace("Z", "+00:00"))
    )
    return found.astimezone(UTC)


def seconds(text: Any) -> int:
    return int(moment(text).timestamp())


def down(value: Any) -> int:
    return floor(Fraction(value))


@dataclass
class Held:
    """A trade that is open, mirrored."""

    side: int
    first: int  # the bar it was entered in
    row: int  # and the finer one
    decided: int
    chain: int  # follow-ons in a row, this one included
    ref: int
    stop: int
    left: int
    whole: int
    risk: float
    r: int
    cash: float  # before it
    targets: list[list[int]]  # number, level, steps
    waits: dict[int, int]  # a merged target: the one that takes its part
    losses: list[list[int]]
    steps: list[tuple[Fraction, Fraction]]
    rungs: list[list[int]] = field(default_factory=list)  # number, level, steps
    goal: int | None = None
    entered: int = 0
    value: Fraction = Fraction(0)  # of its entries, ticks times steps
    flow: Fraction = Fraction(0)
    fees: float = 0.0
    realised: float = 0.0  # where the rate moves, what has left is money at once
    best: int = 0
    worst: int = 0
    filled: set[int] = field(default_factory=set)
    at_open: int = 0  # of a ladder: what its target closes in this bar
    grown: bool = False  # whether a rung has filled in this bar
    # finer bar, action, reason, ticks as traded, steps, fee
    fills: list[tuple[Any, ...]] = field(default_factory=list)
    moves: list[tuple[int, int, str]] = field(default_factory=list)


class SlowRehearsal:
    """One folder's history under one order; `timeframe` in seconds, 0: its bars as they are."""

    def __init__(self, folder: Path, order: str, timeframe: int = 0) -> None:
        self.order = order
        self.instrument, self.account, self.rig = (
            tomllib.loads((folder / f"{name}.toml").read_text())
            for name in ("instrument", "account", "rig")
        )
        self.tick = exact(self.instrument["tick"])
        costs = self.account.get("costs", {})
        self.enter_slip, self.exit_slip = (
            exact(costs.get(f"{way}_slippage_ticks", 0)) for way in ("entry", "exit")
        )
        with (folder / "bars.csv").open(newline="") as file:
            rows = list(csv.DictReader(file))
        self.fine_times = [seconds(row["time"]) for row in rows]
        self.fine = [
            Bar(
                *(self.near(row[name]) for name in ("open", "high", "low", "close")),
                round(Fraction(row.get("spread") or str(costs.get("spread_ticks", 0)))),
            )
            for row in rows
        ]
        moves = self.instrument["quote"] != self.account["currency"]
        self.rates = [exact(row["rate"]) for row in rows if moves and "rate" in row]
        self.times, self.bars, self.rows = self.fine_times, self.fine, []
        self.span = min(b - a for a, b in pairwise(self.times))
        if timeframe:
            self.span = timeframe
            self.times, self.bars, self.rows = self.grouped(timeframe)
        self.rows = self.rows or [range(i, i + 1) for i in range(len(rows))]
        self.signal, self.leave = (
            [int(float(rows[own[-1]].get(name) or 0)) for own in self.rows]
            for name in ("signal", "leave")
        )
        self.smoothing = self.rig.get("atr_smoothing", "wilder")
        self.atr = atr(self.bars, self.rig.get("atr_length", 14), self.smoothing)
        self.stop_rule = self.rig.get("stop", {})
        # told: whether the hours end a trade after each bar
        self.left_after: list[bool] = [False] * len(self.bars)
        self.margin = max(1, self.instrument.get("min_stop_ticks", 0))
        self.cash = float(self.account["equity"])
        self.trades: list[dict[str, Any]] = []
        self.fills: list[tuple[Any, ...]] = []
        self.moves: list[tuple[Any, ...]] = []
        self.equity: list[float] = []
        self.refused: list[tuple[int, int, str]] = []
        self.dependent = 0
        self.stops = {side: self.stop_line(side) for side in (1, -1)}
        self.trails = {side: self.trail_line(side) for side in (1, -1)}

    def grouped(self, span: int) -> tuple[list[int], list[Bar], list[range]]:
        """Bars of `span` seconds: when each opens, what it is, and the finer ones it is made of."""
        groups: dict[int, list[int]] = {}
        for i, at in enumerate(self.fine_times):
            groups.setdefault(at - at % span, []).append(i)
        rows = [range(k[0], k[-1] + 1) for k in groups.values()]
        parts = [[self.fine[i] for i in own] for own in rows]
        bars = [
            Bar(
                b[0].open,
                max(x.high for x in b),
                min(x.low for x in b),
                b[-1].close,
                b[-1].spread,
            )
            for b in parts
        ]
        return list(groups), bars, rows

    def near(self, text: str) -> int:
        return round(Fraction(text) / self.tick)

    def text(self, ticks: int) -> str:
        return str(Decimal(self.instrument["tick"]) * ticks)

    def stop_line(self, side: int) -> list[float | None]:
        rule = self.stop_rule
        if "bars" in rule:
            return extremes(self.bars, rule["bars"], side)
        if "pivot" in rule:
            return pivots(self.bars, *rule["pivot"], side)
        return line(rule["line"], self.bars, side, self.smoothing) if "line" in rule else []

    def trail_line(self, side: int) -> list[float | None]:
        """What a trail from bars or a line stands on at each close, of the chart's bars or of
        coarser ones."""
        rule = self.rig.get("trail", {})
        if "bars" not in rule and "line" not in rule:
            return []

        def of(bars: list[Bar]) -> list[float | None]:
            if "bars" in rule:
                return extremes(bars, rule["bars"], side)
            return line(rule["line"], bars, side, self.smoothing)

        if not rule.get("timeframe"):
            return of(self.bars)
        span = (
            int(rule["timeframe"][:-1]) * {"m": 60, "h": 3600, "d": 86_400}[rule["timeframe"][-1]]
        )
        if span <= self.span:
            return of(self.bars)
        begins, joined, _ = self.grouped(span)
        values = of(joined)
        found: list[float | None] = []
        for at in self.times:
            done = sum(begin + span <= at + self.span for begin in begins)
            found.append(values[done - 1] if done else None)
        return found

    # Entries

    def sized(self, side: int, at: int, row: int) -> Slow:
        """The request at the open of a finer bar in bar `at`, as `hawser size` would have it."""
        bar, value = self.fine[row], self.atr[at - 1]
        account = dict(self.account)
        moved = self.cash - float(account["equity"])
        account["balance"] = float(account.get("balance", account["equity"])) + moved
        account["equity"] = self.cash
        if self.rates:
            pair = f"{self.instrument['quote']}/{account['currency']}"
            account["rates"] = {pair: self.rates[row]}
        return Slow(
            {
                "instrument": self.instrument,
                "account": account,
                "side": "long" if side > 0 else "short",
                "quote": {"bid": self.text(bar.open), "ask": self.text(bar.open + bar.spread)},
                "atr": None if value is None else Fraction(value) * self.tick,
                "stop": self.stop_for(side, at, bar.spread),
                "targets": self.rig.get("target", []),
            }
        )

    def stop_for(self, side: int, at: int, spread: int) -> dict[str, Any]:
        # there the risk is the stop
        if not self.stops[side] or self.account["size"]["method"] == "invest":
            return {key: value for key, value in self.stop_rule.items() if key != "offset_ticks"}
        value = self.stops[side][at - 1]
        if value is None:
            raise No("indicator_not_ready")
        away = exact(self.stop_rule.get("offset_ticks", 0)) + (spread if side < 0 else 0)
        return {"price": (Fraction(value) - side * away) * self.tick}

    def allowed(self, side: int, row: int) -> bool:
        way = self.rig.get("direction", "both")
        if way == ("short" if side > 0 else "long"):
            return False
        begin, end, at = self.rig.get("from"), self.rig.get("to"), self.fine_times[row]
        return not (begin is not None and at < seconds(begin)) and not (
            end is not None and at >= seconds(end)
        )

    def enter(self, side: int, decided: int, chain: int, at: int, row: int) -> Held | None:
        """At the open of a finer bar in bar `at`."""
        if not self.allowed(side, row):
            return None
        try:
            return self.entered(side, decided, chain, at, row)
        except No as no:
            self.refused.append((row, side, str(no)))
            return None

    def entered(self, side: int, decided: int, chain: int, at: int, row: int) -> Held:
        slow = self.sized(side, at, row)
        slow.money()
        measures = [step[key] for step in self.rig.get("step", []) for key in ("at", "to")]
        if any("atr" in one for one in measures) and self.atr[at - 1] is None:
            raise No("indicator_not_ready")
        if slow.equity <= 0:
            raise No("no_equity")
        lay = self.laddered if "ladder" in self.rig else self.laid
        held = lay(slow, side, decided, chain, at, row)
        held.steps = [
            (
                self.measure(step["at"], slow.ref, held.r, at),
                self.measure(step["to"], slow.ref, held.r, at),
            )
            for step in self.rig.get("step", [])
        ]
        self.slow = slow
        price = self.at_least_a_tick(held.ref + self.enter_slip, side)
        held.flow -= held.whole * price
        held.value += held.whole * price
        held.entered = held.whole
        held.best = held.worst = self.mirrored(self.fine[row], side).open
        held.at_open = held.left
        held.moves.append((row, held.stop, "ladder" if "ladder" in self.rig else "initial"))
        self.fill(held, row, "entry", "follow_on" if chain else "signal", price, held.whole)
        return held

    @staticmethod
    def at_least_a_tick(price: Fraction, side: int) -> Fraction:
        """A mirrored price, whose fill is never below one tick."""
        return side * max(Fraction(1), side * Fraction(price))

    def laid(self, slow: Slow, side: int, decided: int, chain: int, at: int, row: int) -> Held:
        answer = slow.answer()
        whole, ref, stop = answer["steps"], side * answer["ref"], side * answer["stop"]
        r = answer["r_ticks"]
        targets, waits = [], {}
        waiting: list[int] = []
        for number, (level, steps, _) in enumerate(answer["targets"], 1):
            if steps == 0:  # off, or merged: what waits for it waits for the next
                waiting.append(number)
                continue
            targets.append([number, side * level, steps])
            waits.update(dict.fromkeys(waiting, number))
            waiting = []
        losses = [
            [number, down(ref - exact(rule["r"]) * r), floor(exact(rule["share"]) * whole)]
            for number, rule in enumerate(self.rig.get("loss_step", []), 1)
        ]
        return Held(
            side,
            at,
            row,
            decided,
            chain,
            ref,
            stop,
            whole,
            whole,
            float(answer["risk"]),
            r,
            self.cash,
            targets,
            waits,
            losses,
            [],
        )

    def laddered(self, slow: Slow, side: int, decided: int, chain: int, at: int, row: int) -> Held:
        rule, ref = self.rig["ladder"], side * slow.ref
        spacing = self.measure(rule["spacing"], slow.ref, 0, at)
        levels = [down(ref - i * spacing) for i in range(rule["rungs"])]
        stop = down(levels[-1] - exact(rule["stop_ticks"]))
        slow.check_stop(side * stop)
        most = slow.policy.get("max_positions")
        if most is not None and slow.data.get("positions", 0) >= most:
            raise No("max_positions")

        def quantities(base: int) -> list[int]:
            return [floor(base * exact(rule.get("factor", 1)) ** i) for i in range(rule["rungs"])]

        def worst(base: int) -> Fraction:
            steps = quantities(base)
            ticks = sum(
                n * (level - stop + self.exit_slip) for n, level in zip(steps, levels, strict=True)
            )
            fees = sum(
                slow.fee(n, side * level) for n, level in zip(steps, levels, strict=True) if n
            )
            return (
                (ticks + steps[0] * self.enter_slip) * slow.step * slow.tick * slow.unit
                + fees
                + slow.fee(sum(steps), side * stop)
            )

        budget = slow.budget()
        base = self.most(lambda n: worst(n) <= budget * (1 + Fraction(1, 10**9)))
        fit = self.most(lambda n: self.within_caps(slow, quantities(n), levels, worst(n)))
        if fit < base and slow.policy["caps"] == "refuse":
            raise No(self.exceeded(slow, base, quantities, levels, worst))
        base = min(base, fit)
        if base < slow.least:
            raise No("below_min")
        rungs = [[i, levels[i], n] for i, n in enumerate(quantities(base)) if i and n]
        held = Held(
            side,
            at,
            row,
            decided,
            chain,
            ref,
            stop,
            base,
            base,
            float(worst(base)),
            ref - stop,
            self.cash,
            [],
            {},
            [],
            [],
            rungs,
        )
        held.goal = down(ref + exact(rule["target_ticks"]))
        return held

    def exceeded(
        self, slow: Slow, base: int, quantities: Any, levels: list[int], worst: Any
    ) -> str:
        """The first cap, in their order, that a ladder exceeds by itself."""
        kept = dict(slow.policy)
        for name in ("qty_max", "free_margin", *CAPS):
            slow.policy = {"only": name} | {key: kept[key] for key in (name,) if key in kept}
            fits = self.within_caps(slow, quantities(base), levels, worst(base))
            slow.policy = kept
            if not fits:
                return name
        raise AssertionError("no cap is exceeded")

    def within_caps(self, slow: Slow, steps: list[int], levels: list[int], worst: Fraction) -> bool:
        """Whether the whole ladder keeps every cap."""
        policy, slack = slow.policy, 1 + Fraction(1, 10**9)
        notional = sum(
            n * slow.step * abs(level) * slow.tick * slow.unit
            for n, level in zip(steps, levels, strict=True)
        )
        margin = notional * exact(self.instrument["margin_rate"])
        free = slow.equity - exact(self.account.get("margin_used", 0))
        only = policy.get("only", "")
        if only in ("", "qty_max") and sum(steps) * slow.step > exact(self.instrument["qty_max"]):
            return False
        limits = [
            (margin, free if only in ("", "free_margin") else None),
            (notional, self.share(policy, "max_notional_percent", slow.equity)),
            (margin, self.share(policy, "max_margin_percent", free)),
            (worst, self.share(policy, "max_heat_percent", slow.equity)),
            (worst, self.share(policy, "max_currency_heat_percent", slow.equity)),
        ]
        return all(limit is None or value <= limit * slack for value, limit in limits)

    def share(self, policy: dict[str, Any], key: str, of: Fraction) -> Fraction | None:
        return None if policy.get(key) is None else exact(policy[key]) / 100 * of

    def most(self, fits: Any) -> int:
        low, high = 0, 1
        while fits(high) and high < 10**15:
            low, high = high, high * 2
        while high - low > 1:
            middle = (low + high) // 2
            low, high = (middle, high) if fits(middle) else (low, middle)
        return low

    def measure(self, rule: dict[str, Any], ref: int, r: int, at: int) -> Fraction:
        """A distance in ticks; an ATR is that before the entry."""
        ((kind, value),) = rule.items()
        if kind == "atr":
            before = self.atr[at - 1]
            if before is None:
                raise No("indicator_not_ready")
            return exact(value) * Fraction(before)
        return (
            exact(value)
            * {"r": Fraction(r), "ticks": Fraction(1), "percent": Fraction(ref, 100)}[kind]
        )

    # Inside a bar

    def mirrored(self, bar: Bar, side: int) -> Bar:
        if side > 0:
            return bar
        up = bar.spread
        return Bar(-(bar.open + up), -(bar.low + up), -(bar.high + up), -(bar.close + up), up)

    def walk(self, bar: Bar, order: str, adverse: Reach, favourable: Reach) -> None:
        """What the open triggers, then both sides in their order; on `path` the nearer first, on a
        tie the adverse."""
        adverse(bar.open)
        favourable(bar.open)
        sides = [lambda: adverse(bar.low), lambda: favourable(bar.high)]
        if order == "optimistic" or (order == "path" and bar.high - bar.open < bar.open - bar.low):
            sides.reverse()
        for side in sides:
            side()

    def through(self, held: Held, bar: Bar, order: str) -> list[tuple[str, int, int]]:
        """What fills: reason, mirrored price before slippage, steps."""
        found: list[tuple[str, int, int]] = []
        left, losses, targets = held.left, [*held.losses], [*held.targets]

        def close(reason: str, price: int, steps: int) -> None:
            nonlocal left
            steps = min(steps, left)
            if steps > 0:
                found.append((reason, price, steps))
                left -= steps

        def adverse(reach: int) -> None:
            for step in sorted(losses, key=lambda one: -one[1]):
                if step[1] > held.stop and step[1] >= reach:
                    losses.remove(step)
                    close(f"loss_step_{step[0]}", min(bar.open, step[1]), step[2])
            if held.stop >= reach:
                close("stop", min(bar.open, held.stop), left)

        def favourable(reach: int) -> None:
            for target in sorted(targets, key=lambda one: one[1]):
                if target[1] <= reach:
                    targets.remove(target)
                    close(f"target_{target[0]}", max(bar.open, target[1]), target[2])

        self.walk(bar, order, adverse, favourable)
        return found

    def through_ladder(self, held: Held, bar: Bar, order: str) -> list[tuple[str, int, int]]:
        found: list[tuple[str, int, int]] = []
        held_at_open, left, rungs = held.at_open, held.left, [*held.rungs]
        assert held.goal is not None

        def adverse(reach: int) -> None:
            nonlocal left
            for rung in sorted(rungs, key=lambda one: -one[1]):
                if left > 0 and rung[1] >= reach + bar.spread:
                    rungs.remove(rung)
                    found.append((f"rung_{rung[0]}", min(bar.open + bar.spread, rung[1]), rung[2]))
                    left += rung[2]
            if left > 0 and held.stop >= reach:
                found.append(("stop", min(bar.open, held.stop), left))
                left = 0

        def favourable(reach: int) -> None:
            nonlocal left, held_at_open
            if held.goal <= reach and left > 0 and held_at_open > 0:
                found.append(("target_1", max(bar.open, held.goal), held_at_open))
                left, held_at_open = left - held_at_open, 0

        self.walk(bar, order, adverse, favourable)
        return found

    def inside(self, held: Held, at: int) -> None:
        """What the finer bar `at` fills."""
        bar = self.mirrored(self.fine[at], held.side)
        through = self.through_ladder if "ladder" in self.rig else self.through
        first, second = (
            sorted(through(held, bar, order)) for order in ("pessimistic", "optimistic")
        )
        self.dependent += first != second
        filled = through(held, bar, self.order)
        for reason, price, steps in filled:
            kind, _, number = reason.rpartition("_")
            if kind == "rung":
                held.rungs = [rung for rung in held.rungs if rung[0] != int(number)]
                held.flow -= price * steps
                held.value += price * steps
                held.left, held.entered = held.left + steps, held.entered + steps
                held.grown = True
                self.fill(held, at, "entry", reason, Fraction(price), steps)
                continue
            slipped = self.at_least_a_tick(
                Fraction(price) - (0 if kind == "target" else self.exit_slip), held.side
            )
            self.exit(held, at, reason, slipped, steps)
            held.targets = [one for one in held.targets if reason != f"target_{one[0]}"]
            held.losses = [one for one in held.losses if reason != f"loss_step_{one[0]}"]
            if kind == "target":
                held.filled.add(int(number))
                held.at_open = 0
        exits = [price for reason, price, _ in filled if not reason.startswith("rung")]
        lived = [bar.high, bar.low] if held.left else exits
        held.best, held.worst = max([held.best, *lived]), min([held.worst, *lived])

    def fill(
        self, held: Held, at: int, action: str, reason: str, price: Fraction, steps: int
    ) -> None:
        fee = float(self.slow.fee(steps, held.side * price))
        held.fees += fee
        held.fills.append((at, action, reason, float(held.side * price * self.tick), steps, fee))

    def exit(self, held: Held, at: int, reason: str, price: Fraction, steps: int) -> None:
        if self.rates:
            average = -held.flow / held.left  # of what is open
            ticks = steps * (price - average)
            held.realised += float(ticks * self.slow.step * self.tick * self.slow.unit)
            held.flow += steps * average
        else:
            held.flow += steps * price
        held.left -= steps
        self.fill(held, at, "exit", reason, price, steps)

    # At a close

    def at_rate(self, row: int) -> None:
        """The money of a finer bar."""
        if self.rates:
            self.slow.unit = exact(self.instrument["multiplier"]) * self.rates[row]

    def worth(self, held: Held, close: int) -> float:
        """Net of the commissions paid so far."""
        return (
            float((held.flow + held.left * close) * self.slow.step * self.tick * self.slow.unit)
            + held.realised
            - held.fees
        )

    def ready(self, held: Held, after: dict[str, Any] | None) -> bool:
        if not after:
            return True
        if "target" in after:
            return held.waits.get(after["target"], after["target"]) in held.filled
        return held.best - held.ref >= exact(after["r"]) * held.r

    def candidates(self, held: Held, at: int, close: int) -> list[tuple[int, str]]:
        found, rig, side = [], self.rig, held.side
        even = rig.get("break_even")
        if even is not None and self.ready(held, even.get("after")):
            level = held.ref + exact(even.get("offset_ticks", 0))
            if even.get("cover_costs"):
                tick_value = held.whole * self.slow.step * self.tick * self.slow.unit
                costs = (
                    2 * self.slow.fee(held.whole, side * held.ref) / tick_value
                    + self.enter_slip
                    + self.exit_slip
                )
                found.append((-floor(-(level + costs)), "break_even"))
            else:
                found.append((down(level), "break_even"))
        for number, (reached, to) in enumerate(held.steps, 1):
            if held.best - held.ref >= reached:
                found.append((down(held.ref + to), f"step_{number}"))
        level = self.trailed(held, at, close)
        if level is not None and level >= held.stop + rig["trail"].get("step_ticks", 1):
            found.append((level, "trail"))
        return found

    def trailed(self, held: Held, at: int, close: int) -> int | None:
        trail, side = self.rig.get("trail"), held.side
        if trail is None or not self.ready(held, trail.get("after")):
            return None
        if self.trails[side]:
            value = self.trails[side][at]
            if value is None:
                return None
            up = self.bars[at].spread if side < 0 else 0
            return down(side * (Fraction(value) + up) - exact(trail.get("offset_ticks", 0)))
        anchor = close if trail.get("anchor") == "close" else held.best
        if "atr" in trail:
            value = self.atr[at]
            if value is None:
                return None
            return down(
                anchor - exact(trail.get("base_ticks", 0)) - exact(trail["atr"]) * Fraction(value)
            )
        if "percent" in trail:
            return down(anchor - abs(anchor) * exact(trail["percent"]) / 100)
        return down(anchor - exact(trail["ticks"]))

    def move(self, held: Held, at: int, close: int) -> None:
        best: tuple[int, str] | None = None
        for level, reason in self.candidates(held, at, close):
            if level >= close:
                continue
            kept = min(level, close - self.margin)
            if kept > held.stop and (best is None or kept > best[0]):
                best = kept, reason
        if best is not None:
            held.stop = best[0]
            held.moves.append((self.rows[at][-1] + 1, *best))

    def decided(self, held: Held, at: int, worth: float) -> tuple[str | None, bool]:
        """Why it is left at the next open, and whether it turns."""
        rig, timed = self.rig, self.rig.get("time_exit", {})
        opposite = self.signal[at] == -held.side and rig.get("reverse", False)
        if opposite or self.leave[at] == -held.side:
            return "signal", opposite
        basket = rig.get("basket", {})

        def amount(rule: dict[str, float]) -> float:
            return rule["money"] if "money" in rule else rule["percent"] / 100 * held.cash

        if "stop" in basket and worth <= -amount(basket["stop"]):
            return "basket", False
        if "target" in basket and worth >= amount(basket["target"]):
            return "basket", False
        if timed.get("bars") and at - held.first + 1 >= timed["bars"]:
            return "time", False
        if self.left_after[at]:
            return "time", False
        return None, False

    # The whole

    def ended(self, held: Held, at: int) -> None:
        number = len(self.trades) + 1
        net = float(held.flow * self.slow.step * self.tick * self.slow.unit)
        net += held.realised - held.fees
        self.cash = held.cash + net
        first = held.fills[0]
        self.trades.append(
            {
                "id": number,
                "side": "long" if held.side > 0 else "short",
                "signal_time": held.decided,
                "entry_time": held.row,
                "exit_time": at,
                "entry": first[3],
                "qty": held.entered,
                "initial_stop": held.side * held.moves[0][1],
                "planned_risk": held.risk,
                "net": net,
                "r": net / held.risk,
                "mae_r": max(0, held.ref - held.worst) / held.r,
                "mfe_r": max(0, held.best - held.ref) / held.r,
                "exit_reason": held.fills[-1][2],
            }
        )
        self.fills += [(number, *one) for one in held.fills]
        self.moves += [
            (number, bar, held.side * level, reason) for bar, level, reason in held.moves
        ]

    def follow(self, held: Held) -> int:
        """The side of what follows the trade; 0: nothing."""
        rule, reason = self.rig.get("follow_on"), held.fills[-1][2]
        if rule is None or held.chain >= rule.get("max_chain", 1):
            return 0
        side = 0
        if reason.startswith("target"):
            side = held.side
        elif reason == "stop" and held.stop < held.ref:
            side = -held.side
        return (
            side
            if self.rig.get("direction", "both") in ("both", "long" if side > 0 else "short")
            else 0
        )

    def run(self) -> SlowRehearsal:  # noqa: PLR0912  # the steps of section 10, one after the other
        held: Held | None = None
        pending: tuple[int, int, int] | None = None  # side, bar decided at, chain
        leaving: str | None = None
        turning, n = False, len(self.bars)
        for at in range(n):
            first, last = self.rows[at][0], self.rows[at][-1]
            if held is not None:
                held.at_open, held.grown = held.left, False
                bar = self.mirrored(self.fine[first], held.side)
                self.at_rate(first)
                if leaving is not None:
                    held.best, held.worst = max(held.best, bar.open), min(held.worst, bar.open)
                    price = self.at_least_a_tick(bar.open - self.exit_slip, held.side)
                    self.exit(held, first, leaving, price, held.left)
                    self.ended(held, first)
                    pending = (-held.side, at - 1, 0) if turning else None
                    held, leaving = None, None
            for row in self.rows[at]:
                if held is None and pending is not None:
                    side, decided, chain = pending
                    held = self.enter(side, decided, chain, at, row)
                pending = None
                if held is None:
                    continue
                self.at_rate(row)
                self.inside(held, row)
                if held.left == 0:
                    self.ended(held, row)
                    follows = self.follow(held)
                    if follows:
                        pending = follows, at, held.chain + 1
                    held = None
            if held is not None:
                if held.grown:
                    target = exact(self.rig["ladder"]["target_ticks"])
                    held.goal = down(held.value / held.entered + target)
                close = self.mirrored(self.bars[at], held.side).close
                if at == n - 1:
                    self.exit(held, last, "end", Fraction(close), held.left)
                    self.ended(held, last)
                    held = None
                else:
                    worth = self.worth(held, close)
                    leaving, turning = self.decided(held, at, worth)
                    self.move(held, at, close)
                    self.equity.append(held.cash + worth)
                    continue
            self.equity.append(self.cash)
            if pending is None and self.signal[at]:
                pending = self.signal[at], at, 0
        return self
