"""`make install`: the menu, the shell and the manual, each made from what the commands declare."""

from __future__ import annotations

import argparse
import shutil
import subprocess
import sys
from pathlib import Path

import pytest

from hawser.commands.combined import combined_parser
from hawser.commands.declared import COMMANDS
from madeup import ROOT

SCRIPT = ROOT / "packaging" / "install.py"


def run(*words: str) -> subprocess.CompletedProcess[str]:
    command = [sys.executable, str(SCRIPT), *words]
    return subprocess.run(command, capture_output=True, text=True, check=False)


@pytest.fixture(scope="module")
def prefix(tmp_path_factory):
    """A folder whose name has a blank, with all of it in."""
    place = tmp_path_factory.mktemp("a home") / "of one's own"
    done = run("--prefix", str(place))
    assert (done.returncode, done.stderr) == (0, "")
    return place


def completed(prefix: Path, line: str) -> list[str]:
    """What a bash offers behind these words."""
    script = (
        f'source "{prefix}/share/bash-completion/completions/hawser"\n'
        'COMP_WORDS=("$@"); COMP_CWORD=$(( $# - 1 )); _shtab_hawser; '
        'printf "%s\\n" "${COMPREPLY[@]}"'
    )
    words = [*line.split(), *([""] if line.endswith(" ") else [])]
    command = ["bash", "-c", script, "-", *words]
    done = subprocess.run(command, capture_output=True, text=True, check=True, cwd=ROOT)
    return sorted(done.stdout.split())


def test_bash_completes_commands_options_choices_and_files(prefix):
    assert completed(prefix, "hawser re") == ["rehearse"]
    assert completed(prefix, "hawser --vers") == ["--version"]
    assert completed(prefix, "hawser rehearse --order ") == ["optimistic", "path", "pessimistic"]
    assert completed(prefix, "hawser lines --recipe examples/quillan-ferry.") == [
        "examples/quillan-ferry.toml"
    ]
    assert completed(prefix, "hawser rehearse --out docs/scr") == ["docs/screenshots"]


def options_of(parser: argparse.ArgumentParser) -> set[str]:
    return {
        option
        for action in parser._actions
        if action.help != argparse.SUPPRESS
        for option in action.option_strings
        if option.startswith("--")
    }


def test_the_manual_has_every_command_with_every_option_and_its_example(prefix):
    page = prefix / "share/man/man1/hawser.1"
    text = page.read_text().replace("\\-", "-").replace("\\fB", "").replace("\\fR", "")
    within = next(one for one in combined_parser()._actions if hasattr(one, "add_parser"))
    assert set(within.choices) == set(COMMANDS)
    for name, parser in within.choices.items():
        chapter = text.split(f".SS hawser {name}\n")[1].split(".SS ")[0]
        assert options_of(parser) - {"--help"} <= set(chapter.split()), name
        flat = " ".join(chapter.split())
        assert f"Example: hawser {name} {COMMANDS[name].example}" in flat
    assert "profile-root" not in text  # what only tests use
    if shutil.which("groff"):
        words = ["groff", "-man", "-ww", "-z", str(page)]
        assert subprocess.run(words, capture_output=True, text=True, check=True).stderr == ""


def test_the_menu_starts_the_program_where_it_is(prefix):
    entry = prefix / "share/applications/hawser.desktop"
    lines = dict(line.split("=", 1) for line in entry.read_text().splitlines() if "=" in line)
    program = Path(lines["Exec"].strip('"'))
    assert program.samefile(prefix / "bin/hawser")
    told = subprocess.run([str(program), "--version"], capture_output=True, text=True, check=True)
    assert told.stdout.startswith("hawser ")
    assert (prefix / "share/icons/hicolor/scalable/apps/hawser.svg").is_file()
    if shutil.which("desktop-file-validate"):
        subprocess.run(["desktop-file-validate", str(entry)], check=True)


def test_once_more_changes_nothing_and_what_is_taken_out_is_gone(tmp_path):
    for _ in range(2):
        assert run("--prefix", str(tmp_path)).returncode == 0
    mine = tmp_path / "share/applications/mine.desktop"
    mine.write_text("mine")
    assert run("--remove", "--prefix", str(tmp_path)).returncode == 0
    assert [path for path in tmp_path.rglob("*") if not path.is_dir()] == [mine]
    assert run("--remove", "--prefix", str(tmp_path)).returncode == 0


def test_a_program_of_that_name_that_is_not_ours_stays(tmp_path):
    other = tmp_path / "bin/hawser"
    other.parent.mkdir()
    other.write_text("other")
    done = run("--prefix", str(tmp_path))
    assert done.returncode == 2
    assert done.stderr == f"{other}: is not this Hawser's; expected no file there\n"
    assert run("--remove", "--prefix", str(tmp_path)).returncode == 0
    assert [path for path in tmp_path.rglob("*") if path.is_file()] == [other]
    link = tmp_path / "of another/bin/hawser"
    link.parent.mkdir(parents=True)
    link.symlink_to(other)
    assert run("--prefix", str(tmp_path / "of another")).returncode == 2
    assert run("--remove", "--prefix", str(tmp_path / "of another")).returncode == 0
    assert link.samefile(other)
    other.unlink()  # what it led to is gone
    assert run("--prefix", str(tmp_path / "of another")).returncode == 0
