"""The one-way imports, and docs that stay true."""

from __future__ import annotations

import subprocess
import sys
from pathlib import Path

from frugal_sorter.cli.main import COMMANDS

ROOT = Path(__file__).resolve().parents[1]


def test_imports_go_one_way() -> None:
    script = "import sys; from importlinter.cli import lint_imports_command; lint_imports_command()"
    done = subprocess.run([sys.executable, "-c", script], cwd=ROOT, capture_output=True, text=True, check=False)
    assert done.returncode == 0, done.stdout
    assert "3 kept, 0 broken" in done.stdout


def test_only_work_changes_files() -> None:
    changing = (
        "os.rename",
        "os.unlink",
        "os.rmdir",
        "os.mkdir",
        "os.link",
        "os.remove",
        "shutil.",
        ".unlink(",
        ".rename(",
    )
    for path in (ROOT / "src/frugal_sorter").rglob("*.py"):
        package = path.relative_to(ROOT / "src/frugal_sorter").parts[0]
        if package not in ("work", "demo"):
            # The room that is kept for a full disk, and the sums that runs keep, are the tool's own.
            text = "" if path.name in ("reserve.py", "totals.py") else path.read_text()
            assert not [word for word in changing if word in text], path


def test_the_readme_names_every_command_and_its_pictures_exist() -> None:
    readme = (ROOT / "README.md").read_text()
    assert not [name for name in COMMANDS if f"`frugal {name}" not in readme]
    pictures = sorted(path.name for path in (ROOT / "docs/screenshots").glob("*.png"))
    assert pictures and not [name for name in pictures if f"docs/screenshots/{name}" not in readme]
