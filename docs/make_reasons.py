"""Writes the table of all reasons in unattended.md anew, as the source has them."""

from __future__ import annotations

import re
import sys
from pathlib import Path

from frugal_sorter.reasons import Why


def table() -> str:
    """Return the table as the page has it, with `…` for what differs."""
    lines = ["| code | what it says | what it means |", "| --- | --- | --- |"]
    for why in Why:
        text = f"({why.about})" if why.about else re.sub(r"\{+[^{}]*\}+", "…", why.text)
        meaning = why.kind if why.kind in ("by design", "waiting") else "a person should know"
        lines.append(f"| `{why.code}` | {text.replace('|', '/')} | {meaning} |")
    return "\n".join(lines) + "\n"


def with_table(page: str) -> str:
    """Return a page with the table between its marks as the source gives it now."""
    before, rest = page.split("<!-- reasons: begin -->")
    return f"{before}<!-- reasons: begin -->\n{table()}<!-- reasons: end -->{rest.split('<!-- reasons: end -->')[1]}"


if __name__ == "__main__":
    unattended = Path(sys.argv[1] if len(sys.argv) > 1 else Path(__file__).with_name("unattended.md"))
    unattended.write_text(with_table(unattended.read_text(encoding="utf-8")), encoding="utf-8")
