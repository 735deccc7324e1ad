"""`hawser parity`: the live engine and the rehearsal over the same bars, compared."""

from __future__ import annotations

import argparse
import json
from typing import TYPE_CHECKING

from hawser.commands.history import NEEDED, files_of, fleet_files_of, history_parser
from hawser.commands.parsing import DONE, REFUSED, Parser
from hawser.commands.process import aside, cancellable
from hawser.core.errors import BadInput

if TYPE_CHECKING:
    from hawser.verification.parity import Report

# what the file of a fleet says of each member
OF_MEMBERS = (*NEEDED, "signal", "exit_signal", "source", "source_name", "recipe")


def make_parser() -> Parser:
    return history_parser(
        "parity",
        "Compare the live engine with the rehearsal, trade by trade, on the same bars: of one "
        "instrument, or of a fleet.",
        or_fleet=True,
    )


def run(arguments: list[str]) -> int:
    """`hawser parity`."""
    options = make_parser().parse_args(arguments)
    _check(options)
    cancellable()
    from hawser.verification.parity import written

    report = aside(lambda: _compared(options))
    told = {"same": not report.differences} | report._asdict()
    print(json.dumps(told, indent=1) if options.json else written(report))
    return REFUSED if report.differences else DONE


def _check(options: argparse.Namespace) -> None:
    """Either a fleet or all that one history needs; raises BadInput."""
    for key in OF_MEMBERS if options.fleet else NEEDED:
        option = f"--{key.replace('_', '-')}"
        if options.fleet and getattr(options, key):
            raise BadInput("usage", f"{option}: expected without a fleet, whose file says it")
        if not options.fleet and not getattr(options, key):
            raise BadInput("usage", f"{option}: expected, or the file of a fleet")


def _compared(options: argparse.Namespace) -> Report:
    from hawser.verification.parity import parity, parity_of_fleet

    if options.fleet:
        return parity_of_fleet(fleet_files_of(options), options.order)
    return parity(files_of(options), options.order)
