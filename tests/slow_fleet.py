"""A second, slow reading of reckoning section 13, for comparison only: several members on one
account, each a `SlowRehearsal` of its own folder. Written from the text, a rule at a time."""

from __future__ import annotations

import tomllib
from fractions import Fraction
from pathlib import Path
from typing import Any

from slow_lines import atr
from slow_reading import Slow, exact
from slow_rehearsal import Held, SlowRehearsal


class SlowMember(SlowRehearsal):
    """One member; `name` as in the fleet."""

    def __init__(self, fleet: SlowFleet, folder: Path, timeframe: int) -> None:
        super().__init__(folder, fleet.order, timeframe)
        self.fleet, self.name = fleet, folder.name
        self.held: Held | None = None
        self.pending: tuple[int, int, int] | None = None  # side, bar decided at, chain
        self.leaving: str | None = None
        self.turning = self.lapses = False
        self.at = 0  # the bar that opens next or is under way
        self.row = 0  # the finer bar that comes next
        self.done = 0.0
        self.names = {self.instrument[key] for key in ("base", "quote") if self.instrument.get(key)}
        of = fleet.file.get("rank")
        self.rank = atr(self.bars, of["length"], "wilder") if of else []

    def ranked(self) -> Fraction | None:
        value = self.rank[self.at - 1] if self.rank and self.at else None
        return None if value is None else Fraction(value) * self.tick

    def opens_at(self) -> int | None:
        return self.fine_times[self.row] if self.row < len(self.fine_times) else None

    def marked(self, t: int) -> float:
        """What the open trade is worth: at this moment's open, else at its last close."""
        held = self.held
        assert held is not None
        now = self.opens_at() == t
        row = self.row if now else self.row - 1
        self.at_rate(row)
        bar = self.mirrored(self.fine[row], held.side)
        return self.worth(held, bar.open if now else bar.close)

    def realised(self) -> float:
        held = self.held
        assert held is not None
        gone = held.flow + held.left * held.value / held.entered
        money = float(gone * self.slow.step * self.tick * self.slow.unit)
        return (0.0 if self.rates else money) + held.realised - held.fees

    def margin_bound(self) -> Fraction:
        held = self.held
        assert held is not None
        worth = abs(held.ref) * held.left * self.slow.step * self.tick * self.slow.unit
        return worth * exact(self.instrument["margin_rate"])

    def heat(self) -> float:
        """Rungs that wait count as if they had filled at their levels."""
        held = self.held
        assert held is not None
        steps = held.left + sum(rung[2] for rung in held.rungs)
        value = held.value / held.entered * held.left
        value += sum(rung[1] * rung[2] for rung in held.rungs)
        entry = value / steps
        lost = (entry - held.stop) * steps * self.slow.step * self.tick * self.slow.unit
        fees = self.slow.fee(steps, held.side * entry) + self.slow.fee(steps, held.side * held.stop)
        return max(0.0, float(lost + fees))

    def sized(self, side: int, at: int, row: int) -> Slow:
        slow = super().sized(side, at, row)
        self.fleet.tell(self, slow, self.fine_times[row])
        return slow

    def within_caps(self, slow: Slow, steps: list[int], levels: list[int], worst: Fraction) -> bool:
        policy, slack = slow.policy, 1 + Fraction(1, 10**9)
        self.account["margin_used"] = float(slow.acc["margin_used"])
        try:
            if not super().within_caps(slow, steps, levels, worst):
                return False
        finally:
            self.account["margin_used"] = self.fleet.account.get("margin_used", 0.0)
        taken = {
            "max_heat_percent": slow.data["open_heat"],
            "max_currency_heat_percent": max(
                slow.data["open_heat_by_currency"].get(name, 0) for name in self.names
            ),
        }
        for key, open_heat in taken.items():
            limit = self.share(policy, key, slow.equity)
            if limit is not None and worst > max(0, limit - exact(open_heat)) * slack:
                return False
        return True


class SlowFleet:
    """The fleet of a folder under one order: a member is a folder within it."""

    def __init__(self, folder: Path, order: str, timeframe: int = 0) -> None:
        self.order = order
        self.file = tomllib.loads((folder / "fleet.toml").read_text())
        self.account = tomllib.loads((folder / "account.toml").read_text())
        self.cash = float(self.account["equity"])
        self.members = [
            SlowMember(self, folder / Path(one["rig"]).parent, timeframe)
            for one in self.file["member"]
        ]
        self.trades: list[dict[str, Any]] = []
        self.refused: list[tuple[int, str, int, str]] = []
        self.equity: list[tuple[int, float, float, int]] = []
        self.group_equity = self.group_done = 0.0

    def holding(self) -> list[SlowMember]:
        return [one for one in self.members if one.held is not None]

    def tell(self, member: SlowMember, slow: Slow, t: int) -> None:
        """The account as it is for an entry of a member."""
        heat: dict[str, float] = {}
        worth = realised = 0.0
        margin, total = exact(self.account.get("margin_used", 0.0)), 0.0
        for one in self.holding():
            worth += one.marked(t)  # and its money is that of the moment
            realised += one.realised()
            margin += one.margin_bound()
            lost = one.heat()
            total += lost
            for name in one.names:
                heat[name] = heat.get(name, 0.0) + lost
        begun = float(self.account["equity"])
        account = slow.acc
        account["balance"] = (
            float(self.account.get("balance", begun)) - begun + self.cash + realised
        )
        account["equity"] = self.cash + worth
        account["margin_used"] = float(margin)
        slow.equity = exact(account["equity"])
        slow.data |= {
            "open_heat": total,
            "open_heat_by_currency": heat,
            "positions": len(self.holding()),
        }

    def over(self, one: SlowMember, row: int) -> None:
        """A member's trade has ended."""
        held = one.held
        assert held is not None
        held.cash = 0.0
        one.ended(held, row)
        net = one.trades[-1]["net"]
        self.cash += net
        self.group_done += net
        one.done += net
        one.held, one.leaving = None, None

    def enter(self, one: SlowMember, t: int) -> None:
        assert one.pending is not None
        side, decided, chain = one.pending
        one.pending, lapses, one.lapses = None, one.lapses, False
        if lapses:
            if one.allowed(side, one.row):
                self.refused.append((t, one.name, side, "basket"))
            return
        before = len(one.refused)
        held = one.enter(side, decided, chain, one.at, one.row)
        self.refused += [(t, one.name, side, code) for _, side, code in one.refused[before:]]
        if held is None:
            return
        held.cash = float(one.slow.equity)  # its own basket goes by it
        if not self.holding():
            self.group_equity, self.group_done = held.cash, 0.0
        one.held = held

    def opens(self, one: SlowMember) -> None:
        """What was decided is done."""
        held = one.held
        if held is None:
            return
        held.at_open, held.grown = held.left, False
        if one.leaving is None:
            return
        bar, why, turning = one.mirrored(one.fine[one.row], held.side), one.leaving, one.turning
        one.at_rate(one.row)
        held.best, held.worst = max(held.best, bar.open), min(held.worst, bar.open)
        price = one.at_least_a_tick(bar.open - one.exit_slip, held.side)
        one.exit(held, one.row, why, price, held.left)
        self.over(one, one.row)
        one.pending = (-held.side, one.at - 1, 0) if turning else None

    def goes_by(self, one: SlowMember) -> None:
        held, row = one.held, one.row
        one.row += 1
        if held is None:
            return
        one.at_rate(row)
        one.inside(held, row)
        if held.left == 0:
            self.over(one, row)
            follows = one.follow(held)
            one.pending = (follows, one.at, held.chain + 1) if follows else None

    def due(self, members: list[SlowMember]) -> list[SlowMember]:
        """The entries that are due, in their order."""
        waiting: list[SlowMember] = []
        for one in members:
            if one.pending is None:
                continue
            own, at = one.ranked(), len(waiting)
            while at and own is not None:
                other = waiting[at - 1].ranked()
                noise = Fraction(1, 10**10) * max(abs(own), abs(other or 0))
                if other is not None and not own - other > noise:
                    break
                at -= 1
            waiting.insert(at, one)
        return waiting

    def reached(self) -> bool:
        rule = self.file.get("basket", {})
        won = self.group_done + sum(one.marked(-1) for one in self.holding())

        def of(amount: dict[str, float]) -> float:
            return amount.get("money", amount.get("percent", 0) / 100 * self.group_equity)

        if not self.holding():
            return False
        return ("stop" in rule and won <= -of(rule["stop"])) or (
            "target" in rule and won >= of(rule["target"])
        )

    def close(self, here: list[SlowMember]) -> None:
        for one in here:
            held = one.held
            if held is not None and held.grown:
                target = exact(one.rig["ladder"]["target_ticks"])
                held.goal = int((held.value / held.entered + target) // 1)
        for one in here:
            held = one.held
            if held is not None and one.at < len(one.bars) - 1:
                close = one.mirrored(one.bars[one.at], held.side).close
                one.at_rate(one.row - 1)
                worth = one.worth(held, close)
                one.leaving, one.turning = one.decided(held, one.at, worth)
                one.move(held, one.at, close)
        reached = self.reached()
        for one in here:  # what the close signals
            last = one.at == len(one.bars) - 1
            if one.held is None and one.pending is None and one.signal[one.at] and not last:
                one.pending = one.signal[one.at], one.at, 0
        for one in self.members if reached else ():
            if one.held is not None:
                one.leaving = one.leaving or "basket"
                one.lapses = one.turning
            elif one.pending is not None:
                one.lapses = True
        for one in here:
            held = one.held
            if held is not None and one.at == len(one.bars) - 1:
                one.at_rate(one.row - 1)
                close = one.mirrored(one.bars[one.at], held.side).close
                one.exit(held, one.row - 1, "end", Fraction(close), held.left)
                self.over(one, one.row - 1)

    def run(self) -> SlowFleet:
        openings = sorted({at for one in self.members for at in one.times})
        for opening in openings:
            here = [one for one in self.members if opening == self.next_of(one)]
            while True:
                ahead = [one for one in here if one.row in one.rows[one.at]]
                if not ahead:
                    break
                t = min(one.fine_times[one.row] for one in ahead)
                now = [one for one in ahead if one.fine_times[one.row] == t]
                for one in now:
                    if one.row == one.rows[one.at][0]:
                        self.opens(one)
                for one in self.due([one for one in now if one.held is None]):
                    self.enter(one, t)
                for one in now:
                    self.goes_by(one)
            self.close(here)
            for one in here:
                one.at += 1
            worth = sum(one.marked(-1) for one in self.holding())
            heat = sum(one.heat() for one in self.holding())
            self.equity.append((opening, self.cash + worth, heat, len(self.holding())))
        return self

    @staticmethod
    def next_of(one: SlowMember) -> int | None:
        return one.times[one.at] if one.at < len(one.times) else None
