"""Writes the generated parts of rules.md, and the manual pages, anew; the tests compare them."""

from __future__ import annotations

from pathlib import Path

from frugal_sorter.cli.manual import manual, rules_manual
from frugal_sorter.rules.reference import TOPICS


def with_reference(text: str) -> str:
    """Return a page with each generated part between its marks as the program gives it now."""
    for topic, make in TOPICS.items():
        begin, end = f"<!-- {topic}: begin -->", f"<!-- {topic}: end -->"
        before, rest = text.split(begin)
        text = f"{before}{begin}\n{make()}{end}{rest.split(end)[1]}"
    return text


if __name__ == "__main__":
    page = Path(__file__).with_name("rules.md")
    page.write_text(with_reference(page.read_text()))
    page.with_name("frugal.1").write_text(manual())
    page.with_name("frugal-rules.5").write_text(rules_manual())
