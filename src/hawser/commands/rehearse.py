"""`hawser rehearse`: a rig over a history; trades, fills, stops and equity as files."""

from __future__ import annotations

import json

from hawser.commands.history import add_out, add_references, files_of, history_parser
from hawser.commands.parsing import DONE, Parser
from hawser.commands.process import aside, cancellable, uncollected


def make_parser() -> Parser:
    parser = history_parser(
        "rehearse", "Run a rig over history; writes trades, fills, stops, equity."
    )
    add_out(parser)
    add_references(parser)
    return parser


def run(arguments: list[str]) -> int:
    """`hawser rehearse`."""
    options = make_parser().parse_args(arguments)
    cancellable()
    with uncollected():
        from hawser.service.rehearsing import rehearse
        from hawser.service.run_record import RunRecord, check_folder

        check_folder(options.out, options.replace)
        files = files_of(options)
        record = RunRecord(["rehearse", *arguments], files.inputs())
        done = aside(lambda: rehearse(files, options.out, options.order, record))
    print(json.dumps(done.report, indent=1) if options.json else "\n".join(done.told))
    return DONE
