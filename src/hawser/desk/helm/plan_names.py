"""Plans by name: saved, taken onto any instrument, forgotten. No dialog: the name is typed where it
is shown."""

from __future__ import annotations

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import QComboBox, QHBoxLayout, QPushButton, QWidget

from hawser.desk.common.choice import Choice
from hawser.desk.common.explained import explain
from hawser.desk.models.planning import Draft


class PlanNames(QWidget):
    """The saved plans. `plans` is what is remembered between runs."""

    applied = pyqtSignal(object)
    save_asked = pyqtSignal(str)

    def __init__(self) -> None:
        super().__init__()
        self.plans: dict[str, Draft] = {}
        self.box = Choice()
        self.box.setEditable(True)
        self.box.setInsertPolicy(QComboBox.InsertPolicy.NoInsert)
        self.box.setAccessibleName("Name of the plan")
        field = self.box.lineEdit()
        assert field is not None
        field.setPlaceholderText("name this plan")
        explain(self, "plan_name")
        explain(self.box, "plan_name")
        self.save_button, self.forget_button = QPushButton("Save"), QPushButton("Forget")
        self.box.activated.connect(self._chosen)
        self.box.editTextChanged.connect(self._typed)
        field.returnPressed.connect(self._save)
        self.save_button.clicked.connect(self._save)
        self.forget_button.clicked.connect(self.forget)
        row = QHBoxLayout(self)
        row.setContentsMargins(0, 0, 0, 0)
        row.setSpacing(4)
        row.addWidget(self.box, 1)
        row.addWidget(self.save_button)
        row.addWidget(self.forget_button)
        self._typed("")

    def set_plans(self, plans: dict[str, Draft]) -> None:
        self.plans = plans
        self._list("")

    def save(self, name: str, draft: Draft) -> None:
        """Keep `draft` under `name`, in the place of an older plan of that name."""
        self.plans[name] = draft
        self._list(name)

    def forget(self) -> None:
        """Forget the plan whose name is shown; the plan in the fields stays."""
        self.plans.pop(self.box.currentText().strip(), None)
        self._list("")

    def take(self, name: str) -> None:
        """Apply a saved plan."""
        self.box.setCurrentText(name)
        self.applied.emit(self.plans[name])

    def _list(self, shown: str) -> None:
        self.box.blockSignals(True)
        self.box.clear()
        self.box.addItems(sorted(self.plans))
        self.box.setCurrentText(shown)
        self.box.blockSignals(False)
        self._typed(shown)

    def _chosen(self, index: int) -> None:
        name = self.box.itemText(index)
        if name in self.plans:
            self.applied.emit(self.plans[name])

    def _typed(self, text: str) -> None:
        name = text.strip()
        self.save_button.setEnabled(bool(name))
        self.save_button.setText("Replace" if name in self.plans else "Save")
        self.forget_button.setEnabled(name in self.plans)

    def _save(self) -> None:
        name = self.box.currentText().strip()
        if name:
            self.save_asked.emit(name)
