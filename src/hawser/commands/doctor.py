"""`hawser doctor`: what a stranger who is to help would ask for."""

from __future__ import annotations

import argparse
import json
from pathlib import Path

from hawser.commands.parsing import DONE, REFUSED, Parser
from hawser.commands.process import aside, cancellable


def make_parser() -> Parser:
    parser = Parser(
        prog="hawser doctor",
        description="Look at versions, folders, disk, clock, records and the last faults. Changes "
        "nothing, and tells nothing secret.",
    )
    parser.add_argument("--json", action="store_true", help="print it as JSON")
    # tests keep their data apart
    parser.add_argument("--profile-root", type=Path, help=argparse.SUPPRESS)
    return parser


def run(arguments: list[str]) -> int:
    """`hawser doctor`; 1 where something is wrong."""
    options = make_parser().parse_args(arguments)
    cancellable()
    from hawser.service.doctor import as_text, examine

    found = aside(lambda: list(examine(options.profile_root)))
    good = all(one.ok is not False for one in found)
    if options.json:
        told = {"ok": good, "checks": [one._asdict() for one in found]}
        print(json.dumps(told, indent=1, ensure_ascii=False))
    else:
        print(as_text(found))
    return DONE if good else REFUSED
