"""Where a page belongs: the areas of the bar, and the tabs within each, decided by the view that answers."""

from __future__ import annotations

from dataclasses import dataclass

from django.urls import ResolverMatch, reverse


@dataclass(frozen=True)
class Tab:
    """A tab of an area: a view with its arguments, the other views it stands for, or a kind of record."""

    title: str
    view: str
    args: tuple[str, ...] = ()
    stands_for: tuple[str, ...] = ()
    kind: str = ""

    def is_here(self, match: ResolverMatch) -> bool:
        if self.kind:
            return bool(match.kwargs.get("kind_key") == self.kind)
        return match.url_name in (self.view, *self.stands_for)


@dataclass(frozen=True)
class Area:
    """An entry of the bar, the modules whose views belong to it, and its tabs."""

    title: str
    view: str
    modules: tuple[str, ...] = ()
    views: tuple[str, ...] = ()
    kinds: tuple[str, ...] = ()
    tabs: tuple[Tab, ...] = ()


AREAS = (
    Area(
        "Print modes",
        "modes",
        modules=("greyanchor.library.modes", "greyanchor.families"),
        kinds=("modes", "curves", "limits"),
        tabs=(
            Tab("Find", "modes"),
            Tab("Best mode for", "modes-best"),
            Tab("Families", "families", stands_for=("family", "family-new")),
            Tab("Ink limits", "contents", ("limits",), kind="limits"),
            Tab("Curves", "contents", ("curves",), kind="curves"),
        ),
    ),
    Area(
        "Printers",
        "printers",
        modules=("greyanchor.library.machines", "greyanchor.unattended", "greyanchor.changes"),
        kinds=("printers", "ink-sets"),
        tabs=(
            Tab("Printers", "printers", kind="printers"),
            Tab("Readiness", "readiness", stands_for=("ready-task", "swaps")),
            Tab(
                "Unattended",
                "unattended",
                stands_for=("unattended-work", "unattended-build", "night-rule", "what-changed"),
            ),
            Tab("Ink sets", "ink-sets", kind="ink-sets"),
            Tab("Devices", "devices"),
        ),
    ),
    Area(
        "Media",
        "media-list",
        views=("media-classes-lend",),
        kinds=("media", "presets", "media-classes"),
        tabs=(
            Tab("Media", "media-list", kind="media"),
            Tab("Presets", "presets", kind="presets"),
            Tab("Media classes", "media-classes", kind="media-classes"),
            Tab("What classes lend", "media-classes-lend"),
        ),
    ),
    Area("Profiles", "profiles", modules=("greyanchor.profiles",)),
    Area(
        "Checks",
        "checks",
        modules=("greyanchor.checks",),
        tabs=(
            Tab("Checks", "checks", stands_for=("check",)),
            Tab("New check", "check-new", stands_for=("check-strip", "check-print")),
            Tab("Trends", "trends"),
            Tab("Due and schedules", "schedules", stands_for=("schedule-save",)),
            Tab("Compare", "compare"),
            Tab("Which mode fits", "match-modes"),
            Tab("Tolerance sets", "sets", stands_for=("set", "set-save", "set-import")),
            Tab("Aims", "aims", stands_for=("aim", "aim-add")),
            Tab("Control strips", "strips", stands_for=("strip-add",)),
        ),
    ),
    Area(
        "Colours",
        "spots",
        modules=("greyanchor.colours",),
        tabs=(
            Tab("Spot colours", "spots", stands_for=("spot", "spot-import", "spot-save")),
            Tab("Alike", "spot-twins"),
            Tab("Swatch books", "books", stands_for=("book", "book-new")),
            Tab("Viewing lights", "lights", stands_for=("light-place",)),
            Tab("Under other lights", "metamerism"),
        ),
    ),
    Area(
        "Print room",
        "artwork",
        modules=("greyanchor.printroom",),
        tabs=(
            Tab("Artwork", "artwork", stands_for=("artwork-add", "artwork-modes")),
            Tab("Jobs", "jobs", stands_for=("job", "print-file", "plates", "plate-set")),
            Tab("Runs", "runs", stands_for=("run",)),
            Tab("Machines", "machines", stands_for=("machine",)),
            Tab("Printed", "prints", stands_for=("print",)),
            Tab("Screens", "screens"),
            Tab("Hot folders", "hot-folders", stands_for=("hot-folder-add",)),
        ),
    ),
    Area("Files", "files", views=("files", "upload")),
    Area(
        "Packs",
        "packs",
        modules=("greyanchor.library.packs",),
        tabs=(
            Tab("Import and export", "packs", stands_for=("pack", "export", "modes-pack")),
            Tab("Supplier's catalogue", "catalogue"),
        ),
    ),
    Area(
        "Shop",
        "shop",
        modules=("greyanchor.library.shop", "greyanchor.delivery", "greyanchor.web.storage"),
        tabs=(
            Tab("People, programs and rules", "shop"),
            Tab("Deliveries", "deliveries"),
            Tab("Audit log", "audit"),
            Tab("Background work", "work"),
            Tab("Storage", "storage"),
        ),
    ),
    Area("New build", "new-build", views=("new-build",)),
)


@dataclass(frozen=True)
class Link:
    """A link of the bar or of the tabs, as a template shows it."""

    title: str
    url: str
    here: bool


def area_of(match: ResolverMatch | None) -> Area | None:
    """The area a page belongs to: by its view's name, the kind of its record, or the module of its view."""
    if match is None:
        return None
    kind, module = match.kwargs.get("kind_key"), match.func.__module__
    for area in AREAS:
        if match.url_name in area.views or kind in area.kinds:
            return area
    if kind is not None:
        return None
    return next((a for a in AREAS if any(module.startswith(m) for m in a.modules)), None)


def bar(match: ResolverMatch | None) -> list[Link]:
    """The entries of the bar, with the one the page belongs to marked."""
    here = area_of(match)
    return [Link(a.title, reverse(a.view), a is here) for a in AREAS]


def tabs(match: ResolverMatch | None) -> list[Link]:
    """The tabs of the page's area, with the one it stands under marked."""
    area = area_of(match)
    if area is None or match is None:
        return []
    return [Link(t.title, reverse(t.view, args=t.args), t.is_here(match)) for t in area.tabs]
