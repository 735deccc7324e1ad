"""Every command: what it is called, where it is, and what one wants who calls it. The help, the
dispatch and the tests take it from here."""

from __future__ import annotations

from typing import NamedTuple


class DeclaredCommand(NamedTuple):
    """`module` is loaded when the command is called, and no earlier. `example`: what stands behind
    its name in the example of its help, which the tests run."""

    name: str
    module: str
    wish: str
    text: str
    example: str


FERRY = "--bars examples/quillan-ferry-5m.csv --instrument examples/quillan-ferry.toml"
SLOW = f"{FERRY} --rig examples/slow-harbour.toml --account examples/account.toml"


COMMANDS = {
    one.name: one
    for one in (
        DeclaredCommand(
            "import",
            "import_",
            "Prepare a history",
            "bars of other programs as a bar file",
            "examples/export.csv --tz Europe/Zurich --out bars.parquet",
        ),
        DeclaredCommand(
            "lines",
            "lines",
            "Prepare a history",
            "columns of indicators for a bar file",
            "--bars examples/quillan-ferry-5m.csv --spec examples/lines.toml --out with-lines.csv",
        ),
        DeclaredCommand(
            "signals",
            "signals",
            "Judge a source",
            "what a source says at each bar, and what followed",
            "--bars examples/quillan-ferry-5m.csv --source examples/ebb-and-flow.toml "
            "--out with-signals.csv",
        ),
        DeclaredCommand(
            "size",
            "size",
            "Ask before a trade",
            "the size of a trade, JSON in and out",
            "examples/request.json",
        ),
        DeclaredCommand(
            "guards",
            "guards",
            "Ask before a trade",
            "what each guard says of an entry",
            "--guards examples/harbour-watch.toml --instrument examples/quillan-ferry.toml "
            "--at 2031-01-06T09:00:00Z",
        ),
        DeclaredCommand(
            "rehearse",
            "rehearse",
            "Try a rig",
            "a rig over a history, trade by trade",
            f"{SLOW} --out rehearsed",
        ),
        DeclaredCommand(
            "fleet",
            "fleet",
            "Try a rig",
            "several instruments, sources and rigs on one account",
            "examples/two-harbours.toml --out fleet",
        ),
        DeclaredCommand(
            "parity",
            "parity",
            "Try a rig",
            "whether the live engine trades the same",
            SLOW,
        ),
        DeclaredCommand(
            "watch",
            "watch",
            "Be away",
            "look for Hawser's sign of life, and act without it",
            "--demo",
        ),
        DeclaredCommand(
            "quay",
            "quay",
            "Be away",
            "the simulated venue as a process of its own",
            "--socket quay.sock --speed 60",
        ),
        DeclaredCommand(
            "doctor",
            "doctor",
            "Check Hawser",
            "what is wrong here, if anything",
            "--json",
        ),
        DeclaredCommand(
            "verify",
            "verify",
            "Check Hawser",
            "a recorded session once more",
            "ledger.sqlite",
        ),
        DeclaredCommand(
            "storm",
            "storm",
            "Check Hawser",
            "trade through bad weather, count what breaks",
            "--seeds 1 --severity fair",
        ),
    )
}


def commands_help() -> str:
    """All commands, by what one wants to do."""
    lines, wish = ["Without a window:"], ""
    for one in COMMANDS.values():
        if one.wish != wish:
            wish = one.wish
            lines += ["", f"{wish}:"]
        lines.append(f"  hawser {one.name:<10} {one.text}")
    return "\n".join([*lines, "", "Each has its own --help."])
