"""`frugal tidy`: carry out what the rules say, or a plan that was saved."""

from __future__ import annotations

import argparse
import os

from frugal_sorter.app.rules import keep_only, leave_out, plan_rules, plan_saved, rules_named, save_due
from frugal_sorter.app.session import Session
from frugal_sorter.cli.jobs import Job, add_choosing
from frugal_sorter.cli.options import add_as_of, add_at_most, add_for, add_listing, add_rule, add_rules, add_unattended
from frugal_sorter.cli.output.plan_view import PlanView, show_misses
from frugal_sorter.cli.output.screen import Screen
from frugal_sorter.cli.output.text import count_text, moment_text, shown, stay_text, step_text
from frugal_sorter.cli.reading import moment_of, read_book
from frugal_sorter.errors import UsageError
from frugal_sorter.planning.plan import Note, Plan
from frugal_sorter.planning.selection import Numbers, choose
from frugal_sorter.platforms import disk
from frugal_sorter.platforms.slashed import Path
from frugal_sorter.reasons import Why
from frugal_sorter.rules.model import RuleBook
from frugal_sorter.values import replace

EXAMPLES = """
  frugal tidy
  frugal tidy front-desk.toml
  frugal tidy front-desk.toml --yes
  frugal tidy desk --rule "Kiln logs by month"    only this rule of desk.toml in your configuration folder
  frugal tidy ageing.toml --as-of "in 40 days" --only Intake/old.log     try a rule about time on one file
  frugal tidy --plan monday.plan --approved review.txt      only what the owner of the machine approved
  frugal tidy --plan monday.plan       what `frugal preview --save monday.plan` wrote
"""


def add_arguments(parser: argparse.ArgumentParser) -> None:
    add_rules(parser)
    add_rule(parser)
    parser.add_argument("--plan", metavar="PLAN", type=Path, help="carry out a saved plan instead of rules")
    parser.add_argument(
        "--approved",
        metavar="ANSWER",
        type=Path,
        help="with --plan: only what the owner of the machine approved, by the answer that the page of `--page` saved",
    )
    add_unattended(parser)
    parser.add_argument("--again", action="store_true", help="include files whose changes were undone")
    add_at_most(parser)
    add_for(parser)
    parser.add_argument("--only", metavar="PATH", nargs="+", default=[], help="limit to these files and folders")
    add_as_of(parser)
    add_choosing(parser)
    add_listing(parser)


def job(args: argparse.Namespace) -> Job:
    return _Tidy(args)


class _Tidy(Job):
    book: RuleBook | None = None

    def plan(self, session: Session) -> Plan:
        args = self.args
        if args.approved is not None and args.plan is None:
            raise UsageError("--approved needs --plan: the plan that was approved", "add --plan PLAN")
        if args.plan is None:
            book = read_book(args)
            rules = rules_named(book, args.rule)
            plan = plan_rules(session, book, args.again, args.at_most, rules=rules, now_ns=_moment(args, session))
            plan = _keep_only(args, plan)
            self.book = replace(book, rules=tuple(rules or book.rules))
            # A person knows what was left; of what a timer cannot ask, night after night, nobody does.
            self._unasked_is_problem = session.is_unattended
            return plan
        if args.rules is not None or args.again or args.rule or args.only or args.as_of:
            raise UsageError("--plan cannot be combined with rules", "remove RULES, --rule, --only, --as-of and --again")
        plan = plan_saved(session, args.plan, args.at_most)
        if args.approved is not None:
            plan = session.planned(self._approved(plan, session), str(args.plan))
        return plan

    def _approved(self, plan: Plan, session: Session) -> Plan:
        """Return a plan without what the owner of the machine wants to stay."""
        from frugal_sorter.planning.selection import read_approval

        numbers = Numbers(plan)
        answer = read_approval(self.args.approved, self.args.plan, len(numbers.steps))
        by = f"{answer.by}, {moment_text(answer.at_ns)}"
        if answer.stays:
            chosen = choose(plan, numbers, [answer.stays], os.getcwd())
            plan = leave_out(plan, lambda step: step.id in chosen.steps, Why.APPROVED_TO_STAY(by))
            self.exceptions = list(chosen.rules)
        what = f"{by}: {answer.changes - answer.kept:,} of {answer.changes:,} changes"
        if session.visiting is not None:
            session.visiting.approved = what
        return replace(plan, notes=[*plan.notes, Note(f"approved by {what}", False)])

    def decide(self, plan: Plan, screen: Screen | None) -> Plan:
        """Ask separately about each rule that wants it; without a person its entries are left."""
        agreed: set[str] = set()
        for rule in self.book.rules if self.book is not None else ():
            steps = [step for step in plan.asked if step.rule == rule.name]
            if not rule.ask or not steps:
                continue
            if screen is None or not screen.may_ask():
                reason = Why.NOBODY_TO_ASK(kind="failed" if self._unasked_is_problem else None)
            else:
                screen.sample(steps, lambda step: screen.line(f"  {step.verb:8}{step_text(step, '/')}"))
                if screen.ask(f"{shown(rule.name)}: make {count_text(len(steps), 'change')} as listed?"):
                    agreed.add(rule.name)
                    continue
                reason = Why.DECLINED()
            plan = leave_out(plan, lambda step, name=rule.name: step.rule == name, reason)  # type: ignore[misc]
        self.is_agreed = bool(plan.asked) and {step.rule for step in plan.asked} <= agreed
        return plan

    def show_nothing(self, view: PlanView) -> None:
        hidden = self.book is None or any(rule.hidden for rule in self.book.rules)
        view.show_nothing("Nothing to do", hidden, 'levels = "all"', "hidden = true")

    def show_why(self, view: PlanView, session: Session) -> None:
        if self.book is not None:
            show_misses(session, view.screen, self.book, view.plan)

    def finish(self, session: Session, screen: Screen) -> None:
        for folder, said in save_due(session, self.book) if self.book is not None else ():
            screen.line(f"{shown(folder)}: {shown(said)}")

    def question(self, view: PlanView, account: str) -> str:
        named = self.args.plan or view.plan.origin
        written = moment_text(disk.stat(named).st_mtime_ns) if disk.lexists(named) else "at an unknown time"
        by = f"the plan {shown(str(named))}" if self.args.plan else shown(named)
        others = "" if self.args.plan else f" {stay_text(view.plan.others)}."
        return view.question(f"in {shown(view.base)}, using {by} (last changed {written}), as {account}?{others}")


def _moment(args: argparse.Namespace, session: Session) -> int | None:
    """Return the moment that `--as-of` looks from; only for a few files, and only if a person says yes to each list.

    Raises:
        UsageError: it is asked for otherwise.
    """
    if args.as_of is None:
        return None
    if not args.only:
        raise UsageError("--as-of needs --only, so that only files you choose are changed", "name the files with --only")
    if args.yes:
        raise UsageError("--as-of always asks for confirmation", "remove --yes")
    return moment_of(args.as_of, session)


def _keep_only(args: argparse.Namespace, plan: Plan) -> Plan:
    """Return a plan with only what `--only` names.

    Raises:
        UsageError: the plan has nothing of it.
    """
    if args.only:
        try:
            chosen = choose(plan, Numbers(plan), [word if "/" in word else f"./{word}" for word in args.only], os.getcwd())
        except UsageError as wrong:
            raise UsageError(f"--only {wrong.message}", "see `frugal explain PATH`") from None
        return keep_only(plan, lambda step: step.id in chosen.steps)
    return plan
