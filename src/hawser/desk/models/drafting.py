"""Something being edited as text, section by section and row by row: what is typed, and the way
back."""

from __future__ import annotations

import copy

Texts = dict[str, list[dict[str, str]]]  # by section, a row for each time it stands there
Place = tuple[str, int, str]  # section, row, blank


class Typing:
    """What is typed, with undo. Who inherits reads it in `check`."""

    def __init__(self, texts: Texts) -> None:
        self.texts = texts
        self.errors: dict[Place, str] = {}
        self.general = ""
        self._past: list[Texts] = []
        self._future: list[Texts] = []
        self._last: Place | None = None

    def check(self) -> None:
        """Read every text: what is wrong goes into `errors` by place, and into `general` where it
        is of no one place."""
        raise NotImplementedError

    def change(self, place: Place, text: str) -> None:
        """What is typed into one blank; typing on in it is one step of undo."""
        section, row, key = place
        if self.texts[section][row][key] == text:
            return
        if place != self._last:
            self.remember()
        self._last = place
        self.texts[section][row] = self.filled(section, self.texts[section][row] | {key: text})
        self.check()

    def filled(self, section: str, row: dict[str, str]) -> dict[str, str]:
        """The texts of all the blanks that a row has now, where that depends on what is chosen."""
        return row

    def put(self, key: str, row: dict[str, str]) -> None:
        """One more row of a section; a step to come back to."""
        self.remember()
        self.texts[key].append(self.filled(key, row))
        self.check()

    def remove(self, key: str, row: int) -> None:
        """One row less."""
        self.remember()
        del self.texts[key][row]
        self.check()

    def fits(self, texts: Texts) -> bool:
        """Whether these may be its texts: they come from a file that may be of before, or
        damaged."""
        if texts.keys() != self.texts.keys():
            return False
        return all(self.rows_fit(section, rows) for section, rows in texts.items())

    def rows_fit(self, section: str, rows: list[dict[str, str]]) -> bool:
        """Whether a section may have these rows."""
        raise NotImplementedError

    def take(self, texts: Texts) -> bool:
        """What was typed before, as it was; False, and nothing is changed, where it does not
        fit."""
        if not self.fits(texts):
            return False
        self.texts = copy.deepcopy(texts)
        self.check()
        return True

    def undo(self) -> bool:
        return self._step(self._past, self._future)

    def redo(self) -> bool:
        return self._step(self._future, self._past)

    @property
    def can(self) -> tuple[bool, bool]:
        """Whether there is something to undo, and to redo."""
        return bool(self._past), bool(self._future)

    def remember(self) -> None:
        """What is there now is a step to come back to."""
        self._past.append(copy.deepcopy(self.texts))
        self._future.clear()
        self._last = None

    def _step(self, source: list[Texts], other: list[Texts]) -> bool:
        if not source:
            return False
        other.append(copy.deepcopy(self.texts))
        self.texts, self._last = source.pop(), None
        self.check()
        return True
