"""What programs that are gone left behind: found by whole names only, moved to the trash, and found again."""

from __future__ import annotations

import os
import re
from collections.abc import Callable, Iterator, Sequence
from functools import lru_cache
from shutil import which
from typing import Literal, NamedTuple

from frugal_sorter.app.session import Session
from frugal_sorter.errors import StateError
from frugal_sorter.filesystem.record import FileRecord, Unread, place_of
from frugal_sorter.filesystem.status import look, with_sample
from frugal_sorter.filesystem.walk import Inside, look_inside, unread_for
from frugal_sorter.journal.journal import Journal
from frugal_sorter.planning.guard import refused_entry, refused_folder
from frugal_sorter.planning.matched import Removals, identity_inside
from frugal_sorter.planning.plan import Plan
from frugal_sorter.platforms import disk, processes, slashed
from frugal_sorter.platforms.slashed import Path
from frugal_sorter.reasons import Why
from frugal_sorter.rules.fields import fold
from frugal_sorter.schedule.cron import crontab_of_account
from frugal_sorter.schedule.scheduler import ask_system
from frugal_sorter.state import read_input, ready_state_folder
from frugal_sorter.steps.step import ONE_FILE, Count, NotTouched, folder_of
from frugal_sorter.values import frozen


def rule_of(program: str) -> str:
    """Return what the steps of a run have in place of the name of a rule."""
    return f"leftovers of {program}"


def plan_trashing(session: Session, program: str, found: Sequence[Found], origin: str) -> Plan:
    """Plan to move what a program left behind to the trash; what is doubtful is left.

    Args:
        session: of the command.
        program: its name.
        found: what there is of it.
        origin: the command line.
    """
    rule = rule_of(program)
    with session.changing("leftovers"):
        plan = Plan("leftovers", session.now_ns, origin, rules=[rule], matched={rule}, seen=Count(len(found)))
        removals = Removals()
        for one in found:
            place = one.record.place
            problem = refused_entry(one.path) if one.inside is not None else refused_folder(place.folder)
            if not one.is_sure or problem:
                counted = ONE_FILE if one.inside is None else folder_of(one.inside.files)
                plan.not_touched.append(
                    NotTouched(place, rule, Why.GUARDED(problem) if problem else Why.DOUBTFUL(one.why), counted)
                )
                continue
            record = with_sample(one.record)
            if one.inside is not None:
                record = record._replace(identity=identity_inside(record.identity, one.inside))
            plan.add_group([removals.trash(rule, "", record, one.inside)])
    return session.planned(plan)


def crontab_lines(program: str, note: Callable[[Unread], None]) -> list[tuple[int, str]]:
    """Return the lines of this account's crontab in which a program is named, each with its number; they are only shown.

    Args:
        program: its name.
        note: told where the crontab cannot be read.
    """
    if which("crontab") is None:
        return []
    try:
        lines = crontab_of_account().decode(errors="replace").splitlines()
    except StateError as error:
        note(Unread("the crontab", Why.UNREADABLE(error)))
        return []
    return [
        (number, line)
        for number, line in enumerate(lines, 1)
        if not line.lstrip().startswith("#")
        and any(likeness(os.path.basename(word.strip("'\"();&|")), program)[0] == "sure" for word in line.split())
    ]


def trashed_runs() -> dict[str, int]:
    """Return the last run that moved what a program had left to the trash and was not taken back, by the name of the program."""
    found: dict[str, int] = {}
    before = rule_of("")
    with Journal(ready_state_folder(), write=False) as journal:
        for run in journal.runs():
            if run.kind == "leftovers" and run.undone_by is None:
                rules = {step.rule for step, _ in journal.steps(run.id)}
                found |= {rule.removeprefix(before): run.id for rule in rules if rule.startswith(before)}
    return found


def trashed_before(program: str) -> int | None:
    """Return the last run that moved something of a program to the trash and was not taken back; None for no run."""
    return next((run for name, run in trashed_runs().items() if joined(name) == joined(program)), None)


class CameBack(NamedTuple):
    """A program that is installed again: its name, by what it is there, and the run that took what it had left."""

    program: str
    where: str
    run: int


def came_back() -> list[CameBack]:
    """Return the programs that are installed again after their leftovers went to the trash."""
    return [CameBack(name, where, run) for name, run in trashed_runs().items() if (where := where_installed(name))]


def home() -> str:
    """Return the home of this account, resolved."""
    return slashed.realpath(slashed.expanduser("~"))


# Sure, or doubtful: named after it together with something else.
Likeness = Literal["sure", "doubtful", ""]
_SUFFIXES = tuple(
    f".{suffix}" for suffix in "desktop service timer socket conf cfg ini json toml yaml yml xml log db lock d".split()
)
_WORD = re.compile(r"[^\W_]+")


def words_of(name: str) -> list[str]:
    """Return the words of a name: what is between other signs, and at a change to capitals."""
    parted = re.sub(r"(?<=[a-z0-9])(?=[A-Z])", " ", name)
    return [fold(word) for word in _WORD.findall(parted)]


def joined(name: str) -> str:
    """Return a name without any sign between its words."""
    return "".join(fold(word) for word in _WORD.findall(name))


def likeness(entry: str, program: str) -> tuple[Likeness, str]:
    """Return how surely an entry is named after a program, and why.

    Args:
        entry: its name.
        program: the name of the program.
    """
    bare = entry.lstrip(".")
    for suffix in _SUFFIXES:
        if bare.endswith(suffix) and len(bare) > len(suffix):
            bare = bare.removesuffix(suffix)
            break
    wanted = joined(program)
    if not wanted or not bare:
        return "", ""
    if joined(bare) == wanted:
        return "sure", "has its name"
    rest = joined(bare).removeprefix(wanted) if joined(bare).startswith(wanted) else ""
    if rest in ("rc", "history") or rest.isdigit():
        return "sure", "has its name and a settings-file extension"
    parts = bare.split(".")
    if len(parts) >= 3 and all(part and re.fullmatch(r"[\w-]+", part) for part in parts) and joined(parts[-1]) == wanted:
        return "sure", "has its name in reverse-domain form"
    words, own = words_of(bare), words_of(program)
    for at in range(len(words) - len(own) + 1):
        if words[at : at + len(own)] == own:
            return "doubtful", "has its name together with other words"
    if wanted in words:
        return "doubtful", "has its name together with other words"
    return "", ""


_APPLICATIONS = ("/usr/share/applications", "/usr/local/share/applications")
_FLATPAKS = ("/var/lib/flatpak/app", "~/.local/share/flatpak/app")
_SNAPS = ("/snap", "/var/lib/snapd/snap")


def _said(*command: str) -> list[str]:
    """Return what a package manager says; nothing where it is not there, or does not end."""
    try:
        return ask_system(command).stdout.decode(errors="replace").splitlines()
    except StateError:
        return []


@lru_cache(maxsize=1)
def _packages() -> dict[str, str]:
    """Return what package managers have, by name: `installed`, or `removed` where only settings are left."""
    found: dict[str, str] = {}
    for line in _said("dpkg-query", "-W", "-f", "${db:Status-Abbrev} ${Package}\n"):
        state, _, name = line.partition(" ")
        name = name.strip()
        if name:
            found[joined(name)] = "installed" if state[1:2] == "i" else "removed"
    for name, state in processes.registered().items():
        found[joined(name)] = state
    for name in _said("rpm", "-qa", "--qf", "%{NAME}\n"):
        found[joined(name)] = "installed"
    return found


@lru_cache(maxsize=1)
def _commands() -> dict[str, str]:
    found: dict[str, str] = {}
    for folder in reversed(os.environ.get("PATH", "").split(os.pathsep)):
        try:
            names = disk.listdir(folder) if folder else []
        except OSError:
            continue
        for name in names:
            path = slashed.join(folder, name)
            if disk.access(path, os.X_OK) and not disk.isdir(path):
                found[joined(processes.command_name(name))] = path
    return found


def where_installed(program: str) -> str:
    """Return by what a program is still there, in words; empty where it is not."""
    wanted = joined(program)
    if wanted in _commands():
        return f"the command {_commands()[wanted]}"
    if _packages().get(wanted) == "installed":
        return f"the package {program}"
    for folders, what in ((_FLATPAKS, "flatpak"), (_SNAPS, "snap")):
        for folder in folders:
            for name in _names(slashed.expanduser(folder)):
                if joined(name) == wanted or joined(name.rpartition(".")[2]) == wanted:
                    return f"the {what} {name}"
    for folder in _APPLICATIONS:
        for name in _names(folder):
            stem = name.removesuffix(".desktop")
            if joined(stem) == wanted or joined(stem.rpartition(".")[2]) == wanted:
                return f"its entry {folder}/{name}"
    return ""


def is_removed(program: str) -> bool:
    """Return True if a package manager says that it was removed and its settings were not."""
    return _packages().get(joined(program)) == "removed"


def owner_of(path: str) -> str:
    """Return the installed package that a path belongs to; empty for none."""
    for line in _said("dpkg-query", "-S", path):
        names, _, found = line.partition(": ")
        if found.strip() == path:
            for name in names.split(", "):
                if _packages().get(joined(name.partition(":")[0])) == "installed":
                    return name
    return ""


def command_of(text: str, key: str) -> str:
    """Return the name of the program that an entry of a desktop or a unit starts; empty where it names none."""
    for line in text.splitlines():
        name, equals, value = line.partition("=")
        if equals and name.strip() == key and value.split():
            return Path(value.split()[0].strip('"').lstrip("-@!+:")).name
    return ""


_LARGEST_TEXT = 100_000
Note = Callable[[Unread], None]
# Of the desktop itself: nobody's leftovers.
_OF_THE_DESKTOP = frozenset(
    "autostart applications icons mime menus fontconfig dconf systemd user-dirs.dirs user-dirs.locale mimeapps.list environment.d"
    " pulse gtk-2.0 gtk-3.0 gtk-4.0 trash keyrings recently-used.xbel themes fonts sounds backgrounds desktop-directories"
    " microsoft .config .cache .local .ssh .gnupg .bashrc .profile .bash_history .bash_logout .zshrc .var .pki .dbus .lesshst"
    " .viminfo .selected_editor .wget-hsts .sudo_as_admin_successful .python_history frugal-sorter".split()
)


@frozen
class Found:
    """An entry that a program may have left behind.

    Args:
        record: it.
        inside: what is in it, for a folder.
        why: it is taken for the program's.
        is_sure: it is; one that is not is listed apart and never taken.
    """

    record: FileRecord
    inside: Inside | None
    why: str
    is_sure: bool

    @property
    def path(self) -> str:
        """Where it is."""
        return self.record.place.path

    @property
    def bytes(self) -> int:
        """How much it is."""
        return self.record.identity.size if self.inside is None else self.inside.bytes

    @property
    def used_ns(self) -> int:
        """When something of it was last written."""
        return self.record.mtime_ns if self.inside is None else max(self.inside.newest_ns or 0, 0)


def search(program: str, home: str, is_root: bool, note: Note) -> list[Found]:
    """Return what a program has left behind, the sure ones first, each by its path.

    Args:
        program: its name.
        home: of the account.
        is_root: places of the whole machine are looked at, too.
        note: called with each folder that could not be read.
    """
    found: dict[str, Found] = {}
    for path, name in _entries(home, is_root, note):
        how, why = likeness(name, program)
        if not how and (starts := _by_what_it_starts(path, name, program)):
            how, why = "sure", starts
        if how and path not in found and (one := _found(path, why, how == "sure")) is not None:
            found[path] = one
    # What is in one that is taken whole belongs to it.
    inner = [path for path in found if any(path.startswith(f"{other}/") for other in found if found[other].is_sure)]
    for path in inner:
        del found[path]
    return sorted(found.values(), key=lambda one: (not one.is_sure, one.path))


def _entries(home: str, is_root: bool, note: Note) -> Iterator[tuple[str, str]]:
    """Yield the path and the name of what is in the places of programs, and one level further below makers of several."""
    for folder, only_hidden in processes.places(home, is_root):
        for name in _names(folder, note):
            path = f"{folder}/{name}"
            if only_hidden and not name.startswith("."):
                continue
            yield path, name
            # Some keep their programs together, in a folder that is all of theirs.
            if not only_hidden and disk.isdir(path) and not disk.islink(path) and name not in _OF_THE_DESKTOP:
                for inner in _names(path, note):
                    if disk.isdir(f"{path}/{inner}"):
                        yield f"{path}/{inner}", inner


def _by_what_it_starts(path: str, name: str, program: str) -> str:
    """Return why an entry of a desktop, or a unit, is a program's: it starts it; empty where it does not."""
    keys = {".desktop": "Exec", ".service": "ExecStart"}
    key = next((key for suffix, key in keys.items() if name.endswith(suffix)), "")
    if not key or disk.islink(path):
        return ""
    try:
        text = read_input(path, _LARGEST_TEXT).decode("utf-8", "replace")
    except OSError:
        return ""
    return "starts it" if likeness(command_of(text, key), program)[0] == "sure" else ""


def _found(path: str, why: str, is_sure: bool) -> Found | None:
    try:
        record = look(place_of(path))
    except OSError:
        return None
    kind = record.identity.kind
    inside = look_inside(path) if kind == "folder" else None
    if kind not in ("file", "folder"):
        return Found(record, None, f"{why}, but is a link", False)
    if inside is not None and not isinstance(inside, Inside):
        return Found(record, None, f"{why}, but {inside.reason}", False)
    if is_sure and path.startswith(processes.SYSTEM_PLACES) and (owner := owner_of(path)):
        return Found(record, inside, f"belongs to the installed package {owner}", False)
    if inside is not None and inside.version_control:
        return Found(record, inside, f"{why}, but contains a version-controlled tree", False)
    return Found(record, inside, why, is_sure)


def unclaimed(home: str, note: Note) -> list[Found]:
    """Return what is configured below a home and belongs to no installed program that is known, the largest first.

    Args:
        home: of the account.
        note: called with each folder that could not be read.
    """
    found = []
    for folder, only_hidden in processes.places(home, False):
        if os.path.basename(folder) in ("autostart", "user", "applications"):
            continue
        for name in _names(folder, note):
            if name.lower() in _OF_THE_DESKTOP or (only_hidden and not name.startswith(".")):
                continue
            bare = name.lstrip(".").partition(".")[0] if name.count(".") < 2 else name.rpartition(".")[2]
            if where_installed(bare):
                continue
            one = _found(f"{folder}/{name}", "no installed program has its name", False)
            found += [] if one is None else [one]
    return sorted(found, key=lambda one: (-one.bytes, one.path))


def _names(folder: str, note: Note = lambda _: None) -> list[str]:
    """Return the names in a folder, sorted; none where it is not there or, which is noted, cannot be read."""
    try:
        return sorted(disk.listdir(folder))
    except (FileNotFoundError, NotADirectoryError):
        return []
    except OSError as error:
        note(unread_for(folder, error))
        return []
