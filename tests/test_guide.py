"""The guide's figures are worked again, and its list of keys is the declarations'."""

import json
import re
import textwrap

import pytest

from hawser.core.account import Account
from hawser.core.field_help import keys_of
from hawser.core.field_parser import read_size, read_stop
from hawser.core.guards import declared as dc
from hawser.core.instrument import Instrument
from hawser.core.sizing import sized
from hawser.formats.size_json import answer_one, read_request
from madeup import ROOT

GUIDE = (ROOT / "docs" / "guide.md").read_text(encoding="utf-8")
REQUEST = json.loads(re.search(r"<!-- worked -->\n```json\n(.*?)```", GUIDE, re.DOTALL).group(1))


def plain(text):
    return text.replace("\u00a0", " ")


def table(after):
    """The rows of the first table behind a heading."""
    rows = GUIDE.split(after, 1)[1].split("|---", 1)[1].split("\n\n", 1)[0].split("\n")[1:]
    return [
        [cell.strip() for cell in row.strip("|").split("|")] for row in rows if row.startswith("|")
    ]


def test_every_step_of_the_worked_size():
    steps = dict(line.split(": ") for line in map(plain, answer_one(REQUEST)["derivation"]))
    assert dict(map(tuple, table("### One size, step by step"))) == steps


def test_every_other_way_to_size_it():
    import msgspec

    request = read_request(REQUEST, "guide")
    rows = table("### What may be typed as the size")
    assert len(rows) == 7
    for typed, _, qty, risk in rows:
        size = read_size(typed.strip("`"), "CHF")
        stop = None if size.method == "invest" else request.stop
        account = msgspec.structs.replace(request.account, size=size)
        found = sized(msgspec.structs.replace(request, account=account, stop=stop))
        assert request.instrument.qty(found.steps) == qty, typed
        assert f"{found.risk_money:.2f}" == risk, typed


def test_every_stop_of_the_guide_is_understood():
    for typed, _ in table("### What may be typed as the stop"):
        for one in re.findall(r"`([^`]+)`", typed):
            assert read_stop(one, "CHF").kind


def test_the_capped_size():
    policy = {"max_notional_percent": 100.0}
    found = answer_one({**REQUEST, "account": {**REQUEST["account"], "policy": policy}})
    assert f"{found['qty']} units at" in " ".join(GUIDE.split())
    assert f"{found['risk_money']:.2f} CHF of risk" in " ".join(GUIDE.split())


def keys_table():
    """The chapter's list of keys, made from the declarations."""
    parts = []
    for name, kind in (("Account", Account), ("Instrument", Instrument)):
        rows = [f"| `{key.path}` | {key.in_a_file} |" for key in keys_of(kind)]
        parts.append(f"{name}:\n\n| key | means |\n|---|---|\n" + "\n".join(rows))
    return "\n\n".join(parts)


def test_every_key_is_in_the_guide():
    assert keys_table() in GUIDE, (
        "docs/guide.md: the keys have changed; put in:\n"
    ) + textwrap.indent(keys_table(), "  ")


@pytest.mark.parametrize("word", ["Across", "What if", "Plans by name", "Heat", "Caps"])
def test_the_chapter_covers(word):
    assert f"### {word}" in GUIDE


def test_every_key_of_the_policy_of_guards_is_told():
    told = {(path.strip("`"), text) for path, _, text in table("### Keys of the policy")}
    kinds = [("", dc.Guards), ("news.rule.", dc.NewsRule), *(("", kind) for kind in dc.KINDS)]
    for prefix, kind in kinds:
        for key in keys_of(kind):
            if key.path in ("guard", "news.rule"):
                continue
            assert (prefix + key.path, key.in_a_file) in told
    for kind in dc.KINDS:
        assert f"| `{kind.__struct_config__.tag}` |" in GUIDE


def test_what_followed_in_the_guide_is_what_is_told(tmp_path, monkeypatch, capsys):
    from hawser.cli import main

    shown = GUIDE.split("<!-- followed -->\n```\n", 1)[1].split("```", 1)[0]
    monkeypatch.chdir(tmp_path)
    (tmp_path / "examples").symlink_to(ROOT / "examples")
    words = GUIDE.split("hawser signals ", 1)[1].split("\n```", 1)[0].replace("\\\n", " ").split()
    assert main(["signals", *words]) == 0
    assert plain(capsys.readouterr().out) == shown


def test_the_source_in_the_guide_is_the_example():
    import tomllib

    shown = tomllib.loads(GUIDE.split("## Sources", 1)[1].split("```toml\n", 1)[1].split("```")[0])
    ships = tomllib.loads((ROOT / "examples/ebb-and-flow.toml").read_text())
    assert {key: value for key, value in ships.items() if key != "about"} == shown


def test_every_condition_and_every_line_is_told():
    from hawser.core.sources.conditions.declared import KINDS
    from hawser.core.sources.lines.declared import KINDS as LINES

    files = (ROOT / "docs" / "files.md").read_text()
    for kind, made in (KINDS | LINES).items():
        rows = [one for one in files.splitlines() if one.startswith("|") and f"`{kind}`" in one]
        keys = set(made.__struct_fields__) - {"against", "either", "timeframe", "instrument"}
        assert any(all(f"`{key}`" in row for key in keys) for row in rows), kind
    assert all(f"| `{kind}` |" in GUIDE for kind in KINDS)
