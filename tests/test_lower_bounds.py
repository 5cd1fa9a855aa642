"""The oldest versions that pyproject.toml allows are enough."""

from __future__ import annotations

import re
import subprocess
import sys
import tomllib
from pathlib import Path

import pytest

from tests.support import put

ROOT = Path(__file__).parents[1]
EXTRAS = ("media", "reports", "watch")
# These are taken as wheels only: a compiler is not part of a machine.
_COMPILED = "blake3,psutil,regex,Pillow,matplotlib,numpy"


def lowest() -> list[str]:
    """Return each requirement with the lowest version that it allows."""
    project = tomllib.loads((ROOT / "pyproject.toml").read_text())["project"]
    asked = [*project["dependencies"], *(one for extra in EXTRAS for one in project["optional-dependencies"][extra])]
    return [re.sub(">=", "==", one) for one in asked]


@pytest.mark.skipif(sys.version_info >= (3, 12), reason="the oldest versions have no wheels for later ones than CPython 3.11")
def test_the_program_works_with_the_oldest_versions_it_allows(tmp_path: Path) -> None:
    subprocess.run([sys.executable, "-m", "venv", tmp_path / "venv"], check=True)
    python = str(tmp_path / "venv/bin/python")
    wanted = lowest()
    assert all("==" in one for one in wanted)
    pip = [python, "-m", "pip", "install", "--quiet", "--disable-pip-version-check", "--no-compile", "--only-binary", _COMPILED]
    if subprocess.run([*pip, *wanted], check=False).returncode != 0:
        pytest.skip("the oldest versions cannot be had here")
    put(tmp_path / "venv/lib/python3.11/site-packages/here.pth", f"{ROOT / 'src'}\n")
    home = tmp_path / "home"
    home.mkdir()

    def frugal(*words: str) -> str:
        env = {"HOME": str(home), "PATH": "/usr/bin:/bin", "LC_ALL": "C.UTF-8"}
        run = [python, "-m", "frugal_sorter", *words]
        return subprocess.run(run, cwd=home, env=env, capture_output=True, text=True, check=True).stdout

    frugal("demo", "desk")
    assert "132 files moved." in frugal("tidy", "desk/rules.toml", "--yes")
    assert "132 files moved." in frugal("undo", "--yes")
    frugal("inventory", "desk", "--chart", "desk.svg")
    assert "jpg" in frugal("inventory", "desk", "--where", "taken within 10 years", "--by", "ext")
    assert "Nothing to do." in frugal("watch", "desk/rules.toml", "--once")
    assert "frugal = 1" in frugal("suggest", "desk/Intake", "--like", "desk")
