"""`hawser quay`: the simulated venue as a process of its own."""

from __future__ import annotations

import argparse
from pathlib import Path
from typing import TYPE_CHECKING

from hawser.commands.parsing import DONE, Parser
from hawser.core.errors import BadInput

if TYPE_CHECKING:
    from hawser.venue.quay.quay import Quay


def make_parser() -> Parser:
    parser = Parser(
        prog="hawser quay",
        description="Run the simulated venue as a process of its own, on a Unix socket.",
    )
    parser.add_argument(
        "--socket", type=Path, required=True, metavar="PATH", help="where to listen"
    )
    parser.add_argument(
        "--state", type=Path, metavar="FILE", help="where its books are kept (beside the socket)"
    )
    parser.add_argument(
        "--bars",
        type=Path,
        metavar="FILE",
        help="replay this history instead of the demo's market",
    )
    parser.add_argument(
        "--instrument", type=Path, metavar="FILE", help="with --bars: its instrument (TOML)"
    )
    parser.add_argument(
        "--account",
        type=Path,
        metavar="FILE",
        help="the account's currency, balance and rates (TOML)",
    )
    parser.add_reading(with_bars=True)
    parser.add_argument(
        "--severity",
        choices=("calm", "fair", "squall", "gale"),
        default="fair",
        help="weather (fair)",
    )
    parser.add_argument("--seed", type=int, default=1, metavar="N", help="of the weather (1)")
    parser.add_argument(
        "--speed", type=float, default=1.0, metavar="N", help="run its clock N times as fast (1)"
    )
    return parser


def run(arguments: list[str]) -> int:
    """`hawser quay`."""
    parser = make_parser()
    options = parser.parse_args(arguments)
    parser.need_bars(options)
    if not 0 < options.speed <= 3600:
        raise BadInput("usage", "--speed: expected a multiple above 0, at most 3600")
    if bool(options.bars) != bool(options.instrument):
        raise BadInput("usage", "--bars and --instrument: expected together")
    from hawser.service.runtime.opening_quay import serve

    serve(_venue(options), options.socket, options.speed)
    return DONE


def _venue(options: argparse.Namespace) -> Quay:
    from hawser.core.account import Account
    from hawser.demo import world
    from hawser.formats.declared import load
    from hawser.venue.quay import feed as fd
    from hawser.venue.quay.quay import Quay
    from hawser.venue.quay.replay import ReplayFeed
    from hawser.venue.quay.store import BookStore
    from hawser.venue.quay.weather import SEVERITIES

    feed: fd.Feed
    if options.bars:
        from hawser.service.runtime.opening_history import Inputs

        inputs = Inputs(
            options.bars,
            options.instrument,
            options.account,
            zone=options.tz,
            recipe=options.recipe,
        )
        account = inputs.account
        feed = ReplayFeed(inputs.instrument, inputs.history.bars, account.costs.spread_ticks)
    else:
        account = load(Account, options.account) if options.account else world.ACCOUNT
        feed = world.make_feed()
    store = BookStore(options.state or options.socket.with_suffix(".sqlite"))
    return Quay(
        feed,
        account.currency,
        account.basis_money("balance"),
        account.rates,
        SEVERITIES[options.severity],
        seed=options.seed,
        store=store,
    )
