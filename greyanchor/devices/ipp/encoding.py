"""Messages of the Internet Printing Protocol to bytes and back (RFC 8010)."""

from __future__ import annotations

import struct
from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field
from datetime import UTC, datetime, timedelta, timezone
from enum import IntEnum
from typing import Any, NamedTuple

from greyanchor.core.errors import BadInput

#: attributes of one message, and how deep collections may lie in one another
MOST_ATTRIBUTES, DEEPEST = 20_000, 8


class Group(IntEnum):
    """Delimiters of groups of attributes."""

    OPERATION = 0x01
    JOB = 0x02
    END = 0x03
    PRINTER = 0x04
    UNSUPPORTED = 0x05


class Tag(IntEnum):
    """Kinds of values."""

    UNSUPPORTED = 0x10
    UNKNOWN = 0x12
    NO_VALUE = 0x13
    INTEGER = 0x21
    BOOLEAN = 0x22
    ENUM = 0x23
    OCTETS = 0x30
    DATE_TIME = 0x31
    RESOLUTION = 0x32
    RANGE = 0x33
    COLLECTION = 0x34
    TEXT_WITH_LANGUAGE = 0x35
    NAME_WITH_LANGUAGE = 0x36
    END_COLLECTION = 0x37
    TEXT = 0x41
    NAME = 0x42
    KEYWORD = 0x44
    URI = 0x45
    URI_SCHEME = 0x46
    CHARSET = 0x47
    LANGUAGE = 0x48
    MIME_TYPE = 0x49
    MEMBER = 0x4A


_WORDS = {Tag.TEXT, Tag.NAME, Tag.KEYWORD, Tag.URI, Tag.URI_SCHEME, Tag.CHARSET, Tag.LANGUAGE, Tag.MIME_TYPE}
_NUMBERS = {Tag.INTEGER, Tag.ENUM}
_EMPTY = {Tag.UNSUPPORTED, Tag.UNKNOWN, Tag.NO_VALUE}


class Resolution(NamedTuple):
    """Dots across and along; `units` is 3 for an inch, 4 for a centimetre."""

    across: int
    along: int
    units: int = 3


class Range(NamedTuple):
    """From and to, both included."""

    low: int
    high: int


@dataclass(frozen=True)
class Attribute:
    """A named list of values of one kind.

    Values are int (`INTEGER`, `ENUM`), bool, str, bytes, datetime, `Resolution`, `Range`, None for those
    without a value, and mappings of names to attributes for collections.
    """

    name: str
    tag: Tag
    values: tuple[Any, ...]

    @property
    def value(self) -> Any:
        """The first of them."""
        return self.values[0] if self.values else None


Attributes = dict[str, Attribute]


def attribute(name: str, tag: Tag, *values: Any) -> Attribute:
    """An attribute of one or more values."""
    return Attribute(name, tag, values)


def collection(*members: Attribute) -> dict[str, Attribute]:
    """The value of a collection."""
    return {m.name: m for m in members}


def group(*members: Attribute) -> Attributes:
    """Attributes by their names, in order."""
    return {m.name: m for m in members}


@dataclass
class Message:
    """A request or an answer.

    Attributes
    ----------
    code
        Operation of a request, status of an answer.
    request
        Number that an answer repeats.
    groups
        Groups of attributes in order.
    version
        Of the protocol.
    data
        What follows the attributes.
    """

    code: int
    request: int
    groups: list[tuple[Group, Attributes]] = field(default_factory=list)
    version: tuple[int, int] = (2, 0)
    data: bytes = b""

    def first(self, kind: Group) -> Attributes:
        """The first group of a kind; an empty one where there is none."""
        return next((found for tag, found in self.groups if tag == kind), {})

    def all(self, kind: Group) -> list[Attributes]:
        """Every group of a kind."""
        return [found for tag, found in self.groups if tag == kind]

    def value(self, name: str, kind: Group = Group.OPERATION, usual: Any = None) -> Any:
        """The first value of an attribute of a group."""
        found = self.first(kind).get(name)
        return usual if found is None or found.value is None else found.value


# --- to bytes --------------------------------------------------------------------------------


def encode(message: Message) -> bytes:
    """A message as it goes over the line."""
    out = [struct.pack(">BBHI", *message.version, message.code, message.request)]
    for kind, attributes in message.groups:
        out.append(bytes([kind]))
        for found in attributes.values():
            out.append(_attribute(found))
    out.append(bytes([Group.END]))
    return b"".join(out) + message.data


def _attribute(found: Attribute) -> bytes:
    out, name = [], found.name.encode()
    for value in found.values or (None,):
        out.append(_value(found.tag if value is not None else _nothing(found.tag), name, value))
        name = b""
    return b"".join(out)


def _nothing(tag: Tag) -> Tag:
    return tag if tag in _EMPTY else Tag.NO_VALUE


def _field(tag: int, name: bytes, data: bytes) -> bytes:
    return struct.pack(">BH", tag, len(name)) + name + struct.pack(">H", len(data)) + data


def _value(tag: Tag, name: bytes, value: Any) -> bytes:
    if tag == Tag.COLLECTION:
        parts = [_field(Tag.COLLECTION, name, b"")]
        for member in value.values():
            parts.append(_field(Tag.MEMBER, b"", member.name.encode()))
            parts += [
                _value(member.tag if v is not None else _nothing(member.tag), b"", v)
                for v in member.values or (None,)
            ]
        return b"".join([*parts, _field(Tag.END_COLLECTION, b"", b"")])
    return _field(tag, name, _plain(tag, value))


def _plain(tag: Tag, value: Any) -> bytes:
    if tag in _EMPTY:
        return b""
    if tag in _NUMBERS:
        return struct.pack(">i", value)
    if tag == Tag.BOOLEAN:
        return bytes([bool(value)])
    if tag == Tag.RESOLUTION:
        return struct.pack(">iib", *value)
    if tag == Tag.RANGE:
        return struct.pack(">ii", *value)
    if tag == Tag.DATE_TIME:
        return _date(value)
    if tag in (Tag.TEXT_WITH_LANGUAGE, Tag.NAME_WITH_LANGUAGE):
        text, language = str(value).encode(), b"en"
        return struct.pack(">H", len(language)) + language + struct.pack(">H", len(text)) + text
    return value if isinstance(value, bytes) else str(value).encode()


def _date(value: datetime) -> bytes:
    """DateAndTime of RFC 2579."""
    at = value if value.tzinfo else value.replace(tzinfo=UTC)
    offset = int((at.utcoffset() or timedelta()).total_seconds() // 60)
    return struct.pack(
        ">HBBBBBBcBB", at.year, at.month, at.day, at.hour, at.minute, at.second,
        at.microsecond // 100_000, b"+" if offset >= 0 else b"-", abs(offset) // 60, abs(offset) % 60,
    )  # fmt: skip


# --- from bytes ------------------------------------------------------------------------------


class _Reader:
    def __init__(self, data: bytes) -> None:
        self.data, self.at = data, 0

    def take(self, count: int) -> bytes:
        if self.at + count > len(self.data):
            raise BadInput("the message ends in the middle of an attribute")
        self.at += count
        return self.data[self.at - count : self.at]

    def short(self) -> int:
        return int.from_bytes(self.take(2), "big")


def decode(data: bytes) -> Message:
    """A message from its bytes; what follows its attributes is `data`. Raises `BadInput` for what is none."""
    reader = _Reader(data)
    major, minor, code, request = struct.unpack(">BBHI", reader.take(8))
    message = Message(code, request, [], (major, minor))
    current: Attributes | None = None
    last = ""
    count = 0
    while True:
        tag = reader.take(1)[0]
        if tag == Group.END:
            break
        if tag < 0x10:
            current = {}
            kind = Group(tag) if tag in Group._value2member_map_ else Group.UNSUPPORTED
            message.groups.append((kind, current))
            continue
        count += 1
        if current is None or count > MOST_ATTRIBUTES:
            raise BadInput(
                "an attribute lies outside any group" if current is None else "too many attributes"
            )
        name = _word(reader.take(reader.short()))
        read_tag, value = _read(tag, reader, 0)
        if name:
            if name in current:
                raise BadInput(f"the attribute {name} is there twice")
            last = name
            current[name] = Attribute(name, read_tag, () if value is None else (value,))
        elif last in current:
            held = current[last]
            current[last] = Attribute(last, held.tag, (*held.values, value))
        else:
            raise BadInput("a further value follows no attribute")
    message.data = data[reader.at :]
    return message


def _read(tag: int, reader: _Reader, depth: int) -> tuple[Tag, Any]:
    data = reader.take(reader.short())
    if tag == Tag.COLLECTION:
        if depth >= DEEPEST:
            raise BadInput("collections lie too deep in one another")
        return Tag.COLLECTION, _members(reader, depth + 1)
    kind = Tag(tag) if tag in Tag._value2member_map_ else Tag.OCTETS
    return kind, _unpacked(kind, data)


def _members(reader: _Reader, depth: int) -> Mapping[str, Attribute]:
    found: dict[str, Attribute] = {}
    name = ""
    while True:
        tag = reader.take(1)[0]
        reader.take(reader.short())
        if tag == Tag.END_COLLECTION:
            reader.take(reader.short())
            return found
        if tag == Tag.MEMBER:
            name = _word(reader.take(reader.short()))
            continue
        kind, value = _read(tag, reader, depth)
        if not name:
            raise BadInput("a collection holds a value without a name")
        held = found.get(name)
        values = (*(held.values if held else ()), *(() if value is None else (value,)))
        found[name] = Attribute(name, held.tag if held else kind, values)


def _unpacked(tag: Tag, data: bytes) -> Any:
    try:
        if tag in _EMPTY:
            return None
        if tag in _NUMBERS:
            return struct.unpack(">i", data)[0]
        if tag == Tag.BOOLEAN:
            return data != b"\0"
        if tag == Tag.RESOLUTION:
            return Resolution(*struct.unpack(">iib", data))
        if tag == Tag.RANGE:
            return Range(*struct.unpack(">ii", data))
        if tag == Tag.DATE_TIME:
            return _date_of(data)
        if tag in (Tag.TEXT_WITH_LANGUAGE, Tag.NAME_WITH_LANGUAGE):
            size = int.from_bytes(data[:2], "big")
            return _word(data[4 + size :])
    except (struct.error, ValueError) as error:
        raise BadInput(f"a value of the kind {tag.name.lower()} has {len(data)} bytes") from error
    return _word(data) if tag in _WORDS else data


def _date_of(data: bytes) -> datetime:
    year, month, day, hour, minute, second, tenth, sign, hours, minutes = struct.unpack(">HBBBBBBcBB", data)
    offset = timedelta(hours=hours, minutes=minutes) * (1 if sign == b"+" else -1)
    return datetime(year, month, day, hour, minute, second, tenth * 100_000, timezone(offset))


def _word(data: bytes) -> str:
    try:
        return data.decode("utf-8")
    except UnicodeDecodeError:
        return data.decode("latin-1")


def flat(attributes: Iterable[Attribute]) -> dict[str, Any]:
    """Plain values by name: one value alone, several as a list; collections as dicts."""

    def plain(value: Any) -> Any:
        return flat(value.values()) if isinstance(value, Mapping) else value

    found = {}
    for held in attributes:
        values = [plain(v) for v in held.values]
        found[held.name] = values[0] if len(values) == 1 else values or None
    return found
