"""A person's rigs: one TOML file each in the settings' folder. Those that ship are laid there once,
at first."""

from __future__ import annotations

from collections.abc import Iterator
from functools import partial
from pathlib import Path

from hawser.core.errors import BadInput
from hawser.core.rig import Rig
from hawser.formats.atomic import folder_written
from hawser.formats.rigs import load_rig, read_rig, rig_text, save_rig
from hawser.service.profiles.profile import plain
from hawser.service.timed_io import in_time

SHIPPED = (
    "short-hitch",
    "slow-warp",
    "spring-line",
    "bar-by-bar",
    "even-keel",
    "soft-landing",
    "other-tack",
    "three-rungs",
)


class Shelf:
    """Rigs by name, each in its file, read when they are first wanted. Changes are written at once,
    whole; `faults` are files that cannot be read."""

    def __init__(self, folder: Path | None) -> None:
        self.folder = folder
        self._rigs: dict[str, Rig] = {}
        self._faults: list[str] = []
        self._paths: dict[str, Path] = {}
        self._left = self._pieces()  # what has not been read

    @property
    def rigs(self) -> dict[str, Rig]:
        self.read()
        return self._rigs

    @property
    def faults(self) -> list[str]:
        self.read()
        return self._faults

    def read(self) -> None:
        """Read all that has not been read."""
        for _ in self.reading():
            pass

    def reading(self) -> Iterator[None]:
        """The same, a rig for each value that is asked for: who has something else to do meanwhile
        does it between two."""
        return self._left

    def _pieces(self) -> Iterator[None]:
        if self.folder is not None and self.folder.is_dir():
            for path in sorted(self.folder.glob("*.toml")):
                self._take(path)
                yield
            return
        for rig in shipped():
            self._rigs[rig.name] = rig
            yield
        self._lay()

    def _lay(self) -> None:
        """Those that ship, all at once: a folder with some of them would stay so. Where it cannot
        be made they are here all the same."""
        folder = self.folder
        if folder is None:
            return
        paths = {name: folder / f"{plain(name)}.toml" for name in self._rigs}
        try:
            folder.parent.mkdir(parents=True, exist_ok=True, mode=0o700)
            with folder_written(folder, [path.name for path in paths.values()]) as opened:
                for name, path in paths.items():
                    opened(path.name).write(rig_text(self._rigs[name]))
            folder.chmod(0o700)
        except (BadInput, OSError) as error:
            why = error.sentence if isinstance(error, BadInput) else f"{folder}: {error.strerror}"
            self._faults.append(f"{why}: the rigs that ship are there for now, and are not kept")
            return
        self._paths = paths

    def _take(self, path: Path) -> None:
        try:
            rig = load_rig(path)
        except BadInput as error:
            self._faults.append(error.sentence)
            return
        name = rig.name or path.stem
        if name in self._rigs:
            self._faults.append(f"{path}: there is another rig named {name}")
            return
        self._rigs[name], self._paths[name] = rig, path

    def put(self, rig: Rig) -> None:
        """Keep a rig under its name, in the place of an older one; raises BadInput where it cannot
        be written."""
        if not rig.name.strip():
            raise BadInput("no_name", "A rig needs a name")
        self.read()
        folder = self.folder
        if folder is not None:
            self._paths[rig.name] = in_time(lambda: self._kept(rig, folder))
        self._rigs[rig.name] = rig

    def _kept(self, rig: Rig, folder: Path) -> Path:
        """Where a rig has been written."""
        try:
            folder.mkdir(parents=True, exist_ok=True, mode=0o700)
        except OSError as error:
            raise BadInput("unwritable", f"{folder}: cannot be made ({error.strerror})") from None
        path = self._paths.get(rig.name) or self._free(rig.name)
        save_rig(rig, path)
        return path

    def drop(self, name: str) -> None:
        """Forget a rig, and its file."""
        self.read()
        path = self._paths.get(name)
        if path is not None:
            try:
                in_time(partial(path.unlink, missing_ok=True))
            except OSError as error:
                raise BadInput(
                    "unwritable", f"{path}: cannot be deleted ({error.strerror})"
                ) from None
        self._paths.pop(name, None)
        self._rigs.pop(name, None)

    def _free(self, name: str) -> Path:
        assert self.folder is not None
        stem, taken = plain(name) or "rig", {path.name for path in self._paths.values()}
        number = 1
        while (
            found := self.folder / (f"{stem}.toml" if number == 1 else f"{stem}-{number}.toml")
        ).name in taken or (found.exists()):
            number += 1
        return found


def shipped() -> Iterator[Rig]:
    """The rigs that come with Hawser."""
    from importlib.resources import files

    root = files("hawser.demo") / "rigs"
    for name in SHIPPED:
        yield read_rig((root / f"{name}.toml").read_text(encoding="utf-8"), name)
