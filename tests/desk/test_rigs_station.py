"""The Rigs station as its user drives it, and what stands behind it: the draft, the shelf, the
trial."""

from __future__ import annotations

import errno
import shutil
from random import Random

import msgspec
import numpy as np
import pytest
from keyboard import search
from PyQt6.QtCore import QPoint, Qt
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QComboBox, QLineEdit

from hawser.core.errors import BadInput
from hawser.core.guards.declared import Guards, SessionGuard, SpreadGuard
from hawser.core.instrument import WeeklySession
from hawser.core.joined_bars import joined_to
from hawser.core.levels import StopRule, TargetRule
from hawser.core.rig import After, BreakEven, Ladder, Measure, Rig, Trail, brief, sentence
from hawser.core.timeframes import timeframe
from hawser.demo.boot import boot
from hawser.desk.app.start import make_window
from hawser.desk.app.stations import RIGS
from hawser.desk.models.rig_draft import RigDraft
from hawser.desk.rigs.trials import filters_over
from hawser.engine.model import transitions as states
from hawser.formats.rigs import load_rig, save_rig
from hawser.rehearsal.run import Rehearsal, SignalColumns
from hawser.rehearsal.trial import Trial, TrialResult
from hawser.rehearsal.watch import HistoryPolicy
from hawser.service.profiles.profile import plain, profile
from hawser.service.profiles.rigs import RigShelf, shipped
from randomguards import EVERY_DAY
from randomrigs import a_rig, an_account, history

KEY = Qt.Key


@pytest.fixture
def rigs(trader):
    """The station, with the demo's history under it."""
    QTest.keyClick(trader.window, KEY.Key_3, Qt.KeyboardModifier.AltModifier)
    station = trader.window.rigs
    trader.qtbot.waitUntil(lambda: station.fan.fan is not None)
    return station


def pick(rigs, name):
    row = next(
        i
        for i in range(rigs.list.count())
        if rigs.list.item(i).data(Qt.ItemDataRole.UserRole) == name
    )
    box = rigs.list.visualItemRect(rigs.list.item(row))
    QTest.mouseClick(rigs.list.viewport(), Qt.MouseButton.LeftButton, pos=box.center())
    assert rigs.name == name


def write(field, text):
    field.setFocus()
    field.selectAll()
    QTest.keyClicks(field, text)


# Driving the station


def test_a_rig_that_ships_is_tried_at_once_and_says_what_it_does(rigs):
    pick(rigs, "Slow warp")
    assert "Takes 40 % at 1 R and 30 % at 2.5 R" in rigs.editor.words.text()
    assert "R in " in rigs.results[0].text()
    assert "500 bars" in rigs.fan_title.text()
    assert "first stop" in rigs.fan.accessibleName()


def test_a_desk_that_opens_on_the_rigs_tries_them_once_the_history_is_there(open_desk):
    first = open_desk()
    QTest.keyClick(first.window, KEY.Key_3, Qt.KeyboardModifier.AltModifier)
    first.window.close()
    again = open_desk()
    station = again.window.rigs
    assert station.isVisible()
    again.qtbot.waitUntil(
        lambda: station.fan.fan is not None and "R in " in station.results[0].text(),
        timeout=30_000,
    )
    assert station.of.text().startswith(again.helm.symbol)


def test_typing_into_a_sentence_redraws_the_trial_and_is_kept(rigs, trader):
    pick(rigs, "Slow warp")
    before = rigs.chart._trials[0]
    write(rigs.editor.field("stop", 0, "stop"), "1 atr")
    assert rigs.chart._trials[0].stop != before.stop
    assert rigs.shelf.all["Slow warp"].stop == StopRule(atr=2.5)  # a moment later
    trader.qtbot.waitUntil(lambda: rigs.shelf.all["Slow warp"].stop == StopRule(atr=1.0))
    assert load_rig(rigs.shelf.folder / "slow-warp.toml").stop == StopRule(atr=1.0)


def test_what_is_wrong_is_told_beside_its_field_and_the_rig_stays(rigs, trader):
    pick(rigs, "Slow warp")
    write(rigs.editor.field("target", 1, "share"), "90 %")
    problem = rigs.editor.parts["target"].problems[1]
    trader.qtbot.waitUntil(problem.isVisible)
    assert "more than the whole" in problem.text()
    assert "stays as it was" in rigs.editor.words.text()
    rigs.write_down()
    assert rigs.shelf.all["Slow warp"].target[1].share == 0.3


def test_rules_are_added_taken_away_and_undone_by_keys(rigs):
    pick(rigs, "Short hitch")
    part = rigs.editor.parts["loss_step"]
    QTest.mouseClick(part.add_button, Qt.MouseButton.LeftButton)
    assert rigs.editor.draft.made.loss_step[0].r == 0.5
    field = rigs.editor.field("loss_step", 0, "r")
    write(field, "0.3 R")
    assert rigs.editor.draft.made.loss_step[0].r == 0.3
    rigs.editor.setFocus()
    QTest.keyClick(rigs.editor, KEY.Key_Z, Qt.KeyboardModifier.ControlModifier)
    assert rigs.editor.draft.made.loss_step[0].r == 0.5
    QTest.keyClick(rigs.editor, KEY.Key_Z, Qt.KeyboardModifier.ControlModifier)
    assert rigs.editor.draft.made.loss_step == ()
    QTest.keyClick(
        rigs.editor,
        KEY.Key_Z,
        Qt.KeyboardModifier.ControlModifier | Qt.KeyboardModifier.ShiftModifier,
    )
    assert len(rigs.editor.draft.made.loss_step) == 1


def test_a_click_on_a_bar_and_the_arrows_choose_where_to_begin(rigs):
    chart = rigs.chart
    spot = QPoint(round(chart.view.x(chart.size - 60.0)), round(chart.view.height) - 20)
    QTest.mouseClick(chart.plot, Qt.MouseButton.LeftButton, pos=spot)
    assert abs(chart.start - (chart.size - 60)) <= 1
    start = chart.start
    chart.plot.setFocus()
    QTest.keyClick(chart.plot, KEY.Key_Left)
    assert chart.start == start - 1
    QTest.keyClick(chart.plot, KEY.Key_Right, Qt.KeyboardModifier.ShiftModifier)
    assert chart.start == start + 9
    QTest.keyClick(chart.plot, KEY.Key_S)
    assert chart._trials[0].side == -1
    assert "short" in rigs.fan_title.text() or rigs._later.isActive()


def test_the_policy_s_verdict_at_the_bar_is_said(rigs, trader):
    """The filters of the demo's policy: at some bars they are open, at others one is closed."""
    trader.qtbot.waitUntil(lambda: rigs._filters is not None)
    shut = rigs._filters.shut
    assert shut.shape == (rigs.chart.size, 2)
    for closed, told in ((False, "No filter would keep it out"), (True, "would keep it out")):
        bars = [bar for bar in range(100, rigs.chart.size - 1) if bool(shut[bar + 1, 0]) == closed]
        rigs.chart.choose(bars[-1])
        assert told in rigs.results[0].text()
        if closed:
            name = rigs._filters.names[shut[bars[-1] + 1, 0] - 1]
            assert f"The filter '{name}' would keep it out" in rigs.results[0].text()


def test_the_verdict_on_an_entry_is_that_of_the_rehearsal():
    """Also where the spread is set against the R of the entry, where bars have no spread, and where
    a rig decides on bars of its own, which enters later."""
    said = set()
    for seed in range(40):
        draw = Random(seed)
        bars, _, instrument = history(draw, 400)
        bars = bars._replace(spread=np.where(bars.time % 7 == 0, np.nan, bars.spread))
        account = an_account(draw)
        rig = msgspec.structs.replace(
            a_rig(draw), direction="both", reverse=False, follow_on=None, from_=None, to=None
        )
        joined = None
        if seed % 3 == 0:
            rig = msgspec.structs.replace(rig, timeframe="5m")
            joined = joined_to(bars, timeframe("5m"))
        hours = WeeklySession(EVERY_DAY, "10:00", "14:00", "Europe/Zurich")
        guard = (
            SpreadGuard(name="calm", max_ticks=draw.choice([None, 2.0]), max_percent_of_r=10.0),
            SessionGuard(name="by day", hours=(hours,)),
        )
        guards = Guards(guard=tuple(draw.sample(guard, 2)))
        filters = filters_over(guards, (), instrument, bars, {}, account)
        trial = Trial(bars, instrument, account, rig)
        for start, side in ((59, 1), (119, -1), (199, 1), (299, -1)):
            shown = trial.one(start, side)
            if isinstance(shown, str):
                continue
            calls = np.zeros(400, np.int8)
            calls[start if joined is None else shown.first - 1] = side
            right = Rehearsal(
                bars,
                SignalColumns(calls, np.zeros(400, np.int8)),
                instrument,
                account,
                rig,
                HistoryPolicy(guards),
                joined,
            ).run(0)
            verdict = filters.verdict(shown)
            said.add(verdict)
            assert ("No filter" in verdict) == bool(right.trades), (seed, start, verdict)
    assert said == {
        "No filter would keep it out",
        "The filter 'calm' would keep it out",
        "The filter 'by day' would keep it out",
    }


def test_what_was_said_of_bars_that_are_no_longer_shown_is_not_said_of_others(rigs, trader):
    trader.qtbot.waitUntil(lambda: rigs._filters is not None)
    late = rigs._filters._replace(bars=rigs._filters.bars.last(50))
    rigs._filters = None
    rigs._judged(late)
    assert rigs._filters is None


def test_the_trial_goes_on_with_each_bar_that_completes(rigs, trader):
    size, chosen = rigs.chart.size, rigs.chart.start
    time = int(rigs.chart._pyramid.bars.time[chosen])
    trader.window.runtime.pace(speed=600.0)
    trader.qtbot.waitUntil(lambda: rigs.chart.size > size, timeout=30_000)
    trader.window.runtime.pace(speed=1.0)
    assert int(rigs.chart._pyramid.bars.time[rigs.chart.start]) == time
    assert rigs.results[0].text()


def test_the_bar_that_was_chosen_stays_chosen_when_the_history_moves_on(rigs):
    instrument, bars, span = rigs._of
    rigs.chart.choose(100)
    time = bars.time[100]
    rigs.show_history(instrument, span, bars.last(bars.time.size - 30))
    assert rigs.chart.start == 70
    assert rigs._of[1].time[70] == time


def test_two_rigs_side_by_side(rigs, trader):
    pick(rigs, "Slow warp")
    rigs.beside.setFocus()
    search(rigs.beside, "Soft")
    trader.qtbot.waitUntil(lambda: rigs.fan.other is not None)
    assert rigs.results[1].text().startswith("Soft landing: ")
    assert rigs.chart._trials[1] is not None
    own = rigs.beside.findText("Slow warp")
    assert not rigs.beside.model().item(own).isEnabled()  # a rig is not laid beside itself
    search(rigs.beside, "Slow")
    assert rigs.beside.currentText() != "Slow warp"
    pick(rigs, "Even keel")
    assert rigs.beside.model().item(own).isEnabled()


def test_a_rig_is_copied_renamed_deleted_and_brought_back(rigs):
    pick(rigs, "Even keel")
    rigs.duplicate()
    assert rigs.name == "Even keel copy"
    write(rigs.title, "Keel two")
    QTest.keyClick(rigs.title, KEY.Key_Return)
    assert "Keel two" in rigs.shelf.all
    assert "Even keel copy" not in rigs.shelf.all
    rigs.list.setFocus()
    QTest.keyClick(rigs.list, KEY.Key_Delete)
    assert "Keel two" not in rigs.shelf.all
    assert not list(rigs.shelf.folder.glob("*two*"))
    rigs.undo()
    assert rigs.shelf.all["Keel two"].target == rigs.shelf.all["Even keel"].target


def test_a_name_that_is_taken_is_refused(rigs, trader):
    pick(rigs, "Even keel")
    write(rigs.title, "Slow warp")
    QTest.keyClick(rigs.title, KEY.Key_Return)
    assert rigs.title.text() == "Even keel"
    assert "already" in trader.window.notice.text.text()


def test_a_name_or_a_note_that_is_too_long_is_refused_and_a_copy_of_a_long_name_fits(rigs, trader):
    pick(rigs, "Even keel")
    write(rigs.title, "N" * 121)
    QTest.keyClick(rigs.title, KEY.Key_Return)
    assert rigs.title.text() == "Even keel"
    assert "at most 120 signs" in trader.window.notice.text.text()
    write(rigs.title, "N" * 120)
    QTest.keyClick(rigs.title, KEY.Key_Return)
    assert rigs.name == "N" * 120
    rigs.duplicate()
    assert rigs.name == "N" * 118 + " 2"
    write(rigs.note, "o" * 5_000)
    rigs.write_down()
    assert rigs.shelf.all[rigs.name].note == "o" * 4_000


def test_a_rig_goes_to_a_file_and_comes_back(rigs, tmp_path, trader):
    pick(rigs, "Soft landing")
    rigs.export_to(tmp_path / "soft.toml")
    rigs.import_from(tmp_path / "soft.toml")
    assert rigs.name == "Soft landing 2"
    assert rigs.shelf.all["Soft landing 2"].trail == rigs.shelf.all["Soft landing"].trail
    (tmp_path / "bad.toml").write_text("[stop]\natr = 2\n[trial]\natr = 3\n")
    count = len(rigs.shelf.all)
    rigs.import_from(tmp_path / "bad.toml")
    assert "nearest known one is trail" in trader.window.notice.text.text()
    assert len(rigs.shelf.all) == count
    odd = tmp_path / "no\x07name.toml"  # a rig without a name has the file's
    odd.write_text("[stop]\natr = 2\n")
    rigs.import_from(odd)
    assert "name: expected one line" in trader.window.notice.text.text()
    assert len(rigs.shelf.all) == count


def test_texts_that_do_not_fit_are_left_out(rigs, trader):
    """The settings may be of before, or damaged: the station did not open any more."""
    good = RigDraft(rigs.shelf.all["Slow warp"]).texts
    for damaged in (
        {},
        good | {"weft": []},
        good | {"trail": [{"weft": "3"}]},
        good | {"general": []},
    ):
        rigs.take_unfinished({"Slow warp": damaged, "Nobody's": good})
        assert "Slow warp" not in rigs.drafts
    rigs.take_unfinished({"Slow warp": good})
    assert rigs.drafts["Slow warp"].made is not None


def test_what_is_typed_and_makes_no_rig_yet_is_there_after_a_restart(rigs, trader):
    pick(rigs, "Slow warp")
    write(rigs.editor.field("trail", 0, "what"), "3 furlongs")
    trader.window.remember()
    kept = trader.window._settings.kept.unfinished_rigs
    assert kept["Slow warp"]["trail"][0]["what"] == "3 furlongs"
    rigs.drafts.clear()
    rigs.take_unfinished(kept)
    pick(rigs, "Slow warp")
    assert rigs.editor.field("trail", 0, "what").text() == "3 furlongs"


def test_a_rig_that_is_not_complete_is_not_used_as_it_was_before(rigs, trader):
    pick(rigs, "Slow warp")
    wanted, said = [], []
    rigs.wanted.connect(wanted.append)
    rigs.told.connect(said.append)
    write(rigs.editor.field("trail", 0, "what"), "3 furlongs")
    trader.click(rigs.use_button)
    assert not wanted and "not complete" in said[0]
    rigs.editor.undo()
    while rigs.drafts["Slow warp"].made is None:
        rigs.editor.undo()
    trader.click(rigs.use_button)
    assert [one.name for one in wanted] == ["Slow warp"]


def test_the_list_says_of_each_rig_what_it_is_also_where_another_is_picked_at_once(rigs):
    """The sentence of the one that was edited stood beside the name of the other."""

    def says(name):
        texts = [rigs.list.item(row).text() for row in range(rigs.list.count())]
        return next(text for text in texts if text.startswith(name))

    pick(rigs, "Even keel")
    other, before = says("Slow warp"), says("Even keel")
    write(rigs.editor.field("break_even", 0, "offset_ticks"), "77")
    pick(rigs, "Slow warp")
    assert says("Slow warp") == other
    assert says("Even keel") == before.partition("\n")[0] + "\n" + brief(
        rigs.shelf.all["Even keel"]
    )


def test_every_blank_can_be_reached_and_says_what_it_is(rigs):
    for section in rigs.editor.draft.sections.values():
        if not rigs.editor.draft.texts[section.key]:
            rigs.editor.parts[section.key].added.emit(section.key)
        for field in rigs.editor.parts[section.key].fields.values():
            assert isinstance(field, QLineEdit | QComboBox)
            assert field.accessibleName().startswith(section.title)
            assert field.toolTip()


# On the Helm


def test_a_rig_is_planned_with_placed_and_tends_the_trade(trader):
    window = trader.window
    window.helm.choose_instrument("NZD/SEK")
    trader.until(lambda s: window.helm.symbol == "NZD/SEK")
    plan = window.helm.plan
    plan.rig.setFocus()
    plan.rig.setCurrentText("Slow warp")
    plan.rig.activated.emit(plan.rig.currentIndex())
    assert plan.field("target1").text() == "1 R"
    assert plan.planning.plan.rig.name == "Slow warp"
    assert plan.planning.plan.trail.after == After(r=1.0)
    trader.qtbot.waitUntil(plan.button.isEnabled)
    trader.click(plan.button)
    shot = trader.until(
        lambda s: any(t.symbol == "NZD/SEK" and t.covered and t.open_steps for t in s.trades)
    )
    trade = next(t for t in shot.trades if t.symbol == "NZD/SEK" and t.open_steps)
    assert (trade.rig, trade.state) == ("Slow warp", states.PROTECTED)
    trader.qtbot.waitUntil(
        lambda: window.helm.chart._focus is not None and bool(window.helm.chart._focus.waits)
    )
    assert any("break-even to" in text for _, text in window.helm.chart._focus.waits)


def test_an_edited_rig_is_put_on_the_trade_that_has_it(trader):
    window = trader.window
    trade = next(t for t in window.latest.trades if t.symbol == "CAD/CHF" and t.open_steps)
    rig = window.helm.rigs["Even keel"]
    actions = [one for one in window.helm.trade_actions() if "Even keel" in one.text and one.menu]
    assert actions
    window.helm.choose_trade(trade.id)
    one = next(
        one for one in window.helm.trade_actions() if one.text.startswith("Tend by \u2018Even keel")
    )
    window.helm.carry_out(one)
    trader.until(lambda s: s.trade(trade.id).rig == "Even keel")
    window.show_station(RIGS)
    pick(window.rigs, "Even keel")
    trader.qtbot.waitUntil(lambda: "1 open trade" in window.rigs.use_button.text())
    write(window.rigs.editor.field("break_even", 0, "offset_ticks"), "7")
    trader.click(window.rigs.use_button)
    trader.until(lambda s: s.trade(trade.id).plan.rig.break_even.offset_ticks == 7)
    assert rig.break_even.offset_ticks == 0


def test_a_plan_whose_rig_is_gone_says_so_and_places_nothing(trader):
    plan = trader.window.helm.plan
    trader.window.helm.choose_trade("")
    plan.take_rig(trader.window.helm.rigs["Bar by bar"])
    trader.window.rigs.show_one("Bar by bar")
    trader.window.rigs.delete()
    assert "no rig named Bar by bar" in plan._rig_told.text()
    assert plan.planning.plan is None


# Without a window


@pytest.mark.parametrize("seed", range(60))
def test_every_rig_comes_back_from_its_sentences_and_from_its_file(seed, tmp_path):
    rig = msgspec.structs.replace(a_rig(Random(seed)), name="any", note="a rig")
    draft = RigDraft(rig)
    assert draft.made == rig
    save_rig(rig, tmp_path / "rig.toml")
    assert load_rig(tmp_path / "rig.toml") == rig


def test_a_ladder_takes_the_stop_s_place_and_gives_it_back():
    draft = RigDraft(Rig(name="x", stop=StopRule(atr=2.0)))
    assert draft.add("ladder")
    assert (draft.made.stop, draft.made.ladder.rungs) == (None, 4)
    draft.remove("ladder", 0)
    assert draft.made.stop is not None
    rungs = Rig(ladder=Ladder(3, Measure(ticks=10.0), 15.0, 10.0, 2.0))
    assert RigDraft(rungs).made == rungs


@pytest.mark.parametrize(
    ("targets", "waits_for", "said"),
    [
        (1, 3, "But that never comes: the rig has 1 target."),
        (0, 1, "But that never comes: the rig has no target."),
        (2, 2, ""),
        (2, None, ""),
    ],
)
def test_a_rule_that_waits_for_a_target_the_rig_has_not_says_that_it_never_comes(
    targets, waits_for, said
):
    rule = After(target=waits_for)
    made = Rig(
        name="x",
        stop=StopRule(atr=2.0),
        target=(TargetRule(share=0.3, r=1.0),) * targets,
        break_even=BreakEven(rule),
        trail=Trail(atr=3.0, after=rule),
    )
    assert sentence(made).count("never comes") == (2 if said else 0)
    assert said in sentence(made)


def test_rigs_that_cannot_be_laid_are_there_all_the_same_and_are_laid_later(tmp_path, monkeypatch):
    """A shelf with some of them once stayed so; on a full disk no window opened."""
    with monkeypatch.context() as patch:

        def full(*_: object) -> None:
            raise OSError(errno.ENOSPC, "No space left on device")

        patch.setattr("hawser.formats.atomic.os.fsync", full)
        shelf = RigShelf(tmp_path / "rigs")
        assert set(shelf.all) == {rig.name for rig in shipped()}
        assert "No space left on device" in shelf.faults[0]
        assert not (tmp_path / "rigs").exists()
    again = RigShelf(tmp_path / "rigs")
    assert not again.faults
    assert {path.stem for path in (tmp_path / "rigs").glob("*.toml")} == {
        plain(name) for name in again.all
    }
    again.drop("Slow warp")
    assert not (tmp_path / "rigs" / "slow-warp.toml").exists()


def test_at_most_so_many_of_each():
    draft = RigDraft(Rig(name="x", stop=StopRule(atr=2.0)))
    assert sum(draft.add("target") for _ in range(9)) == 5
    assert draft.made is None  # five times 50 %
    assert sum(draft.add("step") for _ in range(20)) == 10


def test_the_shelf_keeps_files_and_tells_of_those_it_cannot_read(tmp_path):
    folder = tmp_path / "rigs"
    shelf = RigShelf(folder)
    assert set(shelf.all) == {rig.name for rig in shipped()}
    assert folder.stat().st_mode & 0o077 == 0
    shelf.put(Rig(name="Mine", stop=StopRule(ticks=5.0)))
    (folder / "broken.toml").write_text("[stop\n")
    shelf.drop("Slow warp")
    again = RigShelf(folder)
    assert "Mine" in again.all
    assert "Slow warp" not in again.all  # what was deleted does not come back by itself
    assert len(again.faults) == 1
    assert "broken.toml" in again.faults[0]
    with pytest.raises(BadInput):
        shelf.put(Rig(stop=StopRule(ticks=5.0)))


def test_a_trial_is_the_rehearsal_of_that_one_signal():
    for seed in range(12):
        draw = Random(seed)
        bars, _, instrument = history(draw, 400)
        account = an_account(draw)
        rig = a_rig(draw)
        rig = msgspec.structs.replace(
            rig, direction="both", reverse=False, follow_on=None, from_=None, to=None
        )
        trial = Trial(bars, instrument, account, rig)
        for start, side in ((60, 1), (200, -1)):
            calls = np.zeros(400, np.int8)
            calls[start] = side
            right = (
                Rehearsal(
                    bars, SignalColumns(calls, np.zeros(400, np.int8)), instrument, account, rig
                )
                .run(0)
                .trades
            )
            shown = trial.one(start, side)
            if not right:
                assert isinstance(shown, str)
                continue
            assert isinstance(shown, TrialResult)
            assert (shown.first, shown.last, shown.stop) == (
                right[0].first,
                right[0].last,
                right[0].stop,
            )
            assert shown.result == pytest.approx(right[0].net / right[0].planned_risk)
        fan = trial.fan(1, 100, 3)
        assert fan.results.size + fan.none + fan.running == 100
        assert sum(one.share for one in fan.ended) == pytest.approx(
            1.0 if fan.results.size else 0.0
        )
        again = trial.fan(1, 100, 3)
        assert np.array_equal(again.results, fan.results)


def test_a_trial_without_an_entry_says_why():
    bars, _, instrument = history(Random(1), 100)
    account = an_account(Random(1))
    trial = Trial(bars, instrument, account, Rig(stop=StopRule(atr=2.0), break_even=BreakEven()))
    assert "more completed bars are needed" in str(trial.one(3, 1))
    assert "nothing to trade" in str(trial.one(99, 1))


def test_a_ladder_says_what_does_not_go_with_it_and_its_trial_shows_the_rungs(trader):
    trader.window.show_station(RIGS)
    rigs = trader.window.rigs
    rigs.list.setCurrentRow(sorted(rigs.shelf.all).index("Three rungs"))
    trader.frames()
    parts = rigs.editor.parts
    assert [
        parts[key].add_button.isVisible() for key in ("target", "trail", "loss_step", "break_even")
    ] == [
        False,
        False,
        False,
        True,
    ]
    assert "ladder" in parts["trail"]._none.text()
    trial = rigs._trial(rigs.shelf.all["Three rungs"])
    shown = [trial.one(start, 1) for start in range(200, 600, 20)]
    with_rungs = [one for one in shown if not isinstance(one, str) and one.rungs]
    assert with_rungs
    assert with_rungs[0].rungs[0].why == "rung_2"
    assert with_rungs[0].rungs[0].price < with_rungs[0].ref
    parts["ladder"].removed.emit("ladder", 0)
    assert parts["trail"].add_button.isVisible()


def test_the_station_has_its_rigs_however_early_it_is_opened(qapp, tmp_path, morning):
    """Keys that were typed while the window came: no rig was there, and what is typed was lost."""
    shutil.copytree(morning, tmp_path, dirs_exist_ok=True)
    window = make_window(profile("demo", tmp_path), boot, "early")
    window.show_station(RIGS)
    assert set(window.rigs.shelf.all) == {rig.name for rig in shipped()}
    assert window.rigs.list.count() == len(window.rigs.shelf.all)
    window.close()
    window.deleteLater()


def test_a_shelf_may_be_read_in_pieces_and_by_who_cannot_wait(tmp_path):
    pieces = RigShelf(tmp_path / "rigs").reading()
    next(pieces)
    shelf = RigShelf(tmp_path / "other")
    part = shelf.reading()
    next(part)
    assert set(shelf.all) == {rig.name for rig in shipped()}  # all of them, at once
    assert list(part) == []
    assert len(list((tmp_path / "other").glob("*.toml"))) == len(shelf.all)
    assert not (tmp_path / "rigs").exists()  # not before all are there
