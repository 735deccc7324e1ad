"""`hawser lines`: indicator columns added to a bar file."""

from __future__ import annotations

from pathlib import Path

from hawser.commands.parsing import DONE, Parser
from hawser.commands.process import aside, cancellable, uncollected


def run(arguments: list[str]) -> int:
    """`hawser lines`."""
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
    parser.add_argument("--tz", metavar="ZONE", help="the zone of times written without an offset")
    options = parser.parse_args(arguments)
    cancellable()
    with uncollected():
        from hawser.formats.lines import add_lines

        added = aside(lambda: add_lines(options.bars, options.spec, options.out, options.tz))
    print(f"Written: {options.out}, with {', '.join(added)}")
    return DONE
