"""`frugal explain`: why a rule matches an entry, why not, and when it will."""

from __future__ import annotations

import argparse
import os
from collections.abc import Collection, Sequence
from contextlib import nullcontext

from frugal_sorter.app.rules import rules_named
from frugal_sorter.cli.options import add_as_of, add_format, add_rule
from frugal_sorter.cli.output.results import print_json
from frugal_sorter.cli.output.screen import Screen
from frugal_sorter.cli.output.text import (
    ago_text,
    common_base,
    iso_text,
    moment_text,
    shown,
    size_text,
    step_as_json,
    step_will_text,
)
from frugal_sorter.cli.reading import add_on, looking_on, moment_of
from frugal_sorter.errors import UsageError
from frugal_sorter.execution.earlier_runs import Passage, put_at, taken_from
from frugal_sorter.filesystem.record import Place, Unknown
from frugal_sorter.filesystem.status import look
from frugal_sorter.journal.journal import Journal
from frugal_sorter.planning.by_rules import plan_by_rules
from frugal_sorter.planning.sight import Explained, Explainer, Fate, Tested
from frugal_sorter.platforms import disk, processes, slashed
from frugal_sorter.platforms.slashed import Path
from frugal_sorter.reasons import reason_of
from frugal_sorter.rules.fields import Between, World
from frugal_sorter.state import ready_state_folder
from frugal_sorter.steps.kinds import LASTING
from frugal_sorter.steps.step import Step

EXAMPLES = """
  frugal explain "Intake/KILN 2 2026-10-04.log" --rules front-desk.toml
  frugal explain Intake/scan004.tif --as-of "in 2 weeks"
  frugal explain Intake                                     which rules act in this folder
"""
_WORDS = {True: ("yes", "green"), False: ("no", "dim"), None: ("unknown", "warn")}

_NAMED = 3


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument(
        "paths", metavar="PATH", nargs="*", default=["."], help="a file or a folder (default: the current folder)"
    )
    parser.add_argument("--rules", metavar="RULES", type=Path, help="the rule file (default: as for `frugal preview`)")
    add_rule(parser)
    add_as_of(parser)
    add_format(parser, "text", "json")
    add_on(parser)


def run(args: argparse.Namespace) -> int:
    screen = Screen()
    if args.rules is None and len(args.paths) > 1 and args.paths[-1].endswith(".toml"):
        raise UsageError(f"explain: {shown(args.paths[-1])} would be explained, too", "name a rule file with --rules")
    is_here = args.on is None
    if is_here and args.rules is None and not any(map(disk.lexists, args.paths)) and _show_all_gone(screen, args.paths):
        return 0
    # What earlier runs did is known of this machine alone.
    with Journal(ready_state_folder(), write=False) if is_here else nullcontext() as journal, looking_on(args) as (session, book):
        rules = {rule.name for rule in rules_named(book, args.rule)}
        if not is_here:
            # Seen from the folder that was taken, in which the rule file stands for this.
            args.paths = [slashed.join(os.path.dirname(book.file), path) for path in args.paths]
        with session.looking() as (world_at, past):
            world = world_at(moment_of(args.as_of, session))
            # The same engine as that of a preview: what becomes of an entry depends on the others, too.
            explainer = Explainer(book, world, plan_by_rules(book, world, past))
        if args.format == "json":
            print_json({"entries": [_as_json(path, world, explainer, rules) for path in args.paths]})
            return 0
        for index, path in enumerate(args.paths):
            if index:
                screen.line()
            _explain(screen, journal, path, world, explainer, rules)
    return 0


def _show_all_gone(screen: Screen, paths: Sequence[str]) -> bool:
    """Print where files that are gone went, without a rule file; return False if that is not known of one."""
    with Journal(ready_state_folder(), write=False) as journal:
        known = [(path, taken_from(journal, path)) for path in map(slashed.abspath, paths)]
        for path, passage in known if all(passage for _, passage in known) else ():
            assert passage is not None
            _show_gone(screen, journal, path, passage)
        return all(passage for _, passage in known)


def _explain(
    screen: Screen, journal: Journal | None, named: str, world: World, explainer: Explainer, rules: Collection[str]
) -> None:
    folder, name = os.path.split(slashed.abspath(named))
    path = slashed.join(slashed.realpath(folder), name)
    if not named or not disk.lexists(path):
        passage = taken_from(journal, path) if named and journal is not None else None
        if passage is None or journal is None:
            raise UsageError(f"file or folder not found: {named or '(empty)'}", "check the path")
        _show_gone(screen, journal, path, passage)
        return
    screen.line(shown(path), style="bold")
    if journal is not None:
        _show_coming(screen, journal, path)
    if disk.isdir(path):
        acting = explainer.rules_acting_in(slashed.realpath(path))
        screen.line("Rules that act on files in this folder, in order:" if acting else ("No rules act in this folder."))
        for rule, base in acting:
            where = "" if base == slashed.realpath(path) else f"  (from {shown(base)})"
            screen.line(f"  {shown(rule.name)}: {shown(rule.where_text)}{where}")
        screen.line()
        screen.line("For the folder itself:")
    try:
        explained, fate = explainer.explain(path)
    except OSError as error:
        raise UsageError(f"{named}: {reason_of(error)}", "check the path") from error
    following = _next(explained)
    if rules:
        explained = [one for one in explained if one.rule.name in rules]
    width = max((len(tested.text) for one in explained for tested in one.tests), default=0)
    elsewhere: dict[str, list[str]] = {}
    for one in explained:
        if one.elsewhere:
            elsewhere.setdefault(one.elsewhere, []).append(shown(one.rule.name))
        else:
            _show(screen, one, min(width, 60), world, one is following)
    for reason, names in elsewhere.items():
        who = ", ".join(names) if len(names) <= _NAMED else f"{len(names)} rules"
        screen.line(f"Skipped, because {shown(reason)}: {who}", style="dim")
    _show_fate(screen, fate, following, world, os.path.dirname(path))


def _as_json(named: str, world: World, explainer: Explainer, rules: Collection[str]) -> dict[str, object]:
    folder, name = os.path.split(slashed.abspath(named))
    path = slashed.join(slashed.realpath(folder), name)
    try:
        explained, fate = explainer.explain(path)
    except OSError as error:
        raise UsageError(f"{named}: {reason_of(error)}", "check the path") from error
    return {
        "path": path,
        "rules": [
            {
                "rule": one.rule.name,
                "matches": one.truth,
                "decides": one.decides,
                "elsewhere": one.elsewhere,
                "above": one.above.name if one.above is not None else None,
                "when": iso_text(one.when_ns) if one.when_ns else None,
                "tests": [{"test": test.text, "is": test.truth, "value": _value_text(test, world)} for test in one.tests],
            }
            for one in explained
            if not rules or one.rule.name in rules
        ],
        "steps": [step_as_json(step) for step in fate.steps],
        "rule": fate.rule,
        "reason": fate.reason,
        "when": iso_text(fate.when_ns) if fate.when_ns else None,
    }


def _show_gone(screen: Screen, journal: Journal, path: str, passage: Passage) -> None:
    """Print which run took an entry away that is no longer there, where it is, and how it comes back."""
    screen.parts((shown(path), "bold"), ("  no longer exists", ""))
    at, seen, last = path, set[int](), passage
    following: Passage | None = passage
    while following is not None and id(following.step) not in seen and following.run not in seen:
        last = following
        seen.add(last.run)
        run = journal.run(last.run)
        # A folder takes along what is in it.
        along = f" with {shown(last.along)}" if last.along else ""
        what = step_will_text(last.step, "/")
        screen.line(f"Run {last.run} ({run.kind}, {moment_text(run.began_ns)}): {what}{along}")
        rest = at[len(last.along) :] if last.along else ""
        at = f"{last.step.target.path}{rest}" if last.step.target is not None else ""
        following = taken_from(journal, at) if at and not disk.lexists(at) else None
    if last.step.verb in LASTING:
        screen.line("This run cannot be undone.", style="bold")
        return
    if at and last.step.verb != "trash":
        screen.line(f"{'Now at' if disk.lexists(at) else 'No longer at'}: {shown(at)}", style="bold")
    if at and disk.lexists(at):
        # What went along with a folder comes back with it.
        command = processes.join(["frugal", "undo", str(last.run), "--only", last.step.place.path])
        screen.line(f"To restore it: {command}" if last is passage else f"To undo its last change: {command}")


def _show_coming(screen: Screen, journal: Journal, path: str) -> None:
    """Print which run put an entry where it is."""
    try:
        passage = put_at(journal, path, look(Place(*os.path.split(path))).identity)
    except OSError:
        return
    if passage is None:
        return
    run = journal.run(passage.run)
    source = passage.step.source
    origin = "" if source is None else " from the trash" if passage.step.verb == "restore" else f" from {shown(source.path)}"
    screen.line(f"Moved here by run {passage.run} ({run.kind}, {moment_text(run.began_ns)}){origin}.", style="dim")


def _show_fate(screen: Screen, fate: Fate, following: Explained | None, world: World, folder: str) -> None:
    """Print what becomes of the entry, and what comes next if nobody touches it."""
    if fate.steps:
        along = f"  ({shown(fate.reason)})" if fate.reason else ""
        for step in fate.steps:
            screen.parts(("→ ", "bold"), (f"{step_will_text(step, _base(step, folder))}{along}", ""))
    elif fate.rule:
        when = f"; the rule will act on {moment_text(fate.when_ns)}" if fate.when_ns else ""
        screen.parts(("→ left alone: ", "bold"), (f"{shown(fate.reason)}{when}", ""))
    else:
        reason = shown(fate.reason) if fate.reason else "no rule matches it"
        screen.parts(("→ left alone: ", "bold"), (reason, ""))
    if following is not None and following.when_ns is not None:
        when = f"{moment_text(following.when_ns)}, {ago_text(following.when_ns, world.now_ns)}"
        screen.line(f'Next: rule "{shown(following.rule.name)}" will act on it on {when}, unless the file changes before then.')


def _base(step: Step, folder: str) -> str:
    return common_base([folder, step.target.folder]) if step.target is not None else folder


def _next(explained: list[Explained]) -> Explained | None:
    """Return the rule that gets the entry next."""
    coming = [one for one in explained if one.when_ns is not None and not one.decides]
    return min(coming, key=lambda one: one.when_ns or 0, default=None)


def _show(screen: Screen, one: Explained, width: int, world: World, is_next: bool) -> None:
    word, style = _WORDS[one.truth]
    goes_on = one.rule.ending is None
    marked = "  ← this rule decides" if one.decides else ""
    if one.truth and one.above is not None:
        marked = f'  (has no effect: rule "{shown(one.above.name)}" above decides)'
    elif one.truth and goes_on:
        marked = "  ← applies its extras; later rules still see the file"
    screen.parts((f"{shown(one.rule.name)}: ", "bold"), (word, style), (marked, "bold"))
    for tested in one.tests:
        word, style = _WORDS[tested.truth]
        screen.parts((f"  {word:8}", style), (f"{shown(tested.text):{width}}  ", ""), (_value_text(tested, world), "dim"))
    if one.when_ns is not None and not one.decides and not is_next:
        ago = ago_text(one.when_ns, world.now_ns)
        screen.line(f"  will match on {moment_text(one.when_ns)}, {ago}, unless the file changes before then")


def _value_text(tested: Tested, world: World) -> str:
    """Return the value that was found, as a person reads it."""
    value, kind = tested.value, tested.leaf.on.kind
    if isinstance(value, Unknown):
        return f"unknown: {shown(value.reason)}"
    if tested.leaf.on.name == "in use":
        return f"open in {shown(tested.holder)}" if tested.holder else "not open in any program that this account can see"
    if value is None or value == "" or value == ():
        return f"{tested.leaf.on.name}: none"
    if kind == "flag":
        return ""
    if kind == "size" and isinstance(value, int):
        return f"{size_text(value)} ({value:,} bytes)"
    if kind == "date" and isinstance(value, int):
        future = "; a future date has no age" if tested.truth is None and value > world.now_ns else ""
        later = ", or up to a day later: this volume records it only once a day" if isinstance(value, Between) else ""
        return f"{moment_text(value)}, {ago_text(value, world.now_ns)}{future}{later}"
    if tested.stopped is not None:
        return shown(tested.stopped.text)
    text = ", ".join(value) if isinstance(value, tuple) else str(value)
    return shown(text if len(text) <= 80 else text[:77] + "...")
