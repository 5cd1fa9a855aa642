"""The docs say what works: each rule file of the cookbook, each command of the README and of the pages, each link."""

from __future__ import annotations

import re
import shlex
from pathlib import Path

import pytest

from frugal_sorter.rules.reference import EXIT_CODES
from tests.conftest import Frugal
from tests.support import put

ROOT = Path(__file__).parents[1]
PAGES = [ROOT / "README.md", ROOT / "CONTRIBUTING.md", *sorted((ROOT / "docs").glob("*.md"))]
RECIPES = re.findall(r"^## (\d+\. .*?)$.*?```toml\n(.*?)```", (ROOT / "docs/cookbook.md").read_text(), re.DOTALL | re.MULTILINE)
_BLOCKS = [block for page in PAGES for block in re.findall(r"```sh\n(.*?)```", page.read_text(), re.DOTALL)]
COMMANDS = sorted({line.partition("  #")[0].strip() for block in _BLOCKS for line in block.splitlines()})


@pytest.mark.parametrize(("title", "text"), RECIPES, ids=[title for title, _ in RECIPES])
def test_each_recipe_is_read_without_a_warning_and_comes_out_as_it_says(
    title: str, text: str, frugal: Frugal, own_home: Path, folder: Path
) -> None:
    for name in ("Intake", "Holding"):
        (own_home / name).mkdir()
    said = frugal("check", put(folder / "rules.toml", text)).stdout
    assert "no errors" in said and "no warnings" in said and ("[[rule.example]]" not in text or "passed" in said)
    frugal("preview", folder / "rules.toml")


def test_there_are_enough_recipes() -> None:
    assert len(RECIPES) >= 25


@pytest.mark.parametrize("line", [line for line in COMMANDS if line.startswith("frugal ")])
def test_each_command_of_the_docs_runs_on_a_fresh_demo_machine(line: str, frugal: Frugal, folder: Path) -> None:
    home = str(folder)
    frugal("demo", folder)
    for name in ("Intake/scratch", "Photos", "Archive"):
        (folder / name).mkdir(exist_ok=True)
    put(folder / "front-desk.toml", (folder / "rules.toml").read_bytes())
    put(folder / "Intake/old.log", age_days=100)
    words = shlex.split(line.partition(" > ")[0])[1:]
    if words[0] in ("history", "undo", "verify", "report", "trash", "explain", "rules"):
        frugal("tidy", "rules.toml", "--yes")
    if words[0] == "schedule" and words[1] != "add":
        pytest.skip("the schedulers of this machine are not for tests; tests/test_schedule.py has them")
    if words[0] == "schedule":
        words[3:3] = ["--print", "--with", "systemd"]
    if words[0] == "watch":
        words = [*words, *({"--once"} - set(words))]
    if "tidewater" in line and words[0] != "demo":
        frugal("demo", folder / "tidewater")
    if "--on" in words:
        frugal("inventory", folder, "--save", "./maren.inventory.gz", "--full")
    if "--to" in words:
        (folder / "rules.toml").unlink()
    words = [word.replace("~", home, 1) if word.startswith("~") else word for word in words]
    done = frugal(*words, code=None)
    # A time of the day may not have come yet.
    known = ("add --yes to confirm", "--as-of", "is in the future")
    assert done.returncode in (0, 1) or any(said in done.stderr for said in known), done.stderr


@pytest.mark.parametrize("page", PAGES, ids=lambda page: page.name)
def test_each_link_of_the_docs_leads_somewhere(page: Path) -> None:
    targets = re.findall(r"\]\(([^)#\s]+)(?:#[^)]*)?\)", page.read_text())
    assert not [target for target in targets if "://" not in target and not (page.parent / target).exists()]


def test_the_modules_and_tests_that_the_docs_name_exist() -> None:
    pages = "\n".join(page.read_text() for page in PAGES)
    tests = "\n".join(one.read_text() for one in (ROOT / "tests").glob("*.py"))
    modules = set(re.findall(r"`([a-z_/]+\.py)`", pages))
    places = (ROOT, ROOT / "src/frugal_sorter", ROOT / "tests")
    assert not [one for one in modules if not any((place / one).exists() for place in places)]
    assert not [name for name in set(re.findall(r"`(test_[a-z_0-9]+)`", pages)) if f"def {name}(" not in tests]


def test_the_exit_codes_of_the_docs_are_those_of_the_program() -> None:
    page = (ROOT / "docs/troubles.md").read_text()
    assert all(f"| {code} | {meaning} |" in page for code, meaning in EXIT_CODES)
