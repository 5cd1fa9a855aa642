"""The extras of rules: tags and comments, and programs."""

from __future__ import annotations

import logging
import os
import subprocess
import time
from collections.abc import Iterator
from contextlib import contextmanager, suppress

from frugal_sorter.filesystem.extended_attributes import read_attribute
from frugal_sorter.filesystem.record import COARSEST_TIME_NS, Identity, Place
from frugal_sorter.platforms import attributes, disk, processes
from frugal_sorter.reasons import NotDone, Outcome, Why, reason_of
from frugal_sorter.steps.kinds import Details
from frugal_sorter.steps.parts import find, inverse_of_made, look_at, there
from frugal_sorter.steps.step import Mark, RunContext, Step, Verb, left_undone


class SetAttribute(Verb):
    """Gives an extended attribute another text; an empty text removes it."""

    def __init__(self, context: RunContext) -> None:
        super().__init__(context)
        # By file and attribute: what an entry had before the later steps of the run, as these tell.
        self._before: dict[tuple[int, int, str], str] = {}

    def do(self, step: Step) -> Mark:
        source, was = _ends(step)
        name, old, new = step.details["attribute"], step.details["old"], step.details["new"]
        fd, _ = find(self._context, source, was)
        with _entry(fd, source.name) as (path, numbers):
            # Once more, since another one may have come to be there before it was opened.
            _, found = find(self._context, source, was)
            if numbers != (found.identity.dev, found.identity.ino) or read_attribute(path, name) != old:
                raise NotDone(Why.CHANGED())
            if new:
                attributes.setxattr(path, name, new.encode("utf-8", "surrogateescape"))
            else:
                attributes.removexattr(path, name)
        return Mark(step.id, Outcome.DONE, now=found.identity)

    def resolve_after_crash(self, step: Step, note: Mark | None, repair: bool) -> Mark:
        source, was = _ends(step)
        place, identity = self._context.now_at.get(source, (source, self._context.became.get(source)))
        found = there(self._context, place, identity or was)
        if found is None:
            return left_undone(step, Why.GONE(kind="open"))
        with _entry(self._context.descriptors.folder(place.folder), place.name) as (path, _):
            now = read_attribute(path, step.details["attribute"])
        # Several rules, and several names of one file, may have changed it one after the other.
        now = self._before.get((found.identity.dev, found.identity.ino, step.details["attribute"]), now)
        # What was last touched before this run began was not given anything by it.
        if now == step.details["new"] and found.ctime_ns >= self._context.began_ns - COARSEST_TIME_NS:
            return Mark(step.id, Outcome.DONE, now=found.identity)
        return left_undone(step, Why.INTERRUPTED())

    def was_done(self, step: Step, mark: Mark) -> None:
        identity = mark.now or step.was
        if identity is not None:
            self._before[identity.dev, identity.ino, step.details["attribute"]] = step.details["old"]

    def inverse(self, step: Step, mark: Mark) -> Step:
        source, was = _ends(step)
        details: Details = {
            **step.details,
            "old": step.details["new"],
            "new": step.details["old"],
            "entry": [*source],
            "entry_was": [*was],
        }
        return Step(step.id, "set-attribute", step.rule, step.rule_key, source, None, mark.now or was, details)


@contextmanager
def _entry(fd: int, name: str) -> Iterator[tuple[str | int, tuple[int, int]]]:
    """Open an entry for nothing but itself; yield what means it whatever becomes of its name, and its numbers.

    Where the system can do that, no right to read it is needed.
    """
    descriptor = disk.open(name, disk.O_PATH | disk.O_NOFOLLOW | disk.O_NONBLOCK | disk.O_CLOEXEC, dir_fd=fd)
    try:
        found = disk.fstat(descriptor)
        yield attributes.by_descriptor(descriptor), (found.st_dev, found.st_ino)
    finally:
        disk.close(descriptor)


def _ends(step: Step) -> tuple[Place, Identity]:
    assert step.source is not None and step.was is not None
    return step.source, step.was


class NoteTimes(Verb):
    """Changes nothing: notes the time of a folder after a run, beside that before it."""

    def do(self, step: Step) -> Mark:
        assert step.source is not None
        try:
            _, found = self._context.descriptors.entry(step.source)
        except OSError as error:
            raise NotDone(reason_of(error).by_design) from None
        return Mark(step.id, Outcome.DONE, now=found.identity._replace(mtime_ns=found.mtime_ns))

    def resolve_after_crash(self, step: Step, note: Mark | None, repair: bool) -> Mark:
        return left_undone(step, Why.INTERRUPTED(kind="by design"))

    def inverse(self, step: Step, mark: Mark) -> Step | None:
        if mark.now is None:
            return None
        details: Details = {"mtime_ns": step.details["mtime_ns"], "now_ns": mark.now.mtime_ns}
        return Step(step.id, "restore-times", "", "", step.source, None, step.was, details)


class RestoreTimes(Verb):
    """Sets the modification time of a folder to what it was, after all else is done."""

    def do(self, step: Step) -> Mark:
        assert step.source is not None
        try:
            parent_fd, found = self._context.descriptors.entry(step.source)
            if step.was is not None and not found.identity.same_who(step.was):
                raise NotDone(Why.FOLDER_REPLACED())
            times = (found.atime_ns, step.details["mtime_ns"])
            disk.utime(step.source.name, ns=times, dir_fd=parent_fd, follow_symlinks=False)
        except OSError as error:
            # Only the owner may set times; the files themselves are where they belong.
            raise NotDone(reason_of(error).by_design) from None
        return Mark(step.id, Outcome.DONE, now=found.identity)

    def resolve_after_crash(self, step: Step, note: Mark | None, repair: bool) -> Mark:
        return left_undone(step, Why.INTERRUPTED(kind="by design"))

    def inverse(self, step: Step, mark: Mark) -> Step | None:
        if "now_ns" not in step.details:
            return None
        details: Details = {"mtime_ns": step.details["now_ns"], "now_ns": step.details["mtime_ns"]}
        return Step(step.id, "restore-times", "", "", step.source, None, step.was, details)


LONGEST_SECONDS = 60
_OUTPUT = 4_000
_LISTEN_SECONDS = 0.2
# The environment variable that holds the path of the file.
PATH_VARIABLE = "FRUGAL_FILE"


class RunProgram(Verb):
    """Runs a program once; what it does cannot be taken back.

    It is the program that is waited for, not what it leaves in the background.
    """

    def __init__(self, context: RunContext, longest_seconds: float = LONGEST_SECONDS) -> None:
        super().__init__(context)
        self._longest = longest_seconds

    def do(self, step: Step) -> Mark:
        assert step.source is not None and step.was is not None
        find(self._context, step.source, step.was)
        command = [str(word) for word in step.details["command"]]
        self._context.note(Mark(step.id, Outcome.NOTED, "started"), True)
        try:
            program = subprocess.Popen(
                command,
                stdin=subprocess.DEVNULL,
                stdout=subprocess.PIPE,
                stderr=subprocess.STDOUT,
                # Not where the file is: a program may take other people's files there for its own.
                cwd=processes.START_FOLDER,
                **processes.child_group(),
                env={**os.environ, PATH_VARIABLE: step.source.path},
            )
        except (OSError, ValueError) as error:
            why = (getattr(error, "strerror", None) or "cannot be started").lower()
            raise NotDone(Why.PROGRAM_FAILED(f"{command[0]}: {why}")) from None
        with program:
            output, stopped = self._wait(program)
        self._log(step, command, output, stopped or str(program.returncode))
        if stopped:
            raise NotDone(Why.PROGRAM_FAILED(f"{command[0]} {stopped}"))
        if program.returncode != 0:
            said = output.decode("utf-8", "replace").strip().splitlines()
            last = f": {said[-1][:200]}" if said else ""
            raise NotDone(Why.PROGRAM_FAILED(f"{command[0]} exited with {program.returncode}{last}"))
        return Mark(step.id, Outcome.DONE, now=step.was, data={"exit_code": program.returncode})

    def _wait(self, program: subprocess.Popen[bytes]) -> tuple[bytes, str]:
        """Wait until a program ends; return the last of what it said, and why it was stopped if it was."""
        assert program.stdout is not None
        reading = program.stdout.fileno()
        processes.set_blocking(reading, False)
        output, stopped = b"", ""
        until = time.monotonic() + self._longest
        is_open = True
        while program.poll() is None and not stopped:
            if is_open:
                ready = processes.wait_readable(reading, _LISTEN_SECONDS)
                said = _read(reading)
                is_open = bool(said) or not ready
                output = (output + said)[-_OUTPUT:]
            else:
                with suppress(subprocess.TimeoutExpired):
                    program.wait(_LISTEN_SECONDS)
            if time.monotonic() > until:
                stopped = f"took longer than {self._longest:g} seconds"
            elif self._context.stop():
                stopped = "stopped because the run was stopped"
        if stopped:
            with suppress(ProcessLookupError):
                processes.kill_group(program.pid)
            program.wait()
        return (output + _read(reading))[-_OUTPUT:], stopped

    def _log(self, step: Step, command: list[str], output: bytes, how: str) -> None:
        said = output.decode("utf-8", "backslashreplace")
        logging.getLogger("frugal_sorter").info(
            "run %s step %s: %r for %r ended with %s: %s", self._context.run, step.id, command, step.place.path, how, said
        )

    def resolve_after_crash(self, step: Step, note: Mark | None, repair: bool) -> Mark:
        if note is None:
            return left_undone(step, Why.INTERRUPTED())
        return left_undone(step, Why.PROGRAM_UNKNOWN(step.details["command"][0]))

    def inverse(self, step: Step, mark: Mark) -> Step | None:
        return None


def _read(reading: int) -> bytes:
    try:
        return os.read(reading, 1 << 16)
    except BlockingIOError:
        return b""


class RunMaking(RunProgram):
    """Runs a program once and looks for what it was to make; that is removed again if the step is taken back."""

    def do(self, step: Step) -> Mark:
        assert step.target is not None
        if look_at(self._context, step.target) is not None:
            raise NotDone(Why.FILE_EXISTS())
        done = super().do(step)
        made = look_at(self._context, step.target)
        if made is None:
            raise NotDone(Why.PROGRAM_MADE_NOTHING(step.details["command"][0], step.target.name))
        return Mark(step.id, Outcome.DONE, now=made.identity, data=done.data)

    def inverse(self, step: Step, mark: Mark) -> Step:
        return inverse_of_made(step, mark)
