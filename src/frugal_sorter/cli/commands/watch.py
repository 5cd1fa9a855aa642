"""`frugal watch`: act on what comes into the folders of a rule file, as soon as it is left alone."""

from __future__ import annotations

import argparse
import gc
import os
import signal
from collections.abc import Collection, Iterator
from contextlib import contextmanager
from datetime import datetime
from types import FrameType

from frugal_sorter.app.watch import SETTLE, Watcher
from frugal_sorter.cli.command import Call
from frugal_sorter.cli.jobs import summary
from frugal_sorter.cli.options import add_for, add_listing, add_rules, duration, is_short, rules_file
from frugal_sorter.cli.output.plan_view import PlanView
from frugal_sorter.cli.output.screen import Screen
from frugal_sorter.cli.output.text import count_text, shown
from frugal_sorter.cli.reading import read_book, require_library
from frugal_sorter.errors import RefusedError
from frugal_sorter.execution.executor import Result
from frugal_sorter.filesystem.events import Silent, Source, SystemSource
from frugal_sorter.planning.plan import Plan
from frugal_sorter.planning.sight import Root
from frugal_sorter.platforms import disk, processes, slashed
from frugal_sorter.platforms.system import blake2b
from frugal_sorter.reasons import Why
from frugal_sorter.rules.units import SECOND_NS, parse_duration
from frugal_sorter.state import ready_state_folder
from frugal_sorter.steps.kinds import LASTING
from frugal_sorter.steps.step import Mark, Step

EXAMPLES = """
  frugal watch front-desk.toml
  frugal watch front-desk.toml --once          what is there now, then end
  frugal watch front-desk.toml --every 30s     look, where a volume sends no events
  frugal schedule add intake --at arrival -- watch front-desk.toml
"""
_SIX_HOURS = "6 hours"


def add_arguments(parser: argparse.ArgumentParser) -> None:
    add_rules(parser)
    parser.add_argument("--once", action="store_true", help="apply the rules once, then exit")
    parser.add_argument(
        "--every", metavar="TIME", type=duration, help=("check at this interval instead of waiting for change notifications")
    )
    parser.add_argument(
        "--rescan",
        metavar="TIME",
        type=duration,
        default=parse_duration(_SIX_HOURS),
        help=f"check everything at this interval, in case a notification was missed (default: {_SIX_HOURS})",
    )
    parser.add_argument(
        "--settle",
        metavar="TIME",
        type=duration,
        default=SETTLE,
        help=f"how long a file must stay unchanged before a rule without `settle` acts on it (default: {SETTLE.text})",
    )
    parser.add_argument("--log", metavar="PATH", help="append a line to this file for each change, as it is made")
    add_for(parser)
    add_listing(parser)


def run(args: argparse.Namespace) -> int:
    if not args.once:
        require_library("watch", "watchdog", "watch")
    path = rules_file(args)
    read_book(args)
    listener = _Terminal(Screen(is_short(args)), args.once)
    with _only_one(slashed.realpath(path)), _signals() as heard:
        call: Call = args.call
        call.watches()
        source: Source = Silent() if args.once or args.every is not None else SystemSource()
        heard.source = source
        try:
            watcher = Watcher(
                lambda: read_book(args),
                call.begin,
                source,
                listener,
                args.rescan.seconds * SECOND_NS,
                args.every.seconds * SECOND_NS if args.every is not None else 0,
                args.settle,
                once=args.once,
                stop=lambda: heard.ended,
            )
            watcher.start()
            if args.once:
                return _once(watcher, listener, call)
            while not heard.ended:
                watcher.take(source.wait(watcher.due_in()))
                if heard.again:
                    heard.again = False
                    watcher.read_again()
                if not heard.ended and watcher.act():
                    _give_memory_back()
        finally:
            source.close()
    call.skip("asked to end", "stopped")
    listener.screen.line("Stopped. No change was left unfinished.")
    return 0


def _once(watcher: Watcher, listener: _Terminal, call: Call) -> int:
    watcher.act()
    call.is_done()
    if not listener.acted:
        wait = f" yet: what was written to a moment ago is left alone for {SETTLE.text}" if listener.is_early else ""
        listener.screen.line(f"Nothing to do{wait}.")
    return 1 if listener.has_problem else 0


def _give_memory_back() -> None:
    """Free what a visit needed: a command ends soon and needs no collector, but this one stays for months."""
    gc.collect()
    # What is free is scattered; the C library returns it when it is told to.
    processes.give_back_memory()


class _Heard:
    """Which signals came."""

    def __init__(self) -> None:
        self.ended = self.again = False
        self.source: Source | None = None


@contextmanager
def _signals() -> Iterator[_Heard]:
    """Turn requests to end, and to read the rules again, into wishes that are heeded between two steps."""
    heard = _Heard()

    def hear(number: int, _: FrameType | None) -> None:
        if number == processes.HANG_UP:
            heard.again = True
        else:
            heard.ended = True
        if heard.source is not None:
            heard.source.wake()

    numbers = processes.GENTLE_STOPS
    before = {number: signal.signal(number, hear) for number in numbers}
    try:
        yield heard
    finally:
        for number, handler in before.items():
            signal.signal(number, handler)


@contextmanager
def _only_one(rules: str) -> Iterator[None]:
    """Check that no other watcher has the same rule file.

    Raises:
        RefusedError: one has.
    """
    name = blake2b(os.fsencode(rules), digest_size=8).hexdigest()
    descriptor = disk.open(ready_state_folder() / f"watch-{name}.lock", disk.O_RDWR | disk.O_CREAT | disk.O_CLOEXEC, 0o600)
    try:
        if not processes.try_lock(descriptor):
            raise RefusedError(f"another watcher is already using {rules}", "stop that watcher first")
        yield
    finally:
        disk.close(descriptor)


class _Terminal:
    """Says what the watcher does."""

    def __init__(self, screen: Screen, once: bool) -> None:
        self.screen = screen
        self.acted = self.has_problem = self.is_early = False
        self._once = once
        self._view: PlanView | None = None

    def watching(self, roots: Collection[Root], missing: Collection[str]) -> None:
        self.has_problem = self.has_problem or bool(missing)
        if self._once:
            for folder in missing:
                self.screen.line(f"{shown(folder)} is missing.", style="warn")
            return
        names = ", ".join(shown(root.folder) for root in roots)
        if roots:
            self._say(f"watching {count_text(len(roots), 'folder')}: {names}")
        for folder in missing:
            self._say(f"waiting for {shown(folder)} to appear", "warn")
        self._flush()

    def note(self, text: str) -> None:
        self.has_problem = True
        self._say(shown(text), "warn")
        self._flush()

    def planned(self, plan: Plan) -> None:
        self._view = PlanView(plan, self.screen)
        self.acted = True

    def step(self, step: Step, mark: Mark) -> None:
        assert self._view is not None
        self._view.show_step(step, mark)

    def done(self, plan: Plan, result: Result) -> None:
        assert self._view is not None
        self._view.show_sums(result.run)
        self._view = None
        back = f"; frugal undo {result.run}" if result.done.keys() - LASTING else ""
        self._say(f"{summary(result)}{back}", "bold")
        self._flush()

    def left(self, plan: Plan) -> None:
        self.is_early = any(one.reason.why is Why.FRESH for one in plan.not_touched)
        if plan.not_touched:
            PlanView(plan, self.screen).show_left()

    def _say(self, text: str, style: str = "") -> None:
        self.screen.parts((f"{datetime.now():%H:%M:%S}  ", "dim"), (text, style))

    def _flush(self) -> None:
        import sys

        sys.stdout.flush()
