"""`hawser fleet`: several members on one account over history; the files of a rehearsal."""

from __future__ import annotations

import json
from pathlib import Path

from hawser.commands.history import add_order, add_out, add_rates, add_references, fleet_files_of
from hawser.commands.parsing import DONE, Parser
from hawser.commands.process import aside, cancellable, uncollected


def make_parser() -> Parser:
    parser = Parser(
        prog="hawser fleet",
        description="Run several instruments, each with a source and a rig, on one account.",
    )
    parser.add_argument("fleet", type=Path, metavar="FLEET", help="the fleet (TOML)")
    add_out(parser)
    add_order(parser)
    parser.add_argument(
        "--timeframe",
        metavar="SPAN",
        help="decide on bars of this length, as 1h, joined of the members' finer bars. Goes before "
        "the fleet's",
    )
    parser.add_argument(
        "--tz",
        metavar="ZONE",
        help="the zone of the bars' times, where those have no offset and their member names none",
    )
    parser.add_argument(
        "--guards", type=Path, metavar="FILE", help="a policy (TOML) that guards the entries"
    )
    add_references(parser)
    parser.add_bars_of()
    add_rates(parser)
    parser.add_argument("--json", action="store_true", help="print the report")
    return parser


def run(arguments: list[str]) -> int:
    """`hawser fleet`."""
    options = make_parser().parse_args(arguments)
    cancellable()
    with uncollected():
        from hawser.service.fleets import rehearse_fleet
        from hawser.service.run_record import RunRecord, check_folder

        check_folder(options.out, options.replace)
        files = fleet_files_of(options)
        record = RunRecord(["fleet", *arguments], [options.fleet])
        done = aside(lambda: rehearse_fleet(files, options.out, options.order, record))
    print(json.dumps(done.report, indent=1) if options.json else "\n".join(done.told))
    return DONE
