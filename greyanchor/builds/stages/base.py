"""What a stage of a build is: one subclass of `StageType`, in a file of its own.

A stage type says what its chart is, what it computes from the readings, which figure matters, when it may be
accepted and why not, and what it puts on the print mode. Everything else (layout, printing, reading,
deciding,
undoing, showing) is the same for all of them and asks these methods. To add a stage, add one file with one
subclass decorated with `registry.register`, and one template.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import MISSING, dataclass, field, fields
from typing import Any, ClassVar, Generic, TypeVar, cast

import numpy as np
from django.contrib.auth.models import User

from greyanchor.builds import forms
from greyanchor.builds.models import Build, Stage
from greyanchor.core.colour.colorimetry import Array
from greyanchor.core.errors import BadInput
from greyanchor.core.measurement.readings import ReadingSet
from greyanchor.library.models import InkSet, PrintMode

Marks = Mapping[str, Mapping[str, float | None]]
#: what a stage shows that no other does; the keys are the template's
Details = dict[str, Any]


class StageResult:
    """Base of the dataclasses that stages compute: plain values, percent like every edge.

    Fields that default to None are left out of the JSON while they are None.
    """

    def to_json(self) -> dict[str, Any]:
        """What is stored with the stage."""
        pairs = ((f, getattr(self, f.name)) for f in fields(cast(Any, self)))
        return {f.name: value for f, value in pairs if value is not None or f.default is MISSING}

    @classmethod
    def from_json(cls: type[R], data: Mapping[str, Any]) -> R:
        """The result that was stored, also by an earlier version: unknown keys are passed over."""
        known = {f.name for f in fields(cast(Any, cls))}
        return cls(**{k: v for k, v in data.items() if k in known})


R = TypeVar("R", bound=StageResult)


@dataclass(frozen=True)
class ChartDesign:
    """What a stage prints.

    Attributes
    ----------
    purpose
        As `core.charts.patches.design` names it; decides the order on the sheet.
    device
        Patches, fractions, (n, channels).
    channels
        Names of the channels of `device`.
    pipeline
        From patches to raw values, (n, channels) to (n, sent); None where patches are raw.
    sheet_pipeline
        The same from the chart as laid out, where raw values depend on which patch is which.
    sent
        Channels that `pipeline` gives; None for `channels`.
    subject
        What the title of the sheet calls it; empty for the stage's own title.
    names
        Names of patches, empty text for those without one.
    facts
        What else the sheet says of itself, by keyword.
    """

    purpose: str
    device: Array
    channels: tuple[str, ...] = tuple("CMYK")
    pipeline: Callable[[Array], Array] | None = None
    sheet_pipeline: Callable[[ReadingSet], Array] | None = None
    sent: tuple[str, ...] | None = None
    subject: str = ""
    names: tuple[str, ...] = ()
    facts: Mapping[str, str] = field(default_factory=dict)

    def raw_of(self, chart: ReadingSet) -> Callable[[Array], Array] | None:
        """The way from the patches of a laid-out chart to raw values; None where patches are raw."""
        if self.sheet_pipeline is None:
            return self.pipeline
        raw = self.sheet_pipeline(chart)
        return lambda _device: raw


@dataclass(frozen=True)
class EyeSubject:
    """A picture that is judged by eye: a ramp of one ink, or rising sums of several; steps in percent."""

    name: str
    steps: tuple[int, ...]
    faults: tuple[str, ...]


class StageType(Generic[R]):
    """One stage of a build. Subclasses are stateless; every method is given the `Stage` record."""

    #: key in the database and in addresses, and place in the order
    name: ClassVar[str]
    position: ClassVar[int]
    title: ClassVar[str]
    #: what the stage is for, in one line
    purpose: ClassVar[str]
    #: the short "why and how" that opens in place
    why: ClassVar[str]
    #: name of the drawing beside it, where there is one
    why_picture: ClassVar[str] = ""
    #: passes over its chart that are required; 0 when it has no chart of its own
    passes: ClassVar[int] = 0
    #: the label of the button that accepts it
    accept_label: ClassVar[str] = "Accept"
    #: whether the shop's rule of double reading looks at its chart
    read_twice_rule: ClassVar[bool] = False
    #: whether the start page lists it among the builds that go on
    on_start_page: ClassVar[bool] = True
    #: whether accepting it takes the mode's baseline
    takes_baseline: ClassVar[bool] = False
    #: whether a second print confirms what it found
    confirms: ClassVar[bool] = False
    #: state of the mode once it is accepted; empty to leave it
    mode_state: ClassVar[str] = ""
    #: whether builds of films have it: they alone (True), others alone (False), or all (None)
    films: ClassVar[bool | None] = False
    #: whether accepting it releases the mode
    releases: ClassVar[bool] = False
    #: what the log says when it is skipped (empty where it cannot be), what is skipped, and the button's
    #: label
    skip_text: ClassVar[str] = ""
    skip_subject: ClassVar[str] = ""
    skip_label: ClassVar[str] = ""
    #: what of another mode it can take: words for the mode's card, a field of `PrintMode`, the form's heading
    lends: ClassVar[str] = ""
    lends_field: ClassVar[str] = ""
    lends_label: ClassVar[str] = ""
    #: the stage that takes what is inherited here; empty for this one
    lends_to: ClassVar[str] = ""
    result_class: type[R]
    layout_form: ClassVar[type[forms.MeasuringForm] | type[forms.CheckOptions]] = forms.MeasuringForm

    @property
    def why_template(self) -> str:
        return f"builds/why/{self.why_picture}.html"

    @property
    def template(self) -> str:
        """The page of the stage in the log; it extends ``builds/stages/base.html``."""
        return f"builds/stages/{self.name.replace('-', '_')}.html"

    def result(self, stage: Stage) -> R | None:
        """What was computed for the stage; None before it."""
        return self.result_class.from_json(stage.result) if stage.result is not None else None

    def required_result(self, stage: Stage) -> R:
        """The same; `BadInput` before there is one."""
        found = self.result(stage)
        if found is None:
            raise BadInput(f"{self.title} has no result yet; read its chart first")
        return found

    # --- its chart -------------------------------------------------------------------------------

    def belongs(self, ink_set: InkSet) -> bool:
        """Whether a build of these inks has the stage, as far as `films` does not say so already."""
        return True

    def serves(self, ink_set: InkSet) -> bool:
        """Whether a build of these inks has the stage at all."""
        return self.films in (None, ink_set.is_film) and self.belongs(ink_set)

    def wanted(self, build: Build) -> bool:
        """Whether the build was begun with this stage; otherwise it is skipped when its turn comes."""
        return True

    def take_over(self, stage: Stage) -> bool:
        """Put readings of the build this one is based on on the stage, unsaved; False to print a chart."""
        return False

    def opening_options(self, stage: Stage) -> dict[str, Any] | None:
        """Options to lay the chart out with as soon as the stage opens; None where a person chooses first."""
        return None

    def options_alone(self, stage: Stage, wishes: Mapping[str, Any]) -> dict[str, Any]:
        """Options to lay the chart out with where nobody is there to choose; `wishes` were said before."""
        return self.opening_options(stage) or {}

    def settings_alone(self, stage: Stage, title: str) -> dict[str, Any]:
        """Settings of what is computed for the stage where nobody is there to choose."""
        raise BadInput(f"{self.title} takes a person")

    def doubts_alone(self, stage: Stage, wishes: Mapping[str, Any]) -> tuple[str, str] | None:
        """Why the result must wait for a person although nothing speaks against it: the rule, and words with
        the figure; None where it need not.
        """
        return None

    def layout_options(self, stage: Stage, chosen: dict[str, Any]) -> dict[str, Any]:
        """Options of a chart laid out again, from those of the form."""
        return chosen

    def chart(self, stage: Stage, options: dict[str, Any]) -> ChartDesign:
        """What is printed; `BadInput` where the stage has no chart or an earlier decision is missing."""
        raise BadInput(f"{self.title} has no chart of its own")

    def confirmation(self, stage: Stage) -> ChartDesign:
        """A second print through what the stage found; `BadInput` where the stage has none."""
        raise BadInput(f"{self.title} has no second print")

    # --- what it finds ---------------------------------------------------------------------------

    def compute(self, stage: Stage, readings: ReadingSet) -> R:
        """The result from the averaged readings; may set other fields of `stage`, which is saved
        afterwards.
        """
        raise BadInput(f"{self.title} is not computed from readings")

    def compute_confirmation(self, stage: Stage, readings: ReadingSet) -> R:
        """The result with what the second print measured."""
        raise BadInput(f"{self.title} has no second print")

    def headline(self, stage: Stage) -> str:
        """The figure that matters, for the folded line."""
        return str((stage.decision or {}).get("note", "")) if stage.result is None else ""

    def choose(self, stage: Stage, data: Mapping[str, str]) -> None:
        """Take a choice that changes the result, before it is computed again: set options of `stage`."""
        raise BadInput(f"there is nothing to choose in {self.title}")

    # --- deciding --------------------------------------------------------------------------------

    def missing(self, stage: Stage) -> str:
        """Why the stage cannot be accepted at all; empty where it can."""
        return "" if stage.result is not None else f"{self.title} has no result yet; read its chart first"

    def objections(self, stage: Stage, values: dict[str, Any] | None) -> list[str]:
        """What speaks against accepting it, beside its readings; `values` are those of the form, if any."""
        return []

    def check_values(self, values: dict[str, Any]) -> None:
        """Raise `BadInput` for a decision that makes no sense."""

    def found_values(self, stage: Stage) -> dict[str, Any]:
        """The decision that takes what was found as it is."""
        return {}

    def decision_form(self, stage: Stage, data: Any, initial: dict[str, Any]) -> forms.DecisionForm:
        """The form that accepts the stage."""
        return forms.DecisionForm(data, initial=initial, prefix=self.name)

    def changes_nothing(self, stage: Stage) -> bool:
        """Whether the decision equals that of the build this one is based on, so that all later stages
        stand.
        """
        return False

    def release(self, stage: Stage, mode: PrintMode, values: dict[str, Any], reason: str, user: User) -> None:
        """Release `mode`, where `releases` says that this is what the stage does."""

    # --- the mode --------------------------------------------------------------------------------

    def apply_to_mode(self, mode: PrintMode, stage: Stage | None) -> None:
        """Set on `mode`, unsaved, what the stage has decided; `stage` is None while it is not accepted."""

    def baseline(self, stage: Stage) -> tuple[ReadingSet, bool] | None:
        """The short chart through the curves of an accepted stage, and whether it was printed or predicted;
        None where there is nothing to hold a machine to.
        """
        return None

    def lend(self, stage: Stage, lender: PrintMode) -> dict[str, Any]:
        """Put what `lender` has on the stage, unsaved, and give it as a decision."""
        raise BadInput(f"{self.title} cannot be inherited")

    def accepted(self, stage: Stage, user: User) -> None:
        """What else follows when it was accepted, beside what it puts on the mode."""

    def skip(self, stage: Stage) -> None:
        """Take off the stage, unsaved, what must not be used when it is skipped."""

    # --- judging by eye --------------------------------------------------------------------------

    def eye_subjects(self, build: Build) -> Sequence[EyeSubject]:
        """Pictures that are judged by eye; empty where the stage has none."""
        return ()

    def eye_raw(self, build: Build, subject: EyeSubject) -> Array:
        """Raw values of a picture, step by step, (n, channels)."""
        raise BadInput(f"there is no picture of {subject.name}")

    def compute_by_eye(self, stage: Stage, marks: Marks) -> R:
        """The result from marks alone, for media that nothing can read."""
        raise BadInput(f"{self.title} is not decided by eye")

    # --- showing ---------------------------------------------------------------------------------

    def plots(self, stage: Stage) -> list[str]:
        """Curve views as SVG; only asked while there is a result."""
        return []

    def details(self, stage: Stage) -> Details:
        """What only this stage shows."""
        return {}


def rounded(values: Any, digits: int = 3) -> list[float]:
    """Numbers for JSON."""
    return [round(float(v), digits) for v in np.asarray(values)]
