"""Sends notices: CloudEvents 1.0 by webhook, signed as Standard Webhooks says, and plain text by mail.

A notice whose receiver is down, slow or answers 500 is sent again with growing pauses for a day, and then given up.
"""

from __future__ import annotations

import asyncio
import base64
import hashlib
import hmac
import logging
import secrets
import smtplib
import time
from collections.abc import Sequence
from datetime import datetime
from email.message import EmailMessage
from functools import partial
from typing import Any
from uuid import UUID, uuid4

import httpx
import orjson

from lamppost.core.monitoring.alert_rules import Alert
from lamppost.service.outgoing_http import outgoing_client
from lamppost.service.settings import Settings
from lamppost.store import alerts
from lamppost.store.alerts import Notice
from lamppost.store.database import Pool

log = logging.getLogger("lamppost.notices")

PATIENCE_S = 10.0
_PAUSES_S = (5, 15, 60, 300, 900, 3_600, 7_200, 14_400, 28_800, 28_800)
SECRET_PREFIX = "whsec_"  # noqa: S105, what every secret of this kind begins with


def make_secret() -> str:
    """A new secret for signing webhooks."""
    return SECRET_PREFIX + base64.b64encode(secrets.token_bytes(24)).decode()


def webhook_signature(secret: str, message_id: str, timestamp: int, body: bytes) -> str:
    """The value of ``webhook-signature`` (Standard Webhooks 1.0.0): HMAC-SHA256 over id, time and body."""
    key = base64.b64decode(secret.removeprefix(SECRET_PREFIX))
    signed = hmac.new(key, f"{message_id}.{timestamp}.".encode() + body, hashlib.sha256).digest()
    return f"v1,{base64.b64encode(signed).decode()}"


def alert_event(address: str, state: str, cause: str, group: Sequence[Alert], now: datetime) -> dict[str, Any]:
    """A CloudEvent about alerts of one cause."""
    first = group[0]
    path = f"/endpoints/{first.endpoint}/drift" if first.rule in ("drift", "odd") else f"/endpoints/{first.endpoint}/traffic"
    command = f"lamppost drift {first.endpoint}" if first.rule in ("drift", "odd") else f"lamppost watch {first.endpoint}"
    return {
        "specversion": "1.0",
        "id": str(uuid4()),
        "source": address,
        "type": f"lamppost.alert.{state}",
        "subject": first.endpoint,
        "time": now.isoformat(),
        "datacontenttype": "application/json",
        "data": {
            "cause": cause,
            "alerts": [
                {
                    "endpoint": alert.endpoint,
                    "rule": alert.rule,
                    "state": alert.state,
                    "since": alert.since.isoformat(),
                    "resolved_at": alert.resolved_at.isoformat() if alert.resolved_at else None,
                    "summary": alert.reading.summary,
                    "certainty": alert.reading.certainty,
                    "probable_cause": alert.reading.probable_cause,
                }
                for alert in group
            ],
            "next": {"command": command, "page": f"{address}{path}"},
        },
    }


def mail_text(body: dict[str, Any]) -> tuple[str, str]:
    """Subject and text of a mail about an event."""
    data = body["data"]
    over = body["type"].endswith("resolved")
    names = ", ".join(dict.fromkeys(alert["endpoint"] for alert in data["alerts"]))
    subject = f"{'over' if over else 'look at'} {names}: {data['cause'] if data['cause'] != names else data['alerts'][0]['rule']}"
    lines = []
    for alert in data["alerts"]:
        lines += [
            f"{alert['endpoint']}: {alert['summary']}",
            f"  since {alert['since']}" + (f", over at {alert['resolved_at']}" if over else ""),
        ]
        lines += [f"  certainty: {alert['certainty']}"] + ([f"  probably: {alert['probable_cause']}"] if alert["probable_cause"] else [])
    return subject, "\n".join([*lines, "", f"next: {data['next']['command']}", f"      {data['next']['page']}", ""])


class NoticeSender:
    """Sends notices. sent, failed : counts since this node started."""

    def __init__(self, pool: Pool, settings: Settings) -> None:
        self._pool = pool
        self._settings = settings
        self._going: dict[Any, asyncio.Task[None]] = {}
        self.sent = 0
        self.failed = 0

    async def send_due(self) -> None:
        """Begin to send the notices that are due. A slow receiver holds up no other."""
        for notice in await alerts.due_notices(self._pool):
            if notice.id not in self._going:
                task = asyncio.create_task(self._send_notice(notice), name=f"notice {notice.id}")
                self._going[notice.id] = task
                task.add_done_callback(partial(self._forget_task, notice.id))

    def _forget_task(self, key: UUID, _: asyncio.Task[None]) -> None:
        self._going.pop(key, None)

    async def _send_notice(self, notice: Notice) -> None:
        try:
            if notice.channel.kind == "webhook":
                await self._post(notice)
            else:
                await asyncio.to_thread(self.send_mail, notice.channel.target, *mail_text(notice.body))
        except (httpx.HTTPError, httpx.InvalidURL, OSError, smtplib.SMTPException, ValueError) as error:
            self.failed += 1
            wait = _PAUSES_S[notice.tries] if notice.tries < len(_PAUSES_S) else None
            message = str(error) or type(error).__name__
            log.warning("notice to %s did not arrive (%s)%s", notice.channel.name, message, "" if wait else "; it is given up")
            await alerts.note_not_sent(self._pool, notice, message, wait)
        except Exception as error:
            log.exception("a notice to %s failed on a fault of our own", notice.channel.name)
            await alerts.note_not_sent(self._pool, notice, repr(error), None)
        else:
            self.sent += 1
            await alerts.note_sent(self._pool, notice)

    async def _post(self, notice: Notice) -> None:
        body = orjson.dumps(notice.body)
        now = int(time.time())
        headers = {"content-type": "application/cloudevents+json", "webhook-id": str(notice.id), "webhook-timestamp": str(now)}
        if notice.channel.secret:
            headers["webhook-signature"] = webhook_signature(notice.channel.secret, str(notice.id), now, body)
        # a bound on all of it: one that sends a byte now and then would hold out against a bound on each wait
        async with asyncio.timeout(PATIENCE_S), await outgoing_client(notice.channel.target, PATIENCE_S) as client:
            answer = await client.post(notice.channel.target, content=body, headers=headers)
        if answer.status_code >= 300:
            raise ValueError(f"the receiver answered {answer.status_code}")

    def send_mail(
        self, to: str, subject: str, text: str, attachments: Sequence[tuple[str, str, bytes]] = (), page: str | None = None
    ) -> None:
        """Send one mail over the node's mail server. attachments : name, subtype of application/ or text/, content.

        page : the same as HTML, for mail programs that show it.
        """
        if self._settings.smtp is None:
            raise ValueError("this node has no mail server; start it with up --smtp HOST:PORT")
        message = EmailMessage()
        message["Subject"], message["From"], message["To"] = f"[Lamp Post] {subject}", self._settings.mail_from, to
        message.set_content(text)
        if page is not None:
            message.add_alternative(page, subtype="html")
        for name, subtype, content in attachments:
            message.add_attachment(content, maintype="text" if subtype == "html" else "application", subtype=subtype, filename=name)
        host, _, port = self._settings.smtp.rpartition(":")
        with smtplib.SMTP(host or "127.0.0.1", int(port), timeout=PATIENCE_S) as server:
            server.send_message(message)
