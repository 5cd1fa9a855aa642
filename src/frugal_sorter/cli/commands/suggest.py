"""`frugal suggest`: a rule file to start from, made from what lies in a folder; changes nothing."""

from __future__ import annotations

import argparse
import os
from pathlib import Path

from frugal_sorter.app.suggest import Proposal, suggest
from frugal_sorter.cli.interrupted import begin
from frugal_sorter.cli.options import add_listing, folder_named, is_short
from frugal_sorter.cli.output.plan_view import PlanView
from frugal_sorter.cli.output.screen import Screen
from frugal_sorter.cli.output.text import count_text, shown, size_text
from frugal_sorter.errors import UsageError
from frugal_sorter.filesystem.walk import reason_of
from frugal_sorter.rules.file.one_rule import rule_text

EXAMPLES = """
  frugal suggest ~/Intake                           the rules, on standard output
  frugal suggest ~/Intake --to rules.toml
  frugal suggest ~/Intake --as-preview              what they would do
"""
_NAMED = 3


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("folder", metavar="FOLDER", help="the folder; its own files are looked at")
    parser.add_argument("--to", metavar="RULES", type=Path, help="write the rules to this new file")
    parser.add_argument("--as-preview", action="store_true", help="show what the rules would do instead")
    add_listing(parser)


def run(args: argparse.Namespace) -> int:
    folder = folder_named(args.folder)
    try:
        folder.encode("utf-8")
    except UnicodeEncodeError:
        raise UsageError(f"{shown(folder)}: this name cannot stand in a rule file", "rename it first") from None
    try:
        found = suggest(begin(), folder)
    except OSError as error:
        raise UsageError(f"{error.filename}: {reason_of(error)}", "run as a user who may read it") from error
    screen = Screen(is_short(args))
    if not found.groups or found.plan is None:
        screen.line(
            f"Nothing to propose for {shown(folder)}: {count_text(found.seen, 'file')} looked at, too few alike."
        )
        return 0
    if args.as_preview:
        view = PlanView(found.plan, screen)
        view.show()
        screen.line()
        screen.line(f"It would {view.totals()}.", style="bold")
        return 0
    text = _text(folder, found)
    if args.to is None:
        screen.lines(text.rstrip("\n"))
        return 0
    try:
        with open(
            os.open(args.to, os.O_WRONLY | os.O_CREAT | os.O_EXCL | os.O_CLOEXEC, 0o644), "w", encoding="utf-8"
        ) as file:
            file.write(text)
    except FileExistsError:
        raise UsageError(f"{args.to}: the file already exists", "choose another name, or remove it") from None
    except OSError as error:
        raise UsageError(f"{args.to}: it cannot be written ({reason_of(error)})", "choose another place") from None
    screen.line(f"{_summary(found)}, written to {shown(str(args.to))}.", style="bold")
    screen.line(f"Next: frugal check {shown(str(args.to))}, then frugal preview {shown(str(args.to))}")
    return 0


def _summary(found: Proposal) -> str:
    assert found.plan is not None
    taken = len({step.place for step in found.plan.asked}) + found.plan.kept.entries
    return f"{count_text(len(found.groups), 'rule')} for {taken:,} of {count_text(found.seen, 'file')}"


def _text(folder: str, found: Proposal) -> str:
    """Return the rule file, each rule with what it takes."""
    lines = [f"# Proposed for {shown(folder)}: {_summary(found)}.",
             "# Read each rule, change what is not meant, and take out what is not wanted; `frugal preview` shows what they do.",
             "frugal = 1", ""]  # fmt: skip
    sizes = {one.name: one.bytes for group in found.groups for one in group.files}
    for group in found.groups:
        names = found.taken(str(group.keys["name"])) or [one.name for one in group.files]
        examples = ", ".join(shown(name) for name in names[:_NAMED])
        amount = f"{count_text(len(names), 'file')}, {size_text(sum(sizes.get(name, 0) for name in names))}"
        lines.append(f"# {amount}, {group.why}: {examples}{', …' if len(names) > _NAMED else ''}")
        keys = {"name": group.keys["name"], "in": folder}
        lines += [
            *rule_text({**keys, **{key: value for key, value in group.keys.items() if key != "name"}}).split("\n"),
            "",
        ]
    assert found.plan is not None
    rest = found.plan.unclaimed.entries
    lines.append(f"# {count_text(rest, 'file')} match no rule and {'stays' if rest == 1 else 'stay'} where they are." if rest else
                 "# No file is left over.")  # fmt: skip
    return "\n".join(lines) + "\n"
