"""What a rig does, in plain words: for the Logbook, the chart and the sentence above its fields."""

from __future__ import annotations

from hawser.core import figures as fg
from hawser.core.levels import LineRule, StopRule, TargetRule
from hawser.core.rig import After, Amount, Ladder, Measure, Rig, Trail

UNITS = {"r": "R", "ticks": "t", "percent": "%", "atr": "ATR"}


def _number(value: float) -> str:
    return f"{value:g}".replace("-", "\u2212")


def _share(share: float) -> str:
    return f"{_number(round(share * 100, 4))} %"


def measure_words(measure: Measure) -> str:
    """A distance with its unit."""
    key = next(key for key in UNITS if getattr(measure, key) is not None)
    return f"{_number(getattr(measure, key))} {UNITS[key]}"


def after_words(after: After) -> str:
    """When a rule begins, with a blank before it; empty where it begins at once."""
    if after.target is not None:
        return f" after target {after.target}"
    return f" after +{_number(after.r)} R" if after.r is not None else ""


def _begins(after: After, at_once: str) -> str:
    """The same at the beginning of a sentence."""
    words = after_words(after).strip()
    return words[:1].upper() + words[1:] or at_once


def _never(after: After, rig: Rig) -> str:
    """What has to be said of a rule that waits for a target which the rig does not have."""
    count = 1 if rig.ladder is not None else len(rig.target)
    if after.target is None or after.target <= count:
        return ""
    return (
        " But that never comes: the rig has "
        f"{fg.counted(count, 'target') if count else 'no target'}."
    )


def line_words(line: LineRule) -> str:
    """An indicator line."""
    if line.kind == "parabolic":
        return f"the parabolic stop ({_number(line.step)}, at most {_number(line.ceiling)})"
    factor = f", {_number(line.factor)}" if line.factor is not None else ""
    name = {
        "sma": "the simple average",
        "ema": "the exponential average",
        "supertrend": "the supertrend",
    }
    return f"{name.get(line.kind, 'the channel')} ({line.length}{factor})"


def _offset(ticks: float) -> str:
    return f" and {_number(ticks)} t" if ticks else ""


def trail_words(trail: Trail, side: int = 0) -> str:
    """What a trail follows; `side` says where it stands, 0: said for both."""
    beside = {1: "below", -1: "above", 0: "behind"}[side]
    if trail.kind == "bars":
        of = f" {trail.timeframe}" if trail.timeframe else ""
        what = {1: "low", -1: "high", 0: "extreme"}[side]
        return f"{beside} the {what} of {trail.bars}{of} bars{_offset(trail.offset_ticks)}"
    if trail.line is not None:
        of = f" of {trail.timeframe} bars" if trail.timeframe else ""
        return f"{beside} {line_words(trail.line)}{of}{_offset(trail.offset_ticks)}"
    base = f"{_number(trail.base_ticks)} t and " if trail.base_ticks else ""
    unit = {"atr": "ATR", "ticks": "t", "percent": "%"}[trail.kind]
    return f"{base}{_number(getattr(trail, trail.kind))} {unit} {beside}"


def stop_words(stop: StopRule) -> str:
    """Where an initial stop stands."""
    offset = _offset(stop.offset_ticks)
    if stop.bars is not None:
        return f"behind the extreme of {stop.bars} bars{offset}"
    if stop.pivot is not None:
        return f"behind the last pivot ({stop.pivot[0]}, {stop.pivot[1]}){offset}"
    if stop.line is not None:
        return f"behind {line_words(stop.line)}{offset}"
    if stop.price is not None:
        return f"at {stop.price}"
    if stop.money is not None:
        return f"where {_number(stop.money)} are lost"
    unit = {"atr": "ATR", "percent": "%", "ticks": "t"}[stop.kind]
    return f"{_number(stop.value)} {unit} from the entry"


def _target(rule: TargetRule) -> str:
    unit = {"r": " R", "atr": " ATR", "percent": " %", "ticks": " t", "price": ""}[rule.kind]
    value = str(rule.price) if rule.price is not None else _number(float(rule.value))
    return f"{_share(rule.share)} at {value}{unit}"


def _listed(parts: list[str]) -> str:
    return parts[0] if len(parts) == 1 else f"{', '.join(parts[:-1])} and {parts[-1]}"


def _amount(amount: Amount) -> str:
    if amount.money is not None:
        return f"{_number(amount.money)} of the account's money"
    return f"{_number(amount.percent or 0.0)} % of equity"


def _ladder(ladder: Ladder) -> str:
    growing = f", each {_number(ladder.factor)} times the one before" if ladder.factor != 1 else ""
    return (
        f"Enters in up to {ladder.rungs} rungs {measure_words(ladder.spacing)} apart{growing}; all "
        "leave "
        f"{_number(ladder.target_ticks)} t beyond the average entry, or "
        f"{_number(ladder.stop_ticks or 0.0)} t beyond "
        "the last rung."
    )


def _exits(rig: Rig) -> list[str]:
    found = []
    if rig.stop is not None:
        found.append(f"Stop {stop_words(rig.stop)}.")
    if rig.ladder is not None:
        found.append(_ladder(rig.ladder))
    targets = [rule for rule in rig.target if not rule.off]
    if targets:
        rest = (
            ""
            if sum(rule.share for rule in targets) > 1 - 1e-9
            else "; the rest rides until the stop"
        )
        found.append(f"Takes {_listed([_target(rule) for rule in targets])}{rest}.")
    if rig.loss_step:
        parts = [f"{_share(one.share)} at \u2212{_number(one.r)} R" for one in rig.loss_step]
        found.append(f"Gives up {_listed(parts)}.")
    return found


def _moves(rig: Rig) -> list[str]:
    found = []
    if rig.break_even is not None:
        offset = rig.break_even.offset_ticks
        costs = " and the costs" if rig.break_even.cover_costs else ""
        beyond = f" {'+' if offset > 0 else ''}{_number(offset)} t" if offset else ""
        when = _begins(rig.break_even.after, "At once")
        found.append(
            f"{when} the stop goes to the entry{beyond}{costs}.{_never(rig.break_even.after, rig)}"
        )
    for step in rig.step:
        found.append(
            f"At +{measure_words(step.at)} it goes to {measure_words(step.to)} from the entry."
        )
    if rig.trail is not None:
        trail = rig.trail
        of = ""
        if trail.kind in ("atr", "ticks", "percent"):
            of = " the close" if trail.anchor == "close" else " the best price"
        when = _begins(trail.after, "From the start")
        steps = f", in steps of {trail.step_ticks} t" if trail.step_ticks > 1 else ""
        found.append(f"{when} it trails {trail_words(trail)}{of}{steps}.{_never(trail.after, rig)}")
    return found


def _ends(rig: Rig) -> list[str]:
    found = []
    if rig.time_exit is not None:
        when = [f"after {rig.time_exit.bars} bars"] if rig.time_exit.bars else []
        when += ["before the session ends"] if rig.time_exit.session_end else []
        when += ["before the weekend"] if rig.time_exit.before_weekend else []
        if when:
            found.append(f"Leaves {_listed(when)}.")
    if rig.basket is not None:
        when = [f"{_amount(rig.basket.stop)} lost"] if rig.basket.stop else []
        when += [f"{_amount(rig.basket.target)} won"] if rig.basket.target else []
        basis = {
            "tick": "every quote",
            "bar_close": "each bar's close",
            "minute_end": "each minute's end",
        }
        found.append(f"Leaves with {' or '.join(when)}, looked at on {basis[rig.basket.basis]}.")
    if rig.follow_on is not None:
        found.append(
            "Goes in again the same way after its last target, the other way after a losing stop, "
            "at most "
            f"{rig.follow_on.max_chain} in a row."
        )
    return found


def sentence(rig: Rig) -> str:
    """What the rig will do, in the order in which a trader thinks of it."""
    return " ".join([*_exits(rig), *_moves(rig), *_ends(rig)])
