"""Documents that must keep up: the diagrams are the tables, every option is told, every picture is
there."""

import os
import re
import subprocess
import sys
from importlib import import_module

import pytest

from hawser import __version__
from hawser.commands.desktop import make_parser
from hawser.engine.model import transitions as states
from madeup import ROOT

DESIGN = (ROOT / "docs" / "design.md").read_text(encoding="utf-8")
README = (ROOT / "README.md").read_text(encoding="utf-8")


def test_the_diagrams_are_the_tables():
    drawn = re.findall(r"```mermaid\n(.*?)\n```", DESIGN, re.DOTALL)
    assert drawn == [states.mermaid(states.ORDER), states.mermaid(states.TRADE)]


def test_every_benchmark_finds_what_it_imports():
    """Nothing else runs them: one had lost a module that was renamed."""
    names = sorted(path.stem for path in (ROOT / "benchmarks").glob("bench_*.py"))
    assert len(names) > 8
    loads = "\n".join(
        (
            "import sys",
            f"sys.path.insert(0, {str(ROOT / 'benchmarks')!r})",
            *(f"import {n}" for n in names),
        )
    )
    env = {**os.environ, "QT_QPA_PLATFORM": "offscreen"}
    done = subprocess.run(
        [sys.executable, "-c", loads], capture_output=True, text=True, env=env, check=False
    )
    assert done.returncode == 0, done.stderr[-2000:]


def test_every_option_of_the_command_is_told():
    for action in make_parser()._actions:
        for option in action.option_strings:
            if option.startswith("--") and action.help != "==SUPPRESS==":
                assert f"`{option}" in README, option


def test_every_command_is_told():
    from hawser.commands.declared import COMMANDS, commands_help

    files = (ROOT / "docs" / "files.md").read_text()
    for one in COMMANDS.values():
        assert f"`hawser {one.name}" in README, one.name
        assert f"| `hawser {one.name}" in files, one.name
        assert f"hawser {one.name} " in commands_help()
        assert callable(import_module(f"hawser.commands.{one.module}").run)


def test_every_picture_is_linked_and_there():
    linked = set(re.findall(r"docs/screenshots/[a-z-]+\.png", README))
    there = {
        f"docs/screenshots/{path.name}" for path in (ROOT / "docs" / "screenshots").glob("*.png")
    }
    assert linked == there
    assert 4 <= len(there) < 20


def test_the_files_a_trader_is_told_of_are_there():
    for name in re.findall(r"(?:examples|packaging)/[a-z0-9.-]+", README):
        assert (ROOT / name).exists(), name
    assert f"## {__version__}" in (ROOT / "CHANGELOG.md").read_text(encoding="utf-8")


def test_modules_named_in_the_tour_exist():
    for name in re.findall(
        r"`((?:core|engine|rehearsal|venue|ledger|formats|service|verification|commands|desk|tests)"
        r"/[a-z_/]+\.?p?y?)`",
        DESIGN,
    ):
        path = name if name.startswith("tests/") else f"src/hawser/{name}"
        assert (ROOT / path).exists(), name


ROOMS = "core|engine|rehearsal|venue|ledger|formats|service|verification|commands|desk"


@pytest.mark.parametrize(
    "page", ["docs/glossary.md", "docs/reckoning.md", "docs/files.md", "CONTRIBUTING.md"]
)
def test_what_a_page_names_is_there(page):
    text, source = (ROOT / page).read_text(encoding="utf-8"), ROOT / "src" / "hawser"
    for name in re.findall(rf"`((?:{ROOMS})/[\w/.]*|(?:tests|docs)/[\w/.]*)`", text):
        assert ((ROOT if name.startswith(("tests", "docs")) else source) / name).exists(), name
    for name in re.findall(rf"`((?:{ROOMS})(?:\.(?!sqlite)\w+)+)`", text):
        path = source / name.replace(".", "/")
        if path.is_dir() or path.with_suffix(".py").exists():
            continue
        module, _, inner = name.rpartition(".")
        assert (
            f"class {inner}" in (source / module.replace(".", "/")).with_suffix(".py").read_text()
        ), name


def test_the_walks_lead_through_places_that_are_there():
    walks = DESIGN[DESIGN.index("## Three walks") : DESIGN.index("## An order's life")]
    steps = re.findall(rf"`((?:{ROOMS})/[\w/]+\.py)`\s+`(\w+)`", walks)
    assert len(steps) > 15
    for path, name in steps:
        source = (ROOT / "src" / "hawser" / path).read_text(encoding="utf-8")
        assert re.search(rf"(?:def|class) {name}\b", source), f"{path}: {name}"
