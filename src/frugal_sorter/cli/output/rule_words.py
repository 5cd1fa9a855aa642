"""What a rule does, in a few words."""

from __future__ import annotations

from frugal_sorter.rules.model import Rule


def rule_words(rule: Rule) -> str:
    """Return in a few words what a rule does to its entries."""
    parts: list[str] = []
    if rule.ending == "leave":
        return "leave"
    if rule.move is not None:
        parts.append(f"move to {rule.move.text}")
    if rule.rename is not None:
        parts.append(f"rename {rule.rename.text}")
    for name, template in (("pack into", rule.pack), ("unpack into", rule.unpack)):
        if template is not None:
            parts.append(f"{name} {template.text}")
    if rule.duplicates is not None:
        parts.append(f"duplicates: {rule.duplicates.do}")
    if rule.ending in ("trash", "delete"):
        parts.append("to the trash" if rule.ending == "trash" else "delete for good")
    extras = rule.extras
    for name, template in (("copy to", extras.copy), ("link in", extras.link)):
        if template is not None:
            parts.append(f"{name} {template.text}")
    for name, wordings in (("tag", extras.tag), ("untag", extras.untag), ("retag", extras.retag)):
        if wordings:
            parts.append(f"{name} {', '.join(one.text for one in wordings)}")
    if extras.comment is not None:
        parts.append("comment")
    if extras.run:
        parts.append(f"run {extras.run[0].text}")
    return ", ".join(parts)
