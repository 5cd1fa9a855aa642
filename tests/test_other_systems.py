"""The program on Windows, run with a Windows Python below wine, where one was installed (`tests/on_windows/install`); and on macOS,
faked on Linux (`tests/on_macos`).
"""

from __future__ import annotations

import os
import re
import subprocess
import sys
from pathlib import Path

import pytest

ROOT = Path(__file__).parents[1]
WINDOWS = Path(os.environ.get("FRUGAL_WINDOWS", ROOT / ".windows"))
ON_WINDOWS = pytest.mark.skipif(
    not all((WINDOWS / made).exists() for made in ("ready", "prefix2")),
    reason="NOT RUN ON WINDOWS: no Windows Python; tests/on_windows/install makes one",
)

# Tests that run there as they are here. Of the others some ask for what only Linux has (mounts, leases, forks, rights
# by mode, a shell), some for libraries that wine ends in, and the rest for a time zone, which wine does not keep.
ALIKE = ("test_conditions.py", "test_everyday.py", "test_overlap.py", "test_templates.py", "test_types.py")
OWN, EVERY = ("on_windows/test_commands.py", "test_there_and_back.py"), ("test_every_command.py",)
# What macOS runs besides: nothing in these asks for a mount, a lease, or where another desktop keeps things.
ON_MACOS = (
    "on_macos/test_macos.py", *EVERY, "test_there_and_back.py", "test_execution.py", "test_planning.py",
    "test_partial_undo.py", "test_session.py", "test_sort.py", "test_gather.py", "test_inventory.py",
)  # fmt: skip
# The status of a file tells of no birth where macOS is faked.
WITH_BIRTHS = "test_execution.py::test_undo_lists_what_is_in_the_way_and_does_the_rest"
# A test that takes half of this tells where it is; each half of them takes one to three minutes.
_SECONDS = 1_800
# A path without a drive, and days that begin elsewhere.
NOT_THERE = "not abs and not today and not yesterday and not 2026-11-23"


def run_there(tmp_path: Path, prefix: str, *words: str) -> str:
    """Run the Windows Python on tests, with the drives and settings of a prefix of wine, and return what it said."""
    paths = [
        "python313.zip",
        ".",
        "..\\site",
        f"Z:{ROOT / 'src'}".replace("/", "\\"),
        f"Z:{ROOT}".replace("/", "\\"),
        "import site",
    ]
    known_paths, text = WINDOWS / "python/python313._pth", "\r\n".join(paths) + "\r\n"
    if not known_paths.exists() or known_paths.read_bytes() != text.encode():
        known_paths.write_text(text)
    known = {name: value for name, value in os.environ.items() if not name.startswith(("PYTEST", "PYTHON", "XDG_", "FRUGAL_W"))}
    env = known | {
        "WINEPREFIX": str(WINDOWS / prefix), "WINEDEBUG": "-all", "WINEARCH": "win64", "TZ": "UTC", "USERNAME": "maren",
        "USERPROFILE": f"Z:{tmp_path}".replace("/", "\\"), "PYTHONPYCACHEPREFIX": f"Z:{WINDOWS / 'compiled'}".replace("/", "\\"),
    }  # fmt: skip
    # All three must be pipes.
    done = subprocess.run(
        ["wine", str(WINDOWS / "python/python.exe"), "-X", "utf8", "-m", "pytest", "-v", "-p", "no:cacheprovider", "-x",
         "-o", f"faulthandler_timeout={_SECONDS // 2}", *words],
        cwd=ROOT, env=env, input=b"", stdout=subprocess.PIPE, stderr=subprocess.STDOUT, check=False, timeout=_SECONDS,
    )  # fmt: skip
    said = done.stdout.decode(errors="replace")
    assert done.returncode == 0, said[-8_000:]
    return said


def passed(said: str) -> int:
    found = re.search(r"(\d+) passed", said)
    return int(found[1]) if found else 0


@ON_WINDOWS
@pytest.mark.parametrize(("prefix", "modules", "fewest"), [("prefix", (*OWN, *ALIKE), 350), ("prefix2", EVERY, 25)])
def test_the_program_does_on_windows_what_it_does_here(
    tmp_path: Path, prefix: str, modules: tuple[str, ...], fewest: int
) -> None:
    """In two processes with a prefix each: with the same one they would wait for each other."""
    said = run_there(tmp_path, prefix, *(f"tests/{module}" for module in modules), "-k", NOT_THERE)
    assert passed(said) >= fewest and "skipped" not in said, said[-2_000:]


@pytest.mark.skipif(not sys.platform.startswith("linux"), reason="macOS is faked on Linux alone")
def test_the_program_does_on_a_faked_macos_what_it_does_here() -> None:
    done = subprocess.run(
        [sys.executable, "-m", "tests.on_macos", "-q", f"--deselect=tests/{WITH_BIRTHS}", *(f"tests/{module}" for module in (*ON_MACOS, *ALIKE))],
        cwd=ROOT, stdin=subprocess.DEVNULL, capture_output=True, text=True, check=False,
    )  # fmt: skip
    assert done.returncode == 0, done.stdout[-8_000:]
    assert passed(done.stdout) > 550 and "skipped" not in done.stdout, done.stdout[-2_000:]
