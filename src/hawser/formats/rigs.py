"""Rig files: TOML into a Rig; `from` and `to` are times with an offset."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta
from pathlib import Path

from hawser.core.errors import BadInput
from hawser.core.rig import Rig
from hawser.formats.declared import read_toml, record

EPOCH = datetime(1970, 1, 1, tzinfo=UTC)


def load_rig(path: Path) -> Rig:
    """A rig from its file; raises BadInput."""
    data = read_toml(path)
    for key in ("from", "to"):
        if key in data:
            data[key] = _ns(data[key], f"{path}: {key}")
    return record(Rig, data, str(path))


def _ns(value: object, where: str) -> int:
    """A time as UTC ns."""
    moment = value
    if isinstance(value, str):
        try:
            moment = datetime.fromisoformat(value)
        except ValueError:
            moment = None
    if not isinstance(moment, datetime) or moment.tzinfo is None:
        raise BadInput("bad_value", f"{where}: expected a time with an offset or Z, such as 2031-03-06T08:00:00Z")
    return (moment - EPOCH) // timedelta(microseconds=1) * 1000
