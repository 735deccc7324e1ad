"""Rig files: TOML into a Rig; `from` and `to` are times with an offset."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any

from hawser.core.errors import BadInput
from hawser.core.rig import Rig
from hawser.formats.atomic import written
from hawser.formats.declared import differing, read_toml, record, toml

FIRST_YEAR, LAST_YEAR = 1700, 2250  # 64 bits of nanoseconds reach a little farther
EPOCH = datetime(1970, 1, 1, tzinfo=UTC)


def load_rig(path: Path) -> Rig:
    """A rig from its file; raises BadInput."""
    return _rig(read_toml(path), str(path))


def read_rig(text: str, where: str) -> Rig:
    """A rig from TOML text; raises BadInput naming `where`."""
    return _rig(toml(text, where), where)


def _rig(data: dict[str, Any], where: str) -> Rig:
    for key in ("from", "to"):
        if key in data:
            data[key] = _ns(data[key], f"{where}: {key}")
    return record(Rig, data, where)


def save_rig(rig: Rig, path: Path) -> None:
    """A rig as a file that `load_rig` reads back to the same."""
    with written(path) as file:
        file.write(rig_text(rig))


def rig_text(rig: Rig) -> bytes:
    """What stands in its file; what stands as it would by default is left out."""
    import tomli_w

    return tomli_w.dumps(plain_rig(rig)).encode()


def plain_rig(rig: Rig) -> dict[str, Any]:
    """The rig as the plain data of its file."""
    data: dict[str, Any] = differing(rig)
    for key in ("from", "to"):
        if key in data:
            data[key] = EPOCH + timedelta(microseconds=data[key] // 1000)
    return data


def _ns(value: object, where: str) -> int:
    """A time as UTC ns."""
    moment = value
    if isinstance(value, str):
        try:
            moment = datetime.fromisoformat(value)
        except ValueError:
            moment = None
    if not isinstance(moment, datetime) or moment.tzinfo is None:
        raise BadInput(
            "bad_value",
            f"{where}: expected a time with an offset or Z, such as 2031-03-06T08:00:00Z",
        )
    if not FIRST_YEAR <= moment.year <= LAST_YEAR:
        raise BadInput("bad_value", f"{where}: expected a year from {FIRST_YEAR} to {LAST_YEAR}")
    return (moment - EPOCH) // timedelta(microseconds=1) * 1000
