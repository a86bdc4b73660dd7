"""The shop's rules, its people and sites, and keys of other programs."""

from __future__ import annotations

from typing import Any

from django.contrib import messages
from django.contrib.auth.models import User
from django.http import HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.urls import reverse
from django.views.decorators.http import require_POST

from greyanchor.accounts import access, people, second_factor
from greyanchor.accounts.audit_log import noted
from greyanchor.accounts.models import AccessRules, ProgramKey, Site
from greyanchor.accounts.roles import RELEASE, Role, may, role_of, takes
from greyanchor.core.errors import BadInput
from greyanchor.library.models import ShopRules
from greyanchor.library.shop import rules
from greyanchor.library.shop.forms import AccessForm, PersonForm, RulesForm


def shop_page(request: HttpRequest) -> HttpResponse:
    """Rules of a release, people with their roles and sites, and the keys of programs."""
    current = ShopRules.current()
    form = RulesForm(request.POST or None, instance=ShopRules.current(), initial={"version": current.version})
    status = 200
    if request.method == "POST":
        if form.is_valid():
            values = {n: form.cleaned_data[n] for n in RulesForm.Meta.fields}
            rules.set_rules(form.cleaned_data["version"], values, request.user)
            messages.success(request, "Rules saved. Releases are checked against them from now on.")
            return redirect("shop")
        status = 422
    return render(request, "library/shop.html", _context(request, form), status=status)


def _context(request: HttpRequest, form: RulesForm) -> dict[str, object]:
    people = [
        (p, role_of(p).word)
        for p in User.objects.filter(is_active=True)
        .select_related("membership__site")
        .prefetch_related("groups")
    ]
    rules_of_access = AccessRules.current()
    return {
        "form": form,
        "access": AccessForm(
            instance=rules_of_access,
            initial={"version": rules_of_access.version},
            auto_id="access-%s",
        ),
        "with_factor": set(
            User.objects.filter(second_factor__confirmed_at__isnull=False).values_list("pk", flat=True)
        ),
        "people": people,
        "roles": [r.word for r in Role],
        "sites": Site.objects.all(),
        "person": PersonForm(),
        "keys": _keys(request),
        "gone": User.objects.filter(is_active=False),
        "new_link": request.session.pop("new_link", None),
        "may_release": may(request.user, RELEASE),
        "new_key": request.session.pop("new_key", ""),
        "noted": noted(ShopRules, AccessRules, User, Site)[:20],
    }


def _keys(request: HttpRequest) -> Any:
    """One's own keys, and for leads those of everybody."""
    every = ProgramKey.objects.select_related("user")
    return every if may(request.user, RELEASE) else every.filter(user=request.user)


def _site(request: HttpRequest) -> Site | None:
    text = request.POST.get("site", "")
    return get_object_or_404(Site, pk=text) if text.isdecimal() else None


@require_POST
def person_set(request: HttpRequest, pk: int) -> HttpResponse:
    person = get_object_or_404(User, pk=pk)
    people.set_person(person, request.POST.get("role", ""), _site(request), request.user)
    messages.success(request, f"{person.get_full_name() or person.username} is {role_of(person).word} now.")
    return redirect("shop")


@require_POST
def person_add(request: HttpRequest) -> HttpResponse:
    form = PersonForm(request.POST)
    if not form.is_valid():
        raise BadInput("an account needs a name to sign in with and a password")
    d = form.cleaned_data
    made = people.add_person(
        d["username"],
        d["first"],
        d["last"],
        d["password"],
        request.POST.get("role", ""),
        _site(request),
        request.user,
    )
    messages.success(request, f"{made.get_full_name() or made.username} can sign in.")
    return redirect("shop")


@require_POST
def person_leave(request: HttpRequest, pk: int) -> HttpResponse:
    """A person left, or is back."""
    person = get_object_or_404(User, pk=pk)
    if person.is_active:
        people.leave(person, request.user)
        messages.success(request, f"{people.named(person)} cannot sign in any more; sessions and keys ended.")
    else:
        people.come_back(person, request.user)
        messages.success(request, f"{people.named(person)} can sign in again.")
    return redirect("shop")


@require_POST
def person_factor_end(request: HttpRequest, pk: int) -> HttpResponse:
    """End the second factor of a person whose device is lost."""
    person = get_object_or_404(User, pk=pk)
    second_factor.end(person, request.user)
    messages.success(request, f"The second factor of {people.named(person)} is ended.")
    return redirect("shop")


@require_POST
@takes(RELEASE)
def access_set(request: HttpRequest) -> HttpResponse:
    """How long sessions last, and who needs a second factor."""
    form = AccessForm(request.POST)
    if not form.is_valid():
        raise BadInput(" ".join(f"{n}: {e[0]}" for n, e in form.errors.items()))
    values = {n: form.cleaned_data[n] for n in AccessForm.Meta.fields}
    access.set_rules(form.cleaned_data["version"], values, request.user)
    messages.success(request, "Saved. It holds for sessions from their next step on.")
    return redirect("shop")


@require_POST
def person_reset(request: HttpRequest, pk: int) -> HttpResponse:
    """A link by which a person sets a new password, shown once."""
    person = get_object_or_404(User, pk=pk)
    token = people.reset_link(person, request.user)
    address = request.build_absolute_uri(reverse("new-password", args=[token]))
    request.session["new_link"] = [people.named(person), address]
    return redirect("shop")


@require_POST
def site_add(request: HttpRequest) -> HttpResponse:
    made = people.add_site(request.POST.get("name", ""), request.user)
    messages.success(request, f"{made.name} is a site.")
    return redirect("shop")


@require_POST
def key_make(request: HttpRequest) -> HttpResponse:
    """A key for a program, shown once."""
    days = request.POST.get("days", "")
    request.session["new_key"] = people.make_key(
        request.user,
        request.POST.get("name", ""),
        int(days) if days.isdecimal() and len(days) < 5 else None,
        request.POST.get("scope") != "read",
    )
    return redirect("shop")


@require_POST
def key_end(request: HttpRequest, pk: int) -> HttpResponse:
    people.end_key(pk, request.user)
    messages.success(request, "Key revoked. Programs that use it are refused.")
    return redirect("shop")
