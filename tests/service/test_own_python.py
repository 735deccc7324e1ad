"""A person's own Python: what it may do, what it is told, and that nothing it leaves is trusted."""

from __future__ import annotations

import random

import numpy as np
import pytest

import randomsources as rs
from hawser.core.errors import BadInput
from hawser.core.sources.conditions.told import Python
from hawser.service import own_python
from hawser.service.own_python import CallLimits, answers, cuts, sandboxed

BARS = rs.arrays(rs.history(random.Random(2), 200, rs.MINUTE, 1_900_000_000_000_000_000))
HEAD = "import numpy as np\ndef signals(bars, settings):\n    "


def asked(tmp_path, text, limits=None, columns=None, place="enter[0]", **keys):
    (tmp_path / "own.py").write_text(text)
    condition = Python(file="own.py", **keys)
    given = limits or CallLimits(wall_s=60.0)
    found, minded = answers(
        [(place.partition("[")[0], place, condition)],
        tmp_path / "source.toml",
        BARS,
        columns or {},
        given,
    )
    return found[place], minded


def test_it_sees_the_bars_its_columns_and_its_settings(tmp_path):
    text = (
        HEAD + "assert bars.time.dtype == 'datetime64[ns]' and not bars.spread.any() == "
        "bool(settings['flat'])\n"
        "    assert bars['weft'].shape == bars.open.shape == bars.low.shape and 'weft' in bars\n"
        "    print('asked', len(bars))\n"
        "    return (bars.close > settings['at']).astype(int)\n"
    )
    found, minded = asked(
        tmp_path, text, columns={"weft": np.ones(200)}, settings={"at": 20.0, "flat": False}
    )
    assert found.tolist() == (BARS.close > 20.0).astype(float).tolist()
    assert "own.py printed: asked 200" in minded  # of the whole history alone


def test_a_column_may_be_called_as_anything_is(tmp_path):
    """A column called `file` was taken for the file that the bars are written to."""
    names = ("file", "allow_pickle", "a/b", "arr_0", "self")
    columns = {name: np.full(200, float(at)) for at, name in enumerate(names)}
    text = (
        HEAD + f"assert [bars[name][0] for name in {names}] == [0, 1, 2, 3, 4]\n"
        "    return np.ones(len(bars), int)\n"
    )
    assert asked(tmp_path, text, columns=columns)[0].all()


def test_of_two_arrays_the_second_is_for_leaving(tmp_path):
    text = HEAD + "up = np.ones(len(bars), int)\n    return up, -up\n"
    assert set(asked(tmp_path, text)[0]) == {1.0}
    assert set(asked(tmp_path, text, place="leave[0]")[0]) == {-1.0}


@pytest.mark.parametrize(
    ("name", "body", "code", "told"),
    [
        (
            "next",
            "return np.append(np.sign(np.diff(bars.close)), 0).astype(int)",
            "looks_ahead",
            "",
        ),
        ("mean", "return (bars.close > bars.close.mean()).astype(int)", "looks_ahead", "UTC"),
        ("error", "x = 0\n    return 1 / x", "python_error", "line 4: ZeroDivisionError"),
        ("float", "return np.zeros(len(bars))", "python_answer", "integer array"),
        ("short", "return np.zeros(2, int)", "python_answer", "shape"),
        ("two", "return np.full(len(bars), 2)", "python_answer", "got 2"),
        ("none", "pass", "python_answer", "NoneType"),
        ("exit", "raise SystemExit", "python_answer", "ended the process"),
        ("memory", "return np.ones(10**10)", "python_memory", "4 GB"),
        ("gone", "import os\n    os._exit(0)", "python_ended", "without an answer"),
        ("write", "open('/usr/x', 'w')", "python_error", "Error"),
    ],
)
def test_what_goes_wrong_is_told_with_its_place(tmp_path, name, body, code, told):
    with pytest.raises(BadInput) as refused:
        asked(tmp_path, HEAD + body + "\n")
    assert refused.value.code == code
    assert f"source.toml: enter[0]: {tmp_path / 'own.py'}: " in refused.value.sentence
    assert told in refused.value.sentence or told == "UTC"


def test_a_file_that_keeps_what_it_saw_cannot_know_what_comes(tmp_path):
    text = (
        "import numpy as np\nseen = []\ndef signals(bars, settings):\n"
        "    if len(bars) > len(seen): seen[:] = bars.close.tolist()\n"
        "    up = [i + 1 < len(seen) and seen[i + 1] > seen[i] for i in range(len(bars))]\n"
        "    return np.array(up, int)\n"
    )
    with pytest.raises(BadInput, match="looks ahead: of the bar of 2030-03-17T"):
        asked(tmp_path, text)


def test_a_file_that_hangs_is_ended(tmp_path):
    with pytest.raises(BadInput, match="was ended after 0 s"):  # at once: nobody waits for it here
        asked(tmp_path, HEAD + "while True: pass\n", CallLimits(wall_s=0.0))


def test_wrong_syntax_and_a_missing_function_and_file(tmp_path):
    with pytest.raises(BadInput, match="line 1: SyntaxError"):
        asked(tmp_path, "def signals(bars, settings)\n")
    with pytest.raises(BadInput, match="there is no function weave"):
        asked(tmp_path, HEAD + "return 1\n", function="weave")
    with pytest.raises(BadInput, match=r"gone\.py: cannot be read"):
        answers([("enter", "enter[0]", Python(file="gone.py"))], tmp_path / "s.toml", BARS, {})


LEAVINGS = {
    "a link to a file of ours": "os.symlink('/etc/hostname', name)",
    "a pipe that nobody writes to": "os.mkfifo(name)",
    "a folder": "os.mkdir(name)",
    "a book": "open(name, 'w').write('x' * 10**7)",
    "what is no answer": "open(name, 'w').write('[1, {\"rows\": -1}]')",
    "a bar that is none": 'open(name, \'w\').write(\'{"ahead": {"bar": 9999999, "bars": 1, '
    '"first": 1, "later": 0}}\')',
}


@pytest.mark.parametrize("file", ["told.json", "answer.npz"])
@pytest.mark.parametrize("left", LEAVINGS.values(), ids=LEAVINGS)
def test_what_it_leaves_is_read_as_what_anybody_may_have_left(tmp_path, file, left):
    other = "open('told.json', 'w').write('{\"rows\": 1}')" if file == "answer.npz" else "pass"
    body = f"import os\n    name = {file!r}\n    {left}\n    {other}\n    os._exit(0)\n"
    with pytest.raises(BadInput) as refused:
        asked(tmp_path, HEAD + body)
    assert refused.value.code in ("python_ended", "python_answer")


needs_sandbox = pytest.mark.skipif(not sandboxed(), reason="no bubblewrap here")


@needs_sandbox
@pytest.mark.parametrize(
    "body",
    [
        "import socket\n    socket.create_connection(('127.0.0.1', {port}), 5)",
        "open('/etc/passwd').read()",
        "open({mine!r}).read()",
        "raise OSError(str(__import__('os').environ.get('SECRET', 'none')))",
    ],
)
def test_no_network_no_files_no_environment(tmp_path, body, monkeypatch):
    import socket

    monkeypatch.setenv("SECRET", "shown")
    mine = tmp_path / "mine.txt"
    mine.write_text("shown")
    with socket.create_server(("127.0.0.1", 0)) as server:
        filled = body.format(port=server.getsockname()[1], mine=str(mine))
        with pytest.raises(BadInput) as refused:
            asked(tmp_path, HEAD + filled + "\n    return np.zeros(len(bars), int)\n")
    assert refused.value.code == "python_error"
    assert "shown" not in refused.value.sentence


def test_where_there_is_no_sandbox_it_is_told(tmp_path, monkeypatch):
    monkeypatch.setattr(own_python, "sandboxed", lambda: False)
    text = HEAD + "return np.zeros(len(bars), int)\n"
    assert own_python.UNSAFE in asked(tmp_path, text)[1]


def test_shorter_histories_lie_all_over_and_at_the_end():
    assert cuts(1_000)[-8:] == list(range(992, 1_000))
    assert len(cuts(1_000)) == 32
    assert cuts(1) == [] and cuts(2) == [1]
    assert all(0 < one < 40 for one in cuts(40))
