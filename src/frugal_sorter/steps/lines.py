"""Steps as lines of text, and whether what was read is a step at all."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any, cast

from frugal_sorter.filesystem.record import Identity, Place, place_of
from frugal_sorter.platforms import slashed
from frugal_sorter.steps.kinds import KINDS, VerbName, is_identity, is_name
from frugal_sorter.steps.step import Details, Step, Witness

_VERBS = frozenset(VerbName.__args__)  # type: ignore[attr-defined]


def step_as_line(step: Step) -> dict[str, Any]:
    """Return a step as JSON values, with all that is needed to carry it out."""
    line: dict[str, Any] = {"id": step.id, "verb": step.verb}
    if step.rule:
        line |= {"rule": step.rule, "key": step.rule_key}
    if step.source:
        line["source"] = step.source.path
    if step.target:
        line["target"] = step.target.path
    if step.group:
        line["group"] = step.group
    if step.was:
        line["was"] = list(step.was)
    if step.details:
        # Plans in files, and steps that journals name within others, have had this key from the first format on.
        line["args"] = dict(step.details)
    if step.witness:
        line["witness"] = {"path": step.witness.place.path, "was": list(step.witness.identity)}
    return line


def step_of_line(line: Mapping[str, Any]) -> Step:
    """Return the step that a line holds.

    Raises:
        ValueError, KeyError, TypeError: it holds none.
    """
    if line["verb"] not in _VERBS:
        raise ValueError(f"there is no verb {line['verb']!r}")
    witness = line.get("witness")
    step = Step(
        int(line["id"]), line["verb"], str(line.get("rule", "")), str(line.get("key", "")),
        _place(line.get("source")), _place(line.get("target")), _identity(line.get("was")),
        cast(Details, dict(line.get("args", {}))), int(line.get("group", 0)),
        Witness(proper_place(witness["path"]), _sure_identity(witness["was"])) if witness else None,
    )  # fmt: skip
    refuse_malformed(step)
    return step


def _place(path: object) -> Place | None:
    return None if path is None else proper_place(path)


def proper_place(path: object) -> Place:
    if not isinstance(path, str) or not slashed.is_absolute(path) or slashed.normpath(path) != path or "\0" in path:
        raise ValueError(f"{path!r} is no absolute path")
    return place_of(path)


def _identity(values: object) -> Identity | None:
    return None if values is None else _sure_identity(values)


def _sure_identity(values: object) -> Identity:
    if not is_identity(values):
        raise ValueError("the identity of the entry is damaged")
    return Identity(*cast(list[Any], values))


def refuse_malformed(step: Step) -> None:
    """Check that a step has all that its verb needs, and nothing that its verb does not know.

    Raises:
        ValueError: it does not; says what is wrong.
    """
    kind = KINDS[step.verb]
    if (step.source is not None) != kind.source:
        raise ValueError(f"a step to {step.verb} {'needs' if kind.source else 'has no'} source")
    if (step.target is not None) != kind.target:
        raise ValueError(f"a step to {step.verb} {'needs' if kind.target else 'has no'} target")
    for place in (step.source, step.target, step.witness and step.witness.place):
        if place is not None and not (is_name(place.name) and "/" not in place.name):
            raise ValueError(f"{place.path!r} is no place of an entry")
    if kind.was and (step.was is None or not is_identity(step.was) or step.was.kind not in kind.was):
        raise ValueError(f"a step to {step.verb} must say what its entry was")
    if kind.witness and step.witness is None:
        raise ValueError(f"a step to {step.verb} must name what stays")
    if step.witness is not None and not is_identity(step.witness.identity):
        raise ValueError("what stays is not described as an entry")
    details: Mapping[str, object] = step.details
    for key, is_fit in kind.needs.items():
        if key not in details or not is_fit(details[key]):
            raise ValueError(f"a step to {step.verb} needs a proper `{key}`")
    for key, value in details.items():
        fit = kind.needs.get(key) or kind.may.get(key)
        if fit is None or not fit(value):
            raise ValueError(f"`{key}` is not what a step to {step.verb} can have there")
