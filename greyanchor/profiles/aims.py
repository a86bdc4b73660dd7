"""What changes aims and the shop's spot colours."""

from __future__ import annotations

from collections.abc import Mapping

from django.contrib.auth.models import User
from django.db import DEFAULT_DB_ALIAS, transaction

from greyanchor.accounts.roles import MAKE, needs
from greyanchor.core.errors import BadInput
from greyanchor.core.formats import cgats, icc
from greyanchor.core.verification import aims, interpolation
from greyanchor.core.verification.generic_aims import GENERIC_AIMS, aim_data
from greyanchor.core.verification.spots import SpotColour
from greyanchor.profiles.models import AimRecord, SpotRecord


def ensure_generic_aims(using: str = DEFAULT_DB_ALIAS) -> None:
    """Put the generic aims in that are not there."""
    records = AimRecord.objects.using(using)
    for aim in GENERIC_AIMS.values():
        if not records.filter(name=aim.title).exists():
            data = cgats.dumps(aim_data(aim.key)).encode()
            records.create(name=aim.title, source=aim.derivation[:300], data=data)


@needs(MAKE)
@transaction.atomic
def keep_aim(
    name: str,
    data: bytes,
    file_name: str,
    source: str,
    user: User | None,
    kind: str = "",
) -> AimRecord:
    """Store an aim; a name that is there already gets its next edition, and the same data no edition at all.

    Raises `BadInput` when the file is no aim.
    """
    found = aims.loads(data, file_name)
    if not name.strip():
        name = found.name
    result = kind or _kind_of(data, found)
    newest = AimRecord.objects.filter(name=name).order_by("-edition").first()
    if newest is not None and bytes(newest.data) == data:
        raise BadInput(f"{newest} holds exactly these data already; nothing was added")
    filled, lacks = _filled(found)
    return AimRecord.objects.create(
        name=name[:120],
        edition=newest.edition + 1 if newest else 1,
        kind=result,
        source=(source or file_name)[:300],
        file_name=file_name[:120],
        data=data,
        filled=filled,
        lacks=lacks,
        created_by=user,
    )


def _filled(found: aims.Aim) -> tuple[str, str]:
    """Patches of control strips that characterization data lack, as CGATS text, and what to say of them."""
    data = found.data
    if data is None or data.device is None or data.channels != tuple("CMYK"):
        return "", ""
    missing = interpolation.lacking(data, interpolation.strip_patches())
    if not len(missing):
        return "", ""
    said = f"It lacks {len(missing)} patches of the control strips"
    try:
        made = interpolation.interpolated(data, missing)
    except BadInput as error:
        return "", f"{said}, and they cannot be interpolated: {error.reason}."[:300]
    return cgats.dumps(made), f"{said}; they are interpolated from its own data, {made.meta['INTERPOLATED']}."


def _kind_of(data: bytes, found: aims.Aim) -> str:
    if icc.is_profile(data[:132]):
        return AimRecord.Kind.PROFILE
    return AimRecord.Kind.SPOTS if found.data is None else AimRecord.Kind.DATA


@needs(MAKE)
@transaction.atomic
def keep_spots(
    colours: Mapping[str, SpotColour], source: str, user: User | None, replace_old: bool
) -> dict[str, list[str]]:
    """Put colours into the library: names that were added, replaced, left alone because they were there, and
    alike.
    """
    facts: dict[str, list[str]] = {"added": [], "replaced": [], "left": [], "alike": []}
    for name, colour in colours.items():
        record = SpotRecord.objects.filter(name__iexact=name).first()
        if record is not None and record.colour == SpotColour(record.name, colour.lab, colour.tints):
            facts["alike"].append(name)
            continue
        if record is not None and not replace_old:
            facts["left"].append(name)
            continue
        facts["added" if record is None else "replaced"].append(name)
        save_spot(record or SpotRecord(name=name), colour, source, user)
    return facts


@needs(MAKE)
def save_spot(record: SpotRecord, colour: SpotColour, source: str, user: User | None) -> SpotRecord:
    """Write a colour into a record, with who did it."""
    record.lightness, record.a, record.b = colour.lab
    record.tints = colour.as_dict()["tints"]
    record.source = source[:200]
    record.version = record.version + 1 if record.pk else 1
    record._history_user = user
    record.save()
    return record


@needs(MAKE)
def remove_spot(record: SpotRecord, user: User) -> str:
    """Take a spot colour out of the library; checks keep what they were held to. Gives its name."""
    name = record.name
    record._history_user = user
    record.delete()
    return name
