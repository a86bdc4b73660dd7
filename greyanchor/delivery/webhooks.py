"""Events sent to other programs, signed, and tried again until they arrive.

Headers and signature are those of the open Standard Webhooks: HMAC-SHA256 of id, time and body.
"""

from __future__ import annotations

import base64
import hashlib
import hmac
import http.client
import json
import ssl
import uuid
from collections.abc import Iterable
from datetime import UTC, datetime, timedelta
from typing import Any
from urllib.parse import urlsplit

from django.contrib.auth.models import User
from django.db import transaction
from django.utils import timezone

from greyanchor.accounts.roles import RELEASE, needs
from greyanchor.core.errors import BadInput
from greyanchor.delivery.attempts import due, failed, succeeded
from greyanchor.delivery.models import EVENTS, Message, Webhook

#: seconds that an address has to answer
ANSWER_SECONDS = 10.0
_AT_ONCE = 20
_KEPT_DAYS = 30


@needs(RELEASE)
@transaction.atomic
def make(name: str, address: str, events: Iterable[str], user: User | None) -> Webhook:
    """Let an address hear of events. Raises `BadInput` for a taken name and for no address."""
    parts = urlsplit(address.strip())
    if parts.scheme not in ("http", "https") or not parts.hostname:
        raise BadInput(f"{address!r} is no address: write https://host/path")
    chosen = [e for e in events if e in EVENTS]
    if not chosen:
        raise BadInput("choose at least one event")
    if not name.strip() or Webhook.objects.filter(name=name.strip()).exists():
        raise BadInput(f"{name or 'an empty name'} is taken or empty; choose another name")
    return Webhook.objects.create(
        name=name.strip()[:80], address=address.strip()[:400], events=chosen, made_by=user
    )


@needs(RELEASE)
def switch(hook: Webhook) -> None:
    """Send to an address again, or stop it."""
    hook.active = not hook.active
    hook.save(update_fields=["active"])


def announce(event: str, data: dict[str, Any]) -> None:
    """Put an event on its way to every address that asked for it, within the transaction that made it."""
    now = timezone.now()
    hooks = [h for h in Webhook.objects.filter(active=True) if event in h.events]
    Message.objects.bulk_create(
        Message(
            webhook=hook,
            key=f"msg_{uuid.uuid4().hex}",
            event=event,
            body={"type": event, "timestamp": now.isoformat(), "data": data},
            next_at=now,
        )
        for hook in hooks
    )


def signature(secret: str, key: str, moment: int, body: bytes) -> str:
    """``v1,`` and the base64 HMAC-SHA256 of ``id.time.body``."""
    signed = f"{key}.{moment}.".encode() + body
    digest = hmac.new(secret.encode(), signed, hashlib.sha256).digest()
    return "v1," + base64.b64encode(digest).decode()


def sweep() -> int:
    """Send what is due; how many messages were tried."""
    tried = 0
    for record in due(Message).select_related("webhook").filter(webhook__active=True)[:_AT_ONCE]:
        tried += 1
        try:
            status = _sent(record)
        except (OSError, http.client.HTTPException) as error:
            failed(record, f"{urlsplit(record.webhook.address).netloc} cannot be reached: {error}")
            continue
        record.status = status
        if 200 <= status < 300:
            succeeded(record)
        else:
            failed(record, f"it answered {status}")
    return tried


def _sent(record: Message) -> int:
    """The status that the address answers."""
    parts = urlsplit(record.webhook.address)
    body = json.dumps(record.body, ensure_ascii=False).encode()
    moment = int(datetime.now(UTC).timestamp())
    host, port = parts.hostname or "", parts.port
    line: http.client.HTTPConnection
    if parts.scheme == "https":
        line = http.client.HTTPSConnection(
            host, port, timeout=ANSWER_SECONDS, context=ssl.create_default_context()
        )
    else:
        line = http.client.HTTPConnection(host, port, timeout=ANSWER_SECONDS)
    path = (parts.path or "/") + (f"?{parts.query}" if parts.query else "")
    headers = {
        "Content-Type": "application/json",
        "User-Agent": "Grey Anchor",
        "webhook-id": record.key,
        "webhook-timestamp": str(moment),
        "webhook-signature": signature(record.webhook.secret, record.key, moment, body),
    }
    try:
        line.request("POST", path, body, headers)
        answer = line.getresponse()
        answer.read(4096)
        return answer.status
    finally:
        line.close()


def forget_old() -> None:
    """Messages that arrived long ago are not kept."""
    old = timezone.now() - timedelta(days=_KEPT_DAYS)
    Message.objects.filter(state=Message.State.DONE, done_at__lt=old).delete()
