"""Mail to people, where the shop has a server for it."""

from __future__ import annotations

import structlog
from django.conf import settings
from django.contrib.auth.models import User
from django.core.mail import send_mail

from greyanchor.accounts import people

_log = structlog.get_logger(__name__)


def is_here() -> bool:
    """Whether the shop has mail."""
    return bool(settings.EMAIL_HOST)


def send_link(name: str, address_of: str) -> None:
    """Send a link for a new password to the person of that name, where there is one with a mail address.

    `address_of` is the address of the page with ``TOKEN`` in place of the token. Whoever asks is answered the
    same in any case, so that names cannot be guessed.
    """
    person = User.objects.filter(username__iexact=name.strip(), is_active=True).exclude(email="").first()
    if person is None:
        return
    token = people.link_by_mail(person)
    send_mail(
        "Grey Anchor: a new password",
        f"Set a new password with this link, once and within a day:\n\n"
        f"{address_of.replace('TOKEN', token)}\n\n"
        "If you did not ask for it, nothing needs to be done; the old password holds.\n",
        None,
        [person.email],
    )


def send_message(person: User, subject: str, text: str) -> None:
    """Send a person a message, where the shop has mail and the person an address. A server that does not
    answer stops nothing: the page says the same.
    """
    if not is_here() or not person.email or not person.is_active:
        return
    try:
        send_mail(f"Grey Anchor: {subject}", text, None, [person.email])
    except OSError:
        _log.exception("a message could not be sent", person=person.pk)
