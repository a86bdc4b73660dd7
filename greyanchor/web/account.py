"""The page of one's own account, and the steps of signing in behind the password."""

from __future__ import annotations

import time
from typing import Any

import structlog
from django import forms
from django.conf import settings
from django.contrib import messages
from django.contrib.auth import login
from django.contrib.auth.decorators import login_not_required
from django.contrib.auth.models import User
from django.core.exceptions import SuspiciousOperation
from django.http import HttpRequest, HttpResponse
from django.shortcuts import redirect, render
from django.urls import reverse
from django.utils.decorators import method_decorator
from django.views.decorators.cache import never_cache
from django.views.decorators.debug import sensitive_post_parameters
from django.views.decorators.http import require_POST
from jwt import PyJWTError
from mozilla_django_oidc.views import OIDCAuthenticationCallbackView, OIDCAuthenticationRequestView
from requests import RequestException

from greyanchor.accounts import mail, people, second_factor, single_sign_on
from greyanchor.core.errors import BadInput
from greyanchor.web.sessions import MUST_SET_UP

_log = structlog.get_logger(__name__)
#: keys of a session between password and code; seconds that it waits for the code
_WAITING, _SINCE, _NEXT, _PATIENCE = "factor_user", "factor_since", "factor_next", 300.0
#: how whoever typed the password was found
_BACKEND = "django.contrib.auth.backends.ModelBackend"


@never_cache
def account(request: HttpRequest) -> HttpResponse:
    """One's own password, mail address and second factor."""
    user: Any = request.user
    on = second_factor.is_on(user)
    factor = None if on else second_factor.begin(user)
    return render(
        request,
        "web/account.html",
        {
            "on": on,
            "factor": factor,
            "picture": second_factor.picture(factor) if factor else "",
            "required": request.session.get(MUST_SET_UP, False),
            "spare": request.session.pop("spare_codes", None),
            "has_mail": mail.is_here(),
        },
    )


@require_POST
def factor_on(request: HttpRequest) -> HttpResponse:
    """Switch a second factor on by a first code of it."""
    request.session["spare_codes"] = second_factor.confirm(request.user, request.POST.get("code", ""))
    request.session.pop(MUST_SET_UP, None)
    messages.success(request, "The second factor is on. Keep the spare codes away from this computer.")
    return redirect("account")


@require_POST
@sensitive_post_parameters()
def factor_off(request: HttpRequest) -> HttpResponse:
    second_factor.switch_off(request.user, request.POST.get("password", ""))
    messages.success(request, "The second factor is off.")
    return redirect("account")


@require_POST
def mail_set(request: HttpRequest) -> HttpResponse:
    user: Any = request.user
    people.set_mail(user, request.POST.get("address", ""))
    messages.success(request, "The mail address is saved.")
    return redirect("account")


def signed_in(request: HttpRequest, user: Any, where: str) -> HttpResponse:
    """What follows a right password: a code where a second factor is on, else the page that was asked for."""
    if second_factor.is_on(user):
        request.session[_WAITING], request.session[_SINCE] = user.pk, time.time()
        request.session[_NEXT] = where
        return redirect("sign-in-code")
    login(request, user)
    if second_factor.is_required(user):
        request.session[MUST_SET_UP] = True
        messages.info(request, "The rules of the shop require a second factor of you: set one up first.")
        return redirect("account")
    return redirect(where)


def _waiting(request: HttpRequest) -> User | None:
    """Whose code is waited for; None where nobody typed a password, or too long ago."""
    if time.time() - request.session.get(_SINCE, 0.0) > _PATIENCE:
        return None
    return User.objects.filter(pk=request.session.get(_WAITING), is_active=True).first()


class CodeForm(forms.Form):
    """A code of the authenticator, or a spare one."""

    code = forms.CharField(
        max_length=20,
        help_text="six digits of the authenticator, or one of the spare codes",
        widget=forms.TextInput(
            attrs={"autocomplete": "one-time-code", "inputmode": "numeric", "autofocus": True}
        ),
    )


@never_cache
@login_not_required
@sensitive_post_parameters()
def code(request: HttpRequest) -> HttpResponse:
    """The second step of signing in."""
    user = _waiting(request)
    if user is None:
        return redirect("sign-in")
    form = CodeForm(request.POST or None)
    if request.method == "POST" and form.is_valid():
        try:
            fits = second_factor.take(user, form.cleaned_data["code"])
        except BadInput as error:
            form.add_error("code", error.sentence)
        else:
            if fits:
                where = request.session.pop(_NEXT, "/")
                for key in (_WAITING, _SINCE):
                    del request.session[key]
                login(request, user, _BACKEND)
                return redirect(where)
            form.add_error("code", "The code does not fit. Each counts once, for half a minute.")
    status = 422 if request.method == "POST" else 200
    return render(request, "web/code.html", {"form": form, "person": user}, status=status)


class ForgottenForm(forms.Form):
    """Whose password is forgotten."""

    name = forms.CharField(label="Name to sign in with", max_length=150)


@never_cache
@login_not_required
def forgotten(request: HttpRequest) -> HttpResponse:
    """A link for a new password by mail, where the shop has mail."""
    if not mail.is_here():
        context = {"title": "A forgotten password", "text": "Ask a lead for a link to set a new one."}
        return render(request, "web/notice.html", context)
    form = ForgottenForm(request.POST or None)
    if request.method == "POST" and form.is_valid():
        page = request.build_absolute_uri(reverse("new-password", args=["TOKEN"]))
        mail.send_link(form.cleaned_data["name"], page)
        messages.info(request, "If that name has an account with a mail address, a link is on its way.")
        return redirect("sign-in")
    return render(request, "web/forgotten.html", {"form": form})


@method_decorator(login_not_required, name="dispatch")
class ToProvider(OIDCAuthenticationRequestView):  # type: ignore[misc]
    """To the OpenID provider of the shop."""

    get_settings = staticmethod(single_sign_on.setting)

    def __init__(self, *args: Any, **kwargs: Any) -> None:
        super().__init__(*args, **kwargs) if settings.OIDC_ISSUER else None

    def get(self, request: HttpRequest) -> HttpResponse:
        if not settings.OIDC_ISSUER:
            return redirect("sign-in")
        answer: HttpResponse = super().get(request)
        return answer


@method_decorator(login_not_required, name="dispatch")
class FromProvider(OIDCAuthenticationCallbackView):  # type: ignore[misc]
    """Back from it, with its word on who somebody is."""

    get_settings = staticmethod(single_sign_on.setting)

    def get(self, request: HttpRequest) -> HttpResponse:
        if not settings.OIDC_ISSUER:
            return redirect("sign-in")
        try:
            answer: HttpResponse = super().get(request)
        except (RequestException, SuspiciousOperation, PyJWTError, LookupError, ValueError) as error:
            _log.warning("what the provider of sign-in answered was refused", reason=str(error))
            messages.error(request, "What the provider answered was refused. Try again, or use a password.")
            return redirect("sign-in")
        return answer

    def login_failure(self) -> HttpResponse:
        name = self.request.session.pop("provider_name", "")
        who = f"Nobody here signs in as {name!r}" if name else "The provider did not say who you are"
        messages.error(self.request, f"{who}. A lead adds people under Shop, by the name the provider says.")
        return redirect("sign-in")
