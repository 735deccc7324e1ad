"""`hawser guards`: what every guard says of an entry at one moment."""

from __future__ import annotations

import json
from pathlib import Path

from hawser.commands.parsing import DONE, REFUSED, Parser
from hawser.commands.process import interpret
from hawser.core.errors import BadInput


def make_parser() -> Parser:
    parser = Parser(
        prog="hawser guards",
        description=(
            "Print what every guard says of an entry at one moment. Exit status 0: entries "
            "open; 1: closed."
        ),
    )
    parser.add_argument(
        "--guards", type=Path, metavar="FILE", help="the policy (TOML); its news files are read too"
    )
    parser.add_argument(
        "--session",
        type=Path,
        metavar="FILE",
        help="a ledger: its latches and counters, and its policy where none is given",
    )
    parser.add_argument(
        "--at", required=True, metavar="TIME", help="the moment, ISO 8601 with its offset"
    )
    parser.add_argument(
        "--instrument",
        type=Path,
        action="append",
        default=[],
        metavar="FILE",
        required=True,
        help="an instrument (TOML); may be given again",
    )
    parser.add_argument(
        "--bars",
        type=Path,
        action="append",
        default=[],
        metavar="FILE",
        help="its bars, for spread, volatility and regime; as many as instruments",
    )
    parser.add_reading()
    parser.add_argument("--side", choices=("long", "short"), help="of the entry that is meant")
    parser.add_argument(
        "--r-ticks", type=float, metavar="N", help="its distance from entry to stop, in ticks"
    )
    parser.add_argument(
        "--source", default="by hand", metavar="NAME", help="its signal source (by hand)"
    )
    parser.add_argument("--json", action="store_true", help="print JSON")
    return parser


def run(arguments: list[str]) -> int:
    """`hawser guards`."""
    parser = make_parser()
    options = parser.parse_args(arguments)
    parser.need_bars(options)
    if options.bars and len(options.bars) != len(options.instrument):
        raise BadInput("usage", "--bars: expected as many as --instrument")
    if not options.guards and not options.session:
        raise BadInput("usage", "--guards: expected a policy, or --session with one")
    interpret()
    from hawser.service import guard_check as gc

    said = gc.check(
        gc.CheckedFiles(
            options.guards,
            options.session,
            tuple(options.instrument),
            bars=tuple(options.bars),
            zone=options.tz,
            recipe=options.recipe,
        ),
        gc.moment(options.at),
        {"long": 1, "short": -1}.get(options.side, 0),
        options.r_ticks,
        options.source,
    )
    print(
        json.dumps(gc.as_json(said), indent=1, ensure_ascii=False)
        if options.json
        else gc.as_text(said)
    )
    return REFUSED if any(one.closed for one in said) else DONE
