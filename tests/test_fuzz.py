"""Random trees, random rules over all verbs, a kill, an error or a stop at a random system call; then undo.

Whatever happens: no content is lost but by `delete`, nothing is left over under a private name, undo brings back
every name, content, mode, time and attribute, and no exception gets out. One seed is one case. `make fuzz` goes
on with other seeds for as long as it is told to; FUZZ_SEED names the first one.
"""

from __future__ import annotations

import errno
import json
import os
import random
import shutil
import stat
import subprocess
import tarfile
import traceback
import zipfile
from collections import Counter
from collections.abc import Callable, Iterator
from importlib import import_module
from pathlib import Path

import pytest

from frugal_sorter.execution.executor import changing, execute
from frugal_sorter.execution.undo import plan_undo, run_to_undo
from frugal_sorter.journal.journal import Journal
from frugal_sorter.planning.plan import Plan
from frugal_sorter.state import forget_all, ready_state_folder
from frugal_sorter.steps.kinds import KINDS
from tests.conftest import IS_ROOT
from tests.profiler import Profiler, in_a_fork
from tests.support import NOW_NS, Seen, book_of, plan_of, snapshot

pytestmark = pytest.mark.skipif(not IS_ROOT, reason="needs root, for a second volume and other owners")
# An error that is put in must not meet Python reading a module for the first time.
for _kind in KINDS.values():
    import_module(f"frugal_sorter.steps.{_kind.does.split(':')[0]}")
SHM = Path("/dev/shm")
FIRST = int(os.environ.get("FUZZ_SEED", "20261125"))
# About half a minute on two processors; each of the two halves takes every second seed.
CASES = int(os.environ.get("FUZZ_CASES", "60"))

NAMES = [
    "a.txt", "b.txt", "A.TXT", "-rf", "%s%n.log", "new\nline.txt", "quo'te\".md", "rtl\u202egnp.exe", "bad\udcff\udcfe.bin",
    "\u00e9.txt", "e\u0301.txt", "x" * 251 + ".txt", "y" * 255, " lead.txt", "trail ", "dot.", "CON.txt", ".hidden", "a_2.txt",
    "{name}", "back\\slash.txt", "#c", "a copy.txt", "a (2).txt", "*.txt", "p.jpg", "\u00e4" * 120 + ".txt", "no_ext", "c.csv",
]  # fmt: skip
FOLDERS = ["sub", "S p", ".hid", "bad\udcff", "n\nl", "proj", "a.txt", "B"]
TIMES = [0, 1, 10**18 + 123, 1_600_000_000_123_456_789, NOW_NS - 40 * 86_400 * 10**9, -(10**15), 4 * 10**18]
TARGETS = ["A", "B/{ext}", "{type}", "{modified:%Y}/{initial}", "sub", "../out/{stem}", "deep/1/2/3", "{folder}", ".", "OTHER/x", "OTHER/{type}"]  # fmt: skip
WHERES = [
    "everything", "everything", "ext is txt", "name has a", "size > 10 B", "type is archive", "empty", "not empty", "linked",
    "ext in (txt, log, csv)", "modified older than 1 day", "readonly", "tag is x", 'name like "*.t*"', "depth > 1", "copy-named",
]  # fmt: skip
ENDINGS = ["move"] * 6 + ["rename", "rename", "trash", "trash", "trash", "delete", "pack", "pack", "unpack", "unpack", "duplicates", "duplicates", "none", "leave"]  # fmt: skip


class Case:
    """A random tree, on two volumes, and random rules for it."""

    def __init__(self, seed: int, root: Path, other: Path) -> None:
        self.chance = random.Random(seed)
        self.root, self.other, self.tree = root, other, root / "tree"
        self.made: list[str] = []
        self.deletes = False
        # What is tagged under one name is tagged under all, also where another one goes to another volume meanwhile.
        self.links = self.chance.random() < 0.5
        self.fill(str(self.tree), 0)
        if self.chance.random() < 0.5:
            self.fill(str(other / "x"), 2)
        self.rules = [self.rule() for _ in range(self.chance.randint(1, 4))]

    def fill(self, folder: str, depth: int) -> None:
        chance = self.chance
        os.makedirs(folder, exist_ok=True)
        for _ in range(chance.randint(0, 6)):
            path = os.path.join(folder, chance.choice(NAMES))
            if os.path.lexists(path):
                continue
            kind = chance.random()
            if kind < 0.1 and self.links and self.made and not folder.startswith(str(self.other)):
                os.link(chance.choice(self.made), path)
            elif kind < 0.16:
                os.symlink(chance.choice(["a.txt", "..", "nowhere"]), path)
            elif kind < 0.18:
                os.mkfifo(path)
            elif kind < 0.27:
                self.archive(os.path.join(folder, chance.choice(["z.zip", "t.tar", "broken.zip"])))
            else:
                self.file(path)
        for name in chance.sample(FOLDERS, chance.randint(0, 3)) if depth < 3 else ():
            inside = os.path.join(folder, name)
            if not os.path.lexists(inside):
                self.fill(inside, depth + 1)
                if chance.random() < 0.15:
                    os.chmod(inside, chance.choice([0o555, 0o2775, 0o1777, 0o700]))

    def file(self, path: str) -> None:
        chance = self.chance
        with open(path, "wb") as file:
            if chance.random() < 0.1:
                file.truncate(300_000)
                file.seek(1 << 15)
            same = chance.choice([b"same\n" * 50, b"Q" * 70_000, b"one", b""])
            file.write(same if chance.random() < 0.35 else chance.randbytes(chance.choice([5, 200, 70_000])))
        if chance.random() < 0.2:
            os.chmod(path, chance.choice([0o600, 0o444, 0o000, 0o755, 0o640, 0o4755]))
        if chance.random() < 0.25 and not path.startswith(str(self.other)):
            os.setxattr(path, "user.xdg.tags", chance.choice([b"x", b"x,y", "\u00e9".encode()]))
        if chance.random() < 0.2:
            os.chown(path, 1, 1)
        moment = chance.choice(TIMES)
        os.utime(path, ns=(moment, moment))
        if not path.startswith(str(self.other)):
            self.made.append(path)

    def archive(self, path: str) -> None:
        if os.path.lexists(path):
            return
        if "broken" in path:
            Path(path).write_bytes(b"PK\3\4" + self.chance.randbytes(50))
        elif path.endswith(".zip"):
            with zipfile.ZipFile(path, "w") as archive:
                for number in range(self.chance.randint(0, 4)):
                    archive.writestr(f"m{number}/n.txt", self.chance.randbytes(10))
        else:
            with tarfile.open(path, "w") as tar:
                tar.add(__file__, "d/one.py")
                if self.chance.random() < 0.3:
                    link = tarfile.TarInfo("l")
                    link.type, link.linkname = tarfile.SYMTYPE, self.chance.choice(["d/one.py", "/etc/passwd"])
                    tar.addfile(link)

    def rule(self) -> str:
        chance = self.chance
        ending = chance.choice(ENDINGS)
        self.deletes |= ending == "delete"
        where = "type is archive" if ending == "unpack" else chance.choice(WHERES)
        take = "files" if ending in ("unpack", "duplicates") else chance.choice(["files", "files", "files", "folders", "items"])
        place = json.dumps(chance.choice([[str(self.tree)], [str(self.tree)], [str(self.tree), str(self.other)]]))
        lines = [f"in = {place}", f"where = '{where}'", f'take = "{take}"']
        if take != "items":
            lines.append(f"levels = {chance.choice(['1', '2', json.dumps('all')])}")
        lines += ["hidden = true"] if chance.random() < 0.5 else []
        other = str(self.other)
        lines += {
            "move": [f"move = {json.dumps(chance.choice(TARGETS).replace('OTHER', other))}"],
            "rename": [f"rename = {json.dumps(chance.choice(['{modified:%Y-%m-%d} {name}', '{n:03}-{name}', 'same.txt', '{stem}.bak', '{initial}{n}']))}"],
            "pack": [f"pack = {json.dumps(chance.choice(['P/all.zip', '{type}.zip', other + '/p.zip', 'P/{stem}.zip']))}"],
            "unpack": [f"unpack = {json.dumps(chance.choice(['U/{stem}', '{stem}', other + '/u']))}"],
            "duplicates": [f'duplicates = {{keep = "{chance.choice(["oldest", "shortest-path"])}", do = "{chance.choice(["trash", "hardlink"])}"}}'],
            "none": [],
        }.get(ending, [f"{ending} = true"])  # fmt: skip
        if ending not in ("leave", "duplicates") and (ending == "none" or chance.random() < 0.3):
            extras = {
                "copy": chance.choice(["C", f"{other}/c"]), "link": "Lnk", "tag": ["x", '{ext|"none"}'], "untag": "x",
                "comment": "hi {name}",
            }  # fmt: skip
            names = [name for name in extras if name != "link" or ending in ("move", "rename", "none")]
            names = [name for name in names if name in ("copy", "link") or not self.links]
            lines += [
                f"{name} = {json.dumps(extras[name])}" for name in chance.sample(names, min(len(names), chance.randint(1, 2)))
            ]
        if ending != "leave" and chance.random() < 0.6:
            lines.append(f'clash = "{chance.choice(["number", "skip", "replace", "newer", "same"])}"')
        if chance.random() < 0.3 and ending in ("move", "trash", "delete"):
            lines.append("prune = true")
        return "\n".join(lines)


def kill() -> None:
    os._exit(9)


def error_of(code: int) -> Callable[[], None]:
    def fail() -> None:
        raise OSError(code, os.strerror(code))

    return fail


class Oracle:
    """What must hold after each step of a case."""

    def __init__(self, case: Case, home: Path, plan: Plan) -> None:
        self.case, self.home = case, home
        self.start = self.files()
        self.contents = self.held()
        gone = {os.fsencode(step.place.path) for step in plan.steps if step.verb == "delete"}
        self.may_go = {
            seen.digest for path, seen in self.start.items()
            if seen.kind == "-" and any(path == one or path.startswith(one + b"/") for one in gone)
        }  # fmt: skip
        self.is_exact = not gone

    def files(self) -> dict[bytes, Seen]:
        return {**snapshot(self.case.root), **snapshot(self.case.other.parent)}

    def held(self) -> set[str]:
        trash = snapshot(self.home) | (snapshot(SHM / ".Trash-0") if (SHM / ".Trash-0").exists() else {})
        rows = [*self.files().values(), *trash.values()]
        return {seen.digest for seen in rows if seen.kind == "-"}

    def nothing_lost(self) -> list[str]:
        lost = self.contents - self.held() - self.may_go
        return [f"LOST {path!r}" for path, seen in self.start.items() if seen.digest in lost]

    def as_before(self) -> list[str]:
        problems = [f"LEFT OVER {path!r}" for path in self.files() if b"/.frugal-" in path]
        if self.is_exact:
            now = self.files()
            for path in sorted(self.start.keys() | now.keys()):
                one, other = self.start.get(path), now.get(path)
                if one is not None and other is not None and stat.S_ISDIR(one.mode):
                    one, other = one._replace(mtime_ns=0), other._replace(mtime_ns=0)
                if one != other and path not in (os.fsencode(self.case.root), os.fsencode(self.case.other)):
                    problems.append(f"DIFF {path!r}: {str(one)[:150]} -> {str(other)[:150]}")
        return problems


def run_case(seed: int, root: Path, other: Path, home: Path) -> tuple[str, list[str]]:
    """Carry one case out; return what was done, and what is wrong."""
    case = Case(seed, root, other)
    plan = plan_of(book_of(root, *case.rules))
    if not plan.asked:
        return "nothing to do", []
    oracle, chance = Oracle(case, home, plan), case.chance
    how = chance.choice(["plain", "kill", "kill", "kill", "error", "stop"])
    stopped: list[int] = []
    act = {"kill": kill, "error": error_of(chance.choice([errno.EIO, errno.ENOSPC, errno.EACCES, errno.EMFILE]))}.get(
        how, lambda: stopped.append(1)
    )
    when = 0 if how == "plain" else chance.randint(1, 40 + 12 * len(plan.steps))

    def carry_out() -> None:
        with changing(ready_state_folder(), "fuzz") as journal:
            execute(plan, journal, lambda _step, _mark: None, lambda: bool(stopped))

    code, _, said = in_a_fork(carry_out, Profiler(act, when, chance.random() < 0.5))
    problems = [f"RAISED {said}"] if said and "StateError" not in said and "OSError" not in said else []
    problems += oracle.nothing_lost()
    undone: list[str] = []
    try:
        with changing(ready_state_folder(), "fuzz") as journal:
            ended = [
                (step.id, step.verb, step.group, mark and (mark.outcome.name, mark.reason)) for step, mark in journal.steps(1)
            ]
            back = plan_undo(journal, run_to_undo(journal, 1), NOW_NS)
            undone = [f"STEPS {ended}", *(f"IN THE WAY {left.place.path}: {left.reason}" for left in back.not_touched)]
            result = execute(back, journal, lambda _step, _mark: None)
        undone += [f"NOT UNDONE {step.verb} {step.place.path}: {mark.reason}" for step, mark in result.not_done]
    except Exception as failed:
        with Journal(ready_state_folder(), write=False) as journal:
            runs = [(run.id, run.state) for run in journal.runs()]
        undone = [f"NO UNDO: {failed}; {runs}"]
        if "nothing to undo" not in str(failed) and "does not exist" not in str(failed):
            problems.append(f"UNDO {traceback.format_exc()[-1500:]}")
    problems += oracle.nothing_lost() + oracle.as_before()
    with Journal(ready_state_folder(), write=False) as journal:
        problems += [f"OPEN run {run.id}" for run in journal.interrupted_runs()]
    return f"{how}{' killed' if code == 9 else ''}", [*problems, *undone, said, *case.rules] if problems else []


@pytest.fixture
def places(tmp_path: Path) -> Iterator[tuple[Path, Path]]:
    if not SHM.is_dir():
        pytest.skip("there is no second volume here")
    other = SHM / f"frugal-fuzz-{os.getpid()}/in"
    yield tmp_path.resolve() / "root", other
    for path in (other.parent, SHM / ".Trash-0"):
        subprocess.run(["rm", "-rf", path], check=False)


@pytest.mark.parametrize("half", [0, 1])
def test_random_trees_rules_and_kills_lose_nothing_and_undo_is_the_identity(
    places: tuple[Path, Path], own_home: Path, half: int
) -> None:
    root, other = places
    done: Counter[str] = Counter()
    for seed in range(FIRST + half, FIRST + CASES, 2):
        for path in (root, other.parent, own_home):
            subprocess.run(["chmod", "-R", "u+rwx", path], check=False, capture_output=True)
            shutil.rmtree(path, ignore_errors=True)
            path.mkdir()
        other.mkdir()
        forget_all()
        how, problems = run_case(seed, root, other, own_home)
        done[how] += 1
        text = "\n".join(problems)
        assert not problems, ascii(f"seed {seed} ({how})\n{text}")[:6_000].replace("\\n", "\n")
    assert done["kill killed"] > CASES // 20, done
