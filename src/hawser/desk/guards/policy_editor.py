"""The policy of guards as its file has it, to be edited, read from a file and written to one."""

from __future__ import annotations

from pathlib import Path

from PyQt6.QtCore import Qt
from PyQt6.QtGui import QKeyEvent
from PyQt6.QtWidgets import (
    QFileDialog,
    QHBoxLayout,
    QPlainTextEdit,
    QPushButton,
    QVBoxLayout,
    QWidget,
)

from hawser.core.errors import BadInput
from hawser.core.guards.declared import AnyGuard, Guards
from hawser.core.guards.looseness import loosened, loosened_rules
from hawser.desk.common.explained import explain
from hawser.desk.common.overlay import Overlay
from hawser.desk.common.words import Label
from hawser.desk.models import figures as fg
from hawser.desk.models.settings import Shown
from hawser.desk.theme.fonts import font
from hawser.desk.theme.roles import give
from hawser.formats.atomic import written
from hawser.formats.declared import small_text
from hawser.formats.policytext import (
    from_anywhere,
    read_policy,
    with_files,
    with_guard,
    without_guard,
)
from hawser.service.runtime.runtime import Runtime
from hawser.service.timed_io import in_time


def told_change(old: Guards, new: Guards) -> str:
    """What applying would mean, in words."""
    names = {guard.name for guard in old.guard}
    fresh = [guard.name for guard in new.guard if guard.name not in names]
    looser = {guard.name: loosened(guard, new.named(guard.name)) for guard in old.guard}
    parts = [f"new: {', '.join(fresh)}"] if fresh else []
    for name, keys in looser.items():
        if keys:
            parts.append(f"{name} is looser ({', '.join(keys)})")
    rules = loosened_rules(old, new)
    if rules:
        parts.append(f"{', '.join(key.replace('_', ' ') for key in rules)} may be looser")
    waits = old.loosen != "now" and (any(looser.values()) or bool(rules))
    when = "; what is looser holds from its next period on" if waits else ""
    count = len(new.guard)
    return f"{fg.counted(count, 'guard')}. " + (
        "; ".join(parts) + when if parts else "Nothing is loosened."
    )


class PolicyEditor(Overlay):
    """Opens over the station; Escape puts it away and keeps what was typed, also until the next
    start."""

    def __init__(self, parent: QWidget, runtime: Runtime, shown: Shown) -> None:
        super().__init__(parent)
        # the last: the text as it was last written down
        self._runtime, self._shown, self._applied = runtime, shown, ""
        self._folder: Path | None = Path(shown.policy_folder) if shown.policy_folder else None
        self.policy = Guards()  # that holds now
        title = Label("Policy of guards")
        title.setProperty("role", "title")
        self.text = QPlainTextEdit()
        self.text.setFont(font(12, mono=True))
        self.text.setLineWrapMode(QPlainTextEdit.LineWrapMode.NoWrap)
        self.text.setAccessibleName("The policy, TOML")
        self.text.setTabChangesFocus(True)
        explain(self.text, "policy_text", tip=False)
        self.text.textChanged.connect(self._check)
        self.told = Label()
        self.told.setWordWrap(True)
        self.apply = QPushButton("Apply and keep")
        self.apply.clicked.connect(lambda _: self.send())
        row = QHBoxLayout()
        for name, act in (
            ("From file", self._import),
            ("To file", self._export),
            ("Revert", self.reload),
        ):
            button = QPushButton(name)
            button.clicked.connect(lambda _, act=act: act())
            row.addWidget(button)
        row.addStretch(1)
        row.addWidget(self.apply)
        box = QVBoxLayout(self)
        box.setContentsMargins(12, 8, 12, 10)
        for widget in (title, self.text, self.told):
            box.addWidget(widget, 1 if widget is self.text else 0)
        box.addLayout(row)
        self.hide()
        self.text.setPlainText(shown.policy)

    def remember(self) -> None:
        """Note what is typed and not applied, for the next start."""
        text = self.text.toPlainText()
        applied = text.strip() in ("", self._applied.strip())
        self._shown.policy = "" if applied else text
        self._shown.policy_folder = str(self._folder) if self._folder and not applied else ""

    @property
    def path(self) -> Path:
        """The person's own policy."""
        return self._runtime.profile.guards

    def open(self) -> None:
        parent = self.parentWidget()
        assert parent is not None
        wide = min(760, parent.width() - 40)
        self.setGeometry((parent.width() - wide) // 2, 16, wide, parent.height() - 32)
        if not self.text.toPlainText().strip():
            self.reload()
        self._check()
        self.show()
        self.raise_()
        self.text.setFocus()

    def reload(self) -> None:
        """The policy as it is written down now."""
        try:
            self._applied, self._folder = self._written()
            self.text.setPlainText(self._applied)
        except BadInput as error:
            self.told.setText(error.sentence)

    def kept(self) -> Guards:
        """The policy as it is written down; raises BadInput."""
        text, folder = self._written()
        return from_anywhere(read_policy(text), folder)

    def _written(self) -> tuple[str, Path]:
        """The policy's text as it is written down, and where its news lies; raises BadInput."""
        path = self._runtime.guards_path
        if path is None:
            return EMPTY, self.path.parent
        return in_time(lambda: small_text(path)), path.parent

    def made(self) -> Guards:
        """The policy as it is typed; raises BadInput."""
        return from_anywhere(read_policy(self.text.toPlainText()), self._folder or self.path.parent)

    def _check(self) -> None:
        try:
            self.told.setText(told_change(self.policy, self.made()))
            give(self.told, "role", "second")
            self.apply.setEnabled(True)
        except BadInput as error:
            self.told.setText(error.sentence)
            give(self.told, "role", "caution")
            self.apply.setEnabled(False)

    def send(self) -> None:
        """Have the policy from now on, and write it down."""
        try:
            self._keep(self.text.toPlainText(), self._folder)
        except BadInput as error:
            self.told.setText(error.sentence)
            return
        self.hide()

    def _keep(self, text: str, folder: Path | None) -> None:
        """Have what a text says, and write it down as it is; news that lies elsewhere is found from
        anywhere."""
        made = read_policy(text)
        whole = from_anywhere(made, folder or self.path.parent)
        moved = folder not in (None, self.path.parent) and whole != made
        data = (with_files(text, whole.news.files) if moved else text).encode()
        in_time(lambda: self._put(data))
        self._applied = text
        self._runtime.change_guards(whole)

    def _put(self, data: bytes) -> None:
        with written(self.path) as file:
            file.write(data)

    def changed(self, name: str, made: AnyGuard | None) -> str:
        """The text as it is written down, with the guard `name` as `made` has it (None: gone);
        raises BadInput where other changes of the text wait to be applied."""
        text, _ = self._written()
        if self.text.toPlainText().strip() not in ("", text.strip()):
            raise BadInput(
                "policy_typed", "The policy's text was changed: apply the changes, or revert them"
            )
        return without_guard(text, name) if made is None else with_guard(text, name, made)

    def changed_policy(self, name: str, made: AnyGuard | None) -> Guards:
        """What it would be with that changed; raises BadInput."""
        return from_anywhere(read_policy(self.changed(name, made)), self._written()[1])

    def change(self, name: str, made: AnyGuard | None) -> None:
        """Have one guard changed, and write it down; raises BadInput."""
        text, (_, folder) = self.changed(name, made), self._written()
        self._keep(text, folder)
        self.text.clear()  # it is read anew when it is opened

    def _import(self) -> None:
        name, _ = QFileDialog.getOpenFileName(self, "A policy from a file", "", "TOML (*.toml)")
        if name:
            self.take_from(Path(name))

    def take_from(self, path: Path) -> None:
        """Show what a file has; it holds once it is applied."""
        try:
            self.text.setPlainText(small_text(path))
            self._folder = path.parent
        except BadInput as error:
            self.told.setText(error.sentence)

    def _export(self) -> None:
        name, _ = QFileDialog.getSaveFileName(
            self, "The policy as a file", "guards.toml", "TOML (*.toml)"
        )
        if name:
            self.write_to(Path(name))

    def write_to(self, path: Path) -> None:
        """Write what is typed to a file; its news is found from there."""
        try:
            with written(path) as file:
                file.write(self._for(path.parent).encode())
            self.told.setText(f"Written to {path.name}")
        except BadInput as error:
            self.told.setText(error.sentence)

    def _for(self, folder: Path) -> str:
        text = self.text.toPlainText()
        try:
            made, here = self.made(), from_anywhere(read_policy(text), folder)
        except BadInput:
            return text  # not a policy yet, and kept all the same
        return text if here == made else with_files(text, made.news.files)

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        if event is not None and event.key() == Qt.Key.Key_Escape:
            self.hide()
        else:
            super().keyPressEvent(event)


EMPTY = """# What closes entries. Exits and tighter stops always pass.
zone = "UTC"
loosen = "next_period"

[[guard]]
kind = "loss"
name = "Day loss"
percent = 2.0
then = ["flatten"]

[[guard]]
kind = "losing_streak"
name = "Losing streak"
losses = 5
"""
