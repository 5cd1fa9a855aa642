"""No test ever touches the real home: each has a home and a state folder of its own."""

from __future__ import annotations

import ctypes
import io
import os
import select
import shutil
import subprocess
import sys
import time
from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import redirect_stderr, redirect_stdout
from pathlib import Path

import pytest
from hypothesis import HealthCheck, settings

from frugal_sorter.platforms import slashed
from frugal_sorter.state import forget_all
from tests.served import Served, needs_a_start
from tests.support import aged

_NEW_MOUNTS = 0x20000
# Hundreds of tests start the program: it is compiled once, not each time.
os.environ.pop("PYTHONDONTWRITEBYTECODE", None)
if "FAKETIME" in os.environ:
    # A sleep ends at a moment of the clock; faketime calls one that has just gone by invalid, so ask for a length of time.
    time.sleep = lambda seconds: select.select([], [], [], float(seconds)) and None


def _have_mounts_of_our_own() -> None:
    """See no volume of another process of tests: `frugal trash` looks into the trash of every volume there is.

    What a test mounts goes with its process, too. Where this account may not do that, all share what there is.
    """
    if ctypes.CDLL(None).unshare(_NEW_MOUNTS) != 0:
        return
    subprocess.run(["mount", "--make-rprivate", "/"], check=False, capture_output=True)
    if os.path.isdir("/dev/shm"):
        subprocess.run(["mount", "-t", "tmpfs", "tmpfs", "/dev/shm"], check=False, capture_output=True)


IS_WINDOWS = sys.platform == "win32"
IS_MACOS = sys.platform == "darwin"
# Where a start takes long, or would ask the real system.
IN_THIS_PROCESS = IS_WINDOWS or "FAKED_MACOS" in os.environ
IS_ROOT = not IS_WINDOWS and os.geteuid() == 0
if sys.platform.startswith("linux") and IS_ROOT:
    _have_mounts_of_our_own()


def pytest_configure(config: pytest.Config) -> None:
    """Let properties try the same cases each time, so that a run tells of what was changed; a seed asks for others."""
    settings.register_profile(
        "project", deadline=None, derandomize=config.getoption("--hypothesis-seed", None) is None,
        suppress_health_check=[HealthCheck.too_slow, HealthCheck.function_scoped_fixture],
    )  # fmt: skip
    settings.load_profile("project")


# What asks another system is run there, by `test_other_systems.py`.
collect_ignore_glob = [*([] if IS_WINDOWS else ["on_windows/*"]), *([] if IS_MACOS else ["on_macos/test_*"])]


def pytest_collection_modifyitems(items: list[pytest.Item]) -> None:
    """Begin with the longest tests: at the end one process would work on them alone."""
    items.sort(key=lambda item: item.path.name != "test_other_systems.py")


# Root reads and writes everything; without these capabilities it is held to modes like any owner.
RIGHTS = "-dac_override,-dac_read_search"
WITHOUT_RIGHTS = ["setpriv", f"--bounding-set={RIGHTS}", f"--inh-caps={RIGHTS}"] if IS_ROOT else []

Frugal = Callable[..., "subprocess.CompletedProcess[str]"]


@pytest.fixture(autouse=True)
def own_home(tmp_path_factory: pytest.TempPathFactory, monkeypatch: pytest.MonkeyPatch) -> Path:
    home = slashed.Path(tmp_path_factory.mktemp("home").resolve())
    monkeypatch.setenv("HOME", str(home))
    for name in list(os.environ):
        if name.startswith(("XDG_", "FRUGAL_")):
            monkeypatch.delenv(name)
    monkeypatch.setenv("TZ", "Europe/Berlin")
    monkeypatch.setenv("NO_COLOR", "1")
    # Making a list of the fonts anew for each home takes longer than most tests.
    monkeypatch.setenv("MPLCONFIGDIR", str(tmp_path_factory.getbasetemp() / "fonts"))
    import time

    if IS_WINDOWS:
        monkeypatch.setenv("USERPROFILE", str(home))
        monkeypatch.setenv("WIN_PD_OVERRIDE_LOCAL_APPDATA", str(home / "AppData"))
    else:
        time.tzset()
    forget_all()
    return home


@pytest.fixture
def folder(tmp_path: Path) -> Path:
    """An empty folder, without symbolic links in its path."""
    return slashed.Path(tmp_path.resolve())


@pytest.fixture(scope="session")
def served() -> Iterator[Served]:
    """The program, loaded once for all tests of this process."""
    served = Served()
    yield served
    served.close()


def in_this_process(
    words: Sequence[str | Path], folder: Path, env: Mapping[str, str], code: int | None
) -> subprocess.CompletedProcess[str]:
    """Run the program where there are no forks, and a start takes long."""
    from frugal_sorter.cli.main import main

    out, err, before, here = io.StringIO(), io.StringIO(), dict(os.environ), os.getcwd()
    os.environ.update(env)
    os.chdir(folder)
    argv, sys.argv = sys.argv, ["frugal", *map(str, words)]
    try:
        with redirect_stdout(out), redirect_stderr(err):
            ended: object = main()
    except SystemExit as error:
        ended = error.code
    finally:
        sys.argv = argv
        os.chdir(here)
        os.environ.clear()
        os.environ.update(before)
        forget_all()
    returned = ended if isinstance(ended, int) else int(ended is not None)
    assert code in (None, returned), f"{returned}: {out.getvalue()}{err.getvalue()}"
    return subprocess.CompletedProcess(list(map(str, words)), returned, out.getvalue(), err.getvalue())


@pytest.fixture
def frugal(folder: Path, served: Served) -> Frugal:
    """Run the built program in the test's folder; it has nobody to ask."""

    def run(
        *words: str | Path, code: int | None = 0, without_rights: bool = False, **more: str
    ) -> subprocess.CompletedProcess[str]:
        env = {**os.environ, **more}
        if IN_THIS_PROCESS:
            return in_this_process(words, folder, env, code)
        if without_rights or needs_a_start(env):
            done = subprocess.run(
                [*(WITHOUT_RIGHTS if without_rights else []), sys.executable, "-m", "frugal_sorter", *map(str, words)],
                cwd=folder, env=env, stdin=subprocess.DEVNULL, capture_output=True,
                text=True, errors="surrogateescape", check=False,
            )  # fmt: skip
        else:
            done = served.run(words, folder, env)
        assert "Traceback" not in done.stderr, done.stderr
        assert code in (None, done.returncode), f"{done.returncode}: {done.stdout}{done.stderr}"
        return done

    return run


AS_ROOT = pytest.mark.skipif(not IS_ROOT, reason="only root can mount file systems")
Mount = Callable[..., Path]


@pytest.fixture
def mount(folder: Path) -> Iterator[Mount]:
    """Mount file systems for a test, and take them away again."""
    mounted: list[Path] = []
    loops: list[str] = []

    def make(kind: str, name: str = "volume", **options: str) -> Path:
        """Mount a new volume; options without a value, such as noatime="", go to ext4 by their name alone.

        An overlay shows the folder NAME.low, a bind mount the folder NAME.low itself.
        """
        at, low = folder / name, folder / f"{name}.low"
        at.mkdir(exist_ok=True)
        if kind in ("overlay", "bind"):
            for part in ("low", "up", "work"):
                (folder / f"{name}.{part}").mkdir(exist_ok=True)
            layers = {"lowerdir": low, "upperdir": folder / f"{name}.up", "workdir": folder / f"{name}.work", **options}
            how = ["-t", "overlay", "-o", ",".join(f"{key}={value}" for key, value in layers.items()), "overlay"]
            words = ["mount", *(how if kind == "overlay" else ["--bind", low]), at]
        elif kind == "tmpfs":
            words = [
                "mount",
                "-t",
                "tmpfs",
                "-o",
                ",".join(f"{key}={value}" for key, value in options.items()) or "size=64m",
                "tmpfs",
                at,
            ]
        else:
            image = folder / f"{name}.img"
            if not image.exists():
                maker = {"ext4": ["mkfs.ext4", "-qF"], "exfat": ["mkfs.exfat"]}[kind]
                if not shutil.which(maker[0]):
                    pytest.skip(f"{maker[0]} is not installed")
                with open(image, "wb") as file:
                    file.truncate(24_000_000)
                subprocess.run([*maker, image], check=True, capture_output=True)
            words = ["mount", "-o", ",".join(["loop", *options]), image, at]
            if kind == "exfat":
                loop = subprocess.run(["losetup", "-f", "--show", image], capture_output=True, text=True).stdout.strip()
                loops.append(loop)
                words = ["mount.exfat-fuse", loop, at]
        if not shutil.which(str(words[0])):
            pytest.skip(f"{words[0]} is not installed")
        done = subprocess.run(list(map(str, words)), capture_output=True, text=True)
        if done.returncode != 0:
            pytest.skip(f"{kind} cannot be mounted here: {done.stderr.strip()[:100]}")
        mounted.append(at)
        forget_all()
        return at

    yield make
    for at in reversed(mounted):
        subprocess.run(["umount", "-l", str(at)], capture_output=True)
    for loop in loops:
        subprocess.run(["losetup", "-d", loop], capture_output=True)
    forget_all()


@pytest.fixture
def intake(folder: Path) -> Path:
    """Files of six kinds and ages: some at the top, one hidden, one below."""
    for name, days in (
        ("a.jpg", 1), ("b.JPG", 40), ("c.pdf", 400), ("README", 3), (".hidden.jpg", 5), ("sub/d.jpg", 90),
    ):  # fmt: skip
        aged(folder / "Intake" / name, days, name)
    return folder / "Intake"
