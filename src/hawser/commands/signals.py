"""`hawser signals`: what a source says at each bar of a file, and what followed."""

from __future__ import annotations

import json
import sys
from pathlib import Path

from hawser.commands.parsing import DONE, Parser
from hawser.commands.process import aside, cancellable, uncollected


def make_parser() -> Parser:
    parser = Parser(
        prog="hawser signals",
        description="Write a bar file with what a source says at each bar: signal and exit_signal.",
    )
    parser.add_argument(
        "--bars", type=Path, required=True, metavar="FILE", help="bars: CSV or Parquet"
    )
    parser.add_argument(
        "--source", type=Path, required=True, metavar="FILE", help="the source (TOML)"
    )
    parser.add_argument(
        "--out", type=Path, required=True, metavar="FILE", help="where to write: .csv or .parquet"
    )
    parser.add_bars_of()
    parser.add_reading()
    parser.add_argument("--json", action="store_true", help="print the figures as JSON")
    return parser


def run(arguments: list[str]) -> int:
    """`hawser signals`."""
    options = make_parser().parse_args(arguments)
    cancellable()
    with uncollected():
        from hawser.service.signalling import SignalFiles, signals

        files = SignalFiles(
            options.bars,
            options.source,
            options.out,
            others=tuple(options.bars_of),
            zone=options.tz,
            recipe=options.recipe,
        )
        done = aside(lambda: signals(files))
    for sentence in done.minded:
        print(sentence, file=sys.stderr)
    print(json.dumps(done.report, indent=1) if options.json else "\n".join(done.told))
    return DONE
