"""From the arguments of a command to a plan."""

from __future__ import annotations

import argparse
import os

from frugal_sorter.cli.options import rules_file
from frugal_sorter.cli.screen import account
from frugal_sorter.cli.text import now_ns
from frugal_sorter.plans.by_rules import plan_by_rules
from frugal_sorter.plans.plan import Plan
from frugal_sorter.rules.book import RuleBook
from frugal_sorter.rules.fields import World
from frugal_sorter.rules.load import load_rules
from frugal_sorter.work.journal import Journal
from frugal_sorter.work.undo import past_of


def world_now() -> World:
    """Return what is not on the disk: this moment, this machine, this account."""
    return World(now_ns(), os.uname().nodename, account())


def read_book(args: argparse.Namespace) -> RuleBook:
    """Read the rule file that the arguments name."""
    return load_rules(rules_file(args))


def plan_now(book: RuleBook, journal: Journal, again: bool) -> Plan:
    """Plan what the rules would do now."""
    return plan_by_rules(book, world_now(), past_of(journal), again)
