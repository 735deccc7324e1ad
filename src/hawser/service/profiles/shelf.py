"""A person's own records of one kind, as their rigs or sources: one TOML file each in a folder of
the settings. Those that ship are laid there once, at first."""

from __future__ import annotations

from collections.abc import Iterator
from functools import partial
from pathlib import Path
from typing import ClassVar, Generic, Protocol, TypeVar

from hawser.core.errors import BadInput
from hawser.formats.atomic import folder_written
from hawser.service.profiles.profile import plain
from hawser.service.timed_io import in_time


class Named(Protocol):
    """What has a name that tells it from others."""

    @property
    def name(self) -> str: ...


Kept = TypeVar("Kept", bound=Named)


class Shelf(Generic[Kept]):
    """Records by name, each in its file, read when they are first wanted. Changes are written at
    once, whole; `faults` are files that cannot be read."""

    WORD: ClassVar[str]  # what one is called

    def __init__(self, folder: Path | None) -> None:
        self.folder = folder
        self._all: dict[str, Kept] = {}
        self._faults: list[str] = []
        self._paths: dict[str, Path] = {}
        self._left = self._pieces()  # what has not been read

    # What each kind of shelf says of its records

    def load(self, path: Path) -> Kept:
        """One from its file; raises BadInput."""
        raise NotImplementedError

    def text(self, one: Kept) -> bytes:
        """What stands in its file."""
        raise NotImplementedError

    def save(self, one: Kept, path: Path) -> None:
        """One as a file; raises BadInput where it cannot be written."""
        raise NotImplementedError

    def shipped(self) -> Iterator[Kept]:
        """Those that come with Hawser."""
        raise NotImplementedError

    def beside(self) -> dict[str, bytes]:
        """What lies beside those that ship, by the file's name."""
        return {}

    # Reading

    @property
    def all(self) -> dict[str, Kept]:
        """By name."""
        self.read()
        return self._all

    @property
    def faults(self) -> list[str]:
        self.read()
        return self._faults

    def read(self) -> None:
        """Read all that has not been read."""
        for _ in self.reading():
            pass

    def reading(self) -> Iterator[None]:
        """The same, one for each value that is asked for: who has something else to do meanwhile
        does it between two."""
        return self._left

    def path(self, name: str) -> Path | None:
        """The file that it stands in; None where it is kept in no file."""
        self.read()
        return self._paths.get(name)

    def _pieces(self) -> Iterator[None]:
        if self.folder is not None and self.folder.is_dir():
            for path in sorted(self.folder.glob("*.toml")):
                self._take(path)
                yield
            return
        for one in self.shipped():
            self._all[one.name] = one
            yield
        self._lay()

    def _lay(self) -> None:
        """Those that ship, all at once: a folder with some of them would stay so. Where it cannot
        be made they are here all the same."""
        folder = self.folder
        if folder is None:
            return
        paths = {name: folder / f"{plain(name)}.toml" for name in self._all}
        beside = self.beside()
        try:
            folder.parent.mkdir(parents=True, exist_ok=True, mode=0o700)
            with folder_written(folder, [path.name for path in paths.values()] + [*beside]) as file:
                for name, path in paths.items():
                    file(path.name).write(self.text(self._all[name]))
                for name, data in beside.items():
                    file(name).write(data)
            folder.chmod(0o700)
        except (BadInput, OSError) as error:
            why = error.sentence if isinstance(error, BadInput) else f"{folder}: {error.strerror}"
            self._faults.append(
                f"{why}: the {self.WORD}s that ship are there for now, and are not kept"
            )
            return
        self._paths = paths

    def _take(self, path: Path) -> None:
        try:
            one = self.load(path)
        except BadInput as error:
            self._faults.append(error.sentence)
            return
        name = one.name or path.stem
        if name in self._all:
            self._faults.append(f"{path}: there is another {self.WORD} named {name}")
            return
        self._all[name], self._paths[name] = one, path

    # Changing

    def put(self, one: Kept) -> None:
        """Keep one under its name, in the place of an older one; raises BadInput where it cannot be
        written."""
        if not one.name.strip():
            raise BadInput("no_name", f"A {self.WORD} needs a name")
        self.read()
        folder = self.folder
        if folder is not None:
            self._paths[one.name] = in_time(lambda: self._kept(one, folder))
        self._all[one.name] = one

    def _kept(self, one: Kept, folder: Path) -> Path:
        """Where it has been written."""
        try:
            folder.mkdir(parents=True, exist_ok=True, mode=0o700)
        except OSError as error:
            raise BadInput("unwritable", f"{folder}: cannot be made ({error.strerror})") from None
        path = self._paths.get(one.name) or self._free(one.name)
        self.save(one, path)
        return path

    def drop(self, name: str) -> None:
        """Forget one, and its file."""
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
        self._all.pop(name, None)

    def _free(self, name: str) -> Path:
        assert self.folder is not None
        stem, taken = plain(name) or self.WORD, {path.name for path in self._paths.values()}
        number = 1
        while (
            found := self.folder / (f"{stem}.toml" if number == 1 else f"{stem}-{number}.toml")
        ).name in taken or (found.exists()):
            number += 1
        return found
