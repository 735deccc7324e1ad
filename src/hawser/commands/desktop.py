"""`hawser` without a command: the window, on the demo, a history, or a simulated venue
elsewhere."""

from __future__ import annotations

import argparse
import gc
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from pathlib import Path
from typing import TYPE_CHECKING

from hawser import __version__
from hawser.commands.declared import commands_help
from hawser.commands.parsing import DONE, Parser
from hawser.commands.process import leavable, say
from hawser.core.errors import BadInput

if TYPE_CHECKING:
    from hawser.core.account import Account
    from hawser.service.profiles.last_opened import OpenedFiles


def make_parser() -> Parser:
    parser = Parser(
        prog="hawser",
        description="Sizes, protects and tends trades. Without options: opens what was open "
        "last, or asks.",
        epilog=commands_help(),
        formatter_class=argparse.RawDescriptionHelpFormatter,
    )
    parser.add_argument(
        "--version", action="version", version=f"hawser {__version__}", help="print the version"
    )
    parser.add_argument(
        "--demo", action="store_true", help="open the shipped demo world; touches no data of yours"
    )
    parser.add_argument("--fresh", action="store_true", help="with --demo: begin the demo anew")
    parser.add_argument(
        "--bars", type=Path, metavar="FILE", help="replay this bar history (CSV or Parquet)"
    )
    parser.add_argument(
        "--import",
        type=Path,
        nargs="+",
        default=[],
        dest="files",
        metavar="FILE",
        help="look at bars or quotes of another program, and open them",
    )
    parser.add_argument(
        "--instrument", type=Path, metavar="FILE", help="with --bars: its instrument (TOML)"
    )
    parser.add_argument(
        "--account",
        type=Path,
        action="append",
        default=[],
        metavar="FILE",
        help="the account (TOML); given again: further accounts, each with a venue and a record of "
        "its own. "
        "With --demo: accounts beside the demo's",
    )
    parser.add_reading(with_bars=True)
    parser.add_argument(
        "--quay", type=Path, metavar="PATH", help="trade at the simulated venue that listens there"
    )
    parser.add_argument(
        "--speed",
        type=float,
        default=None,
        metavar="N",
        help="run the venue's clock N times as fast",
    )
    parser.add_argument(
        "--zone", metavar="ZONE", help="show times in this zone instead of the machine's"
    )
    # tests keep their data apart
    parser.add_argument("--profile-root", type=Path, help=argparse.SUPPRESS)
    return parser


def run(arguments: list[str]) -> int:
    leavable()
    parser = make_parser()
    options = parser.parse_args(arguments)
    parser.need_bars(options)
    if options.speed is not None and not 0 < options.speed <= 3600:
        raise BadInput("usage", "--speed: expected a multiple above 0, at most 3600")
    _check_zone(options.zone)
    if sum(map(bool, (options.demo, options.bars, options.quay, options.files))) > 1:
        raise BadInput("usage", "--demo, --bars, --import and --quay: expected one of them")
    if options.fresh and not options.demo:
        raise BadInput("usage", "--fresh: expected together with --demo")
    for name in ("instrument", "account"):
        with_it = options.bars or (name == "account" and (options.quay or options.demo))
        if getattr(options, name) and not with_it:
            raise BadInput("usage", f"--{name}: expected together with --bars")
    if options.bars and not options.instrument:
        raise BadInput("usage", "--bars: expected --instrument FILE.toml too")
    if options.quay and len(options.account) > 1:
        raise BadInput(
            "usage", "--quay: expected one account; a simulated venue keeps the books of one"
        )
    gc.disable()  # until the window stands: hundreds of modules are loaded, and nothing is garbage
    try:
        if options.demo:
            return _demo(options)
        if options.quay:
            return _far(options)
        if options.files:
            _need_display()
            return _ask(options, "", options.files)
        return _replay(options) if options.bars else _again(options)
    finally:
        gc.enable()


def _check_zone(zone: str | None) -> None:
    if zone is not None:
        from zoneinfo import ZoneInfo

        try:
            ZoneInfo(zone)
        except (KeyError, ValueError, OSError):
            raise BadInput("bad_zone", f"--zone {zone}: expected the name of a time zone") from None


def _need_display() -> None:
    from hawser.desk.app.start import display_missing

    if display_missing():
        raise BadInput(
            "no_display",
            (
                "No display to open a window on; on a machine without one, run it under Xvfb: "
                "xvfb-run "
                "-a make demo"
            ),
        )


def _demo(options: argparse.Namespace) -> int:
    _need_display()
    from functools import partial

    from hawser.demo import world
    from hawser.demo.boot import begin_anew, boot, boot_beside
    from hawser.desk.app.start import run as show
    from hawser.service.profiles.profile import account_profile, profile

    chosen = profile("demo", options.profile_root)
    more = []
    for name, account in _accounts(options.account):
        where = account_profile("demo", name, options.profile_root)
        more.append((name, where, partial(boot_beside, account)))
    for where in (chosen, *(where for _, where, _ in more)) if options.fresh else ():
        begin_anew(where)
    return show(
        chosen,
        boot,
        title="demo",
        speed=options.speed or 1.0,
        zone=options.zone,
        more=tuple(more),
        name=world.ACCOUNT.name or "demo",
        first_steps=True,
    )


def _accounts(paths: list[Path]) -> list[tuple[str, Account]]:
    """The accounts of the files, each under a name of its own."""
    from hawser.core.account import Account
    from hawser.formats.declared import load

    found: dict[str, Account] = {}
    for path in paths:
        account = load(Account, path)
        name = account.name or path.stem
        if name in found:
            raise BadInput(
                "same_name",
                f"{path}: name: another account is called '{name}' already; expected another",
            )
        found[name] = account
    return list(found.items())


def _far(options: argparse.Namespace) -> int:
    from hawser.core.account import Account
    from hawser.formats.declared import load
    from hawser.service.profiles.profile import far_name, profile
    from hawser.service.runtime.opening_quay import boot

    account = load(Account, options.account[0]) if options.account else None
    if not options.quay.is_socket():
        raise BadInput(
            "no_quay",
            f"{options.quay}: expected the socket of a simulated venue; start one: hawser quay",
        )
    _need_display()
    from hawser.desk.app.start import run as show

    chosen = profile(far_name(options.quay), options.profile_root)
    return show(
        chosen,
        lambda where: boot(options.quay, account, where),
        options.quay.name,
        options.speed or 1.0,
        options.zone,
    )


def _again(options: argparse.Namespace) -> int:
    """What was opened last; where there is nothing, or it cannot be opened any more, a person is
    asked."""
    from hawser.desk.app.start import display_missing
    from hawser.service.profiles.last_opened import last_opened

    if display_missing():  # nobody could answer
        return _open(options, last_opened(options.profile_root))
    try:
        return _open(options, last_opened(options.profile_root))
    except BadInput as error:
        told = "" if error.code == "nothing_opened" else error.sentence
    return _ask(options, told)


def _ask(options: argparse.Namespace, told: str, files: Sequence[Path] = ()) -> int:
    """Open what a person chooses; where that cannot be, ask once more and say why."""
    while True:
        chosen = _asked(options, told, files)
        if chosen is None:
            return DONE
        try:
            return _open(options, chosen)
        except BadInput as error:
            told, files = error.sentence, ()  # told where one begins


def _asked(options: argparse.Namespace, told: str, files: Sequence[Path]) -> OpenedFiles | None:
    """What a person chooses to begin with; None where the window is closed."""
    from functools import partial

    from hawser.desk.app.start import application
    from hawser.desk.app.welcome import Keeping, WelcomePage
    from hawser.desk.common.appearance import Appearance
    from hawser.service.profiles.own_files import keep_account, keep_history
    from hawser.service.profiles.profile import profile
    from hawser.service.profiles.recipes import Recipes

    application()
    root = options.profile_root
    recipes = Recipes(profile("own", root).config / "recipes")
    keeping = Keeping(partial(keep_history, root), partial(keep_account, root), recipes)
    window = WelcomePage(Appearance(zone=options.zone), keeping, told)
    window.show_files(files)
    window.exec()
    window.settle()
    return window.opened


def _open(options: argparse.Namespace, files: OpenedFiles) -> int:
    if files.of == "demo":
        with _only_told():
            files.keep(options.profile_root)
        return _demo(options)
    if files.of == "account":
        return _own_account(options, files)
    return _replay(options, files)


def _own_account(options: argparse.Namespace, files: OpenedFiles) -> int:
    """An account of one's own in the demo's market."""
    from functools import partial

    from hawser.demo.boot import boot_beside
    from hawser.desk.app.start import run as show
    from hawser.service.profiles.profile import account_profile

    ((name, account),) = _accounts([Path(files.account or "")])
    _need_display()
    with _only_told():
        files.keep(options.profile_root)
    return show(
        account_profile("own", name, options.profile_root),
        partial(boot_beside, account),
        title=name,
        speed=options.speed or 1.0,
        zone=options.zone,
        name=name,
        first_steps=True,
    )


def _replay(options: argparse.Namespace, files: OpenedFiles | None = None) -> int:
    from functools import partial

    from hawser.service.profiles.last_opened import note_opened
    from hawser.service.profiles.profile import account_profile, profile, replay_name
    from hawser.service.runtime.opening_history import Inputs, boot

    root = options.profile_root
    if files is not None:
        speed = options.speed or files.speed
    else:
        files = note_opened(
            root,
            options.bars,
            instrument=options.instrument,
            accounts=options.account,
            zone=options.tz,
            recipe=options.recipe,
            speed=options.speed or 1.0,
        )
        speed = options.speed or 1.0
    accounts = [files.account, *files.accounts] if files.account else []
    named = _accounts([Path(path) for path in accounts])
    first = Path(accounts[0]) if accounts else None
    recipe = Path(files.recipe) if files.recipe else None
    bars, instrument = Path(files.bars), Path(files.instrument)
    inputs = [Inputs(bars, instrument, first, zone=files.zone, recipe=recipe)]
    inputs += [inputs[0].with_account(Path(path)) for path in accounts[1:]]
    _need_display()
    from hawser.desk.app.start import run as show

    name = replay_name(inputs[0].instrument.symbol, inputs[0].path)
    with _only_told():
        files.keep(root)
    starts = [
        (one, account_profile(name, one, root), partial(boot, given))
        for (one, _), given in zip(named[1:], inputs[1:], strict=True)
    ]
    shown = named[0][0] if named else "first"
    title = inputs[0].path.name
    return show(
        profile(name, root),
        partial(boot, inputs[0]),
        title=title,
        speed=speed,
        zone=options.zone,
        more=tuple(starts),
        name=shown,
    )


@contextmanager
def _only_told() -> Iterator[None]:
    """What keeps nobody from starting: it is told, and that is all."""
    try:
        yield
    except BadInput as error:
        say(error.sentence)
