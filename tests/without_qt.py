"""The core's tests in a process that cannot import PyQt6: proof that the core needs no
interface."""

from __future__ import annotations

import sys
from importlib.abc import MetaPathFinder

import pytest


class NoQt(MetaPathFinder):
    """Makes every import of Qt fail, as on a machine without it."""

    def find_spec(self, fullname: str, path: object = None, target: object = None) -> None:
        if fullname.split(".", maxsplit=1)[0] == "PyQt6":
            raise ImportError(f"{fullname} is absent in this run")


sys.meta_path.insert(0, NoQt())
sys.exit(
    pytest.main(
        [
            "-q",
            "-p",
            "no:pytest-qt",
            "-p",
            "no:cacheprovider",
            "tests/core",
            "tests/engine",
            "tests/formats",
        ]
    )
)
