"""A rig being edited, without Qt: sentences with blanks, what is typed into them, undo, and the rig
it makes.

`SECTIONS` is the one declaration: titles in the trader's order, the words between the blanks, and
for each blank how its text is read and written. The form, the errors and the file all follow from
it.
"""

from __future__ import annotations

import copy
import re
from collections.abc import Callable
from typing import Any, NamedTuple

import msgspec

from hawser.core import field_parser as fp
from hawser.core.clock import TIMEFRAMES
from hawser.core.errors import BadInput
from hawser.core.levels import MAX_TARGETS
from hawser.core.rig import (
    MAX_LOSS_STEPS,
    MAX_STEPS,
    Basket,
    BreakEven,
    FollowOn,
    Ladder,
    LossStep,
    Rig,
    Step,
    TimeExit,
    Trail,
)
from hawser.formats.declared import as_read

Texts = dict[str, list[dict[str, str]]]  # by section, a row for each time it stands there
Place = tuple[str, int, str]  # section, row, blank


class Blank(NamedTuple):
    """A field in a sentence. `read` raises BadInput; `first` is what stands there when the section
    is added."""

    key: str
    name: str
    help: str
    read: Callable[[str], Any]
    first: str
    choices: tuple[str, ...] = ()


class Section(NamedTuple):
    """One kind of rule: at most `most` of it; `make` gives the rule from its blanks' values, `fill`
    the other way."""

    key: str
    title: str
    most: int
    words: tuple[str | Blank, ...]
    empty: str
    make: Callable[[dict[str, Any]], Any]
    fill: Callable[[Any], dict[str, str]]

    @property
    def blanks(self) -> list[Blank]:
        return [part for part in self.words if isinstance(part, Blank)]


def _whole(text: str) -> int:
    if not (text.isascii() and text.strip().isdecimal()):
        raise BadInput("bad_entry", "Expected a whole number")
    try:
        return int(text)
    except ValueError:  # of thousands of digits
        raise BadInput("bad_entry", "Expected a whole number") from None


def _maybe(text: str) -> int | None:
    return _whole(text) if text.strip() else None


def _make_time(values: dict[str, Any]) -> TimeExit:
    session, weekend = UNTIL[values["until"]]
    if values["bars"] is None and not (session or weekend):
        raise BadInput(
            "bad_entry", "Expected a number of bars, or the end of the hours", key="bars"
        )
    return TimeExit(values["bars"], session, weekend)


def _fill_time(rule: TimeExit) -> dict[str, str]:
    # The session's end comes before the week's.
    until = (rule.session_end, rule.before_weekend and not rule.session_end)
    kept = next(text for text, pair in UNTIL.items() if pair == until)
    return {"bars": "" if rule.bars is None else str(rule.bars), "until": kept}


def _number(text: str) -> float:
    plain = text.strip().replace(",", ".").replace("\u2212", "-")
    try:
        return float(plain if plain.isascii() and "_" not in plain else "")
    except ValueError:
        raise BadInput("bad_entry", "Expected a number") from None


def _r(text: str) -> float:
    measure = fp.read_measure(text)
    if measure.r is None:
        raise BadInput("bad_entry", "Expected a distance in R, such as 0.5 R")
    return measure.r


def _one_of(text: str) -> str:
    return text


def _share(text: str) -> float:
    if re.fullmatch(r"\s*0\s*%?\s*", text):
        return 0.0  # the target is off
    return fp.read_share(text, 1.0)


def _named(key: str, name: str, choices: tuple[str, ...], first: str = "") -> Blank:
    return Blank(key, name, f"One of {', '.join(choices)}", _one_of, first or choices[0], choices)


def _after_blank() -> Blank:
    text = (
        "When the rule begins: at once, after an excursion such as 1 R, or after target 1 has "
        "filled"
    )
    return Blank("after", "begins after", text, fp.read_after, "1 R")


def _amount(key: str, name: str) -> Blank:
    text = "Money such as 900, or a percentage of equity such as 1.5 %; empty: none"
    return Blank(key, name, text, fp.read_amount, "")


def _make_trail(values: dict[str, Any]) -> Trail:
    what, span = values["what"], values["timeframe"]
    if what is None:
        raise BadInput(
            "bad_entry",
            f"Expected {fp.TRAILS.removesuffix(', or nothing for no trail')}",
            key="what",
        )
    trail: Trail = msgspec.structs.replace(
        what,
        anchor=values["anchor"],
        after=values["after"],
        step_ticks=values["step_ticks"],
        timeframe=None if span == "the chart's" else span,
    )
    return trail


def _fill_trail(trail: Trail) -> dict[str, str]:
    return {
        "what": fp.trail_text(trail),
        "anchor": trail.anchor,
        "after": fp.after_text(trail.after),
        "step_ticks": str(trail.step_ticks),
        "timeframe": trail.timeframe or "the chart's",
    }


def _fill_ladder(ladder: Ladder) -> dict[str, str]:
    return {
        "rungs": str(ladder.rungs),
        "spacing": fp.measure_text(ladder.spacing),
        "factor": fp.plain(ladder.factor),
        "target_ticks": fp.plain(ladder.target_ticks),
        "stop_ticks": fp.plain(ladder.stop_ticks or 0),
    }


BASES = fp.BASES
YES = ("no", "yes")
UNTIL = {"no": (False, False), "each session's": (True, False), "the week's": (False, True)}

SECTIONS: tuple[Section, ...] = (
    Section(
        "stop",
        "Stop",
        1,
        (
            Blank(
                "stop",
                "stop",
                "Where the trade is wrong: 2.5 atr, 0.8 %, 46 t, a price, 3 bars, pivot 2 3, sma "
                "20, "
                "supertrend 10 3, parabolic; those from bars also with an offset: 3 bars + 2 t",
                lambda text: fp.read_stop(text, "?"),
                "2.5 atr",
            ),
        ),
        "set by the ladder",
        lambda values: values["stop"],
        lambda stop: {"stop": fp.stop_text(stop, "?")},
    ),
    Section(
        "target",
        "Targets",
        MAX_TARGETS,
        (
            "at",
            Blank(
                "level",
                "target",
                "Where a part is taken: 1.5 R, 2 atr, 0.8 %, 46 t or a price",
                lambda text: fp.read_target(text, 0.0),
                "2 R",
            ),
            "close",
            Blank("share", "share", "How much of the position: 40 %", _share, "50 %"),
        ),
        "none: all rides until the stop",
        lambda values: msgspec.structs.replace(values["level"], share=values["share"]),
        lambda rule: {"level": fp.target_text(rule), "share": fp.share_text(rule.share)},
    ),
    Section(
        "break_even",
        "Break-even",
        1,
        (
            "after",
            _after_blank(),
            "to the entry and",
            Blank(
                "offset_ticks",
                "offset",
                "Ticks beyond the entry, in the profitable direction",
                _number,
                "2",
            ),
            "t, costs on top",
            _named("cover_costs", "costs on top", YES),
        ),
        "none",
        lambda values: BreakEven(
            values["after"], values["offset_ticks"], values["cover_costs"] == "yes"
        ),
        lambda rule: {
            "after": fp.after_text(rule.after),
            "offset_ticks": fp.plain(rule.offset_ticks),
            "cover_costs": YES[rule.cover_costs],
        },
    ),
    Section(
        "step",
        "Steps",
        MAX_STEPS,
        (
            "at",
            Blank(
                "at",
                "step at",
                "The best excursion at which it acts: 2 R, 40 t, 0.8 %, 1 atr",
                fp.read_measure,
                "2 R",
            ),
            "stop to",
            Blank(
                "to",
                "step to",
                "Where the stop goes, from the entry: 0.8 R; \u22120.5 R lies behind it",
                fp.read_measure,
                "1 R",
            ),
        ),
        "none",
        lambda values: Step(values["at"], values["to"]),
        lambda rule: {"at": fp.measure_text(rule.at), "to": fp.measure_text(rule.to)},
    ),
    Section(
        "trail",
        "Trail",
        1,
        (
            Blank(
                "what",
                "trail",
                f"What the stop follows: {fp.TRAILS.removesuffix(', or nothing for no trail')}",
                fp.read_trail,
                "3 atr",
            ),
            "behind the",
            _named("anchor", "trail's anchor", ("extreme", "close")),
            "after",
            _after_blank(),
            "in steps of",
            Blank("step_ticks", "least step", "Moves of fewer ticks are not sent", _whole, "1"),
            "t, on bars of",
            _named("timeframe", "trail's timeframe", ("the chart's", *TIMEFRAMES)),
        ),
        "none",
        _make_trail,
        _fill_trail,
    ),
    Section(
        "loss_step",
        "Loss steps",
        MAX_LOSS_STEPS,
        (
            "at \u2212",
            Blank("r", "loss step at", "How far against the trade: 0.5 R", _r, "0.5 R"),
            "give up",
            Blank(
                "share", "share given up", "How much of the original quantity: 25 %", _share, "25 %"
            ),
        ),
        "none",
        lambda values: LossStep(values["r"], values["share"]),
        lambda rule: {"r": f"{fp.plain(rule.r)} R", "share": fp.share_text(rule.share)},
    ),
    Section(
        "time_exit",
        "Time",
        1,
        (
            "leave after",
            Blank("bars", "bars", "Completed bars, the entry's own included", _maybe, "200"),
            "bars, before the hours end:",
            _named("until", "before", tuple(UNTIL)),
        ),
        "no limit",
        _make_time,
        _fill_time,
    ),
    Section(
        "follow_on",
        "Follow-on",
        1,
        (
            "the same way after the last target, the other way after a losing stop; at most",
            Blank("max_chain", "in a row", "How many follow-ons in a row", _whole, "1"),
            "in a row",
        ),
        "none",
        lambda values: FollowOn(values["max_chain"]),
        lambda rule: {"max_chain": str(rule.max_chain)},
    ),
    Section(
        "ladder",
        "Ladder",
        1,
        (
            Blank("rungs", "rungs", "Entries in all, the first included", _whole, "4"),
            "rungs",
            Blank(
                "spacing",
                "spacing",
                "Between two rungs: 1 atr, 20 t, 0.5 %",
                fp.read_measure,
                "1 atr",
            ),
            "apart, each",
            Blank("factor", "factor", "Quantity of a rung, times the one before", _number, "1.5"),
            "times the last; all out",
            Blank("target_ticks", "target", "Ticks beyond the average entry", _number, "80"),
            "t beyond the average, or",
            Blank("stop_ticks", "common stop", "Ticks beyond the last rung", _number, "60"),
            "t beyond the last rung",
        ),
        "none",
        lambda values: Ladder(**values),
        _fill_ladder,
    ),
    Section(
        "basket",
        "Basket",
        1,
        (
            "leave with",
            _amount("stop", "lost"),
            "lost or",
            _amount("target", "won"),
            "won, looked at on",
            _named("basis", "looked at on", tuple(BASES)),
        ),
        "none",
        lambda values: Basket(values["stop"], values["target"], BASES[values["basis"]]),
        lambda rule: {
            "stop": fp.amount_text(rule.stop),
            "target": fp.amount_text(rule.target),
            "basis": next(text for text, basis in BASES.items() if basis == rule.basis),
        },
    ),
    Section(
        "general",
        "Reckons with",
        1,
        (
            "an ATR of",
            Blank("atr_length", "ATR length", "Bars in every ATR of this rig", _whole, "14"),
            "bars,",
            _named("atr_smoothing", "smoothing", ("wilder", "simple")),
            "; takes",
            _named("direction", "direction", ("both", "long", "short")),
            "signals, turns on the opposite one",
            _named("reverse", "turns", YES),
        ),
        "",
        lambda values: values,
        lambda rig: {},
    ),
)
BY_KEY = {section.key: section for section in SECTIONS}
LISTS = ("target", "step", "loss_step")


class RigDraft:
    """What is typed, section by section. `made` is None while something is wrong; `errors` by
    place."""

    def __init__(self, rig: Rig) -> None:
        self.name, self.note = rig.name, rig.note
        self.texts: Texts = texts_of(rig)
        self.errors: dict[Place, str] = {}
        self.general = ""
        self.made: Rig | None = None
        self._rest = {"from_": rig.from_, "to": rig.to}
        self._past: list[Texts] = []
        self._future: list[Texts] = []
        self._last: Place | None = None
        self._check()

    # Changing

    def change(self, place: Place, text: str) -> None:
        """What is typed into one blank; typing on in it is one step of undo."""
        section, row, key = place
        if self.texts[section][row][key] == text:
            return
        if place != self._last:
            self._remember()
        self._last = place
        self.texts[section][row][key] = text
        self._check()

    def add(self, key: str) -> bool:
        """One more rule of a section, as it is first proposed."""
        section = BY_KEY[key]
        if len(self.texts[key]) >= section.most:
            return False
        self._remember()
        self.texts[key].append({blank.key: blank.first for blank in section.blanks})
        if key in ("stop", "ladder"):  # one brings the other's stop
            self.texts["ladder" if key == "stop" else "stop"].clear()
        self._check()
        return True

    def remove(self, key: str, row: int) -> None:
        """One rule less. A ladder that goes leaves a stop behind."""
        self._remember()
        del self.texts[key][row]
        if key == "ladder":
            self.texts["stop"] = [{"stop": BY_KEY["stop"].blanks[0].first}]
        self._check()

    def take(self, texts: Texts) -> None:
        """What was typed before, as it was."""
        self.texts = copy.deepcopy(texts)
        self._check()

    def undo(self) -> bool:
        return self._step(self._past, self._future)

    def redo(self) -> bool:
        return self._step(self._future, self._past)

    @property
    def can(self) -> tuple[bool, bool]:
        """Whether there is something to undo, and to redo."""
        return bool(self._past), bool(self._future)

    def _remember(self) -> None:
        self._past.append(copy.deepcopy(self.texts))
        self._future.clear()
        self._last = None

    def _step(self, source: list[Texts], other: list[Texts]) -> bool:
        if not source:
            return False
        other.append(copy.deepcopy(self.texts))
        self.texts, self._last = source.pop(), None
        self._check()
        return True

    # Reading

    def _check(self) -> None:
        self.errors, self.general, self.made = {}, "", None
        rules: dict[str, list[Any]] = {}
        for section in SECTIONS:
            rules[section.key] = [
                self._row(section, number, row)
                for number, row in enumerate(self.texts[section.key])
            ]
        if self.errors:
            return
        values: dict[str, Any] = rules.pop("general")[0]
        values["reverse"] = values["reverse"] == "yes"
        for key, found in rules.items():
            values[key] = tuple(found) if key in LISTS else (found[0] if found else None)
        try:
            self.made = as_read(Rig(name=self.name, note=self.note, **values | self._rest))
        except BadInput as error:
            self._blame(error)

    def _row(self, section: Section, number: int, row: dict[str, str]) -> Any:
        values: dict[str, Any] = {}
        for blank in section.blanks:
            try:
                values[blank.key] = blank.read(row[blank.key])
            except (BadInput, msgspec.ValidationError) as error:
                sentence = error.sentence if isinstance(error, BadInput) else str(error)
                self.errors[section.key, number, blank.key] = sentence
        if len(values) < len(section.blanks):
            return None
        try:
            return section.make(values)
        except BadInput as error:
            key = str(error.values.get("key", ""))
            at = key if key in values else section.blanks[0].key
            self.errors[section.key, number, at] = error.text
            return None

    def _blame(self, error: BadInput) -> None:
        """What is wrong with the rig as a whole, beside its section where one is named."""
        head, _, name = error.place.partition(".")
        head, _, row = head.rstrip("]").partition("[")
        key = {"targets": "target", "atr_length": "general"}.get(head, head)
        if key in BY_KEY and self.texts[key]:
            blanks = [blank.key for blank in BY_KEY[key].blanks]
            blank = next((one for one in (name, head) if one in blanks), blanks[-1])
            self.errors[key, int(row or len(self.texts[key]) - 1), blank] = error.text
        else:
            self.general = error.sentence


def texts_of(rig: Rig) -> Texts:
    """A rig as what would be typed."""
    found: Texts = {}
    for section in SECTIONS:
        if section.key == "general":
            found["general"] = [
                {
                    "atr_length": str(rig.atr_length),
                    "atr_smoothing": rig.atr_smoothing,
                    "direction": rig.direction,
                    "reverse": YES[rig.reverse],
                }
            ]
            continue
        value = getattr(rig, section.key)
        rules = list(value) if section.key in LISTS else [value] if value is not None else []
        found[section.key] = [section.fill(rule) for rule in rules]
    return found


def brief(rig: Rig) -> str:
    """A rig in a few words, for a list."""
    parts = ["ladder" if rig.ladder else f"stop {fp.stop_text(rig.stop, '')}" if rig.stop else ""]
    count = sum(not rule.off for rule in rig.target)
    parts += [f"{count} target{'s' if count > 1 else ''}"] if count else []
    parts += [f"trail {fp.trail_text(rig.trail)}"] if rig.trail else []
    for key, word in (
        ("break_even", "break-even"),
        ("step", "steps"),
        ("loss_step", "loss steps"),
        ("time_exit", "time exit"),
        ("follow_on", "follow-on"),
        ("basket", "basket"),
    ):
        parts += [word] if getattr(rig, key) else []
    return ", ".join(part for part in parts if part)
