"""The lines that the documents show are run as they stand there, with the files that ship."""

from __future__ import annotations

import re
import shlex
from pathlib import Path

import pytest

from hawser.cli import main

HERE = Path(__file__).parents[1]
LINE = re.compile(r"^\.venv/bin/hawser ((?:rehearse|parity) (?:.*\\\n)*.*)$", re.MULTILINE)


def lines() -> list[str]:
    """Each command of the documents that needs nothing but what ships."""
    text = "\n".join((HERE / name).read_text() for name in ("README.md", "docs/guide.md"))
    return [found for found in LINE.findall(text) if "examples/" in found]


def test_the_documents_show_some():
    assert {one.split()[0] for one in lines()} == {"rehearse", "parity"}


@pytest.mark.parametrize("line", lines())
def test_a_line_of_the_documents_does_what_it_says(line, tmp_path, monkeypatch, capsys):
    monkeypatch.chdir(HERE)
    words = shlex.split(line.replace("\\\n", " "))
    if "--out" in words:
        words[words.index("--out") + 1] = str(tmp_path / "out")
    assert main(words) == 0
    told = capsys.readouterr().out
    if words[0] == "parity":
        assert told.endswith("no difference\n")
    else:
        assert re.match(r"[1-9][0-9]* trades over", told), told
        assert (tmp_path / "out/report.json").is_file()
