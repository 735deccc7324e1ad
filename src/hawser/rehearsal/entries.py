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
from hawser.core.rules.quantity import AtStop, money_stop_distance
from hawser.core.rules.refusals import Refusal
from hawser.core.rules.sizes import (
    BUDGET,
    FREE_CAP,
    GIVEN,
    PLENTY,
    ROOM_CAP,
    UNBOUND,
    Limits,
    only_cap,
    quantity,
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
EQUITY, BALANCE, OF_FREE_MARGIN = 0, 1, 2  # what a percentage is of
# whole numbers: a member of the kind would be another type to compiled code
NONE, INDICATOR_NOT_READY = int(Refusal.NONE), int(Refusal.INDICATOR_NOT_READY)
NO_EQUITY, QTY_OFF_STEP = int(Refusal.NO_EQUITY), int(Refusal.QTY_OFF_STEP)
COSTS_EXCEED_RISK, STOP_NOT_POSITIVE = (
    int(Refusal.COSTS_EXCEED_RISK),
    int(Refusal.STOP_NOT_POSITIVE),
)
TARGET_WRONG_SIDE, MAX_POSITIONS = int(Refusal.TARGET_WRONG_SIDE), int(Refusal.MAX_POSITIONS)
QTY_MAX, FREE_MARGIN = int(Refusal.QTY_MAX), int(Refusal.FREE_MARGIN)
BELOW_MIN, BAD_REQUEST = int(Refusal.BELOW_MIN), int(Refusal.BAD_REQUEST)


class Sizer(NamedTuple):
    """How an account sizes: `method` as in `core/rules/sizes.py`; percentages not set are NaN;
    `balance_off` is balance less equity at the start. With GIVEN: `given` steps (-1: not a whole
    number of them), or an investment of `amount` (given 0). `most_positions`: -1 where the policy
    names no number."""

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
    most_positions: int


class AccountNow(NamedTuple):
    """The account at an entry: money, and how many positions are open. `currency_heat` is the most
    of any currency that the instrument is exposed to."""

    equity: float
    balance: float
    margin_used: float
    open_heat: float
    currency_heat: float
    positions: int


class Begun(NamedTuple):
    """A trade to be played, of 0 steps where it is refused; its whole risk at entry, money; why it
    is refused (a `Refusal`)."""

    trade: TradeStart
    rules: Rules
    risk: float
    refusal: int


@inlined
def alone_at(sizer: Sizer, cash: float) -> AccountNow:
    """The account where nothing is open."""
    return AccountNow(
        equity=cash,
        balance=cash + sizer.balance_off,
        margin_used=sizer.margin_used,
        open_heat=0.0,
        currency_heat=0.0,
        positions=0,
    )


@compiled
def _limits(sizer: Sizer, now: AccountNow) -> Limits:
    return Limits(
        equity=now.equity,
        free_margin=now.equity - now.margin_used,
        margin_rate=sizer.margin_rate,
        max_notional_percent=sizer.max_notional_percent,
        max_margin_percent=sizer.max_margin_percent,
        max_heat_percent=sizer.max_heat_percent,
        max_currency_heat_percent=sizer.max_currency_heat_percent,
        day_loss_room=math.nan,
        open_heat=now.open_heat,
        currency_heat=now.currency_heat,
    )


@compiled
def _budget(sizer: Sizer, now: AccountNow) -> float:
    if math.isnan(sizer.percent):
        return sizer.amount
    basis = now.equity
    if sizer.basis == BALANCE:
        basis = max(0.0, now.balance)
    elif sizer.basis == OF_FREE_MARGIN:
        basis = now.equity - now.margin_used
    return sizer.percent / 100.0 * basis


@inlined
def _full(sizer: Sizer, now: AccountNow) -> bool:
    """Whether the policy allows no further position."""
    return 0 <= sizer.most_positions <= now.positions


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
def _stop_base(history: BarRows, decided: int, side: int) -> float:
    """What a stop that is taken from bars stands on, ticks."""
    base: float = history.stop_long[decided] if side > 0 else history.stop_short[decided]
    return base


@inlined
def _ready(history: BarRows, setup: Setup, decided: int, side: int) -> bool:
    """Whether every indicator that the entry needs has a value at the bar that decided it."""
    if setup.needs_atr and not history.bars[decided]["atr"] > 0:
        return False
    return setup.stop.kind != Kind.COLUMN or _stop_base(history, decided, side) > 0


@inlined
def _initial_stop(
    history: BarRows,
    setup: Setup,
    money: Money,
    given: int,
    fixed: bool,
    side: int,
    decided: int,
    ref: int,
    spread: int,
) -> tuple[int, int]:
    """Why there is no stop, and the stop's level. `fixed`: the quantity is given."""
    if setup.stop.kind == Kind.MONEY:
        if not fixed:
            return BAD_REQUEST, -1
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
        return (NONE, ref - side * far) if far >= 0 else (COSTS_EXCEED_RISK, -1)
    if setup.stop.kind == Kind.COLUMN:
        base = _stop_base(history, decided, side)
        value = base - side * setup.stop.offset + (spread if side < 0 else 0)
        return NONE, stop_level(PRICE, value, float(ref), 0.0, side)
    atr = history.bars[decided]["atr"]
    return NONE, stop_level(setup.stop.kind, setup.stop.value, float(ref), atr, side)


@inlined
def _stands(stop: int, ref: int, exit_side: int, side: int, min_stop: int) -> int:
    """Why a stop may not stand."""
    verdict = stop_verdict(stop, ref, exit_side, side, min_stop)
    return NONE if verdict == STOP_OK else STOP_NOT_POSITIVE - 1 + verdict


@inlined
def _steps(
    sizer: Sizer,
    money: Money,
    given: int,
    now: AccountNow,
    atr: float,
    at_stop: AtStop,
) -> tuple[int, int, float]:
    """Why there is no quantity, the quantity after every cap, and its risk."""
    found = quantity(
        sizer.method,
        given,
        budget=_budget(sizer, now) if sizer.method == BUDGET else 0.0,
        percent=sizer.percent,
        multiple=sizer.multiple,
        atr=atr * money.tick,
        step=money.step,
        most=sizer.qty_max,
        limits=_limits(sizer, now),
        at_stop=at_stop,
    )
    asked, steps = found.asked, found.steps
    first = QTY_MAX if sizer.qty_max < asked else NONE
    for number, cap in enumerate(found.caps):
        if cap < asked and first == NONE:
            first = FREE_MARGIN + number
    if steps < asked and not sizer.fit:
        return first, 0, 0.0
    if steps < max(1, sizer.qty_min):
        return BELOW_MIN, 0, 0.0
    return NONE, steps, found.risk


@compiled
def _ladder_steps(
    sizer: Sizer, setup: Setup, money: Money, now: AccountNow, side: int, levels: Array, stop: int
) -> tuple[int, int]:
    """Why there is no ladder, and its base after every cap, in steps."""
    budget, factor, limits = _budget(sizer, now), setup.ladder.factor, _limits(sizer, now)
    base = ladder_base(
        limits,
        budget,
        sizer.qty_max,
        levels=levels,
        stop=stop,
        factor=factor,
        side=side,
        money=money,
    )
    if not sizer.fit:
        asked = ladder_base(
            UNBOUND, budget, PLENTY, levels=levels, stop=stop, factor=factor, side=side, money=money
        )
        if base < asked:
            if (
                ladder_base(
                    UNBOUND,
                    math.inf,
                    sizer.qty_max,
                    levels=levels,
                    stop=stop,
                    factor=factor,
                    side=side,
                    money=money,
                )
                < asked
            ):
                return QTY_MAX, 0
            first = FREE_CAP
            while first < ROOM_CAP:
                one = only_cap(limits, first)
                if (
                    ladder_base(
                        one,
                        math.inf,
                        PLENTY,
                        levels=levels,
                        stop=stop,
                        factor=factor,
                        side=side,
                        money=money,
                    )
                    < asked
                ):
                    break
                first += 1
            return FREE_MARGIN + first, 0
    if base < max(1, sizer.qty_min):
        return BELOW_MIN, 0
    return NONE, base


@compiled
def _ladder(
    sizer: Sizer,
    setup: Setup,
    money: Money,
    side: int,
    ref: int,
    exit_side: int,
    atr: float,
    now: AccountNow,
    laid: Levels,
) -> tuple[int, int, int, float]:
    """Why there is no ladder, its stop, base steps and worst case; the rungs beyond the first are
    laid."""
    spacing = distance(setup.ladder.spacing_kind, setup.ladder.spacing, float(ref), 0.0, atr)
    levels, stop = lay_rungs(ref, setup.ladder.rungs, spacing, setup.ladder.stop, side)
    base, refusal = 0, _stands(stop, ref, exit_side, side, setup.min_stop)
    if refusal == NONE and _full(sizer, now):
        refusal = MAX_POSITIONS
    if refusal == NONE:
        refusal, base = _ladder_steps(
            sizer, setup, money, now=now, side=side, levels=levels, stop=stop
        )
    worst = ladder_worst(
        base, levels, stop=stop, factor=setup.ladder.factor, side=side, money=money
    )
    laid.rungs[:] = side * levels[1:]
    laid.rung_steps[:] = rung_steps(base, setup.ladder.rungs, setup.ladder.factor)[1:]
    return refusal, stop, base, worst


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
def _sized(
    history: BarRows,
    money: Money,
    sizer: Sizer,
    setup: Setup,
    side: int,
    decided: int,
    ref: int,
    spread: int,
    exit_side: int,
    now: AccountNow,
) -> tuple[int, int, int, float]:
    """Why there is no entry, its stop, steps and risk, of a rig without a ladder; refusals in the
    reckoning's order."""
    given = sizer.given
    if sizer.method == GIVEN and given == 0:  # an investment
        given = steps_of_notional(
            sizer.amount, ref * money.tick * money.fees.unit_money * money.step
        )
    if given < 0:
        return QTY_OFF_STEP, -1, 0, 0.0
    refusal, stop = _initial_stop(
        history,
        setup,
        money=money,
        given=max(given, sizer.qty_min, 1),
        fixed=sizer.method == GIVEN,
        side=side,
        decided=decided,
        ref=ref,
        spread=spread,
    )
    if refusal == NONE:
        refusal = _stands(stop, ref, exit_side, side, setup.min_stop)
    if refusal == NONE and _wrong_target(setup, side, ref):
        refusal = TARGET_WRONG_SIDE
    if refusal == NONE and _full(sizer, now):
        refusal = MAX_POSITIONS
    if refusal != NONE:
        return refusal, stop, 0, 0.0
    at_stop, atr = _at_stop(money, ref, stop), history.bars[decided]["atr"]
    refusal, steps, risk = _steps(sizer, money, given=given, now=now, atr=atr, at_stop=at_stop)
    return refusal, stop, steps, risk


@inlined
def begin(
    history: BarRows,
    money: Money,
    sizer: Sizer,
    setup: Setup,
    side: int,
    first: int,
    at: int,
    now: AccountNow,
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
    atr = history.bars[decided]["atr"]
    stop, steps, risk, refusal = -1, 0, 0.0, NONE
    if not _ready(history, setup, decided, side):
        refusal = INDICATOR_NOT_READY
    elif not now.equity > 0:
        refusal = NO_EQUITY
    elif setup.ladder.rungs:
        refusal, stop, steps, risk = _ladder(
            sizer,
            setup,
            money=money,
            side=side,
            ref=ref,
            exit_side=exit_side,
            atr=atr,
            now=now,
            laid=levels,
        )
    else:
        refusal, stop, steps, risk = _sized(
            history,
            money,
            sizer=sizer,
            setup=setup,
            side=side,
            decided=decided,
            ref=ref,
            spread=spread,
            exit_side=exit_side,
            now=now,
        )
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
        cash=now.equity,
    )
    return Begun(TradeStart(side, first, at, ref=ref, steps=steps, stop=stop), rules, risk, refusal)
