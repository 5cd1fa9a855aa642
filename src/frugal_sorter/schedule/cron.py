"""Lines in the crontab of an account (crontab(5)); whatever else is there stays as it is, byte for byte."""

from __future__ import annotations

import os
import re
import shlex
import tempfile
from collections.abc import Sequence
from shutil import which

from frugal_sorter.errors import StateError
from frugal_sorter.platforms import accounts, slashed
from frugal_sorter.platforms.slashed import Path
from frugal_sorter.schedule import scheduler
from frugal_sorter.schedule.scheduler import Cannot, Entry, Piece, State, ask_system, insist, unremembered
from frugal_sorter.schedule.when import LAST, When

_NOTE = b"; `frugal schedule` changes and removes these lines"
_PAUSED = b"# paused: "
_PID_FILES = (Path("/run/crond.pid"), Path("/var/run/crond.pid"))


def _fields(when: When) -> list[str]:
    """Return the five fields of crontab(5), a line for hours with the same minutes."""
    if when.kind == "start-up":
        return ["@reboot"]
    days = "*" if when.month_days is None else ",".join(map(str, sorted(when.month_days)))
    months = "*" if when.months is None else ",".join(map(str, sorted(when.months)))
    # cron counts Sunday as 0.
    weekdays = "*" if len(when.weekdays) == 7 else ",".join(str((day + 1) % 7) for day in sorted(when.weekdays))
    return [
        f"{_stars(minutes, 60)} {_stars(hours, 24)} {days} {months} {weekdays}" for minutes, hours in when.by_minute().items()
    ]


def _stars(numbers: Sequence[int], all_of_them: int) -> str:
    return "*" if len(numbers) == all_of_them else ",".join(map(str, numbers))


def line_of(entry: Entry) -> str:
    """Return the command as a line of a crontab: each word quoted for the shell, `%` escaped, which cron makes a line break."""
    return shlex.join(entry.command_line).replace("%", "\\%")


class Scheduler(scheduler.Scheduler):
    """cron."""

    name = "cron"

    @classmethod
    def is_here(cls) -> bool:
        return which("crontab") is not None

    def cannot(self, entry: Entry) -> Sequence[Cannot]:
        when, found = entry.when, []
        instead = "systemd can: add --with systemd"
        for option, is_asked in (
            ("--wake", entry.wake),
            ("--catch-up", entry.catch_up is True),
            ("--spread", bool(entry.spread)),
            ("--whole-machine", entry.whole_machine),
            ("log-on", when.kind == "log-on"),
            ("arrival", when.kind == "arrival"),
            ("once", when.kind == "once"),
            ("monthly last", when.month_days is not None and LAST in when.month_days),
        ):
            if is_asked:
                found.append(Cannot(option, instead))
        both = when.month_days is not None and len(when.weekdays) < 7 and not when.either
        return [*found, *([Cannot("days of the week and of the month at once", instead)] if both else [])]

    def pieces(self, entry: Entry) -> Sequence[Piece]:
        return [Piece("the crontab of this account", _block(entry).decode())]

    def starts(self, entry: Entry) -> Sequence[Sequence[str]]:
        lines = _block(entry).decode().splitlines()[1:-1]
        # Five fields or one, and the rest is for the shell; a bare % would end it.
        whole = [re.fullmatch(r"(?:@reboot|(?:\S+ ){4}\S+) ((?:[^%\n]|\\%)*)", line) for line in lines]
        return [shlex.split(found[1].replace("\\%", "%")) if found else [] for found in whole]

    def commands(self, entry: Entry) -> Sequence[Sequence[str]]:
        # Never `crontab -`: typed by a person, it would put what is read in the place of all lines that there are.
        return [["crontab", "-e"]]

    def install(self, entry: Entry) -> None:
        table = crontab_of_account()
        _replace(_without(table, entry.name), _block(entry))

    def remove(self, entry: Entry) -> None:
        table = crontab_of_account()
        without = _without(table, entry.name)
        if without != table:
            _put(without)

    def turn(self, entry: Entry, on: bool) -> None:
        table = crontab_of_account()
        _replace(_without(table, entry.name), _block(entry) if on else _paused(entry))

    def state(self, entry: Entry) -> State:
        try:
            found = _found(crontab_of_account(), entry.name)
        except StateError as error:
            return State(True, True, (error.text,))
        if found is None:
            resume = f"`frugal schedule resume {entry.name}` writes it again"
            return State(False, trouble=(f"its crontab entry is missing; {resume}",))
        trouble = []
        if entry.on and found != _block(entry):
            what = "was turned off" if found == _paused(entry) else "was edited"
            trouble.append(f"its crontab entry {what}; to restore it: frugal schedule resume {entry.name}")
        if not _daemon_runs():
            trouble.append("cron is not running; start it, for example with `service cron start`")
        is_on = not any(line.startswith(b"#") for line in found.splitlines()[1:-1])
        return State(True, is_on, tuple(trouble))

    def marked(self) -> Sequence[Entry]:
        names = re.findall(rb"(?m)^# frugal ([a-z0-9-]+): begin", crontab_of_account())
        return [unremembered(name.decode(), self.name) for name in dict.fromkeys(names)]

    def run(self, entry: Entry) -> int:
        # What cron gives a job, and nothing else (crontab(5)).
        env = {
            "HOME": accounts.own_home(),
            "LOGNAME": accounts.account_name(),
            "SHELL": "/bin/sh",
            "PATH": "/usr/bin:/bin",
            **_variables(crontab_of_account()),
        }
        done = ask_system([env["SHELL"], "-c", shlex.join(entry.command_line)], env=env, seconds=None, cwd=env["HOME"])
        return int(done.returncode)


def crontab_of_account() -> bytes:
    """Return the crontab as it is, empty where there is none.

    Raises:
        StateError: it cannot be read.
    """
    done = ask_system(["crontab", "-l"])
    if done.returncode != 0:
        said = done.stderr.decode(errors="replace").strip()
        if "no crontab for" in said:
            return b""
        raise StateError(f"the crontab cannot be read: {said}", "see crontab(1)")
    # Debian's `crontab -l` writes a carriage return as two letters; an editor is given the bytes.
    return _as_an_editor() if b"\\r" in done.stdout else done.stdout


def _as_an_editor() -> bytes:
    with tempfile.TemporaryDirectory() as folder:
        copy = slashed.join(folder, "crontab")
        editor = f"sh -c 'cat \"$1\" > {shlex.quote(copy)}' -"
        ask_system(["crontab", "-e"], env={**os.environ, "LC_ALL": "C", "VISUAL": editor, "EDITOR": editor})
        try:
            with open(copy, "rb") as file:
                return file.read()
        except OSError as error:
            raise StateError(f"the crontab cannot be read ({error.strerror})", "see crontab(1)") from None


def _put(table: bytes) -> None:
    """Write the crontab, or remove an empty one, and check that it is what was written."""
    if table:
        insist(["crontab", "-"], table)
    else:
        ask_system(["crontab", "-r"])
    if crontab_of_account() != table:
        raise StateError("the crontab changed while it was being written", "check what else edits it")


def _begin(name: str) -> bytes:
    return b"# frugal %b: begin%b\n" % (name.encode(), _NOTE)


def _end(name: str) -> bytes:
    return b"# frugal %b: end\n" % name.encode()


def _block(entry: Entry) -> bytes:
    lines = b"".join(f"{fields} {line_of(entry)}\n".encode() for fields in _fields(entry.when))
    return _begin(entry.name) + lines + _end(entry.name)


def _paused(entry: Entry) -> bytes:
    head, *lines, end = _block(entry).splitlines(keepends=True)
    return head + b"".join(_PAUSED + line for line in lines) + end


def _found(table: bytes, name: str) -> bytes | None:
    """Return our lines of a name, None where there are none.

    They count only as they are written: the first line, lines that start the visit of that name, and the last line.

    Raises:
        StateError: some of them differ there, or are there twice; only a person can decide which are ours.
    """
    marked = b"# frugal %b: [^\\n]*" % re.escape(name.encode())
    own = b"[^\\n]* -m frugal_sorter visit %b [^\\n]*\\n" % re.escape(name.encode())
    block = b"%b(?:%b)+%b" % (re.escape(_begin(name)), own, re.escape(_end(name)))
    found = re.findall(b"(?m)^%b" % block, table)
    stray = found[1:] + re.findall(b"(?m)^(?:%b|%b)" % (marked, own), re.sub(block, b"", table))
    if stray:
        line = table[: table.rfind(stray[0])].count(b"\n") + 1
        what = f"line {line} of the crontab belongs to {name}, and the lines around it are not as they were written"
        raise StateError(what, f"take all lines of {name} out with `crontab -e`, then try again")
    return found[0] if found else None


def _without(table: bytes, name: str) -> bytes:
    block = _found(table, name)
    return table if block is None else table.replace(block, b"", 1)


def _replace(others: bytes, block: bytes) -> None:
    # A last line without an end would run into ours; cron itself does not take such a table.
    if others and not others.endswith(b"\n"):
        others += b"\n"
    _put(others + block)


def _variables(table: bytes) -> dict[str, str]:
    """Return the variables that a crontab sets for its jobs, as far as they are above ours."""
    found = {}
    for line in table.decode(errors="surrogateescape").splitlines():
        match = re.fullmatch(r"\s*([A-Za-z_][A-Za-z0-9_]*)\s*=\s*(.*?)\s*", line)
        if match and match[1] != "LOGNAME":
            found[match[1]] = match[2].strip("\"'")
    return found


def _daemon_runs() -> bool:
    for path in _PID_FILES:
        try:
            os.kill(int(path.read_text().split()[0]), 0)
        except PermissionError:
            return True  # it is there, and root's
        except (OSError, ValueError, IndexError):
            continue
        return True
    return False
