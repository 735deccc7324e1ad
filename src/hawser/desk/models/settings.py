"""What the desk remembers between runs: sizes, columns, theme, drafts of plans. One JSON file,
written atomically."""

from __future__ import annotations

import base64
import contextlib
import threading
from pathlib import Path
from typing import Annotated

import msgspec

from hawser.core.errors import UNDECODABLE, BadInput
from hawser.desk.models.drafting import Texts
from hawser.desk.models.planning import Draft
from hawser.formats.atomic import written

Size = Annotated[int, msgspec.Meta(ge=0, le=100_000)]  # pixels


class Shown(msgspec.Struct):
    """What the desk showed of one account last, and what was typed there."""

    symbol: str = ""
    spans: dict[str, int] = {}
    shown_bars: dict[str, float] = {}
    drafts: dict[str, Draft] = {}  # by instrument
    # what is typed and not applied, by what it is about and by key
    forms: dict[str, dict[str, str]] = {}
    lines: dict[str, Texts] = {}  # over the bars of the chart, by instrument
    policy: str = ""  # the policy's text where it is typed and not applied, and where its news lies
    policy_folder: str = ""


class Kept(Shown):
    """Everything remembered: the first account's Helm, `others` by name, and the window's own.
    `geometry` as Qt's own bytes, base64. What no window could take is not read."""

    others: dict[str, Shown] = {}
    theme: str = "paper"
    geometry: str = ""
    splitters: dict[str, list[Size]] = {}
    columns: dict[str, list[Size]] = {}
    # by name; settings of before have its place
    station: Annotated[int, msgspec.Meta(ge=0)] | str = 0
    plans: dict[str, Draft] = {}  # saved by name
    first_steps_over: bool = False
    unfinished_rigs: dict[str, Texts] = {}  # what is typed and makes no rig yet
    unfinished_sources: dict[str, Texts] = {}

    def __post_init__(self) -> None:
        """Raises ValueError where the geometry is no base64."""
        base64.b64decode(self.geometry)

    def desk(self, account: str, first: bool) -> Shown:
        """What was shown of an account: its plans are its own, sized for its money."""
        return self if first else self.others.setdefault(account, Shown())


class Settings:
    """The kept values and their file. A file that cannot be read is set aside, never
    overwritten."""

    def __init__(self, path: Path | None) -> None:
        self.path, self.kept = path, Kept()
        self._written = b""
        self._writing: threading.Thread | None = None
        if path is not None and path.exists():
            try:
                self.kept = msgspec.json.decode(path.read_bytes(), type=Kept)
            except (OSError, *UNDECODABLE):
                with contextlib.suppress(OSError):
                    path.replace(path.with_suffix(".unreadable"))

    def save(self, wait: float = 0.0) -> None:
        """Write what has changed, on a thread of its own: a disk that hangs holds up no window.
        `wait`: so many seconds for it, and for what is being written already; without, that is left
        to finish and the next call writes."""
        if self._writing is not None:
            self._writing.join(wait)
        data = msgspec.json.encode(self.kept)
        if (
            self.path is None
            or data == self._written
            or (self._writing is not None and self._writing.is_alive())
        ):
            return
        self._writing = threading.Thread(
            target=self._write, args=(self.path, data), name="settings", daemon=True
        )
        try:
            self._writing.start()
        except RuntimeError:  # the system gives no thread for it
            self._writing = None
            self._write(self.path, data)
        else:
            self._writing.join(wait)

    def _write(self, path: Path, data: bytes) -> None:
        with contextlib.suppress(BadInput):  # the disk is full, say: it is tried again
            with written(path, private=True) as file:
                file.write(msgspec.json.format(data, indent=1))
            self._written = data
