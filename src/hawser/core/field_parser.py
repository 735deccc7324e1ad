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
from collections.abc import Callable
from decimal import Decimal
from functools import wraps
from typing import Concatenate, Literal, ParamSpec, TypeVar

import msgspec

from hawser.core.account import Basis, SizeRule
from hawser.core.entry import EntryRule, GoodUntil, HeldRule
from hawser.core.errors import BadInput
from hawser.core.levels import LineRule, StopRule, TargetRule
from hawser.core.rig import After, Amount, Basket, Measure, Trail

_NUMBER = r"(?:[0-9]{1,3}(?:[ \u00a0][0-9]{3})+|[0-9]+)(?:[.,][0-9]*)?|[.,][0-9]+"
_ENTRY = re.compile(rf"^\s*({_NUMBER})\s*(.*?)\s*$")
_UNITS = {
    "%": "percent",
    "percent": "percent",
    "atr": "atr",
    "t": "ticks",
    "tick": "ticks",
    "ticks": "ticks",
    "r": "r",
    "": "price",
}
_OFFSET = re.compile(rf"^(.*?)\s*([+-])\s*({_NUMBER})\s*t(?:icks?)?\s*$")
_PERCENT_OF = re.compile(r"^(?:of\s+)?(equity|balance|free(?:\s+margin)?)$")
_BASES: dict[str, Basis] = {"equity": "equity", "balance": "balance", "free": "free_margin"}
_PER_ATR = re.compile(rf"^per\s+({_NUMBER})\s*atr$")
_INVEST = re.compile(
    rf"^\s*invest\s+({_NUMBER})\s*([a-z]{{3}})?\s*[,;]?\s*risk\s+({_NUMBER})\s*([a-z]{{3}})?\s*$"
)
Rest = ParamSpec("Rest")
Made = TypeVar("Made")
MOST_TYPED = 200  # signs of one field
SIZES = "0.6 %, 385 CHF or 2 units"
STOPS = "2.5 atr, 0.8 %, 46 t, a price, or 3 bars"


def _tidied(read: Callable[Concatenate[str, Rest], Made]) -> Callable[Concatenate[str, Rest], Made]:
    """A reader that gets its text with single spaces, and none that is longer than anybody types:
    some patterns take time that grows faster than the text does.
    """

    @wraps(read)
    def tidied(text: str, /, *rest: Rest.args, **named: Rest.kwargs) -> Made:
        if len(text) > MOST_TYPED:
            raise BadInput("bad_entry", f"Expected at most {MOST_TYPED} signs")
        return read(" ".join(text.split()), *rest, **named)

    return tidied


def _decimal(text: str) -> Decimal:
    return Decimal(re.sub(r"[ \u00a0]", "", text).replace(",", "."))


def plain(value: float | None) -> str:
    """A number with as few digits as bring it back."""
    return f"{Decimal(repr(float(value or 0.0))).normalize():f}"


def _positive(text: str) -> Decimal:
    number = _decimal(text)
    if number <= 0:
        raise BadInput("bad_entry", "Expected a number above zero")
    return number


def _split(text: str, example: str, zero: bool = False) -> tuple[Decimal, str]:
    """A positive number, or also 0, and the words behind it, in small letters."""
    match = _ENTRY.match(text)
    if match is None:
        raise BadInput("bad_entry", f"Expected a number with its unit, such as {example}")
    number = _decimal(match.group(1)) if zero else _positive(match.group(1))
    return number, match.group(2).lower()


def _read(
    text: str, allowed: tuple[str, ...], example: str, zero: bool = False
) -> tuple[str, Decimal]:
    """Unit and number of `text`; raises BadInput with `example`."""
    number, words = _split(text, example, zero)
    unit = _UNITS.get(words, "")
    if unit not in allowed:
        raise BadInput(
            "bad_entry", f"'{words or text.strip()}' is not understood here; expected {example}"
        )
    return unit, number


def _hundred(number: Decimal) -> float:
    if number > 100:
        raise BadInput("bad_entry", "Expected at most 100 %")
    return float(number)


def _in_currency(word: str, currency: str) -> None:
    if word.upper() != currency:
        raise BadInput(
            "bad_entry",
            f"The account is in {currency}; expected an amount such as 385 {currency}",
        )


@_tidied
def read_size(text: str, currency: str) -> SizeRule:
    """How large: a risk, a quantity or an investment, for an account in `currency`."""
    invest = _INVEST.match(text.lower())
    if invest is not None:
        _in_currency(invest.group(2) or currency, currency)
        _in_currency(invest.group(4) or currency, currency)
        return SizeRule(
            "invest",
            amount=float(_positive(invest.group(1))),
            risk=float(_positive(invest.group(3))),
        )
    number, words = _split(text, SIZES.replace("CHF", currency))
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
    percent = _hundred(number)
    if not rest:
        return SizeRule(percent=percent)
    of, per = _PERCENT_OF.match(rest), _PER_ATR.match(rest)
    if of is not None:
        name = of.group(1).split()[0]
        return SizeRule(percent=percent, basis=_BASES[name])
    if per is not None:
        return SizeRule("volatility", percent=percent, multiple=float(_positive(per.group(1))))
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


@_tidied
def read_stop(text: str, currency: str) -> StopRule:
    """An initial stop."""
    lower = text.strip().lower()
    offset = _OFFSET.match(lower)
    base, ticks = (offset.group(1), _decimal(offset.group(3))) if offset else (lower, Decimal(0))
    shift = float(-ticks if offset and offset.group(2) == "-" else ticks)
    found = _from_bars(base)
    if found is not None:
        return msgspec.structs.replace(found, offset_ticks=shift)
    number, words = _split(text, STOPS)
    if words.upper() == currency:
        return StopRule(money=float(number))
    unit, number = _read(text, ("atr", "percent", "ticks", "price"), STOPS)
    return (
        StopRule(price=number)
        if unit == "price"
        else msgspec.convert({unit: float(number)}, StopRule)
    )


def _from_bars(text: str) -> StopRule | None:
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
        re.fullmatch(_NUMBER, figure) for figure in figures
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
        return StopRule(line=LineRule("supertrend", int(figures[0]), float(_positive(figures[1]))))
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


@_tidied
def read_target(text: str, share: float) -> TargetRule:
    """A target's level, taking `share` of the position."""
    unit, number = _read(
        text, ("r", "atr", "percent", "ticks", "price"), "1.5 R, 2 atr, 0.8 %, 46 t or a price"
    )
    if unit == "price":
        return TargetRule(share=share, price=number)
    return msgspec.convert({"share": share, unit: float(number)}, TargetRule)


@_tidied
def read_share(text: str, left: float) -> float:
    """A share of the position as a fraction; 'rest' is what earlier targets `left`."""
    if text.strip().lower() == "rest":
        return max(0.0, left)
    if re.fullmatch(r"\s*0?[.,][0-9]+\s*|\s*1\s*|\s*1[.,]0*\s*", text):
        return float(text.replace(",", "."))
    _, number = _read(text if "%" in text else text + "%", ("percent",), "40 %")
    return _hundred(number) / 100.0


_LEVEL_ENTRY = re.compile(rf"^(limit|stop)\s+(?:at\s+)?({_NUMBER})\s*(atr)?$")
_WITHIN = re.compile(rf"^(.*?)\s*\bwithin\s+({_NUMBER})\s*t(?:icks?)?$")
_HELD = re.compile(rf"^({_NUMBER})\s*r(?:\s*[,;]?\s*settle\s+({_NUMBER})\s*ms)?$")
_CANCELLED = GoodUntil()
ENTRIES = "market, limit 0.61100 or stop 0.61500"


@_tidied
def read_entry(text: str, good: GoodUntil = _CANCELLED) -> EntryRule:
    """How to enter; `good` goes with an entry that waits."""
    words = text.strip().lower()
    within = _WITHIN.match(words)
    head, ticks = (within.group(1), _decimal(within.group(2))) if within else (words, None)
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
    value = _positive(number)
    if unit:
        return EntryRule(kind, atr=float(value), within_ticks=bound, good=good)
    return EntryRule(kind, price=value, within_ticks=bound, good=good)


_STRADDLE = re.compile(rf"^straddle\s+({_NUMBER})\s*atr$")


@_tidied
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
    return float(_positive(found.group(1))), int(_decimal(within.group(2))) if within else None


def entry_text(rule: EntryRule) -> str:
    """An entry rule as it would be typed."""
    within = "" if rule.within_ticks is None else f" within {rule.within_ticks} t"
    if not rule.pending:
        return f"market{within}"
    return (
        f"{rule.kind} "
        f"{f'{rule.price:f}' if rule.price is not None else f'{rule.atr:g} atr'}{within}"
    )


@_tidied
def read_good(text: str) -> GoodUntil:
    """How long an entry waits."""
    words = text.strip().lower().removeprefix("until ").strip()
    if words in ("", "cancelled"):
        return GoodUntil()
    if words in ("session end", "the session's end", "end of session"):
        return GoodUntil(session_end=True)
    if re.fullmatch(r"[0-9]{1,2}:[0-9]{2}", words):
        return GoodUntil(clock=words)
    number, unit = _split(words, "30 min, 2 h, 14:30 or session end")
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


@_tidied
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
    settle = int(_decimal(found.group(2))) if found.group(2) else 0
    return HeldRule(float(_positive(found.group(1))), settle)


def held_text(rule: HeldRule | None) -> str:
    """Held lines as they would be typed."""
    if rule is None:
        return ""
    return f"{rule.backstop_r:g} R" + (f", settle {rule.settle_ms} ms" if rule.settle_ms else "")


TRAILS = "3 atr, 20 t, 0.8 %, 3 bars, ema 20, supertrend 10 3, parabolic, or nothing for no trail"


@_tidied
def read_trail(text: str) -> Trail | None:
    """What a trail follows; an empty field or 'none' is no trail. `10 t + 3 atr` has a base of
    ticks."""
    words = text.strip().lower()
    if words in ("", "none", "off"):
        return None
    based = _BASED.match(words)
    if based is not None:
        return Trail(
            atr=float(_positive(based.group(2))), base_ticks=float(_decimal(based.group(1)))
        )
    offset = _OFFSET.match(words)
    head, ticks = (offset.group(1), _decimal(offset.group(3))) if offset else (words, Decimal(0))
    found = _from_bars(head)
    if found is not None and found.pivot is None:
        shift = float(-ticks if offset and offset.group(2) == "-" else ticks)
        return Trail(bars=found.bars, line=found.line, offset_ticks=shift)
    unit, number = _read(text, ("atr", "percent", "ticks"), TRAILS)
    return msgspec.convert({unit: float(number)}, Trail)


_BASED = re.compile(rf"^({_NUMBER})\s*t(?:icks?)?\s*\+\s*({_NUMBER})\s*atr$")


def trail_text(trail: Trail | None) -> str:
    """What a trail follows, as it would be typed."""
    if trail is None:
        return ""
    if trail.kind in ("bars", "line"):
        return described(
            StopRule(bars=trail.bars, line=trail.line, offset_ticks=trail.offset_ticks)
        )
    base = f"{plain(trail.base_ticks)} t + " if trail.base_ticks else ""
    return (
        f"{base}{plain(getattr(trail, trail.kind))} "
        + {"atr": "atr", "ticks": "t", "percent": "%"}[trail.kind]
    )


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


@_tidied
def read_measure(text: str) -> Measure:
    """A distance; with a minus it lies behind the entry."""
    words = text.strip().replace("\u2212", "-")
    back = words.startswith("-")
    unit, number = _read(
        words.lstrip("+-"),
        ("r", "atr", "percent", "ticks"),
        "1 R, 2 atr, 0.8 % or 46 t",
        zero=True,
    )
    return msgspec.convert({unit: -float(number) if back else float(number)}, Measure)


def measure_text(measure: Measure) -> str:
    """A distance as it would be typed."""
    units = {"r": "R", "ticks": "t", "percent": "%", "atr": "atr"}
    key = next(key for key in units if getattr(measure, key) is not None)
    return f"{plain(getattr(measure, key))} {units[key]}"


@_tidied
def read_after(text: str) -> After:
    """When a rule begins: at once, 1 R or target 2."""
    words = text.strip().lower().removeprefix("after ").strip()
    if words in ("", "at once", "once", "0"):
        return After()
    target = re.fullmatch(r"target\s*([1-5])", words)
    if target is not None:
        return After(target=int(target.group(1)))
    _, number = _read(words, ("r",), "at once, 1 R or target 1", zero=True)
    return After(r=float(number))


def after_text(after: After) -> str:
    """When a rule begins, as it would be typed."""
    if after.target is not None:
        return f"target {after.target}"
    return "at once" if after.r is None else f"{plain(after.r)} R"


@_tidied
def read_amount(text: str) -> Amount | None:
    """Money, or a percentage of equity; an empty field is none."""
    if text.strip().lower() in ("", "none"):
        return None
    number, unit = _split(text, "900, or 1.5 %")
    if unit in ("%", "percent", "% of equity"):
        return Amount(percent=float(number))
    if unit and not re.fullmatch("[a-z]{3}", unit):
        raise BadInput("bad_entry", f"'{unit}' is not understood here; expected 900, or 1.5 %")
    return Amount(money=float(number))


BASES: dict[str, Literal["tick", "bar_close", "minute_end"]] = {
    "each bar's close": "bar_close",
    "every quote": "tick",
    "each minute's end": "minute_end",
}


@_tidied
def read_basket(text: str) -> Basket:
    """A basket over several trades: `stop 900, target 1.5 %, every quote`; every quote where
    nothing is said of it."""
    found: dict[str, Amount | None] = {}
    basis: Literal["tick", "bar_close", "minute_end"] = "tick"
    for part in filter(None, (one.strip() for one in text.lower().split(","))):
        word, _, rest = part.partition(" ")
        if part in BASES:
            basis = BASES[part]
        elif word in ("stop", "target") and rest.strip() and word not in found:
            found[word] = read_amount(rest)
        else:
            raise BadInput(
                "bad_entry",
                "Expected such as stop 900, target 1.5 %, every quote (or each bar's close)",
            )
    if not any(found.values()):
        raise BadInput(
            "bad_entry", "Expected a stop, a target or both, such as stop 900, target 1.5 %"
        )
    return Basket(found.get("stop"), found.get("target"), basis)


def basket_text(basket: Basket) -> str:
    """A basket as it would be typed."""
    parts = [f"stop {amount_text(basket.stop)}"] if basket.stop is not None else []
    parts += [f"target {amount_text(basket.target)}"] if basket.target is not None else []
    return ", ".join([*parts, next(text for text, basis in BASES.items() if basis == basket.basis)])


def amount_text(amount: Amount | None) -> str:
    """Money or a percentage as it would be typed."""
    if amount is None:
        return ""
    return f"{plain(amount.percent)} %" if amount.percent is not None else f"{plain(amount.money)}"
