"""Which events alert, by what, and where to: one table, kept in a file that only its owner may
read."""

from __future__ import annotations

from typing import Annotated, Literal, NamedTuple
from urllib.parse import urlsplit

import msgspec

from hawser.core.errors import BadInput
from hawser.core.field_help import help_text
from hawser.engine.commands import Tell

Channel = Literal["sound", "desktop", "email", "webhook"]
CHANNELS: tuple[Channel, ...] = ("sound", "desktop", "email", "webhook")


class AlertKind(NamedTuple):
    """One row of the table: what a Tell must be to count as it."""

    name: str
    text: str
    weights: frozenset[str] = frozenset()
    codes: frozenset[str] = frozenset()

    def meets(self, tell: Tell) -> bool:
        return tell.weight in self.weights or tell.code in self.codes


KINDS = (
    AlertKind(
        "alarm",
        "Alarms: no cover, no link, a venue that does not answer, a kill switch",
        frozenset({"alarm"}),
    ),
    AlertKind(
        "guard",
        "A guard has closed entries, opened again, or was re-armed",
        codes=frozenset(
            {
                "guard_tripped",
                "guard_closed",
                "guard_open",
                "guard_rearmed",
                "guard_loosened",
                "drill",
                "calendar",
            }
        ),
    ),
    AlertKind(
        "entered", "A trade was entered", codes=frozenset({"entered", "rung_entered", "adopted"})
    ),
    AlertKind("ended", "A trade has ended", codes=frozenset({"trade_ended"})),
    AlertKind(
        "caution", "Cautions: what was refused, lost or done otherwise", frozenset({"caution"})
    ),
    AlertKind("refused", "What somebody asked for was refused", frozenset({"refused"})),
)
FAULT = "fault"  # something in Hawser went wrong: always an alarm


FIRST: dict[str, tuple[Channel, ...]] = {"alarm": CHANNELS, "guard": ("desktop",)}


class Smtp(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """Mail is handed to this server."""

    host: Annotated[str, help_text("the mail server", example="mail.example.org")]
    sender: Annotated[str, help_text("the address mail comes from", example="hawser@example.org")]
    to: Annotated[
        tuple[str, ...], help_text("the addresses mail is sent to", example="me@example.org")
    ]
    port: Annotated[int, help_text("its port")] = 587
    security: Annotated[
        Literal["starttls", "tls", "none"], help_text("encryption of the connection")
    ] = "starttls"
    user: Annotated[str, help_text("user name; empty: none", example="me")] = ""
    password: Annotated[str, help_text("and the password", example="a long one of your own")] = ""

    def __post_init__(self) -> None:
        for key in ("host", "sender", "user", "password"):
            _one_line(f"smtp.{key}", getattr(self, key))
        _one_line("smtp.to", "".join(self.to))
        if not _a_host(self.host):
            raise BadInput.at(
                "bad_alerts", "smtp.host", "expected the name of a server", key="host"
            )
        if (
            not self.host
            or not self.to
            or "@" not in self.sender
            or not all("@" in one for one in self.to)
        ):
            raise BadInput.at(
                "bad_alerts",
                "smtp",
                "expected host, sender and to, addresses with an @",
                key="smtp",
            )
        if not 0 < self.port < 65_536:
            raise BadInput.at("bad_alerts", "smtp.port", "expected 1 to 65535", key="port")
        if (
            self.password
            and self.security == "none"
            and self.host not in ("localhost", "127.0.0.1", "::1")
        ):
            raise BadInput.at(
                "bad_alerts", "smtp.security", "expected starttls or tls where a password is sent"
            )


class Webhook(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """Each alert is posted there as JSON."""

    url: Annotated[
        str,
        help_text(
            "address to send to: https, or on this machine", example="https://example.org/alerts"
        ),
    ]
    secret: Annotated[
        str, help_text("sent as a bearer token; empty: none", example="a long word of your own")
    ] = ""

    def __post_init__(self) -> None:
        _one_line("webhook.secret", self.secret)
        scheme, host = self._parts()
        if scheme not in ("http", "https") or not _a_host(host.strip("[]")):
            raise BadInput.at(
                "bad_alerts",
                "webhook.url",
                "expected an address such as https://example.org/alerts",
            )
        if scheme == "http" and host not in ("localhost", "127.0.0.1", "[::1]"):
            raise BadInput.at("bad_alerts", "webhook.url", "expected https, except on this machine")

    def _parts(self) -> tuple[str, str]:
        """Scheme and host; empty where there is no making out of the address."""
        if not self.url.isascii() or any(
            sign.isspace() or not sign.isprintable() for sign in self.url
        ):
            return "", ""
        try:
            parts = urlsplit(self.url)
            # a port that is none is told when it is asked for
            host, _ = parts.hostname or "", parts.port
        except ValueError:
            return "", ""
        return parts.scheme, f"[{host}]" if ":" in host else host


def _one_line(key: str, text: str) -> None:
    if not text.isprintable():
        raise BadInput.at(
            "bad_alerts", key, "expected one line of text, no control characters", key=key
        )


def _a_host(name: str) -> bool:
    """Whether a name can be looked up: parts of up to 63 signs, 253 in all."""
    try:
        coded = name.encode("idna")
    except UnicodeError:
        return False
    return 0 < len(coded) <= 253 and not any(sign.isspace() or sign in "/@?#" for sign in name)


class AlertSettings(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """The whole of it. `events`: the channels of each kind."""

    events: dict[str, tuple[Channel, ...]] = msgspec.field(default_factory=lambda: dict(FIRST))
    smtp: Smtp | None = None
    webhook: Webhook | None = None
    most_per_min: Annotated[
        int, help_text("most alerts a minute by mail, and by webhook; more are sent as one")
    ] = 6

    def __post_init__(self) -> None:
        names = {kind.name for kind in KINDS}
        for name in self.events:
            if name not in names:
                raise BadInput.at(
                    "bad_alerts",
                    f"events.{name}",
                    f"expected one of {', '.join(sorted(names))}",
                    key=name,
                )
        if not 1 <= self.most_per_min <= 600:
            raise BadInput.at("bad_alerts", "most_per_min", "expected 1 to 600", key="most_per_min")

    def channels(self, tell: Tell) -> tuple[Channel, ...]:
        """By what a Tell alerts; none: by nothing."""
        wanted = {
            channel
            for kind in KINDS
            if kind.meets(tell)
            for channel in self.events.get(kind.name, ())
        }
        return tuple(channel for channel in CHANNELS if channel in wanted)
