"""Pages of passwords: one's own changed, and a new one by a link from a lead."""

from __future__ import annotations

from django import forms
from django.contrib import messages
from django.contrib.auth import update_session_auth_hash
from django.contrib.auth.decorators import login_not_required
from django.http import HttpRequest, HttpResponse
from django.shortcuts import redirect, render
from django.views.decorators.cache import never_cache
from django.views.decorators.debug import sensitive_post_parameters

from greyanchor.accounts import people
from greyanchor.core.errors import BadInput


class NewPasswordForm(forms.Form):
    """A new password, twice."""

    new = forms.CharField(
        label="New password",
        widget=forms.PasswordInput(attrs={"autocomplete": "new-password"}),
        max_length=200,
        help_text="ten letters or more, none of the common ones",
    )
    again = forms.CharField(
        label="Once more", widget=forms.PasswordInput(attrs={"autocomplete": "new-password"}), max_length=200
    )

    def clean_again(self) -> str:
        if self.cleaned_data.get("new") != self.cleaned_data["again"]:
            raise forms.ValidationError("The two are not the same.")
        return str(self.cleaned_data["again"])


class ChangeForm(NewPasswordForm):
    """One's own."""

    old = forms.CharField(
        label="Password of now",
        widget=forms.PasswordInput(attrs={"autocomplete": "current-password"}),
        max_length=200,
    )
    field_order = ["old", "new", "again"]


@never_cache
@sensitive_post_parameters()
def password(request: HttpRequest) -> HttpResponse:
    """One's own password: other sessions end, this one goes on."""
    form = ChangeForm(request.POST or None)
    if request.method == "POST" and form.is_valid():
        try:
            people.change_password(request.user, form.cleaned_data["old"], form.cleaned_data["new"])
        except BadInput as error:
            form.add_error("old" if "of now" in error.reason else "new", error.sentence)
        else:
            update_session_auth_hash(request, request.user)
            messages.success(request, "The password is changed. Other places where you were signed in ended.")
            return redirect("start")
    status = 422 if request.method == "POST" else 200
    return render(request, "web/password.html", {"form": form}, status=status)


@never_cache
@sensitive_post_parameters()
@login_not_required
def new_password(request: HttpRequest, token: str) -> HttpResponse:
    """A new password by a link that a lead made."""
    person = people.whose_link(token)
    if person is None:
        context = {
            "title": "This link has ended",
            "text": "It was used, replaced, or is older than a day. Ask a lead for another.",
        }
        return render(request, "web/notice.html", context, status=404)
    form = NewPasswordForm(request.POST or None)
    if request.method == "POST" and form.is_valid():
        try:
            people.set_by_link(token, form.cleaned_data["new"])
        except BadInput as error:
            form.add_error("new", error.sentence)
        else:
            messages.success(request, "The password is set. Sign in with it.")
            return redirect("sign-in")
    status = 422 if request.method == "POST" else 200
    return render(request, "web/password.html", {"form": form, "person": person}, status=status)
