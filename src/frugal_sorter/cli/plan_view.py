"""A plan and its steps as a person or a program reads them."""

from __future__ import annotations

from collections.abc import Mapping
from itertools import groupby
from typing import Any

from frugal_sorter.cli.screen import Screen
from frugal_sorter.cli.text import below, common_base, count_text, iso_text, shown, size_text
from frugal_sorter.files.record import Place
from frugal_sorter.plans.plan import Left, Plan, Step
from frugal_sorter.work.mark import Mark, Outcome

_SAMPLE = 5


class PlanView:
    """Shows paths as seen from the one folder that all of a plan happens in."""

    def __init__(self, plan: Plan, screen: Screen) -> None:
        self.plan = plan
        self.screen = screen
        moves = plan.moves
        folders = {place.folder for step in moves for place in (step.source, step.target) if place}
        folders.update(left.place.folder for left in plan.left)
        self.base = common_base(sorted(folders or plan.roots))
        self._announced: set[str] = set()
        self.new_folders = {step.target.path for step in plan.steps if step.verb == "make-folder" and step.target}

    def show(self, names: bool = True) -> None:
        """Print all that would be done and what would be left; by name, or only by rule."""
        self.screen.parts(("All below ", ""), (shown(self.base), "bold"))
        by_rule: dict[str, list[Step]] = {rule: [] for rule in self.plan.rules}
        for step in self.plan.moves:
            by_rule.setdefault(step.rule, []).append(step)
        for rule, steps in by_rule.items():
            if steps:
                size = sum(step.was.size for step in steps if step.was)
                if names:
                    self.screen.line()
                self.screen.parts(
                    (shown(rule), "bold"), (f"  {count_text(len(steps), 'file')}, {size_text(size)}", "dim")
                )
                if names:
                    self._names(steps)
        self.show_left()

    def _names(self, steps: list[Step]) -> None:
        steps = sorted(steps, key=lambda step: (_target(step).folder, step.place.folder, step.id))
        for (target, source), group in groupby(steps, key=lambda step: (_target(step).folder, step.place.folder)):
            if target == source:
                self.screen.line(f"  {below(source, self.base)}: renamed")
            else:
                new = target in self.new_folders - self._announced
                self._announced.add(target)
                self.screen.parts(
                    (f"  {below(source, self.base)} → {below(target, self.base)}", "cyan"),
                    (" (new folder)" if new else "", "dim"),
                )
            for step in group:
                renamed = _target(step).name != step.place.name
                self.screen.parts(
                    (f"    {shown(step.place.name)}", ""),
                    (f"  as {shown(_target(step).name)}" if renamed else "", "yellow"),
                )

    def show_left(self) -> None:
        """Print what is left as it is and why, what was refused, and what could not be read."""
        plan = self.plan
        quiet = []
        if plan.at_home:
            quiet.append(f"  {count_text(plan.at_home, 'file')} already where a rule would put {_it(plan.at_home)}")
        if plan.kept:
            quiet.append(f"  {count_text(plan.kept, 'file')} kept by an exception")
        claimed = len(plan.moves) + len(plan.left) + plan.at_home + plan.kept
        unclaimed = plan.seen - claimed
        if plan.kind == "tidy" and unclaimed > 0:
            quiet.append(f"  {count_text(unclaimed, 'file')} that no rule asks for")
        if plan.left or quiet:
            self.screen.line()
            self.screen.line("Left as they are", style="bold")
        for line in quiet:
            self.screen.line(line)
        by_reason: dict[tuple[str, bool], list[Left]] = {}
        for left in plan.left:
            by_reason.setdefault((left.reason, left.problem), []).append(left)
        for (reason, problem), lefts in by_reason.items():
            self._left_for(reason, problem, lefts)
        if plan.notes or plan.refused:
            self.screen.line()
        for note in plan.notes:
            self.screen.line(f"Note: {shown(note.text)}", style="yellow" if note.problem else "")
        for refusal in plan.refused:
            self.screen.line(f"Refused: {shown(refusal.rule)}: {shown(refusal.reason)}", style="bold yellow")

    def _left_for(self, reason: str, problem: bool, lefts: list[Left]) -> None:
        """Print the entries that are left for one reason; problems by name, the rest by a sample."""
        self.screen.line(f"  {count_text(len(lefts), 'file')}: {shown(reason)}", style="yellow" if problem else "")
        most = len(lefts) if problem or len(lefts) <= _SAMPLE + 1 else _SAMPLE
        for left in lefts[:most]:
            rule = f"  ({shown(left.rule)})" if left.rule else ""
            self.screen.line(f"    {below(left.place.path, self.base)}{rule}")
        if most < len(lefts):
            self.screen.line(f"    and {len(lefts) - most:,} more (--format json lists all)")

    def totals(self) -> str:
        """Return one line that says how much would be done."""
        moves = self.plan.moves
        size = sum(step.was.size for step in moves if step.was)
        new = f", {count_text(len(self.new_folders), 'new folder')}" if self.new_folders else ""
        return f"{count_text(len(moves), 'file')}, {size_text(size)}{new}"

    def show_step(self, step: Step, mark: Mark) -> None:
        """Print one line for a step that was carried out, or was not."""
        if step.verb == "move":
            source, target = step.place, _target(step)
            text = f"{below(source.path, self.base)} → {below(target.path, self.base)}"
        elif step.verb == "make-folder" and mark.outcome == Outcome.FAILED:
            text = below(step.place.path, self.base)
        elif step.verb == "remove-folder" and mark.outcome in (Outcome.LEFT, Outcome.FAILED):
            text = f"the folder {below(step.place.path, self.base)}"
        else:
            return
        word, style = _WORDS[mark.outcome]
        why = f": {shown(mark.reason)}" if mark.reason else ""
        self.screen.parts((f"{word:8}", style), (f"{text}{why}", ""))


_WORDS = {
    Outcome.DONE: ("moved", "green"),
    Outcome.SKIPPED: ("skipped", "yellow"),
    Outcome.FAILED: ("failed", "bold red"),
    Outcome.OPEN: ("unknown", "bold red"),
    Outcome.LEFT: ("left", ""),
}


def _target(step: Step) -> Place:
    assert step.target is not None
    return step.target


def _it(count: int) -> str:
    return "it" if count == 1 else "them"


def exit_code(plan: Plan, problem: bool = False) -> int:
    """Return the exit code of a plan that was shown or carried out."""
    if plan.refused:
        return 3
    return 1 if problem or plan.has_problem else 0


def step_as_json(step: Step) -> dict[str, Any]:
    """Return what every command says of a step."""
    return {
        "id": step.id,
        "verb": step.verb,
        "rule": step.rule,
        "source": step.source and step.source.path,
        "target": step.target and step.target.path,
    }


def plan_as_json(plan: Plan) -> Mapping[str, Any]:
    """Return a plan as one object of JSON values; docs/formats.md describes it."""
    moves = plan.moves
    return {
        "command": plan.kind,
        "rules": plan.origin,
        "made": iso_text(plan.made_ns),
        "folders": plan.roots,
        "steps": [{**step_as_json(step), "bytes": step.was.size if step.was else None} for step in plan.steps],
        "left": [
            {"path": left.place.path, "rule": left.rule, "reason": left.reason, "problem": left.problem}
            for left in plan.left
        ],
        "notes": [note._asdict() for note in plan.notes],
        "refused": [refusal._asdict() for refusal in plan.refused],
        "totals": {
            "looked_at": plan.seen,
            "files": len(moves),
            "bytes": sum(step.was.size for step in moves if step.was),
            "at_home": plan.at_home,
            "kept": plan.kept,
            "left": len(plan.left),
        },
    }
