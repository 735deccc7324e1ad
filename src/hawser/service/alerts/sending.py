"""Hands alerts to a mail server or a webhook. Whatever a server does ends in a sentence that has no
secret in it."""

from __future__ import annotations

import base64
import http.client
import json
import smtplib
import ssl
import time
import urllib.error
import urllib.request
from email.message import EmailMessage

from hawser.core.errors import Unavailable
from hawser.service.alerts.alert import Alert
from hawser.service.alerts.settings import Smtp, Webhook

TIMEOUT = 10.0  # seconds for one answer of a server


def mail(smtp: Smtp | None, batch: list[Alert]) -> None:
    """Send a mail; raises Unavailable with what went wrong, and no secret in it."""
    if smtp is None:
        raise Unavailable("no_smtp", "no mail server is set up")
    message = EmailMessage()
    message["From"], message["To"] = smtp.sender, ", ".join(smtp.to)
    first = (
        batch[-1].text if len(batch) == 1 else f"{len(batch)} alerts, the last: {batch[-1].text}"
    )
    message["Subject"] = f"Hawser, {batch[-1].account}: {' '.join(first.split())[:160]}"
    message.set_content("\n".join(_line(alert) for alert in batch) + "\n")
    try:
        context = ssl.create_default_context()
        if smtp.security == "tls":
            server: smtplib.SMTP = smtplib.SMTP_SSL(
                smtp.host, smtp.port, timeout=TIMEOUT, context=context
            )
        else:
            server = smtplib.SMTP(smtp.host, smtp.port, timeout=TIMEOUT)
        with server:
            if smtp.security == "starttls":
                server.starttls(context=context)
            if smtp.user:
                _log_in(server, smtp)
            server.send_message(message)
    except smtplib.SMTPException as error:
        raise Unavailable(
            "mail", f"{smtp.host} did not take the mail ({type(error).__name__})"
        ) from None
    except (OSError, UnicodeError) as error:
        why = getattr(error, "strerror", None) or type(error).__name__
        raise Unavailable("mail", f"{smtp.host} cannot be reached ({why})") from None


def _log_in(server: smtplib.SMTP, smtp: Smtp) -> None:
    """The library's own login knows plain ASCII only; the method PLAIN takes UTF-8 (RFC 4616)."""
    if (smtp.user + smtp.password).isascii():
        server.login(smtp.user, smtp.password)
        return
    server.ehlo_or_helo_if_needed()
    secret = base64.b64encode(f"\0{smtp.user}\0{smtp.password}".encode()).decode()
    code, answer = server.docmd("AUTH", f"PLAIN {secret}")
    if code != 235:
        raise smtplib.SMTPAuthenticationError(code, answer)


class _Straight(urllib.request.HTTPRedirectHandler):
    """A secret goes to the address it was meant for, and nowhere else."""

    def redirect_request(self, *args: object, **more: object) -> None:
        return None


def post(webhook: Webhook | None, batch: list[Alert]) -> None:
    """Post the alerts as JSON; raises Unavailable with what went wrong."""
    if webhook is None:
        raise Unavailable("no_webhook", "no webhook is set up")
    body = {"alerts": [alert._asdict() for alert in batch]}
    headers = {"Content-Type": "application/json"}
    if webhook.secret:
        headers["Authorization"] = f"Bearer {webhook.secret}"
    request = urllib.request.Request(webhook.url, json.dumps(body).encode(), headers, method="POST")
    try:
        with urllib.request.build_opener(_Straight).open(request, timeout=TIMEOUT):
            return
    except urllib.error.HTTPError as error:
        error.close()
        raise Unavailable("webhook", f"the webhook answered {error.code}") from None
    except (OSError, ValueError, http.client.HTTPException) as error:
        why = getattr(error, "reason", None) or type(error).__name__
        raise Unavailable("webhook", f"the webhook cannot be reached ({why})") from None


def _line(alert: Alert) -> str:
    return (
        f"{time.strftime('%Y-%m-%d %H:%M:%S UTC', time.gmtime(alert.time))}  {alert.weight}: "
        f"{alert.text}"
    )
