"""The stages there are, in their order."""

from __future__ import annotations

import pkgutil
from importlib import import_module
from typing import Any

from greyanchor.builds.models import Stage
from greyanchor.builds.stages.base import StageType
from greyanchor.core.errors import BadInput

_types: dict[str, StageType[Any]] = {}


def register(stage_type: type[StageType[Any]]) -> type[StageType[Any]]:
    """Class decorator: make a stage known under its name."""
    _types[stage_type.name] = stage_type()
    return stage_type


def unregister(name: str) -> None:
    """Forget a stage; for tests that add one."""
    _types.pop(name, None)


def discover(package: str) -> None:
    """Import every module of a package, so that the stages in it are registered."""
    for found in pkgutil.iter_modules(import_module(package).__path__):
        import_module(f"{package}.{found.name}")


def stage_types() -> list[StageType[Any]]:
    """Every stage in the order of a build."""
    return sorted(_types.values(), key=lambda t: t.position)


def named(name: str) -> StageType[Any]:
    """A stage by its name; `BadInput` when there is none."""
    try:
        return _types[name]
    except KeyError:
        raise BadInput(f"there is no stage called {name}") from None


def type_of(stage: Stage) -> StageType[Any]:
    """What kind of stage a record is."""
    return named(stage.kind)
