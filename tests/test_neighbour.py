"""Other accounts: whose links are followed, which files are believed, and a neighbour who swaps everything while root works."""

from __future__ import annotations

import os
import random
import signal
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from frugal_sorter.cli import CHANGING
from frugal_sorter.errors import FrugalError
from frugal_sorter.filesystem.tree import LIST
from frugal_sorter.planning.plan import load_plan
from frugal_sorter.platforms import disk, slashed
from frugal_sorter.rules.load import load_rules
from frugal_sorter.state import distrusted, read_settings, ready_state_folder, settings_file
from tests.conftest import IS_ROOT, Frugal
from tests.support import THOROUGH, contents, put, rules_text, snapshot

pytestmark = pytest.mark.skipif(not IS_ROOT, reason="only root can be two accounts at once")
NEIGHBOUR, VICTIM = 7101, 7102


@contextmanager
def acting_as(account: int) -> Iterator[None]:
    """Act as another account, in this process, for a while."""
    os.setegid(account)
    os.seteuid(account)
    try:
        yield
    finally:
        os.seteuid(0)
        os.setegid(0)


# Whose links are followed


# Who owns the link, the folder that it is in and what it leads to, and whether root and the neighbour follow it.
OWNERS = [
    (0, 0, 0, True, True), (0, 0, VICTIM, True, True), (NEIGHBOUR, 0, 0, False, True), (VICTIM, 0, VICTIM, False, False),
    (0, NEIGHBOUR, NEIGHBOUR, True, True), (0, NEIGHBOUR, VICTIM, False, True), (0, NEIGHBOUR, 0, False, True),
    (NEIGHBOUR, NEIGHBOUR, NEIGHBOUR, False, True), (NEIGHBOUR, NEIGHBOUR, VICTIM, False, True), (VICTIM, NEIGHBOUR, VICTIM, False, False),
]  # fmt: skip


@pytest.mark.parametrize(("link", "around", "place", "by_root", "by_neighbour"), OWNERS)
@pytest.mark.parametrize("is_relative", [True, False])
def test_links_have_owners(
    tmp_path: Path, link: int, around: int, place: int, by_root: bool, by_neighbour: bool, is_relative: bool
) -> None:
    for above in (tmp_path, *tmp_path.parents[:3]):
        above.chmod(0o755)
    target, folder = tmp_path / "place", tmp_path / "folder"
    for path, owner in ((target, place), (folder, around)):
        path.mkdir()
        os.chown(path, owner, owner)
    (folder / "link").symlink_to("../place" if is_relative else target)
    os.lchown(folder / "link", link, link)
    named = folder / "link/below/../file.txt"
    for account, follows in ((0, by_root), (NEIGHBOUR, by_neighbour)):
        with acting_as(account):
            found = slashed.realpath(named)
        assert found == str(target / "file.txt" if follows else folder / "link/file.txt")
        assert slashed.unfollowed(found) == (None if follows else (str(folder / "link"), link))
    # Without links on the way any path is itself, and is opened.
    descriptor = disk.open(str(target), LIST)
    disk.close(descriptor)
    with pytest.raises(OSError, match=r"symbolic links|Not a directory"):
        disk.open(str(folder / "link/below"), LIST)


PARTS = st.lists(st.sampled_from(["a", "b", "up", "round", "l", "m", "..", ".", "", "gone"]), max_size=8)


@given(PARTS)
@settings(max_examples=300)
def test_among_ones_own_links_every_path_leads_where_the_system_says(
    tmp_path_factory: pytest.TempPathFactory, parts: list[str]
) -> None:
    root = Path(tmp_path_factory.getbasetemp().resolve()) / "links"
    if not root.exists():
        (root / "a/b/a").mkdir(parents=True)
        for at, leads in (
            ("l", "a"),
            ("m", "l/b"),
            ("a/l", str(root / "a/b")),
            ("a/up", ".."),
            ("a/b/m", "../../m"),
            ("round", "round"),
            ("a/m", "gone"),
        ):
            (root / at).symlink_to(leads)
    path = "/".join([str(root), *parts])
    expected = os.path.realpath(path)
    if "round" not in parts:
        assert slashed.realpath(path) == expected
    else:
        assert slashed.realpath(path).startswith("/")  # it comes to an end


# What is believed


def believers(folder: Path) -> dict[str, tuple[Path, str]]:
    """Return, by name, a file that tells the program what to run or to do, and what it says."""
    return {
        "rule file": (folder / "rules.toml", rules_text('where = "everything"\nrun = ["true"]')),
        "settings": (slashed.Path(settings_file()), '[on-problem]\nrun = ["true"]\n'), "saved plan": (folder / "later.plan", ""),
        "schedule": (folder / "nightly.toml", rules_text('where = "everything"\nmove = "x"')),
    }  # fmt: skip


SPOILING = ["the file", "its owner", "the folder", "a folder above", "the owner of a folder", "a link to it"]


@pytest.mark.parametrize("spoiled", ["", *SPOILING])
@pytest.mark.parametrize("who", ["rule file", "settings", "saved plan", "schedule"])
def test_what_others_can_change_is_believed_by_nobody(folder: Path, frugal: Frugal, who: str, spoiled: str) -> None:
    put(folder / "Intake/a.log")
    path, text = believers(folder)[who]
    if who == "saved plan":
        put(folder / "some.toml", rules_text('where = "everything"\nmove = "x"'))
        frugal("preview", "some.toml", "--save", path)
    else:
        put(path, text)
    named = path
    above = path.parent.parent if who == "settings" else path.parent
    if spoiled == "the file":
        path.chmod(0o666)
    elif spoiled == "its owner":
        os.chown(path, NEIGHBOUR, NEIGHBOUR)
    elif spoiled == "the folder":
        path.parent.chmod(0o777)
    elif spoiled == "a folder above":
        above.chmod(0o777)
    elif spoiled == "the owner of a folder":
        os.chown(above, NEIGHBOUR, NEIGHBOUR)
    elif spoiled and who == "settings":
        moved = path.rename(folder / "elsewhere.toml")
        path.symlink_to(moved)
        os.lchown(path, NEIGHBOUR, NEIGHBOUR)
    elif spoiled:
        named = folder / "link to it"
        named.symlink_to(path)
        os.lchown(named, NEIGHBOUR, NEIGHBOUR)
    assert bool(distrusted(named)) is bool(spoiled)
    reads = {"rule file": load_rules, "settings": lambda _: read_settings(), "saved plan": load_plan}
    if who == "schedule":
        words = ("schedule", "add", "n", "--at", "daily 02:00", "--with", "cron", "--print", "--", "tidy", named, "--yes")
        said = frugal(*words, code=2 if spoiled else 0).stderr
        assert ("other" in said) is bool(spoiled)
    elif spoiled:
        with pytest.raises(FrugalError, match=r"other (users|accounts) can"):
            reads[who](named)
    else:
        reads[who](named)


def test_a_sticky_folder_keeps_what_is_in_it_to_its_owners(folder: Path) -> None:
    path = put(folder / "shared/settings.toml")
    (folder / "shared").chmod(0o1777)
    assert not distrusted(path)
    os.chown(path, VICTIM, VICTIM)
    assert f"belongs to {VICTIM}" in distrusted(path) and not distrusted(path, {VICTIM})


def test_the_own_state_is_not_kept_where_a_link_of_another_account_leads(folder: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    (folder / "elsewhere").mkdir()
    (folder / "state").symlink_to(folder / "elsewhere")
    monkeypatch.setenv("XDG_STATE_HOME", str(folder / "state"))
    ready_state_folder()
    os.lchown(folder / "state", NEIGHBOUR, NEIGHBOUR)
    with pytest.raises(FrugalError, match=f"a link of {NEIGHBOUR} leads to the state folder"):
        ready_state_folder()


# A neighbour who swaps


SECRET = "what only its owner may know"


def lay_out(base: Path) -> tuple[Path, list[Path]]:
    """Make the home of the neighbour, and what is out of its reach; return both."""
    home = base / "home"
    for number in range(6):
        for place in ("Down", "Down/sub", "Down/sub/deep", "Sorted", "Sorted/log"):
            put(home / place / f"kiln {number}.log", f"{place[:4]} {number % 3}", 400)
    private = [base / "victim/private", base / "own"]
    for folder, owner in zip(private, (VICTIM, 0), strict=True):
        for place in (".", "sub", "sub/deep", "log"):
            for number in range(6):
                put(folder / place / f"secret {number}.log", f"{SECRET} {place} {number % 3}", 400).chmod(0o600)
        for parent, _, names in os.walk(folder):
            os.chmod(parent, 0o700)
            for path in (parent, *(os.path.join(parent, name) for name in names)):
                os.chown(path, owner, owner)
    for parent, folders, names in os.walk(home):
        for name in (".", *folders, *names):
            os.lchown(os.path.join(parent, name), NEIGHBOUR, NEIGHBOUR)
    base.chmod(0o755)
    return home, private


def swap_for_ever(home: Path, private: list[Path], seed: int) -> None:
    """Swap folders, links and files in a home for links to what is out of reach, and back, as its owner."""
    chance = random.Random(seed)
    targets = [str(place) for one in private for place in (one, one / "sub", one / "sub/deep", one / "log", one / "secret 1.log")]
    while True:
        places = [home / "Down", home / "Sorted", home / "Down/sub", home / "Down/sub/deep", home / "Sorted/log"]
        place = chance.choice(places)
        try:
            if chance.random() < 0.3:
                place = chance.choice(sorted(place.iterdir()))
            aside = place.with_name(f"{place.name} aside")
            place.rename(aside)
            place.symlink_to(chance.choice([*targets, "/", str(home / "Down")]))
            if chance.random() < 0.9:
                place.unlink()
                aside.rename(place)
        except OSError:
            continue


@contextmanager
def neighbour(home: Path, private: list[Path], seed: int) -> Iterator[None]:
    child = os.fork()
    if child == 0:
        try:
            os.setgroups([])
            os.setgid(NEIGHBOUR)
            os.setuid(NEIGHBOUR)
            swap_for_ever(home, private, seed)
        finally:
            os._exit(1)
    try:
        yield
    finally:
        os.kill(child, signal.SIGKILL)
        os.waitpid(child, 0)


VERBS = {
    "move": 'move = "{H}/Sorted/{ext}"', "copy": 'copy = "{H}/Sorted/copies"', "trash": "trash = true", "delete": "delete = true",
    "pack": 'pack = "{H}/Sorted/all.zip"', "tag": 'tag = "kept"', "link": 'link = "{H}/Sorted/log"', "rename": 'rename = "old {name}"',
    "duplicates": 'duplicates = {keep = "oldest", do = "hardlink"}',
}  # fmt: skip
# Every command that changes files, as root would let it loose on a home.
COMMANDS = {
    **{f"tidy: {verb}": ("tidy", "{R}", "--yes") for verb in VERBS},
    "sort": ("sort", "{H}/Down", "--into", "{H}/Sorted/{ext}", "--yes"),
    "purge": ("purge", "{H}/Down", "--older-than", "30d", "--levels", "all", "--permanent", "--yes"),
    "duplicates": ("duplicates", "{H}/Down", "{H}/Sorted", "--do", "delete", "--yes"),
    "gather": ("gather", "--list", "{L}", "--from", "{H}/Down", "--to", "{H}/Sorted", "--move", "--yes"),
    "watch": ("watch", "{R}", "--once", "--settle", "0s"), "trash": ("trash", "--restore", "*", "--yes"), "undo": ("undo", "--yes"),
    "leftovers": ("leftovers", "kilnview", "--do", "trash", "--yes"), "rules": ("rules", "off", "rule 0", "{R}", "--yes"),
}  # fmt: skip
# They start another one of these, or only read here.
ELSEWHERE = {"schedule", "visit", "report", "demo"}


def test_every_command_that_changes_files_meets_the_neighbour() -> None:
    assert {words[0] for words in COMMANDS.values()} | ELSEWHERE >= set(CHANGING)


@pytest.mark.parametrize("name", COMMANDS)
def test_nothing_out_of_the_reach_of_a_neighbour_is_read_changed_or_removed(folder: Path, frugal: Frugal, name: str) -> None:
    verb = VERBS.get(name.removeprefix("tidy: "), VERBS["move"])
    rule = f'in = "{folder}/home/Down"\nlevels = "all"\nwhere = "ext is log"\n'
    for seed in range(40 if THOROUGH else 2):
        base = folder / str(seed)
        home, private = lay_out(base)
        rules = put(base / "rules.toml", rules_text((rule + verb).replace(f"{folder}/home", str(home)).replace("{H}", str(home))))
        wanted = put(base / "list.txt", "".join(f"sub/kiln {number}.log\nkiln {number}.log\n" for number in range(6)))
        words = [word.replace("{H}", str(home)).replace("{R}", str(rules)).replace("{L}", str(wanted)) for word in COMMANDS[name]]
        if name in ("undo", "trash"):
            frugal("sort", home / "Down", "--into", f"{home}/Sorted/{{ext}}", "--yes")
        before = [snapshot(one) for one in private]
        secrets = {digest for one in private for digest in contents(one)}
        with neighbour(home, private, seed):
            for _ in range(4):
                done = frugal(*words, code=None)
                assert "secret" not in done.stdout + done.stderr
        assert [snapshot(one) for one in private] == before
        for path in home.rglob("*"):
            assert "secret" not in path.name or path.is_symlink()
        assert not secrets & set(contents(home))
