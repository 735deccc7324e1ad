"""What stands behind the Signals station, without a window: the draft of a source, its words, why
it says what it says, and lines at every level of detail."""

import math
from random import Random
from zoneinfo import ZoneInfo

import msgspec
import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from hawser.core.errors import BadInput
from hawser.core.sources.conditions.base import PARTS
from hawser.core.sources.conditions.declared import KINDS
from hawser.core.sources.evaluation import evaluated
from hawser.core.sources.followed import followed
from hawser.core.sources.said import condition_said, sentence
from hawser.core.sources.source import MOST_CONDITIONS, Source
from hawser.core.sources.view import BarsSeen
from hawser.demo.world import INSTRUMENTS
from hawser.desk.chart.curves import joined
from hawser.desk.chart.viewport import Viewport
from hawser.desk.models.curves import Curve
from hawser.desk.models.form_words import Folded, FormBlank, Words
from hawser.desk.models.source_draft import SourceDraft, texts_of, words_of
from hawser.desk.models.source_look import Ground, Look, horizons, looked_at, rows_of, verdict
from hawser.formats.sources import load_source, read_source, save_source, source_of, source_text
from hawser.service.profiles.sources import SourceShelf
from randomsources import MINUTE, OTHER, arrays, case, history

UTC = ZoneInfo("UTC")
OF = next(one for one, _ in INSTRUMENTS if one.symbol == "CAD/CHF")


def blanks(words: Words) -> set[str]:
    """The keys of all blanks, also those that are folded."""
    found = set()
    for word in words:
        if isinstance(word, Folded):
            found |= blanks(word.words)
        elif isinstance(word, FormBlank):
            found.add(word.key)
    return found


def drafted(seed: int) -> tuple[Source, SourceDraft]:
    source = source_of(case(seed).source, "here")
    return source, SourceDraft(source)


@settings(max_examples=150, deadline=None)
@given(st.integers(0, 10**6))
def test_a_source_is_typed_as_it_is_and_every_text_has_its_blank(seed):
    source, draft = drafted(seed)
    assert draft.made is not None, (draft.errors, draft.general)
    assert texts_of(draft.made) == texts_of(source)  # a price alone is told by its name
    for part in PARTS:
        for row in draft.texts[part]:
            assert blanks(words_of(part, row)) == set(row)
    assert read_source(source_text(source).decode(), "here") == source


@settings(max_examples=60, deadline=None)
@given(st.integers(0, 10**6), st.sampled_from(sorted(KINDS)))
def test_any_other_kind_can_be_chosen_and_undone(seed, kind):
    source, draft = drafted(seed)
    before = msgspec.json.encode(draft.texts)
    draft.change(("enter", 0, "kind"), kind)
    row = draft.texts["enter"][0]
    assert blanks(words_of("enter", row)) == set(row)
    assert draft.made is not None or draft.errors or draft.general
    if draft.made is not None:
        assert draft.made.enter[0].__struct_config__.tag == kind
    while draft.can[0]:
        draft.undo()
    assert msgspec.json.encode(draft.texts) == before
    assert draft.made is not None and texts_of(draft.made) == texts_of(source)


@pytest.mark.parametrize(
    "place, text, told",
    [
        (("enter", 0, "b.length"), "0", "at least 1"),
        (("enter", 0, "b.length"), "a few", "Expected a whole number"),
        (("enter", 0, "b.timeframe"), "7x", "Expected a whole number and m, h, d or w"),
        (("enter", 0, "b"), "band_upper", ""),
        (("leave", 0, "length"), "", "Expected a value"),
        (("only", 0, "zone"), "Europe/Zurih", "the nearest known one is Europe/Zurich"),
        (("only", 0, "days"), "mon, tuesday", "Expected any of mon, tue, wed"),
        (("only", 0, "at"), "9", "09:30"),
    ],
)
def test_what_is_wrong_is_told_at_its_blank(place, text, told):
    draft = SourceDraft(
        read_source(
            'name = "Weft"\nsides = "long"\n[[enter]]\nkind = "crosses"\na = "close"\n'
            'b = { kind = "sma", length = 20 }\n[[only]]\nkind = "clock"\nat = "09:00"\n'
            'zone = "Europe/Zurich"\n[[leave]]\nkind = "breaks"\nlength = 10\n',
            "here",
        )
    )
    draft.change(place, text)
    assert set(draft.errors) == ({place} if told else set())
    assert told in draft.errors.get(place, "")
    assert (draft.made is None) == bool(told)


def test_a_source_without_anything_to_enter_on_says_so():
    _, draft = drafted(3)
    for _ in range(len(draft.texts["enter"])):
        draft.remove("enter", 0)
    assert draft.made is None and "to enter on" in draft.general


def test_words_say_both_sides():
    source = read_source(
        'name = "Weft"\n[[enter]]\nkind = "crosses"\na = { kind = "rsi" }\nb = 30\n'
        'b_short = 70\n[[leave]]\nkind = "above"\na = "close"\n'
        'b = { kind = "sma", length = 1 }\nagainst = true\n',
        "here",
    )
    assert sentence(source) == (
        "Enters long where the RSI of 14 bars comes above 30; short where the RSI of 14 bars comes "
        "below 70. Leaves a long where the close is above the simple average of 1 close; a short "
        "where the close is below the simple average of 1 close."
    )
    both = msgspec.structs.replace(source.enter[0], against=True, either=True)
    # `against` first: the answer for short counts for both
    assert (
        condition_said(both, 1) == condition_said(both, -1) == ("the RSI of 14 bars comes below 70")
    )


def test_settings_of_own_python_are_typed_on_one_line():
    source = read_source(
        'name = "Weft"\n[[enter]]\nkind = "python"\nfile = "weft.py"\n[enter.settings]\n'
        'gap = 1e-5\nbars = [9, 10]\nname = "sea \\"sky\\" \\\\ \u00e9"\non = true\n'
        '"a b" = { c = [{ d = 1.5 }] }\n',
        "here",
    )
    draft = SourceDraft(source)
    assert draft.made == source, (draft.errors, draft.texts)
    assert draft.texts["enter"][0]["settings"].startswith("gap = 1e-05, bars = [9, 10], name = ")


# Over bars


def ground(seed: int) -> tuple[Source, Ground, BarsSeen]:
    """A random source without columns of its own, and what it is looked at over."""
    while True:
        one = case(seed)
        source = source_of(one.source, "here")
        if not source.columns and len(one.bars) > 2:
            seen = one.seen()
            step = int(np.diff(seen.bars.time).min())
            spans = {name: int(np.diff(bars.time).min()) for name, bars in seen.others.items()}
            return source, Ground(OF, step, seen.bars, seen.others, spans), seen
        seed += 10**7


@settings(max_examples=80, deadline=None)
@given(st.integers(0, 10**6))
def test_the_reasons_at_each_bar_add_up_to_what_the_source_says(seed):
    source, over, seen = ground(seed)
    look = Look(source, over)
    said = evaluated(source, seen, over.span)
    assert np.array_equal(look.said.signal, said.signal)
    join = all if source.combine == "all" else any
    for bar in range(look.size):
        found = look.reasons(bar)
        says = {}
        for side in (1, -1):
            enter = join([one.says(side) for one in found if one.part == "enter"])
            only = all(one.says(side) for one in found if one.part == "only")
            word = "long" if side > 0 else "short"
            says[side] = enter and only and source.sides in ("both", word)
        assert said.signal[bar] == says[1] - says[-1]
        left = {side: any(r.says(-side) for r in found if r.part == "leave") for side in (1, -1)}
        assert said.leave[bar] == (2 if left[1] and left[-1] else left[-1] - left[1])
        rows = rows_of(look, bar, UTC)
        assert [(row.long, row.short) for row in rows] == [(r.long, r.short) for r in found]
        assert ("Enters" in verdict(look, bar)) == bool(said.signal[bar])
    curves, panels = look.drawn(1)
    for curve in [*curves, *(one for panel in panels for one in panel.curves)]:
        assert curve.size == look.size - 1


def test_the_lines_of_a_break_stand_where_they_are_looked_at():
    source = read_source('name = "Weft"\n[[enter]]\nkind = "breaks"\nlength = 3\n', "here")
    bars = arrays(history(Random(5), 40, MINUTE, 0))
    look = Look(source, Ground(OF, MINUTE, bars))
    (high, low), _ = look.drawn(0)
    for bar in range(3, 40):
        assert high.values[bar] == bars.high[bar - 3 : bar].max()
        assert low.values[bar] == bars.low[bar - 3 : bar].min()
        figures = look.reasons(bar)[0].figures
        assert [one.value for one in figures] == [
            bars.close[bar],
            high.values[bar],
            low.values[bar],
        ]
    assert "not known yet" in rows_of(look, 0, UTC)[0].in_words


def test_signals_are_found_in_both_directions():
    source = read_source('name = "Weft"\n[[enter]]\nkind = "breaks"\nlength = 3\n', "here")
    bars = arrays(history(Random(6), 60, MINUTE, 0))
    look = Look(source, Ground(OF, MINUTE, bars))
    at = np.flatnonzero(look.said.signal).tolist()
    found, bar = [], -1
    while (following := look.next_signal(bar, 1)) is not None:
        found.append(bar := following)
    assert found == at and len(at) > 2
    assert look.next_signal(at[1], -1) == at[0]
    assert look.next_signal(at[0], -1) is None


def test_what_followed_is_that_of_the_command():
    source = read_source('name = "Weft"\n[[enter]]\nkind = "breaks"\nlength = 3\n', "here")
    bars = arrays(history(Random(7), 400, MINUTE, 0))
    look = Look(source, Ground(OF, MINUTE, bars))
    found = horizons(look)
    assert {one.bars: one.signals for one in found} == followed(bars, look.said.signal)
    for one in found:
        assert one.all is not None and one.all.worst <= one.all.best
        assert one.signals.mean_of_all is not None
        assert one.all.worst - 1e-9 <= one.signals.mean_of_all <= one.all.best + 1e-9


def test_a_line_of_another_instrument_has_its_digits():
    """Harbour 40 stands at 9 000.0: it was shown with the five digits of CAD/CHF."""
    source = read_source(
        'name = "Weft"\n[[enter]]\nkind = "above"\n'
        'a = {kind = "sma", length = 3, instrument = "Harbour 40"}\nb = 100.0\n',
        "here",
    )
    bars = arrays(history(Random(5), 40, MINUTE, 0))
    tenths = bars._replace(close=9000.0 + np.arange(40) / 10.0)
    ground = Ground(OF, MINUTE, bars, {"Harbour 40": tenths}, {"Harbour 40": MINUTE})
    look = Look(source, ground)
    _, (panel,) = look.drawn(0)
    assert (panel.title, panel.digits) == ("Harbour 40", 1)
    [row] = rows_of(look, 30, UTC)
    [text] = [text for name, text in row.figures if "Harbour 40" in name]
    assert text.endswith("9\u202f002.9") or text.endswith("9\u00a0002.9"), text


def test_own_python_without_a_file_says_so():
    text = 'name = "Weft"\n[[enter]]\nkind = "python"\nfile = "weft.py"\n'
    bars = arrays(history(Random(5), 40, MINUTE, 0))
    with pytest.raises(BadInput, match="folder"):
        looked_at(read_source(text, "here"), None, Ground(OF, MINUTE, bars))


def test_texts_that_do_not_fit_are_left_out():
    """The settings may be of before, or damaged: the station did not open any more."""
    _, draft = drafted(3)
    good = draft.texts
    row = {"kind": "crosses", "taken": "as it is"}
    for damaged in (
        {},
        good | {"weft": []},
        good | {"enter": [{"kind": "weft"}]},
        good | {"enter": [{}]},
        good | {"enter": [row]},
        good | {"general": []},
    ):
        assert not draft.take(damaged) and draft.texts == good and draft.made is not None
    assert draft.take(good)


def test_there_is_room_for_so_many_conditions_and_no_more():
    draft = SourceDraft(read_source('name = "Weft"\n[[enter]]\nkind = "always"\n', "here"))
    while not draft.full:
        assert draft.add("leave")
    assert not draft.add("enter")
    assert sum(len(draft.texts[part]) for part in PARTS) == MOST_CONDITIONS


def test_what_is_not_there_is_told_with_the_nearest():
    source = read_source(
        'name = "Weft"\n[[enter]]\nkind = "above"\na = "close"\n'
        f'b = {{ kind = "sma", instrument = "{OTHER[:-1]}" }}\n',
        "here",
    )
    bars = arrays(history(Random(7), 40, MINUTE, 0))
    with pytest.raises(BadInput, match=f"the nearest is {OTHER}"):
        Look(source, Ground(OF, MINUTE, bars, {OTHER: bars}))
    column = read_source('name = "Weft"\n[[enter]]\nkind = "column"\nname = "weft"\n', "here")
    with pytest.raises(BadInput, match=r"no column weft. Open the file that has it"):
        Look(column, Ground(OF, MINUTE, bars))


# Lines at every level of detail


@settings(max_examples=60, deadline=None)
@given(st.integers(0, 10**6), st.integers(1, 6_000), st.data())
def test_a_line_drawn_from_afar_reaches_as_high_and_as_low(seed, size, data):
    draw = np.random.default_rng(seed)
    values = np.cumsum(draw.normal(size=size))
    values[draw.random(size) < 0.1] = math.nan
    curve = Curve("line", values)
    first = data.draw(st.integers(0, size - 1))
    last = data.draw(st.integers(first, size))
    x, y = curve.points(first, last, 100)
    assert x.size == y.size <= 2 * (256 + 4)
    seen = values[first : last + 1]
    if not np.isnan(seen).all():
        low, high = np.nanmin(seen), np.nanmax(seen)
        assert np.nanmin(y) <= low and np.nanmax(y) >= high
        wide = values[max(0, first - 4_096) : last + 4_096]
        assert np.nanmin(y) >= np.nanmin(wide) and np.nanmax(y) <= np.nanmax(wide)
    if x.size > 1:
        assert (np.diff(x) >= 0).all()


def test_lines_keep_their_strokes_until_points_stand_for_several_bars():
    curve = Curve("line", np.arange(1_000.0))
    for left, right, told in ((870, 1_060, False), (-40, 150, False), (0, 1_000, True)):
        x, _ = curve.points(left, right, 280)
        assert joined(curve, Viewport(left=left, right=right), x.size) == told


# Files


def test_the_sources_that_ship_are_laid_with_their_own_python(tmp_path):
    shelf = SourceShelf(tmp_path / "sources")
    assert len(shelf.all) == 12 and not shelf.faults
    assert (tmp_path / "sources" / "own_loom.py").exists()
    for one in shelf.all.values():
        draft = SourceDraft(one)
        assert draft.made == one and one.about
        path = shelf.path(one.name)
        assert path is not None and load_source(path) == one
    again = SourceShelf(tmp_path / "sources")
    again.drop("Always afloat")
    save_source(
        read_source('name = "Mine"\n[[enter]]\nkind = "always"\n', "x"), tmp_path / "m.toml"
    )
    again.put(again.load(tmp_path / "m.toml"))
    assert "Mine" in SourceShelf(tmp_path / "sources").all
    assert "Always afloat" not in SourceShelf(tmp_path / "sources").all
