"""What a runtime begins with, and who hears what it tells. Both are read before anything of the
engine is loaded."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, NamedTuple

if TYPE_CHECKING:
    from hawser.core.account import Account
    from hawser.core.bars import Bars
    from hawser.engine import events as ev
    from hawser.engine.commands import Tell
    from hawser.engine.model.state import EntryValues
    from hawser.ledger.ledger import Ledger
    from hawser.service.alerts.alert import Alert
    from hawser.service.alerts.settings import Channel
    from hawser.service.own_columns import OwnColumns
    from hawser.service.runtime.session import Session
    from hawser.service.views.guards import GuardPicture
    from hawser.service.views.logbook_lines import LogLine
    from hawser.service.views.snapshot import Snapshot
    from hawser.venue import port
    from hawser.venue.quay.simulated import Simulated


class Boot(NamedTuple):
    """What a profile starts with. `prepare` plays what must have happened before anybody looks
    (lockstep)."""

    account: Account
    venue: port.Connection
    ledger: Ledger
    # the same venue where it is a simulated one, whose weather can be set
    simulation: Simulated | None = None
    prepare: Callable[[Session], None] | None = None
    notes: Sequence[str] = ()
    prefix: str = ""  # of client order ids; empty: drawn at random once for a ledger
    guards: Path | None = None  # the policy that ships, where the profile has none of its own
    venue_at: str = ""  # the socket of a venue that outlives this process
    columns: OwnColumns | None = None  # of a file that plays the market


class Hooks(NamedTuple):
    """Who hears what; all called on the engine's thread."""

    snapshot: Callable[[Snapshot], None] = lambda snapshot: None
    lines: Callable[[list[LogLine]], None] = lambda lines: None
    earlier: Callable[[list[LogLine], bool], None] = lambda lines, more: None
    told: Callable[[Tell], None] = lambda tell: None
    bars: Callable[[str, int, Bars], None] = lambda symbol, span, bars: None
    bar: Callable[[ev.BarCompleted], None] = lambda bar: None
    marks: Callable[[dict[str, EntryValues]], None] = lambda marks: None
    guards: Callable[[GuardPicture], None] = lambda picture: None
    ready: Callable[[], None] = lambda: None
    fault: Callable[[str], None] = lambda sentence: None
    failed: Callable[[str], None] = lambda sentence: None
    alert: Callable[[Channel, Alert], None] = lambda channel, alert: None
    tried: Callable[[Channel, str], None] = lambda channel, wrong: None
