"""Every verb, walked over the one table of them: nothing of a verb can be forgotten."""

from __future__ import annotations

import inspect
import json
from importlib import import_module
from typing import cast

import pytest

from frugal_sorter.changes.descriptors import Descriptors
from frugal_sorter.cli.output.text import done_text, step_as_json, step_text, will_text
from frugal_sorter.filesystem.record import Identity, Place
from frugal_sorter.journal import database
from frugal_sorter.planning.guard import refuse_guarded
from frugal_sorter.planning.plan import Plan
from frugal_sorter.reasons import Outcome
from frugal_sorter.steps.kinds import ATTENDING, KINDS, LASTING, PLANNED, Details, VerbName, checks
from frugal_sorter.steps.step import (
    Mark,
    RunContext,
    Step,
    Tally,
    Witness,
    refuse_malformed,
    step_as_line,
    step_of_line,
    verbs_for,
)

VERBS: tuple[VerbName, ...] = VerbName.__args__  # type: ignore[attr-defined]
FILE = Identity("file", 1, 2, 3, 4, 5)
COPY = {"id": 1, "verb": "copy", "source": "/srv/a", "target": "/srv/b", "was": list(FILE)}
# One fit value for each thing that a step can have to have.
VALUES = {
    "again": COPY, "members": [{"path": "/srv/a.log", "name": "a.log", "was": list(FILE)}], "command": ["/bin/true"],
    "attribute": "user.xdg.tags", "old": "", "new": "kiln", "mtime_ns": 7,
}  # fmt: skip


def step_of(verb: VerbName, folder: str = "/srv/desk") -> Step:
    """Return a step that has everything that its verb must have, and no more."""
    kind = KINDS[verb]
    was = None
    if kind.was:
        was = FILE if "file" in kind.was else Identity("folder", 1, 2, 3, 4, 5)
    return Step(
        1, verb, "rule", "key",
        Place(folder, "a.log") if kind.source else None, Place(f"{folder}/in", "b.log") if kind.target else None,
        was, cast(Details, {key: VALUES[key] for key in kind.needs}), 0,
        Witness(Place(folder, "kept.log"), FILE) if kind.witness else None,
    )  # fmt: skip


def test_the_table_has_every_verb_and_only_those() -> None:
    assert list(VERBS) and set(KINDS) == set(VERBS)


@pytest.mark.parametrize("verb", VERBS)
def test_a_verb_has_its_module_with_all_three_ways(verb: VerbName) -> None:
    module, name = KINDS[verb].does.split(":")
    made = getattr(import_module(f"frugal_sorter.steps.{module}"), name)
    assert made.__doc__ and made.__module__ == f"frugal_sorter.steps.{module}"
    for way in ("do", "resolve_after_crash", "inverse"):
        assert "step" in inspect.signature(getattr(made, way)).parameters


@pytest.mark.parametrize("verb", VERBS)
def test_a_verb_has_words_unless_it_only_goes_with_others(verb: VerbName) -> None:
    step, words = step_of(verb), KINDS[verb].words
    assert (words is None) == (verb in ATTENDING)
    if words is None:
        assert will_text([step]) == "" and done_text(Tally([step])) == "nothing done"
        return
    assert "1" in will_text([step]) and words.done
    assert "1" in done_text(Tally([step])) and done_text(Tally([step])) != "nothing done"
    assert words.heading.format(source="desk", target="desk/in") and step_text(step, "/srv")
    assert len(words.done) <= 9, "the column of the words has room for nine letters"


@pytest.mark.parametrize("verb", VERBS)
def test_a_step_comes_back_from_a_line_and_from_the_journal_as_it_was(verb: VerbName) -> None:
    step = step_of(verb)
    refuse_malformed(step)
    line = json.loads(json.dumps(step_as_line(step)))
    assert step_as_line(step_of_line(line)) == line
    folders: dict[str, int] = {place.folder: number for number, place in enumerate(filter(None, (step.source, step.target)))}
    blob, _ = database.encode([step], folders, {("rule", "key"): 1})
    names = {number: str(folder) for folder, number in folders.items()}
    (back,) = database.decode(blob, 1, lambda _: names, lambda _: {1: ("rule", "key")})
    assert step_as_line(back) == line and json.dumps(step_as_json(back))


@pytest.mark.parametrize("verb", VERBS)
def test_a_step_without_what_its_verb_needs_is_refused(verb: VerbName) -> None:
    kind = KINDS[verb]
    for broken in (
        *(("details", {key: value for key, value in step_of(verb).details.items() if key != gone}) for gone in kind.needs),
        ("details", {"more": 1}), *([("witness", None)] if kind.witness else []), *([("was", None)] if kind.was else []),
        ("source", None if kind.source else Place("/srv", "a")), ("target", None if kind.target else Place("/srv", "a")),
    ):  # fmt: skip
        step = step_of(verb)
        setattr(step, *broken)
        with pytest.raises(ValueError, match=r"."):
            refuse_malformed(step)


@pytest.mark.parametrize("verb", VERBS)
@pytest.mark.parametrize("folder", ["/etc", "/usr/bin"])
def test_the_guard_refuses_each_verb_in_a_folder_of_the_system(verb: VerbName, folder: str) -> None:
    plan = Plan("tidy", 1, "plan")
    plan.steps = [step_of(verb, folder)]
    refuse_guarded(plan)
    assert not plan.steps and len(plan.refused) == 1


@pytest.mark.parametrize("verb", sorted(set(VERBS) - PLANNED))
def test_the_guard_refuses_what_no_planner_of_rules_makes(verb: VerbName) -> None:
    plan = Plan("tidy", 1, "plan")
    plan.steps = [step_of(verb)]
    refuse_guarded(plan)
    assert '" step' in plan.refused[0].reason


@pytest.mark.parametrize("verb", VERBS)
def test_the_inverse_of_a_verb_is_a_whole_step_and_there_is_one_or_words_for_what_lasts(verb: VerbName) -> None:
    step = step_of(verb)
    if verb == "own-file":
        step.details = {"kept": [["/srv/desk", "kept.log"], list(FILE)]}
    was = Identity("folder", 1, 2, 3, 4, 5) if verb == "make-folder" else FILE
    with Descriptors() as descriptors:
        back = verbs_for(RunContext(descriptors))[verb].inverse(step, Mark(1, Outcome.DONE, "", was))
    if verb == "restore-times":
        assert back is None  # without a note of what was before it
        return
    assert (back is None) == (verb in LASTING)
    if back is not None:
        refuse_malformed(back)


def test_each_detail_of_a_verb_is_declared_once_with_its_check() -> None:
    assert checks().keys() == {key for kind in KINDS.values() for key in (*kind.needs, *kind.may)}
    assert all(checks()[key](value) and not checks()[key](object()) for key, value in VALUES.items())
