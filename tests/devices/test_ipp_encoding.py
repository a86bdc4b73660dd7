"""Messages of IPP: there and back, against the bytes of the standard's own example, and against junk."""

from __future__ import annotations

import contextlib
from datetime import UTC, datetime

import pytest
from hypothesis import given
from hypothesis import strategies as st

from greyanchor.core.errors import BadInput
from greyanchor.devices.ipp.encoding import (
    Attribute,
    Group,
    Message,
    Range,
    Resolution,
    Tag,
    attribute,
    collection,
    decode,
    encode,
    flat,
    group,
)

#: RFC 8010, A.1: a Print-Job request, without its printer-uri
EXAMPLE = bytes.fromhex(
    "0101 0002 00000001 01"
    "47 0012 617474726962757465732d63686172736574 0005 7574662d38"
    "48 001b 617474726962757465732d6e61747572616c2d6c616e6775616765 0005 656e2d7573"
    "42 0008 6a6f622d6e616d65 0006 666f6f626172"
    "22 0016 6970702d6174747269627574652d666964656c697479 0001 01"
    "02"
    "21 0006 636f70696573 0004 00000014"
    "44 0005 7369646573 0013 74776f2d73696465642d6c6f6e672d65646765"
    "03"
)

_names = st.from_regex(r"[a-z][a-z0-9-]{0,20}", fullmatch=True)
_scalars = st.one_of(
    st.tuples(st.just(Tag.INTEGER), st.integers(-(2**31), 2**31 - 1)),
    st.tuples(st.just(Tag.ENUM), st.integers(0, 100)),
    st.tuples(st.just(Tag.BOOLEAN), st.booleans()),
    st.tuples(st.just(Tag.KEYWORD), st.text(max_size=40)),
    st.tuples(st.just(Tag.NAME), st.text(max_size=60)),
    st.tuples(st.just(Tag.OCTETS), st.binary(max_size=30)),
    st.tuples(st.just(Tag.RANGE), st.builds(Range, st.integers(0, 9), st.integers(9, 99))),
    st.tuples(
        st.just(Tag.RESOLUTION),
        st.builds(Resolution, st.integers(1, 4800), st.integers(1, 4800), st.sampled_from([3, 4])),
    ),
)


@st.composite
def _attributes(draw: st.DrawFn, depth: int = 2) -> dict[str, Attribute]:
    found = {}
    for name in draw(st.lists(_names, unique=True, max_size=5)):
        if depth and draw(st.booleans()):
            found[name] = attribute(name, Tag.COLLECTION, draw(_attributes(depth - 1)))
            continue
        tag, value = draw(_scalars)
        more = draw(st.integers(0, 2))
        found[name] = attribute(name, tag, value, *([value] * more))
    return found


@given(_attributes(), _attributes(), st.integers(1, 2**31 - 1), st.binary(max_size=50))
def test_what_is_written_is_read(first, second, number, data) -> None:
    made = Message(0x0B, number, [(Group.OPERATION, first), (Group.JOB, second)], (2, 0), data)
    assert decode(encode(made)) == made


def test_the_standard_s_own_example_is_read_and_written() -> None:
    found = decode(EXAMPLE + b"%!PDF")
    assert (found.version, found.code, found.request, found.data) == ((1, 1), 2, 1, b"%!PDF")
    assert flat(found.first(Group.OPERATION).values()) == {
        "attributes-charset": "utf-8", "attributes-natural-language": "en-us", "job-name": "foobar",
        "ipp-attribute-fidelity": True,
    }  # fmt: skip
    assert flat(found.first(Group.JOB).values()) == {"copies": 20, "sides": "two-sided-long-edge"}
    assert encode(found) == EXAMPLE + b"%!PDF"


def test_dates_and_values_without_a_value() -> None:
    at = datetime(2026, 11, 27, 9, 30, 15, 200_000, UTC)
    facts = group(
        attribute("t", Tag.DATE_TIME, at), attribute("n", Tag.NO_VALUE), attribute("e", Tag.INTEGER)
    )
    found = decode(encode(Message(0, 1, [(Group.PRINTER, facts)]))).first(Group.PRINTER)
    assert found["t"].value == at
    assert found["n"].value is None and found["e"].tag == Tag.NO_VALUE


@given(st.binary(max_size=300))
def test_junk_is_refused_or_read_and_never_more(data: bytes) -> None:
    with contextlib.suppress(BadInput):
        decode(b"\1\1\0\2\0\0\0\1" + data)


def test_collections_without_end_are_refused() -> None:
    deep = collection(attribute("x", Tag.INTEGER, 1))
    for _ in range(20):
        deep = collection(attribute("x", Tag.COLLECTION, deep))
    data = encode(Message(2, 1, [(Group.JOB, group(attribute("x", Tag.COLLECTION, deep)))]))
    with pytest.raises(BadInput, match="too deep"):
        decode(data)
    with pytest.raises(BadInput, match="ends in the middle"):
        decode(EXAMPLE[:40])
