"""From a signal to a trade, compiled: level the stop, size it, lay every rule (reckoning sections 4
to 8).

The rules are those of `core/rules`, the same that `core/sizing.py` calls with a request; here they
are called with a history's columns. What would be refused there is no entry here.
"""

from __future__ import annotations

import math
from typing import NamedTuple

from hawser.core.compiled import compiled, inlined
from hawser.core.indicators import Array
from hawser.core.rules.kinds import Kind
from hawser.core.rules.ladders import ladder_base, ladder_worst, lay_rungs, rung_steps
from hawser.core.rules.quantity import AtStop, money_stop_distance, risk_of
from hawser.core.rules.sizes import (
    BUDGET,
    GIVEN,
    PLENTY,
    UNBOUND,
    Limits,
    asked_steps,
    cap_steps,
    steps_of_notional,
)
from hawser.core.rules.stops import STOP_OK, stop_level, stop_verdict
from hawser.core.rules.targets import target_level
from hawser.core.rules.trade_levels import (
    Money,
    Rules,
    Setup,
    distance,
    lay_losses,
    lay_rules,
    lay_steps,
    lay_targets,
    money_at,
)
from hawser.rehearsal.records import BarRows, Levels, TradeStart

PRICE = int(Kind.PRICE)
EQUITY, BALANCE, FREE_MARGIN = 0, 1, 2


class Sizer(NamedTuple):
    """How an account sizes: `method` as in `core/rules/sizes.py`; percentages not set are NaN;
    `balance_off` is balance less equity at the start. With GIVEN: `given` steps, or an investment
    of `amount` (given 0)."""

    method: int
    percent: float
    amount: float
    multiple: float
    given: int
    basis: int
    balance_off: float
    margin_used: float
    margin_rate: float
    max_notional_percent: float
    max_margin_percent: float
    max_heat_percent: float
    max_currency_heat_percent: float
    fit: bool
    qty_max: int
    qty_min: int
    no_positions: bool  # the policy allows none


class Begun(NamedTuple):
    """A trade to be played; `steps` 0: there is no entry."""

    trade: TradeStart
    rules: Rules
    risk: float


@compiled
def _limits(sizer: Sizer, equity: float) -> Limits:
    return Limits(
        equity=equity,
        free_margin=equity - sizer.margin_used,
        margin_rate=sizer.margin_rate,
        max_notional_percent=sizer.max_notional_percent,
        max_margin_percent=sizer.max_margin_percent,
        max_heat_percent=sizer.max_heat_percent,
        max_currency_heat_percent=sizer.max_currency_heat_percent,
        day_loss_room=math.nan,
        open_heat=0.0,
        currency_heat=0.0,
    )


@compiled
def _budget(sizer: Sizer, equity: float) -> float:
    if math.isnan(sizer.percent):
        return sizer.amount
    basis = equity
    if sizer.basis == BALANCE:
        basis = max(0.0, equity + sizer.balance_off)
    elif sizer.basis == FREE_MARGIN:
        basis = equity - sizer.margin_used
    return sizer.percent / 100.0 * basis


@inlined
def _at_stop(money: Money, ref: int, stop: int) -> AtStop:
    loss = abs(ref - stop) + money.entry_slip + money.exit_slip
    return AtStop(
        loss,
        money.tick * money.fees.unit_money,
        ref * money.tick,
        stop * money.tick,
        money.fees,
    )


@inlined
def _initial_stop(
    history: BarRows,
    setup: Setup,
    money: Money,
    given: int,
    side: int,
    decided: int,
    ref: int,
    spread: int,
) -> int:
    """The stop's level; -1 where there is none."""
    if setup.stop.kind == Kind.MONEY:
        qty = given * money.step
        slip = money.entry_slip + money.exit_slip
        far = money_stop_distance(
            setup.stop.value,
            qty,
            side=side,
            ref_ticks=ref,
            tick=money.tick,
            slippage=slip,
            fees=money.fees,
        )
        return ref - side * far if far >= 0 else -1
    if setup.stop.kind == Kind.COLUMN:
        base = history.stop_long[decided] if side > 0 else history.stop_short[decided]
        if not base > 0:
            return -1
        value = base - side * setup.stop.offset + (spread if side < 0 else 0)
        return stop_level(PRICE, value, float(ref), 0.0, side)
    return stop_level(
        setup.stop.kind, setup.stop.value, float(ref), history.bars[decided]["atr"], side
    )


@inlined
def _steps(
    sizer: Sizer, setup: Setup, money: Money, given: int, equity: float, atr: float, at_stop: AtStop
) -> int:
    """The quantity after every cap; 0 where it is refused."""
    asked = given
    if sizer.method != GIVEN:
        budget = _budget(sizer, equity) if sizer.method == BUDGET else 0.0
        asked = asked_steps(
            sizer.method,
            budget,
            percent=sizer.percent,
            multiple=sizer.multiple,
            equity=equity,
            atr=atr * money.tick,
            step=money.step,
            at_stop=at_stop,
        )
    steps = min(asked, sizer.qty_max)
    for cap in cap_steps(_limits(sizer, equity), money.step, at_stop):
        steps = min(steps, cap)
    if steps < max(1, sizer.qty_min) or (steps < asked and not sizer.fit):
        return 0
    return steps


@compiled
def _ladder(
    sizer: Sizer,
    setup: Setup,
    money: Money,
    side: int,
    ref: int,
    exit_side: int,
    atr: float,
    equity: float,
    laid: Levels,
) -> tuple[int, int, float]:
    """Stop, base steps (0: refused), worst case; the rungs beyond the first are laid."""
    spacing = distance(setup.ladder.spacing_kind, setup.ladder.spacing, float(ref), 0.0, atr)
    levels, stop = lay_rungs(ref, setup.ladder.rungs, spacing, setup.ladder.stop, side)
    base, budget = 0, _budget(sizer, equity)
    if stop_verdict(stop, ref, exit_side, side, setup.min_stop) == STOP_OK:
        base = ladder_base(
            _limits(sizer, equity),
            budget,
            most_steps=sizer.qty_max,
            levels=levels,
            stop=stop,
            factor=setup.ladder.factor,
            side=side,
            money=money,
        )
    if base < max(1, sizer.qty_min):
        base = 0
    if (
        base
        and not sizer.fit
        and base
        < ladder_base(
            UNBOUND,
            budget,
            most_steps=PLENTY,
            levels=levels,
            stop=stop,
            factor=setup.ladder.factor,
            side=side,
            money=money,
        )
    ):
        base = 0
    worst = ladder_worst(
        base, levels, stop=stop, factor=setup.ladder.factor, side=side, money=money
    )
    laid.rungs[:] = side * levels[1:]
    laid.rung_steps[:] = rung_steps(base, setup.ladder.rungs, setup.ladder.factor)[1:]
    return stop, base, worst


@inlined
def _mirror(side: int, levels: Array) -> None:
    for k in range(levels.size):
        levels[k] *= side


@inlined
def _wrong_target(setup: Setup, side: int, ref: int) -> bool:
    """Whether a target at a price lies on the wrong side of the entry."""
    for k in range(setup.targets.kind.size):
        if (
            setup.targets.kind[k] == Kind.PRICE
            and setup.targets.value[k]
            and setup.targets.share[k]
        ):
            level = target_level(
                PRICE, setup.targets.value[k], ref=float(ref), r_ticks=0.0, atr=0.0, side=side
            )
            if side * (level - ref) < 0:
                return True
    return False


@inlined
def begin(
    history: BarRows,
    money: Money,
    sizer: Sizer,
    setup: Setup,
    side: int,
    first: int,
    at: int,
    cash: float,
    levels: Levels,
) -> Begun:
    """The trade that is entered at the open of the row `at` of prices, in the bar `first`, by what
    is known of the bar before; `levels` are laid for it."""
    decided = first - 1
    money = money_at(money, history.units, at)
    entered = history.prices[at]
    bid, spread = entered["open"], entered["spread"]
    ref = bid + spread if side > 0 else bid
    exit_side = bid if side > 0 else bid + spread
    atr, equity = history.bars[decided]["atr"], cash
    stop, steps, risk, given = -1, 0, 0.0, sizer.given
    known = (atr > 0 or not setup.needs_atr) and not sizer.no_positions and equity > 0
    if sizer.method == GIVEN and given == 0:  # an investment
        given = steps_of_notional(
            sizer.amount, ref * money.tick * money.fees.unit_money * money.step
        )
    if known and setup.ladder.rungs:
        stop, steps, risk = _ladder(
            sizer,
            setup,
            money=money,
            side=side,
            ref=ref,
            exit_side=exit_side,
            atr=atr,
            equity=equity,
            laid=levels,
        )
    elif known:
        stop = _initial_stop(
            history,
            setup,
            money=money,
            given=max(given, sizer.qty_min, 1),
            side=side,
            decided=decided,
            ref=ref,
            spread=spread,
        )
        if stop_verdict(
            stop, ref, exit_side, side, setup.min_stop
        ) == STOP_OK and not _wrong_target(setup, side, ref):
            at_stop = _at_stop(money, ref, stop)
            steps = _steps(
                sizer, setup, money=money, given=given, equity=equity, atr=atr, at_stop=at_stop
            )
            risk = risk_of(steps * money.step, at_stop)
    r_ticks = abs(ref - stop)
    if steps > 0:
        lay_targets(
            setup,
            side,
            ref=ref,
            r_ticks=r_ticks,
            atr=atr,
            steps=steps,
            levels=levels.targets,
            parts=levels.target_parts,
        )
        lay_losses(
            setup,
            side,
            ref=ref,
            r_ticks=r_ticks,
            steps=steps,
            levels=levels.losses,
            parts=levels.loss_parts,
        )
        lay_steps(
            setup, side, ref=ref, r_ticks=r_ticks, atr=atr, at=levels.step_at, to=levels.step_to
        )
        _mirror(side, levels.targets)
        _mirror(side, levels.losses)
    rules = lay_rules(
        setup,
        money,
        side=side,
        ref=ref,
        r_ticks=r_ticks,
        steps=max(1, steps),
        parts=levels.target_parts,
        cash=cash,
    )
    return Begun(TradeStart(side, first, at, ref, steps, stop), rules, risk)
