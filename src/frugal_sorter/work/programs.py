"""Running the program that a rule names for a file: a list of arguments, never a shell line."""

from __future__ import annotations

import logging
import os
import signal
import subprocess

from frugal_sorter.plans.plan import Step
from frugal_sorter.work.entry import find
from frugal_sorter.work.mark import INTERRUPTED, Job, Mark, NotDone, Outcome

LONGEST_SECONDS = 60
_OUTPUT = 4_000
# The environment variable that holds the path of the file.
PATH_VARIABLE = "FRUGAL_FILE"


class RunProgram:
    """Runs a program once; what it does cannot be taken back."""

    def __init__(self, job: Job, longest_seconds: float = LONGEST_SECONDS) -> None:
        self._job = job
        self._longest = longest_seconds

    def do(self, step: Step) -> Mark:
        assert step.source is not None and step.was is not None
        find(self._job, step.source, step.was)
        command = [str(word) for word in step.args["command"]]
        self._job.note(Mark(step.id, Outcome.NOTED, "started"))
        try:
            program = subprocess.Popen(
                command, stdin=subprocess.DEVNULL, stdout=subprocess.PIPE, stderr=subprocess.STDOUT,
                cwd=step.source.folder, start_new_session=True,
                env={**os.environ, PATH_VARIABLE: step.source.path},
            )  # fmt: skip
        except OSError as error:
            why = (error.strerror or "cannot be started").lower()
            raise NotDone(Outcome.FAILED, f"{command[0]}: {why}") from None
        try:
            output, _ = program.communicate(timeout=self._longest)
        except subprocess.TimeoutExpired:
            os.killpg(program.pid, signal.SIGKILL)
            output, _ = program.communicate()
            self._log(step, command, output, "stopped")
            raise NotDone(Outcome.FAILED, f"{command[0]} took longer than {self._longest:g} seconds") from None
        code = program.returncode
        self._log(step, command, output, str(code))
        if code != 0:
            said = output.decode("utf-8", "replace").strip().splitlines()
            raise NotDone(Outcome.FAILED, f"{command[0]} ended with {code}{f': {said[-1][:200]}' if said else ''}")
        return Mark(step.id, Outcome.DONE, now=step.was, data={"exit_code": code})

    def _log(self, step: Step, command: list[str], output: bytes, how: str) -> None:
        said = output[-_OUTPUT:].decode("utf-8", "backslashreplace")
        logging.getLogger("frugal_sorter").info(
            "run %s step %s: %r for %r ended with %s: %s", self._job.run, step.id, command, step.place.path, how, said
        )

    def settle(self, step: Step, note: Mark | None, repair: bool) -> Mark:
        if note is None:
            return Mark(step.id, Outcome.SKIPPED, INTERRUPTED)
        return Mark(step.id, Outcome.OPEN, f"{step.args['command'][0]} was started; how it ended is not known")

    def back(self, step: Step, mark: Mark) -> None:
        return None
