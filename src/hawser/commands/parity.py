"""`hawser parity`: the live engine and the rehearsal over the same bars, compared."""

from __future__ import annotations

import json

from hawser.commands.history import files_of, history_parser
from hawser.commands.parsing import DONE, REFUSED
from hawser.commands.process import aside, cancellable


def run(arguments: list[str]) -> int:
    """`hawser parity`."""
    parser = history_parser(
        "parity", "Compare the live engine with the rehearsal, trade by trade, on the same bars."
    )
    options = parser.parse_args(arguments)
    cancellable()
    from hawser.verification.parity import parity, written

    report = aside(lambda: parity(files_of(options), options.order))
    told = {"same": not report.differences} | report._asdict()
    print(json.dumps(told, indent=1) if options.json else written(report))
    return REFUSED if report.differences else DONE
