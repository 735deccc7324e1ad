"""A fleet's file, and one sentence for whatever is wrong with it."""

from __future__ import annotations

import json
import shutil
from pathlib import Path

import pytest

from hawser.cli import main
from madeup import ROOT

FLEET = (ROOT / "examples/two-harbours.toml").read_text()
SECOND = '[[member]]\ninstrument = "osier-mills.toml"'
HEAD = "time,open,high,low,close,spread,signal\n"


@pytest.fixture
def place(tmp_path, monkeypatch):
    """The fleet that ships with short histories, in the folder one stands in."""
    shutil.copytree(ROOT / "examples", tmp_path, dirs_exist_ok=True)
    for name in ("quillan-ferry", "osier-mills"):
        file = tmp_path / f"{name}-5m.csv"
        file.write_text("".join(file.read_text().splitlines(keepends=True)[:900]))
    monkeypatch.chdir(tmp_path)
    return tmp_path


def told(place: Path, text: str, capsys, *words: str) -> str:
    """The sentence that the command refuses a fleet with; nothing is written."""
    (place / "fleet.toml").write_text(text)
    assert main(["fleet", "fleet.toml", "--out", "out", *words]) == 2
    assert not (place / "out").exists()
    found = capsys.readouterr().err.strip()
    assert "\n" not in found
    return found


@pytest.mark.parametrize(
    ("old", "new", "sentence"),
    [
        ("rank = {", "ranks = {", "unknown key ranks; the nearest known one is rank"),
        (
            'kind = "rsi"',
            'kind = "rsy"',
            "rank.kind: unknown kind rsy; the nearest known one is rsi",
        ),
        ("length = 14", "lenght = 14", "unknown key rank.lenght; the nearest known one is length"),
        ('signal = "signal"', 'signal = "sign"', "sign"),
        ('signal = "signal"', "", "osier"),
        ('source = "ebb-and-flow.toml"', 'source = "gone.toml"', "gone.toml: cannot be read"),
        (
            'source = "ebb-and-flow.toml"',
            'source = "ebb-and-flow.toml"\nsignal = "signal"',
            "member[0].signal: expected without source, which says it",
        ),
        (SECOND, f'{SECOND}\nname = "Quillan Ferry"', "is the name of member[0] too"),
        (SECOND, f'{SECOND}\nname = "a,b"', "member[1].name: expected a name"),
        ('account = "account.toml"', "", "key account is missing"),
        ("percent = 2.5", "percents = 2.5", "unknown key basket.stop.percents"),
        ('name = "Two harbours"', 'name = "Two"\ntimeframe = "7x"', "timeframe"),
        ('name = "Two harbours"', 'name = "Two"\ntimeframe = "1m"', "1m is finer than the bars"),
    ],
)
def test_what_is_wrong_is_told_with_its_place(place, capsys, old, new, sentence):
    if (old, new) == ('signal = "signal"', ""):
        text = (place / "osier-mills-5m.csv").read_text().replace("signal", "other", 1)
        (place / "osier-mills-5m.csv").write_text(text)
    assert old in FLEET
    assert sentence in told(place, FLEET.replace(old, new, 1), capsys)


def test_no_members_and_bars_of_two_lengths(place, capsys):
    head = FLEET.partition("[[member]]")[0]
    assert "member" in told(place, head, capsys)
    rows = "".join(
        f"2031-01-06T{8 + n // 60:02d}:{n % 60:02d}:00Z,100.0,101.0,99.0,100.0,1,0\n"
        for n in range(200)
    )
    (place / "osier-mills-5m.csv").write_text(HEAD + rows)
    sentence = told(place, FLEET, capsys)
    assert "member[1].bars: bars of 1m; expected of 5m, as member[0] has" in sentence


def test_a_pair_that_serves_nobody_is_refused(place, capsys):
    sentence = told(place, FLEET, capsys, "--rate", "SEK/DKK=osier-mills-5m.csv")
    assert sentence.startswith("--rate SEK/DKK=osier-mills-5m.csv: expected the pair of a member's")


def test_members_are_known_to_sources_and_ranks_by_their_names(place, capsys):
    source = (place / "ebb-and-flow.toml").read_text()
    looks = (
        '[[only]]\nkind = "rises"\na = { kind = "sma", length = 5, instrument = "Osier Mills" }\n'
    )
    (place / "ebb-and-flow.toml").write_text(source + looks)
    rank = FLEET.replace("length = 14 }", 'length = 14, instrument = "Quillan Ferry" }')
    (place / "fleet.toml").write_text(rank)
    assert main(["fleet", "fleet.toml", "--out", "out", "--json"]) == 0
    report = json.loads(capsys.readouterr().out)
    assert [one["instrument"] for one in report["members"]] == ["Quillan Ferry", "Osier Mills"]
    run = json.loads((place / "out/run.json").read_text())
    assert run["command"][:3] == ["hawser", "fleet", "fleet.toml"]
    names = {Path(one).name for one in run["inputs"]}
    assert names >= {"fleet.toml", "account.toml", "osier-mills-5m.csv", "slow-harbour.toml"}
    gone = rank.replace('instrument = "Quillan Ferry" }', 'instrument = "Elsewhere" }')
    shutil.rmtree(place / "out")
    assert "Elsewhere" in told(place, gone, capsys)


def test_a_folder_that_is_not_empty_is_refused(place, capsys):
    (place / "fleet.toml").write_text(FLEET)
    (place / "out").mkdir()
    (place / "out/mine.txt").write_text("mine")
    assert main(["fleet", "fleet.toml", "--out", "out"]) == 2
    assert "is not empty" in capsys.readouterr().err
    assert main(["fleet", "fleet.toml", "--out", "out", "--replace"]) == 0
    assert (place / "out/mine.txt").read_text() == "mine"
    text = capsys.readouterr().out
    assert text.startswith("Two harbours: ")
    assert " of 2 members over 899 openings, net " in text


def test_bars_that_nobody_looks_at_are_refused(place, capsys):
    words = ["--bars-of", "Elsewhere=osier-mills-5m.csv"]
    assert told(place, FLEET, capsys, *words) == (
        "--bars-of Elsewhere: no source looks at it, and no rank does"
    )
    rank = FLEET.replace("length = 14 }", 'length = 14, instrument = "Elsewhere" }')
    assert "Elsewhere is given twice" in told(place, rank, capsys, *words, *words)
    (place / "fleet.toml").write_text(rank)
    assert main(["fleet", "fleet.toml", "--out", "out", *words]) == 0


def test_a_member_is_known_to_the_others_as_it_is_read_itself(place, capsys):
    """Its times are in its own zone, for whoever looks at it."""
    file = place / "osier-mills-5m.csv"
    file.write_text(file.read_text().replace("Z,", ","))  # times without an offset
    source = (place / "ebb-and-flow.toml").read_text()
    looks = (
        '[[only]]\nkind = "above"\na = { kind = "close", instrument = "Osier Mills" }\nb = 1.0\n'
    )
    (place / "ebb-and-flow.toml").write_text(source + looks)
    assert "Osier Mills" not in told(place, FLEET, capsys)  # the file's times need a zone
    zoned = FLEET.replace('signal = "signal"', 'signal = "signal"\ntz = "UTC"')
    (place / "fleet.toml").write_text(zoned)
    assert main(["fleet", "fleet.toml", "--out", "out"]) == 0
    alone = (place / "out/trades.csv").read_text()
    capsys.readouterr()
    assert alone.count("Quillan Ferry") > 3
