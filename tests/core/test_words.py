"""Retired words and long lines stay out of the product."""

from __future__ import annotations

from pathlib import Path

import pytest

from scripts import check_words


def test_no_retired_word_and_no_long_line_is_left(
    capsys: pytest.CaptureFixture[str], monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.chdir(Path(check_words.__file__).parents[1])
    assert check_words.main() == 0, capsys.readouterr().out


@pytest.mark.parametrize(
    ("text", "found"),
    [
        ("<p>Nobody was told.</p>", "'told' is a retired word"),
        ("{{ foretold }}", "'foretold' is a retired word"),
        ("#: read anew", "'anew' is a retired word"),
        ("def held_by(x): ...", "'held_by' is a retired word"),
        ("x" * 111, "111 characters, 110 are allowed"),
        ("<p>The page says what it was.</p>", ""),
        ("bookkeeping", ""),
    ],
)
def test_what_is_looked_for_is_found(
    text: str, found: str, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.chdir(tmp_path)
    path = Path("greyanchor/page.html")
    path.parent.mkdir()
    path.write_text(f"first line\n{text}\n", encoding="utf-8")
    problems = check_words.problems(path)
    assert (not problems and not found) or (found in problems[0] and ":2:" in problems[0]), problems
