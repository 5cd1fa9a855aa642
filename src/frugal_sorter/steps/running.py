"""Programs that rules run, and what they make."""

from __future__ import annotations

import logging
import os
import subprocess
import time
from contextlib import suppress

from frugal_sorter.changes.outcome import NotDone, Outcome
from frugal_sorter.platforms import processes
from frugal_sorter.steps.parts import find, inverse_of_made, look_at
from frugal_sorter.steps.step import INTERRUPTED, Mark, RunContext, Step, Verb

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
            raise NotDone(Outcome.FAILED, f"{command[0]}: {why}") from None
        with program:
            output, stopped = self._wait(program)
        self._log(step, command, output, stopped or str(program.returncode))
        if stopped:
            raise NotDone(Outcome.FAILED, f"{command[0]} {stopped}")
        if program.returncode != 0:
            said = output.decode("utf-8", "replace").strip().splitlines()
            last = f": {said[-1][:200]}" if said else ""
            raise NotDone(Outcome.FAILED, f"{command[0]} ended with {program.returncode}{last}")
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
                stopped = "was stopped, since the run was"
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
            return Mark(step.id, Outcome.SKIPPED, INTERRUPTED)
        return Mark(step.id, Outcome.OPEN, f"{step.details['command'][0]} was started; how it ended is not known")

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
            raise NotDone(Outcome.SKIPPED, "the file already exists")
        done = super().do(step)
        made = look_at(self._context, step.target)
        if made is None:
            raise NotDone(Outcome.FAILED, f"{step.details['command'][0]} ended well, but made no {step.target.name}")
        return Mark(step.id, Outcome.DONE, now=made.identity, data=done.data)

    def inverse(self, step: Step, mark: Mark) -> Step:
        return inverse_of_made(step, mark)
