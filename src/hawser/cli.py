"""The `hawser` command. Each command is a module of `commands/`, which imports what it needs and no
more, so that `hawser size` answers at once.
"""

from __future__ import annotations

import os
import signal
import sys
from contextlib import suppress
from importlib import import_module

from hawser.commands.declared import COMMANDS
from hawser.commands.parsing import DONE, REFUSED, WRONG
from hawser.commands.process import say
from hawser.core.errors import HawserError


def main(arguments: list[str] | None = None) -> int:
    """Run the command; returns the exit status of interface.md."""
    given = sys.argv[1:] if arguments is None else arguments
    _fill_streams()
    before = [(number, signal.getsignal(number)) for number in (signal.SIGINT, signal.SIGTERM)]
    try:
        named = bool(given) and given[0] in COMMANDS
        module = COMMANDS[given[0]].module if named else "desktop"
        run = import_module(f"hawser.commands.{module}").run
        status: int = run(given[1:] if named else given)
        sys.stdout.flush()
        return status
    except HawserError as error:
        say(error.sentence)
        return WRONG
    except KeyboardInterrupt:
        say("cancelled; nothing was written")
        return REFUSED
    except BrokenPipeError:
        _no_output()
        return DONE
    except OSError as error:  # of a file it has its own sentence; this is what nobody foresaw
        _no_output()
        say(f"{error.filename or 'standard output'}: cannot be read or written ({error.strerror})")
        return WRONG
    finally:
        for number, handler in before:
            if signal.getsignal(number) is not handler:
                signal.signal(number, handler)


def _fill_streams() -> None:
    """Where a standard stream is closed, a file that is opened later would take its number, and be
    written into by whoever complains. Output to the one put there fails, as it would have to;
    complaints go nowhere."""
    for number, name, mode in ((0, "stdin", "r"), (1, "stdout", "w"), (2, "stderr", "w")):
        if getattr(sys, name) is None:
            with suppress(OSError):
                os.fstat(number)  # not closed, whatever else is wrong with it
                continue
            os.dup2(os.open(os.devnull, os.O_RDWR if name == "stderr" else os.O_RDONLY), number)
            # as long as the process
            setattr(sys, name, open(number, mode, closefd=False))  # noqa: SIM115


def _no_output() -> None:
    """What is still to be written goes nowhere: else the interpreter tries again as it ends."""
    os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())


if __name__ == "__main__":
    sys.exit(main())
