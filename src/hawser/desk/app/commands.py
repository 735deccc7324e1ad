"""Everything the window can do, as the command finder lists it: each with its keys, for people to
learn."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial

from hawser.core.clock import timeframe_name
from hawser.core.rig import Rig
from hawser.desk.app.finder import Action
from hawser.desk.app.stations import HELM, STATIONS
from hawser.desk.app.window import Window

MOST_PAGES = 8  # of the help, behind what can be done


class Commands:
    """The commands of one window, made anew each time they are asked for: they follow what there
    is."""

    def __init__(self, window: Window) -> None:
        self._window = window

    def all(self) -> list[Action]:
        return [
            *self._of_the_plan(),
            *self._of_the_desk(),
            *self._of_stations(),
            *self._of_what_there_is(),
        ]

    def help_for(self, words: str) -> list[Action]:
        """Pages of the help about these words, and the search for more of them."""
        from hawser.desk.models.topics.search import search

        helper = self._window.help
        pages = [
            Action(f"Help: {one.title} ({one.place})", "", partial(helper.show, one.page))
            for one in search(words, MOST_PAGES)
        ]
        more = Action(
            f"Help: search for \u2018{words.strip()}\u2019", "", partial(helper.find, words)
        )
        return [*pages, more] if pages else []

    def _at(self, station: str, act: Callable[[], object]) -> Callable[[], None]:
        """Go to a station and do something there."""

        def run() -> None:
            self._window.show_station(station)
            act()

        return run

    def _of_the_plan(self) -> list[Action]:
        window, helm = self._window, self._window.helm
        return [
            Action("Place the plan", "Ctrl+Enter", window.place),
            Action("Plan: swap long and short", "", helm.flip),
            Action("Plan: what if the stop stood elsewhere", "", partial(helm.plan.show_page, 1)),
            Action("Plan: the reckoning", "", partial(helm.plan.show_page, 0)),
            Action("Type the plan's risk", "", self._at(HELM, partial(self._type, "risk"))),
            Action("Type the plan's stop", "", self._at(HELM, partial(self._type, "stop"))),
            Action("Plan: straddle, both sides of the market", "", helm.plan_straddle),
            Action(
                "Plan: across all instruments",
                "",
                self._at(HELM, partial(helm.strips.show_page, 1)),
            ),
            Action(
                "Lines: choose and nudge on the R scale",
                "Left Right Up Down",
                helm.chart.scale.setFocus,
            ),
            Action("Open trades", "", self._at(HELM, partial(helm.strips.show_page, 0))),
            Action(
                "Marked trades: what can be done with all of them", "M", helm.strips.open_marked
            ),
            Action("Close all trades", "", helm.strips.all_button.click),
            Action("Heat: what each stop would cost", "", window.show_heat),
        ]

    def _of_the_desk(self) -> list[Action]:
        window = self._window
        accounts = (
            [account_desk.name for account_desk in window.account_desks]
            if len(window.account_desks) > 1
            else []
        )
        return [
            *(
                Action(f"Station: {one.name}", one.key, partial(window.show_station, one.name))
                for one in STATIONS
            ),
            *(
                Action(
                    f"Account: show {name}",
                    f"Ctrl+{number + 1}",
                    partial(window.show_account, number),
                )
                for number, name in enumerate(accounts)
            ),
            Action("Account: edit size, costs, policy and caps", "", window.edit_account),
            Action("Instrument: edit, import or export its file", "", window.edit_instrument),
            Action("Theme: swap Paper and Night watch", "", window.swap_theme),
            Action("First steps: to a protected trade", "", window.first_steps.begin),
            Action("Help: contents", "F1", partial(window.help.show, None)),
            Action("Doctor: what is wrong here, if anything", "", window.show_doctor),
            *window.simulation.actions(),
            Action("Quit Hawser", "Ctrl+Q", window.close),
        ]

    def _of_stations(self) -> list[Action]:
        """Plans with rigs, and what the stations offer themselves."""
        window = self._window
        rigs, account = sorted(window.shelf.all.items()), window.account_desk.name
        offered = [(one.name, window.stack.view(one.name, account).actions()) for one in STATIONS]
        return [
            *(
                Action(f"Plan with rig {name}", "", self._at(HELM, partial(self._plan_with, rig)))
                for name, rig in rigs
            ),
            *(
                Action(text, "", self._at(name, act))
                for name, actions in offered
                for text, act in actions
            ),
        ]

    def _of_what_there_is(self) -> list[Action]:
        """Plans, open trades, instruments, timeframes."""
        helm, latest = self._window.helm, self._window.latest
        symbols = (
            [view.instrument.symbol for view in latest.instruments] if latest is not None else []
        )
        trades = (
            [trade for trade in latest.trades if trade.open_steps] if latest is not None else []
        )
        buttons = helm.chart.span_buttons
        spans = [
            (timeframe_name(span), span)
            for span, button in buttons.items()
            if not button.isHidden()
        ]
        plans = helm.plan.names
        return [
            *(Action(f"Plan: take {name}", "", partial(plans.take, name)) for name in plans.plans),
            *(Action(one.text, "", partial(helm.carry_out, one)) for one in helm.trade_actions()),
            *(
                Action(
                    f"Instrument: {one}", "", self._at(HELM, partial(helm.choose_instrument, one))
                )
                for one in symbols
            ),
            *(
                Action(f"Trade: show {t.symbol} {t.id}", "", partial(helm.choose_trade, t.id))
                for t in trades
            ),
            *(
                Action(f"Timeframe: {name}", "", partial(helm.choose_span, span))
                for name, span in spans
            ),
        ]

    def _type(self, name: str) -> None:
        field = self._window.helm.plan.field(name)
        field.setFocus()
        field.selectAll()

    def _plan_with(self, rig: Rig) -> None:
        self._window.helm.choose_trade("")
        self._window.helm.plan.take_rig(rig)
