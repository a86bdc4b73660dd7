"""A fitted model as bytes and back, so that it need not be fitted again to look at what it says."""

from __future__ import annotations

import io
import json

import numpy as np

from greyanchor.core.characterization import neugebauer, residual
from greyanchor.core.characterization.model import FitReport, ForwardModel, Prior
from greyanchor.core.characterization.shared_inks import InksOnMedia, SharedInks
from greyanchor.core.colour.colorimetry import Array
from greyanchor.core.errors import BadInput

#: changes when the same numbers would say something else; a model kept in another form is fitted again
FORM = 4


def to_bytes(model: ForwardModel) -> bytes:
    """The whole model, compressed; arrays only, nothing that could run."""
    facts = {
        "form": FORM,
        "channels": model.channels,
        "prior": "shared" if isinstance(model.prior, InksOnMedia) else "own",
        "fit": model.fit.as_dict(),
        "held_out": model.held_out.as_dict(),
        "corrections": len(model.corrections),
    }
    arrays = {**_prior_arrays(model.prior), "to_xyz": model.to_xyz, "even": model.even}
    for i, surface in enumerate((model.remainder, *model.corrections)):
        if surface is not None:
            arrays |= {
                f"places{i}": surface.places,
                f"weights{i}": surface.weights,
                f"shape{i}": np.array([surface.length, surface.noise, surface.whole, surface.tabled]),
            }
    out = io.BytesIO()
    coded = np.frombuffer(json.dumps(facts).encode(), dtype=np.uint8)
    np.savez_compressed(out, facts=coded, **arrays)  # type: ignore[arg-type]
    return out.getvalue()


def from_bytes(data: bytes) -> ForwardModel | None:
    """Inverse of `to_bytes`; what leave-one-out left is not kept. None for a model of an earlier version,
    which has to be fitted again. Raises `BadInput` for damaged bytes.
    """
    try:
        with np.load(io.BytesIO(data), allow_pickle=False) as held:
            facts = json.loads(held["facts"].tobytes())
            if facts.get("form") != FORM:
                return None
            surfaces = [_surface(held, i) for i in range(1 + facts["corrections"])]
            return ForwardModel(
                tuple(facts["channels"]),
                _prior(held, facts["prior"] == "shared"),
                held["to_xyz"],
                surfaces[0],
                held["even"],
                FitReport(**facts["fit"]),
                FitReport(**facts["held_out"]),
                tuple(s for s in surfaces[1:] if s is not None),
            )
    except (OSError, ValueError, KeyError, TypeError) as error:
        raise BadInput(f"the kept model is damaged: {error}") from error


_SHARED = ("absorption", "trapping", "growth", "middle", "spread")
_MEDIA = ("paper", "shine", "values")


def _prior_arrays(prior: Prior) -> dict[str, Array]:
    if isinstance(prior, InksOnMedia):
        shared = {name: getattr(prior.shared, name) for name in _SHARED}
        return shared | {name: getattr(prior, name) for name in _MEDIA}
    assert isinstance(prior, neugebauer.NeugebauerModel)
    return {"n": np.array(prior.n), "gains": prior.gains, "roots": prior.roots}


def _prior(held: np.lib.npyio.NpzFile, shared: bool) -> Prior:
    if shared:
        return InksOnMedia(SharedInks(*(held[n] for n in _SHARED)), *(held[n] for n in _MEDIA))
    return neugebauer.NeugebauerModel(float(held["n"]), held["gains"], held["roots"])


def _surface(held: np.lib.npyio.NpzFile, i: int) -> residual.SmoothResidual | None:
    if f"places{i}" not in held:
        return None
    places, weights = held[f"places{i}"], held[f"weights{i}"]
    length, noise, whole, tabled = (float(v) for v in held[f"shape{i}"])
    return residual.SmoothResidual(
        places, weights, length, noise, np.zeros_like(weights), whole, bool(tabled)
    )
