"""How long sessions last, and what the shop asks of them."""

from __future__ import annotations

import time
from typing import Any

from django.contrib.auth.models import User
from django.db import transaction

from greyanchor.accounts.audit_log import note
from greyanchor.accounts.models import AccessRules
from greyanchor.accounts.roles import RELEASE, needs
from greyanchor.core.errors import BadInput

#: keys of a session: when it began, when somebody did something last, both in seconds since 1970
BEGAN, SEEN = "began", "seen"
#: seconds for which a session is not written again
_MINUTE = 60.0
_DAY, _HOUR = 86400.0, 3600.0


def is_over(session: Any, is_step: bool) -> bool:
    """Whether a session has ended; `is_step` says that a person did something just now, and is written down
    once a minute.
    """
    now = time.time()
    began, seen = session.get(BEGAN), session.get(SEEN)
    if began is None or seen is None:
        session[BEGAN], session[SEEN] = now, now
        return False
    if now - seen < _MINUTE:
        return False
    rules = AccessRules.current()
    if now - seen > rules.idle_hours * _HOUR or now - began > rules.longest_days * _DAY:
        return True
    if is_step:
        session[SEEN] = now
    return False


@needs(RELEASE)
@transaction.atomic
def set_rules(based_on: int, values: dict[str, Any], user: User | None) -> AccessRules:
    """Change them; `BadInput` where somebody else did meanwhile."""
    AccessRules.objects.get_or_create(pk=1)
    rules = AccessRules.objects.select_for_update().get(pk=1)
    if rules.version != based_on:
        raise BadInput("the rules were changed by somebody else; look at them again")
    for name, value in values.items():
        label = str(AccessRules._meta.get_field(name).verbose_name).capitalize()  # type: ignore[union-attr]
        note(rules, label, getattr(rules, name), value, user)
        setattr(rules, name, value)
    rules.full_clean()
    rules.version += 1
    rules.save()
    return rules
