"""`frugal preview`: what the rules would do; changes nothing."""

from __future__ import annotations

import argparse
from collections import Counter

from frugal_sorter.app.rules import look_ahead, look_further, rules_named
from frugal_sorter.app.session import Session
from frugal_sorter.cli.jobs import add_choosing, keep_out, page_text, take_out, write_page
from frugal_sorter.cli.options import add_as_of, add_at_most, add_format, add_listing, add_rule, add_rules, is_short
from frugal_sorter.cli.output.plan_view import PlanView, exit_code, plan_as_json, show_misses
from frugal_sorter.cli.output.results import Column, Table, print_json
from frugal_sorter.cli.output.screen import Progress, Screen
from frugal_sorter.cli.output.text import count_text, iso_text, shown, unread_as_json, unread_text, will_text
from frugal_sorter.cli.reading import add_on, looking_on, moment_of, raw_rules_of, require_library
from frugal_sorter.errors import UsageError
from frugal_sorter.filesystem.record import Unread
from frugal_sorter.planning.plan import Plan
from frugal_sorter.planning.selection import Numbers
from frugal_sorter.platforms import disk, processes, slashed
from frugal_sorter.rules.model import RuleBook
from frugal_sorter.values import replace

EXAMPLES = """
  frugal preview
  frugal preview front-desk.toml
  frugal preview front-desk.toml --as-of "in 2 weeks"
  frugal preview front-desk.toml --without 3-7,12 Intake/scan004.tif --save monday.plan
  frugal preview ageing.toml --until "in 40 days"           day by day
  frugal preview front-desk.toml --tree
  frugal preview front-desk.toml --on maren.inventory.gz        on a machine that is elsewhere
  frugal preview front-desk.toml --on inventories/              on many machines, a line each
  frugal preview front-desk.toml --format html > plan.html       for the owner of the machine
"""


def add_arguments(parser: argparse.ArgumentParser) -> None:
    add_rules(parser)
    add_rule(parser)
    parser.add_argument("--again", action="store_true", help="include files whose changes were undone")
    add_at_most(parser)
    add_as_of(parser)
    add_choosing(parser, edit=False)
    parser.add_argument(
        "--until",
        metavar="WHEN",
        help=('show day by day what would happen if the rules ran every day until this date: "in 40 days", 2026-12-24'),
    )
    parser.add_argument("--tree", action="store_true", help="show the folder tree before and after, side by side")
    parser.add_argument("--exit-code", action="store_true", help="exit with 1 if there is something to do")
    add_format(parser, "text", "json", "html")
    add_listing(parser)
    add_on(parser)


def run(args: argparse.Namespace) -> int:
    if args.on is not None and disk.isdir(args.on):
        return _on_many(args)
    with looking_on(args) as (session, book):
        return _run(args, session, book)


def _run(args: argparse.Namespace, session: Session, book: RuleBook) -> int:
    if args.on is not None and (args.save or args.again):
        raise UsageError("--on only shows what would happen there", "remove --save and --again")
    rules = rules_named(book, args.rule)
    if args.until is not None:
        return _until(args, session, replace(book, rules=tuple(rules or book.rules)))
    with Progress("files checked") as progress:
        session = replace(session, on_progress=progress.update)
        plan = look_ahead(session, book, args.again, args.at_most, moment_of(args.as_of, session), rules)
    book = replace(book, rules=tuple(rules or book.rules))
    if args.format == "html":
        require_library("--format html", "jinja2", "reports")
    screen = Screen(is_short(args))
    numbers = Numbers(plan)
    plan, left_out = take_out(args, plan, numbers)
    view = PlanView(plan, screen, numbers)
    if args.save:
        from frugal_sorter.planning.plan import save_plan

        save_plan(plan, args.save)
        write_page(args, session)
    if args.format == "json":
        print_json(plan_as_json(plan, view.numbers))
        return _exit_code(args, plan)
    if args.format == "html":
        from frugal_sorter.cli.output.views import outcome_page

        print(outcome_page(plan, session.now_ns, _tidy(args)))
        return _exit_code(args, plan)
    if plan.asked:
        if args.tree:
            from frugal_sorter.cli.output.views import show_outcome

            show_outcome(plan, screen)
            view.show_left()
        else:
            view.show()
        screen.line()
        view.warn()
        how = f"To do it: {shown(_tidy(args))}"
        if args.as_of is not None:
            how = f"`{shown(_tidy(args))}` goes by the current date instead, so it may do less."
        if args.on is not None:
            how = f"To do it, on that machine: {shown(_tidy(args))}"
        screen.line(f"This would {view.totals()}. {how}", style="bold")
    else:
        hidden = any(rule.hidden for rule in book.rules)
        view.show_nothing("Nothing to do", hidden, 'levels = "all"', "hidden = true")
    if args.page is not None:
        screen.line(page_text(args))
    keep_out(args, screen, left_out)
    acting = [rule.name for rule in book.rules if rule.ending != "leave"]
    idle = [rule for rule in acting if not any(step.rule == rule for step in plan.steps)]
    if idle and plan.asked:
        screen.line(f"These rules match nothing now: {', '.join(map(shown, idle))}.")
    show_misses(session, screen, book, plan)
    return _exit_code(args, plan)


def _until(args: argparse.Namespace, session: Session, book: RuleBook) -> int:
    """Show what the rules would do day by day."""
    if args.without or args.save or args.tree or args.again or args.keep_out is not None or args.format == "html":
        raise UsageError("--until only shows what would happen", "remove --without, --save, --tree, --again and --format html")
    from frugal_sorter.cli.output.views import days_as_json, show_days

    now_ns, until_ns = moment_of(args.as_of, session), moment_of(args.until, session, "--until")
    if until_ns < now_ns:
        raise UsageError(f"--until: {args.until} is in the past", 'give a future date, such as "in 40 days"')
    days = look_further(session, book, until_ns, args.at_most, now_ns)
    if args.format == "json":
        print_json(days_as_json(days, now_ns, until_ns))
    else:
        screen = Screen(is_short(args))
        show_days(days, screen, now_ns, until_ns, names=True)
    return 3 if any(day.plan.refused for day in days) else 1 if args.exit_code and days else 0


def _on_many(args: argparse.Namespace) -> int:
    """Show what the rules would do on each machine of a folder of inventories, a line each."""
    if args.save or args.again or args.until or args.as_of or args.without or args.tree or args.rule or args.format == "html":
        raise UsageError("--on with a folder shows a line for each machine", "name one inventory to see more")
    from frugal_sorter.app.elsewhere import on_each

    unread: list[Unread] = []
    rows, refused, missing = [], False, Counter[str]()
    for there in on_each(slashed.realpath(args.on), args.call.begin(), raw_rules_of(args), args.at_most, unread.append):
        plan = there.plan
        missing.update(there.missing)
        refused = refused or bool(plan.refused)
        why = [f"refused: {refusal}" for refusal in plan.refused] + [note.text for note in plan.notes if note.problem]
        left = sum(left.reason.problem for left in plan.not_touched)
        why += [f"{left:,} left alone for a problem"] if left else []
        rows.append((there.machine, there.taken_ns, plan.entries.entries, will_text(plan.asked), "; ".join(why)))
    if args.format == "json":
        heads = ("machine", "taken", "changes", "what", "problems")
        machines = [dict(zip(heads, (row[0], iso_text(row[1]), *row[2:]), strict=True)) for row in rows]
        print_json({"missing": list(missing), "not_read": [unread_as_json(one) for one in unread]}, machines=machines)
        return 3 if refused else 1 if unread else 0
    screen = Screen(is_short(args))
    columns = (
        Column("machine"),
        Column.moment("inventory of", is_whole=True),
        Column.count("changes", is_whole=True),
        Column("what"),
        Column("to look at"),
    )
    screen.lines(f"On {count_text(len(rows), 'machine')}; nothing is changed.")
    if rows:
        screen.line()
        screen.table(Table("", columns, rows))
    for text, count in missing.items():
        screen.line()
        screen.lines(f"On {count_text(count, 'machine')}: {text}.")
    for one in unread:
        screen.line(unread_text(one), style="warn")
    return 3 if refused else 1 if unread else 0


def _exit_code(args: argparse.Namespace, plan: Plan) -> int:
    code = exit_code(plan)
    return 1 if args.exit_code and plan.asked and not code else code


def _tidy(args: argparse.Namespace) -> str:
    """Return the command that does what was shown."""
    if args.save:
        return processes.join(["frugal", "tidy", "--plan", str(args.save)])
    words = ["frugal", "tidy", *([str(args.rules)] if args.rules else [])]
    words += [word for name in args.rule for word in ("--rule", name)]
    words += ["--again"] if args.again else []
    return processes.join([*words, *(["--without", *args.without] if args.without else [])])
