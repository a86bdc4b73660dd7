"""Records of the shared library: places and people, machines and media, print modes, packs, and the upkeep of machines."""

from greyanchor.library.models.exchange import Installed, Offer, PackExport, PackImport, Shelf
from greyanchor.library.models.modes import ClassFallback, Edition, KeptText, LimitSet, Pin, PrintMode
from greyanchor.library.models.noted import Noted
from greyanchor.library.models.places import Membership, ProgramKey, ShopRules, Site
from greyanchor.library.models.things import Attachment, InkSet, Media, MediaClass, MediaPreset, Printer
from greyanchor.library.models.upkeep import Readied, SlotSent

__all__ = [
    "Attachment",
    "ClassFallback",
    "Edition",
    "InkSet",
    "Installed",
    "KeptText",
    "LimitSet",
    "Media",
    "MediaClass",
    "MediaPreset",
    "Membership",
    "Noted",
    "Offer",
    "PackExport",
    "PackImport",
    "Pin",
    "PrintMode",
    "Printer",
    "ProgramKey",
    "Readied",
    "Shelf",
    "ShopRules",
    "Site",
    "SlotSent",
]
