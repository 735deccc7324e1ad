"""What every command reads its arguments with, and the exit statuses (interface.md)."""

from __future__ import annotations

import argparse
import sys
from typing import TYPE_CHECKING, Any, NoReturn

from hawser.commands.declared import COMMANDS
from hawser.core.errors import BadInput

if TYPE_CHECKING:
    from _typeshed import SupportsWrite

DONE, REFUSED, WRONG = 0, 1, 2


class Parser(argparse.ArgumentParser):
    """One line on standard error for a wrong call; the help of a command ends with its example."""

    def __init__(self, **given: Any) -> None:
        command = COMMANDS.get(str(given.get("prog", "")).removeprefix("hawser "))
        if command is not None:
            given.setdefault("epilog", f"Example: hawser {command.name} {command.example}")
        super().__init__(**given)

    def error(self, message: str) -> NoReturn:
        raise BadInput("usage", f"hawser: {message}; see hawser --help")

    def _print_message(self, message: str, file: SupportsWrite[str] | None = None) -> None:
        """The help and the version; argparse passes over what cannot be written."""
        (file or sys.stderr).write(message)
        sys.stdout.flush()
