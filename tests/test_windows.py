"""The program on Windows: run with a Windows Python below wine, where one was installed (`tests/on_windows/install`)."""

from __future__ import annotations

import os
import re
import select
import signal
import subprocess
import warnings
from pathlib import Path

import pytest

ROOT = Path(__file__).parents[1]
WINDOWS = Path(os.environ.get("FRUGAL_WINDOWS", ROOT / ".windows"))
pytestmark = pytest.mark.skipif(
    not (WINDOWS / "ready").exists(), reason="NOT RUN ON WINDOWS: no Windows Python; tests/on_windows/install makes one"
)

# Tests of the core that run there as they are here. Of the others some ask for what only Linux has (mounts, leases, forks, rights
# by mode, a shell), some for libraries that wine ends in, and the rest for a time zone, which wine does not keep.
ALIKE = ("test_conditions.py", "test_everyday.py", "test_overlap.py", "test_templates.py", "test_types.py")
OWN = ("on_windows/test_commands.py", "test_there_and_back.py")
# On a busy machine wine now and then stops for good, each time at another test: after so long without a word it is started again,
# once. A test that hangs of itself hangs again, and is named by the last line.
_SILENT_SECONDS = 240
# A path without a drive, and days that begin elsewhere.
NOT_THERE = "not abs and not today and not yesterday and not 2026-11-23"


def run_there(tmp_path: Path, *words: str) -> str:
    """Run the Windows Python on tests, and return what it said."""
    paths = [
        "python313.zip",
        ".",
        "..\\site",
        f"Z:{ROOT / 'src'}".replace("/", "\\"),
        f"Z:{ROOT}".replace("/", "\\"),
        "import site",
    ]
    (WINDOWS / "python/python313._pth").write_text("\r\n".join(paths) + "\r\n")
    known = {
        name: value
        for name, value in os.environ.items()
        if not name.startswith(("PYTEST", "PYTHON", "XDG_", "FRUGAL_W"))
    }
    env = known | {
        "WINEPREFIX": str(WINDOWS / "prefix"), "WINEDEBUG": "-all", "WINEARCH": "win64", "TZ": "UTC", "USERNAME": "maren",
        "USERPROFILE": f"Z:{tmp_path}".replace("/", "\\"), "PYTHONPYCACHEPREFIX": f"Z:{WINDOWS / 'compiled'}".replace("/", "\\"),
    }  # fmt: skip
    command = ["wine", str(WINDOWS / "python/python.exe"), "-X", "utf8", "-m", "pytest", "-v", "-p", "no:cacheprovider", "-x",
               "-o", f"faulthandler_timeout={_SILENT_SECONDS // 2}", *words]  # fmt: skip
    code, said = until_silent(command, env)
    if code is None:
        warnings.warn(f"wine stopped and was started again; the last it said: {said[-2_000:]}", stacklevel=2)
        subprocess.run(["wineserver", "-k"], env=env, check=False, timeout=60)
        code, said = until_silent(command, env)
    assert code == 0, said[-8_000:]
    return said


def until_silent(command: list[str], env: dict[str, str]) -> tuple[int | None, str]:
    """Run a command until it ends or says nothing for too long; return its exit code, None if it was killed, and what it said."""
    pipe = subprocess.PIPE  # wine asks for three of them
    with subprocess.Popen(
        command, cwd=ROOT, env=env, stdin=pipe, stdout=pipe, stderr=subprocess.STDOUT, start_new_session=True
    ) as process:
        assert process.stdin and process.stdout
        process.stdin.close()
        said = b""
        while select.select([process.stdout], [], [], _SILENT_SECONDS)[0]:
            piece = os.read(process.stdout.fileno(), 65_536)
            if not piece:
                return process.wait(), said.decode(errors="replace")
            said += piece
        os.killpg(process.pid, signal.SIGKILL)
    return None, said.decode(errors="replace")


def passed(said: str) -> int:
    found = re.search(r"(\d+) passed", said)
    return int(found[1]) if found else 0


def test_the_program_does_on_windows_what_it_does_here(tmp_path: Path) -> None:
    """All in one process: below wine, what runs side by side waits for each other."""
    said = run_there(tmp_path, *(f"tests/{module}" for module in (*OWN, *ALIKE)), "-k", NOT_THERE)
    assert passed(said) > 350 and "skipped" not in said, said[-2_000:]
