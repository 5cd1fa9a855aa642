"""`frugal visit`: what a scheduler starts; it runs a command of a schedule and leaves a record, whatever comes of it."""

from __future__ import annotations

import argparse
import os
import signal
import sys
from types import FrameType

from frugal_sorter.cli.command import Call
from frugal_sorter.cli.options import line_of
from frugal_sorter.errors import UsageError
from frugal_sorter.platforms import processes
from frugal_sorter.platforms.slashed import Path
from frugal_sorter.schedule.scheduler import check_name, check_times

EXAMPLES = """
  frugal visit nightly --in /srv --limit "30 minutes" -- tidy /srv/rules.toml --yes
"""
_POWER = Path("/sys/class/power_supply")


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("name", metavar="NAME", help="of the schedule")
    parser.add_argument("--in", dest="folder", metavar="FOLDER", required=True, help="where the command runs")
    parser.add_argument("--during", metavar="HOURS", help="only within these hours, such as 'mon-fri 08:00-18:00'")
    parser.add_argument("--limit", metavar="TIME", help="stop after this long, between two changes")
    parser.add_argument("--mains-only", action="store_true", help="not on battery")
    parser.add_argument("command", metavar="COMMAND", nargs="+", help="after --: a command of frugal")


def run(args: argparse.Namespace) -> int:
    from frugal_sorter.cli import command

    name, words = check_name(args.name), list(args.command)
    sys.argv = ["frugal", *words]
    # From here on it is the call of that command, whatever comes of it.
    call = args.call = Call(words[0], line_of(words), "watch" if words[0] == "watch" else "schedule", name)
    check_times(args.during or "", args.limit or "")
    why = _not_now(args)
    if why:
        call.skip(why)
        return 0
    try:
        os.chdir(args.folder)
    except OSError as error:
        why = (error.strerror or "unknown error").lower()
        raise UsageError(f"the schedule cannot run in {args.folder} ({why})", "remove the schedule and add it again") from None
    _stop_in_time(args.limit)
    code = command.run(words[0], words[1:], call)
    # A file that is in use is the day's work; what a person must know of is not.
    return 1 if call.is_in_trouble else 0 if code == 1 else code


def _not_now(args: argparse.Namespace) -> str:
    """Return why nothing is to be done now; empty where something is."""
    import time

    if args.during:
        from frugal_sorter.rules.units import parse_hours

        if not parse_hours(args.during).hold(time.time_ns()):
            return f"outside the allowed hours, {args.during}"
    return "on battery" if args.mains_only and _is_on_battery() else ""


def _is_on_battery() -> bool:
    """Return True if this machine has a supply from the mains that is not connected (power_supply in the Linux kernel)."""
    mains = []
    try:
        for supply in _POWER.iterdir():
            if (supply / "type").read_text().strip() == "Mains":
                mains.append((supply / "online").read_text().strip() == "1")
    except OSError:
        return False
    return bool(mains) and not any(mains)


def _stop_in_time(limit: str | None) -> None:
    """Ask this process to end after a while, as somebody would who sends SIGTERM."""
    if not limit:
        return
    from frugal_sorter.rules.units import parse_duration

    def stop(_number: int, _frame: FrameType | None) -> None:
        os.kill(os.getpid(), signal.SIGTERM)

    processes.end_after(max(1, parse_duration(limit).seconds), stop)
