"""Making profiles from profiles: separations with a live picture, again from the data inside, from files."""

from __future__ import annotations

from typing import Any

from django.contrib import messages
from django.http import HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.views.decorators.http import require_GET, require_http_methods, require_POST

from greyanchor.accounts.roles import MAKE, takes
from greyanchor.background import work
from greyanchor.background.parts import ended
from greyanchor.core.characterization.proposals import most_helpful
from greyanchor.core.characterization.trust import double_spread
from greyanchor.core.errors import BadInput
from greyanchor.core.formats import readings_file
from greyanchor.core.measurement.readings import ReadingSet
from greyanchor.core.measurement.repeatability import average, compare
from greyanchor.core.profiling.preview import Preview
from greyanchor.core.profiling.separation import PRESETS, preset
from greyanchor.drawing.colours import channel_colour
from greyanchor.drawing.separations import path_picture
from greyanchor.profiles import queries, services, starting
from greyanchor.profiles.forms import CompareForm, KindForm, NewProfileForm, SeparationForm
from greyanchor.profiles.models import Profile, ProfileWork
from greyanchor.profiles.settings import options_of, separation_from
from greyanchor.profiles.views.profiles import profile_of

PROPOSED = 60
MOST_PASSES = 8


def _others(profile: Profile) -> Any:
    """Profiles of the same inks to compare a separation with."""
    every = Profile.objects.only("pk", "title", "channels")
    return every.filter(channels=profile.channels).exclude(pk=profile.pk)


@takes(MAKE)
@require_http_methods(["GET", "POST"])
def separation_page(request: HttpRequest, pk: int) -> HttpResponse:
    """Controls beside what they do; sending the form builds a profile with them."""
    profile = profile_of(pk)
    channels = queries.channels_of(profile)
    before = queries.separation_options(profile)
    shown = dict(before)
    wanted = request.GET.get("preset")
    if wanted:
        shown |= options_of(preset(wanted).apply(separation_from(before)))
    form = SeparationForm(request.POST or None, initial=SeparationForm.initial_of(shown), channels=channels)
    log = profile.stages.filter(state="open").select_related("build__mode").first()
    title = profile.title if log else f"{profile.title}, other separation"
    kind = KindForm(request.POST or None, initial={**profile.settings, "title": title})
    if request.method == "POST" and form.is_valid() and kind.is_valid():
        options = {**form.options(), **kind.cleaned_data}
        made = starting.start(
            ProfileWork.Kind.SEPARATION, kind.cleaned_data["title"], options, request.user, profile
        )
        return redirect("profile-work", made.pk)
    compare_with = CompareForm(request.GET or None, profiles=_others(profile))
    context = {
        "profile": profile,
        "here": "separation",
        "log": log,
        "form": form,
        "kind": kind,
        "presets": PRESETS,
        "chosen": wanted,
        "compare": compare_with,
        "channels": [(c, channel_colour(c)) for c in channels],
        **_seen(profile, separation_options_shown(form, shown), None),
    }
    return render(
        request, "profiles/separation_page.html", context, status=400 if form.errors or kind.errors else 200
    )


def separation_options_shown(form: SeparationForm, shown: dict[str, Any]) -> dict[str, Any]:
    """What the form asks for when it is sound, else what the page began with."""
    return form.options() if form.is_bound and form.is_valid() else shown


@require_GET
def separation_preview(request: HttpRequest, pk: int) -> HttpResponse:
    """The pictures for the controls as they stand; swapped in while they are moved."""
    profile = profile_of(pk)
    form = SeparationForm(request.GET, channels=queries.channels_of(profile))
    if not form.is_valid():
        text = "; ".join(f"{form.fields[name].label}: {errors[0]}" for name, errors in form.errors.items())
        return render(request, "profiles/_separation.html", {"refused": text})
    beside = CompareForm(request.GET, profiles=_others(profile))
    other = beside.cleaned_data["other"] if beside.is_valid() else None
    try:
        seen = _seen(profile, form.options(), other)
    except BadInput as error:
        return render(request, "profiles/_separation.html", {"refused": str(error)})
    return render(request, "profiles/_separation.html", {"profile": profile, **seen})


def _seen(profile: Profile, options: dict[str, Any], other: Profile | None) -> dict[str, Any]:
    """Pictures and figures of a separation beside the one that `profile`, or `other`, was built with."""
    beside = other or profile
    # the other's separation is laid on this printer, so that inks and not printers are compared
    now, before = (
        queries.preview_of(profile, parts) for parts in (options, queries.separation_options(beside))
    )
    channels = queries.channels_of(profile)
    pictures = [path_picture(a, channels, b, beside.title) for a, b in zip(now.paths, before.paths)]
    return {"pictures": pictures, "figures": _figures(now, before), "beside": beside}


def _figures(now: Preview, before: Preview) -> list[tuple[str, float, float, str]]:
    return [
        ("Roughness, largest second difference", now.roughness, before.roughness, "%"),
        ("Ink on the neutral axis, mean", 100 * now.neutral_mean, 100 * before.neutral_mean, "%"),
        ("Largest total ink", 100 * now.largest_total, 100 * before.largest_total, "%"),
        ("Darkest", now.darkest, before.darkest, "L*"),
    ]


@takes(MAKE)
@require_POST
def rebuild(request: HttpRequest, pk: int) -> HttpResponse:
    """The same profile made again from what it carries."""
    profile = profile_of(pk)
    options = {
        **queries.separation_options(profile),
        "version": profile.version,
        "title": f"{profile.title}, rebuilt",
    }
    for name in ("light", "source"):
        if profile.settings.get(name):
            options[name] = profile.settings[name]
    try:
        made = starting.start(ProfileWork.Kind.REBUILD, options["title"], options, request.user, profile)
    except BadInput as error:
        messages.error(request, str(error))
        return redirect("profile", pk)
    return redirect("profile-work", made.pk)


@takes(MAKE)
@require_POST
def propose(request: HttpRequest, pk: int) -> HttpResponse:
    """Find the patches that would help most and keep them for the next chart of this environment."""
    profile = profile_of(pk)
    environment = profile.made_from.get("environment", "")
    if not environment:
        messages.error(
            request, "This profile belongs to no print environment, so no next chart waits for patches."
        )
        return redirect("profile", pk)
    total = separation_from(queries.separation_options(profile)).total_ink
    inks, unsure = most_helpful(queries.model_of(profile), PROPOSED, total)
    services.propose(profile, environment, [[float(v) for v in row] for row in inks], request.user)
    messages.success(
        request,
        f"{len(inks)} patches wait for the next profile chart of this environment, from the model's least "
        "sure colour "
        f"({unsure[0]:.2f} of its signal unknown) to {unsure[-1]:.2f}.",
    )
    return redirect("profile", pk)


@takes(MAKE)
@require_http_methods(["GET", "POST"])
def new_profile(request: HttpRequest) -> HttpResponse:
    """A profile from files of readings, of any channels."""
    form = NewProfileForm(request.POST or None, initial={"preset": "even"})
    refused = ""
    if request.method == "POST" and form.is_valid():
        try:
            readings, noise, found = _from_files(request)
            options = _options(form, readings, noise)
            made = starting.start(
                ProfileWork.Kind.NEW, form.cleaned_data["title"], options, request.user, None, readings
            )
        except BadInput as error:
            refused = str(error)
        else:
            messages.info(request, found)
            return redirect("profile-work", made.pk)
    context = {"form": form, "refused": refused, "presets": PRESETS}
    return render(
        request, "profiles/new_profile.html", context, status=400 if refused or form.errors else 200
    )


def _options(form: NewProfileForm, readings: ReadingSet, noise: float) -> dict[str, Any]:
    facts = dict(form.cleaned_data)
    most = min(3.0, float(readings.inks().sum(axis=1).max()))
    given = facts.pop("total_ink")
    before = separation_from({"total_ink": given or max(100.0 * most, 100.0)})
    return {**facts, **options_of(preset(facts["preset"]).apply(before)), "noise": noise}


def _from_files(request: HttpRequest) -> tuple[ReadingSet, float, str]:
    """The mean of the files sent, its noise, and what is to be reported of them."""
    sent = request.FILES.getlist("files")
    if not sent:
        raise BadInput("choose at least one file of readings")
    if len(sent) > MOST_PASSES:
        raise BadInput(f"{len(sent)} files were sent; up to {MOST_PASSES} passes over one chart are averaged")
    passes = []
    for file in sent:
        readings = readings_file.loads(services.small_content_of(file), file.name)
        if not readings.is_measured or readings.device is None:
            raise BadInput(
                "readings with device values are needed; this holds only one of the two", file.name
            )
        passes.append(readings)
    if len(passes) == 1:
        return passes[0], 0.0, f"{len(passes[0])} patches of {' '.join(passes[0].channels)}."
    found = compare(passes[0], passes[1])
    text = (
        f"{len(passes)} passes; the first two differ by {found.mean:.2f} dE00 mean, {found.max:.2f} largest."
    )
    if not found.acceptable():
        text += " That is more than a careful double reading: look at the rows before you trust the profile."
    return average(passes), double_spread(passes), text


def _work_of(pk: int) -> ProfileWork:
    return get_object_or_404(
        ProfileWork.objects.select_related("parent", "result", "started_by").defer("readings"), pk=pk
    )


@require_GET
def work_page(request: HttpRequest, pk: int) -> HttpResponse:
    """A profile being built; leads on to it when it is done."""
    job = _work_of(pk)
    if job.result is not None:
        return redirect("profile", job.result.pk)
    return render(request, "profiles/work_page.html", {"work": job})


@require_GET
def work_part(request: HttpRequest, pk: int) -> HttpResponse:
    job = _work_of(pk)
    if not job.is_active or job.looks_dead:
        return ended("The work ended.")
    return render(request, "profiles/_work.html", {"work": job})


@require_POST
def work_cancel(request: HttpRequest, pk: int) -> HttpResponse:
    work.cancel(ProfileWork, _work_of(pk).pk)
    messages.info(request, "Stopping the task.")
    return redirect("profile-work", pk)
