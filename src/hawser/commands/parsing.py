"""What every command reads its arguments with, and the exit statuses (interface.md)."""

from __future__ import annotations

import argparse
import sys
from typing import TYPE_CHECKING, NoReturn

from hawser.core.errors import BadInput

if TYPE_CHECKING:
    from _typeshed import SupportsWrite

DONE, REFUSED, WRONG = 0, 1, 2


class Parser(argparse.ArgumentParser):
    """One line on standard error for a wrong call."""

    def error(self, message: str) -> NoReturn:
        raise BadInput("usage", f"hawser: {message}; see hawser --help")

    def _print_message(self, message: str, file: SupportsWrite[str] | None = None) -> None:
        """The help and the version; argparse passes over what cannot be written."""
        (file or sys.stderr).write(message)
        sys.stdout.flush()
