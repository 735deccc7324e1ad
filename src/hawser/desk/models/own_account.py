"""An account by questions, without Qt: the answers as they are typed, the account they make, and
what it comes to in money."""

from __future__ import annotations

import re

from hawser.core import figures as fg
from hawser.core.account import Account, Costs, Policy, SizeRule
from hawser.core.errors import BadInput
from hawser.core.typed_numbers import any_number
from hawser.formats.declared import as_read

MOST_AT_ONCE = 6  # risks of one trade that may be open at once
MOST_PERCENT = 10  # more is a slip of the hand
GAPS = re.compile(r"[\s'\u2019]")  # between thousands
TWO_WAYS = re.compile(r"[1-9][0-9]{0,2},[0-9]{3}")


def own_account(
    name: str,
    currency: str,
    equity: str,
    percent: str,
    rates: dict[str, str] | None = None,
    spread: str = "0",
) -> Account:
    """The account of these answers; `rates`: what was typed for each pair; `spread`: in ticks,
    where bars have none. Raises BadInput, in words."""
    money, share = _number("The money", equity), _number("The risk", percent)
    if share > MOST_PERCENT:
        raise BadInput("bad_account", f"Expected a risk of at most {MOST_PERCENT} % a trade")
    return as_read(
        Account(
            name=name.strip() or "Own",
            currency=currency.strip().upper(),
            equity=money,
            balance=money,
            size=SizeRule(percent=share),
            costs=Costs(spread_ticks=_number("The spread", spread)),
            policy=Policy(caps="fit", max_heat_percent=MOST_AT_ONCE * share),
            rates={pair: _number("The rate", text) for pair, text in (rates or {}).items()},
        )
    )


def _number(what: str, text: str) -> float:
    """A number as it is typed. 64,000 is sixty-four to some and sixty-four thousand to others."""
    plain = GAPS.sub("", text)
    if TWO_WAYS.fullmatch(plain):
        whole = plain.replace(",", "")
        raise BadInput(
            "bad_account",
            f"{what}: '{text.strip()}' can be read two ways; write {whole} or "
            f"{plain.replace(',', '.')}",
        )
    try:
        return any_number(plain)
    except BadInput:
        raise BadInput("bad_account", f"{what}: expected a number, got '{text[:40]}'") from None


def in_money(account: Account) -> str:
    """What one trade, and all of them, risk."""
    percent = account.size.percent or 0.0
    one = fg.money(account.equity * percent / 100, account.currency)
    return (
        f"One trade risks {one} at its stop. All that is open risks at most "
        f"{fg.percent(MOST_AT_ONCE * percent)} together."
    )
