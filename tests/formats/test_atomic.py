"""Files that are written whole or not at all, whatever happens meanwhile."""

import subprocess
import sys
from pathlib import Path

import pytest

from hawser.core.errors import BadInput
from hawser.formats.atomic import Together, folder_written, written


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
    with (
        pytest.raises(BadInput, match=(r"none/a: cannot be " r"written")),
        written(tmp_path / "none" / "a"),
    ):
        pass
    assert [path.name for path in tmp_path.iterdir()] == ["b"]


CANCELLED = """
import os, signal, sys
from pathlib import Path
from hawser.commands.process import cancellable
from hawser.formats.atomic import Together
cancellable()
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
    ("when", "left", "said"),
    [("writing", [], "nothing was written"), ("placing", ["a", "b", "c"], "all had been")],
)
def test_who_is_stopped_leaves_all_files_or_none(tmp_path, number, when, left, said):
    done = subprocess.run(
        [sys.executable, "-c", CANCELLED, tmp_path, when, number],
        capture_output=True,
        text=True,
        check=False,
    )
    assert (done.returncode, sorted(path.name for path in tmp_path.iterdir())) == (1, left), (
        done.stderr
    )
    assert done.stderr.startswith("cancelled") and said in done.stderr


NAMES = ("one", "two", "three")


def fill(folder, *names):
    with folder_written(folder, NAMES) as opened:
        for name in names:
            opened(name).write(f"new {name}".encode())


def held(folder):
    return {path.name: path.read_text() for path in folder.iterdir() if path.is_file()}


@pytest.mark.parametrize("own_folder", [False, True])
def test_a_folder_s_files_take_their_places_together_and_what_was_not_written_is_gone(
    tmp_path, own_folder
):
    out = tmp_path / "deep" / "out"
    fill(out, *NAMES)
    assert held(out) == {name: f"new {name}" for name in NAMES}
    (out / "mine.txt").write_text("mine")
    if own_folder:
        (out / "notes").mkdir()
        (out / "notes" / "a").write_text("kept")
    (out / "one").write_text("old")
    fill(out, "one", "two")
    assert held(out) == {"one": "new one", "two": "new two", "mine.txt": "mine"}
    assert not own_folder or (out / "notes" / "a").read_text() == "kept"
    with pytest.raises(ZeroDivisionError), folder_written(out, NAMES) as opened:
        opened("one").write(b"newer")
        _ = 1 / 0
    assert held(out) == {"one": "new one", "two": "new two", "mine.txt": "mine"}
    assert [path.name for path in out.parent.iterdir()] == ["out"]


def test_a_place_in_a_folder_that_cannot_be_written_to_leaves_all_as_it_was(tmp_path):
    fill(tmp_path / "out", "one")
    (tmp_path / "out" / "two").mkdir()
    with pytest.raises(BadInput, match="two: cannot be written"):
        fill(tmp_path / "out", "one", "two")
    assert held(tmp_path / "out") == {"one": "new one"}
    (tmp_path / "file").write_text("x")
    with pytest.raises(BadInput, match="file: cannot be"):
        fill(tmp_path / "file", "one")


def test_who_stands_in_a_folder_still_does(tmp_path, monkeypatch):
    fill(tmp_path / "out", "one")
    monkeypatch.chdir(tmp_path / "out")
    fill(tmp_path / "out", "two")
    assert [path.name for path in Path.cwd().iterdir()] == ["two"]


def test_a_link_is_followed(tmp_path):
    (tmp_path / "real").mkdir()
    (tmp_path / "link").symlink_to("real")
    fill(tmp_path / "link", "one")
    assert (tmp_path / "link").is_symlink()
    assert held(tmp_path / "real") == {"one": "new one"}
    (tmp_path / "file").write_text("old")
    (tmp_path / "to file").symlink_to("file")
    with written(tmp_path / "to file") as file:
        file.write(b"new")
    assert (tmp_path / "to file").is_symlink()
    assert (tmp_path / "file").read_text() == "new"


KILLED = """
import os, signal, sys
from pathlib import Path
from hawser.formats.atomic import folder_written, written
here = Path(sys.argv[1])
with folder_written(here / "out", ("a", "b")) as opened:
    opened("a").write(b"half")
    with written(here / "out" / "[c]") as file:
        file.write(b"half")
        os.kill(os.getpid(), signal.SIGKILL)
"""


def test_what_a_kill_leaves_is_cleared_by_the_next_who_writes_there(tmp_path):
    out = tmp_path / "out"
    fill(out, "one")
    subprocess.run([sys.executable, "-c", KILLED, tmp_path], check=False)
    assert held(out).keys() > {"one"}
    assert len(list(tmp_path.iterdir())) == 2
    assert held(out)["one"] == "new one"
    with written(out / "[c]") as file:
        file.write(b"whole")
    fill(out, "one")
    assert [path.name for path in tmp_path.iterdir()] == ["out"]
    assert held(out) == {"one": "new one", "[c]": "whole"}


def test_without_a_swap_in_one_step_the_folder_still_comes_whole(tmp_path, monkeypatch):
    fill(tmp_path / "out", "one")
    monkeypatch.setattr("hawser.formats.atomic.SWAP", 1 << 20)  # no such flag: the system refuses
    fill(tmp_path / "out", "two")
    assert held(tmp_path / "out") == {"two": "new two"}
    assert [path.name for path in tmp_path.iterdir()] == ["out"]
