"""A record being edited as text, without Qt: what is typed, what is wrong with it, undo, and the
record it makes."""

from __future__ import annotations

import re
from typing import Any
from zoneinfo import ZoneInfo

import msgspec

from hawser.core import figures as fg
from hawser.core.account import Account
from hawser.core.errors import BadInput
from hawser.core.field_help import FieldHelp, keys_of
from hawser.formats.declared import record
from hawser.service.views.snapshot import Snapshot

KEPT_BY_VENUE = ("currency", "equity", "balance", "margin_used")  # of the running account
DAYS = ("mon", "tue", "wed", "thu", "fri", "sat", "sun")
_HOURS = re.compile(r"([a-z, -]+?)\s+([0-9:]+)\s*-\s*([0-9:]+)(?:\s+(\S+))?")


class Editing:
    """Texts by path (`policy.max_heat_percent`). Everything typed stays as typed; `made` is None
    while it is wrong."""

    def __init__(self, kind: type[msgspec.Struct], start: msgspec.Struct | None = None) -> None:
        self.kind = kind
        self.keys: list[FieldHelp] = keys_of(kind)
        self.texts: dict[str, str] = {}
        self.errors: dict[str, str] = {}
        self.general = ""
        self.made: msgspec.Struct | None = None
        self._past: list[dict[str, str]] = []
        self._future: list[dict[str, str]] = []
        self._last = ""
        self._fill(start)
        self._start = dict(self.texts)
        self._check()

    # Changing

    @property
    def typed(self) -> dict[str, str]:
        """What is another text by now than it began with."""
        return {path: text for path, text in self.texts.items() if text != self._start[path]}

    def resume(self, typed: dict[str, str]) -> bool:
        """Go on with what was typed earlier, over what the record is by now; can be undone. Whether
        it is anything."""
        found = {path: text for path, text in typed.items() if self.texts.get(path, text) != text}
        if found:
            self._remember()
            self._last = ""
            self.texts |= found
            self._check()
        return bool(found)

    def change(self, path: str, text: str) -> None:
        """What is typed into one field; typing on in the same field is one step of undo."""
        if self.texts[path] == text:
            return
        if path != self._last:
            self._remember()
        self._last = path
        self.texts[path] = text
        self._check()

    def load(self, start: msgspec.Struct) -> None:
        """Another record in its place; can be undone."""
        self._remember()
        self._last = ""
        self._fill(start)
        self._check()

    def undo(self) -> bool:
        return self._step(self._past, self._future)

    def redo(self) -> bool:
        return self._step(self._future, self._past)

    def _remember(self) -> None:
        self._past.append(dict(self.texts))
        self._future.clear()

    def _step(self, source: list[dict[str, str]], other: list[dict[str, str]]) -> bool:
        if not source:
            return False
        other.append(dict(self.texts))
        self.texts, self._last = source.pop(), ""
        self._check()
        return True

    # Text and values

    def _fill(self, start: msgspec.Struct | None) -> None:
        plain = msgspec.to_builtins(start) if start is not None else {}
        for key in self.keys:
            value: Any = plain
            for name in key.path.split("."):
                value = value.get(name) if isinstance(value, dict) else None
            default = key.default if start is None else None
            self.texts[key.path] = as_text(default if value is None else value)

    def _check(self) -> None:
        """Read every text; what is wrong is told at its own path."""
        self.errors, self.general, self.made = {}, "", None
        data: dict[str, Any] = {}
        for key in self.keys:
            text = self.texts[key.path].strip()
            try:
                value = as_value(key, text)
            except ValueError as error:
                self.errors[key.path] = str(error)
                continue
            if value is None and key.required:
                self.errors[key.path] = "Expected a value"
            elif value is not None:
                place = data
                *groups, name = key.path.split(".")
                for group in groups:
                    place = place.setdefault(group, {})
                place[name] = value
        if not self.errors:
            self._make(data)

    def _make(self, data: dict[str, Any]) -> None:
        try:
            self.made = record(self.kind, data, "here")
        except BadInput as error:
            path = str(error.values.get("key", "")) or error.place
            near = [
                key.path
                for key in self.keys
                if path and (key.path == path or key.path.endswith(f".{path}"))
            ]
            if near:
                self.errors[near[0]] = error.text
            else:
                self.general = error.text


def as_text(value: Any) -> str:
    """A value as it is typed."""
    if value is None:
        return ""
    if isinstance(value, bool):
        return "yes" if value else "no"
    if isinstance(value, float):
        return f"{value:.15g}"
    if isinstance(value, dict):
        return ", ".join(f"{pair} = {_rate_text(rate)}" for pair, rate in value.items())
    if isinstance(value, (list, tuple)):
        hours = [one for one in value if isinstance(one, dict)]
        return "; ".join(map(_hours_text, hours)) if hours else ", ".join(map(str, value))
    return str(value)


def _rate_text(rate: Any) -> str:
    if isinstance(rate, dict):
        age = rate.get("age_s", 0.0)
        return f"{rate['mid']:.15g}" + (f" ({age:.15g} s old)" if age else "")
    return f"{rate:.15g}"


def as_value(key: FieldHelp, text: str) -> Any:
    """What a text stands for; None where it is empty. Raises ValueError with a sentence."""
    inspect = msgspec.inspect
    kinds = key.type.types if isinstance(key.type, inspect.UnionType) else (key.type,)
    if not text:
        return None
    for kind in kinds:
        if isinstance(kind, inspect.FloatType):
            return _number(text, float)
        if isinstance(kind, inspect.IntType):
            return _number(text, int)
        if isinstance(kind, inspect.BoolType):
            if text not in ("yes", "no"):
                raise ValueError("Expected yes or no")
            return text == "yes"
        if isinstance(kind, inspect.DecimalType):
            return text.replace(",", ".")
        if isinstance(kind, inspect.DictType):
            return _rates(text)
        if isinstance(kind, inspect.VarTupleType) and isinstance(
            kind.item_type, inspect.StructType
        ):
            return [_hours(part.strip()) for part in text.split(";") if part.strip()]
        if isinstance(kind, inspect.VarTupleType):
            return [part.strip() for part in text.split(",") if part.strip()]
    return text


def _number(text: str, kind: type[float] | type[int]) -> float | int:
    try:
        return kind(text.replace(",", ".").replace("\u00a0", "").replace(" ", ""))
    except ValueError:
        raise ValueError(
            "Expected a whole number" if kind is int else "Expected a number"
        ) from None


def _rates(text: str) -> dict[str, float]:
    found = {}
    for part in text.split(","):
        pair, equals, rate = part.partition("=")
        if not equals:
            raise ValueError("Expected AAA/BBB = 0.88, with a comma between two rates")
        found[pair.strip()] = float(_number(rate.partition("(")[0].strip(), float))
    return found


def _hours_text(session: dict[str, Any]) -> str:
    days = list(session["days"])
    run = days == list(range(days[0], days[-1] + 1)) and len(days) > 2
    named = f"{DAYS[days[0]]}-{DAYS[days[-1]]}" if run else ",".join(DAYS[day] for day in days)
    return f"{named} {session['opens']}-{session['closes']} {session['zone']}"


def _hours(text: str) -> dict[str, Any]:
    """One weekly session from its text."""
    match = _HOURS.fullmatch(text.lower())
    if match is None:
        raise ValueError("Expected days, hours and a zone, as mon-fri 08:00-16:30 Europe/London")
    days: list[int] = []
    for part in match.group(1).replace(" ", "").split(","):
        first, _, last = part.partition("-")
        if first not in DAYS or (last and last not in DAYS):
            raise ValueError(f"Expected days such as mon-fri, got '{part}'")
        days += range(DAYS.index(first), DAYS.index(last or first) + 1)
    zone = text.rsplit(maxsplit=1)[-1] if match.group(4) else "UTC"
    try:
        ZoneInfo(zone)
    except (KeyError, ValueError, OSError):
        raise ValueError(f"Expected the name of a time zone, got '{zone}'") from None
    return {"days": days, "opens": match.group(2), "closes": match.group(3), "zone": zone}


def differences(before: msgspec.Struct, after: msgspec.Struct) -> list[str]:
    """What changed, as a form calls it: `Most heat: 3 to 4`."""
    old, new = Editing(type(before), before), Editing(type(after), after)
    changed = [key for key in new.keys if old.texts[key.path] != new.texts[key.path]]
    return [f"{key.name}: {_shown(key, old)} to {_shown(key, new)}" for key in changed]


def _shown(key: FieldHelp, editing: Editing) -> str:
    text = editing.texts[key.path]
    return key.word(text) if text in key.choices else text or "none"


def account_consequence(snapshot: Snapshot, made: Account) -> str:
    """What applying an edited account would do, and when."""
    if snapshot.settings is None:
        return ""
    kept = {key: getattr(snapshot.settings, key) for key in KEPT_BY_VENUE}
    changes = differences(snapshot.settings, msgspec.structs.replace(made, **kept))
    if not changes:
        return "Nothing is changed."
    told = (
        f"{'; '.join(changes)}. Holds from the next entry on, at once; open trades keep their "
        "stops and targets."
    )
    heat, limit = snapshot.heat / (snapshot.equity or 1.0) * 100, made.policy.max_heat_percent
    if limit is not None and limit < heat:
        told += (
            f" Heat is {fg.percent(heat, 2)} now, above the new limit: no entry fits until it "
            "falls."
        )
    return told
