"""`frugal duplicates`: files that hold the same, and what to do about them."""

from __future__ import annotations

import argparse
from collections.abc import Callable, Sequence

from frugal_sorter.app.session import Session
from frugal_sorter.cli.jobs import Job, add_choosing
from frugal_sorter.cli.options import (
    add_at_most,
    add_for,
    add_format,
    add_listing,
    add_unattended,
    add_where,
    command_line,
    folder_named,
    is_short,
    levels,
    number,
    refuse_removal,
    size,
)
from frugal_sorter.cli.output.plan_view import PlanView
from frugal_sorter.cli.output.screen import Progress, Screen
from frugal_sorter.cli.output.text import below, common_base, count_text, date_text, shown, size_text, unread_text
from frugal_sorter.cli.reading import read_where, require_library
from frugal_sorter.duplicates import ContentSearch, Duplicates, Same
from frugal_sorter.errors import UsageError
from frugal_sorter.planning.duplicates import (
    Choice,
    LookAlike,
    Removing,
    choose,
    limited,
    look_alikes,
    plan_duplicates,
    plan_unmark,
    same_folders,
)
from frugal_sorter.planning.plan import Plan
from frugal_sorter.reasons import reason_of
from frugal_sorter.rules.keys import DEFAULT_KEEP, DOS, KEEPS, Keep
from frugal_sorter.state import ready_state_folder


class _Duplicates(Job):
    """Take away what need not stay, or take the mark of a copy off names that are copies of nothing."""

    looked: _Looked | None = None

    def prepare(self, session: Session, screen: Screen) -> None:
        """Search; a person at a terminal chooses for each group unless the command says which one stays."""
        args = self.args
        with Progress("files found") as progress:
            looked = self.looked = _look(args, session, progress.update)
        # What goes is listed once, with the question.
        for folder in looked.folders:
            screen.line(shown(folder), style="bold")
        _totals(screen, looked.found, looked.choices)
        if args.do and not (args.yes or args.dry_run or args.keep is not None or args.keep_in) and screen.may_ask():
            looked.choices = _choose_each(screen, looked.choices, common_base(looked.folders))
        screen.line()

    def plan(self, session: Session) -> Plan:
        args = self.args
        looked = self.looked = self.looked or _look(args, session, lambda _count, _of, _what: None)
        if args.unmark:
            alone = [one for one in looked.alikes if one.kind == "alone"]
            return session.planned(plan_unmark(alone, session.world(), command_line(), looked.folders))
        with session.changing("duplicates"):
            removing = Removing(args.do, session.world(), args.across_owners, args.at_most)
            return session.planned(plan_duplicates(looked.choices, removing, command_line(), looked.folders))

    def question(self, view: PlanView, account: str) -> str:
        more = (
            " Before anything is removed, each copy is compared again, byte by byte, with the one to keep."
            if self.args.do
            else ""
        )
        return view.question(f"below {shown(view.base)}, as {account}?{more}")


# Choosing


def _choose_each(screen: Screen, choices: Sequence[Choice], base: str) -> list[Choice]:
    """Ask for each group which one stays."""
    chosen: list[Choice] = []
    wanted = [choice for choice in choices if choice.going]
    for at, choice in enumerate(wanted, 1):
        files = [choice.kept, *choice.going]
        screen.line()
        screen.line(f"Group {at:,} of {len(wanted):,}: {len(files)} × {size_text(choice.group.size)}", style="bold")
        for number_, one in enumerate(files, 1):
            why = f"  {choice.why}" if number_ == 1 else ""
            screen.parts(
                (f"  {number_}  ", "green" if number_ == 1 else ""),
                (f"{date_text(one.mtime_ns)}  ", "dim"),
                (below(one.path, base), ""),
                (why, "dim"),
            )
        answer = screen.choose(
            (
                f"Keep which one? 1-{len(files)} (Enter or t = take the suggestion, 1), r = take it in this and all remaining "
                "groups, n = keep all of this group, q = stop choosing"
            ),
            [*map(str, range(1, len(files) + 1)), "t", "r", "n", "s", "q"],
            "1",
        )
        if answer == "q":
            break
        if answer in ("n", "s"):
            continue
        if answer == "r":
            return [*chosen, *wanted[at - 1 :]]
        chosen.append(_kept_instead(choice, files, 0 if answer == "t" else int(answer) - 1))
    return chosen


def _kept_instead(choice: Choice, files: Sequence[Same], at: int) -> Choice:
    if at == 0:
        return choice
    return choice._replace(kept=files[at], why="chosen", going=[one for one in files if one is not files[at]])


EXAMPLES = """
  frugal duplicates ~/Photos
  frugal duplicates ~/Intake ~/Archive --keep-in ~/Archive --do trash    what is in the archive already
  frugal duplicates ~/Photos --keep oldest,shortest-path --where "copy-named" --do trash
  frugal duplicates /srv/moulds --min-size 1MB --do hardlink
  frugal duplicates ~/Intake --format html > duplicates.html
"""
_TOP = 20
_NAMED = 12


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("folders", metavar="FOLDER", nargs="*", help="a folder to search (default: the current one)")
    parser.add_argument("--levels", type=levels, metavar="N", help="how deep; 1 is the folder itself (default: all)")
    parser.add_argument("--hidden", action="store_true", help="include hidden files and folders")
    parser.add_argument("--min-size", type=size, metavar="SIZE", default=1, help="skip files smaller than this, such as 1MB")
    parser.add_argument("--empty", action="store_true", help="include empty files, which are all identical")
    parser.add_argument(
        "--keep",
        type=_keeps,
        metavar="WHICH",
        help=f"which copy to keep: {', '.join(KEEPS)}; with several, separated by commas, the first that decides "
        f"counts (default: {','.join(DEFAULT_KEEP)})",
    )
    parser.add_argument(
        "--keep-in",
        metavar="FOLDER",
        nargs="+",
        default=[],
        help="keep every copy in these folders and remove the copies elsewhere; groups with no copy there are left alone",
    )
    parser.add_argument(
        "--do",
        choices=DOS,
        help=("what to do with the other copies: remove them or replace them with hard links (default: only report)"),
    )
    parser.add_argument(
        "--across-owners", action="store_true", help=("hard-link copies even if their owner or permissions differ")
    )
    parser.add_argument(
        "--unmark",
        action="store_true",
        help=('remove the copy mark from names such as "plan (2).pdf" when there is no "plan.pdf"'),
    )
    add_where(parser)
    parser.add_argument("--top", type=number, default=_TOP, metavar="N", help=f"show at most N groups (default: {_TOP})")
    parser.add_argument("--no-cache", action="store_true", help="ignore cached results and read every file again")
    add_choosing(parser)
    add_listing(parser)
    add_at_most(parser)
    add_unattended(parser)
    add_format(parser, "table", "json", "csv", "html")
    add_for(parser)


def _keeps(text: str) -> tuple[Keep, ...]:
    named = tuple(part.strip() for part in text.split(","))
    for one in named:
        if one not in KEEPS:
            raise argparse.ArgumentTypeError(f"unknown value {one!r}; choose from {', '.join(KEEPS)}")
    return named  # type: ignore[return-value]


def job(args: argparse.Namespace) -> Job | None:
    if not args.do and not args.unmark:
        if args.without or args.save or args.edit:
            raise UsageError(
                "--without, --save and --edit need --do or --unmark", ("add --do or --unmark, or remove these options")
            )
        return None
    if not args.folders:
        raise UsageError("name the folder to change", "--do and --unmark need a folder")
    if args.format != "table":
        raise UsageError("--do and --unmark cannot be combined with --format", "remove --format")
    if args.do and args.unmark:
        raise UsageError("--do and --unmark cannot be combined", "run one, then the other")
    for folder in map(folder_named, args.folders if args.do else ()):
        refuse_removal(folder, args.levels, args.hidden)
    return _Duplicates(args)


def run(args: argparse.Namespace) -> int:
    if args.format == "html":
        require_library("--format html", "jinja2", "reports")
    with Progress("files found") as progress:
        looked = _look(args, args.call.begin(), progress.update)
    if args.format != "table":
        from frugal_sorter.cli.output import views

        printers = {"json": views.as_json, "csv": views.as_csv, "html": views.as_page}
        printers[args.format](looked.folders, looked.found, looked.choices, looked.alikes)
    else:
        screen = Screen(is_short(args))
        _report(screen, looked, args.top)
        if any(choice.going for choice in looked.choices):
            screen.line(f"To move the extra copies to the trash: {command_line()} --do trash", style="bold")
    return 1 if looked.found.unread else 0


class _Looked:
    """What was found in some folders, and which one stays of each group."""

    def __init__(self, folders: list[str], found: Duplicates, choices: list[Choice]) -> None:
        self.folders, self.found, self.choices = folders, found, choices
        self.alikes = look_alikes(found)


def _look(args: argparse.Namespace, session: Session, on_progress: Callable[[int, int, str], None]) -> _Looked:
    """Search for duplicates.

    Raises:
        UsageError: a folder or a condition is not usable.
    """
    folders = list(dict.fromkeys(map(folder_named, args.folders or ["."])))
    keep_in = [folder_named(folder) for folder in args.keep_in]
    where = None if args.where is None else read_where(args.where)  # says what is wrong with it before the search
    search = ContentSearch(
        args.levels,
        args.hidden,
        0 if args.empty else max(args.min_size, 1),
        None if args.no_cache else ready_state_folder(),
        session.now_ns,
        on_progress,
    )
    try:
        found = search.search(folders)
    except OSError as error:
        raise UsageError(f"{error.filename}: {reason_of(error)}", "run as a user who may read it") from error
    choices = [choose(group, args.keep or DEFAULT_KEEP, keep_in) for group in found.groups]
    if where is not None:
        choices = [limited(choice, where, session.world()) for choice in choices]
    return _Looked(folders, found, choices)


# The report


def _report(screen: Screen, looked: _Looked, top: int) -> None:
    folders, found, choices, alikes = looked.folders, looked.found, looked.choices, looked.alikes
    base = common_base(folders)
    for folder in folders:
        screen.line(shown(folder), style="bold")
    screen.line()
    if not choices:
        screen.line("No duplicates found.")
    for choice in choices[:top]:
        _group(screen, choice, base)
    if len(choices) > top:
        rest = sum(choice.frees for choice in choices[top:])
        more = f"and {count_text(len(choices) - top, 'more group')}, {size_text(rest)} (--top shows more, --format csv all)"
        screen.line(more, style="dim")
        screen.line()
    same = same_folders(found)
    if same:
        screen.line("Folders with the same contents", style="bold")
        for ones in same[:_NAMED]:
            screen.line("  " + "  =  ".join(f"{below(one, base)}/" for one in ones))
        if len(same) > _NAMED:
            screen.line(f"  and {len(same) - _NAMED:,} more", style="dim")
        screen.line()
    _alikes(screen, alikes, base)
    _totals(screen, found, choices)


def _group(screen: Screen, choice: Choice, base: str) -> None:
    group = choice.group
    frees = f", frees {size_text(choice.frees)}" if choice.going else ", left alone"
    screen.parts((f"{len(group.files)} × {size_text(group.size)}", "bold"), (frees, ""))
    for one in [choice.kept, *(file for file in group.files if file is not choice.kept)]:
        stays = one not in choice.going
        mark, why = ("keep", choice.why if one is choice.kept else choice.staying.get(one.path, "")) if stays else ("", "")
        screen.parts(
            (f"  {mark:5}", "green"),
            (f"{date_text(one.mtime_ns)}  ", "dim"),
            (below(one.path, base), ""),
            (f"  {why}" if why else "", "dim"),
        )
        for name in one.further_names:
            screen.parts(("                   ", ""), (below(name, base), ""), ("  same file (hard link)", "dim"))
    screen.line()


def _alikes(screen: Screen, alikes: Sequence[LookAlike], base: str) -> None:
    differ = [one for one in alikes if one.kind == "differs"]
    alone = [one for one in alikes if one.kind == "alone"]
    copies = sum(one.kind == "copy" for one in alikes)
    if copies:
        what = "is a true copy" if copies == 1 else "are identical to the original"
        screen.line(f"{count_text(copies, 'file')} named like copies {what}.")
    if differ:
        screen.line("Named like copies but different, so kept", style="bold")
        for one in differ[:_NAMED]:
            screen.parts(("  ", ""), (below(one.path, base), "warn"), (f"  {_difference(one)}", ""))
        if len(differ) > _NAMED:
            screen.line(f"  and {len(differ) - _NAMED:,} more", style="dim")
    if alone:
        screen.line("Named like copies, but there is no original (--unmark removes the copy mark)", style="bold")
        for one in alone[:_NAMED]:
            screen.line(f"  {below(one.path, base)}")
        if len(alone) > _NAMED:
            screen.line(f"  and {len(alone) - _NAMED:,} more", style="dim")
    if alikes:
        screen.line()


def _difference(one: LookAlike) -> str:
    parts = []
    if one.sizes[0] != one.sizes[1]:
        parts.append(f"{size_text(one.sizes[0])}, original {size_text(one.sizes[1])}")
    if one.times_ns[0] != one.times_ns[1]:
        parts.append(f"modified {date_text(one.times_ns[0])}, original {date_text(one.times_ns[1])}")
    parts.append(f"first difference at byte {(one.first or 0) + 1:,}")
    return ", ".join(parts)


def _totals(screen: Screen, found: Duplicates, choices: Sequence[Choice]) -> None:
    going = sum(len(choice.going) for choice in choices)
    frees = sum(choice.frees for choice in choices)
    counts = f"{count_text(len(choices), 'group')} with {count_text(going, 'extra copy', 'extra copies')}"
    screen.line(f"{counts}. Removing them would free {size_text(frees)}.", style="bold")
    share = f" ({found.read / found.bytes:.0%})" if found.bytes else ""
    screen.line(f"Checked {count_text(found.seen, 'file')} ({size_text(found.bytes)}); read {size_text(found.read)}{share}.")
    if found.linked:
        screen.line(f"{count_text(found.linked, 'extra hard link')} not counted as separate files.")
    passed, empty = found.passed
    for count, which in ((passed - empty, "smaller file"), (empty, "empty file")):
        if count:
            screen.line(f"Skipped {count_text(count, which)}.")
    for unread in found.unread:
        screen.line(unread_text(unread), style="warn")
