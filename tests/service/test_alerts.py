"""Alerts against a mail server and a web server of the test's own: what goes where, how often, and
what waits."""

from __future__ import annotations

import base64
import json
import socketserver
import stat
import threading
import time
from collections.abc import Iterator
from email import message_from_string
from http.server import BaseHTTPRequestHandler, HTTPServer
from typing import Any

import msgspec
import pytest

from hawser.core.errors import BadInput, Unavailable
from hawser.engine.commands import Tell
from hawser.formats.declared import load, save
from hawser.service.alerts.alert import Alert
from hawser.service.alerts.channels import KEPT, AlertQueue, Alerts
from hawser.service.alerts.sending import mail, post
from hawser.service.alerts.settings import AlertSettings, Smtp, Webhook
from madeup import NO_JSON

ALARM = Tell(weight="alarm", code="link_down", text="No link to the venue", symbol="CAD/CHF")


class MailSink(socketserver.ThreadingTCPServer):
    """As much of SMTP as a mail takes; `refuses` answers everything with an error."""

    allow_reuse_address, daemon_threads, refuses = True, True, False

    def __init__(self) -> None:
        self.mails: list[str] = []
        self.logins: list[list[str]] = []
        super().__init__(("127.0.0.1", 0), MailTalk)


class MailTalk(socketserver.StreamRequestHandler):
    def say(self, text: str) -> None:
        self.wfile.write(f"{text}\r\n".encode())

    def handle(self) -> None:
        self.say("220 sink")
        while line := self.rfile.readline():
            word = line.split()[0].upper() if line.split() else b""
            if word == b"DATA":
                self.say("354 go on")
                body = []
                while (part := self.rfile.readline()) != b".\r\n":
                    body.append(part.decode())
                self.server.mails.append("".join(body))
                self.say("250 kept")
            elif word == b"QUIT":
                self.say("221 bye")
                return
            elif word == b"AUTH":
                self.server.logins.append(
                    base64.b64decode(line.split()[2]).decode().split("\0")[1:]
                )
                self.say("235 welcome")
            elif self.server.refuses and word == b"MAIL":
                self.say("451 not now")
            else:
                self.say("250 fine")


class WebTalk(BaseHTTPRequestHandler):
    def do_POST(self) -> None:
        length = int(self.headers["Content-Length"])
        self.server.posts.append(
            (self.headers["Authorization"], json.loads(self.rfile.read(length)))
        )
        self.send_response(self.server.answer)
        if self.server.answer == 302:
            self.send_header("Location", "http://127.0.0.1:1/elsewhere")
        self.end_headers()

    def log_message(self, *args: object) -> None:
        """Not to the test's output."""


@pytest.fixture
def sink() -> Iterator[MailSink]:
    server = MailSink()
    thread = threading.Thread(target=server.serve_forever)
    thread.start()
    yield server
    server.shutdown()
    server.server_close()
    thread.join()


@pytest.fixture
def web() -> Iterator[Any]:
    server = HTTPServer(("127.0.0.1", 0), WebTalk)
    server.posts, server.answer = [], 204
    thread = threading.Thread(target=server.serve_forever)
    thread.start()
    yield server
    server.shutdown()
    server.server_close()
    thread.join()


def smtp(sink: MailSink) -> Smtp:
    return Smtp(
        "127.0.0.1",
        "hawser@example.org",
        ("me@example.org",),
        sink.server_address[1],
        security="none",
    )


def webhook(web: Any, secret: str = "s3cret") -> Webhook:
    return Webhook(f"http://127.0.0.1:{web.server_address[1]}/alerts", secret)


@pytest.fixture
def alerts(tmp_path) -> Iterator[Alerts]:
    local, faults, tries = [], [], []
    made = Alerts(
        tmp_path / "alerts.toml",
        tmp_path / "waiting.json",
        "demo",
        lambda channel, alert: local.append((channel, alert.text)),
        faults.append,
        lambda channel, wrong: tries.append((channel, wrong)),
    )
    made.local, made.faults, made.tries = local, faults, tries
    made.begin()
    yield made
    made.stop()


def until(condition) -> None:
    event = threading.Event()
    for _ in range(3_000):
        if condition():
            return
        event.wait(0.02)
    raise AssertionError("it did not come to that")


def test_an_alarm_goes_by_every_channel_chosen_and_an_info_by_none(alerts, sink, web):
    alerts.change(AlertSettings(smtp=smtp(sink), webhook=webhook(web)))
    alerts.tell(ALARM)
    alerts.tell(Tell(weight="info", code="left", text="Left 1.32"))
    until(lambda: sink.mails and web.posts)
    assert alerts.local == [
        (channel, "CAD/CHF: No link to the venue") for channel in ("sound", "desktop")
    ]
    letter = message_from_string(sink.mails[0])
    assert letter["Subject"] == "Hawser, demo: CAD/CHF: No link to the venue"
    assert "alarm: CAD/CHF: No link to the venue" in letter.get_payload()
    header, body = web.posts[0]
    assert header == "Bearer s3cret"
    assert body["alerts"][0]["text"] == "CAD/CHF: No link to the venue"
    assert (len(sink.mails), len(web.posts)) == (1, 1)


def test_nothing_alerts_before_it_has_begun(tmp_path):
    heard = []
    made = Alerts(
        tmp_path / "a.toml",
        tmp_path / "waiting.json",
        "demo",
        lambda *told: heard.append(told),
        heard.append,
    )
    made.tell(ALARM)
    assert not heard


def test_settings_are_kept_for_their_owner_only(alerts, sink):
    alerts.change(
        AlertSettings(
            events={"ended": ("email",)},
            smtp=smtp(sink),
            webhook=Webhook("https://a.example/x", "q"),
        )
    )
    assert stat.S_IMODE(alerts.path.stat().st_mode) == 0o600
    assert load(AlertSettings, alerts.path) == alerts.settings


def test_settings_that_are_wrong_are_told_and_sound_still_works(tmp_path):
    path = tmp_path / "a.toml"
    path.write_text("[events]\nnothing = ['sound']\n")
    local, faults = [], []
    made = Alerts(
        path, tmp_path / "waiting.json", "demo", lambda *told: local.append(told), faults.append
    )
    made.begin()
    made.tell(ALARM)
    made.stop()
    assert "events.nothing: expected one of" in faults[0]
    assert len(local) == 2


def test_what_could_not_be_sent_outlives_hawser_and_goes_when_the_network_is_back(tmp_path, web):
    path, waiting, faults = tmp_path / "a.toml", tmp_path / "waiting.json", []

    def begun(url, clock=time.time):
        save(AlertSettings(webhook=Webhook(url, "s3cret")), path, private=True)
        made = Alerts(path, waiting, "demo", lambda *told: None, faults.append, clock=clock)
        made.begin()
        return made

    first = begun("http://127.0.0.1:9/alerts")  # nobody listens there
    first.tell(ALARM)
    until(lambda: waiting.is_file() and faults)
    first.stop()
    assert stat.S_IMODE(waiting.stat().st_mode) == 0o600
    assert "s3cret" not in waiting.read_text()
    late = begun("http://127.0.0.1:9/alerts", lambda: time.time() + 8 * 86_400)
    assert not late.held("webhook")  # what is a week old alerts nobody
    late.stop()
    for damaged in (*NO_JSON, b'{"webhook": [[1.0, "demo"'):
        waiting.write_bytes(damaged)
        faults.clear()
        spoilt = begun(webhook(web).url)
        spoilt.stop()
        assert "alerts that waited cannot be read" in faults[-1]
    first = begun("http://127.0.0.1:9/alerts")
    first.tell(ALARM)
    until(lambda: b"No link" in waiting.read_bytes())
    first.stop()
    kept = waiting.read_bytes()
    save(AlertSettings(), path, private=True)  # nobody is to be told by a webhook any more
    silent = Alerts(path, waiting, "demo", lambda *told: None, faults.append)
    silent.begin()
    assert not silent.held("webhook")
    silent.stop()
    waiting.write_bytes(kept)
    again = begun(webhook(web).url)
    until(lambda: web.posts and not waiting.exists())
    assert [alert["text"] for _, body in web.posts for alert in body["alerts"]] == [
        "CAD/CHF: No link to the venue"
    ]
    again.stop()


def test_while_the_network_is_away_alerts_wait_and_go_as_one():
    sent, away, now = [], [True], 100.0

    def send(batch: list[Alert]) -> None:
        if away[0]:
            raise Unavailable("mail", "no route")
        sent.append([alert.text for alert in batch])

    box = AlertQueue(send)
    box.add(Alert(0.0, "a", "alarm", "first"))
    assert box.due(now, 6)
    assert box.go(now) == "no route"
    assert not box.due(now + 1.9, 6)
    assert box.due(now + 2.0, 6)
    box.go(now + 2.0)
    assert not box.due(now + 6.9, 6)  # each pause is longer
    box.add(Alert(0.0, "a", "alarm", "second"))
    away[0] = False
    assert box.go(now + 7.0) == ""
    assert sent == [["first", "second"]]
    assert not box.due(now + 8.0, 6)


def test_a_flood_is_told_a_few_times_a_minute_and_what_found_no_room_as_a_number():
    sent = []
    box = AlertQueue(lambda batch: sent.append([alert.text for alert in batch]))
    for number in range(KEPT + 5):
        box.add(Alert(0.0, "a", "alarm", str(number)))
    assert box.go(0.0) == ""
    assert sent[0][0] == "5 older alerts were dropped"
    assert sent[0][1:] == [str(number) for number in range(5, KEPT + 5)]
    for number in range(5):
        box.add(Alert(0.0, "a", "alarm", "x"))
        assert box.due(float(number), 2) == (number == 0)
        if number == 0:
            box.go(0.5)
    assert box.due(60.0, 2)
    box.go(60.0)
    assert sent[-1] == ["x"] * 4


def test_a_server_that_refuses_or_is_not_there_is_one_sentence_without_the_secret(sink, web):
    sink.refuses = True
    with pytest.raises(Unavailable) as caught:
        mail(smtp(sink), [Alert(0.0, "a", "alarm", "x")])
    assert caught.value.sentence == "127.0.0.1 did not take the mail (SMTPSenderRefused)"
    nowhere = Smtp("127.0.0.1", "a@b.example", ("c@d.example",), 1, security="none")
    with pytest.raises(Unavailable, match=r"127\.0\.0\.1 cannot be reached"):
        mail(nowhere, [Alert(0.0, "a", "alarm", "x")])
    # and a secret follows no redirection
    for answer, word in ((500, "answered 500"), (302, "answered 302")):
        web.answer = answer
        with pytest.raises(Unavailable, match=word) as caught:
            post(webhook(web), [Alert(0.0, "a", "alarm", "x")])
        assert "s3cret" not in caught.value.sentence
    with pytest.raises(Unavailable, match="cannot be reached"):
        post(Webhook("http://127.0.0.1:1/x"), [Alert(0.0, "a", "alarm", "x")])


def test_a_channel_is_tried_with_what_is_typed(alerts, sink):
    alerts.attempt("email", AlertSettings(smtp=smtp(sink)))
    alerts.attempt("webhook", AlertSettings())
    until(lambda: len(alerts.tries) == 2)
    assert sorted(alerts.tries) == [("email", ""), ("webhook", "no webhook is set up")]
    assert "This is a trial" in sink.mails[0]


def test_a_failing_channel_is_told_once(alerts, web):
    web.answer = 503
    alerts.change(AlertSettings(webhook=webhook(web)))
    alerts.tell(ALARM)
    until(lambda: alerts.faults)
    assert alerts.faults == ["Alerts by webhook wait: the webhook answered 503"]


def test_a_disk_that_hangs_keeps_no_alert_from_going(alerts, web, hanging, monkeypatch):
    """The alert that says so waited for that disk."""
    alerts.change(AlertSettings(webhook=webhook(web)))
    monkeypatch.setattr("hawser.service.alerts.channels.written", hanging)
    alerts.tell(ALARM)
    until(lambda: web.posts)
    assert not alerts.faults


def test_a_user_with_an_umlaut_is_logged_in(sink):
    settings = msgspec.structs.replace(smtp(sink), user="jörg", password="süß")
    mail(settings, [Alert(0.0, "a", "alarm", "x")])
    assert sink.logins == [["jörg", "süß"]]
    assert len(sink.mails) == 1


class Nonsense(socketserver.StreamRequestHandler):
    """Speaks neither HTTP nor SMTP."""

    def handle(self) -> None:
        self.wfile.write(b"\x00\xff GARBLE 12 not a protocol\r\n" * 3)


@pytest.fixture
def nonsense() -> Iterator[socketserver.ThreadingTCPServer]:
    with socketserver.ThreadingTCPServer(("127.0.0.1", 0), Nonsense) as server:
        server.daemon_threads = True
        thread = threading.Thread(target=server.serve_forever)
        thread.start()
        yield server
        server.shutdown()
        thread.join()


def test_one_channel_that_meets_nonsense_is_told_and_the_other_goes_on(alerts, nonsense, sink):
    port = nonsense.server_address[1]
    alerts.change(
        AlertSettings(smtp=smtp(sink), webhook=Webhook(f"http://127.0.0.1:{port}/x", "s3cret"))
    )
    for number in range(3):
        alerts.tell(ALARM)
        until(lambda wanted=number: len(sink.mails) > wanted)
    until(lambda: alerts.faults)
    assert alerts.faults[0].startswith("Alerts by webhook wait: the webhook cannot be reached")
    assert "s3cret" not in alerts.faults[0]
    with pytest.raises(Unavailable):
        mail(
            Smtp("127.0.0.1", "a@b.example", ("a@b.example",), port, security="none"),
            [Alert(0, "a", "alarm", "x")],
        )


def test_a_channel_whose_errand_never_ends_is_told_and_goes_on(monkeypatch):
    monkeypatch.setattr("hawser.service.alerts.channels.LONGEST", 0.05)
    stuck = threading.Event()
    box = AlertQueue(lambda batch: stuck.wait() or None)
    box.add(Alert(0.0, "a", "alarm", "x"))
    assert "no end to it" in box.go(0.0)
    assert len(box.held()) == 1
    stuck.set()


def test_an_error_nobody_foresaw_is_told_without_its_words(alerts, web, monkeypatch):
    def broken(*_: object) -> None:
        raise RuntimeError("password s3cret")

    monkeypatch.setattr("hawser.service.alerts.sending.post", broken)
    alerts.change(AlertSettings(webhook=webhook(web)))
    alerts.tell(ALARM)
    until(lambda: alerts.faults)
    assert alerts.faults == ["Alerts by webhook wait: it failed (RuntimeError)"]
    monkeypatch.undo()


def test_a_thread_that_has_ended_is_started_again_and_told(alerts, web):
    alerts._stop.set()
    until(lambda: not any(thread.is_alive() for thread in alerts._threads.values()))
    alerts._stop.clear()
    alerts.change(AlertSettings(webhook=webhook(web)))
    alerts.tell(ALARM)
    until(lambda: web.posts)
    assert "Alerts by webhook had come to an end: they are started again" in alerts.faults


@pytest.mark.parametrize(
    "make",
    [
        lambda: Smtp("mail.example.org", "a@b.example\nBcc: c@d.example", ("a@b.example",)),
        lambda: Smtp("mail.example.org", "a@b.example", ("a@b.example\r\n",)),
        lambda: Smtp("." * 70, "a@b.example", ("a@b.example",)),
        lambda: Smtp("x" * 64 + ".example", "a@b.example", ("a@b.example",)),
        lambda: Smtp("mail example", "a@b.example", ("a@b.example",)),
        lambda: Webhook("https://example.org/a b"),
        lambda: Webhook("https://example.org:abc/x"),
        lambda: Webhook("https://example.org:99999/x"),
        lambda: Webhook("https://" + "x" * 64 + ".example/x"),
        lambda: Webhook("https://[::1/x"),
        lambda: Webhook("https://example.org/x", "two\nlines"),
    ],
)
def test_an_address_nothing_can_be_sent_to_is_refused_when_it_is_typed(make):
    with pytest.raises(BadInput):
        make()


@pytest.mark.parametrize(
    ("make", "word"),
    [
        (lambda: Webhook("http://example.org/x"), "https, except on this machine"),
        (lambda: Webhook("ftp://example.org"), "an address such as https"),
        (lambda: Smtp("h", "nobody", ("a@b.example",)), "addresses with an @"),
        (
            lambda: Smtp("h", "a@b.example", ("a@b.example",), security="none", password="x"),
            "starttls or tls",
        ),
        (lambda: AlertSettings(most_per_min=0), "1 to 600"),
    ],
)
def test_what_cannot_be_meant_is_refused(make, word):
    with pytest.raises(BadInput, match=word):
        make()
