"""Records of the shared library: machines and media, print modes, packs, readiness and the shop's rules."""

from greyanchor.library.models.devices import DeviceConnection
from greyanchor.library.models.equipment import Attachment, InkSet, Media, MediaClass, MediaPreset, Printer
from greyanchor.library.models.modes import ClassFallback, Edition, KeptText, LimitSet, Pin, PrintMode
from greyanchor.library.models.packs import Installed, Offer, PackExport, PackImport, Shelf
from greyanchor.library.models.readiness import ReadinessRun, SlotSent
from greyanchor.library.models.rules import ShopRules, StorageRules

__all__ = [
    "Attachment",
    "ClassFallback",
    "DeviceConnection",
    "Edition",
    "InkSet",
    "Installed",
    "KeptText",
    "LimitSet",
    "Media",
    "MediaClass",
    "MediaPreset",
    "Offer",
    "PackExport",
    "PackImport",
    "Pin",
    "PrintMode",
    "Printer",
    "ReadinessRun",
    "Shelf",
    "ShopRules",
    "SlotSent",
    "StorageRules",
]
