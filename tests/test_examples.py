"""The lines that the documents and the help show are run as they stand there, with the files that
ship."""

from __future__ import annotations

import os
import re
import shlex
import shutil
import signal
import subprocess
import sys
from pathlib import Path

import pytest

from hawser.cli import main
from hawser.commands.declared import COMMANDS
from hawser.ledger.ledger import Ledger

HERE = Path(__file__).parents[1]
LINE = re.compile(r"^\.venv/bin/hawser ((?:rehearse|parity|fleet) (?:.*\\\n)*.*)$", re.MULTILINE)
STAYS = ("quay", "watch")  # until they are ended
CLOSED = ("guards",)  # entries are closed then, and so it says


def lines() -> list[str]:
    """Each command of the documents that needs nothing but what ships."""
    text = "\n".join((HERE / name).read_text() for name in ("README.md", "docs/guide.md"))
    return [found for found in LINE.findall(text) if "examples/" in found]


@pytest.fixture
def place(tmp_path, monkeypatch):
    """A folder with the examples and a record in it."""
    shutil.copytree(HERE / "examples", tmp_path / "examples")
    Ledger(tmp_path / "ledger.sqlite").close()
    monkeypatch.chdir(tmp_path)
    for name in ("DATA", "CONFIG", "STATE"):
        monkeypatch.setenv(f"XDG_{name}_HOME", str(tmp_path / name.lower()))
    return tmp_path


def test_the_documents_show_some():
    assert {one.split()[0] for one in lines()} == {"rehearse", "parity", "fleet"}


@pytest.mark.parametrize("line", lines())
def test_a_line_of_the_documents_does_what_it_says(line, place, capsys):
    words = shlex.split(line.replace("\\\n", " "))
    assert main(words) == 0
    told = capsys.readouterr().out
    if words[0] == "parity":
        assert told.endswith("no difference\n")
    else:
        assert re.match(r"(Two harbours: )?[1-9][0-9]* trades (of 2 members )?over", told), told
        out = words[words.index("--out") + 1]
        assert (place / out / "report.json").is_file()


@pytest.mark.parametrize("name", [name for name in COMMANDS if name not in STAYS])
def test_the_example_of_a_command_s_help_does_what_it_says(name, place, capsys):
    with pytest.raises(SystemExit):
        main([name, "--help"])
    shown = " ".join(capsys.readouterr().out.split())
    assert f"Example: hawser {name} {COMMANDS[name].example}" in shown
    assert main([name, *shlex.split(COMMANDS[name].example)]) == (1 if name in CLOSED else 0)
    assert capsys.readouterr().out


@pytest.mark.parametrize("name", STAYS)
def test_the_example_of_a_command_that_stays_is_ended(name, place):
    words = [sys.executable, "-m", "hawser", name, *shlex.split(COMMANDS[name].example)]
    with subprocess.Popen(words, stderr=subprocess.PIPE, text=True, env={**os.environ}) as process:
        assert process.stderr is not None
        assert process.stderr.readline()
        process.send_signal(signal.SIGTERM)
        process.communicate(timeout=300)
    assert process.returncode in (0, -signal.SIGTERM)  # the watch has nothing to put away


def test_a_missing_rate_is_told_with_the_line_that_mends_it(place, capsys):
    path = place / "examples/account.toml"
    path.write_text(path.read_text().replace('currency = "CHF"', 'currency = "SEK"'))
    words = ["rehearse", *shlex.split(COMMANDS["rehearse"].example)]
    assert main(words) == 2
    told = capsys.readouterr().err
    assert 'write under [rates]: "CHF/SEK" = ..., how many SEK one CHF is' in told
    path.write_text(path.read_text() + '\n[rates]\n"CHF/SEK" = 11.92\n')
    assert main(words) == 0
    assert "SEK" in capsys.readouterr().out


def test_the_file_s_own_timeframe_is_compared_under_any_guards(place, capsys):
    """A filter that acts as it closes was refused, though nothing finer lies inside."""
    policy = place / "examples/harbour-watch.toml"
    spread = 'kind = "spread"\nname = "Wide"\nmax_ticks = 4\nthen = ["flatten"]\n'
    policy.write_text(policy.read_text() + f"\n[[guard]]\n{spread}")
    words = ["parity", *shlex.split(COMMANDS["parity"].example), "--guards", str(policy)]
    assert main([*words, "--timeframe", "5m"]) == 0
    assert capsys.readouterr().out.endswith("no difference\n")
    assert main([*words, "--timeframe", "15m"]) == 2
    assert "guard 'Wide': then: it acts at once" in capsys.readouterr().err
