"""Plants faults in the rules and in the engine, one at a time, and tells which of them no test
finds.

Usage: plant.py FIRST COUNT [--tree FOLDER] [--storms N]. The tree is a copy of the whole project
that nothing else uses: its sources are changed and put back. Each fault has a number and is the
same whenever it is planted in the same sources. A fault counts as found where a test fails, or a
storm breaks a promise or does not end. What is left is to be read.
"""

from __future__ import annotations

import argparse
import ast
import json
import os
import random
import subprocess
import sys
import time
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

ENGINE = ("tests/ledger/test_records.py", "tests/engine")
SERVICE = (
    "tests/ledger",
    "tests/service/test_other_winds.py",
    "tests/service/test_recording.py",
    "tests/service/test_guards_at_work.py",
)
PLACES = {  # the tests that look at them, the quick ones first: most faults end there
    "core/rules": (ENGINE, ("tests/core",), ("tests/rehearsal",), SERVICE),
    "engine": (ENGINE, SERVICE, ("tests/verification/test_parity.py",)),
}
TOO_LONG_S = 900  # a fault that never ends is found
STORMS = """
import sys
from hawser.verification.storm import weathered
for seed in range(int(sys.argv[1])):
    if weathered(6000 + seed, "gale", 6, kills=0.05, guards=seed % 2 == 1).broken:
        sys.exit(1)
"""
OTHER: dict[type, type] = {
    ast.Lt: ast.LtE,
    ast.LtE: ast.Lt,
    ast.Gt: ast.GtE,
    ast.GtE: ast.Gt,
    ast.Eq: ast.NotEq,
    ast.NotEq: ast.Eq,
    ast.Is: ast.IsNot,
    ast.IsNot: ast.Is,
    ast.In: ast.NotIn,
    ast.NotIn: ast.In,
    ast.Add: ast.Sub,
    ast.Sub: ast.Add,
    ast.Mult: ast.FloorDiv,
    ast.Div: ast.Mult,
    ast.FloorDiv: ast.Mult,
    ast.Mod: ast.Mult,
    ast.And: ast.Or,
    ast.Or: ast.And,
}


@dataclass(frozen=True)
class Fault:
    """One change of a source: the text of a node, and what stands there instead."""

    path: Path
    line: int
    start: int  # bytes from the beginning of the file
    end: int
    old: str
    new: str

    def planted(self, source: bytes) -> bytes:
        return source[: self.start] + self.new.encode() + source[self.end :]


def changes(node: ast.AST) -> Iterator[str]:
    """What may stand in place of a node: another operator, constant or condition, or nothing at
    all."""
    match node:
        case ast.Compare(ops=[op, *rest]) if type(op) in OTHER:
            yield ast.unparse(ast.Compare(node.left, [OTHER[type(op)](), *rest], node.comparators))
        case ast.BinOp(op=op) if type(op) in OTHER:
            yield ast.unparse(ast.BinOp(node.left, OTHER[type(op)](), node.right))
        case ast.BoolOp(op=op, values=values):
            yield ast.unparse(ast.BoolOp(OTHER[type(op)](), values))
            yield from (
                ast.unparse(ast.BoolOp(op, values[:at] + values[at + 1 :]))
                for at in range(len(values))
            )
        case ast.UnaryOp(op=ast.Not() | ast.USub(), operand=operand):
            yield ast.unparse(operand)
        case ast.Constant(value=bool(value)):
            yield str(not value)
        case ast.Constant(value=int(value)):
            yield str(value + 1)
        case ast.IfExp(test=test, body=body, orelse=orelse):
            yield ast.unparse(ast.IfExp(test, orelse, body))
        case ast.Call(func=ast.Name(id="min" | "max" as name), args=args, keywords=keywords):
            other = "max" if name == "min" else "min"
            yield ast.unparse(ast.Call(ast.Name(other), args, keywords))
        case ast.Expr(value=ast.Call()) | ast.AugAssign() | ast.Continue() | ast.Break():
            yield "pass"


def _looked_at(tree: ast.AST) -> Iterator[ast.AST]:
    """Nodes of what runs: no annotation, no decorator, no argument of a class; nor names that
    numbers only tell apart (`R, TICKS = 0, 1`), which other numbers do as well."""
    if (
        isinstance(tree, ast.Assign)
        and isinstance(tree.targets[0], ast.Tuple)
        and isinstance(tree.value, ast.Tuple)
    ):
        return
    fields = [(name, value) for name, value in ast.iter_fields(tree)]
    for name, value in fields:
        if name in ("annotation", "returns", "decorator_list", "keywords") and (
            name != "keywords" or isinstance(tree, ast.ClassDef)
        ):
            continue
        for child in value if isinstance(value, list) else [value]:
            if isinstance(child, ast.AST):
                yield child
                yield from _looked_at(child)


def faults_of(path: Path) -> Iterator[Fault]:
    source = path.read_bytes()
    starts = [0]
    for line in source.splitlines(keepends=True):
        starts.append(starts[-1] + len(line))
    for node in _looked_at(ast.parse(source)):
        for new in changes(node):
            start = starts[node.lineno - 1] + node.col_offset
            end = starts[node.end_lineno - 1] + node.end_col_offset
            wrapped = new if isinstance(node, ast.stmt) else f"({new})"
            yield Fault(path, node.lineno, start, end, source[start:end].decode(), wrapped)


def drawn(sources: Path, number: int) -> Fault:
    """The fault of this number: a file by its number of faults, then one of them."""
    found = [
        fault
        for place in PLACES
        for path in sorted((sources / place).rglob("*.py"))
        for fault in faults_of(path)
    ]
    return random.Random(number).choice(found)


def runs(tree: Path, command: list[str]) -> bool:
    surroundings = {
        **os.environ,
        "PYTHONPATH": str(tree / "src"),
        "NUMBA_DISABLE_JIT": "1",  # a planted fault would cost minutes of compiling
        "PYTHONDONTWRITEBYTECODE": "1",
        "QT_QPA_PLATFORM": "offscreen",
    }
    try:
        done = subprocess.run(
            [sys.executable, *command],
            cwd=tree,
            env=surroundings,
            capture_output=True,
            timeout=TOO_LONG_S,
            check=False,
        )
    except subprocess.TimeoutExpired:
        return False
    return done.returncode == 0


def finder(tree: Path, place: str, storms: int) -> str | None:
    """What finds the fault that is planted now; None where nothing does."""
    for tests in PLACES[place]:
        if not runs(
            tree, ["-m", "pytest", "-x", "-q", "-p", "no:cacheprovider", "--timeout=120", *tests]
        ):
            return tests[-1]
    return None if runs(tree, ["-c", STORMS, str(storms)]) else "storms"


def place_of(fault: Fault, tree: Path) -> str:
    inside = fault.path.relative_to(tree / "src" / "hawser").as_posix()
    return next(place for place in PLACES if inside.startswith(f"{place}/"))


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("first", type=int)
    parser.add_argument("count", type=int)
    parser.add_argument("--tree", type=Path, default=Path(__file__).parent.parent)
    parser.add_argument("--storms", type=int, default=12)
    told = parser.parse_args()
    tree = told.tree.resolve()
    if (by := finder(tree, "core/rules", told.storms)) is not None:
        sys.exit(f"{by}: fails with nothing planted")
    left = 0
    for number in range(told.first, told.first + told.count):
        begun = time.monotonic()
        fault = drawn(tree / "src" / "hawser", number)
        whole = fault.path.read_bytes()
        fault.path.write_bytes(fault.planted(whole))
        try:
            by = finder(tree, place_of(fault, tree), told.storms)
        finally:
            fault.path.write_bytes(whole)
        left += by is None
        line = {
            "number": number,
            "place": f"{fault.path.relative_to(tree)}:{fault.line}",
            "old": fault.old,
            "new": fault.new,
            "found_by": by,
            "seconds": round(time.monotonic() - begun),
        }
        print(json.dumps(line), flush=True)
    print(json.dumps({"planted": told.count, "not_found": left}))


if __name__ == "__main__":
    main()
