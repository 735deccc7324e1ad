"""A name means one thing: no two classes of Hawser are called alike."""

import ast
from collections import defaultdict

from madeup import ROOT


def test_no_two_classes_are_called_alike():
    found = defaultdict(list)
    for path in sorted((ROOT / "src" / "hawser").rglob("*.py")):
        for node in ast.walk(ast.parse(path.read_text())):
            if isinstance(node, ast.ClassDef):
                found[node.name].append(f"{path.relative_to(ROOT)}:{node.lineno}")
    alike = {name: places for name, places in found.items() if len(places) > 1}
    assert len(found) > 600
    assert not alike, "give one of them a name that says more"
