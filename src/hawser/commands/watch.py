"""`hawser watch`: a process that alerts where Hawser falls silent with positions open, and can
flatten."""

from __future__ import annotations

import argparse
import os
from pathlib import Path

from hawser.commands.parsing import DONE, REFUSED, Parser
from hawser.core.errors import BadInput


def make_parser() -> Parser:
    parser = Parser(
        prog="hawser watch",
        description="Watch Hawser's sign of life from a process of its own: alert where it stays "
        "away while positions "
        "are open, and flatten at the venue where that is asked for. Ends when Hawser is closed.",
    )
    parser.add_argument(
        "--quay", type=Path, metavar="PATH", help="the Hawser that trades at this simulated venue"
    )
    parser.add_argument(
        "--demo", action="store_true", help="the demo (its venue ends with it: alerts only)"
    )
    parser.add_argument(
        "--silent", type=float, default=20.0, metavar="S", help="how long it may be silent (20 s)"
    )
    parser.add_argument(
        "--flatten", action="store_true", help="with --quay: close everything there then"
    )
    parser.add_argument("--profile-root", type=Path, help=argparse.SUPPRESS)
    # How the application starts its own: a profile by its name and folders, and whatever is set
    # there.
    parser.add_argument(
        "--at", nargs=4, metavar=("NAME", "DATA", "CONFIG", "STATE"), help=argparse.SUPPRESS
    )
    parser.add_argument("--as-set", action="store_true", help=argparse.SUPPRESS)
    return parser


def run(arguments: list[str]) -> int:
    """`hawser watch`."""
    options = make_parser().parse_args(arguments)
    if options.at:
        if os.fork():
            os._exit(DONE)
        from hawser.service.profiles.profile import Profile
        from hawser.service.watchdog.process import watch

        name, *folders = options.at
        return (
            DONE
            if watch(Profile(name, *map(Path, folders)), options.silent, None, options.as_set)
            else REFUSED
        )
    if bool(options.quay) == options.demo:
        raise BadInput("usage", "--quay PATH or --demo: expected one of them")
    if options.flatten and not options.quay:
        raise BadInput(
            "usage", "--flatten: expected together with --quay; the demo's venue ends with the demo"
        )
    if not 2 <= options.silent <= 3600:
        raise BadInput("usage", "--silent: expected 2 to 3600 seconds")
    if options.quay and not options.quay.absolute().parent.is_dir():
        raise BadInput("usage", f"--quay: there is no folder {options.quay.absolute().parent}")
    from hawser.service.profiles.profile import far_name, profile
    from hawser.service.watchdog.process import watch

    chosen = profile(far_name(options.quay) if options.quay else "demo", options.profile_root)
    return (
        DONE
        if watch(chosen, options.silent, options.quay if options.flatten else None)
        else REFUSED
    )
