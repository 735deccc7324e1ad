"""What people type into a field: numbers with their units, in a small grammar of our own.

    size     0.6 %                          risk, of equity
             0.6 % of balance               or of free margin
             385 CHF                        risk in money
             2 units                        a fixed quantity
             20 % notional                  a share of equity in notional
             1 % per 2.5 atr                equal movement per unit of volatility
             invest 5000 risk 150 CHF       the stop follows
    stop     2.5 atr | 0.8 % | 46 t | 0.60879 (a price) | 150 CHF (with units)
             3 bars | pivot 2 3 | sma 20 | ema 20 | channel 20 | supertrend 10 3 | parabolic
             the last row also with an offset, farther away: 3 bars + 2 t
    target   1.5 R | 2 atr | 0.8 % | 46 t | 0.61605 (a price)
    share    40 % | 0.4 | rest
    entry    market | limit 0.61100 | stop 0.61500 | limit 0.5 atr | stop 1 atr
             market and stop also with a bound: market within 5 t
             straddle 1 atr: a buy stop above and a sell stop below, one cancels the other
    good     until cancelled | 30 min | 2 h | 14:30 (UTC) | session end
    held     nothing | 2 R | 2 R, settle 500 ms
    trail    3 atr | nothing

Spaces and capitals are free, a comma may stand for the decimal point, thousands may be grouped by
spaces. What is wrong is told in one sentence. `described` and `size_text` write a rule back the way
it would be typed.
"""

from __future__ import annotations

import re
from decimal import Decimal
from typing import Literal

import msgspec

from hawser.core.account import Basis, SizeRule
from hawser.core.entry import EntryRule, GoodUntil, HeldRule
from hawser.core.errors import BadInput
from hawser.core.levels import LineRule, StopRule, TargetRule
from hawser.core.typed_numbers import (
    NUMBER,
    OFFSET,
    decimal,
    hundred,
    plain,
    positive,
    read_unit,
    split_unit,
    tidied,
)

_PERCENT_OF = re.compile(r"^(?:of\s+)?(equity|balance|free(?:\s+margin)?)$")
_BASES: dict[str, Basis] = {"equity": "equity", "balance": "balance", "free": "free_margin"}
_PER_ATR = re.compile(rf"^per\s+({NUMBER})\s*atr$")
_INVEST = re.compile(
    rf"^\s*invest\s+({NUMBER})\s*([a-z]{{3}})?\s*[,;]?\s*risk\s+({NUMBER})\s*([a-z]{{3}})?\s*$"
)
SIZES = "0.6 %, 385 CHF or 2 units"
STOPS = "2.5 atr, 0.8 %, 46 t, a price, or 3 bars"


def _in_currency(word: str, currency: str) -> None:
    if word.upper() != currency:
        raise BadInput(
            "bad_entry",
            f"The account is in {currency}; expected an amount such as 385 {currency}",
        )


@tidied
def read_size(text: str, currency: str) -> SizeRule:
    """How large: a risk, a quantity or an investment, for an account in `currency`."""
    invest = _INVEST.match(text.lower())
    if invest is not None:
        _in_currency(invest.group(2) or currency, currency)
        _in_currency(invest.group(4) or currency, currency)
        return SizeRule(
            "invest",
            amount=float(positive(invest.group(1))),
            risk=float(positive(invest.group(3))),
        )
    number, words = split_unit(text, SIZES.replace("CHF", currency))
    head, _, rest = words.partition(" ")
    if head in ("", "%", "percent"):
        return _percent_size(number, rest.strip())
    if head in ("unit", "units", "u") and not rest:
        return SizeRule("fixed", qty=number)
    if re.fullmatch("[a-z]{3}", head) and not rest and head != "atr":
        _in_currency(head, currency)
        return SizeRule("risk_money", amount=float(number))
    raise BadInput(
        "bad_entry",
        f"'{words}' is not understood here; expected {SIZES.replace('CHF', currency)}",
    )


def _percent_size(number: Decimal, rest: str) -> SizeRule:
    if rest == "notional":
        return SizeRule("notional_percent", percent=float(number))
    percent = hundred(number)
    if not rest:
        return SizeRule(percent=percent)
    of, per = _PERCENT_OF.match(rest), _PER_ATR.match(rest)
    if of is not None:
        name = of.group(1).split()[0]
        return SizeRule(percent=percent, basis=_BASES[name])
    if per is not None:
        return SizeRule("volatility", percent=percent, multiple=float(positive(per.group(1))))
    expected = "of balance, of free margin, notional, or per 2.5 atr"
    raise BadInput(
        "bad_entry", f"'{rest}' is not understood behind a percentage; expected {expected}"
    )


def size_text(rule: SizeRule, currency: str) -> str:
    """A size rule as it would be typed."""
    if rule.method == "risk_percent":
        of = "" if rule.basis == "equity" else f" of {rule.basis.replace('_', ' ')}"
        return f"{rule.percent:g} %{of}"
    return {
        "risk_money": lambda: f"{plain(rule.amount)} {currency}",
        "fixed": lambda: f"{rule.qty} units",
        "notional_percent": lambda: f"{rule.percent:g} % notional",
        "volatility": lambda: f"{rule.percent:g} % per {rule.multiple:g} atr",
        "invest": lambda: f"invest {plain(rule.amount)} risk {plain(rule.risk)} {currency}",
    }[rule.method]()


@tidied
def read_stop(text: str, currency: str) -> StopRule:
    """An initial stop."""
    lower = text.strip().lower()
    offset = OFFSET.match(lower)
    base, ticks = (offset.group(1), decimal(offset.group(3))) if offset else (lower, Decimal(0))
    shift = float(-ticks if offset and offset.group(2) == "-" else ticks)
    found = from_bars(base)
    if found is not None:
        return msgspec.structs.replace(found, offset_ticks=shift)
    number, words = split_unit(text, STOPS)
    if words.upper() == currency:
        return StopRule(money=float(number))
    unit, number = read_unit(text, ("atr", "percent", "ticks", "price"), STOPS)
    return (
        StopRule(price=number)
        if unit == "price"
        else msgspec.convert({unit: float(number)}, StopRule)
    )


def from_bars(text: str) -> StopRule | None:
    """A stop taken from completed bars, where the words are those of one."""
    words = text.replace(",", " ").split()
    if len(words) == 2 and words[0].isdecimal() and words[1] in ("bar", "bars"):
        return StopRule(bars=int(words[0]))
    if not words or words[0] not in ("pivot", "sma", "ema", "channel", "supertrend", "parabolic"):
        return None
    kind, figures = words[0], words[1:]
    wanted = {"pivot": 2, "supertrend": 2, "parabolic": 0}.get(kind, 1)
    whole = figures[:1] if kind == "supertrend" else figures
    plain = all(figure.isdecimal() for figure in whole) and all(
        re.fullmatch(NUMBER, figure) for figure in figures
    )
    if len(figures) != wanted or not plain:
        example = {
            "pivot": "pivot 2 3",
            "supertrend": "supertrend 10 3",
            "parabolic": "parabolic",
        }.get(kind, f"{kind} 20")
        raise BadInput("bad_entry", f"Expected {example}")
    if kind == "pivot":
        return StopRule(pivot=(int(figures[0]), int(figures[1])))
    if kind == "supertrend":
        return StopRule(line=LineRule("supertrend", int(figures[0]), float(positive(figures[1]))))
    # one of the words above
    return StopRule(line=LineRule(kind, int(figures[0])) if figures else LineRule("parabolic"))  # type: ignore[arg-type]


def described(rule: StopRule) -> str:
    """A stop taken from bars as it would be typed."""
    if rule.bars is not None:
        text = f"{rule.bars} bars"
    elif rule.pivot is not None:
        text = f"pivot {rule.pivot[0]} {rule.pivot[1]}"
    else:
        line = rule.line
        assert line is not None  # described is for stops taken from bars
        more = {
            "parabolic": "",
            "supertrend": f" {line.length} {plain(line.factor)}" if line.factor else "",
        }
        text = line.kind + more.get(line.kind, f" {line.length}")
    if rule.offset_ticks:
        text += f" {'+' if rule.offset_ticks > 0 else '-'} {plain(abs(rule.offset_ticks))} t"
    return text


def stop_text(rule: StopRule, currency: str) -> str:
    """A stop rule as it would be typed."""
    if rule.from_bars:
        return described(rule)
    if rule.kind == "price":
        return f"{rule.price:f}"
    return (
        f"{plain(rule.value)} "
        + {"atr": "atr", "percent": "%", "ticks": "t", "money": currency}[rule.kind]
    )


@tidied
def read_target(text: str, share: float) -> TargetRule:
    """A target's level, taking `share` of the position."""
    unit, number = read_unit(
        text, ("r", "atr", "percent", "ticks", "price"), "1.5 R, 2 atr, 0.8 %, 46 t or a price"
    )
    if unit == "price":
        return TargetRule(share=share, price=number)
    return msgspec.convert({"share": share, unit: float(number)}, TargetRule)


@tidied
def read_share(text: str, left: float) -> float:
    """A share of the position as a fraction; 'rest' is what earlier targets `left`."""
    if text.strip().lower() == "rest":
        return max(0.0, left)
    if re.fullmatch(r"\s*0?[.,][0-9]+\s*|\s*1\s*|\s*1[.,]0*\s*", text):
        return float(text.replace(",", "."))
    _, number = read_unit(text if "%" in text else text + "%", ("percent",), "40 %")
    return hundred(number) / 100.0


_LEVEL_ENTRY = re.compile(rf"^(limit|stop)\s+(?:at\s+)?({NUMBER})\s*(atr)?$")
_WITHIN = re.compile(rf"^(.*?)\s*\bwithin\s+({NUMBER})\s*t(?:icks?)?$")
_HELD = re.compile(rf"^({NUMBER})\s*r(?:\s*[,;]?\s*settle\s+({NUMBER})\s*ms)?$")
_CANCELLED = GoodUntil()
ENTRIES = "market, limit 0.61100 or stop 0.61500"


@tidied
def read_entry(text: str, good: GoodUntil = _CANCELLED) -> EntryRule:
    """How to enter; `good` goes with an entry that waits."""
    words = text.strip().lower()
    within = _WITHIN.match(words)
    head, ticks = (within.group(1), decimal(within.group(2))) if within else (words, None)
    if ticks is not None and ticks != int(ticks):
        raise BadInput("bad_entry", "Expected whole ticks behind 'within'")
    bound = None if ticks is None else int(ticks)
    if head in ("", "market"):
        return EntryRule(within_ticks=bound)
    level = _LEVEL_ENTRY.match(head)
    if level is None:
        raise BadInput("bad_entry", f"'{text.strip()}' is not understood here; expected {ENTRIES}")
    kind: Literal["limit", "stop"] = "limit" if level.group(1) == "limit" else "stop"
    number, unit = level.group(2), level.group(3)
    if kind == "limit" and bound is not None:
        raise BadInput("bad_entry", "A limit never fills worse than its level: leave 'within' away")
    value = positive(number)
    if unit:
        return EntryRule(kind, atr=float(value), within_ticks=bound, good=good)
    return EntryRule(kind, price=value, within_ticks=bound, good=good)


_STRADDLE = re.compile(rf"^straddle\s+({NUMBER})\s*atr$")


@tidied
def read_straddle(text: str) -> tuple[float, int | None] | None:
    """The distance of a straddle in ATR and its bound in ticks; None where the text is no
    straddle."""
    words = text.strip().lower()
    if not words.startswith("straddle"):
        return None
    within = _WITHIN.match(words)
    found = _STRADDLE.match(within.group(1) if within else words)
    if found is None:
        raise BadInput("bad_entry", "Expected straddle 1 atr, or straddle 1 atr within 8 t")
    return float(positive(found.group(1))), int(decimal(within.group(2))) if within else None


def entry_text(rule: EntryRule) -> str:
    """An entry rule as it would be typed."""
    within = "" if rule.within_ticks is None else f" within {rule.within_ticks} t"
    if not rule.pending:
        return f"market{within}"
    return (
        f"{rule.kind} "
        f"{f'{rule.price:f}' if rule.price is not None else f'{rule.atr:g} atr'}{within}"
    )


@tidied
def read_good(text: str) -> GoodUntil:
    """How long an entry waits."""
    words = text.strip().lower().removeprefix("until ").strip()
    if words in ("", "cancelled"):
        return GoodUntil()
    if words in ("session end", "the session's end", "end of session"):
        return GoodUntil(session_end=True)
    if re.fullmatch(r"[0-9]{1,2}:[0-9]{2}", words):
        return GoodUntil(clock=words)
    number, unit = split_unit(words, "30 min, 2 h, 14:30 or session end")
    minutes = {"min": 1, "minutes": 1, "h": 60, "hours": 60, "hour": 60}.get(unit)
    if minutes is None:
        raise BadInput(
            "bad_entry",
            f"'{text.strip()}' is not understood here; expected 30 min, 14:30 or session end",
        )
    return GoodUntil(minutes=float(number) * minutes)


def good_text(rule: GoodUntil) -> str:
    """How long an entry waits, as it would be typed."""
    if rule.minutes is not None:
        return f"{rule.minutes / 60:g} h" if rule.minutes % 60 == 0 else f"{rule.minutes:g} min"
    return rule.clock or ("session end" if rule.session_end else "cancelled")


@tidied
def read_held(text: str) -> HeldRule | None:
    """Held lines: the backstop's distance in R, and how long a spread spike may last; nothing: the
    venue has them."""
    words = text.strip().lower()
    if words in ("", "none", "off", "no"):
        return None
    found = _HELD.match(words)
    if found is None:
        raise BadInput(
            "bad_entry", "Expected the backstop's distance, such as 2 R or 2 R, settle 500 ms"
        )
    settle = int(decimal(found.group(2))) if found.group(2) else 0
    return HeldRule(float(positive(found.group(1))), settle)


def held_text(rule: HeldRule | None) -> str:
    """Held lines as they would be typed."""
    if rule is None:
        return ""
    return f"{rule.backstop_r:g} R" + (f", settle {rule.settle_ms} ms" if rule.settle_ms else "")


def target_text(rule: TargetRule) -> str:
    """A target's level as it would be typed."""
    if rule.price is not None:
        return f"{rule.price:f}"
    return (
        f"{plain(float(rule.value))} "
        + {"r": "R", "atr": "atr", "percent": "%", "ticks": "t"}[rule.kind]
    )


def share_text(share: float) -> str:
    """A share as it would be typed."""
    return f"{plain(round(share * 100, 10))} %"
