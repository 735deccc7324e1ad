"""Where things live: one folder of data, one of settings, one of state for each profile, under the
XDG folders."""

from __future__ import annotations

import contextlib
import os
from pathlib import Path

import msgspec
import platformdirs

from hawser.core.errors import BadInput
from hawser.formats.atomic import written


class Profile(msgspec.Struct, frozen=True):
    """The folders of one profile; made with access for their owner only."""

    name: str
    data: Path
    config: Path
    state: Path

    def made(self) -> Profile:
        for folder in (self.data, self.config, self.state):
            folder.mkdir(parents=True, exist_ok=True, mode=0o700)
            held = folder.stat()
            # it was made by somebody who did not mind
            if held.st_uid == os.getuid() and held.st_mode & 0o077:
                folder.chmod(0o700)
        return self

    @property
    def ledger(self) -> Path:
        return self.data / "ledger.sqlite"

    @property
    def guards(self) -> Path:
        """The policy of guards, where a person has one of their own."""
        return self.config / f"guards-{self.name}.toml"

    @property
    def heartbeat(self) -> Path:
        """The sign of life."""
        return self.state / "heartbeat.json"

    @property
    def alerts(self) -> Path:
        """Which events alert, and where to; with secrets."""
        return self.config / f"alerts-{self.name}.toml"

    @property
    def watch(self) -> Path:
        """How the dead man's watch is set."""
        return self.config / f"watch-{self.name}.toml"

    @property
    def alerts_waiting(self) -> Path:
        """Alerts that could not be sent yet."""
        return self.state / "alerts-waiting.json"

    @property
    def venue(self) -> Path:
        return self.data / "quay.sqlite"


def profile(name: str, root: Path | None = None) -> Profile:
    """The folders of profile `name`: 'demo', or one of `replay_name`. `root` overrides the XDG
    folders."""
    if root is not None:
        return Profile(name, root / "data" / name, root / "config", root / "state" / name).made()
    app = "hawser-demo" if name == "demo" else "hawser"
    data = Path(platformdirs.user_data_dir(app)) / name
    config = Path(platformdirs.user_config_dir(app))
    state = Path(platformdirs.user_state_dir(app)) / name
    return Profile(name, data, config, state).made()


def replay_name(symbol: str, bars: Path) -> str:
    """A profile of its own for each history that is replayed, so that its trades are found
    again."""
    return f"replay-{plain(symbol)}-{_digest(bars)}"


def account_profile(of: str, name: str, root: Path | None = None) -> Profile:
    """The folders of one account of several, by its name. Two names that come to the same folder
    name, as A/B and A-B, are told apart by what is noted in the folder. Raises BadInput where what
    is noted cannot be a name: another folder has another record, which knows nothing of what is
    open.
    """
    base, whole = f"{of}-{plain(name)}", os.fsencode(name)
    chosen = profile(base, root)
    mark = chosen.state / "account"
    noted = mark.read_bytes().strip(b"\0") if mark.exists() else b""
    if not noted:  # it is new, or a full disk or a power cut has left nothing in it
        with contextlib.suppress(BadInput), written(mark, private=True) as file:
            file.write(whole)
        return chosen
    if noted == whole:
        return chosen
    try:
        noted.decode()
    except UnicodeDecodeError:
        raise BadInput(
            "bad_value", f"{mark}: expected the name of the account whose folders these are"
        ) from None
    import hashlib

    return profile(f"{base}-{hashlib.sha256(whole).hexdigest()[:8]}", root)


def far_name(socket: Path) -> str:
    """A profile of its own for each venue that runs as a process."""
    return f"quay-{plain(socket.stem)}-{_digest(socket)}"


def plain(text: str) -> str:
    """A name as a folder may be called."""
    return "".join(ch if ch.isalnum() else "-" for ch in text).strip("-").lower()


def _digest(path: Path) -> str:
    import hashlib

    return hashlib.sha256(str(path.resolve()).encode()).hexdigest()[:8]
