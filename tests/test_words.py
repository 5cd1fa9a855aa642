"""What the program says: plain words in every text that a person can read."""

from __future__ import annotations

import ast
import re
from functools import cache
from pathlib import Path

import pytest

SOURCE = Path(__file__).resolve().parent.parent / "src/frugal_sorter"
# What nobody says who speaks English at work, each with what is said instead.
NEVER = {
    r"(?<!there )\bis no (?!longer|larger)[a-z]": "is not a ...",
    r"\bof which\b": "two sentences",
    r"\bthere is no (?!terminal|original|longer|\"|table|trend)[a-z`{]": "unknown ..., or ... not found",
    r"\bso (many|long|often) (?!that)": "N, this long",
    r"\b(lies|stands) (in|on|at|there|beside|alone|twice)\b": "is",
    r"\bby itself\b": "automatically",
    r"\banew\b": "again",
    r"\bnot touched\b": "left alone",
    r"\bcannot be told\b": "cannot yet tell",
    r"\b(take|takes|taken|took) (\w+ )?back\b|\bbrings? (it|them|one) back\b": "undo, redo, restore",
    r"\b(take|takes|taken) away\b|\bfor good\b": "remove, delete permanently",
    r"\bknown are\b": "choose from",
    r"(^|; )say (?!which)": "use, write",
    r"\bnothing to warn of\b|\bmistakes?\b(?!, refuse)": "no warnings, errors",
    r"\bat home\b|\bfurther names?\b|\bmeanwhile\b|\bvisit(s|ed)?\b(?! \w+ --)": "in place, extra hard link, in the meantime, run",
}
# What only programs read.
_FOR_PROGRAMS = re.compile(r"\b(SELECT|INSERT|CREATE|UPDATE|DELETE|ALTER) |^visit runs driver ")


@cache
def texts() -> tuple[tuple[str, str], ...]:
    """Return every text of more than one word in the source, with its place; docstrings are for those who read code."""
    found = []
    for path in SOURCE.rglob("*.py"):
        tree = ast.parse(path.read_text(encoding="utf-8"))
        skipped: set[int] = set()
        for node in ast.walk(tree):
            if isinstance(node, (ast.Module, ast.FunctionDef, ast.ClassDef)) and node.body and isinstance(node.body[0], ast.Expr):
                skipped.add(id(node.body[0].value))
            if isinstance(node, ast.JoinedStr):
                skipped |= {id(inner) for inner in ast.walk(node) if inner is not node}
        for node in ast.walk(tree):
            if id(node) in skipped or not isinstance(node, (ast.Constant, ast.JoinedStr)):
                continue
            if isinstance(node, ast.Constant) and not isinstance(node.value, str):
                continue
            parts = node.values if isinstance(node, ast.JoinedStr) else [node]
            text = "".join(str(one.value) if isinstance(one, ast.Constant) else "{}" for one in parts)
            if " " in text.strip() and not _FOR_PROGRAMS.search(text):
                found.append((f"{path.relative_to(SOURCE)}:{node.lineno}", text))
    return tuple(found)


@pytest.mark.parametrize("pattern", NEVER)
def test_no_text_says_what_nobody_would_say(pattern: str) -> None:
    found = [f"{place}: {text[:100]!r}" for place, text in texts() if re.search(pattern, text, re.IGNORECASE)]
    assert not found, f"say `{NEVER[pattern]}` instead:\n" + "\n".join(found)


def test_the_texts_are_those_that_are_printed() -> None:
    """Else the test above could find nothing because it looks at nothing."""
    every = {text for _, text in texts()}
    assert {"Left alone", "Nothing was changed.", "undo a run"} <= every and len(every) > 1_500
