"""What changes aims."""

from __future__ import annotations

from django.contrib.auth.models import User
from django.db import DEFAULT_DB_ALIAS, transaction

from greyanchor.accounts.roles import MAKE, needs
from greyanchor.core.errors import BadInput
from greyanchor.core.formats import cgats, icc
from greyanchor.core.verification import aims, interpolation
from greyanchor.core.verification.generic_aims import GENERIC_AIMS, aim_data
from greyanchor.profiles.models import AimRecord


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
