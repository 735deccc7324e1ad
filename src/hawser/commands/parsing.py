"""What every command reads its arguments with, and the exit statuses (interface.md)."""

from __future__ import annotations

import argparse
import sys
from pathlib import Path
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

    def add_reading(self, with_bars: bool = False) -> None:
        """How bars are read, where `--bars` alone does not say it; `with_bars`: they need not be
        given."""
        first = "with --bars: how they are read" if with_bars else "how the bars are read"
        self.add_argument(
            "--recipe",
            type=Path,
            metavar="FILE",
            help=f"{first} (TOML, of hawser import), where another program wrote them",
        )
        first = "with --bars: the zone" if with_bars else "the zone"
        self.add_argument(
            "--tz", metavar="ZONE", help=f"{first} of their times, where those have no offset"
        )

    def add_bars_of(self) -> None:
        """Bars of the other instruments that a source looks at."""
        self.add_argument(
            "--bars-of",
            action="append",
            default=[],
            metavar="NAME=FILE",
            help="bars of another instrument that the source looks at; may be given again",
        )

    def need_bars(self, options: argparse.Namespace) -> None:
        """Refuse what says how bars are read where there are none; raises BadInput."""
        for name in ("recipe", "tz"):
            if getattr(options, name) and not options.bars:
                raise BadInput("usage", f"--{name}: expected together with --bars")

    def error(self, message: str) -> NoReturn:
        raise BadInput("usage", f"hawser: {message}; see hawser --help")

    def _print_message(self, message: str, file: SupportsWrite[str] | None = None) -> None:
        """The help and the version; argparse passes over what cannot be written."""
        (file or sys.stderr).write(message)
        sys.stdout.flush()
