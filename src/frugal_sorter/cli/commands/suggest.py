"""`frugal suggest`: a rule file to start from, made from what is in a folder; changes nothing."""

from __future__ import annotations

import argparse
import time
from collections.abc import Sequence

from frugal_sorter.app.suggest import HEAD, Proposal, learn_from, learn_from_hand, suggest
from frugal_sorter.cli.options import add_format, add_listing, folder_named, is_short
from frugal_sorter.cli.output.plan_view import PlanView
from frugal_sorter.cli.output.screen import Screen
from frugal_sorter.cli.output.text import count_text, shown, size_text, unread_text
from frugal_sorter.cli.reading import require_library, since
from frugal_sorter.errors import UsageError
from frugal_sorter.filesystem.record import Unread
from frugal_sorter.platforms import disk
from frugal_sorter.platforms.slashed import Path
from frugal_sorter.reasons import reason_of
from frugal_sorter.rules.editing import refuse_unwritable

EXAMPLES = """
  frugal suggest ~/Intake                           the rules, on standard output
  frugal suggest ~/Intake --to rules.toml
  frugal suggest ~/Intake --like ~/Archive          as somebody sorted that tree
  frugal suggest ~/Desk --since 7d                  rules for what was moved by hand lately
  frugal suggest ~/Intake --as-preview              what they would do
"""
_NAMED = 3
_MISPLACED = 20


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument(
        "folder", metavar="FOLDER", help=("the folder to study: only files directly in it, or everything below it with --since")
    )
    parser.add_argument("--like", metavar="SORTED", help="learn from this tree, which somebody sorted by hand")
    parser.add_argument(
        "--since",
        metavar="WHEN",
        help="learn from what was moved by hand in FOLDER, with all below it, since then: 7d, 2026-11-01",
    )
    parser.add_argument("--to", metavar="RULES", type=Path, help="write the rules to this new file")
    parser.add_argument("--as-preview", action="store_true", help="show what the rules would do instead of printing them")
    add_format(parser, "rules", "html")
    add_listing(parser)


def run(args: argparse.Namespace) -> int:
    folder = folder_named(args.folder)
    refuse_unwritable(folder)
    if args.since is not None:
        return _since(args, folder)
    if args.like is not None:
        return _like(args, folder)
    if args.format == "html":
        raise UsageError("--format html: the page is about what was learnt", "add --like SORTED")
    try:
        found = suggest(args.call.begin(), folder)
    except OSError as error:
        raise UsageError(f"{error.filename}: {reason_of(error)}", "run as a user who may read it") from error
    screen = Screen(is_short(args))
    if found.plan is None:
        screen.line(f"No rules to suggest for {shown(folder)}: checked {count_text(found.seen, 'file')}, but too few are alike.")
        return 0
    if args.as_preview:
        view = PlanView(found.plan, screen)
        view.show()
        screen.line()
        screen.line(f"It would {view.totals()}.", style="bold")
        return 0
    _give(args, screen, _text(folder, found), _summary(found))
    return 0


def _give(
    args: argparse.Namespace, screen: Screen, text: str, summary: str, missing: Sequence[str] = (), tested: str = ""
) -> None:
    """Print a rule file, or write it where `--to` says; what was not read is listed in it, and beside the summary."""
    if args.to is None:
        screen.lines(text.rstrip("\n"))
        return
    try:
        with open(
            disk.open(args.to, disk.O_WRONLY | disk.O_CREAT | disk.O_EXCL | disk.O_CLOEXEC, 0o644), "w", encoding="utf-8"
        ) as file:
            file.write(text)
    except FileExistsError:
        raise UsageError(f"{args.to} already exists", "choose another name, or remove it") from None
    except OSError as error:
        raise UsageError(f"cannot write {args.to} ({reason_of(error)})", "choose another place") from None
    screen.line(f"Wrote {summary} to {shown(str(args.to))}.", style="bold")
    if tested:
        screen.line(tested)
    screen.line(f"Next: frugal check {shown(str(args.to))}, then frugal preview {shown(str(args.to))}")
    _print_lines(screen, missing)


def _share(count: int, of: int) -> str:
    return f" ({count / of:.0%})" if of else ""


def _like(args: argparse.Namespace, folder: str) -> int:
    """Learn from a tree that somebody sorted, and say how well."""
    if args.as_preview:
        raise UsageError("--as-preview cannot be combined with --like", "write the rules with --to, and preview that file")
    for module in ("numpy", *(("jinja2", "matplotlib") if args.format == "html" else ())):
        require_library("--like", module, "reports")
    tree = folder_named(args.like)
    try:
        found = learn_from(args.call.begin(), folder, tree)
    except OSError as error:
        raise UsageError(f"{error.filename}: {reason_of(error)}", "run as a user who may read it") from error
    screen, score, items = Screen(is_short(args)), found.score, count_text(found.items, "sorted file")
    if found.there > found.items:
        items = f"{items}, drawn evenly from {found.there:,}"
    missing = _not_read(found.unread)
    if not found.rules:
        screen.line(f"Cannot learn rules from {shown(tree)}: no short rules separate its {items}.")
        _print_lines(screen, missing)
        return 1 if missing else 0
    taken = score.all - score.left
    puts = f"the rules took {taken:,} of {score.all:,} test files{_share(taken, score.all)} and left the rest alone; of these "
    puts += f"{taken:,}, {score.right:,} were placed correctly{_share(score.right, taken)} and {len(score.misplaced):,} wrongly"
    rules = count_text(len(found.rules), "rule")
    if args.format == "html":
        from frugal_sorter.cli.output.views import learned_page as page_of

        print(page_of(shown(tree), " ".join([f"{rules} from {items}.", *missing]), puts, found))
        return 1 if missing else 0
    lines = [
        f"# {rules} learnt from {items} in {shown(tree)}.",
        f"# Tested five times (rules made from 80% of the files, tried on the other 20%): {puts}.",
    ]
    for one in score.misplaced[:_MISPLACED]:
        lines.append(f"#   {shown(one.name)}: is in {shown(one.lies)}, would go to {shown(one.put)}")
    if len(score.misplaced) > _MISPLACED:
        lines.append(f"#   and {len(score.misplaced) - _MISPLACED:,} more")
    lines.append("# Rules that place fewer than 90% of their files correctly are switched off.")
    lines += [f"# {line}" for line in missing]
    _give(args, screen, "\n".join([*lines, found.text]), rules, missing, f"Tested on files left out: {puts}.")
    return 1 if missing else 0


def _since(args: argparse.Namespace, folder: str) -> int:
    """Offer rules for what somebody moved by hand."""
    if args.as_preview or args.like is not None or args.format == "html":
        raise UsageError(
            "--since cannot be combined with --like, --as-preview or --format", "remove --like, --as-preview and --format"
        )
    require_library("--since", "numpy", "reports")
    try:
        unread: list[Unread] = []
        found, moved = learn_from_hand(folder, since(args.since, time.time_ns()), unread.append)
    except OSError as error:
        raise UsageError(f"{error.filename}: {reason_of(error)}", "run as a user who may read it") from error
    screen, missing = Screen(is_short(args)), _not_read(unread)
    if not found:
        what = f"{count_text(moved, 'file')} moved by hand below {shown(folder)} since then"
        screen.line(f"Cannot learn rules: according to saved inventories and the history, {what}, but too few are alike.")
        _print_lines(screen, missing)
        return 1 if missing else 0
    lines = [
        f"# {count_text(moved, 'file')} moved by hand below {shown(folder)} since {shown(args.since)}.",
        *(f"# {line}" for line in missing),
        HEAD,
    ]
    for one in found:
        lines += [
            "",
            f"# You moved {one.moved:,} of these {one.all:,} files to {shown(one.rule.target)}. Add this rule?",
            *([f"# It would move {count_text(len(one.now), 'file')} now: {_few(one.now)}"] if one.now else []),
            one.text,
        ]
    _give(args, screen, "\n".join(lines) + "\n", count_text(len(found), "rule"), missing)
    return 1 if missing else 0


def _few(names: Sequence[str]) -> str:
    return ", ".join(map(shown, names[:_NAMED])) + (", …" if len(names) > _NAMED else "")


def _not_read(unread: Sequence[Unread]) -> list[str]:
    return [f"{unread_text(one)}." for one in unread if one.reason.problem]


def _print_lines(screen: Screen, lines: Sequence[str]) -> None:
    for line in lines:
        screen.line(line, style="warn")


def _summary(found: Proposal) -> str:
    assert found.plan is not None
    taken = len({step.place for step in found.plan.asked}) + found.plan.kept.entries
    return f"{count_text(len(found.groups), 'rule')} for {taken:,} of {count_text(found.seen, 'file')}"


def _text(folder: str, found: Proposal) -> str:
    """Return the rule file, each rule with what it takes."""
    lines = [
        f"# Suggested for {shown(folder)}: {_summary(found)}.",
        "# Check each rule, and edit or delete it as needed. `frugal preview` shows what the rules would do.",
        HEAD,
        "",
    ]
    sizes = {one.name: one.bytes for group in found.groups for one in group.files}
    for group, text in zip(found.groups, found.texts, strict=True):
        names = found.taken(str(group.keys["name"])) or [one.name for one in group.files]
        examples = ", ".join(shown(name) for name in names[:_NAMED])
        amount = f"{count_text(len(names), 'file')}, {size_text(sum(sizes.get(name, 0) for name in names))}"
        lines.append(f"# {amount}, {group.why}: {examples}{', …' if len(names) > _NAMED else ''}")
        lines += [text, ""]
    assert found.plan is not None
    rest = found.plan.unclaimed.entries
    lines.append(
        (f"# No rule matches the remaining {count_text(rest, 'file')}; {('it stays' if rest == 1 else 'they stay')} in place.")
        if rest
        else "# Every file matches a rule."
    )
    return "\n".join(lines) + "\n"
