"""Pages of machines: the slots of their memory, and readying them."""

from __future__ import annotations

from typing import Any

from django.conf import settings
from django.contrib import messages
from django.http import HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.views.decorators.http import require_GET, require_POST

from greyanchor.accounts.models import Site
from greyanchor.accounts.roles import MAKE, may, takes
from greyanchor.core.errors import BadInput
from greyanchor.core.numbers import parse_number
from greyanchor.core.printing.handling import SETTINGS
from greyanchor.core.printing.readiness import MISSING_ALLOWED, task_named
from greyanchor.devices.registry import driver_named, drivers, drivers_for
from greyanchor.library.machines import connections, controls, readiness, slots
from greyanchor.library.models import DeviceConnection, Media, MediaPreset, Printer, PrintMode, ReadinessRun


def _printer(pk: int) -> Printer:
    return get_object_or_404(Printer.objects.select_related("site", "loaded_media"), pk=pk)


def _whole(request: HttpRequest, name: str, what: str) -> int:
    text = request.POST.get(name, "").strip()
    if not text.isdecimal():
        raise BadInput(f"{what} is a whole number")
    return int(text)


@require_GET
def slots_page(request: HttpRequest, pk: int) -> HttpResponse:
    """What the memory of a machine holds, beside what was sent to it."""
    printer = _printer(pk)
    abilities = printer.ability_map
    try:
        held, trouble = slots.slots_of(printer), ""
    except BadInput as error:
        held, trouble = [], error.sentence
    context = {
        "printer": printer,
        "slots": held,
        "trouble": trouble,
        "may_make": may(request.user, MAKE),
        "may_tune": may(request.user, MAKE) and bool(controls.controls_of(printer)),
        "presets": MediaPreset.objects.filter(printer_model=printer.model),
        "settings": [SETTINGS[k] for k in abilities],
        "modes": printer.modes.filter(state=PrintMode.State.RELEASED).only("name"),
        "chosen": request.GET.get("send", ""),
    }
    return render(request, "library/slots.html", context)


@require_POST
def slot_send(request: HttpRequest, pk: int) -> HttpResponse:
    """Send a preset or a mode to a slot."""
    printer = _printer(pk)
    kind, _, number = request.POST.get("subject", "").partition("-")
    if not number.isdecimal() or kind not in ("preset", "mode"):
        raise BadInput("choose a preset or a print mode to send")
    model: Any = MediaPreset if kind == "preset" else PrintMode
    subject = get_object_or_404(model, pk=number)
    slot = _whole(request, "slot", "a slot")
    slots.send(printer.pk, slot, subject, request.user)
    messages.success(request, f"{subject} is in slot {slot} of {printer.name}.")
    return redirect("slots", pk=pk)


@require_POST
def slot_tune(request: HttpRequest, pk: int) -> HttpResponse:
    """A value is changed at the machine's own panel."""
    printer = _printer(pk)
    slot, key = _whole(request, "slot", "a slot"), request.POST.get("key", "")
    value = parse_number(request.POST.get("value", ""))
    controls.tune(printer, slot, key, value)
    messages.info(
        request, f"Tuned at the panel of {printer.name}. Below stands how slot {slot} differs from here."
    )
    return redirect("slots", pk=pk)


@require_POST
def slot_take(request: HttpRequest, pk: int) -> HttpResponse:
    """Take a value that was tuned at the machine over."""
    printer = _printer(pk)
    key = request.POST.get("key", "")
    record = slots.take_over(printer, _whole(request, "slot", "a slot"), key, request.user)
    messages.success(request, f"{SETTINGS[key].title} is saved on {record}, as it was tuned.")
    return redirect("slots", pk=pk)


# --- readiness -------------------------------------------------------------------------------


@require_GET
def readiness_page(request: HttpRequest) -> HttpResponse:
    """All machines, and what each must have done."""
    printers = Printer.objects.select_related("site", "loaded_media").exclude(abilities={})
    rows = [(p, readiness.dues_of(p)) for p in printers]
    return render(
        request, "library/readiness.html", {"rows": rows, "media": Media.objects.only("name", "width_mm")}
    )


@require_POST
def media_load(request: HttpRequest, pk: int) -> HttpResponse:
    """Another media is in the printer."""
    text = request.POST.get("media", "")
    media = get_object_or_404(Media, pk=text if text.isdecimal() else 0)
    printer = readiness.load_media(_printer(pk).pk, media, request.user)
    messages.success(request, f"{media.name} is in {printer.name}. What depends on the media is due.")
    return redirect("readiness")


@require_GET
def task_page(request: HttpRequest, pk: int, task_key: str) -> HttpResponse:
    """One task of one machine: print, look, judge."""
    printer, task = _printer(pk), task_named(task_key)
    waiting = readiness.waiting(printer, task.key)
    context: dict[str, Any] = {
        "printer": printer,
        "task": task,
        "setting": SETTINGS.get(task.setting),
        "waiting": waiting,
        "allowed": MISSING_ALLOWED,
        "picture": readiness.picture(waiting) if waiting else "",
        "due": next((d for d in readiness.dues_of(printer) if d.task.key == task.key), None),
        "past": readiness.values_found(printer).filter(task=task.key)[:12],
        "others": [d for d in readiness.dues_of(printer) if d.task.key != task.key],
    }
    if task.setting and task.setting in printer.abilities:
        context["now"] = SETTINGS[task.setting].with_unit(readiness.value_now(printer, task))
    if waiting and task.setting:
        context["steps"] = [SETTINGS[task.setting].with_unit(v) for v in waiting.pattern["values"]]
    context["nozzles"] = readiness.nozzles_of(waiting) if waiting else 0
    context["channels"] = readiness.channels_of(waiting) if waiting else []
    return render(request, "library/ready_task.html", context)


@require_POST
def task_print(request: HttpRequest, pk: int, task_key: str) -> HttpResponse:
    printer, task = _printer(pk), task_named(task_key)
    around = request.POST.get("around", "").strip()
    readiness.print_pattern(printer, task.key, request.user, parse_number(around) if around else None)
    return redirect("ready-task", pk=pk, task_key=task_key)


@require_POST
def task_judge(request: HttpRequest, pk: int, task_key: str) -> HttpResponse:
    """Take a judgement: a step, counts of nozzles, or a reading."""
    printer, task = _printer(pk), task_named(task_key)
    record = get_object_or_404(
        ReadinessRun, pk=_whole(request, "record", "a pattern"), printer=printer, task=task.key
    )
    if request.POST.get("how") == ReadinessRun.How.READING:
        try:
            done = readiness.judge_by_reading(record.pk, request.user)
        except BadInput as error:
            messages.error(request, f"{error.sentence} The pattern still waits for its judgement.")
            return redirect("ready-task", pk=pk, task_key=task_key)
    elif task.setting:
        done = readiness.judge_step(record.pk, _whole(request, "step", "a step"), request.user)
    else:
        missing = {
            c: _whole(request, f"missing.{c}", f"the number of missing nozzles of {c}")
            for c in readiness.channels_of(record)
        }
        done = readiness.judge_nozzles(record.pk, missing, request.user)
    if done.value is not None:
        where = f" on {done.media.name}" if done.media else ""
        messages.success(
            request,
            (
                f"{task.title}: {SETTINGS[task.setting].with_unit(done.value)} is kept for "
                f"{printer.name}{where}."
            ),
        )
    elif done.good:
        messages.success(request, f"{task.title}: {printer.name} is ready.")
    else:
        messages.error(request, f"{task.title}: not ready. Clean the heads and print the pattern again.")
    return redirect("ready-task", pk=pk, task_key=task_key)


# --- devices ---------------------------------------------------------------------------------


@require_GET
def devices_page(request: HttpRequest) -> HttpResponse:
    """Which driver reaches each printer and instrument, site by site."""
    sites = Site.objects.prefetch_related("printers__connection", "connections__printer")
    rows = [
        {
            "site": site,
            "printers": site.printers.all(),
            "instruments": [c for c in site.connections.all() if c.printer_id is None],
        }
        for site in sites
    ]
    context = {
        "rows": rows,
        "printer_drivers": drivers_for("printer"),
        "instrument_drivers": [d for d in drivers().values() if d.opens - {"printer"}],
        "methods": [m for m in DeviceConnection.Method.choices if m[0]],
        "titles": {d.key: d.title for d in drivers().values()},
        "home": settings.DEVICES_HOME,
    }
    return render(request, "library/machines/devices.html", context)


def _choice(request: HttpRequest) -> connections.Choice:
    key = request.POST.get("driver", "")
    named = driver_named(key).options if key else ()
    return connections.Choice(key, {o.key: request.POST.get(f"{key}.{o.key}", "") for o in named})


@takes(MAKE)
@require_POST
def printer_connect(request: HttpRequest, pk: int) -> HttpResponse:
    """Say which driver reaches a printer."""
    printer, choice = _printer(pk), _choice(request)
    connections.connect_printer(printer, choice, request.user)
    messages.success(request, f"{printer.name} prints through: {choice.words()}.")
    return redirect("devices")


@takes(MAKE)
@require_POST
def instrument_add(request: HttpRequest, pk: int) -> HttpResponse:
    """Add an instrument to a site."""
    site = get_object_or_404(Site, pk=pk)
    made = connections.add_instrument(site, request.POST.get("method", ""), _choice(request), request.user)
    messages.success(request, f"{site.name} has an instrument that reads {made.get_method_display()}.")
    return redirect("devices")


@takes(MAKE)
@require_POST
def instrument_remove(request: HttpRequest, pk: int) -> HttpResponse:
    """Take an instrument away."""
    connections.remove_instrument(pk, request.user)
    messages.success(request, "The instrument is removed. What it read stays.")
    return redirect("devices")


@require_POST
def printer_controls(request: HttpRequest, pk: int) -> HttpResponse:
    """Change how a simulated printer behaves."""
    printer = _printer(pk)
    sent = {c.key: request.POST.get(c.key, "") for c in controls.controls_of(printer)}
    values = {key: parse_number(text) for key, text in sent.items() if text}
    controls.set_controls(printer, values)
    messages.success(request, "It prints like this from now on; sheets that are printed stay as they are.")
    return redirect("printer", pk=pk)
