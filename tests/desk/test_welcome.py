"""What a bare `hawser` shows where nothing was opened before, driven by keys and by the mouse."""

from __future__ import annotations

import gzip
import subprocess
import sys
from argparse import Namespace
from concurrent.futures import ThreadPoolExecutor
from contextlib import suppress
from datetime import datetime, timedelta
from functools import partial
from pathlib import Path

import msgspec
import numpy as np
import pyarrow as pa
import pyarrow.parquet
import pytest
from PyQt6.QtCore import QMimeData, QPointF, Qt, QUrl
from PyQt6.QtGui import QDropEvent
from PyQt6.QtWidgets import QDialog

from hawser.commands import desktop
from hawser.core.account import Account
from hawser.core.clock import MINUTE
from hawser.core.errors import BadInput
from hawser.core.instrument import Instrument
from hawser.desk.app import start
from hawser.desk.app.welcome import Keeping, WelcomePage
from hawser.desk.common.appearance import Appearance
from hawser.desk.models.own_history import OwnHistory
from hawser.formats.bars import read_bars
from hawser.formats.declared import load, save
from hawser.formats.importing.history import utc_text
from hawser.formats.importing.importing import import_files
from hawser.service.profiles.last_opened import OpenedFiles, last_opened
from hawser.service.profiles.own_files import keep_account, keep_history
from hawser.service.profiles.recipes import Recipes
from hawser.service.runtime.opening_history import Inputs

LINES = [
    f"{1 + k // 10:02}.04.2031;0{k % 10}:00;0,6124{k % 10};0,613;0,612;0,6125" for k in range(40)
]
EXPORT = "\n".join(["Datum;Zeit;Open;High;Low;Close", *LINES]) + "\n"
QUOTES = "\n".join(
    [
        "time,bid,ask",
        *(f"2031-04-01T08:0{k // 6}:{k % 6 * 10:02}Z,{100 + k},{101 + k}" for k in range(30)),
    ]
)


HUNG_MS = 300_000  # only what will never come is waited for so long


@pytest.fixture
def window(qtbot, tmp_path):
    return opened(qtbot, tmp_path)


def opened(qtbot, folder: Path) -> WelcomePage:
    keep = partial(keep_history, folder), partial(keep_account, folder)
    made = WelcomePage(Appearance(), Keeping(*keep, Recipes(folder / "recipes")))
    qtbot.addWidget(made)
    made.show()
    qtbot.waitExposed(made)
    return made


def open_it(window: WelcomePage, qtbot) -> None:
    """Press, and once more where something odd is told of the rows."""
    go = window.history.go
    qtbot.mouseClick(go, Qt.MouseButton.LeftButton)
    qtbot.waitUntil(lambda: window.opened is not None or "same" in go.text(), timeout=HUNG_MS)
    if window.opened is None:
        assert window.history.doubts.isVisible()
        qtbot.mouseClick(go, Qt.MouseButton.LeftButton)
        qtbot.waitUntil(lambda: window.opened is not None, timeout=HUNG_MS)


def export(folder: Path, text: str = EXPORT, name: str = "CADCHF export.csv") -> Path:
    path = folder / name
    path.write_text(text)
    return path


def pick(box, value: str) -> None:
    """Choose from a list, as a hand does."""
    box.setCurrentIndex(box.findData(value))
    box.activated.emit(box.currentIndex())


@pytest.mark.parametrize(
    ("name", "symbol", "kind"),
    [
        ("eurusd_2031.csv", "EUR/USD", "fx"),
        ("my NZD-SEK.csv", "NZD/SEK", "fx"),
        ("history.csv", "history", "equity"),  # no pair of HIS and TOR
        ("export.csv.gz", "export", "equity"),
        ("quillan-ferry-5m.csv", "quillan-ferry-5m", "equity"),
    ],
)
def test_what_a_file_is_of_is_guessed_from_its_name_where_it_names_currencies(
    tmp_path, name, symbol, kind
):
    own = OwnHistory()
    path = export(tmp_path, name=name.removesuffix(".gz"))
    if name.endswith(".gz"):
        path = path.rename(tmp_path / "plain")
        (tmp_path / name).write_bytes(gzip.compress(path.read_bytes()))
    own.choose([tmp_path / name])
    assert (own.symbol, own.kind) == (symbol, kind)


def test_what_no_field_asks_for_is_told(window, tmp_path):
    window.show_files([export(tmp_path, QUOTES, "pier.csv")])
    page = window.history
    assert "steps of 1, a margin of 100" in page.meaning.text()
    page.own.take_kind("fx")
    assert "from 0.01 to 100 in steps of 0.01, a margin of 5" in page.own.assumed


def test_the_demo_is_one_key_away(window, qtbot):
    qtbot.keyClick(window.focusWidget() or window, Qt.Key.Key_Return)
    assert window.opened == OpenedFiles(of="demo")
    assert window.result() == QDialog.DialogCode.Accepted


def test_an_account_of_one_s_own_by_keys_alone(window, qtbot):
    qtbot.keyClick(window, Qt.Key.Key_E, Qt.KeyboardModifier.AltModifier)
    page = window.account
    qtbot.waitUntil(lambda: window.focusWidget() is page.equity, timeout=HUNG_MS)
    page.equity.selectAll()
    qtbot.keyClicks(page.equity, "nothing")
    assert page.wrong.text() == "The money: expected a number, got 'nothing'"
    assert not page.go.isEnabled()
    page.equity.selectAll()
    qtbot.keyClicks(page.equity, "20 000")
    page.percent.setText("50")
    assert "at most 10 %" in page.wrong.text()
    page.percent.setText("0.5")
    assert "One trade risks 100.00" in page.said.text()
    qtbot.keyClick(page.equity, Qt.Key.Key_Return)
    made = load(Account, Path(window.opened.account))
    assert (made.name, made.equity, made.balance, made.size.percent) == ("Own", 20_000, 20_000, 0.5)


def test_a_second_account_of_the_same_name_gets_another(window, qtbot, tmp_path):
    first = keep_account(tmp_path, Account(name="Own", currency="CHF", equity=1.0))
    window.begin("account")
    qtbot.mouseClick(window.account.go, Qt.MouseButton.LeftButton)
    assert window.opened.account != first.account
    assert load(Account, Path(window.opened.account)).name == "Own 2"
    assert load(Account, Path(first.account)).equity == 1.0


def test_an_export_is_shown_as_it_will_be_read_and_opened(window, qtbot, tmp_path):
    window.show_files([export(tmp_path)])
    page = window.history
    assert "choose the zone" in page.wrong.text()
    assert not page.go.isEnabled()
    qtbot.keyClicks(page.zone.lineEdit(), "Europe/Zurich")  # it is selected, and typed over
    assert [page.table.horizontalHeaderItem(k).text() for k in range(5)] == [
        "time, UTC",
        "open",
        "high",
        "low",
        "close",
    ]
    assert page.table.item(0, 0).text() == "2031-03-31T22:00:00Z"
    assert page.table.item(0, 1).text() == "0.61240"  # with the digits of the step found
    assert "None of the first rows shows the order of dates" in page.doubts.text()
    assert (page.symbol.text(), page.quote.text(), page.tick.text()) == (
        "CAD/CHF",
        "CHF",
        "0.00001",
    )
    assert page.example.text() == "A rise of 0.00001 gains 1.00 CHF for each unit"
    pick(page.dates, "mdy")
    assert page.table.item(0, 0).text() == "2031-01-03T23:00:00Z"
    pick(page.dates, "dmy")
    open_it(window, qtbot)
    instrument = load(Instrument, Path(window.opened.instrument))
    assert (instrument.symbol, instrument.base, str(instrument.tick)) == (
        "CAD/CHF",
        "CAD",
        "0.00001",
    )
    bars = read_bars(Path(window.opened.bars), instrument).bars
    assert bars.time.size == 40
    again = keep_history(tmp_path, *page.own.read())
    assert again.bars != window.opened.bars  # nothing is written over


def test_two_that_keep_a_history_at_once_keep_two(tmp_path):
    own = OwnHistory()
    own.choose([export(tmp_path, QUOTES, "pier.csv")])
    made = own.read()
    with ThreadPoolExecutor(8) as pool:
        kept = list(pool.map(lambda _: keep_history(tmp_path, *made), range(16)))
    assert len({one.bars for one in kept}) == 16
    assert all(read_bars(Path(one.bars), made[1]).bars.time.size == 5 for one in kept)


def test_the_account_of_a_history_is_asked_for_and_a_missing_rate_too(window, qtbot, tmp_path):
    window.show_files([export(tmp_path)])
    page = window.history
    qtbot.keyClicks(page.zone.lineEdit(), "Europe/Zurich")
    assert page.currency.text() == "CHF"  # the price's own
    assert "One trade risks 50.00\u00a0CHF" in page.said.text()
    for field, text in ((page.money, "64 000"), (page.currency, "sek"), (page.percent, "0.6")):
        field.setFocus()
        field.selectAll()
        qtbot.keyClicks(field, text)
    assert page.said.text() == "Type how many SEK one CHF is: the account needs it"
    assert not page.go.isEnabled()
    assert page.rate_name.text() == "&1 CHF in SEK"
    qtbot.keyClicks(page.rate, "11.92")
    assert "One trade risks 384.00\u00a0SEK" in page.said.text()
    open_it(window, qtbot)
    account = load(Account, Path(window.opened.account))
    assert (account.currency, account.equity, account.rates) == ("SEK", 64000.0, {"CHF/SEK": 11.92})
    assert account.size.percent == 0.6
    files = Inputs(
        *map(Path, (window.opened.bars, window.opened.instrument, window.opened.account))
    )
    assert files.account == account


def test_what_is_odd_in_the_rows_is_told_before_they_are_opened(window, qtbot, tmp_path):
    """A row that stands there twice was left out, and gaps opened, without a word."""
    rows = [f"2031-04-01T08:{m:02}:00Z,1.1,1.2,1.0,1.1" for m in (0, 1, 2, 3, 3, 4, 9, 10)]
    text = "\n".join(["time,open,high,low,close", *rows]) + "\n"
    window.show_files([export(tmp_path, text, "pier.csv")])
    page = window.history
    qtbot.mouseClick(page.go, Qt.MouseButton.LeftButton)
    qtbot.waitUntil(lambda: page.go.text() == "&Open it all the same", timeout=HUNG_MS)
    assert "1 rows stand there twice" in page.doubts.text()
    assert "row 8 of pier.csv" in page.doubts.text()  # behind the gap
    assert window.opened is None
    page.tick.selectAll()
    qtbot.keyClicks(page.tick, "0.3")  # another way to read them
    assert page.go.text() == "&Open the history"
    qtbot.mouseClick(page.go, Qt.MouseButton.LeftButton)
    qtbot.waitUntil(lambda: "off" in page.doubts.text() and page.isEnabled(), timeout=HUNG_MS)
    assert window.opened is None
    qtbot.keyClick(page.go, Qt.Key.Key_O, Qt.KeyboardModifier.AltModifier)
    qtbot.waitUntil(lambda: window.opened is not None, timeout=HUNG_MS)


def test_the_spread_is_asked_for_where_the_file_has_none(window, qtbot, tmp_path):
    """Trades would cost nothing, and nobody would have said so."""
    page = window.history
    window.show_files([export(tmp_path)])
    qtbot.keyClicks(page.zone.lineEdit(), "Europe/Zurich")
    assert page.spread.isVisible()
    page.spread.selectAll()
    qtbot.keyClicks(page.spread, "wide")
    assert page.said.text() == "The spread: expected a number, got 'wide'"
    assert not page.go.isEnabled()
    page.spread.selectAll()
    qtbot.keyClicks(page.spread, "9")
    open_it(window, qtbot)
    assert load(Account, Path(window.opened.account)).costs.spread_ticks == 9
    window.show_files([export(tmp_path, QUOTES, "pier.csv")])  # quotes have one
    assert not page.spread.isVisible()
    assert page.own.account().costs.spread_ticks == 0


@pytest.mark.parametrize(
    ("field", "text", "told"),
    [
        ("money", "lots", "expected a number"),
        ("money", "-5", "equity"),
        ("percent", "60", "at most 10 %"),
        ("money", "64,000", "write 64000 or 64.000"),
        ("currency", "a b", "how many A B one CHF is"),
    ],
)
def test_a_wrong_answer_about_the_account_is_told(window, tmp_path, field, text, told):
    window.show_files([export(tmp_path)])
    window.history.own.change(zone="Europe/Zurich")
    setattr(window.history.own, field, text)
    window.history.show_own()
    assert told in window.history.said.text()
    assert not window.history.go.isEnabled()


def test_a_change_that_reads_nothing_is_told_and_taken_back(window, qtbot, tmp_path):
    window.show_files([export(tmp_path)])
    page = window.history
    qtbot.keyClicks(page.zone.lineEdit(), "UTC")
    pick(page.separator, "|")
    assert page.wrong.text()
    assert page.table.rowCount() == 0
    assert not page.go.isEnabled()
    pick(page.separator, ";")
    assert (page.wrong.text(), page.table.rowCount(), page.go.isEnabled()) == ("", 8, True)


def dated(form: str, start: str, minutes: int, rows: int, to_day: int = 31) -> str:
    """Bars whose dates are written in a form; days after `to_day` of a month are left out."""
    first = datetime.fromisoformat(start)
    times = [first + timedelta(minutes=minutes * number) for number in range(rows)]
    lines = [f"{one:{form}} {one:%H:%M},1.0,1.1,0.9,1.05" for one in times if one.day <= to_day]
    return "\n".join(["time,open,high,low,close", *lines]) + "\n"


def test_a_row_further_down_that_shows_another_order_of_dates_has_the_rows_looked_at_again(
    window, qtbot, tmp_path
):
    """They were opened as they were shown, or refused, though the file itself says how to read
    them."""
    window.show_files([export(tmp_path, dated("%m/%d/%Y", "2031-04-08T00:00", 15, 600))])
    page = window.history
    page.own.change(zone="UTC")
    page.show_own()
    assert page.table.item(0, 0).text() == "2031-08-04T00:00:00Z"
    qtbot.mouseClick(page.go, Qt.MouseButton.LeftButton)
    qtbot.waitUntil(lambda: "Row 482 shows" in page.wrong.text(), timeout=HUNG_MS)
    assert "month, day, year. Look at the rows again" in page.wrong.text()
    assert page.table.item(0, 0).text() == "2031-04-08T00:00:00Z"
    assert page.dates.currentData() == "mdy"
    assert window.opened is None
    open_it(window, qtbot)


@pytest.mark.parametrize("form", ["%d/%m/%Y", "%m/%d/%Y", "%d.%m.%y", "%m-%d-%Y"])
@pytest.mark.parametrize("minutes", [15, 240, 1440])
@pytest.mark.parametrize(("start", "rows"), [("2031-02-04T00:00", 80), ("2031-11-04T00:00", 700)])
def test_the_window_reads_dates_as_the_command_does(tmp_path, form, minutes, start, rows):
    """The first rows as they are shown, and all of them once they are read."""
    for to_day in (12, 31):
        path = export(tmp_path, dated(form, start, minutes, rows, to_day))
        own = OwnHistory()
        own.choose([path])
        own.change(zone="UTC")
        with suppress(BadInput):  # it is to be looked at again
            own.read()
        found = own.read()[0].history.times
        assert (found == import_files([path], zone="UTC").history.times).all()
        assert own.head.rows[0][0] == utc_text(int(found[0]))


def test_an_order_of_dates_that_a_person_chose_is_kept(tmp_path):
    own = OwnHistory()
    own.choose([export(tmp_path, dated("%d/%m/%Y", "2031-02-04T00:00", 15, 30))])
    own.change(zone="UTC")
    own.change(dates="mdy")
    assert own.head.rows[0][0] == "2031-04-02T00:00:00Z"
    assert own.read()[0].recipe.dates == "mdy"


def test_the_next_file_of_the_same_shape_is_read_the_same_way(window, qtbot, tmp_path):
    window.show_files([export(tmp_path)])
    page = window.history
    qtbot.keyClicks(page.zone.lineEdit(), "Europe/Zurich")
    pick(page.dates, "mdy")
    assert not page.own.remembered
    open_it(window, qtbot)
    second = opened(qtbot, tmp_path)
    second.show_files([export(tmp_path, name="NZDSEK other.csv")])
    again = second.history
    assert again.own.recipe == page.own.recipe
    assert again.doubts.text().startswith("Read as the last file with these columns.")
    assert again.symbol.text() == "NZD/SEK"
    other = EXPORT.replace("Datum", "Day")
    second.show_files([export(tmp_path, other, "CADCHF third.csv")])
    assert not again.own.remembered
    for kept in (tmp_path / "recipes").glob("*.toml"):
        kept.write_text("nothing = ")
    second.show_files([export(tmp_path, name="NZDSEK other.csv")])
    assert not again.own.remembered


def long_parquet(path: Path, rows: int) -> None:
    """A history in one part, as libraries write it that are told nothing."""
    steps = np.arange(rows)
    prices = dict.fromkeys(("Open", "Low"), 0.6 + steps % 1000 / 100000.0)
    prices |= {
        name: column + 0.001
        for name, column in zip(("High", "Close"), prices.values(), strict=True)
    }
    times = pa.array(steps * 60 * 10**9).cast(pa.timestamp("ns", "UTC"))
    table = pa.table({"Time": times, **prices})
    pyarrow.parquet.write_table(
        table, path, compression="none", row_group_size=rows, use_dictionary=False
    )


def read_so_far() -> int:
    """Bytes that this process has read from files."""
    return int(Path("/proc/self/io").read_text().split()[1])


def test_a_parquet_file_is_shown_and_opened_and_little_of_a_long_one_is_read(
    window, qtbot, tmp_path
):
    path = tmp_path / "CADCHF.parquet"
    long_parquet(path, 500_000)
    window._warming.join()  # it reads, too
    before = read_so_far()
    window.show_files([path])
    assert read_so_far() - before < path.stat().st_size / 4
    page = window.history
    assert page.table.item(0, 1).text() == "0.60000"
    assert page.table.columnCount() == 5
    open_it(window, qtbot)
    instrument = load(Instrument, Path(window.opened.instrument))
    assert read_bars(Path(window.opened.bars), instrument).bars.time.size == 500_000


def test_quotes_become_bars_of_a_minute(window, qtbot, tmp_path):
    window.show_files([export(tmp_path, QUOTES, "pier.csv")])
    page = window.history
    assert "made bars of one minute" in page.doubts.text()
    open_it(window, qtbot)
    bars = read_bars(
        Path(window.opened.bars), load(Instrument, Path(window.opened.instrument))
    ).bars
    assert (bars.time.size, int(bars.time[1] - bars.time[0])) == (5, MINUTE)
    assert (bars.open[0], bars.high[0], bars.close[0], bars.spread[0]) == (100.0, 105.0, 105.0, 1.0)


@pytest.mark.parametrize(
    ("text", "told"),
    [("", "holds no rows"), ("a,b\n1,2\n", "no column holds dates"), ("\0\1\2" * 50, "")],
)
def test_a_file_that_is_no_history_is_told_in_the_window(window, tmp_path, text, told):
    window.show_files([export(tmp_path, text, "odd.csv")])
    assert window.history.wrong.text()
    assert told in window.history.wrong.text()
    assert not window.history.go.isEnabled()


def test_wrong_rows_further_down_are_told_and_nothing_is_written(window, qtbot, tmp_path):
    lines = [
        f"2031-04-0{1 + k // 1000}T{k // 60 % 24:02}:{k % 60:02}:00Z,5,6,4,5" for k in range(900)
    ]
    text = "\n".join(
        ["time,open,high,low,close", *lines[:800], lines[800][:-1] + "soon", *lines[801:]]
    )
    window.show_files([export(tmp_path, text, "pier.csv")])
    assert window.history.go.isEnabled()
    qtbot.mouseClick(window.history.go, Qt.MouseButton.LeftButton)
    qtbot.waitUntil(lambda: bool(window.history.wrong.text()), timeout=HUNG_MS)
    assert "row 802" in window.history.wrong.text()
    assert window.history.isEnabled()
    assert window.opened is None
    assert not [*tmp_path.rglob("*.parquet"), *tmp_path.rglob("pier*.toml")]


def test_where_the_account_cannot_be_written_nothing_is_left(window, qtbot, tmp_path, monkeypatch):
    def full(what, path):
        if isinstance(what, Account):
            raise BadInput("unwritable", "the disk is full")
        save(what, path)

    monkeypatch.setattr("hawser.service.profiles.own_files.save", full)
    window.show_files([export(tmp_path, QUOTES, "pier.csv")])
    qtbot.mouseClick(window.history.go, Qt.MouseButton.LeftButton)
    qtbot.waitUntil(lambda: window.history.wrong.text() == "the disk is full", timeout=HUNG_MS)
    assert not list(tmp_path.rglob("*.parquet"))


def test_settings_that_cannot_be_read_are_told_where_one_chooses(started, monkeypatch, tmp_path):
    asked = []
    OpenedFiles(of="demo").keep(tmp_path)
    (tmp_path / "config/last-opened.toml").write_text("nothing = ")
    monkeypatch.setattr(WelcomePage, "exec", lambda window: asked.append(window.told.text()))
    assert started() == []
    assert "last-opened.toml" in asked[0]


def test_a_file_is_dropped(window, tmp_path):
    data = QMimeData()
    data.setUrls([QUrl.fromLocalFile(str(export(tmp_path)))])
    window.dropEvent(
        QDropEvent(
            QPointF(9, 9),
            Qt.DropAction.CopyAction,
            data,
            Qt.MouseButton.LeftButton,
            Qt.KeyboardModifier.NoModifier,
        )
    )
    assert window.pages.currentIndex() == 1
    assert window.history.files.text() == "CADCHF export.csv"


def test_an_instrument_keeps_what_no_field_shows(window, tmp_path):
    own = window.history.own
    own.choose([export(tmp_path, QUOTES, "pier.csv")])
    given = load(Instrument, Path(__file__).parents[2] / "examples/quillan-ferry.toml")
    own.take_instrument(given)
    own.multiplier = "7"
    assert own.instrument() == msgspec.structs.replace(given, multiplier=7.0)
    own.multiplier = "soon"
    with pytest.raises(BadInput, match="multiplier: expected a number, got 'soon'"):
        own.instrument()


# The whole start


@pytest.fixture
def started(monkeypatch, tmp_path):
    """Starts a bare `hawser`; gives what the window of trades was told to open."""
    shown: list[str] = []

    def show(profile, boot, title, **_):
        shown.append(title)
        return 0

    monkeypatch.setattr("hawser.desk.app.start.run", show)

    def start() -> list[str]:
        shown.clear()
        options = Namespace(profile_root=tmp_path, zone=None, speed=None, account=[], fresh=False)
        options.bars = options.instrument = options.tz = None
        desktop._again(options)
        return [*shown]

    return start


def test_a_first_start_asks_and_the_next_opens_what_was_open(started, monkeypatch, tmp_path, qtbot):
    asked = []

    def choose(window):
        asked.append(window.told.text())
        window.begin("demo")

    monkeypatch.setattr(WelcomePage, "exec", choose)
    assert started() == ["demo"]
    assert started() == ["demo"]
    assert asked == [""]
    assert last_opened(tmp_path).of == "demo"


def test_a_window_that_is_closed_opens_nothing(started, monkeypatch, qtbot):
    monkeypatch.setattr(WelcomePage, "exec", lambda window: window.reject())
    assert started() == []


def test_a_history_that_is_gone_is_told_where_one_chooses_again(
    started, monkeypatch, tmp_path, qtbot
):
    asked = []
    OpenedFiles(bars=str(tmp_path / "gone.csv"), instrument=str(tmp_path / "gone.toml")).keep(
        tmp_path
    )

    def choose(window):
        asked.append(window.told.text())
        window.opened = keep_account(tmp_path, window.account.made())

    monkeypatch.setattr(WelcomePage, "exec", choose)
    assert started() == ["Own"]
    assert "gone.toml" in asked[0]
    assert started() == ["Own"]
    assert len(asked) == 1


BARE = """
import sys
from PyQt6.QtCore import QTimer
from PyQt6.QtWidgets import QApplication
from hawser.desk.app import start
from hawser.desk.app.welcome import WelcomePage

real = WelcomePage.exec
WelcomePage.exec = lambda window: (QTimer.singleShot(0, lambda: window.begin("demo")), real(window))
start.run = lambda profile, boot, title, **_: print(title, QApplication.instance() is not None) or 0
from hawser.commands.desktop import run
sys.exit(run(["--profile-root", sys.argv[1]]))
"""


def test_a_bare_start_in_a_process_of_its_own(tmp_path):
    """Qt was gone before its first widget, where nobody else held the application."""
    done = subprocess.run(
        [sys.executable, "-c", BARE, str(tmp_path)],
        capture_output=True,
        text=True,
        timeout=300,
        check=False,
    )
    assert (done.returncode, done.stdout) == (0, "demo True\n"), done.stderr[-800:]


def test_a_file_dropped_on_the_window_of_trades_is_offered_beside_it(trader, monkeypatch, tmp_path):
    begun = []
    monkeypatch.setattr(
        "hawser.desk.app.start.QProcess.startDetached",
        lambda program, words: begun.append((program, words)) or (True, 1),
    )
    monkeypatch.setattr("sys.argv", ["hawser", "--demo", "--profile-root", str(tmp_path)])
    trader.window.dropped.connect(partial(start.open_beside, trader.window))
    data = QMimeData()
    data.setUrls([QUrl.fromLocalFile(str(tmp_path / "bars.csv"))])
    drop = QDropEvent(
        QPointF(9, 9),
        Qt.DropAction.CopyAction,
        data,
        Qt.MouseButton.LeftButton,
        Qt.KeyboardModifier.NoModifier,
    )
    trader.window.dropEvent(drop)
    words = [
        "-m",
        "hawser",
        "--profile-root",
        str(tmp_path),
        "--import",
        str(tmp_path / "bars.csv"),
    ]
    assert begun == [(sys.executable, words)]
    monkeypatch.setattr("hawser.desk.app.start.QProcess.startDetached", lambda *_: (False, 0))
    trader.window.dropEvent(drop)
    assert "Another Hawser cannot be started" in trader.window.notice.text.text()


def test_import_shows_the_file_at_once(monkeypatch, tmp_path, qtbot):
    seen = []

    def look(window):
        seen.append((window.pages.currentIndex(), window.history.files.text()))

    monkeypatch.setattr(WelcomePage, "exec", look)
    words = ["--import", str(export(tmp_path)), "--profile-root", str(tmp_path)]
    assert desktop.run(words) == 0
    assert seen == [(1, "CADCHF export.csv")]
    told = []

    def choose(window):
        told.append((window.pages.currentIndex(), window.told.text()))
        gone = OpenedFiles(bars="gone.csv", instrument="gone.toml")
        window.opened = gone if len(told) == 1 else None

    monkeypatch.setattr(WelcomePage, "exec", choose)
    assert desktop.run(words) == 0  # what cannot be opened is told where one begins
    assert [page for page, _ in told] == [1, 0]
    assert "gone.toml" in told[1][1]
    with pytest.raises(BadInput, match="expected one of them"):
        desktop.run([*words, "--demo"])
