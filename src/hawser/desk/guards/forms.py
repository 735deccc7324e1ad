"""A form for each kind of guard, made from its declaration: opened from the guard's row, or for a
new one."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import msgspec
from PyQt6.QtCore import QObject, pyqtSignal
from PyQt6.QtWidgets import QHBoxLayout, QWidget

from hawser.core.errors import BadInput
from hawser.core.field_help import FieldHelp
from hawser.core.guards.declared import KINDS, AnyGuard, Guard
from hawser.desk.common.buttons import SureButton
from hawser.desk.common.editor import Editor, Typed
from hawser.desk.common.fields import Known

COMMON = ("name", "then", "per", "period", "cool_down_min", "on", "instruments", "sources")
AROUND = 110  # pixels of a form beside its fields


class GuardForm(Editor):
    """One kind's form, with a way to remove the guard that is shown."""

    removed = pyqtSignal()

    def __init__(
        self,
        parent: QWidget,
        kind: type[Guard],
        currency: str,
        told: Callable[[msgspec.Struct], str],
        kept: Typed,
        known: dict[str, Known],
    ) -> None:
        self.remove_button = SureButton("Remove this guard")
        self.remove_button.consequence = "Remove it?"
        super().__init__(
            parent,
            _title(kind),
            kind,
            currency,
            "Apply and keep",
            consequence=told,
            kept=kept,
            known=known,
        )
        self.remove_button.sure.connect(lambda: self._send(self.removed.emit))

    def _in_order(self, keys: list[FieldHelp]) -> list[FieldHelp]:
        """The name, what is the kind's own, and behind it what all guards have."""
        own = set(self.editing.kind.__struct_fields__) - set(COMMON)
        order = ["name", *(key.path for key in keys if key.path in own), *COMMON]
        return sorted(keys, key=lambda key: order.index(key.path))

    def _buttons(self, apply_text: str) -> QHBoxLayout:
        row = super()._buttons(apply_text)
        row.insertWidget(row.count() - 2, self.remove_button)
        return row


def _title(kind: type[Guard]) -> str:
    latches = "; it latches" if kind.LATCHES else ""
    return f"{kind.KIND[:1].upper() + kind.KIND[1:]}: {kind.SAYS}{latches}"


class GuardForms(QObject):
    """The forms over a station. `changed` gets the name the guard had (empty: a new one) and what
    it is to be; None: it is to go. `told` says what a change would mean; it raises BadInput where
    none may be made now. `known`: by key, what may be picked for it."""

    changed = pyqtSignal(str, object)

    def __init__(
        self,
        parent: QWidget,
        currency: Callable[[], str],
        told: Callable[[str, AnyGuard | None], str],
        kept: Typed,
        known: dict[str, Known],
    ) -> None:
        super().__init__(parent)
        self._known = known
        self._parent, self._currency, self._told, self._kept = parent, currency, told, kept
        self.forms: dict[type[Guard], GuardForm] = {}
        self._name = ""

    def edit(self, guard: AnyGuard) -> None:
        """Show a guard of the policy."""
        self._name = guard.name
        self._open(guard, True)

    def add(self, kind: type[Guard], names: list[str], symbol: str) -> None:
        """Show a new guard of this kind, under a name that none of `names` is; `symbol`: what a
        regime refers to."""
        self._name = ""
        tag = str(kind.__struct_config__.tag)
        first = kind.KIND[:1].upper() + kind.KIND[1:]
        name = next(
            one for one in (first, *(f"{first} {n}" for n in range(2, 999))) if one not in names
        )
        given: dict[str, Any] = {"name": name, **kind.FIRST}
        if tag == "regime":
            given["reference"] = symbol
        made = kind(**given)
        self._open(made, False)

    def _open(self, guard: Guard, there: bool) -> None:
        form = self.forms.get(type(guard))
        if form is None:
            form = GuardForm(
                parent=self._parent,
                kind=type(guard),
                currency=self._currency(),
                told=self._consequence,
                kept=self._kept,
                known=self._known,
            )
            self.forms[type(guard)] = form
            form.applied.connect(lambda made: self.changed.emit(self._name, made))
            form.removed.connect(self._remove)
        form.remove_button.means(guard.name)
        form.remove_button.setVisible(there)
        for other in self.forms.values():
            if other is not form:
                other.hide()
        form.open(guard, f"guard {guard.name}" if there else f"new {type(guard).KIND}")
        wide, high = min(760, self._parent.width() - 40), form.form.sizeHint().height() + AROUND
        form.setGeometry(
            (self._parent.width() - wide) // 2, 16, wide, min(high, self._parent.height() - 32)
        )

    def _remove(self) -> None:
        self.changed.emit(self._name, None)

    def refuse(self, sentence: str) -> None:
        """The form that is shown has asked for what cannot be."""
        for form in self.forms.values():
            if not form.isHidden():
                form.refuse(sentence)

    def _consequence(self, made: msgspec.Struct) -> str:
        try:
            # a form's record is a guard
            return self._told(self._name, made)  # type: ignore[arg-type]
        except BadInput as error:
            return error.sentence


def kinds() -> list[tuple[str, type[Guard]]]:
    """Every kind with the words it is offered by."""
    return [(f"{kind.KIND[:1].upper() + kind.KIND[1:]}: {kind.SAYS}", kind) for kind in KINDS]
