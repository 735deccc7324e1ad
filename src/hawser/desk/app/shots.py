"""`make shots`: every picture of docs/screenshots anew, offscreen, from made-up data, the same each
time."""

from __future__ import annotations

import os
import sys
import tempfile
from collections.abc import Callable
from functools import partial
from pathlib import Path

os.environ["QT_QPA_PLATFORM"] = "offscreen"

from PyQt6.QtCore import QEventLoop, Qt, QTimer

from hawser.core.account import Account
from hawser.core.clock import MINUTE, SECOND
from hawser.core.entry import HeldRule
from hawser.demo import world
from hawser.demo.boot import boot as demo_boot
from hawser.demo.boot import boot_beside
from hawser.desk.app.start import application, make_window
from hawser.desk.app.stations import GUARDS, HELM, LOGBOOK, RIGS, SIGNALS
from hawser.desk.app.welcome import Keeping, WelcomePage
from hawser.desk.app.window import Window
from hawser.desk.common.appearance import Appearance
from hawser.desk.common.explained import topic
from hawser.engine.events import HoldLines
from hawser.formats.declared import load
from hawser.service.profiles.own_files import keep_account, keep_history
from hawser.service.profiles.profile import Profile, profile
from hawser.service.profiles.recipes import Recipes
from hawser.service.runtime.hooks import Boot
from hawser.service.runtime.opening_history import Inputs, boot
from hawser.service.runtime.session import Session

SIZE = (1280, 800)
EXAMPLES = Path(__file__).parents[4] / "examples"


def settle(window: Window, until: Callable[[], bool], most_ms: int = 60_000) -> None:
    """Run the event loop until `until` holds and a few frames more have been shown."""
    loop, left = QEventLoop(), [6]

    def look() -> None:
        if until():
            left[0] -= 1
            if not left[0]:
                loop.quit()

    timer = QTimer()
    timer.timeout.connect(look)
    timer.start(60)
    QTimer.singleShot(most_ms, loop.quit)
    loop.exec()
    if left[0]:
        raise SystemExit(
            f"shots: the window was not ready in {most_ms / 1000:.0f} s: {window.banner.text()}"
        )


def step(window: Window, seconds: int) -> None:
    """Let so much of the venue's time pass, and no more: the picture is the same each time."""
    settle(window, lambda: True)  # what was asked is on its way
    for _ in range(20 * seconds):
        for account_desk in window.account_desks:
            account_desk.runtime.clock.at_least(account_desk.runtime.clock.now() + SECOND // 20)
        loop = QEventLoop()
        QTimer.singleShot(25, loop.quit)
        loop.exec()


def has_bars(window: Window) -> bool:
    return (
        window.latest is not None
        and window.helm.chart.scale.focus is not None
        and window.latest.link_up
    )


def take(window: Window, folder: Path, name: str) -> None:
    window.curtain.open()  # what still waits for its turn would be missing
    window.grab().save(str(folder / f"{name}.png"))
    print(f"{name}.png")


def opened(root: Path, name: str, make: Callable[[Profile], Boot], title: str) -> Window:
    """A window whose clock stands still at the moment its world opens."""
    window = make_window(
        profile(name, root), make, title, running=False, zone=world.ZONE, theme="paper"
    )
    window.resize(*SIZE)
    window.show()
    window.runtime.start()
    settle(window, lambda: has_bars(window))
    return window


def demo_pictures(root: Path, folder: Path) -> None:
    window = opened(root, "demo", demo_boot, "demo")
    take(window, folder, "helm-paper")
    field = window.helm.plan.field("stop")
    window.help.show(topic("stop"), field)
    settle(window, lambda: True)
    take(window, folder, "help-paper")
    window.help.panel.put_away()
    window.appearance.set_theme("night")
    settle(window, lambda: True)
    take(window, folder, "helm-night")
    window.helm.choose_instrument("NZD/SEK")
    settle(window, lambda: has_bars(window) and window.helm.symbol == "NZD/SEK")
    typed = window.helm.plan.planning.draft
    window.helm.plan.take_rig(window.helm.plan.planning.rigs["Three rungs"])
    settle(window, lambda: True)
    take(window, folder, "ladder-night")
    window.helm.plan.take(typed)
    window.appearance.set_theme("paper")
    sizing_pictures(window, folder)
    order_pictures(window, folder)
    signal_pictures(window, folder)
    rig_pictures(window, folder)
    guard_pictures(window, folder)
    window.show_station(LOGBOOK)
    settle(window, lambda: True)
    take(window, folder, "logbook-paper")
    window.show_station(HELM)
    window.helm.choose_instrument("CAD/CHF")
    window.flatten()
    window.runtime.clock.set(speed=20, running=True)
    settle(
        window,
        lambda: window.latest is not None and window.latest.halted and not window.latest.heat,
    )
    window.runtime.clock.set(running=False)
    settle(window, lambda: True)
    take(window, folder, "halted-paper")
    window.close()


def guard_pictures(window: Window, folder: Path) -> None:
    """The Guards station in both themes, by night with a switch that has latched."""
    window.show_station(GUARDS)
    station = window.account_desk.guards
    settle(window, lambda: station.picture is not None and bool(station.filters.rows))
    take(window, folder, "guards-paper")
    station.edit_guard("Day loss")
    settle(window, lambda: True)
    take(window, folder, "guard-form-paper")
    form = next(one for one in station.forms.forms.values() if one.isVisible())
    form.hide()
    station.drill("Losing streak", "")
    settle(window, station.switches.rows["Losing streak", ""].rearm_button.isVisible)
    window.appearance.set_theme("night")
    settle(window, lambda: True)
    take(window, folder, "guards-night")
    window.appearance.set_theme("paper")
    station.ask_reason("Losing streak", "")
    station.reason.setText("it was a drill")
    station.confirm.click()
    settle(window, lambda: window.latest is not None and not window.latest.closed)


def rig_pictures(window: Window, folder: Path) -> None:
    """The Rigs station by day."""
    window.helm.choose_instrument("CAD/CHF")
    settle(window, lambda: has_bars(window) and window.helm.symbol == "CAD/CHF")
    window.show_station(RIGS)
    rigs = window.rigs
    rigs.list.setCurrentRow(sorted(rigs.shelf.all).index("Slow warp"))
    settle(window, lambda: rigs.fan.fan is not None)
    take(window, folder, "rigs-paper")
    window.show_station(HELM)


def signal_pictures(window: Window, folder: Path) -> None:
    """The Signals station by day, and by night lines and a source over the Helm's bars."""
    window.helm.choose_instrument("CAD/CHF")
    settle(window, lambda: has_bars(window) and window.helm.symbol == "CAD/CHF")
    window.show_station(SIGNALS)
    station, chart = window.signals, window.helm.chart
    station.list.setCurrentRow(sorted(station.shelf.all).index("Quiet channel"))
    settle(window, lambda: bool(station.followed.horizons) and station.chart.size > 0)
    station.chart.key(Qt.Key.Key_P, shift=False)
    settle(window, lambda: True)
    take(window, folder, "signals-paper")
    window.show_station(HELM)
    window.appearance.set_theme("night")
    lines = window.helm.lines
    assert lines is not None
    lines.open()
    form = lines.panel.form
    for kind in ("ema", "rsi"):
        form.draft.add("lines")
        row = len(form.draft.texts["lines"]) - 1
        form.draft.change(("lines", row, "a"), kind)
    form.draft.change(("source", 0, "source"), "Spring tide")
    form.show_draft(form.draft)
    form.changed.emit()
    lines.panel.hide()
    settle(window, lambda: bool(chart.over.strips.shown))
    take(window, folder, "lines-night")
    while form.draft.undo():
        pass
    form.show_draft(form.draft)
    form.changed.emit()
    settle(window, lambda: not chart.over.strips.shown)
    window.appearance.set_theme("paper")


def sizing_pictures(window: Window, folder: Path) -> None:
    """Across with the what-if curve."""
    window.helm.strips.show_page(1)
    window.helm.plan.show_page(1)
    settle(window, lambda: True)
    take(window, folder, "across-paper")
    window.helm.strips.show_page(0)
    window.helm.plan.show_page(0)
    window.helm.whole.setSizes([516, 164])


def order_pictures(window: Window, folder: Path) -> None:
    """A straddle that waits and held lines, and the Quay panel, by night."""
    helm = window.helm
    helm.choose_instrument("NZD/SEK")
    settle(window, lambda: has_bars(window) and helm.symbol == "NZD/SEK")
    helm.plan_straddle()
    settle(window, lambda: True)
    helm.place()
    held = (
        next(trade for trade in window.latest.trades if trade.symbol == "CAD/CHF")
        if window.latest
        else None
    )
    if held is not None:
        window.runtime.ask(
            lambda now, ask_id: HoldLines(time=now, ask_id=ask_id, trade=held.id, held=HeldRule())
        )
    step(window, 3)
    settle(
        window,
        lambda: (
            window.latest is not None and sum(trade.pending for trade in window.latest.trades) == 2
        ),
    )
    helm.choose_instrument("CAD/CHF")
    settle(window, lambda: has_bars(window) and helm.symbol == "CAD/CHF")
    helm.whole.setSizes([400, 300])
    window.appearance.set_theme("night")
    settle(window, lambda: True)
    take(window, folder, "orders-night")
    window.simulation.show_panel()
    settle(window, lambda: True)
    take(window, folder, "quay-night")
    window.simulation.panel.hide()
    window.appearance.set_theme("paper")
    helm.whole.setSizes([516, 164])


def account_pictures(root: Path, folder: Path) -> None:
    """Two accounts side by side, one plan placed on both, in both themes."""
    second = load(Account, EXAMPLES / "second-account.toml")
    more = ((second.name, profile("demo-second", root), partial(boot_beside, second)),)
    window = make_window(
        profile("demo", root),
        demo_boot,
        "demo",
        running=False,
        zone=world.ZONE,
        theme="paper",
        more=more,
        name=world.ACCOUNT.name,
    )
    window.resize(*SIZE)
    window.show()
    for account_desk in window.account_desks:
        account_desk.runtime.start()
    settle(
        window,
        lambda: (
            has_bars(window)
            and all(one.latest is not None and one.latest.link_up for one in window.account_desks)
        ),
    )
    helm = window.helm
    helm.choose_instrument("NZD/SEK")
    settle(window, lambda: has_bars(window) and helm.symbol == "NZD/SEK")
    helm.choose_trade("")
    helm.plan.also.boxes[second.name].setChecked(True)
    helm.place()
    step(window, 3)
    settle(
        window,
        lambda: all(one.latest is not None and one.latest.heat > 0 for one in window.account_desks),
    )
    settle(window, lambda: True)
    take(window, folder, "accounts-paper")
    window.close()


def own_data_picture(root: Path, folder: Path) -> None:
    bars, instrument, account = (
        EXAMPLES / name for name in ("quillan-ferry-5m.csv", "quillan-ferry.toml", "account.toml")
    )
    inputs = Inputs(bars, instrument, account)

    def make(where: Profile) -> Boot:
        return boot(inputs, where)._replace(prefix="own", prepare=play_own)

    window = opened(root, "own", make, bars.name)
    take(window, folder, "own-data-paper")
    window.close()


def play_own(session: Session) -> None:
    """Trade a little on the example, in simulated time."""
    from hawser.engine.events import PlaceTrade

    start = session.venue.now
    for number, (minutes, plan) in enumerate(world.OWN_PLANS):
        session.run_until(start + minutes * MINUTE)
        session.ask(PlaceTrade(time=session.venue.now, ask_id=f"own-{number}", plan=plan))
    session.run_until(start + world.OWN_MINUTES * MINUTE)


EXPORT = """Datum;Zeit;Open;High;Low;Close;Volume;Spread
04.03.2031;08:00;0,64012;0,64038;0,64001;0,64020;812;9
04.03.2031;08:15;0,64020;0,64051;0,64016;0,64047;640;9
04.03.2031;08:30;0,64047;0,64049;0,64022;0,64025;731;10
04.03.2031;08:45;0,64025;0,64030;0,63990;0,63994;905;9
13.03.2031;09:00;0,63994;0,64007;0,63981;0,64003;702;9
13.03.2031;09:15;0,64003;0,64036;0,64000;0,64031;655;9
13.03.2031;09:30;0,64031;0,64033;0,64011;0,64018;587;9
13.03.2031;09:45;0,64018;0,64024;0,63995;0,63999;618;11
"""


def first_pictures(root: Path, folder: Path) -> None:
    """The first start, and a file of another program as it will be read."""
    keep = partial(keep_history, root), partial(keep_account, root)
    keeping = Keeping(*keep, Recipes(root / "recipes"))
    first = WelcomePage(Appearance("paper"), keeping)
    first.show()
    first.grab().save(str(folder / "first-paper.png"))
    file = root / "CADCHF export.csv"
    file.write_text(EXPORT)
    read = WelcomePage(Appearance("night"), keeping)
    read.show_files([file])
    read.history.zone.setCurrentText("Europe/Zurich")
    read.show()
    read.grab().save(str(folder / "import-night.png"))


def main(folder: Path) -> None:
    app = application()  # held: Qt ends with the last reference
    folder.mkdir(parents=True, exist_ok=True)
    with tempfile.TemporaryDirectory() as root:
        demo_pictures(Path(root), folder)
        own_data_picture(Path(root), folder)
    with tempfile.TemporaryDirectory() as root:
        account_pictures(Path(root), folder)
        first_pictures(Path(root), folder)
    app.quit()


if __name__ == "__main__":
    main(Path(sys.argv[1]))
