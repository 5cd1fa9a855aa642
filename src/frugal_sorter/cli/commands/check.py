"""`frugal check`: mistakes in a rule file, warnings, and its examples."""

from __future__ import annotations

import argparse
from collections.abc import Iterator

from frugal_sorter.cli.options import add_format, add_rules
from frugal_sorter.cli.output.results import print_json
from frugal_sorter.cli.output.text import count_text, shown
from frugal_sorter.cli.reading import load_named
from frugal_sorter.planning.guard import note_on_opened, refused_rule, version_control_root
from frugal_sorter.planning.misses import unreached
from frugal_sorter.platforms import disk, slashed
from frugal_sorter.rules.fields import World
from frugal_sorter.rules.keys import json_schema
from frugal_sorter.rules.lint import run_examples, wanted_of, warnings_of
from frugal_sorter.rules.model import Rule, RuleBook
from frugal_sorter.rules.units import Mistakes

EXAMPLES = """
  frugal check
  frugal check front-desk.toml
  frugal check - < front-desk.toml              from standard input
  frugal check --schema > rules.schema.json     completion in editors
"""


def add_arguments(parser: argparse.ArgumentParser) -> None:
    add_rules(parser)
    parser.add_argument("--schema", action="store_true", help="print the JSON Schema of rule files instead")
    add_format(parser, "text", "json")


def run(args: argparse.Namespace) -> int:
    if args.schema:
        print_json(json_schema())
        return 0
    from frugal_sorter.cli.output.screen import Screen

    if args.format == "json":
        return _print_json(args)
    screen = Screen()
    book = load_named(args)
    world = args.call.begin().world()
    failed = run_examples(book, world)
    for one in failed:
        name = shown(str(one.example.given["name"]))
        screen.parts((f"{shown(book.file)}:{one.example.line}: ", ""), (f'rule "{shown(one.rule.name)}"', "bold"))
        screen.line(f"  example  {name}")
        screen.line(f"  expected {shown(wanted_of(one.example))}")
        screen.line(f"  got      {shown(one.got)}", style="bold red")
    refused = _refused(book)
    for rule, why in refused:
        screen.parts(("refused: ", "bold red"), (shown(_at(book, rule, why)), ""))
    warnings = _warnings(book, world)
    for warning in warnings:
        screen.parts(("warning: ", "warn"), (shown(warning), ""))
    examples = sum(len(rule.examples) for rule in book.rules)
    parts = [count_text(len(book.rules), "rule"), "no errors"]
    if book.off:
        parts.insert(1, f"{len(book.off)} switched off")
    if examples:
        right = examples - len(failed)
        parts.append(f"{right} of {count_text(examples, 'example')} passed")
    if refused:
        parts.append(f"{count_text(len({rule.name for rule, _ in refused}), 'rule')} refused")
    parts.append(count_text(len(warnings), "warning") if warnings else "no warnings")
    screen.line(f"{shown(book.file)}: {', '.join(parts)}.", style="bold")
    return 2 if failed else 3 if refused else 0


def _print_json(args: argparse.Namespace) -> int:
    try:
        book = load_named(args)
    except Mistakes as wrong:
        errors = [{"line": one.line, "rule": one.rule, "message": one.message, "hint": one.hint} for one in wrong.all]
        print_json({"rules": 0, "errors": errors, "examples": 0, "failed": [], "refused": [], "warnings": []})
        return 2
    world = args.call.begin().world()
    failed = [
        {"line": one.example.line, "rule": one.rule.name, "expected": wanted_of(one.example), "got": one.got}
        for one in run_examples(book, world)
    ]
    refused = _refused(book)
    result = {
        "rules": len(book.rules),
        "errors": [],
        "examples": sum(len(rule.examples) for rule in book.rules),
        "failed": failed,
        "refused": [{"line": rule.line, "rule": rule.name, "reason": why} for rule, why in refused],
        "warnings": _warnings(book, world),
    }
    print_json(result)
    return 2 if failed else 3 if refused else 0


def _refused(book: RuleBook) -> list[tuple[Rule, str]]:
    return [
        (rule, why) for rule in book.rules for folder in rule.folders if (why := refused_rule(rule, slashed.realpath(folder)))
    ]


def _at(book: RuleBook, rule: Rule, what: str) -> str:
    return f'{book.file}:{rule.line}: rule "{rule.name}": {what}'


def _warnings(book: RuleBook, world: World) -> list[str]:
    warnings = list(book.warnings)
    dead = set()
    for warned in warnings_of(book, world):
        dead.add(warned.rule.name)
        warnings.append(_at(book, warned.rule, f"{warned.message}; {warned.hint}"))
    for one in unreached(book, world):
        if one.rule.name not in dead:
            what = f'it matches {count_text(one.entries, "file")} now, but rule "{one.above.name}" above handles them all'
            warnings.append(_at(book, one.rule, f"{what}; move this rule above that one"))
    for limits in book.trash:
        if limits.overruled:
            warnings.append(f"{book.file}:{limits.line}: [trash]: {limits.overruled}")
    for rule in book.rules:
        for folder in rule.folders:
            warnings += [_at(book, rule, what) for what in _about_folder(book, rule, folder)]
    return warnings


def _about_folder(book: RuleBook, rule: Rule, folder: str) -> Iterator[str]:
    """Yield what to know of a rule in one of its folders."""
    root = slashed.realpath(folder)
    if opened := note_on_opened(rule, root):
        yield opened.text
    if folder in book.unmounted:
        yield f"{folder} is not mounted"
    elif not disk.isdir(folder):
        yield f"{folder} does not exist now"
    elif rule.ending != "leave" and (tree := version_control_root(root)):
        yield f"{folder} is part of a version-controlled tree ({tree}); this rule will change its files"
