"""Why a rule matches an entry, or does not, or when it will."""

from __future__ import annotations

import os
from typing import NamedTuple

from frugal_sorter.filesystem.inside import look_inside
from frugal_sorter.filesystem.record import Place
from frugal_sorter.filesystem.status import look
from frugal_sorter.planning.plan import Plan
from frugal_sorter.planning.sight import Deciding, Sight, on_duty
from frugal_sorter.platforms import slashed
from frugal_sorter.rules.conditions.tree import Leaf, Truth, tests_of
from frugal_sorter.rules.fields import Fact, Facts, World, holder_of
from frugal_sorter.rules.model import Rule, RuleBook
from frugal_sorter.rules.templates.read import Stopped
from frugal_sorter.steps.step import Step
from frugal_sorter.values import frozen


class Tested(NamedTuple):
    """One test as written.

    Args:
        text: as written.
        leaf: the test itself.
        truth: the answer.
        value: what was found.
        holder: who has the file open if that was asked.
        stopped: where the name stops fitting the pattern if there is one that it does not fit.
    """

    text: str
    leaf: Leaf
    truth: Truth
    value: Fact
    holder: str | None
    stopped: Stopped | None


@frozen
class Explained:
    """What one rule says of an entry.

    Args:
        rule: the rule.
        elsewhere: why it does not act on this entry at all; then nothing else is said.
        truth: whether its condition holds.
        tests: each test of it, in the order of the text.
        above: the rule above that claims the entry, so that this one is not asked.
        decides: it is the one that claims the entry.
        when_ns: when it will have the entry if nobody touches it, None if time does not bring that.
    """

    rule: Rule
    elsewhere: str = ""
    truth: Truth = None
    tests: tuple[Tested, ...] = ()
    above: Rule | None = None
    decides: bool = False
    when_ns: int | None = None


class Fate(NamedTuple):
    """What a plan has for one entry: the steps about it, or why there are none.

    Args:
        rule: the name of the rule that has it; empty where none has.
        steps: what is done to it, in order; those of the folder that it goes along with, if it does.
        reason: why nothing is done, or with what it goes along.
        when_ns: when its rule will act if it is held back only for now.
    """

    rule: str
    steps: tuple[Step, ...] = ()
    reason: str = ""
    when_ns: int | None = None


class Explainer:
    """Says what becomes of entries, and why.

    Args:
        book: the rules.
        world: the moment, and what else is not in the entries.
        plan: what these rules would do at that moment.
    """

    def __init__(self, book: RuleBook, world: World, plan: Plan) -> None:
        self._book, self._world, self._plan = book, world, plan
        self._sight = Sight(book, world)
        self._never = {slashed.realpath(book.file), *book.lists}
        self._steps: dict[str, list[Step]] = {}
        for step in plan.asked:
            packed = [member["path"] for member in step.details["members"]] if step.verb == "pack" else []
            for path in [*packed, *([step.source.path] if step.source is not None else [])]:
                self._steps.setdefault(path, []).append(step)
        # The rule that decides comes after those with extras alone, and stays.
        self._left = {left.place.path: left for left in plan.not_touched}

    def explain(self, path: str) -> tuple[list[Explained], Fate]:
        """Say for each rule, in order, what it makes of one entry, and what becomes of the entry.

        Args:
            path: an absolute path, its folder without symbolic links.

        Raises:
            OSError: there is no such entry.
        """
        record = look(Place(*os.path.split(path)))
        inside = look_inside(path) if record.identity.kind == "folder" else None
        deciding = self._sight.of(record, inside)
        explained = []
        for rule in self._book.rules:
            if rule.name not in deciding.facts:
                explained.append(Explained(rule, deciding.elsewhere[rule.name]))
                continue
            facts = deciding.facts[rule.name]
            tests = tuple(_tested(*test, facts) for test in tests_of(rule.where))
            when_ns = deciding.will_act_at(rule)
            explained.append(
                Explained(
                    rule, "", rule.where.test(facts), tests, deciding.above(rule), rule is deciding.decider,
                    None if when_ns == self._world.now_ns else when_ns,
                )
            )  # fmt: skip
        fate = self._fate(path, deciding)
        self._world.contents.close()
        return explained, fate

    def rules_acting_in(self, folder: str) -> list[tuple[Rule, str]]:
        """Return the rules that see the files directly in a folder, each with its `in`."""
        probe = Place(folder, "x")
        found = []
        for rule in self._book.rules:
            base, elsewhere = self._sight.base_for(rule, probe, "folder" if rule.take == "folders" else "file")
            if not elsewhere:
                found.append((rule, base))
        return found

    def _fate(self, path: str, deciding: Deciding) -> Fate:
        decider = deciding.decider
        if path in self._steps:
            return self._by(self._steps[path])
        if path in self._never:
            return Fate("", (), "the rule file and its lists are never touched")
        if path in self._left:
            left = self._left[path]
            waits = decider is not None and not on_duty(decider, self._world.now_ns)
            when_ns = deciding.will_act_at(decider) if decider is not None and waits else None
            return Fate(left.rule, (), left.reason, when_ns)
        # What lies in a folder that is taken as a whole goes along with it.
        folder = os.path.dirname(path)
        while not slashed.is_top(folder):
            along = self._steps.get(folder, [])
            if along and along[-1].was is not None and along[-1].was.kind == "folder":
                return self._by(along, f"it goes along with {folder}")
            if folder in self._left:
                left = self._left[folder]
                return Fate(left.rule, (), f"it lies in {folder}: {left.reason}")
            folder = os.path.dirname(folder)
        if decider is None:
            return Fate("")
        refused = [refusal.reason for refusal in self._plan.refused if refusal.rule == decider.name]
        if refused:
            return Fate(decider.name, (), refused[0])
        if decider.ending == "leave":
            return Fate(decider.name, (), "left where it is")
        if decider.duplicates is not None:
            return Fate(decider.name, (), "it stays: it is the only one, or the one of its group that is kept")
        return Fate(decider.name, (), "it is where this rule would put it, or has put it")

    @staticmethod
    def _by(steps: list[Step], reason: str = "") -> Fate:
        return Fate(steps[-1].rule, tuple(steps), reason)


def _tested(text: str, leaf: Leaf, turned: bool, facts: Facts) -> Tested:
    holder = holder_of(facts) if leaf.on.name == "in use" else None
    truth, value = leaf.test(facts), leaf.value(facts)
    stopped = leaf.check.stops(value) if leaf.check.stops and truth is False and isinstance(value, str) else None
    return Tested(text, leaf, (not truth) if turned and truth is not None else truth, value, holder, stopped)
