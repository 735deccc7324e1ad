"""A station is one folder: here one is made that nothing else knows, and the rail, its key, the
command finder and what is remembered have it.
"""

import os
import subprocess
import sys

DECLARED = """
from hawser.desk.common.station import Station
STATION = Station("Lookout", "helm", "Alt+9", "hawser.desk.lookout.station:opened", shared=True)
"""
VIEW = """
from PyQt6.QtWidgets import QLabel, QSplitter, QVBoxLayout
from hawser.desk.common.station import StationView

class Lookout(StationView):
    follows = True
    def __init__(self, desk):
        super().__init__()
        self.desk, self.seen, self.left = desk, [], False
        self.parts = QSplitter()
        for word in ("sea", "sky"):
            self.parts.addWidget(QLabel(word))
        QVBoxLayout(self).addWidget(self.parts)
    def show_snapshot(self, snapshot):
        self.seen.append(snapshot.currency)
    def splitters(self):
        return {"lookout": self.parts}
    def actions(self):
        return [("Lookout: wave", lambda: self.desk.tell("refused", "somebody waves"))]
    def leave(self):
        self.left = True

def opened(desk, account):
    return Lookout(desk)
"""
USED = """
import sys
from pathlib import Path
import hawser.desk
hawser.desk.__path__.append(sys.argv[1])
from PyQt6.QtCore import Qt
from PyQt6.QtTest import QTest
from hawser.demo.boot import boot
from hawser.desk.app.shots import settle
from hawser.desk.app.start import application, make_window
from hawser.service.profiles.profile import profile
app = application()

def opened():
    window = make_window(profile("demo", Path(sys.argv[2])), boot, "one more")
    window.show()
    window.runtime.start()
    settle(window, lambda: window.latest is not None and window.latest.link_up, 150_000)
    return window

window = opened()
assert "hawser.desk.lookout.station" not in sys.modules
assert "hawser.desk.rigs.station" not in sys.modules
QTest.mouseClick(window.rail.buttons["Lookout"], Qt.MouseButton.LeftButton)
view = window.stack.shown
assert window.station == "Lookout" and view.isVisible() and view.seen == ["CHF"]
assert window.rail.buttons["Lookout"].isChecked()
assert "Station: Lookout" in [one.text for one in window.commands()]
QTest.keyClick(window, Qt.Key.Key_1, Qt.KeyboardModifier.AltModifier)
assert window.station == "Helm"
wave = next(one for one in window.commands() if one.text == "Lookout: wave")
wave.run()
assert window.station == "Lookout" and "somebody waves" in window.notice.text.text()
view.parts.setSizes([100, 700])
window.close()
assert view.left
again = opened()
assert again.station == "Lookout", again.station
sea, sky = again.stack.shown.parts.sizes()
assert sea * 5 < sky, (sea, sky)
again.stack.load_rest()
settle(again, lambda: len(again.stack.made) == 6)
again.close()
print("all of it")
"""


def test_a_station_is_one_folder(tmp_path):
    room = tmp_path / "more" / "lookout"
    room.mkdir(parents=True)
    (room / "__init__.py").write_text(DECLARED)
    (room / "station.py").write_text(VIEW)
    done = subprocess.run(
        [sys.executable, "-c", USED, str(tmp_path / "more"), str(tmp_path / "kept")],
        capture_output=True,
        text=True,
        timeout=600,
        env={**os.environ, "QT_QPA_PLATFORM": "offscreen"},
        check=False,
    )
    assert done.stdout.strip() == "all of it", done.stderr[-2000:]
