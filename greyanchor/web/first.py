"""The first hour of a shop: its first account, and what is still to be set up."""

from __future__ import annotations

from dataclasses import dataclass

from django import forms
from django.contrib.auth import login
from django.contrib.auth.decorators import login_not_required
from django.http import HttpRequest, HttpResponse
from django.shortcuts import redirect, render
from django.urls import reverse
from django.views.decorators.cache import never_cache
from django.views.decorators.debug import sensitive_post_parameters

from greyanchor.accounts import first
from greyanchor.accounts.models import Site
from greyanchor.builds.models import Build
from greyanchor.core.errors import BadInput
from greyanchor.library.models import Media, Printer, PrintMode


class FirstAccountForm(forms.Form):
    """The first account and the first site."""

    username = forms.CharField(label="Name to sign in with", max_length=150)
    first = forms.CharField(label="First name", max_length=150, required=False)
    last = forms.CharField(label="Last name", max_length=150, required=False)
    password = forms.CharField(
        label="Password", widget=forms.PasswordInput, max_length=200, help_text="ten letters or more"
    )
    site = forms.CharField(
        label="Print room",
        max_length=80,
        required=False,
        help_text="the site that you work at; more can follow",
    )


@login_not_required
@never_cache
@sensitive_post_parameters("password")
def first_account(request: HttpRequest, token: str) -> HttpResponse:
    """Make the first account by the link that the server printed."""
    if not first.is_open(token):
        text = (
            "The first account exists. Sign in, or ask a lead of the shop for an account."
            if not first.nobody_yet()
            else "A newer link was printed when the server last started. Use that one."
        )
        context = {"title": "This link was used or replaced", "text": text}
        return render(request, "web/notice.html", context, status=410)
    form = FirstAccountForm(request.POST or None)
    if request.method == "POST" and form.is_valid():
        d = form.cleaned_data
        try:
            made = first.make_first(token, d["username"], d["first"], d["last"], d["password"], d["site"])
        except BadInput as error:
            form.add_error(None, error.sentence)
        else:
            login(request, made, backend="django.contrib.auth.backends.ModelBackend")
            return redirect("start")
    return render(
        request, "web/first_account.html", {"form": form}, status=422 if request.method == "POST" else 200
    )


@dataclass(frozen=True)
class Step:
    """One thing that a shop needs before its first released print mode.

    Attributes
    ----------
    title, why
        What it is and what it is for.
    done
        Whether there is one.
    url, action
        Where it is made, and what that is called.
    """

    title: str
    why: str
    done: bool
    url: str
    action: str


def without_machines() -> bool:
    """Whether no printer is in the library, so that the start page has nothing else to show."""
    return not Printer.objects.exists()


def steps() -> list[Step]:
    """What a shop sets up until its first print mode is released, in order; empty once there was one."""
    if PrintMode.objects.filter(state__in=[PrintMode.State.RELEASED, PrintMode.State.RETIRED]).exists():
        return []

    equipped = Printer.objects.exclude(ink_sets=None).exists() and Media.objects.exists()
    return [
        Step(
            "A site",
            "the print room that people and printers belong to",
            Site.objects.exists(),
            reverse("shop"),
            "Add a site",
        ),
        Step(
            "A printer, its inks and a media",
            "one page, from starting points whose values you change",
            equipped,
            reverse("set-up"),
            "Set up a printer",
        ),
        Step(
            "A build",
            "from the frozen print environment to a checked print mode",
            Build.objects.exists(),
            reverse("new-build"),
            "Start a build",
        ),
        Step(
            "A released print mode",
            "checked by a strip printed through it, and released by a lead",
            False,
            reverse("modes"),
            "Release a print mode",
        ),
    ]
