"""The options and files that commands over a history share."""

from __future__ import annotations

import argparse
from pathlib import Path
from typing import TYPE_CHECKING

from hawser.commands.parsing import Parser

if TYPE_CHECKING:
    from hawser.service.fleets import FleetFiles
    from hawser.service.rehearsing import Files


# what a history cannot do without
NEEDED = {
    "bars": "bars: CSV or Parquet",
    "instrument": "the instrument (TOML)",
    "rig": "the rig (TOML)",
    "account": "the account (TOML)",
}


def history_parser(name: str, told: str, or_fleet: bool = False) -> Parser:
    """The options that `rehearse` and `parity` share. `or_fleet`: a fleet's file may stand instead
    of what a history cannot do without."""
    parser = Parser(prog=f"hawser {name}", description=told)
    if or_fleet:
        parser.add_argument(
            "fleet",
            type=Path,
            nargs="?",
            metavar="FLEET",
            help="a fleet (TOML), instead of bars, instrument, rig and account",
        )
    for key, what in NEEDED.items():
        needed = not or_fleet
        parser.add_argument(f"--{key}", type=Path, required=needed, metavar="FILE", help=what)
    parser.add_argument(
        "--signal",
        metavar="COLUMN",
        help="entries: +1, -1 or 0 at a close (signal)",
    )
    parser.add_argument(
        "--exit-signal", metavar="COLUMN", help="early exits: -1 leaves a long, +1 a short"
    )
    add_order(parser)
    parser.add_argument(
        "--timeframe",
        metavar="SPAN",
        help="decide on bars of this length, as 1h, joined of the finer bars or ticks; fills "
        "are made on those. Goes before the rig's",
    )
    parser.add_reading()
    parser.add_argument(
        "--guards", type=Path, metavar="FILE", help="a policy (TOML) that guards the entries"
    )
    parser.add_argument(
        "--source",
        type=Path,
        metavar="FILE",
        help="a source (TOML) that says when to enter and leave, instead of columns",
    )
    parser.add_argument(
        "--source-name",
        default="",
        metavar="NAME",
        help="the source of the columns, for guards that name theirs",
    )
    parser.add_bars_of()
    add_rates(parser)
    parser.add_argument("--json", action="store_true", help="print the report")
    return parser


def add_order(parser: Parser) -> None:
    parser.add_argument(
        "--order",
        choices=("pessimistic", "optimistic", "path"),
        default="pessimistic",
        help="what fills first inside a bar that reaches both sides (pessimistic)",
    )


def add_rates(parser: Parser) -> None:
    parser.add_argument(
        "--rate",
        action="append",
        default=[],
        metavar="PAIR=FILE",
        help="bars of a pair of currencies, as CHF/SEK=FILE: its price is the rate, bar by bar",
    )


def add_references(parser: Parser) -> None:
    parser.add_argument(
        "--reference",
        action="append",
        default=[],
        metavar="NAME=FILE",
        help="bars of an instrument that a regime refers to; may be given again",
    )


def add_out(parser: Parser) -> None:
    """The folder that is written, and whether what is in it may be replaced."""
    parser.add_argument(
        "--out", type=Path, required=True, metavar="FOLDER", help="a folder for the files written"
    )
    parser.add_argument(
        "--replace",
        action="store_true",
        help="replace the files in a folder that is not empty, and nothing else in it",
    )


def files_of(options: argparse.Namespace) -> Files:
    from hawser.service.rehearsing import Files

    return Files(
        bars=options.bars,
        instrument=options.instrument,
        rig=options.rig,
        account=options.account,
        signal=options.signal,
        exit_signal=options.exit_signal,
        zone=options.tz,
        guards=options.guards,
        source=options.source,
        source_name=options.source_name,
        others=tuple(options.bars_of),
        rates=tuple(options.rate),
        references=tuple(getattr(options, "reference", ())),
        timeframe=options.timeframe,
        recipe=options.recipe,
    )


def fleet_files_of(options: argparse.Namespace) -> FleetFiles:
    from hawser.service.fleets import FleetFiles

    return FleetFiles(
        fleet=options.fleet,
        zone=options.tz,
        guards=options.guards,
        others=tuple(options.bars_of),
        references=tuple(getattr(options, "reference", ())),
        rates=tuple(options.rate),
        timeframe=options.timeframe,
    )
