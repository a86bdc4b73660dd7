"""How a program signs in, and how every answer and refusal looks."""

from __future__ import annotations

from collections.abc import Callable
from functools import wraps
from typing import Any

from django.conf import settings
from django.contrib.auth.decorators import login_not_required
from django.core.exceptions import PermissionDenied, RequestDataTooBig
from django.http import Http404, HttpRequest, HttpResponse, JsonResponse
from django.http.multipartparser import MultiPartParserError
from django.utils import timezone
from django.views.decorators.csrf import csrf_exempt

from greyanchor.accounts.models import ProgramKey
from greyanchor.accounts.roles import acting
from greyanchor.core.errors import BadInput

View = Callable[..., HttpResponse]
#: a key's last use is written down at most this often, seconds
_USED_EVERY = 60


def refused(status: int, reason: str) -> JsonResponse:
    """A refusal: what is wrong, in words."""
    return JsonResponse({"error": reason}, status=status)


def _person(request: HttpRequest) -> Any:
    """Whose key came with the request; None where it is none."""
    kind, _, key = request.headers.get("Authorization", "").partition(" ")
    if kind.lower() != "bearer" or not key:
        return None
    found = (
        ProgramKey.objects.select_related("user")
        .filter(digest=ProgramKey.digest_of(key.strip()), user__is_active=True)
        .first()
    )
    if found is None:
        return None
    now = timezone.now()
    if found.used_at is None or (now - found.used_at).total_seconds() > _USED_EVERY:
        ProgramKey.objects.filter(pk=found.pk).update(used_at=now)
    return found.user


def door(**views: View) -> View:
    """One address for programs: a view for each method, behind a key, with refusals as JSON."""

    @login_not_required
    @csrf_exempt
    def answer(request: HttpRequest, *args: Any, **kwargs: Any) -> HttpResponse:
        person = _person(request)
        if person is None:
            made = refused(
                401,
                (
                    "sign in with a key: Authorization: Bearer KEY. People make keys under Packs, Rules, "
                    "people "
                    "and programs."
                ),
            )
            made["WWW-Authenticate"] = 'Bearer realm="Grey Anchor"'
            return made
        view = views.get(request.method or "")
        if view is None:
            made = refused(405, f"this address answers {', '.join(views)}")
            made["Allow"] = ", ".join(views)
            return made
        request.user = person
        try:
            with acting(person):
                return view(request, *args, **kwargs)
        except BadInput as error:
            return refused(422, str(error))
        except PermissionDenied as error:
            return refused(403, str(error))
        except MultiPartParserError as error:
            return refused(400, f"the form is not understood: {error}")
        except RequestDataTooBig:
            most = settings.DATA_UPLOAD_MAX_MEMORY_SIZE // 2**20
            return refused(
                413, f"a body has at most {most} MB; send a larger pack as the file pack of a form"
            )
        except Http404:
            return refused(404, "there is no such record")

    return wraps(next(iter(views.values())))(answer)
