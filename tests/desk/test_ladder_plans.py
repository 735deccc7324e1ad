"""A ladder on the Helm: chosen, shown whole before it is placed, its rungs drawn at the venue, and
taken back."""

from keyboard import search
from PyQt6.QtCore import Qt

from hawser.desk.app.stations import RIGS
from hawser.engine.model import transitions as states


def chosen(trader):
    """The ladder, picked from the list of rigs with the keyboard."""
    trader.choose("NZD/SEK")
    trader.plan.rig.setFocus()
    search(trader.plan.rig, "Three")
    trader.key(trader.plan.rig, Qt.Key.Key_Return)
    trader.plan._rig_chosen(trader.plan.rig.currentIndex())
    trader.frames()


def test_the_whole_ladder_is_shown_before_it_is_placed(trader):
    chosen(trader)
    trader.stand_still()
    plan, sizing = trader.plan, trader.plan.planning.sizing
    assert not plan.planning.errors
    assert [rung.number for rung in sizing.rungs] == [1, 2, 3]
    assert not any(plan.field(name).isVisible() for name in ("stop", "target1", "trail"))
    steps = [
        (label.text(), figure.text())
        for label, figure in plan.reckoning._rows
        if not label.isHidden()
    ]
    assert sum("average" in label for label, _ in steps) == 3
    stopped = [figure for label, figure in steps if "stopped then" in label]
    assert len(set(stopped)) == 3
    assert "all 3 rungs" in plan.at_risk.text()
    assert plan.units.text() == f"of {sizing.whole_steps / 100:.2f} units"
    assert "+ 2 rungs" in plan.button.text()
    focus = trader.scale.focus
    assert [level for level, _ in focus.waits] == [rung.level for rung in sizing.rungs[1:]]
    before = plan.planning.draft
    trader.drag_scale(focus.stop, focus.stop - 40)  # the rig's stop is not dragged
    assert plan.planning.draft == before


def test_what_is_typed_with_a_ladder_is_refused_beside_it_and_going_back_keeps_a_plan(trader):
    chosen(trader)
    trader.type("risk", "0.40 units")
    trader.frames()
    assert "only a risk sizes it" in trader.plan.planning.errors["rig"]
    assert not trader.plan.button.isEnabled()
    trader.type("risk", "0.6 %")
    trader.plan.take_rig(None)
    trader.frames()
    assert trader.plan.field("stop").isVisible()
    assert trader.plan.planning.sizing is not None


def test_rungs_rest_are_drawn_and_go_with_the_trade(trader):
    chosen(trader)
    trade = trader.place()
    trader.helm.choose_trade(trade.id)
    trader.frames()
    assert [
        text.split(" at ")[0] for _, text in trader.scale.focus.waits if text.startswith("rung")
    ] == [
        "rung 2",
        "rung 3",
    ]
    assert trader.trade(trade.id).heat > 0.8 * 0.006 * trader.now.equity
    actions = [action.text for action in trader.helm.trade_actions()]
    assert not any("Three rungs" in text for text in actions)  # a ladder is not put on what is open
    trader.window.show_station(RIGS)
    trader.window.rigs.list.setCurrentRow(sorted(trader.plan.planning.rigs).index("Three rungs"))
    assert trader.window.rigs.use_button.text() == "Plan with this rig"
    trader.window.flatten()
    trader.until(lambda s: all(one.state == states.ENDED for one in s.trades if one.id == trade.id))
    trader.until(lambda s: s.heat == 0)
