"""Parts that pages are made of: panels, listings, facts, and forms of one button."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from django import template
from django.template.base import FilterExpression, NodeList, Parser, Token
from django.template.context import Context
from django.template.exceptions import TemplateSyntaxError
from django.urls import reverse
from django.utils.html import format_html
from django.utils.safestring import SafeString

register = template.Library()

_LOOKS = {"plain": "btn btn-plain", "main": "btn btn-main", "link": "linkish"}


class PanelNode(template.Node):
    """A section with a heading and, where it is a list, how many stand in it."""

    def __init__(self, title: FilterExpression, count: FilterExpression | None, body: NodeList) -> None:
        self.title, self.count, self.nodelist = title, count, body

    def render(self, context: Context) -> SafeString:
        count = SafeString("")
        if self.count is not None:
            count = format_html('<span class="count">{}</span>', self.count.resolve(context))
        head = format_html("<h2>{}{}</h2>", self.title.resolve(context), count)
        return SafeString(f'<section class="panel">{head}{self.nodelist.render(context)}</section>')


@register.tag
def panel(parser: Parser, token: Token) -> PanelNode:
    """``{% panel "Title" count %} ... {% endpanel %}``; the count may be left out."""
    parts: Sequence[str] = token.split_contents()[1:]
    if not 1 <= len(parts) <= 2:
        raise TemplateSyntaxError("a panel takes a title and, where it is a list, a count")
    body = parser.parse(("endpanel",))
    parser.delete_first_token()
    title, *count = (parser.compile_filter(p) for p in parts)
    return PanelNode(title, count[0] if count else None, body)


class FoldNode(template.Node):
    """What has done its work folds to one line; what has not stands open."""

    def __init__(
        self, folded: FilterExpression, title: FilterExpression, line: FilterExpression, body: NodeList
    ) -> None:
        self.folded, self.title, self.line, self.nodelist = folded, title, line, body

    def render(self, context: Context) -> SafeString:
        body = self.nodelist.render(context)
        if not self.folded.resolve(context):
            return body
        head = format_html(
            '<summary><strong>{}</strong> <span class="muted">{}</span></summary>',
            self.title.resolve(context),
            self.line.resolve(context),
        )
        return SafeString(f'<details class="step fold">{head}{body}</details>')


@register.tag
def fold(parser: Parser, token: Token) -> FoldNode:
    """``{% fold when "Title" line %} ... {% endfold %}``: folded to its title and a line when that holds."""
    parts: Sequence[str] = token.split_contents()[1:]
    if len(parts) != 3:
        raise TemplateSyntaxError("a fold takes when it is folded, a title, and the line that is shown then")
    body = parser.parse(("endfold",))
    parser.delete_first_token()
    when, title, line = (parser.compile_filter(p) for p in parts)
    return FoldNode(when, title, line, body)


class ListingNode(template.Node):
    """A table whose heads sort and that is saved as CSV by a button under it."""

    def __init__(self, name: FilterExpression, css: FilterExpression | None, body: NodeList) -> None:
        self.name, self.css, self.nodelist = name, css, body

    def render(self, context: Context) -> SafeString:
        css = f"list {self.css.resolve(context)}" if self.css is not None else "list"
        head = format_html('<table class="{}" data-csv="{}">', css, self.name.resolve(context))
        return SafeString(f"{head}{self.nodelist.render(context)}</table>")


@register.tag
def listing(parser: Parser, token: Token) -> ListingNode:
    """``{% listing "name" "classes" %} <thead> .. <tbody> .. {% endlisting %}``; classes may be left out.

    Heads with ``data-sort`` sort; ``name`` is that of the CSV file.
    """
    parts: Sequence[str] = token.split_contents()[1:]
    if not 1 <= len(parts) <= 2:
        raise TemplateSyntaxError("a listing takes a name and, where it has any, classes")
    body = parser.parse(("endlisting",))
    parser.delete_first_token()
    name, *css = (parser.compile_filter(part) for part in parts)
    return ListingNode(name, css[0] if css else None, body)


@register.simple_tag
def fact(label: str, value: Any, unit: str = "", digits: int = 1) -> SafeString:
    """A figure with its unit in a list of facts; a dash where it is not known."""
    text = "–" if value is None or value == "" else f"{float(value):.{digits}f}"
    unit = f" {unit}" if unit and text != "–" else ""
    return format_html('<dt>{}</dt><dd class="mono">{}{}</dd>', label, text, unit)


@register.simple_tag(takes_context=True)
def action(
    context: Context,
    label: str,
    view: str,
    *args: Any,
    look: str = "plain",
    css: str = "",
    version: int | None = None,
) -> SafeString:
    """A form of one button that posts to a view; `version` is that of the record it is based on."""
    hidden = SafeString("")
    if version is not None:
        hidden = format_html('<input type="hidden" name="version" value="{}">', version)
    return format_html(
        '<form method="post" action="{}" class="{}"><input type="hidden" name="csrfmiddlewaretoken" '
        'value="{}">{}'
        '<button type="submit" class="{}">{}</button></form>',
        reverse(view, args=args),
        css,
        context.get("csrf_token", ""),
        hidden,
        _LOOKS[look],
        label,
    )
