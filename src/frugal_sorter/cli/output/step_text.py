"""What is said of one step, of a plan or of a run: a line, or an object of JSON values."""

from __future__ import annotations

from typing import Any

from frugal_sorter.cli.output.text import below, count_text, shown
from frugal_sorter.steps.kinds import KINDS
from frugal_sorter.steps.step import Step


def step_will_text(step: Step, base: str) -> str:
    """Return in one line what a step would do, and where to; paths as seen from a base folder."""
    target = below(step.target.path, base) if step.target is not None else ""
    if step.verb == "set-attribute":
        return attribute_text(step)
    if step.verb in ("run", "run-making"):
        return f"run {' '.join(map(shown, step.details['command']))}"
    words = KINDS[step.verb].words
    return words.becomes.format(target=target) if words is not None and words.becomes else step.verb


def step_text(step: Step, base: str) -> str:
    """Return in one line what a step is about, paths as seen from a base folder."""
    path = below(step.place.path, base)
    if step.verb == "empty":
        return shown(step.details.get("original", step.place.name))
    if step.verb == "remove-folder":
        return f"the folder {path}"
    if step.verb == "set-attribute":
        return f"{path}: {attribute_text(step)}"
    if step.verb == "run":
        return f"{path}: {' '.join(map(shown, step.details['command']))}"
    if step.verb == "pack":
        return f"{path}, from {count_text(len(step.details['members']), 'entry', 'entries')}"
    if step.source is None or step.target is None or step.verb in ("trash", "hard-link", "own-file"):
        return path
    source = "the trash" if step.verb == "restore" else path
    return f"{source} → {below(step.target.path, base)}"


def attribute_text(step: Step) -> str:
    old, new = shown(step.details["old"]), shown(step.details["new"])
    what = "comment" if step.details["attribute"].endswith("comment") else "tags"
    if not new:
        return f"{what} {old!r} taken off"
    return f"{what} {old!r} → {new!r}" if old else f"{what} {new!r}"


def step_as_json(step: Step) -> dict[str, Any]:
    """Return what every command says of a step."""
    told: dict[str, Any] = {
        "id": step.id,
        "verb": step.verb,
        "rule": step.rule,
        "source": step.source and step.source.path,
        "target": step.target and step.target.path,
        "bytes": step.bytes if step.was or "bytes" in step.details else None,
        "group": step.group or None,
    }
    if step.verb == "pack":
        told["members"] = [member["path"] for member in step.details["members"]]
    for key in ("command", "attribute", "old", "new"):
        if key in step.details:
            told[key] = step.details[key]
    return told
