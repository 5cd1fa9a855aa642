"""Writes the table of all reasons in unattended.md anew, as the source has them; a test walks the same list."""

from __future__ import annotations

import ast
import sys
from collections.abc import Iterator
from importlib import import_module
from pathlib import Path
from typing import NamedTuple

SOURCE = Path(__file__).resolve().parent.parent / "src"
# What says why an entry, or all of it, is left: the place of the reason among the arguments, and that of `problem`.
_LEFT = {"Kept": (0, 1), "_Stays": (0, 1), "not_touched": (0, 1), "NotTouched": (2, 3), "_left": (2, 3), "leave_out": (2, 3),
         "Note": (0, 1)}  # fmt: skip
# Said by a result itself, so that their ends are in the table, too.
_BY_DESIGN = frozenset({"NOT_RUN", "DONE", "NOTED"})


class Reason(NamedTuple):
    """Why something was left or not done: its text with `…` for what differs, and whether a person should know."""

    text: str
    is_problem: bool
    outcome: str = ""


def reasons() -> list[Reason]:
    """Return every reason in the source that has words of its own, in the order of their texts."""
    found = set()
    for path in (SOURCE / "frugal_sorter").rglob("*.py"):
        name = ".".join(path.relative_to(SOURCE).with_suffix("").parts)
        for call in ast.walk(ast.parse(path.read_text(encoding="utf-8"))):
            if isinstance(call, ast.Call):
                found.update(_of_call(call, name))
    return sorted(found)


def _of_call(call: ast.Call, module: str) -> Iterator[Reason]:
    named = call.func.attr if isinstance(call.func, ast.Attribute) else getattr(call.func, "id", "")
    values: dict[int | str, ast.expr] = {**dict(enumerate(call.args)), **{one.arg or "": one.value for one in call.keywords}}
    if named == "NotDone":
        # Where another step has decided it, both can be.
        told = getattr(call.args[0], "attr", "")
        for text in _texts(call.args[1], module):
            outcomes = [told] if told.isupper() else ["NOT_RUN", "SKIPPED"]
            yield from (Reason(text, outcome not in _BY_DESIGN, outcome) for outcome in outcomes)
    elif named in _LEFT:
        where, at = _LEFT[named]
        is_problem = values.get(at, values.get("problem", ast.Constant(value=False)))
        for text in _texts(values[where], module) if where in values else ():
            # Where a variable says whether it is one, both can be.
            answers = [is_problem.value] if isinstance(is_problem, ast.Constant) else [False, True]
            yield from (Reason(text, bool(answer)) for answer in answers)


def _texts(value: ast.expr, module: str) -> Iterator[str]:
    """Yield what an expression says; what it takes from elsewhere, such as an error of the system, has no words here."""
    if isinstance(value, ast.Constant) and isinstance(value.value, str):
        yield value.value
    elif isinstance(value, ast.JoinedStr):
        text = "".join(str(one.value) if isinstance(one, ast.Constant) else "…" for one in value.values)
        if text.strip("… :"):
            yield text
    elif isinstance(value, ast.Name) and value.id.isupper():
        yield getattr(import_module(module), value.id)
    elif isinstance(value, ast.IfExp):
        yield from _texts(value.body, module)
        yield from _texts(value.orelse, module)


def table() -> str:
    """Return the table as it stands in the page."""
    lines = ["| what it says | a person should know |", "| --- | --- |"]
    lines += dict.fromkeys(f"| {one.text.replace('|', '/')} | {'yes' if one.is_problem else 'no'} |" for one in reasons())
    return "\n".join(lines) + "\n"


def with_table(page: str) -> str:
    """Return a page with the table between its marks as the source gives it now."""
    before, rest = page.split("<!-- reasons: begin -->")
    return f"{before}<!-- reasons: begin -->\n{table()}<!-- reasons: end -->{rest.split('<!-- reasons: end -->')[1]}"


if __name__ == "__main__":
    unattended = Path(sys.argv[1] if len(sys.argv) > 1 else Path(__file__).with_name("unattended.md"))
    unattended.write_text(with_table(unattended.read_text(encoding="utf-8")), encoding="utf-8")
