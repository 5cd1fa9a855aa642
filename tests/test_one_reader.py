"""Whatever the program reads and did not write in this run: damaged, hostile or gone, it costs one line and bounded time."""

from __future__ import annotations

import contextlib
import gzip
import json
import os
import resource
import subprocess
import sys
from collections.abc import Callable
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from frugal_sorter.errors import FrugalError
from frugal_sorter.schedule import cron
from frugal_sorter.schedule.scheduler import SCHEDULERS, Entry, scheduler_of
from frugal_sorter.state import fits, is_count, is_flag, is_moment, is_text, settings_file, state_folder
from tests.conftest import IS_WINDOWS, Frugal
from tests.support import THOROUGH, put, rules_text

pytestmark = pytest.mark.skipif(IS_WINDOWS, reason="pipes, devices and limits of memory")
RULE = rules_text('where = "ext is log"\nmove = "Logs"')


def _kept(name: str) -> Callable[[Path], Path]:
    return lambda _: Path(str(state_folder())) / name


def _trash(name: str) -> Callable[[Path], Path]:
    return lambda _: Path(os.environ["HOME"]) / ".local/share/Trash" / name


# Each format: where its file lies, and the commands that read it; what is before them makes a good one.
FORMATS: dict[str, tuple[Callable[[Path], Path], list[str], list[str]]] = {
    "rule file": (lambda folder: folder / "rules.toml", [], ["check rules.toml", "tidy rules.toml --yes"]),
    "list of a rule": (lambda folder: folder / "keep.txt", [], ["check listed.toml", "preview listed.toml"]),
    "settings": (lambda _: Path(str(settings_file())), [], ["tidy rules.toml --yes"]),
    "saved plan": (lambda folder: folder / "later.plan", ["preview rules.toml --save later.plan"], ["tidy --plan later.plan --yes"]),
    "list to gather": (lambda folder: folder / "list.txt", [], ["gather --list list.txt --from Intake --to Out --yes"]),
    "kept inventory": (
        _kept("inventories/monday.inventory.gz"), ["inventory Intake --save monday"],
        ["compare monday Intake", "forecast Intake", "suggest Intake --since 7d", "report"],
    ),
    "sums of a run": (
        _kept("totals/run-1.json"), ["tidy rules.toml --yes"], ["compare before-run-1 after-run-1", "history 1", "report"],
    ),
    "schedule": (_kept("schedules/nightly.json"), ["MAKE SCHEDULES"], ["schedule list", "schedule check", "schedule show nightly"]),
    "entry of a desktop": (
        lambda _: Path(os.environ["HOME"]) / ".local/share/applications/x.desktop", [], ["leftovers", "leftovers kilnview"],
    ),
    "note of the trash": (_trash("info/a.log.trashinfo"), ["purge Intake --older-than 1d --by modified --yes"], ["trash", "undo --yes"]),
    "sizes of the trash": (_trash("directorysizes"), ["purge Intake --older-than 1d --by modified --yes"], ["trash", "tidy folders.toml --yes"]),
    "number of the last run": (_kept("last-run"), ["tidy rules.toml --yes"], ["preview rules.toml", "history"]),
}  # fmt: skip
GOOD = {
    "list of a rule": "a.log\n", "settings": "keep_days = 300\n", "list to gather": "a.log\n",
    "entry of a desktop": "[Desktop Entry]\nExec=kilnview %f\n", "sizes of the trash": "12 1700000000 sub\n",
}  # fmt: skip


def _written(change: Callable[[bytes], bytes]) -> Callable[[Path], None]:
    def damage(path: Path) -> None:
        path.write_bytes(change(path.read_bytes()))

    return damage


def _flipped(raw: bytes) -> bytes:
    return raw[: len(raw) // 2] + bytes([raw[len(raw) // 2] ^ 0x55]) + raw[len(raw) // 2 + 1 :] if raw else b"\xff"


def _other_types(raw: bytes) -> bytes:
    """Give every value of the file another type, where it is JSON; packed, if it was."""
    is_packed = raw[:2] == b"\x1f\x8b"
    try:
        lines = [json.loads(line) for line in (gzip.decompress(raw) if is_packed else raw).decode().split("\n") if line.strip()]
        if not is_packed and isinstance(json.loads(raw), dict):
            lines = [json.loads(raw)]
    except ValueError:
        return raw.replace(b"=", b"= [", 1).replace(b'"', b"7", 2)
    other: list[object] = [[1], {}, None, -1, 10**30, "x", 1.5]
    odd = [
        {key: other[at % 7] for at, key in enumerate(one)} if isinstance(one, dict) and at == 0
        else [*one[:-1], "x"] if isinstance(one, list) else one
        for at, one in enumerate(lines)
    ]  # fmt: skip
    text = "\n".join(map(json.dumps, odd)).encode()
    return gzip.compress(text) if is_packed else text


def _in_its_place(make: Callable[[Path], object]) -> Callable[[Path], None]:
    def damage(path: Path) -> None:
        path.unlink(missing_ok=True)
        make(path)

    return damage


def _sparse(path: Path) -> None:
    with path.open("wb") as file:
        file.truncate(6_000_000_000)


DAMAGES: dict[str, Callable[[Path], None]] = {
    "cut short": _written(lambda raw: raw[: len(raw) // 2]), "one bit": _written(_flipped), "other types": _written(_other_types),
    "empty": _written(lambda _: b""), "a list": _written(lambda _: b"[]"), "a huge number": _written(lambda _: b"9" * 5_000),
    "deep": _written(lambda _: b"[" * 100_000), "deep and packed": _written(lambda _: gzip.compress(b"[" * 90_000 + b"\n")),
    "a trap": _written(lambda _: gzip.compress(b"a" * 300_000_000)), "no text": _written(lambda _: b"\xff\xfe\x00\xff" * 50),
    "a pipe": _in_its_place(os.mkfifo), "a device": _in_its_place(lambda path: path.symlink_to("/dev/zero")),
    "a folder": _in_its_place(Path.mkdir), "endless": _in_its_place(_sparse),
}  # fmt: skip


_ALL = ("one bit", "other types", "a pipe")
# What would take all time or memory is met by a process with limits.
_ENDLESS = ("deep", "deep and packed", "a trap", "a pipe", "a device", "endless")


def _limited() -> None:
    resource.setrlimit(resource.RLIMIT_AS, (2_000_000_000, 2_000_000_000))


def _run(folder: Path, words: str) -> tuple[int, str]:
    # A program that would wait for ever is ended, and code 124 is none of ours.
    done = subprocess.run(
        ["timeout", "40", sys.executable, "-m", "frugal_sorter", *words.split()], cwd=folder, stdin=subprocess.DEVNULL,
        capture_output=True, text=True, errors="replace", preexec_fn=_limited,
        env={**os.environ, "OPENBLAS_NUM_THREADS": "1"}, check=False,
    )  # fmt: skip
    return done.returncode, done.stdout + done.stderr


@pytest.mark.parametrize("name", FORMATS)
def test_a_damaged_file_costs_one_line_and_hides_no_other(folder: Path, frugal: Frugal, name: str) -> None:
    put(folder / "Intake/a.log", "a", 40)
    put(folder / "Intake/sub/b.log", "b", 40)
    put(folder / "rules.toml", RULE)
    put(folder / "listed.toml", rules_text('where = \'listed in "keep.txt"\'\nmove = "Logs"'))
    put(folder / "folders.toml", rules_text('take = "folders"\nwhere = "name is sub"\ntrash = true'))
    find, before, commands = FORMATS[name]
    for words in before:
        if words == "MAKE SCHEDULES":
            for one in ("nightly", "weekly"):
                _remember(one, folder)
        else:
            frugal(*words.split())
    path = find(folder)
    if name in GOOD:
        put(path, GOOD[name])
    good = path.read_bytes()
    for number, (how, damage) in enumerate(DAMAGES.items()):
        # One function reads all formats: each meets half of what could be endless, the next one the other half.
        if not THOROUGH and how in _ENDLESS and (number + list(FORMATS).index(name)) % 2:
            continue
        if path.is_dir():
            path.rmdir()
        path.unlink(missing_ok=True)
        put(path, good)
        damage(path)
        # What is slow in loading, and reads the same by the same function, meets some of them.
        for words in commands if how in _ALL else commands[:1]:
            if how in _ENDLESS:
                code, said = _run(folder, words)
            else:
                done = frugal(*words.split(), code=None)
                code, said = done.returncode, done.stdout + done.stderr
            assert code in (0, 1, 2, 3) and "Traceback" not in said, (how, words, said[-2_000:])
            if name == "schedule" and words != "schedule show nightly":
                assert "weekly" in said and "nightly" in said, (how, words, said)
            if code == 2:
                assert len(said.strip().splitlines()) < 8, (how, words, said)
        with contextlib.suppress(FileNotFoundError):
            if not path.is_dir():
                path.unlink()


def _remember(name: str, folder: Path) -> None:
    from frugal_sorter.schedule.scheduler import Remembered
    from frugal_sorter.state import ready_state_folder

    entry = Entry(
        name,
        "daily 02:00",
        ("tidy", f"{folder}/rules.toml", "--yes"),
        sys.executable,
        str(folder),
        f"{folder}/rules.toml",
        "cron",
    )
    Remembered(ready_state_folder()).keep(entry)


VALUES = st.recursive(
    st.none() | st.booleans() | st.integers() | st.floats() | st.text(),
    lambda inner: st.lists(inner) | st.dictionaries(st.text(), inner),
)


@given(VALUES)
def test_a_shape_is_asked_of_any_value(value: object) -> None:
    shapes = [is_text, is_count, is_flag, is_moment, [is_text], (is_count, is_text), {"a": is_text}, {"a": [(is_flag,)]}]
    assert sum(fits(value, one) for one in shapes[:3]) <= 1
    for shape in shapes:
        assert isinstance(fits(value, shape), bool)


# What is written for a scheduler is read back as it does


ODD = st.text(st.sampled_from("aB 0%$\\\"'#;&|<>*?~`^=()[]{}!,@äß"), min_size=1, max_size=8).map(lambda name: f"/srv/{name}")


@given(ODD, ODD, st.sampled_from(SCHEDULERS))
def test_whatever_a_folder_is_called_a_schedule_starts_what_was_meant(folder: str, rules: str, name: str) -> None:
    entry = Entry("nightly", "daily 02:00", ("tidy", rules, "--yes"), "/usr/bin/python3", folder, rules, name)
    assert [tuple(words) for words in scheduler_of(name).starts(entry)] == [entry.command_line]


OTHERS = st.lists(
    st.sampled_from([b"5 4 * * * /usr/local/bin/backup\n", b"# mine\n", b"\n", b"MAILTO=root\n", b"# frugal weekly: begin\n"]),
    max_size=3,
)


@given(OTHERS, OTHERS, OTHERS, st.integers(0, 6), st.booleans())
def test_no_line_of_others_ever_leaves_a_crontab(
    above: list[bytes], below: list[bytes], between: list[bytes], gone: int, twice: bool
) -> None:
    entry = Entry("nightly", "daily 02:00 and 14:30", ("tidy", "/srv/r.toml", "--yes"), "/usr/bin/python3", "/srv")
    own = cron._block(entry).splitlines(keepends=True)
    damaged = [line for at, line in enumerate(own) if at != gone]
    damaged[1:1] = between
    table = b"".join([*above, *damaged, *below, *(own if twice else [])])
    others = [*above, *between, *below]
    try:
        left = cron._without(table, "nightly")
    except FrugalError as error:
        assert "crontab" in error.message and "crontab -e" in error.hint
        assert damaged != own or twice
        return
    assert [line for line in left.splitlines(keepends=True) if line in others] == others and b"nightly" not in left
