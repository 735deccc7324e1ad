"""`hawser rehearse`: a rig over a history; trades, fills, stops and equity as files."""

from __future__ import annotations

import json
from pathlib import Path

from hawser.commands.history import files_of, history_parser
from hawser.commands.parsing import DONE, Parser
from hawser.commands.process import aside, cancellable, uncollected


def make_parser() -> Parser:
    parser = history_parser(
        "rehearse", "Run a rig over history; writes trades, fills, stops, equity."
    )
    parser.add_argument(
        "--out", type=Path, required=True, metavar="FOLDER", help="a folder for the files written"
    )
    parser.add_argument(
        "--reference",
        action="append",
        default=[],
        metavar="NAME=FILE",
        help="bars of an instrument that a regime refers to; may be given again",
    )
    parser.add_argument(
        "--replace",
        action="store_true",
        help="replace the files in a folder that is not empty, and nothing else in it",
    )
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
