"""Files that are written whole or not at all, whatever happens meanwhile."""

import subprocess
import sys

import pytest

from hawser.core.errors import BadInput
from hawser.formats.atomic import Together, written


def test_of_several_files_all_take_their_places_or_none(tmp_path):
    (tmp_path / "a").write_text("old")
    with pytest.raises(ZeroDivisionError), Together() as files:
        for name in "ab":
            files.open(tmp_path / name).write(b"new")
        _ = 1 / 0
    assert {path.name: path.read_text() for path in tmp_path.iterdir()} == {"a": "old"}
    with Together() as files:
        for name in "ab":
            files.open(tmp_path / name).write(name.encode())
    assert {path.name: path.read_text() for path in tmp_path.iterdir()} == {"a": "a", "b": "b"}


def test_a_place_that_cannot_be_written_to_is_named_and_the_others_stay(tmp_path):
    (tmp_path / "b").mkdir()
    with pytest.raises(BadInput, match=r"b: cannot be written"), Together() as files:
        files.open(tmp_path / "a").write(b"new")
        files.open(tmp_path / "b").write(b"new")
    with pytest.raises(BadInput, match=r"none/a: cannot be written"), written(tmp_path / "none" / "a"):
        pass
    assert [path.name for path in tmp_path.iterdir()] == ["b"]


CANCELLED = """
import os, signal, sys
from pathlib import Path
from hawser.cli import _cancellable
from hawser.formats.atomic import Together
_cancellable()
here, when, number = Path(sys.argv[1]), sys.argv[2], getattr(signal, sys.argv[3])
replace = Path.replace
def disturbed(self, other):
    replace(self, other)
    os.kill(os.getpid(), number)
if when == "placing":
    Path.replace = disturbed
with Together() as files:
    for name in "abc":
        files.open(here / name).write(b"new")
        if name == "b" and when == "writing":
            os.kill(os.getpid(), number)
"""


@pytest.mark.parametrize("number", ["SIGINT", "SIGTERM"])
@pytest.mark.parametrize(
    ("when", "left", "said"), [("writing", [], "nothing was written"), ("placing", ["a", "b", "c"], "all had been")]
)
def test_who_is_stopped_leaves_all_files_or_none(tmp_path, number, when, left, said):
    done = subprocess.run(
        [sys.executable, "-c", CANCELLED, tmp_path, when, number], capture_output=True, text=True, check=False
    )
    assert (done.returncode, sorted(path.name for path in tmp_path.iterdir())) == (1, left), done.stderr
    assert done.stderr.startswith("cancelled") and said in done.stderr
