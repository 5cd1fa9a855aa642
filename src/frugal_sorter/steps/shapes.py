"""Whether a step has what its verb needs; a plan or a journal that others could have written is held to it."""

from __future__ import annotations

from collections.abc import Mapping

from frugal_sorter.steps.kinds import KINDS
from frugal_sorter.steps.step import Step
from frugal_sorter.steps.values import is_identity, is_name


def refuse_malformed(step: Step) -> None:
    """See that a step has all that its verb needs, and nothing that its verb does not know.

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
