"""No test ever touches the real home: each has a home and a state folder of its own."""

from __future__ import annotations

import os
import subprocess
import sys
from collections.abc import Callable
from pathlib import Path

import pytest
from hypothesis import HealthCheck, settings

from frugal_sorter.files.volumes import forget_volumes
from frugal_sorter.plans import guard
from frugal_sorter.rules import parsing

settings.register_profile(
    "project", deadline=None, suppress_health_check=[HealthCheck.too_slow, HealthCheck.function_scoped_fixture]
)
settings.load_profile("project")

# Root reads and writes everything; without these capabilities it is held to modes like any owner.
RIGHTS = "-dac_override,-dac_read_search"
WITHOUT_RIGHTS = ["setpriv", f"--bounding-set={RIGHTS}", f"--inh-caps={RIGHTS}"] if os.geteuid() == 0 else []

Frugal = Callable[..., "subprocess.CompletedProcess[str]"]


@pytest.fixture(autouse=True)
def own_home(tmp_path_factory: pytest.TempPathFactory, monkeypatch: pytest.MonkeyPatch) -> Path:
    home = tmp_path_factory.mktemp("home").resolve()
    monkeypatch.setenv("HOME", str(home))
    for name in list(os.environ):
        if name.startswith(("XDG_", "FRUGAL_")):
            monkeypatch.delenv(name)
    monkeypatch.setenv("TZ", "Europe/Berlin")
    monkeypatch.setenv("NO_COLOR", "1")
    import time

    time.tzset()
    guard.forget_folders()
    forget_volumes()
    parsing.forget()
    return home


@pytest.fixture
def folder(tmp_path: Path) -> Path:
    """An empty folder, without symbolic links in its path."""
    return tmp_path.resolve()


@pytest.fixture
def frugal(folder: Path) -> Frugal:
    """Run the built program in the test's folder; it has nobody to ask."""

    def run(
        *words: str | Path, code: int = 0, without_rights: bool = False, **more: str
    ) -> subprocess.CompletedProcess[str]:
        done = subprocess.run(
            [*(WITHOUT_RIGHTS if without_rights else []), sys.executable, "-m", "frugal_sorter", *map(str, words)],
            cwd=folder,
            env={**os.environ, **more},
            stdin=subprocess.DEVNULL,
            capture_output=True,
            text=True,
            errors="surrogateescape",
            check=False,
        )
        assert "Traceback" not in done.stderr, done.stderr
        assert done.returncode == code, f"{done.returncode}: {done.stdout}{done.stderr}"
        return done

    return run
