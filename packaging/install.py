"""Puts Hawser into a person's own menu, shell and manual, or takes it out again.

Usage: install.py [--remove] [--prefix ~/.local]. Everything is made from what is declared once: the
commands' options become the completion of bash and zsh and the manual page. The program stays where
it is; what stands in the menu starts it there.
"""

from __future__ import annotations

import argparse
import os
import sys
from pathlib import Path

import shtab
from argparse_manpage.manpage import Manpage

from hawser import __version__
from hawser.commands.combined import combined_parser
from hawser.core.errors import BadInput
from hawser.formats.atomic import written

HERE = Path(__file__).parent
PROGRAM = Path(sys.executable).with_name("hawser")
PATHS = {"FILE": shtab.FILE, "PATH": shtab.FILE, "FOLDER": shtab.DIRECTORY}


def completed(parser: argparse.ArgumentParser) -> argparse.ArgumentParser:
    """The parser, with files and folders to complete where they are meant."""
    for action in parser._actions:
        if isinstance(action, argparse._SubParsersAction):
            for one in action.choices.values():
                completed(one)
        elif action.metavar in PATHS:
            action.complete = PATHS[str(action.metavar)]  # type: ignore[attr-defined]
    return parser


def manual() -> str:
    """The page; what stands behind a command's options, its example, goes before them there."""
    parser = combined_parser()
    for action in parser._actions:
        if isinstance(action, argparse._SubParsersAction):
            for one in action.choices.values():
                one.description = f"{one.description} {one.epilog}"
    told = {
        "project_name": "hawser",
        "version": __version__,
        "manual_title": "Hawser",
        "description": "sizes, protects and tends trades",
        # the day of the page would make two pages of one version differ
        "date": f"Hawser {__version__}",
    }
    return str(Manpage(parser, _data=told, format="single-commands-section"))


def menu_entry() -> str:
    """The entry, with the program where it is: a menu does not look into `~/.local/bin`."""
    path = str(PROGRAM)
    for sign in ("\\", '"', "`", "$"):
        path = path.replace(sign, "\\" + sign)
    # in the file itself a backslash is written twice
    quoted = f'"{path}"'.replace("\\", "\\\\").replace("%", "%%")
    text = (HERE / "hawser.desktop").read_text()
    return text.replace("Exec=hawser\n", f"Exec={quoted}\n")


def files(prefix: Path) -> dict[Path, str]:
    """What is written, and where."""
    share = prefix / "share"
    parser = completed(combined_parser())
    return {
        share / "applications/hawser.desktop": menu_entry(),
        share / "icons/hicolor/scalable/apps/hawser.svg": (HERE / "hawser.svg").read_text(),
        share / "man/man1/hawser.1": manual(),
        share / "bash-completion/completions/hawser": shtab.complete(parser, "bash"),
        share / "zsh/site-functions/_hawser": shtab.complete(parser, "zsh"),
    }


def _ours(link: Path) -> bool:
    """Whether it leads to this program, or to one that is no more."""
    return link.is_symlink() and (not link.exists() or link.samefile(PROGRAM))


def install(prefix: Path) -> None:
    """Write all of it; raises BadInput where another `hawser` stands in its place."""
    link = prefix / "bin/hawser"
    if os.path.lexists(link) and not _ours(link):
        raise BadInput("in_the_way", f"{link}: is not this Hawser's; expected no file there")
    for path, text in files(prefix).items():
        path.parent.mkdir(parents=True, exist_ok=True)
        with written(path) as file:
            file.write(text.encode())
        path.chmod(0o644)
    link.parent.mkdir(parents=True, exist_ok=True)
    link.unlink(missing_ok=True)
    link.symlink_to(PROGRAM)
    print(f"In the menu: Hawser. In the shell: {link}")
    if str(link.parent) not in os.environ.get("PATH", "").split(os.pathsep):
        print(f"{link.parent} is not on the PATH of this shell; a new login may put it there")
    print("Completion: a new bash knows it. zsh wants in ~/.zshrc, before compinit:")
    print(f"  fpath=({prefix}/share/zsh/site-functions $fpath)")
    print("The manual: man hawser. To take all of it out again: make uninstall")


def remove(prefix: Path) -> None:
    """Take away what was written; what a person traded and set stays."""
    for path in files(prefix):
        path.unlink(missing_ok=True)
    link = prefix / "bin/hawser"
    if _ours(link):
        link.unlink()
    print(f"Hawser is no longer in the menu and the shell ({prefix}). Your data stay.")


def main() -> int:
    parser = argparse.ArgumentParser(description=(__doc__ or "").splitlines()[0])
    parser.add_argument("--remove", action="store_true", help="take it out again")
    parser.add_argument("--prefix", type=Path, default=Path.home() / ".local", metavar="FOLDER")
    options = parser.parse_args()
    try:
        (remove if options.remove else install)(options.prefix.expanduser().absolute())
    except BadInput as error:
        print(error.sentence, file=sys.stderr)
        return 2
    except OSError as error:
        print(f"{error.filename}: cannot be written ({error.strerror})", file=sys.stderr)
        return 2
    return 0


if __name__ == "__main__":
    sys.exit(main())
