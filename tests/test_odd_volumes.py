"""Volumes of every kind: what is done there is taken back, done again, and leaves nothing under a private name."""

from __future__ import annotations

import os
import subprocess
from pathlib import Path
from typing import cast

import pytest

from frugal_sorter.filesystem.record import place_of
from frugal_sorter.filesystem.status import look
from frugal_sorter.filesystem.volumes import mount_at
from frugal_sorter.journal.journal import Journal
from frugal_sorter.state import ready_state_folder
from frugal_sorter.steps import step as steps
from frugal_sorter.steps.kinds import KINDS, VerbName
from tests.conftest import AS_ROOT, Frugal, Mount
from tests.support import THOROUGH, put, rules_text, snapshot

VOLUMES = ["ext4", "tmpfs", "exfat", "overlay", "overlay over another volume", "overlay with numbers of its own", "bind"]
RULES = {
    "move": 'move = "N"', "move and tag": 'move = "N"\ntag = "kept"', "rename": 'rename = "old {name}"', "trash": "trash = true",
    "copy": 'copy = "C"', "pack": 'pack = "P/all.zip"', "hard link": 'duplicates = {keep = "shortest-path", do = "hardlink"}',
    "trash duplicates": 'duplicates = {keep = "shortest-path", do = "trash"}', "out of it": 'move = "{F}/Out"',
    "folder": 'take = "folders"\nmove = "N"', "trash a folder": 'take = "folders"\ntrash = true',
}  # fmt: skip


def lay_out(folder: Path, mount: Mount, kind: str) -> Path:
    """Return a folder on a volume of a kind, with files that were there before it was mounted where that is possible."""
    low = folder / "volume.low"
    if "another" in kind:
        mount("tmpfs", "volume.low")
    at = folder / "volume" if kind in ("ext4", "tmpfs", "exfat") else low
    if at != low:
        mount(kind)
    for name in ("a.log", "b.log", "sub/c.log", "sub/deep/d.log"):
        put(at / "Intake" / name, "the same" if name < "c" else name, 40)
    if at == low:
        mount("bind" if kind == "bind" else "overlay", **({"xino": "on"} if "numbers" in kind else {}))
    return folder / "volume/Intake"


def state(folder: Path) -> dict[bytes, object]:
    """Return what undo must bring back: FAT keeps times of folders to two seconds, and a zip is made anew."""
    return {
        path: seen._replace(mtime_ns=0, digest="") if seen.kind == "d" or path.endswith(b".zip") else seen
        for path, seen in snapshot(folder).items()
    }


@AS_ROOT
@pytest.mark.parametrize("kind", VOLUMES)
@pytest.mark.parametrize("rule", RULES)
def test_there_and_back_on_every_kind_of_volume(folder: Path, frugal: Frugal, mount: Mount, kind: str, rule: str) -> None:
    intake = lay_out(folder, mount, kind)
    where = "everything" if "folder" in rule else "ext is log"
    text = rules_text(f'in = "{intake}"\nwhere = "{where}"\n' + RULES[rule].replace("{F}", str(folder)))
    rules = put(folder / "rules.toml", text)
    before = state(intake)
    done = frugal("tidy", rules, "--yes", code=None)
    # A volume may have no links, no attributes, or no renames of folders: that is said, and nothing is half done.
    is_done = done.returncode == 0
    refusing = {"exfat": ("move and tag", "hard link"), "overlay": ("folder", "trash a folder")}
    assert is_done or rule in refusing.get(kind.split()[0], ()), done.stdout
    assert is_done or any(why in done.stdout for why in ("not supported", "no permission", "lower layer of an overlay")), (
        done.stdout
    )
    after = state(intake)
    assert (after != before) is is_done or rule == "hard link"
    if is_done:
        assert "Nothing" in frugal("tidy", rules, "--yes").stdout
    there_and_back = (before, ("undo", "--yes")), (after, ("undo", "2", "--yes")), (before, ("undo", "3", "--yes"))
    for wanted, words in there_and_back if THOROUGH or kind == "ext4" else there_and_back[:1]:
        if not is_done:
            break
        frugal(*words)
        assert state(intake) == wanted, words
        assert not list(folder.rglob(".frugal-*"))
    with Journal(ready_state_folder(), write=False) as journal:
        assert not journal.interrupted_runs()


@AS_ROOT
def test_two_mounts_of_one_volume_are_two_and_a_folder_to_come_is_where_it_will_be(folder: Path, mount: Mount) -> None:
    at = mount("bind")
    assert os.lstat(at).st_dev == os.lstat(folder).st_dev
    assert mount_at(str(at)) != mount_at(str(folder)) == mount_at(str(folder / "volume.low"))
    assert mount_at(f"{at}/to/come") == mount_at(str(at))


@AS_ROOT
def test_an_identity_has_no_birth_where_a_first_change_gives_a_new_one(folder: Path, mount: Mount) -> None:
    intake = lay_out(folder, mount, "overlay")
    file = place_of(str(intake / "a.log"))
    first = look(file)
    os.chmod(file.path, 0o600)
    now = look(file)
    assert first.born_ns != now.born_ns and first.identity == now.identity and now.identity.same_who(first.identity)


@AS_ROOT
@pytest.mark.parametrize("ending", ["delete = true", "trash = true"])
def test_a_folder_in_which_something_is_mounted_stays_whole(folder: Path, frugal: Frugal, ending: str) -> None:
    put(folder / "elsewhere/precious.log", "p", 40)
    put(folder / "Intake/old/a.log", "a", 40)
    (folder / "Intake/old/mounted").mkdir()
    subprocess.run(["mount", "--bind", folder / "elsewhere", folder / "Intake/old/mounted"], check=True)
    try:
        rules = put(folder / "rules.toml", rules_text(f'take = "folders"\nwhere = "name is old"\n{ending}'))
        assert "another volume is mounted" in frugal("tidy", rules, "--yes", code=1).stdout
        assert (folder / "elsewhere/precious.log").exists() and (folder / "Intake/old/a.log").exists()
    finally:
        subprocess.run(["umount", folder / "Intake/old/mounted"], check=True)


MADE = [verb for verb, kind in KINDS.items() if kind.target and kind.source]


@pytest.mark.parametrize("verb", MADE)
@pytest.mark.parametrize("side", ["source", "target"])
@pytest.mark.parametrize("how", ["not done", "error"])
def test_what_stands_under_a_private_name_keeps_its_run_open(folder: Path, verb: str, side: str, how: str) -> None:
    from frugal_sorter.changes.descriptors import Descriptors
    from frugal_sorter.reasons import NotDone, Outcome, Why
    from frugal_sorter.steps.step import Step, verbs_for

    source, target = put(folder / "from/a.log"), folder / "to/a.log"
    target.parent.mkdir()
    with Descriptors() as descriptors:
        context = steps.RunContext(descriptors, 7, token="abc")
        step = Step(
            3, cast(VerbName, verb), "r", "k", place_of(str(source)), place_of(str(target)), look(place_of(str(source))).identity
        )
        of_its_kind = verbs_for(context)[step.verb]

        def fails(step: Step) -> steps.Mark:
            put((source if side == "source" else target).with_name(context.private(step)))
            raise NotDone(Why.CHANGED()) if how == "not done" else OSError(5, "Input/output error")

        of_its_kind.do = fails  # type: ignore[method-assign]
        mark = steps.attempt(of_its_kind, step)
    assert mark.outcome is Outcome.OPEN and ".frugal-7-3-abc stays" in mark.reason
