"""Runs a person's own Python in a process of its own, and nothing of Hawser's: `own_python.py`
hands this text to a fresh interpreter, inside a sandbox where there is one.

It reads `job.json` and `bars.npz` in its folder and leaves `answer.npz` and `told.json` there. Each
shorter history is asked before the longer ones, so that nothing that the file keeps for itself can
know what was to come.
"""

import contextlib
import ctypes
import io
import json
import os
import resource
import signal
import sys
import traceback
import types
from pathlib import Path
from typing import Any

Job = dict[str, Any]
PR_SET_PDEATHSIG = 1  # of prctl
PAIR = 2  # arrays: for entering and for leaving


def limit(job: Job) -> None:
    """What this process may take from here on; nobody in it can have more again."""
    limits = {
        resource.RLIMIT_AS: job["memory"],
        resource.RLIMIT_CPU: job["cpu_s"],
        resource.RLIMIT_FSIZE: job["file_bytes"],
        resource.RLIMIT_CORE: 0,
        resource.RLIMIT_NPROC: 0,
    }
    for what, most in limits.items():
        resource.setrlimit(what, (most, most))


class GivenBars:
    """The columns so far, by attribute and by name."""

    def __init__(self, columns: dict[str, Any]) -> None:
        self._columns = columns

    def __getattr__(self, name: str) -> Any:
        columns = self.__dict__.get("_columns", {})
        if name not in columns:
            raise AttributeError(f"the bars have no column {name}")
        return columns[name]

    def __getitem__(self, name: str) -> Any:
        if name not in self._columns:
            raise KeyError(f"the bars have no column {name}")
        return self._columns[name]

    def __len__(self) -> int:
        return len(self._columns["time"])

    def __contains__(self, name: object) -> bool:
        return name in self._columns

    def keys(self) -> list[str]:
        return list(self._columns)


class Wrong(Exception):
    """What it gave back is none of what may be given back."""


def checked(given: Any, size: int, np: Any) -> Any:
    """One or two arrays of +1, -1 and 0 as rows of int8."""
    both = given if isinstance(given, (tuple, list)) and len(given) == PAIR else (given,)
    rows = []
    for one in both:
        if not isinstance(one, np.ndarray):
            found = type(one).__name__
            raise Wrong(f"expected an integer array of {size} values, or two of them, got {found}")
        if one.dtype.kind not in "iu":
            raise Wrong(
                f"expected an integer array, got one of {one.dtype}; .astype(int) makes one"
            )
        if one.shape != (size,):
            raise Wrong(f"expected an array of shape ({size},), got {one.shape}")
        wrong = np.flatnonzero((one != 0) & (one != 1) & (one != -1))
        if wrong.size:
            raise Wrong(f"expected +1, 0 or -1, got {one[wrong[0]]} at bar {wrong[0]}")
        rows.append(one.astype(np.int8))
    return np.array(rows)


def line_of(error: BaseException, path: str) -> int | None:
    """The last line of the person's file that an error came through."""
    if isinstance(error, SyntaxError) and error.filename == path:
        return error.lineno
    frames = traceback.extract_tb(error.__traceback__)
    lines = [one.lineno for one in frames if one.filename == path]
    return lines[-1] if lines else None


def work(job: Job, np: Any) -> Job:
    """Ask the file over every history; what is to be told."""
    with np.load("bars.npz") as held:
        columns = {name: held[f"arr_{number}"] for number, name in enumerate(job["columns"])}
    size = len(columns["time"])
    text = Path(job["path"]).read_text("utf-8")
    module = types.ModuleType("own")
    module.__file__ = job["path"]
    sys.modules["own"] = module
    exec(compile(text, job["path"], "exec"), module.__dict__)
    function = module.__dict__.get(job["function"])
    if not callable(function):
        raise Wrong(f"there is no function {job['function']} in it")

    def asked(count: int) -> Any:
        part = {name: column[:count].copy() for name, column in columns.items()}
        return checked(
            function(GivenBars(part), json.loads(json.dumps(job["settings"]))), count, np
        )

    shorter = [(count, quietly(asked, count)) for count in job["cuts"]]
    answer = asked(size)
    for count, before in shorter:
        if before.shape[0] != answer.shape[0]:
            raise Wrong("expected as many arrays for every history")
        changed = np.flatnonzero((before != answer[:, :count]).any(axis=0))
        if changed.size:
            return {"ahead": changed_at(int(changed[0]), count, before, answer)}
    np.savez("answer.npz", answer=answer)
    return {"rows": int(answer.shape[0])}


def quietly(asked: Any, count: int) -> Any:
    """The same without what it prints, which is shown of the whole history alone; where it fails,
    what it printed is shown."""
    printed = io.StringIO()
    try:
        with contextlib.redirect_stdout(printed):
            return asked(count)
    except BaseException:
        print(printed.getvalue()[-4000:])
        raise


def changed_at(at: int, count: int, before: Any, answer: Any) -> Job:
    """What it said of a bar with `count` bars, and with all."""
    row = next(row for row in range(len(before)) if before[row, at] != answer[row, at])
    return {
        "bar": at,
        "bars": count,
        "first": int(before[row, at]),
        "later": int(answer[row, at]),
    }


def main() -> None:
    """One job, to its end."""
    ctypes.CDLL(None).prctl(PR_SET_PDEATHSIG, signal.SIGKILL)  # it ends with whoever asked
    job: Job = json.loads(Path("job.json").read_text("utf-8"))
    sys.path[:0] = job["sites"]
    import numpy as np

    limit(job)
    told: Job
    try:
        told = work(job, np)
    except Wrong as error:
        told = {"wrong": str(error)}
    except MemoryError:
        told = {"memory": True}
    except SystemExit:
        told = {"wrong": "it ended the process"}
    except BaseException as error:  # whatever a person's file raises is told
        text = error.msg if isinstance(error, SyntaxError) else str(error)
        told = {
            "error": f"{type(error).__name__}: {text}"[:500],
            "line": line_of(error, job["path"]),
        }
    Path("told.json").write_text(json.dumps(told), "utf-8")
    sys.stdout.flush()
    sys.stderr.flush()
    os._exit(0)


if __name__ == "__main__":
    main()
