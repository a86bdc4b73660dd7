"""Numbers on pages: fixed decimals, signs, and nothing where there is no number."""

from __future__ import annotations

from datetime import datetime
from typing import Any
from urllib.parse import parse_qsl, urlencode

from django import template
from django.utils import timezone
from django.utils.formats import date_format
from django.utils.html import format_html, format_html_join
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


_CHOICE = (
    '<li><label><input type="checkbox"{0} data-hx-get="{1}?{2}" data-same="{3}:{4}">'
    '<span class="label" title="{4}">{4}</span><span class="n">{5}</span></label></li>'
)
_CHECKED = mark_safe(" checked")


@register.simple_tag
def choice_items(facet: str, choices: list[Any], address: str) -> SafeString:
    """Choices of a facet as list items: there are many, and a template would be slow about them."""
    return format_html_join(
        "",
        _CHOICE,
        ((_CHECKED if c.chosen else "", address, c.address, facet, c.label, c.count) for c in choices),
    )


_LINE = (
    '<tr><td><input type="checkbox" name="m" value="{0}" aria-label="{1}"></td><td><a '
    'href="{2}{0}/">{1}</a>{3}{4}</td>{5}</tr>'
)


@register.simple_tag
def mode_lines(rows: list[Any], address: str) -> SafeString:
    """Rows of the finding page: fifty of them with ten cells each, which a template would be slow about."""
    pin = mark_safe(' <span class="tag">pinned</span>'), mark_safe(' <span class="tag">site pin</span>')
    items = []
    for row in rows:
        pinned = "" if not row.pinned else pin[row.pinned == "site"]
        lent = (
            format_html(' <span class="tag">inherited {}</span>', ", ".join(row.mode.inherited))
            if row.mode.inherited
            else ""
        )
        cells = format_html_join(
            "",
            "<td{}>{}</td>",
            (
                (
                    mark_safe(' class="num"') if c.numeric else "",
                    c.text if c.verdict is None else verdict(c.verdict),
                )
                for c in row.cells
            ),
        )
        items.append((row.mode.pk, row.mode.name, address, pinned, lent, cells))
    return format_html_join("", _LINE, items)
