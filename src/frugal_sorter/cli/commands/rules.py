"""`frugal rules`: every rule of a file, what it does and did; and small changes to the file."""

from __future__ import annotations

import argparse
from collections.abc import Callable, Mapping, Sequence

from frugal_sorter.app.rule_file import RuleRecord, change, look_back, rules_of
from frugal_sorter.app.rules import look_ahead
from frugal_sorter.cli.command import parsed_command
from frugal_sorter.cli.jobs import take_back_text
from frugal_sorter.cli.options import add_format, folder_named, rules_file
from frugal_sorter.cli.output.results import Column, Table, print_json
from frugal_sorter.cli.output.screen import Screen
from frugal_sorter.cli.output.text import below, common_base, date_text, entries_text, iso_text, shown
from frugal_sorter.cli.output.views import rule_words
from frugal_sorter.errors import UsageError
from frugal_sorter.filesystem.record import Place
from frugal_sorter.planning.sight import Sight
from frugal_sorter.platforms import slashed
from frugal_sorter.platforms.slashed import Path
from frugal_sorter.rules.editing import RuleText, rule_text_in
from frugal_sorter.rules.fields import fold
from frugal_sorter.rules.load import load_rules

EXAMPLES = """
  frugal rules front-desk.toml
  frugal rules desk --in ~/Intake                                  the rules of desk.toml that act there
  frugal rules off "Kiln logs by month" --rules front-desk.toml
  frugal rules move "Moulds" before "Supplier invoices by year"
  frugal rules add -- sort ~/Intake --into "{type}"                add this job as a rule at the end of the file
"""
TAKES_COMMAND = True
_WIDE = 100
_CHANGES = ("off", "on", "move", "add")
# The jobs that can be rules; each module has `rule_of`.
_JOBS = ("sort", "purge")


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument(
        "what",
        metavar="WHAT",
        nargs="*",
        help="a rule file to list, or a change: `off NAME`, `on NAME`, `move NAME before|after OTHER`, `add -- COMMAND`",
    )
    parser.add_argument("--rules", metavar="RULES", type=Path, help="the rule file (default: as for `frugal preview`)")
    parser.add_argument("--in", metavar="FOLDER", dest="folder", help="only the rules that act in this folder")
    add_format(parser, "table", "json")


def run(args: argparse.Namespace) -> int:
    action = args.what[0] if args.what and args.what[0] in _CHANGES else ""
    if args.after and action != "add":
        raise UsageError("rules: only `add` takes a command after --", "remove it")
    if action:
        if args.folder is not None or args.format != "table":
            raise UsageError(f"rules {action}: --in and --format are for the list", "remove them")
        return _change(args, action)
    if len(args.what) > 1:
        hint = {"remove": "did you mean `off`?", "delete": "did you mean `off`?"}.get(args.what[0])
        raise UsageError(f"rules: unknown action `{args.what[0]}`", hint or f"choose from {', '.join(_CHANGES)}")
    if args.what and args.what[0] in ("list", "show", "ls"):
        raise UsageError(f"rules: unknown action `{args.what[0]}`", "`frugal rules` lists the rules")
    args.rules = Path(args.what[0]) if args.what else args.rules
    return _list(args)


# Changing


def _change(args: argparse.Namespace, action: str) -> int:
    words, screen, path = args.what[1:], Screen(), rules_file(args)
    # By the names that they have, whatever was typed: another case, or a number.
    names = [record.rule.name for record in rules_of(load_rules(path))]
    how, said = _how(action, [_as_named(names, word) for word in words], args.after)
    result = change(args.call.begin(), path, how)
    if result.has_problem or not result.done:
        screen.line(f"{shown(str(path))}: it could not be changed; see `frugal history {result.run}`", style="bold red")
        return 1
    screen.line(f"{said} in {shown(str(path))}.", style="bold")
    screen.lines(take_back_text(result))
    return 0


def _as_named(names: Sequence[str], word: str) -> str:
    for name in names:
        if fold(name) == fold(word):
            return name
    is_number = word.isascii() and word.isdigit() and 0 < int(word) <= len(names)
    return names[int(word) - 1] if is_number else word


def _how(action: str, words: list[str], command: list[str]) -> tuple[Callable[[RuleText], bytes], str]:
    """Return a change, and what to say when it is done."""
    if action == "add":
        if words or not command or command[0] not in _JOBS:
            raise UsageError("rules add: name a job to add", "for example `frugal rules add -- sort ~/Intake --into '{type}'`")
        module, parsed = parsed_command(command)
        if parsed.types:
            raise UsageError(
                "rules add: --types is not supported here", ("add a [types] table to the rule file and remove --types")
            )
        keys, folder = module.rule_of(parsed)  # type: ignore[attr-defined]
        text = rule_text_in(folder, keys)
        return (lambda file: file.added([text], first=False)), f"{shown(str(keys['name']))} is added"
    if action == "move":
        if len(words) != 3 or words[1] not in ("before", "after"):
            raise UsageError("rules move: say which rule goes where", "for example `frugal rules move NAME before OTHER`")
        name, where, other = words
        said = f"Moved {shown(name)} {where} {shown(other)}"
        return (lambda file: file.moved(name, "before" if where == "before" else "after", other)), said
    if len(words) != 1:
        raise UsageError(f"rules {action}: name one rule", f"for example `frugal rules {action} NAME`")
    (name,) = words
    return (lambda file: file.switched(name, action == "on")), f"Switched {action} {shown(name)}"


# Listing


def _list(args: argparse.Namespace) -> int:
    path, session = rules_file(args), args.call.begin()
    book = load_rules(path)
    records = rules_of(book)
    numbers = {record.rule.name: number for number, record in enumerate(records, 1)}
    plan = look_ahead(session, book)
    counts: dict[str, set[Place]] = {}
    for step in plan.asked:
        counts.setdefault(step.rule, set()).add(step.place)
    for record in records:
        record.now = len(counts.get(record.rule.name, ())) if record.is_on else None
    first_ns, gone = look_back(records, book.file)
    if args.folder is not None:
        folder = folder_named(args.folder)
        sight, probe = Sight(book, session.world()), Place(folder, "x")
        acting = {
            rule.name for rule in book.rules if not sight.base_for(rule, probe, "folder" if rule.take == "folders" else "file")[1]
        }
        records = [record for record in records if record.rule.name in acting]
    if args.format == "json":
        print_json({"rules": [_as_json(numbers[one.rule.name], one) for one in records]})
        return 0
    screen = Screen()
    screen.line(shown(str(path)), style="bold")
    if not records:
        none = "This file has no rules." if args.folder is None else f"No rule acts in {shown(args.folder)}."
        screen.line(none)
        return 0
    base = common_base([folder for record in records for folder in record.rule.folders])
    # Where there is little room, the names of the rules need it.
    table = Table("", _columns(numbers, base, first_ns, screen.width >= _WIDE), records)
    screen.table(table)
    screen.line()
    now, so_far = (table.columns[at].head for at in (4, 5))
    screen.line(f"{now}: files the rule would act on today; {so_far}: files it has acted on, without those undone.", style="dim")
    for name, tally in gone.items():
        screen.line(f"Not counted above: {entries_text(tally.all)} by `{shown(name)}`, which is no longer a rule of this file.")
    if gone:
        screen.line("Figures go by the name of a rule; a renamed rule starts at 0.", style="dim")
    if any(map(_is_exception, records)):
        screen.line("–: a `leave` rule changes nothing; it keeps files where they are.", style="dim")
    if len(common_base([base])) > 1:
        screen.line(f"Folders are below {shown(base)}.", style="dim")
    return 0


def _columns(numbers: Mapping[str, int], base: str, first_ns: int | None, is_wide: bool) -> Sequence[Column]:
    return (
        Column("#", lambda one: str(numbers[one.rule.name]), is_right=True, is_whole=True),
        Column("rule", lambda one: one.rule.name),
        Column("in", lambda one: _folders(one, base)),
        Column("action", lambda one: rule_words(one.rule)),
        Column.count(
            "matches now" if is_wide else "now",
            lambda one: "off" if one.now is None else _NOTHING if _is_exception(one) else one.now,
            is_whole=True,
        ),
        Column.count(
            "done so far" if is_wide else "so far",
            lambda one: _NOTHING if _is_exception(one) else one.done.all.entries,
            is_whole=True,
        ),
        Column("last", lambda one: _NOTHING if _is_exception(one) else _last(one, first_ns if is_wide else None), is_whole=True),
    )


def _folders(one: RuleRecord, base: str) -> str:
    first, *others = one.rule.folders
    return below(first, base) + (f" and {len(others)} more" if others else "")


_NOTHING = "–"


def _is_exception(one: RuleRecord) -> bool:
    return one.rule.ending == "leave"


def _last(one: RuleRecord, first_ns: int | None) -> str:
    if one.last_ns is not None:
        return date_text(one.last_ns)
    return "never" if first_ns is None else f"never (since {date_text(first_ns)})"


def _as_json(number: int, one: RuleRecord) -> dict[str, object]:
    rule = one.rule
    return {
        "number": number, "name": rule.name, "line": rule.line, "in": [*map(slashed.abspath, rule.folders)],
        "does": rule_words(rule), "on": one.is_on, "now": one.now, "done": one.done.all.entries,
        "last": None if one.last_ns is None else iso_text(one.last_ns),
    }  # fmt: skip
