"""The `hawser` command. Each part imports what it needs and no more, so that `hawser size` answers at once."""

from __future__ import annotations

import argparse
import gc
import json
import os
import signal
import sys
import threading
from collections.abc import Callable, Iterator
from contextlib import contextmanager, suppress
from pathlib import Path
from typing import TYPE_CHECKING, NoReturn, TypeVar

from hawser import __version__
from hawser.core.errors import BadInput, HawserError

if TYPE_CHECKING:
    from _typeshed import SupportsWrite

    from hawser.core.account import Account
    from hawser.service.rehearse import Files
    from hawser.venue.quay.quay import Quay

Result = TypeVar("Result")
MOST_JSON = 64_000_000  # bytes of a request, or of a list of them
DONE, REFUSED, WRONG = 0, 1, 2


class _Parser(argparse.ArgumentParser):
    """One line on standard error for a wrong call."""

    def error(self, message: str) -> NoReturn:
        raise BadInput("usage", f"hawser: {message}; see hawser --help")

    def _print_message(self, message: str, file: SupportsWrite[str] | None = None) -> None:
        """The help and the version; argparse passes over what cannot be written."""
        (file or sys.stderr).write(message)
        sys.stdout.flush()


def main(arguments: list[str] | None = None) -> int:
    """Run the command; returns the exit status of interface.md."""
    given = sys.argv[1:] if arguments is None else arguments
    _fill_streams()
    before = [(number, signal.getsignal(number)) for number in (signal.SIGINT, signal.SIGTERM)]
    try:
        status = COMMANDS[given[0]](given[1:]) if given[:1] and given[0] in COMMANDS else _desktop(given)
        sys.stdout.flush()
        return status
    except HawserError as error:
        _say(error.sentence)
        return WRONG
    except KeyboardInterrupt:
        _say("cancelled; nothing was written")
        return REFUSED
    except BrokenPipeError:
        _no_output()
        return DONE
    except OSError as error:  # of a file it has its own sentence; this is what nobody foresaw
        _no_output()
        _say(f"{error.filename or 'standard output'}: cannot be read or written ({error.strerror})")
        return WRONG
    finally:
        for number, handler in before:
            if signal.getsignal(number) is not handler:
                signal.signal(number, handler)


def _fill_streams() -> None:
    """Where a standard stream is closed, a file that is opened later would take its number, and be written into by
    whoever complains. Output to the one put there fails, as it would have to; complaints go nowhere."""
    for number, name, mode in ((0, "stdin", "r"), (1, "stdout", "w"), (2, "stderr", "w")):
        if getattr(sys, name) is None:
            with suppress(OSError):
                os.fstat(number)  # not closed, whatever else is wrong with it
                continue
            os.dup2(os.open(os.devnull, os.O_RDWR if name == "stderr" else os.O_RDONLY), number)
            setattr(sys, name, open(number, mode, closefd=False))  # noqa: SIM115  # as long as the process


def _say(sentence: str) -> None:
    """On standard error, which may be a file on a full disk: the exit status is right all the same."""
    with suppress(OSError):
        print(sentence, file=sys.stderr)


@contextmanager
def _only_told() -> Iterator[None]:
    """What keeps nobody from starting: it is told, and that is all."""
    try:
        yield
    except BadInput as error:
        _say(error.sentence)


def _no_output() -> None:
    """What is still to be written goes nowhere: else the interpreter tries again as it ends."""
    os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())


def _cancellable() -> None:
    """From here on Ctrl+C or SIGTERM ends the process where it stands, with nothing half-written. An exception instead
    would go through whatever runs just then, and a library that loads machine code does not survive that."""
    from hawser.formats.atomic import discard

    def stop(*_: object) -> None:
        os.write(2, b"cancelled; all had been written\n" if discard() else b"cancelled; nothing was written\n")
        os._exit(REFUSED)

    for number in (signal.SIGINT, signal.SIGTERM):
        signal.signal(number, stop)


def _aside(work: Callable[[], Result]) -> Result:
    """Have long work done by another thread: compiled loops hear no signal, the thread that waits here does."""
    made: list[Result] = []
    wrong: list[BaseException] = []

    def run() -> None:
        try:
            made.append(work())
        except BaseException as error:  # raised again where somebody waits for it
            wrong.append(error)

    thread = threading.Thread(target=run, name="work", daemon=True)
    thread.start()
    thread.join()
    if wrong:
        raise wrong[0]
    return made[0]


def _leavable() -> None:
    """Until the window is there to close, Ctrl+C or SIGTERM ends the process where it stands: nothing is open yet."""

    def leave(number: int, _: object) -> None:
        os._exit(DONE if number == signal.SIGINT else 128 + number)

    for number in (signal.SIGINT, signal.SIGTERM):
        signal.signal(number, leave)


@contextmanager
def _uncollected() -> Iterator[None]:
    """Work done once, with large libraries loaded for it, and then the process ends: looking through all of it for
    garbage, while it loads and as it ends, would take a fifth of the time and free nothing."""
    gc.disable()
    try:
        yield
    finally:
        gc.freeze()
        gc.enable()


def _size(arguments: list[str]) -> int:
    """`hawser size REQUEST`."""
    parser = _Parser(prog="hawser size", description="Size one trade, or a list of them: JSON in, JSON out.")
    parser.add_argument("request", help="a JSON file; - for standard input")
    options = parser.parse_args(arguments)
    name = "standard input" if options.request == "-" else options.request
    data = _json(options.request, name)
    _interpret()
    from hawser.formats.size_json import answer_many, answer_one

    if isinstance(data, list):
        print(json.dumps(answer_many(data), indent=1))
        return DONE
    answer = answer_one(data, name)
    print(json.dumps(answer, indent=1))
    return DONE if answer["ok"] else REFUSED


def _lines(arguments: list[str]) -> int:
    """`hawser lines`."""
    parser = _Parser(prog="hawser lines", description="Add indicator columns to a bar file.")
    parser.add_argument("--bars", type=Path, required=True, metavar="FILE", help="bars: CSV or Parquet")
    parser.add_argument("--spec", type=Path, required=True, metavar="FILE", help="TOML with a [[line]] for each column")
    parser.add_argument("--out", type=Path, required=True, metavar="FILE", help="where to write: .csv or .parquet")
    parser.add_argument("--tz", metavar="ZONE", help="the zone of times written without an offset")
    options = parser.parse_args(arguments)
    _cancellable()
    with _uncollected():
        from hawser.formats.lines import add_lines

        _aside(lambda: add_lines(options.bars, options.spec, options.out, options.tz))
    return DONE


def _storm(arguments: list[str]) -> int:
    """`hawser storm`."""
    parser = _Parser(
        prog="hawser storm", description="Drive engine and simulated venue through seeded storms, in simulated time."
    )
    parser.add_argument("--seeds", type=int, default=100, metavar="N", help="how many storms (100)")
    parser.add_argument("--first", type=int, default=0, metavar="SEED", help="the first seed (0)")
    parser.add_argument("--severity", choices=("fair", "squall", "gale"), default="gale", help="the weather (gale)")
    parser.add_argument("--json", action="store_true", help="print the report as JSON")
    parser.add_argument("--guards", action="store_true", help="with a policy of every guard, and news")
    parser.add_argument("--replay", type=int, metavar="SEED", help="one storm with its full trace")
    options = parser.parse_args(arguments)
    if options.seeds < 1:
        raise BadInput("usage", "--seeds: expected a whole number, 1 or more")
    from hawser.service import stormreport

    if options.replay is not None:
        return DONE if stormreport.replay(options.replay, options.severity, options.guards) else REFUSED
    kept = stormreport.report(options.first, options.seeds, options.severity, options.json, options.guards)
    return DONE if kept else REFUSED


def _history_parser(name: str, told: str) -> _Parser:
    """The options that `rehearse` and `parity` share."""
    parser = _Parser(prog=f"hawser {name}", description=told)
    for key, what in (
        ("bars", "bars: CSV or Parquet"), ("instrument", "the instrument (TOML)"), ("rig", "the rig (TOML)"),
        ("account", "the account (TOML)"),
    ):  # fmt: skip
        parser.add_argument(f"--{key}", type=Path, required=True, metavar="FILE", help=what)
    parser.add_argument("--signal", default="signal", metavar="COLUMN", help="entries: +1, -1 or 0 at a close (signal)")
    parser.add_argument("--exit-signal", metavar="COLUMN", help="early exits: -1 leaves a long, +1 a short")
    parser.add_argument("--order", choices=("pessimistic", "optimistic", "path"), default="pessimistic",
                        help="what fills first inside a bar that reaches both sides (pessimistic)")  # fmt: skip
    parser.add_argument("--tz", metavar="ZONE", help="the zone of times written without an offset")
    parser.add_argument("--guards", type=Path, metavar="FILE", help="a policy (TOML) that guards the entries")
    parser.add_argument("--source", default="", metavar="NAME", help="the signals' source, for guards that name theirs")
    parser.add_argument("--json", action="store_true", help="print the report")
    return parser


def _files(options: argparse.Namespace) -> Files:
    from hawser.service.rehearse import Files

    return Files(
        options.bars, options.instrument, options.rig, options.account, options.signal, options.exit_signal, options.tz,
        options.guards, options.source, tuple(getattr(options, "reference", ())),
    )  # fmt: skip


def _rehearse(arguments: list[str]) -> int:
    """`hawser rehearse`."""
    parser = _history_parser("rehearse", "Run a rig over history; writes trades, fills, stops, equity.")
    parser.add_argument("--out", type=Path, required=True, metavar="FOLDER", help="a folder for the files written")
    parser.add_argument("--reference", action="append", default=[], metavar="NAME=FILE",
                        help="bars of an instrument that a regime refers to; may be given again")  # fmt: skip
    options = parser.parse_args(arguments)
    _cancellable()
    with _uncollected():
        from hawser.service.rehearse import rehearse

        report = _aside(lambda: rehearse(_files(options), options.out, options.order))
    if options.json:
        print(json.dumps(report, indent=1))
    return DONE


def _parity(arguments: list[str]) -> int:
    """`hawser parity`."""
    parser = _history_parser("parity", "Compare the live engine with the rehearsal, trade by trade, on the same bars.")
    options = parser.parse_args(arguments)
    _cancellable()
    from hawser.service.parity import parity, written

    report = _aside(lambda: parity(_files(options), options.order))
    print(json.dumps(report._asdict(), indent=1) if options.json else written(report))
    return REFUSED if report.differences else DONE


def _interpret() -> None:
    """Run the rules interpreted in this process: the same source, without waiting for a compiler to load."""
    if "numba" not in sys.modules:
        os.environ["NUMBA_DISABLE_JIT"] = "1"


def _json(path: str, name: str) -> object:
    try:
        data = sys.stdin.buffer.read(MOST_JSON + 1) if path == "-" else _bytes(Path(path))
        if len(data) > MOST_JSON:
            raise BadInput("too_large", f"{name}: is larger than {MOST_JSON // 1_000_000} MB")
        return json.loads(data.decode("utf-8"))
    except OSError as error:
        raise BadInput("unreadable", f"{name}: cannot be read ({error.strerror})") from None
    except (json.JSONDecodeError, UnicodeDecodeError) as error:
        raise BadInput("not_json", f"{name}: expected JSON; {error}") from None
    except RecursionError:
        raise BadInput("not_json", f"{name}: is nested too deep") from None
    except ValueError:  # of Python's own limit for whole numbers
        raise BadInput("not_json", f"{name}: holds a number of thousands of digits") from None


def _bytes(path: Path) -> bytes:
    with path.open("rb") as file:
        return file.read(MOST_JSON + 1)


def _desktop_parser() -> _Parser:
    parser = _Parser(
        prog="hawser",
        description="Sizes, protects and tends trades. Without options: opens the history opened last.",
        epilog="Commands: hawser size REQUEST sizes a trade from JSON; hawser lines adds indicator columns to bars; "
        "hawser verify SESSION replays a recorded session and compares. Each has its own --help.",
    )
    parser.add_argument("--version", action="version", version=f"hawser {__version__}")
    parser.add_argument("--demo", action="store_true", help="open the shipped demo world; touches no data of yours")
    parser.add_argument("--fresh", action="store_true", help="with --demo: begin the demo anew")
    parser.add_argument("--bars", type=Path, metavar="FILE", help="replay this bar history (CSV or Parquet)")
    parser.add_argument("--instrument", type=Path, metavar="FILE", help="with --bars: its instrument (TOML)")
    parser.add_argument(
        "--account", type=Path, action="append", default=[], metavar="FILE",
        help="the account (TOML); given again: further accounts, each with a venue and a record of its own. "
        "With --demo: accounts beside the demo's",
    )  # fmt: skip
    parser.add_argument("--tz", metavar="ZONE", help="with --bars: the zone of times written without an offset")
    parser.add_argument("--quay", type=Path, metavar="PATH", help="trade at the simulated venue that listens there")
    parser.add_argument("--speed", type=float, default=None, metavar="N", help="run the venue's clock N times as fast")
    parser.add_argument("--zone", metavar="ZONE", help="show times in this zone instead of the machine's")
    parser.add_argument("--profile-root", type=Path, help=argparse.SUPPRESS)  # tests keep their data apart
    return parser


def _desktop(arguments: list[str]) -> int:
    _leavable()
    options = _desktop_parser().parse_args(arguments)
    if options.speed is not None and not 0 < options.speed <= 3600:
        raise BadInput("usage", "--speed: expected a multiple above 0, at most 3600")
    _check_zone(options.zone)
    if sum(map(bool, (options.demo, options.bars, options.quay))) > 1:
        raise BadInput("usage", "--demo, --bars and --quay: expected one of them")
    if options.fresh and not options.demo:
        raise BadInput("usage", "--fresh: expected together with --demo")
    for name in ("instrument", "account", "tz"):
        with_it = options.bars or (name == "account" and (options.quay or options.demo))
        if getattr(options, name) and not with_it:
            raise BadInput("usage", f"--{name}: expected together with --bars")
    if options.bars and not options.instrument:
        raise BadInput("usage", "--bars: expected --instrument FILE.toml too")
    if options.quay and len(options.account) > 1:
        raise BadInput("usage", "--quay: expected one account; a simulated venue keeps the books of one")
    if options.demo:
        return _demo(options)
    if options.quay:
        return _far(options)
    return _replay(options)


def _check_zone(zone: str | None) -> None:
    if zone is not None:
        from zoneinfo import ZoneInfo

        try:
            ZoneInfo(zone)
        except (KeyError, ValueError, OSError):
            raise BadInput("bad_zone", f"--zone {zone}: expected the name of a time zone") from None


def _need_display() -> None:
    from hawser.desk.app import display_missing

    if display_missing():
        raise BadInput(
            "no_display",
            "No display to open a window on; on a machine without one, run it under Xvfb: xvfb-run -a make demo",
        )


def _demo(options: argparse.Namespace) -> int:
    _need_display()
    from functools import partial

    from hawser.demo import world
    from hawser.demo.boot import begin_anew, boot, boot_beside
    from hawser.desk.app import run
    from hawser.service.profile import account_profile, profile

    chosen = profile("demo", options.profile_root)
    more = []
    for name, account in _accounts(options.account):
        where = account_profile("demo", name, options.profile_root)
        more.append((name, where, partial(boot_beside, account)))
    for where in (chosen, *(where for _, where, _ in more)) if options.fresh else ():
        begin_anew(where)
    return run(chosen, boot, "demo", options.speed or 1.0, options.zone, tuple(more), world.ACCOUNT.name or "demo")


def _accounts(paths: list[Path]) -> list[tuple[str, Account]]:
    """The accounts of the files, each under a name of its own."""
    from hawser.core.account import Account
    from hawser.formats.declared import load

    found: dict[str, Account] = {}
    for path in paths:
        account = load(Account, path)
        name = account.name or path.stem
        if name in found:
            raise BadInput("same_name", f"{path}: name: another account is called '{name}' already; expected another")
        found[name] = account
    return list(found.items())


def _far(options: argparse.Namespace) -> int:
    from hawser.core.account import Account
    from hawser.formats.declared import load
    from hawser.service.far import boot
    from hawser.service.profile import far_name, profile

    account = load(Account, options.account[0]) if options.account else None
    if not options.quay.is_socket():
        raise BadInput("no_quay", f"{options.quay}: expected the socket of a simulated venue; start one: hawser quay")
    _need_display()
    from hawser.desk.app import run

    chosen = profile(far_name(options.quay), options.profile_root)
    return run(
        chosen, lambda where: boot(options.quay, account, where), options.quay.name, options.speed or 1.0, options.zone
    )  # fmt: skip


def _quay(arguments: list[str]) -> int:
    """`hawser quay`."""
    parser = _Parser(
        prog="hawser quay", description="Run the simulated venue as a process of its own, on a Unix socket."
    )
    parser.add_argument("--socket", type=Path, required=True, metavar="PATH", help="where to listen")
    parser.add_argument("--state", type=Path, metavar="FILE", help="where its books are kept (beside the socket)")
    parser.add_argument("--bars", type=Path, metavar="FILE", help="replay this history instead of the demo's market")
    parser.add_argument("--instrument", type=Path, metavar="FILE", help="with --bars: its instrument (TOML)")
    parser.add_argument("--account", type=Path, metavar="FILE", help="the account's currency, balance and rates (TOML)")
    parser.add_argument("--tz", metavar="ZONE", help="with --bars: the zone of times written without an offset")
    parser.add_argument("--severity", choices=("calm", "fair", "squall", "gale"), default="fair", help="weather (fair)")
    parser.add_argument("--seed", type=int, default=1, metavar="N", help="of the weather (1)")
    parser.add_argument("--speed", type=float, default=1.0, metavar="N", help="run its clock N times as fast (1)")
    options = parser.parse_args(arguments)
    if not 0 < options.speed <= 3600:
        raise BadInput("usage", "--speed: expected a multiple above 0, at most 3600")
    if bool(options.bars) != bool(options.instrument):
        raise BadInput("usage", "--bars and --instrument: expected together")
    from hawser.service.far import serve

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
        from hawser.service.replay import Inputs

        inputs = Inputs(options.bars, options.instrument, options.account, options.tz)
        account = inputs.account
        feed = ReplayFeed(inputs.instrument, inputs.history.bars, account.costs.spread_ticks)
    else:
        account = load(Account, options.account) if options.account else world.ACCOUNT
        feed = world.make_feed()
    store = BookStore(options.state or options.socket.with_suffix(".sqlite"))
    return Quay(
        feed, account.currency, account.basis_money("balance"), account.rates, SEVERITIES[options.severity],
        seed=options.seed, store=store,
    )  # fmt: skip


def _replay(options: argparse.Namespace) -> int:
    from functools import partial

    from hawser.service.last import last_opened, note_opened
    from hawser.service.profile import account_profile, profile, replay_name
    from hawser.service.replay import Inputs, boot

    root = options.profile_root
    if options.bars is None:
        files = last_opened(root)
        speed = options.speed or files.speed
    else:
        files = note_opened(root, options.bars, options.instrument, options.account, options.tz, options.speed or 1.0)
        speed = options.speed or 1.0
    accounts = [files.account, *files.accounts] if files.account else []
    named = _accounts([Path(path) for path in accounts])
    first = Path(accounts[0]) if accounts else None
    inputs = [Inputs(Path(files.bars), Path(files.instrument), first, files.zone)]
    inputs += [inputs[0].with_account(Path(path)) for path in accounts[1:]]
    _need_display()
    from hawser.desk.app import run

    name = replay_name(inputs[0].instrument.symbol, inputs[0].path)
    if options.bars is not None:
        with _only_told():
            files.keep(root)
    starts = [
        (one, account_profile(name, one, root), partial(boot, given))
        for (one, _), given in zip(named[1:], inputs[1:], strict=True)
    ]
    shown = named[0][0] if named else "first"
    title = inputs[0].path.name
    return run(profile(name, root), partial(boot, inputs[0]), title, speed, options.zone, tuple(starts), shown)


def _verify(arguments: list[str]) -> int:
    """`hawser verify SESSION`."""
    parser = _Parser(
        prog="hawser verify", description="Replay a recorded session through a fresh engine and compare every command."
    )
    parser.add_argument("session", type=Path, help="a ledger file (ledger.sqlite); it may be in use")
    options = parser.parse_args(arguments)
    _interpret()
    from hawser.ledger.verify import verify

    found = verify(options.session)
    if not found.line:
        print(f"{found.events} events, {found.commands} commands: every command is the same")
        if found.earlier:
            print(f"the first {found.earlier} lines were written by another version and are not replayed")
        return DONE
    print(f"line {found.line}: the replay differs\n  recorded  {found.recorded}\n  replayed  {found.replayed}")
    return REFUSED


def _guards(arguments: list[str]) -> int:
    """`hawser guards`."""
    parser = _Parser(
        prog="hawser guards",
        description="Print what every guard says of an entry at one moment. Exit status 0: entries open; 1: closed.",
    )
    parser.add_argument("--guards", type=Path, metavar="FILE", help="the policy (TOML); its news files are read too")
    parser.add_argument("--session", type=Path, metavar="FILE", help="a ledger: its latches and counters, and its "
                        "policy where none is given")  # fmt: skip
    parser.add_argument("--at", required=True, metavar="TIME", help="the moment, ISO 8601 with its offset")
    parser.add_argument("--instrument", type=Path, action="append", default=[], metavar="FILE", required=True,
                        help="an instrument (TOML); may be given again")  # fmt: skip
    parser.add_argument("--bars", type=Path, action="append", default=[], metavar="FILE",
                        help="its bars, for spread, volatility and regime; as many as instruments")  # fmt: skip
    parser.add_argument("--tz", metavar="ZONE", help="the zone of bar times written without an offset")
    parser.add_argument("--side", choices=("long", "short"), help="of the entry that is meant")
    parser.add_argument("--r-ticks", type=float, metavar="N", help="its distance from entry to stop, in ticks")
    parser.add_argument("--source", default="by hand", metavar="NAME", help="its signal source (by hand)")
    parser.add_argument("--json", action="store_true", help="print JSON")
    options = parser.parse_args(arguments)
    if options.bars and len(options.bars) != len(options.instrument):
        raise BadInput("usage", "--bars: expected as many as --instrument")
    if not options.guards and not options.session:
        raise BadInput("usage", "--guards: expected a policy, or --session with one")
    _interpret()
    from hawser.service import guardcheck as gc

    said = gc.check(
        gc.Files(options.guards, options.session, tuple(options.instrument), tuple(options.bars), options.tz),
        gc.moment(options.at), {"long": 1, "short": -1}.get(options.side, 0), options.r_ticks, options.source,
    )  # fmt: skip
    print(json.dumps(gc.as_json(said), indent=1, ensure_ascii=False) if options.json else gc.as_text(said))
    return REFUSED if any(one.closed for one in said) else DONE


def _watch(arguments: list[str]) -> int:
    """`hawser watch`."""
    parser = _Parser(
        prog="hawser watch",
        description="Watch Hawser's sign of life from a process of its own: alert where it stays away while positions "
        "are open, and flatten at the venue where that is asked for. Ends when Hawser is closed.",
    )
    parser.add_argument("--quay", type=Path, metavar="PATH", help="the Hawser that trades at this simulated venue")
    parser.add_argument("--demo", action="store_true", help="the demo (its venue ends with it: alerts only)")
    parser.add_argument("--silent", type=float, default=20.0, metavar="S", help="how long it may be silent (20 s)")
    parser.add_argument("--flatten", action="store_true", help="with --quay: close everything there then")
    parser.add_argument("--profile-root", type=Path, help=argparse.SUPPRESS)
    # How the application starts its own: a profile by its name and folders, and whatever is set there.
    parser.add_argument("--at", nargs=4, metavar=("NAME", "DATA", "CONFIG", "STATE"), help=argparse.SUPPRESS)
    parser.add_argument("--as-set", action="store_true", help=argparse.SUPPRESS)
    options = parser.parse_args(arguments)
    if options.at:
        if os.fork():
            os._exit(DONE)
        from hawser.service.profile import Profile
        from hawser.service.watching import watch

        name, *folders = options.at
        return DONE if watch(Profile(name, *map(Path, folders)), options.silent, None, options.as_set) else REFUSED
    if bool(options.quay) == options.demo:
        raise BadInput("usage", "--quay PATH or --demo: expected one of them")
    if options.flatten and not options.quay:
        raise BadInput("usage", "--flatten: expected together with --quay; the demo's venue ends with the demo")
    if not 2 <= options.silent <= 3600:
        raise BadInput("usage", "--silent: expected 2 to 3600 seconds")
    if options.quay and not options.quay.absolute().parent.is_dir():
        raise BadInput("usage", f"--quay: there is no folder {options.quay.absolute().parent}")
    from hawser.service.profile import far_name, profile
    from hawser.service.watching import watch

    chosen = profile(far_name(options.quay) if options.quay else "demo", options.profile_root)
    return DONE if watch(chosen, options.silent, options.quay if options.flatten else None) else REFUSED


COMMANDS = {
    "size": _size,
    "lines": _lines,
    "verify": _verify,
    "storm": _storm,
    "quay": _quay,
    "rehearse": _rehearse,
    "parity": _parity,
    "guards": _guards,
    "watch": _watch,
}

if __name__ == "__main__":
    sys.exit(main())
