"""A plan as the core is asked to size it: by the engine where it places one, and by a window that
shows what it would come to."""

from __future__ import annotations

import msgspec

from hawser.core import figures as fg
from hawser.core.account import Account
from hawser.core.errors import Refused
from hawser.core.fx import convert
from hawser.core.instrument import Instrument
from hawser.core.plan import Plan
from hawser.core.size_terms import SizeRequest
from hawser.core.sizing import check_indicators
from hawser.engine.model.exposure import Exposure
from hawser.engine.model.state import EngineState


def account_now(state: EngineState) -> Account:
    """The account with the venue's figures and the rates of this moment. An account has some
    equity: where there is none, `need_equity` refuses before anything is sized on what stands
    here."""
    assert state.account is not None
    return msgspec.structs.replace(
        state.account,
        equity=state.equity if state.equity > 0 else 0.01,
        balance=max(state.balance, 0.0),
        margin_used=max(state.margin_used, 0.0),
        rates=state.current_rates(),
    )


def need_equity(equity: float, request: SizeRequest) -> None:
    """Refuse to size on nothing, or on debts; a rate or an indicator that is missing is told
    before, as section 5 orders them. Raises Refused."""
    account = request.account
    if not equity > 0:
        convert(
            request.instrument.quote, account.currency, account.rates, account.policy.max_rate_age_s
        )
        check_indicators(request)
        sentence = (
            f"The account's equity is {fg.money(equity, account.currency)}: nothing can be "
            "sized on it."
        )
        raise Refused("no_equity", sentence, equity=equity)


def request_for(
    plan: Plan,
    account: Account,
    instrument: Instrument,
    quote: tuple[int, int],
    atr: float,
    staked: Exposure,
    held: int,
    basis: float,
) -> SizeRequest:
    """A plan as a request to the core, for the engine and for the screen alike; raises Refused
    where its entry cannot wait at its level."""
    level = plan.entry.level(instrument, *quote, atr, plan.side)
    return SizeRequest(
        instrument=instrument,
        account=msgspec.structs.replace(account, size=plan.size),
        side=plan.side,
        bid=quote[0],
        ask=quote[1],
        atr=atr,
        basis=basis,
        stop=plan.stop,
        targets=plan.targets,
        entry=level,
        open_heat=staked.heat,
        open_heat_by_currency=staked.by_currency,
        positions=held,
        ladder=plan.rig.ladder if plan.rig else None,
    )
