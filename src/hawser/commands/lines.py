"""`hawser lines`: indicator columns added to a bar file."""

from __future__ import annotations

from pathlib import Path

from hawser.commands.parsing import DONE, Parser
from hawser.commands.process import aside, cancellable, uncollected


def make_parser() -> Parser:
    parser = Parser(prog="hawser lines", description="Add indicator columns to a bar file.")
    parser.add_argument(
        "--bars", type=Path, required=True, metavar="FILE", help="bars: CSV or Parquet"
    )
    parser.add_argument(
        "--spec",
        type=Path,
        required=True,
        metavar="FILE",
        help="TOML with a [[line]] for each column",
    )
    parser.add_argument(
        "--out", type=Path, required=True, metavar="FILE", help="where to write: .csv or .parquet"
    )
    parser.add_reading()
    return parser


def run(arguments: list[str]) -> int:
    """`hawser lines`."""
    options = make_parser().parse_args(arguments)
    cancellable()
    with uncollected():
        from hawser.formats.lines import add_lines

        added = aside(
            lambda: add_lines(
                options.bars, options.spec, options.out, zone=options.tz, recipe=options.recipe
            )
        )
    print(f"Written: {options.out}, with {', '.join(added)}")
    return DONE
