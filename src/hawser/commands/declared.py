"""Every command: what it is called, where it is, and what one wants who calls it. The help, the
dispatch and the tests take it from here."""

from __future__ import annotations

from typing import NamedTuple


class Command(NamedTuple):
    """`module` is loaded when the command is called, and no earlier."""

    name: str
    module: str
    wish: str
    text: str


COMMANDS = {
    one.name: one
    for one in (
        Command("import", "import_", "Prepare a history", "bars of other programs as a bar file"),
        Command("lines", "lines", "Prepare a history", "columns of indicators for a bar file"),
        Command("size", "size", "Ask before a trade", "the size of a trade, JSON in and out"),
        Command("guards", "guards", "Ask before a trade", "what each guard says of an entry"),
        Command("rehearse", "rehearse", "Try a rig", "a rig over a history, trade by trade"),
        Command("parity", "parity", "Try a rig", "whether the live engine trades the same"),
        Command("watch", "watch", "Be away", "look for Hawser's sign of life, and act without it"),
        Command("quay", "quay", "Be away", "the simulated venue as a process of its own"),
        Command("doctor", "doctor", "Check Hawser", "what is wrong here, if anything"),
        Command("verify", "verify", "Check Hawser", "a recorded session once more"),
        Command("storm", "storm", "Check Hawser", "trade through bad weather, count what breaks"),
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
