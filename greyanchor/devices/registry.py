"""Every installed driver, found by the entry point group ``greyanchor.drivers``."""

from __future__ import annotations

import logging
from functools import cache
from importlib.metadata import entry_points

from greyanchor.core.errors import BadInput
from greyanchor.devices.ports import Driver

GROUP = "greyanchor.drivers"
_log = logging.getLogger(__name__)


@cache
def drivers() -> dict[str, Driver]:
    """Drivers by key, in the order of their titles; one that cannot be loaded is logged and left out."""
    found: dict[str, Driver] = {}
    for point in entry_points(group=GROUP):
        try:
            driver = point.load()
        except Exception:
            _log.exception("The driver %s of %s cannot be loaded.", point.name, point.value)
            continue
        if not isinstance(driver, Driver) or not driver.key or driver.key in found:
            _log.error("The driver %s is no driver, has no key, or one that is taken: %r", point.name, driver)
            continue
        found[driver.key] = driver
    return dict(sorted(found.items(), key=lambda item: item[1].title.casefold()))


def driver_named(key: str) -> Driver:
    """A driver by its key; `BadInput` where it is not installed here."""
    try:
        return drivers()[key]
    except KeyError:
        known = ", ".join(drivers()) or "none"
        raise BadInput(f"the driver {key} is not installed here; installed are {known}") from None


def drivers_for(what: str) -> list[Driver]:
    """Drivers that open a "printer", or an instrument of a measuring method."""
    return [d for d in drivers().values() if what in d.opens]
