"""`hawser storm`: engine and simulated venue driven through seeded storms."""

from __future__ import annotations

from hawser.commands.parsing import DONE, REFUSED, Parser
from hawser.core.errors import BadInput


def make_parser() -> Parser:
    parser = Parser(
        prog="hawser storm",
        description="Drive engine and simulated venue through seeded storms, in simulated time.",
    )
    parser.add_argument("--seeds", type=int, default=100, metavar="N", help="how many storms (100)")
    parser.add_argument("--first", type=int, default=0, metavar="SEED", help="the first seed (0)")
    parser.add_argument(
        "--severity", choices=("fair", "squall", "gale"), default="gale", help="the weather (gale)"
    )
    parser.add_argument("--json", action="store_true", help="print the report as JSON")
    parser.add_argument(
        "--guards", action="store_true", help="with a policy of every guard, and news"
    )
    parser.add_argument("--replay", type=int, metavar="SEED", help="one storm with its full trace")
    return parser


def run(arguments: list[str]) -> int:
    """`hawser storm`."""
    options = make_parser().parse_args(arguments)
    if options.seeds < 1:
        raise BadInput("usage", "--seeds: expected a whole number, 1 or more")
    from hawser.verification import report

    if options.replay is not None:
        return DONE if report.replay(options.replay, options.severity, options.guards) else REFUSED
    kept = report.report(
        options.first, options.seeds, options.severity, options.json, options.guards
    )
    return DONE if kept else REFUSED
