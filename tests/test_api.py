"""The functions for scripts: each example of the page runs, and what they return is what the command line says."""

from __future__ import annotations

import inspect
import json
import os
import re
import sys
from pathlib import Path
from typing import Any

import pytest

from frugal_sorter import api
from tests.conftest import Frugal
from tests.support import contents, put, rules_text

PAGE = (Path(__file__).parent.parent / "docs/api.md").read_text(encoding="utf-8")
EXAMPLES = re.findall(r"```python\n(.*?)```", PAGE, re.DOTALL)


@pytest.fixture
def desk(folder: Path, frugal: Frugal, monkeypatch: pytest.MonkeyPatch) -> Path:
    frugal("demo", "desk")
    monkeypatch.chdir(folder / "desk")
    return folder / "desk"


@pytest.mark.parametrize("number", range(len(EXAMPLES)))
def test_each_example_of_the_page_runs(number: int, desk: Path, capsys: pytest.CaptureFixture[str]) -> None:
    assert len(EXAMPLES) == 5
    before = contents(desk)
    known: dict[str, Any] = {}
    exec(EXAMPLES[number], known)  # noqa: S102
    said = capsys.readouterr()
    assert not said.err and (said.out or (desk / "by type and age.png").stat().st_size > 10_000)
    (desk / "by type and age.png").unlink(missing_ok=True)
    assert contents(desk) == before


def test_it_says_what_the_command_line_says(desk: Path, frugal: Frugal) -> None:
    shown = json.loads(frugal("preview", desk / "rules.toml", "--format", "json").stdout)
    planned = api.plan("rules.toml")
    steps = [(one["number"], one["verb"], one["source"], one["target"]) for one in shown["steps"] if one["number"]]
    assert [(one.number, one.action, one.source, one.target) for one in planned.changes] == steps and planned.ok
    counted = json.loads(frugal("inventory", desk / "Intake", "--format", "json").stdout)
    found = api.inventory(desk / "Intake")
    assert {(row.keys[0], row.files, row.bytes) for row in found.rows} == {
        (one["type"], one["files"], one["bytes"]) for one in counted["rows"]
    }
    assert (found.files, found.bytes) == (counted["files"], counted["bytes"])
    done = api.carry_out(planned)
    assert done.ok and sum(done.changed.values()) == len(steps) and not done.not_done
    (visit,) = json.loads(frugal("history", "--format", "json").stdout)["visits"]
    (ours,) = api.history()
    assert (ours.command, ours.outcome, list(ours.runs)) == (visit["command"], "done", [done.run])
    assert api.report()["runs"] == [done.run] and api.report()["done"] == dict(done.changed)
    assert api.plan("rules.toml").changes == () and api.carry_out(api.plan("rules.toml")).run == 0


def test_what_changed_meanwhile_is_named_with_its_code(folder: Path) -> None:
    rules = put(folder / "rules.toml", rules_text('where = "ext is log"\nmove = "Logs"'))
    for name in ("a.log", "b.log", "c.log"):
        put(folder / "Intake" / name)
    planned = api.plan(rules)
    with pytest.raises(api.Error, match="no change 4"):
        planned.without([4])
    assert [one.code for one in planned.without([3]).left] == ["left-out"]
    (folder / "Intake/a.log").write_text("edited since")
    (folder / "Intake/b.log").unlink()
    done = api.carry_out(planned)
    assert {os.path.basename(one.path): one.code for one in done.not_done} == {"a.log": "changed", "b.log": "gone"}
    assert not done.ok and done.changed == {"move": 1}
    (folder / "Intake/Logs/c.log").unlink()
    undone = api.undo()
    assert [one.code for one in undone.not_done] == ["gone"] and not undone.ok
    with pytest.raises(api.Error, match="run 9 does not exist"):
        api.undo(9)


def test_mistakes_are_errors_and_limits_are_refusals(folder: Path) -> None:
    put(folder / "wrong.toml", "frugal = 1\n[[rule]]\nname = 'a'\nnix = 1\n")
    with pytest.raises(api.Error, match=r"wrong.toml:4"):
        api.plan(folder / "wrong.toml")
    with pytest.raises(api.Error):
        api.inventory(folder / "missing")
    put(folder / "Intake/a.log")
    put(folder / "Intake/b.log")
    rules = put(folder / "rules.toml", rules_text('where = "ext is log"\ntrash = true'))
    planned = api.plan(rules, at_most=1)
    assert [one.code for one in planned.refused] == ["too-many-removals"] and not planned.ok and not planned.changes
    assert api.carry_out(planned) == api.Done(0, {}, 0, (), False) and (folder / "Intake/a.log").exists()
    assert api.history()[-1].outcome == "refused"


def test_a_table_has_typed_columns(folder: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    for number in range(30):
        put(folder / f"Intake/{number}.log", "x" * number)
    table = api.inventory(folder / "Intake", by=("type", "ext")).to_pandas()
    assert list(table.columns) == ["type", "ext", "files", "bytes", "disk_bytes"]
    assert [str(one) for one in table.dtypes] == ["string", "string", "int64", "int64", "int64"]
    assert int(table["files"].sum()) == 30
    # Text is in columns, too, rather than an object a cell.
    assert table["ext"].dtype.storage == "pyarrow"
    monkeypatch.setitem(sys.modules, "pandas", None)
    with pytest.raises(api.Error, match="needs pandas"):
        api.inventory(folder / "Intake").to_pandas()


def test_each_public_name_says_what_it_returns_and_raises() -> None:
    for name in api.__all__:
        one = getattr(api, name)
        assert inspect.getdoc(one), name
    # What is promised stays: a name or an argument that goes, or gets no default, breaks scripts.
    assert {name: str(inspect.signature(getattr(api, name))).split(" ->")[0] for name in api.__all__ if name[0].islower()} == {
        "carry_out": "(planned: 'Planned')", "history": "(since_ns: 'int | None' = None)",
        "inventory": "(folders: 'str | os.PathLike[str] | Sequence[str | os.PathLike[str]]', by: 'By | Sequence[By]' = 'type',"
        " levels: 'int | None' = None, hidden: 'bool' = False)",
        "load_rules": "(path: 'str | os.PathLike[str]', text: 'str | None' = None)",
        "plan": "(rules: 'RuleBook | str | os.PathLike[str]', again: 'bool' = False, at_most: 'int | None' = None)",
        "report": "(since_ns: 'int' = 0)",
        "undo": "(run: 'int | None' = None, only: 'Sequence[str | os.PathLike[str]]' = ())",
    }  # fmt: skip
