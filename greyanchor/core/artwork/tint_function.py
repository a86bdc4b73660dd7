"""What a spot colour's tint function gives for the solid (ISO 32000-2, 7.10)."""

from __future__ import annotations

from typing import Any

from greyanchor.core.artwork.pdf import name_text

#: words of a calculator function that are looked at, and values that it may hold
_MOST_WORDS, _MOST_STACK = 2000, 200


def solid_of(function: Any) -> list[float] | None:
    """Values of the colour that stands in for full tint; None for a function that is not understood."""
    try:
        kind = int(function.get("/FunctionType"))
        if kind == 2:
            ends = function.get("/C1")
            return [1.0] if ends is None else [float(v) for v in ends]
        if kind == 3:
            return solid_of(function.get("/Functions")[-1])
        if kind == 0:
            return _last_sample(function)
        if kind == 4:
            return _calculated(function)
    except (AttributeError, TypeError, ValueError, IndexError, KeyError, ZeroDivisionError):
        return None
    return None


def _last_sample(function: Any) -> list[float]:
    """The end of a table of samples."""
    ranges = [float(v) for v in function.get("/Range")]
    decode = [float(v) for v in function.get("/Decode", ranges)]
    bits, count = int(function.get("/BitsPerSample")), int(function.get("/Size")[0])
    channels = len(ranges) // 2
    data = int.from_bytes(function.read_bytes(), "big")
    length = len(function.read_bytes()) * 8
    out = []
    for channel in range(channels):
        place = ((count - 1) * channels + channel) * bits
        raw = (data >> (length - place - bits)) & ((1 << bits) - 1)
        low, high = decode[2 * channel], decode[2 * channel + 1]
        out.append(low + raw / ((1 << bits) - 1) * (high - low))
    return out


def _calculated(function: Any) -> list[float] | None:
    """A calculator function of full tint, for those words that tints are written with."""
    text = function.read_bytes().decode("latin-1").replace("{", " ").replace("}", " ")
    words = text.split()
    if len(words) > _MOST_WORDS or "if" in words or "ifelse" in words:
        return None
    stack = [1.0]
    for word in words:
        if len(stack) > _MOST_STACK:
            return None
        _step(stack, word)
    ranges = [float(v) for v in function.get("/Range")]
    if len(stack) != len(ranges) // 2:
        return None
    return [min(max(v, ranges[2 * i]), ranges[2 * i + 1]) for i, v in enumerate(stack)]


def _step(stack: list[float], word: str) -> None:
    """One word of a calculator. Raises `ValueError` or `IndexError` for one that is not known or lacks
    values.
    """
    pairs = {
        "add": lambda a, b: a + b,
        "sub": lambda a, b: a - b,
        "mul": lambda a, b: a * b,
        "div": lambda a, b: a / b,
    }
    if word in pairs:
        last, first = stack.pop(), stack.pop()
        stack.append(pairs[word](first, last))
    elif word == "exch":
        stack[-1], stack[-2] = stack[-2], stack[-1]
    elif word == "dup":
        stack.append(stack[-1])
    elif word == "pop":
        stack.pop()
    elif word == "neg":
        stack[-1] = -stack[-1]
    elif word in ("cvr", "cvi"):
        stack[-1] = float(stack[-1]) if word == "cvr" else float(int(stack[-1]))
    elif word == "index":
        stack.append(stack[-1 - int(stack.pop())])
    elif word == "copy":
        count = int(stack.pop())
        stack.extend(stack[len(stack) - count :])
    elif word == "roll":
        by, count = int(stack.pop()), int(stack.pop())
        part = stack[len(stack) - count :]
        stack[len(stack) - count :] = part[-by % count :] + part[: -by % count]
    else:
        stack.append(float(word))


def words_of(space: Any, processes: dict[str, str]) -> str:
    """What stands in for a spot colour at full strength, in words."""
    from greyanchor.core.artwork.pdf import is_name

    inner = space[2]
    kind = name_text(inner if is_name(inner) else inner[0])
    values = solid_of(space[3])
    if kind == "ICCBased" and values is not None:
        kind = {1: "DeviceGray", 3: "DeviceRGB", 4: "DeviceCMYK"}.get(len(values), kind)
    called = processes.get(kind, kind) or kind
    if values is None:
        return f"the file's own {called}"
    if kind == "Lab":
        return f"L* {values[0]:.0f} a* {values[1]:.0f} b* {values[2]:.0f}"
    return f"{called} {' '.join(f'{100 * v:.0f}' for v in values)} %"
