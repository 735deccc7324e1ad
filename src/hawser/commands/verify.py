"""`hawser verify`: a recorded session replayed, every command compared."""

from __future__ import annotations

from pathlib import Path

from hawser.commands.parsing import DONE, REFUSED, Parser
from hawser.commands.process import interpret


def make_parser() -> Parser:
    parser = Parser(
        prog="hawser verify",
        description="Replay a recorded session through a fresh engine and compare every command.",
    )
    parser.add_argument(
        "session", type=Path, help="a ledger file (ledger.sqlite); it may be in use"
    )
    return parser


def run(arguments: list[str]) -> int:
    """`hawser verify SESSION`."""
    options = make_parser().parse_args(arguments)
    interpret()
    from hawser.ledger.verify import verify

    found = verify(options.session)
    if not found.line:
        print(f"{found.events} events, {found.commands} commands: every command is the same")
        if found.earlier:
            print(
                f"the first {found.earlier} lines were written by another version and are not "
                "replayed"
            )
        return DONE
    print(
        f"line {found.line}: the replay differs\n  recorded  {found.recorded}\n  replayed  "
        f"{found.replayed}"
    )
    return REFUSED
