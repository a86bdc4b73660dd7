"""The interface itself: how a program signs in, and how a refusal looks."""

from __future__ import annotations

from typing import Any

from django.conf import settings
from django.core.exceptions import PermissionDenied, RequestDataTooBig
from django.http import Http404, HttpRequest, HttpResponse
from django.http.multipartparser import MultiPartParserError
from django.utils import timezone
from ninja import NinjaAPI
from ninja.errors import AuthenticationError, HttpError, ValidationError
from ninja.security import HttpBearer

from greyanchor.accounts.models import ProgramKey
from greyanchor.accounts.roles import act_as
from greyanchor.core.errors import BadInput

#: a key's last use is written down at most this often, seconds
_USED_EVERY = 60


class Key(HttpBearer):
    """A key of a person goes with every request; what the person may do, the program may."""

    def authenticate(self, request: HttpRequest, token: str) -> Any:
        found = (
            ProgramKey.objects.select_related("user")
            .filter(digest=ProgramKey.digest_of(token.strip()), user__is_active=True)
            .first()
        )
        if found is None or found.is_over:
            return None
        if not found.may_write and request.method not in ("GET", "HEAD"):
            raise PermissionDenied("this key reads alone; make one that writes as well")
        now = timezone.now()
        if found.used_at is None or (now - found.used_at).total_seconds() > _USED_EVERY:
            ProgramKey.objects.filter(pk=found.pk).update(used_at=now)
        request.user = found.user
        act_as(found.user)
        return found.user


api = NinjaAPI(
    title="Grey Anchor",
    version="1",
    description=(
        "Fetch the right print mode, deliver a pack or a reading. A key of a person goes with every "
        "request; what "
        "the person may do, the program may."
    ),
    auth=Key(),
    urls_namespace="api",
    docs_url=None,
)


def _refused(request: HttpRequest, status: int, reason: str) -> HttpResponse:
    return api.create_response(request, {"error": reason}, status=status)


@api.exception_handler(AuthenticationError)
def _unknown(request: HttpRequest, error: AuthenticationError) -> HttpResponse:
    answer = _refused(
        request,
        401,
        (
            "sign in with a key: Authorization: Bearer KEY. People make keys under Packs, Rules, people and "
            "programs."
        ),
    )
    answer["WWW-Authenticate"] = 'Bearer realm="Grey Anchor"'
    return answer


@api.exception_handler(BadInput)
def _bad_input(request: HttpRequest, error: BadInput) -> HttpResponse:
    return _refused(request, 422, str(error))


@api.exception_handler(ValidationError)
def _not_understood(request: HttpRequest, error: ValidationError) -> HttpResponse:
    first = error.errors[0]
    return _refused(request, 422, f"{'.'.join(map(str, first['loc']))}: {first['msg']}")


@api.exception_handler(PermissionDenied)
def _not_allowed(request: HttpRequest, error: PermissionDenied) -> HttpResponse:
    return _refused(request, 403, str(error))


@api.exception_handler(Http404)
def _nothing_here(request: HttpRequest, error: Http404) -> HttpResponse:
    return _refused(request, 404, "there is no such record")


@api.exception_handler(HttpError)
def _unreadable(request: HttpRequest, error: HttpError) -> HttpResponse:
    return _refused(request, error.status_code, str(error))


@api.exception_handler(MultiPartParserError)
def _bad_form(request: HttpRequest, error: MultiPartParserError) -> HttpResponse:
    return _refused(request, 400, f"the form is not understood: {error}")


@api.exception_handler(RequestDataTooBig)
def _too_large(request: HttpRequest, error: RequestDataTooBig) -> HttpResponse:
    most = settings.DATA_UPLOAD_MAX_MEMORY_SIZE // 2**20
    return _refused(
        request, 413, f"a body has at most {most} MB; send a larger pack as the file pack of a form"
    )
