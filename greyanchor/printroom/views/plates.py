"""A job as plates: looked at, made, and laid on film."""

from __future__ import annotations

from typing import Any
from urllib.parse import urlencode

import numpy as np
from django.contrib import messages
from django.http import FileResponse, Http404, HttpRequest, HttpResponse, QueryDict
from django.shortcuts import get_object_or_404, redirect, render
from django.urls import reverse
from django.views.decorators.http import require_GET, require_POST

from greyanchor.accounts.roles import USE, takes
from greyanchor.background import work
from greyanchor.background.parts import last_shown
from greyanchor.core.artwork.page_plates import OVERPRINTS
from greyanchor.core.calibration.press_gain import gain_from_strip
from greyanchor.core.errors import BadInput
from greyanchor.core.formats import readings_file
from greyanchor.core.numbers import parse_number
from greyanchor.core.separation.halftone.screens import parse_screen
from greyanchor.drawing.films import film_curve_plot
from greyanchor.library.models import PrintMode
from greyanchor.printroom import files, plate_choices, plates
from greyanchor.printroom.models import Job, PlateSet
from greyanchor.profiles.models import AimRecord

#: fields of the form by ink, and the choice each is kept in
_BY_INK = {"angle": "angles", "choke": "choke", "gain": "gain", "order": "order", "screen": "screens"}
_SWITCHES = ("negative", "mirrored", "marks")
_STRIP_BYTES = 8 * 2**20
KINDS = (
    ("am", "clustered dots"),
    ("hybrid", "hybrid: clustered, thinned in highlights and shadows"),
    ("blue-noise", "blue noise"),
)
DOTS = ("round", "ellipse", "square", "line")


def _job(pk: int) -> Job:
    wanted = Job.objects.select_related("artwork", "mode__printer", "mode__media", "mode__ink_set")
    return get_object_or_404(wanted, pk=pk)


def choices_from(sent: QueryDict, mode: PrintMode | None) -> dict[str, Any]:
    """What the form of a job's plates chose. Raises `BadInput` for a field that makes no sense."""
    found: dict[str, Any] = {"fold": [v for v in sent.getlist("fold") if v], "screen": _screen(sent, mode)}
    for name, usual in (("trap", "0"), ("increase", "0"), ("resolution", "1440")):
        found[name] = parse_number(sent.get(name, "").strip() or usual)
    found["overprint"] = sent.get("overprint") or plate_choices.USUAL["overprint"]
    press = sent.get("press", "")
    found["press"] = int(press) if press.isdecimal() else None
    if "has_switches" in sent:
        found |= {name: name in sent for name in _SWITCHES}
    orders: list[tuple[float, str]] = []
    for key, value in sent.items():
        kind, colon, ink = key.partition(":")
        text = str(value).strip()
        if not colon or kind not in _BY_INK or not text:
            continue
        if kind == "gain":
            found.setdefault("gain", {})[ink] = points_of(text, ink)
        elif kind == "screen":
            found.setdefault("screens", {})[ink] = text
        elif kind == "order":
            orders.append((parse_number(text), ink))
        else:
            number = parse_number(text)
            if kind == "angle" or number:
                found.setdefault(_BY_INK[kind], {})[ink] = number
    found["order"] = [ink for _, ink in sorted(orders, key=lambda o: o[0])]
    return plate_choices.checked(found, mode)


def _screen(sent: QueryDict, mode: PrintMode | None) -> str:
    """The screen of the form; nothing where it has none, so that the film mode's stands."""
    kind = sent.get("kind", "")
    if not kind:
        return ""
    parts = (
        [f"lpi={sent.get('lpi') or 60}", f"dot={sent.get('dot') or 'round'}"] if kind != "blue-noise" else []
    )
    if kind != "blue-noise" and sent.get("centre") == "hole":
        parts.append("centre=hole")
    if kind in ("blue-noise", "hybrid") and sent.get("smallest"):
        parts.append(f"smallest={sent['smallest']}")
    parts += [f"{name}={sent[name]}" for name in ("least", "most", "break") if sent.get(name, "").strip()]
    return str(parse_screen(f"{kind}:{','.join(parts)}" if parts else kind))


def points_of(text: str, ink: str = "") -> list[list[float]]:
    """Points from ``50 68; 75 88``: on the plate, printed. Raises `BadInput` for other text."""
    points = []
    for part in filter(None, (p.strip() for p in text.replace("\n", ";").split(";"))):
        numbers = part.split()
        if len(numbers) != 2:
            raise BadInput(
                f"{ink or 'press'}: points are written 50 68; 75 88 (on the plate, printed); {part!r} is not "
                "understood"
            )
        points.append([parse_number(numbers[0]), parse_number(numbers[1])])
    return points


def _mode_of(sent: QueryDict) -> PrintMode | None:
    """The film mode of the form; the newest there is where nothing was chosen yet."""
    known = plates.film_modes()
    text = sent.get("film")
    if text is None:
        return known[0] if known else None
    return next((m for m in known if str(m.pk) == text), None)


@takes(USE)
def plates_page(request: HttpRequest, pk: int) -> HttpResponse:
    """A job's plates before they are made; a POST makes them."""
    job = _job(pk)
    sent = request.POST if request.method == "POST" else request.GET
    mode = _mode_of(sent)
    trouble, found = "", None
    try:
        values = choices_from(sent, mode)
        if request.method == "POST":
            made = plates.order_plates(job, mode, values, request.user)  # type: ignore[arg-type]
            return redirect("plate-set", made.pk)
    except BadInput as error:
        trouble, values = error.sentence, _sensible(sent, mode)
    choices = {**plate_choices.USUAL, **values}
    try:
        found = plates.look(job, mode, choices)
    except BadInput as error:
        trouble = trouble or error.sentence
    screen = plate_choices.screen_of(choices, mode)
    query = sent.copy()
    query.pop("csrfmiddlewaretoken", None)
    context = {
        "job": job,
        "mode": mode,
        "film_modes": plates.film_modes(),
        "found": found,
        "trouble": trouble,
        "choices": choices,
        "screen": screen,
        "kinds": KINDS,
        "dots": DOTS,
        "overprints": OVERPRINTS,
        "resolution": plate_choices.resolution_of(choices, mode),
        "presses": AimRecord.objects.filter(kind=AimRecord.Kind.PROFILE).only("name", "edition"),
        "spots": plate_choices.spots_there(job),
        "rows": _rows(found, choices, sent) if found else [],
        "plot": _plot(found, choices, mode) if found else "",
        "picture": f"{reverse('plates-picture', args=[pk])}?{query.urlencode()}",
        "sets": job.plate_sets.defer("choices")[:6],
        "marks": choices["marks"],
    }
    template = "printroom/_plates.html" if request.headers.get("HX-Request") else "printroom/plates.html"
    return render(request, template, context, status=422 if trouble and request.method == "POST" else 200)


def _sensible(sent: QueryDict, mode: PrintMode | None) -> dict[str, Any]:
    """What of a form can be taken where not all of it can: what was typed stays in its fields anyhow."""
    kept = QueryDict(mutable=True)
    for key, values in sent.lists():
        tried = kept.copy()
        tried.setlist(key, values)
        try:
            choices_from(tried, mode)
        except BadInput:
            continue
        kept = tried
    return choices_from(kept, mode)


def _rows(found: plates.Look, choices: dict[str, Any], sent: QueryDict) -> list[dict[str, Any]]:
    """A line a plate: what it is, and what was typed or chosen of it."""
    out = []
    for place, plate in enumerate(found.plates, 1):
        points = choices["gain"].get(plate.ink) or []
        chosen = choices["angles"].get(plate.ink)
        out.append(
            {
                "plate": plate,
                "place": place,
                "angle": sent.get(f"angle:{plate.ink}", "" if chosen is None else f"{chosen:g}"),
                "screen": sent.get(f"screen:{plate.ink}", choices["screens"].get(plate.ink, "")),
                "choke": sent.get(f"choke:{plate.ink}", ""),
                "gain": sent.get(f"gain:{plate.ink}", "; ".join(f"{a:g} {b:g}" for a, b in points)),
            }
        )
    return out


def _plot(found: plates.Look, choices: dict[str, Any], mode: PrintMode | None) -> str:
    """Curves of film, press, and both together, of the first plate that the press is known of."""
    inks = [p.ink for p in found.plates]
    ink = next((i for i in inks if plate_choices.gain_of(choices, i)), inks[0])
    area, gain = plate_choices.film_area(mode), plate_choices.gain_of(choices, ink)
    curves: dict[str, Any] = {}
    if area is not None or gain:
        table = plate_choices.settings_of(choices, mode, [ink]).curves[ink]
        curves["together"] = table[np.linspace(0, 65535, 65).astype(int)] / 655.35
    if area is not None and gain:
        curves |= {"film": 100.0 * area, "press": 100.0 * plate_choices.press_curve(gain)}
    return film_curve_plot(curves, f"Curve of {ink}") if curves else ""


@require_GET
def plates_picture(request: HttpRequest, pk: int) -> HttpResponse:
    """Plates laid over one another; of those that `ink` names, or of all."""
    job, mode = _job(pk), _mode_of(request.GET)
    try:
        choices = {**plate_choices.USUAL, **choices_from(request.GET, mode)}
        shown = request.GET.getlist("ink") or None
        answer = HttpResponse(plates.picture(job, choices, shown), content_type="image/png")
    except BadInput as error:
        raise Http404(error.sentence) from None
    answer["Cache-Control"] = "private, max-age=600"
    return answer


@takes(USE)
@require_POST
def plates_strip(request: HttpRequest, pk: int) -> HttpResponse:
    """Readings of a strip that the press printed: what it made of each plate's dots, into the form."""
    job, sent = _job(pk), request.POST
    query = [(k, v) for k, values in sent.lists() for v in values if k != "csrfmiddlewaretoken"]
    try:
        file = request.FILES.get("strip")
        if file is None:
            raise BadInput("choose the readings of the strip")
        if (file.size or 0) > _STRIP_BYTES:
            raise BadInput("a strip's readings are smaller than that", str(file.name))
        readings = readings_file.loads(file.read(), str(file.name))
        inks = [p.ink for p in plates.look(job, None, plate_choices.USUAL).plates]
        known = [i for i in inks if i in readings.channels]
        if not known:
            raise BadInput(
                f"it holds {' '.join(readings.channels)}, the plates are {', '.join(inks)}", file.name
            )
        query = [(k, v) for k, v in query if k not in [f"gain:{i}" for i in known]]
        for ink in known:
            points = gain_from_strip(readings, ink)
            text = "; ".join(f"{a:.0f} {b:.1f}" for a, b in zip(points.plate, points.printed))
            query.append((f"gain:{ink}", text))
        messages.success(request, f"Read from {file.name}: what the press makes of {', '.join(known)}.")
    except BadInput as error:
        messages.error(request, f"{error.sentence} Nothing was changed.")
    return redirect(f"{reverse('plates', args=[pk])}?{urlencode(query)}")


# --- what was made ---------------------------------------------------------------------------------


def _set(pk: int) -> PlateSet:
    wanted = PlateSet.objects.select_related(
        "job__artwork", "mode__printer", "mode__media", "run", "started_by"
    )
    return get_object_or_404(wanted, pk=pk)


@require_GET
def set_page(request: HttpRequest, pk: int) -> HttpResponse:
    """Plates that were made, or are being made."""
    record = _set(pk)
    choices = {**plate_choices.USUAL, **record.choices}
    context = {
        "set": record,
        "choices": choices,
        "resolution": plate_choices.resolution_of(choices, record.mode),
        "overprint": OVERPRINTS[choices["overprint"]],
    }
    return render(request, "printroom/plate_set.html", context)


@require_GET
def set_part(request: HttpRequest, pk: int) -> HttpResponse:
    """How the making goes."""
    record = _set(pk)
    if record.is_active and not record.looks_dead:
        return render(request, "printroom/_making_plates.html", {"set": record})
    said = "Made." if record.state == PlateSet.State.DONE else f"{record.get_state_display().capitalize()}."
    return last_shown(render(request, "printroom/_making_plates.html", {"set": record}), said)


@takes(USE)
@require_POST
def set_act(request: HttpRequest, pk: int, act: str) -> HttpResponse:
    """Stop the making, or lay plates on film."""
    record = _set(pk)
    try:
        if act == "stop":
            work.ask_to_stop(PlateSet, pk)
            return redirect("plate-set", pk)
        places = [int(v) for v in request.POST.getlist("plate") if v.isdecimal()]
        run = plates.lay_on_film(record, places, request.user)  # type: ignore[arg-type]
    except BadInput as error:
        messages.error(request, error.sentence)
        return redirect("plate-set", pk)
    messages.success(request, f"{len(places)} film{'s' * (len(places) != 1)} laid on a run.")
    return redirect("run", run.pk)


def _plate(pk: int, place: int) -> tuple[PlateSet, str]:
    record = _set(pk)
    try:
        return record, plates.file_of(record, place)
    except BadInput as error:
        raise Http404(error.sentence) from None


@require_GET
def plate_file(request: HttpRequest, pk: int, place: int) -> FileResponse:
    """A plate as a 1-bit TIFF for others."""
    record, name = _plate(pk, place)
    called = f"{record.job.name.rsplit('.', 1)[0]} {record.plates[place]['file']}"
    return FileResponse(files.opened(name), as_attachment=True, filename=called)


@require_GET
def plate_seen(request: HttpRequest, pk: int, place: int) -> HttpResponse:
    """A plate small, as it is held against the light."""
    _, name = _plate(pk, place)
    answer = HttpResponse(plates.small_plate(name), content_type="image/png")
    answer["Cache-Control"] = "private, max-age=86400"
    return answer
