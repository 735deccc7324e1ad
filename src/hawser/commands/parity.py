"""`hawser parity`: the live engine and the rehearsal over the same bars, compared."""

from __future__ import annotations

import json

from hawser.commands.history import files_of, history_parser
from hawser.commands.parsing import DONE, REFUSED, Parser
from hawser.commands.process import aside, cancellable


def make_parser() -> Parser:
    return history_parser(
        "parity", "Compare the live engine with the rehearsal, trade by trade, on the same bars."
    )


def run(arguments: list[str]) -> int:
    """`hawser parity`."""
    options = make_parser().parse_args(arguments)
    cancellable()
    from hawser.verification.parity import parity, written

    report = aside(lambda: parity(files_of(options), options.order))
    told = {"same": not report.differences} | report._asdict()
    print(json.dumps(told, indent=1) if options.json else written(report))
    return REFUSED if report.differences else DONE
