"""All commands as one parser: shell completion and the manual are made from it. `hawser` itself
loads one command and no other."""

from __future__ import annotations

from importlib import import_module

from hawser.commands.declared import COMMANDS
from hawser.commands.desktop import make_parser
from hawser.commands.parsing import Parser


def combined_parser() -> Parser:
    """`hawser`, its options, and each command with its own."""
    parser = make_parser()
    parser.epilog = None  # it lists the commands, which stand below with all they take
    within = parser.add_subparsers(title="commands", metavar="COMMAND", parser_class=Parser)
    for one in COMMANDS.values():
        made: Parser = import_module(f"hawser.commands.{one.module}").make_parser()
        within.add_parser(
            one.name,
            parents=[made],
            add_help=False,
            prog=made.prog,
            help=one.text,
            description=made.description,
            epilog=made.epilog,
        )
    return parser
