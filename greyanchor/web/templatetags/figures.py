"""Numbers on pages: fixed decimals, signs, and nothing where there is no number."""

from __future__ import annotations

from datetime import datetime
from html import escape
from typing import Any
from urllib.parse import parse_qsl, urlencode

from django import template
from django.utils import timezone
from django.utils.formats import date_format
from django.utils.html import format_html
from django.utils.safestring import SafeString, mark_safe

from greyanchor.core.printing.handling import SOURCE_WORDS, Setting

register = template.Library()


@register.filter
def fix(value: Any, digits: int = 1) -> str:
    """`value` with `digits` decimals; a dash when it is missing."""
    return "–" if value is None or value == "" else f"{float(value):.{digits}f}"


@register.filter
def signed(value: Any, digits: int = 1) -> str:
    """Like `fix`, with a sign that is a real minus."""
    return "–" if value is None else f"{float(value):+.{digits}f}".replace("-", "−")


@register.filter
def person(user: Any) -> str:
    """The name of a person; a dash where nobody is known."""
    return (user.get_full_name() or user.get_username()) if user else "–"


_FORMS = {"": "j M Y H:i", "short": "j M H:i", "long": "j F Y H:i T"}


@register.filter
def at(moment: datetime | None, form: str = "") -> SafeString | str:
    """A moment with its time zone: in the text where that is long, and when it is pointed at."""
    if moment is None:
        return "–"
    here = timezone.localtime(moment)
    shown, whole = date_format(here, _FORMS[form]), date_format(here, "l j F Y H:i T")
    return format_html(
        '<time datetime="{}" title="{}">{}</time>', here.isoformat(timespec="seconds"), whole, shown
    )


@register.filter
def thousands(value: Any) -> str:
    """Whole thousands, for gamut volumes."""
    return f"{float(value) / 1000:.0f}"


@register.filter
def spaced(name: str) -> str:
    """A key with its underscores as spaces."""
    return name.replace("_", " ")


@register.filter
def with_edition(tolerances: dict[str, Any]) -> str:
    """Where a tolerance set comes from, with its edition where that is not said already."""
    source, edition = str(tolerances.get("source", "")), str(tolerances.get("edition", ""))
    return source if edition in source else f"{source}, edition {edition}"


@register.filter
def listed(value: Any) -> str:
    """A list or a mapping as one line; other values as they are."""
    if isinstance(value, dict):
        return ", ".join(f"{k} {v:g}" if isinstance(v, float) else f"{k} {v}" for k, v in value.items())
    return ", ".join(map(str, value)) if isinstance(value, list | tuple) else str(value)


@register.filter
def lookup(mapping: dict[Any, Any], key: Any) -> Any:
    """The value of a key that is itself a variable."""
    return mapping.get(key, "")


@register.filter
def without_ending(address: str) -> str:
    """An address without the ending of its file name."""
    return address.rpartition(".")[0]


@register.filter
def dither(coverage: float, colour: str) -> SafeString:
    """One tile, 6 by 6, of a coarse dither that covers `coverage` percent with `colour`: a square, or its
    opposite.
    """
    if coverage <= 50:
        side = 6.0 * (coverage / 100.0) ** 0.5
        return mark_safe(f'<rect width="{side:.3f}" height="{side:.3f}" fill="{colour}"/>')
    hole = 6.0 * (1.0 - coverage / 100.0) ** 0.5
    path = f"M0 0H6V6H0ZM0 0V{hole:.3f}H{hole:.3f}V0Z"
    return mark_safe(f'<path d="{path}" fill-rule="evenodd" fill="{colour}"/>')


@register.filter
def drawn(svg: str) -> SafeString:
    """A drawing of ours, whose texts were escaped when it was drawn."""
    return mark_safe(svg)


@register.simple_tag
def verdict(value: str) -> SafeString:
    """A verdict as shape and word: filled square passes, ringed cross fails, open circle is not tested."""
    shapes = {
        "pass": (
            '<svg viewBox="0 0 12 12" aria-hidden="true"><rect x="1" y="1" width="10" height="10"/></svg>'
        ),
        "fail": (
            '<svg viewBox="0 0 12 12" aria-hidden="true"><path d="M2 2l8 8M10 2l-8 8" '
            'stroke-width="2.6"/></svg>'
        ),
    }
    words = {"pass": "pass", "fail": "FAIL", "reported": "reported", "not tested": "not tested"}
    shape = shapes.get(
        value, '<svg viewBox="0 0 12 12" aria-hidden="true"><circle cx="6" cy="6" r="4.4" fill="none"/></svg>'
    )
    kind = value.replace(" ", "-") or "none"
    return mark_safe(f'<span class="verdict verdict-{kind}">{shape}{words.get(value, "no check")}</span>')


@register.filter
def words(text: str) -> list[str]:
    """A text as its words."""
    return text.split()


@register.filter
def add_text(text: str, more: Any) -> str:
    """`text` with something written after it."""
    return f"{text}{more}"


@register.filter
def is_number(value: Any) -> bool:
    """Whether a cell is a number, so that it stands on the right."""
    return isinstance(value, int | float) and not isinstance(value, bool)


@register.filter
def plain(value: Any) -> str:
    """A number as it is typed: no more decimals than it needs."""
    return "" if value is None else f"{value:g}"


@register.filter
def source_word(source: str) -> str:
    """Who decides a handling setting, in words."""
    return SOURCE_WORDS[source]


@register.filter
def with_unit(value: float | None, setting: Setting) -> str:
    """A value of a handling setting with its unit."""
    return setting.with_unit(value)


@register.filter
def sorted_by(address: str, key: str) -> str:
    """A query with another sort."""
    kept = [(k, v) for k, v in parse_qsl(address) if k != "sort"]
    return urlencode([*kept, ("sort", key)])


@register.simple_tag
def choice_items(facet: str, choices: list[Any], address: str) -> SafeString:
    """Choices of a facet as list items. There are hundreds: each text is escaped once, by hand."""
    before = f' data-hx-get="{escape(address)}?'
    group = escape(facet)
    parts = []
    for c in choices:
        label = escape(c.label)
        parts.append(
            f'<li><label><input type="checkbox"{" checked" if c.chosen else ""}{before}{escape(c.address)}" '
            f'data-same="{group}:{label}"><span class="label" title="{label}">{label}</span>'
            f'<span class="n">{c.count}</span></label></li>'
        )
    return mark_safe("".join(parts))


_PINNED = {"": "", "mine": ' <span class="tag">pinned</span>', "site": ' <span class="tag">site pin</span>'}


@register.simple_tag
def mode_lines(rows: list[Any], address: str) -> SafeString:
    """Rows of the finding page: fifty of them with ten cells each, every text escaped once, by hand."""
    parts = []
    for row in rows:
        name = escape(row.mode.name)
        parts.append(
            f'<tr><td><input type="checkbox" name="m" value="{row.mode.pk}" aria-label="{name}"></td>'
            f'<td><a href="{escape(address)}{row.mode.pk}/">{name}</a>'
            f"{_PINNED['site' if row.pinned == 'site' else 'mine' if row.pinned else '']}"
        )
        if row.mode.inherited:
            parts.append(f' <span class="tag">inherited {escape(", ".join(row.mode.inherited))}</span>')
        parts.append("</td>")
        for c in row.cells:
            shown = escape(str(c.text)) if c.verdict is None else verdict(c.verdict)
            parts.append(f'<td class="num">{shown}</td>' if c.numeric else f"<td>{shown}</td>")
        parts.append("</tr>")
    return mark_safe("".join(parts))


@register.filter
def percent(share: float | None) -> str:
    """A share as percent: ``67 %``; one decimal below 10 %, a dash where it is not known."""
    if share is None:
        return "–"
    value = 100.0 * float(share)
    return f"{value:.1f} %" if 0.0 < value < 9.95 else f"{value:.0f} %"
