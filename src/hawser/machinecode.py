"""Where Numba keeps the machine code of the rules, and when it is out of date: as soon as any rule
has changed.

Numba by itself looks at the one file that a function stands in. Its code holds the functions it
calls too, from other files: a rule that was mended would go on as it was wherever another calls it.
This stands outside the core, which reads no files: `core/compiled.py` tells Numba the names of
these classes, and Numba looks them up.

Machine code is kept only to save time. With Numba alone, a full disk or a file that a power cut has
left empty raises an error where a rule is called; here the rule is compiled as if nothing had been
kept.
"""

from __future__ import annotations

import contextlib
import hashlib
import os
from collections.abc import Iterator
from functools import cache
from pathlib import Path

from numba.core import caching

PACKAGE = Path(__file__).parent
# What a file has in it that machine code is made of: compiled functions, and the tuples, kinds and
# parts of LLVM that they are compiled with. A field that has moved is read from another place.
MARKS = (b"hawser.core.compiled import", b"(NamedTuple)", b"(IntEnum)", b"core.built import")
ALSO = ("compiled.py", "built.py", "llvm_code.py", "clock.py")


@cache
def stamp() -> bytes:
    """A digest of every file that machine code is made of, and of how it is compiled."""
    digest = hashlib.sha256()
    for folder in ("core", "rehearsal"):
        for path in sorted((PACKAGE / folder).rglob("*.py")):
            text = path.read_bytes()
            if path.name in ALSO or any(mark in text for mark in MARKS):
                digest.update(text)
    return digest.digest()


class _OfAllRules(caching._CacheLocator):
    """What each of Numba's own ways to find a folder is given."""

    # a folder can be written to or not: asked once, not for each function in it
    looked_at: set[str] = set()

    def get_source_stamp(self) -> bytes:
        return stamp()

    def ensure_cache_path(self) -> None:
        place = self.get_cache_path()  # type: ignore[no-untyped-call]
        if place not in self.looked_at:
            super().ensure_cache_path()  # type: ignore[no-untyped-call]
            self.looked_at.add(place)


class Given(_OfAllRules, caching.UserProvidedCacheLocator):
    """In NUMBA_CACHE_DIR, where that is set."""


class Beside(_OfAllRules, caching.InTreeCacheLocator):
    """Beside the source, where that can be written to."""


class OfUser(_OfAllRules, caching.UserWideCacheLocator):
    """In the person's own cache."""


class Nowhere(_OfAllRules, caching.UserProvidedCacheLocator):
    """Where none of those can be written to: each start compiles anew, which is slow, but it
    starts."""

    @classmethod
    def from_function(cls, py_func: object, py_file: str) -> Nowhere:
        return cls(py_func, py_file)

    def get_cache_path(self) -> str:
        return os.path.join(os.devnull, "nowhere")  # noqa: PTH118  # Numba works with texts


@contextlib.contextmanager
def _without_it(kept: caching.Cache) -> Iterator[None]:
    """In the place of Numba's own guard, which stands around each reading and writing and lets most
    errors through. A damaged index is replaced by an empty one: Numba reads it before it adds to
    it."""
    try:
        yield
    except OSError:
        pass
    except Exception:
        with contextlib.suppress(OSError):
            kept.flush()  # type: ignore[no-untyped-call]


# Numba has no setting
setattr(caching.FunctionCache, "_guard_against_spurious_io_errors", _without_it)  # noqa: B010
