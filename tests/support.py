"""What several tests need: trees, snapshots of them, rules, and runs without a terminal."""

from __future__ import annotations

import hashlib
import os
import re
import stat
import struct
import sys
import time
from collections import Counter
from collections.abc import Callable, Iterable
from pathlib import Path
from threading import Event
from typing import NamedTuple
from urllib.parse import unquote

from hypothesis import strategies as st

from frugal_sorter.app.rules import plan_rules
from frugal_sorter.app.session import Session
from frugal_sorter.app.undo import plan_undoing
from frugal_sorter.execution.executor import Result, execute
from frugal_sorter.filesystem.record import TYPE_OF_SUFFIX, TYPES, Place
from frugal_sorter.filesystem.status import look
from frugal_sorter.filesystem.walk import look_inside
from frugal_sorter.planning.endings import EarlierRuns
from frugal_sorter.planning.plan import Plan
from frugal_sorter.platforms import slashed
from frugal_sorter.platforms.system import refused_here
from frugal_sorter.rules.conditions import parse_condition
from frugal_sorter.rules.fields import Facts, World
from frugal_sorter.rules.load import read_rules
from frugal_sorter.rules.model import RuleBook
from frugal_sorter.rules.tree import Node


def done_by(result: Result) -> dict[str, int]:
    """Return how many entries were changed by each verb."""
    return {verb: count.entries for verb, count in result.done.items()}


# Whether every point is tried instead of the same part of them each time.
THOROUGH = bool(os.environ.get("FUZZ"))
DAY_NS = 86_400_000_000_000
# 2026-11-23 12:00 in Berlin.
NOW_NS = 1_795_431_600_000_000_000
WORLD = World(NOW_NS, "front-desk", "maren")


class Seen(NamedTuple):
    kind: str
    mode: int
    size: int
    mtime_ns: int
    digest: str
    attributes: tuple[tuple[str, bytes], ...] = ()


def snapshot(folder: Path) -> dict[bytes, Seen]:
    """Return all that undo must bring back, of every entry below a folder."""
    found = {}
    for parent, folders, files in os.walk(os.fsencode(folder)):
        for name in [b".", *folders, *files]:
            path = os.path.join(parent, name)
            status = os.lstat(path)
            digest = ""
            if stat.S_ISREG(status.st_mode):
                with open(path, "rb") as file:
                    digest = hashlib.sha256(file.read()).hexdigest()
            kind = stat.filemode(status.st_mode)[0]
            size = 0 if kind == "d" else status.st_size
            attributes = () if kind == "l" else _attributes(path)
            found[os.path.normpath(path)] = Seen(kind, status.st_mode, size, status.st_mtime_ns, digest, attributes)
    return found


def _attributes(path: bytes) -> tuple[tuple[str, bytes], ...]:
    if sys.platform != "linux":
        return ()
    try:
        return tuple((key, os.getxattr(path, key)) for key in sorted(os.listxattr(path)))
    except OSError:
        return ()  # the volume keeps none


def trash_of(home: Path) -> dict[str, str]:
    """Return what is in the trash of a home: the name there, and where it was."""
    info = home / ".local/share/Trash/info"
    found = {}
    for path in info.glob("*.trashinfo") if info.exists() else ():
        line = next(line for line in path.read_text().splitlines() if line.startswith("Path="))
        found[path.name.removesuffix(".trashinfo")] = unquote(line.removeprefix("Path="), errors="surrogateescape")
    return found


def contents(folder: Path) -> Counter[str]:
    """Count every content below a folder, by digest."""
    return Counter(seen.digest for seen in snapshot(folder).values() if seen.kind == "-")


def put(path: Path, body: bytes | str = b"clay", age_days: float = 10, now_ns: int = NOW_NS) -> Path:
    """Write a file that was last written some days before now."""
    path.parent.mkdir(parents=True, exist_ok=True)
    path.write_bytes(body.encode() if isinstance(body, str) else body)
    stamp = now_ns - int(age_days * DAY_NS)
    os.utime(path, ns=(stamp, stamp))
    return path


def write_song(path: Path, artist: str) -> None:
    """Write a short recording with a title and an artist."""
    import mutagen.id3

    path.write_bytes((struct.pack(">I", 0xFFFB9064) + bytes(413)) * 20)
    tags = mutagen.id3.ID3()  # type: ignore[no-untyped-call]
    tags.add(mutagen.id3.TIT2(encoding=3, text="Wheel song"))  # type: ignore[no-untyped-call]
    tags.add(mutagen.id3.TPE1(encoding=3, text=artist))  # type: ignore[no-untyped-call]
    tags.save(path)


def rules_text(*rules: str, head: str = "") -> str:
    """Return a rule file; each rule is the lines after its name and `in`."""
    parts = [f"frugal = 1\n{head}"]
    for index, rule in enumerate(rules):
        place = "" if "in =" in rule else 'in = "Intake"\n'
        parts.append(f'[[rule]]\nname = "rule {index}"\n{place}{rule}\n')
    return "\n".join(parts)


def book_of(folder: Path, *rules: str, head: str = "") -> RuleBook:
    """Read a rule file that lies in a folder."""
    return read_rules(rules_text(*rules, head=head).encode(), folder / "rules.toml")


SESSION = Session(NOW_NS, WORLD.machine, WORLD.user)


def plan_of(book: RuleBook, world: World = WORLD, again: bool = False, at_most: int | None = None) -> Plan:
    """Plan as `tidy` does, knowing what the journal knows."""
    return plan_rules(Session(world.now_ns, world.machine, world.user), book, again, at_most)


# What a question ends with.
_PROMPT = re.compile(rb"(?:\]|:) $")


def on_terminal(
    folder: Path, *words: str | Path, answers: str = "", columns: int = 0, before: Callable[[], object] = lambda: None,
    **more: str,
) -> tuple[int, str]:  # fmt: skip
    """Run the program on a terminal of its own; return its exit code and everything that it shows.

    Args:
        folder: where it runs.
        words: of the command.
        answers: a line to each question, the end of the input to any more; what comes before a question is not an answer.
        columns: how wide the terminal is; 0 for one so wide that no line is broken.
        before: called before each answer.
        more: variables.
    """
    import fcntl
    import pty
    import termios

    pid, terminal = pty.fork()
    if pid == 0:
        os.chdir(folder)
        if columns:
            fcntl.ioctl(0, termios.TIOCSWINSZ, struct.pack("HHHH", 24, columns, 0, 0))
        else:
            os.environ |= {"COLUMNS": os.environ.get("COLUMNS", "300"), "TERM": "dumb"}
        os.environ |= more
        os.execv(sys.executable, [sys.executable, "-m", "frugal_sorter", *map(str, words)])
    lines, shown = answers.splitlines(), b""
    try:
        while part := os.read(terminal, 65_536):
            shown += part
            if _PROMPT.search(shown):
                before()
                os.write(terminal, lines.pop(0).encode() + b"\n" if lines else b"\x04")
    except OSError:  # the terminal is gone when the program has ended
        pass
    code = os.waitstatus_to_exitcode(os.waitpid(pid, 0)[1])
    os.close(terminal)
    return code, shown.decode(errors="replace").replace("\r\n", "\n")


def carry_out(plan: Plan) -> Result:
    """Carry a plan out as `tidy` does, without a terminal."""
    with SESSION.changing("test") as journal:
        return execute(plan, journal, lambda _step, _mark: None)


def undo(number: int | None = None) -> Result:
    """Take a run back as `undo` does."""
    plan = plan_undoing(SESSION, number).plan
    return carry_out(plan)


def moves_of(plan: Plan, base: Path) -> dict[str, str]:
    """Return where a plan moves what, as paths below a base folder."""
    return {slashed.relpath(step.place.path, base): slashed.relpath(step.target.path, base) for step in plan.asked if step.target}


def facts_of(path: Path, base: Path, world: World = WORLD) -> Facts:
    """Return the facts of one file."""
    record = look(Place(str(path.parent), path.name))
    inside = look_inside(str(path)) if record.identity.kind == "folder" else None
    return Facts(record, str(base), TYPE_OF_SUFFIX, world, inside)


def condition(text: str, types: Iterable[str] = TYPES) -> Node:
    """Read a condition."""
    return parse_condition(text, list(types)).node


NO_PAST = EarlierRuns()

_letters = st.characters(exclude_characters="/\0")
_text = st.text(_letters.filter(lambda letter: not 0xD800 <= ord(letter) <= 0xDFFF), min_size=1, max_size=20)
_forms = [
    _text.filter(lambda name: len(os.fsencode(name)) < 200),
    st.tuples(st.sampled_from(["kiln", "IMG 1", "a_2", "-x", ".dot", "CON"]), st.sampled_from(["", ".jpg", ".LOG", ".tar.gz"])).map("".join),
]  # fmt: skip
if sys.platform != "win32":
    # There a name is text; here it is any bytes.
    _forms.append(st.binary(min_size=1, max_size=20).filter(lambda raw: not {0, 47} & set(raw)).map(os.fsdecode))
_names = st.one_of(_forms)
_TAKEN = (".", "..", "rules.toml", ".git", "CVS", ".svn", ".hg", ".bzr")
file_names = _names.filter(lambda name: name not in _TAKEN and not refused_here(name))


def aged(path: Path, days: float, body: str = "clay") -> Path:
    """Write a file that was last written and opened some days before this moment."""
    return put(path, body, days, time.time_ns())


def names(folder: Path) -> set[str]:
    """Return the paths of the files below a folder."""
    return {path.relative_to(folder).as_posix() for path in folder.rglob("*") if path.is_file()}


def wait_until(is_so: Callable[[], object], seconds: float = 60) -> None:
    """Wait for another process to get somewhere; fail where it does not in so many seconds."""
    deadline, never = time.monotonic() + seconds, Event()
    while not is_so():
        assert time.monotonic() < deadline, "what was waited for did not happen"
        never.wait(0.005)
