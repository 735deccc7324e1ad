"""`hawser watch`: the dead man's watch with its alerts, as a process."""

from __future__ import annotations

import sys
import time
from pathlib import Path

from hawser.engine.commands import Tell, Weight
from hawser.service.alerts import Alert, Alerts
from hawser.service.alertsettings import Channel
from hawser.service.deadman import Finding, Watch, flatten
from hawser.service.profile import Profile

WEIGHTS: dict[str, Weight] = {"silent": "alarm", "failed": "alarm", "flattened": "caution", "back": "caution"}
LAST_WORDS = 3.0  # seconds for what waits to be sent


def watch(profile: Profile, silent_s: float, socket: Path | None) -> bool:
    """Watch until Hawser has ended on purpose; True where it never fell silent, or all that was asked for was done."""
    failed: list[str] = []

    def local(channel: Channel, alert: Alert) -> None:
        if channel == "sound":
            print("\a", end="", file=sys.stderr, flush=True)

    def say(text: str) -> None:
        print(f"{time.strftime('%H:%M:%S')}  {text}", file=sys.stderr, flush=True)

    alerts = Alerts(profile.alerts, profile.state / "watch-waiting.json", profile.name, local, say)

    def told(finding: Finding) -> None:
        say(finding.text)
        failed.extend([finding.text] if finding.kind == "failed" else [])
        alerts.tell(Tell(weight=WEIGHTS[finding.kind], code=f"watch_{finding.kind}", text=finding.text))

    alerts.begin()
    say(f"Watching {profile.name}: silent for {silent_s:g} s with positions open counts")
    try:
        Watch(profile.heartbeat, silent_s, told, (lambda _: flatten(socket)) if socket is not None else None).run()
        say("Hawser was closed: the watch ends")
    except KeyboardInterrupt:
        say("The watch was ended by hand")
    finally:
        alerts.finish(LAST_WORDS)
    return not failed
