"""The module of Ansible on five made-up machines: local connections, each with a home, rules and files of its own."""

from __future__ import annotations

import importlib.util
import json
import os
import shutil
import subprocess
import sys
from pathlib import Path
from typing import Any

import pytest

from tests.conftest import AS_ROOT, Mount
from tests.support import contents, names, put, rules_text, snapshot

ROOT = Path(__file__).parent.parent
pytestmark = [
    pytest.mark.skipif(importlib.util.find_spec("ansible") is None, reason="ansible-core is not installed"), AS_ROOT,
]  # fmt: skip
MODULE = ROOT / "contrib/ansible/ansible_collections/frugal/sorter/plugins/modules/frugal_rules.py"
MACHINES = ("desk-1", "desk-2-full", "desk-3-without", "desk-4-of-others", "desk-5-dies")
# Ends the process at the third rename, as a machine that is switched off does.
DIES = """
import os
from frugal_sorter.platforms import disk
real, left = disk.rename_exclusively, [2]
def dying(*args):
    if not left[0]:
        os._exit(9)
    left[0] -= 1
    return real(*args)
disk.rename_exclusively = dying
"""
PLAY = """
- hosts: all
  gather_facts: false
  tasks:
    - frugal.sorter.frugal_rules: "{{ task }}"
      environment: {HOME: "{{ home }}"}
      register: result
      ignore_errors: true
      ignore_unreachable: true
    - ansible.builtin.copy: {content: "{{ result | to_json }}", dest: "{{ answers }}/{{ inventory_hostname }}.json"}
      delegate_to: localhost
      check_mode: false
      vars: {ansible_python_interpreter: "{{ ansible_playbook_python }}"}
"""


def environment(folder: Path) -> dict[str, str]:
    ours = {
        "ANSIBLE_COLLECTIONS_PATH": ROOT / "contrib/ansible",
        "ANSIBLE_HOME": folder / "ansible",
        "ANSIBLE_FORKS": 5,
        "NO_COLOR": 1,
    }
    return os.environ | {name: str(value) for name, value in ours.items()}


class Machines:
    """The machines, and how a play is run on them."""

    def __init__(self, folder: Path) -> None:
        self.folder, self.answers = folder, folder / "answers"
        self.answers.mkdir()
        (folder / "play.yml").write_text(PLAY)

    def home(self, name: str) -> Path:
        return self.folder / name

    def play(self, *words: str, dies: bool = False, on: tuple[str, ...] = MACHINES, **task: object) -> dict[str, dict[str, Any]]:
        """Run the module on all machines, and return what it answered on each."""
        hosts = {}
        for name in on:
            python = self.folder / "dying/python" if dies and name == "desk-5-dies" else sys.executable
            hosts[name] = {"ansible_connection": "local", "ansible_python_interpreter": str(python), "home": str(self.home(name))}
            (self.answers / f"{name}.json").unlink(missing_ok=True)
        (self.folder / "hosts.json").write_text(json.dumps({"all": {"hosts": hosts}}))
        (self.folder / "vars.json").write_text(json.dumps({"task": task, "answers": str(self.answers)}))
        done = subprocess.run(
            [str(Path(sys.executable).with_name("ansible-playbook")), "-i", "hosts.json", "-e", "@vars.json", "play.yml", *words],
            cwd=self.folder, env=environment(self.folder), stdin=subprocess.DEVNULL, capture_output=True, text=True, check=False,
        )  # fmt: skip
        self.said = done.stdout + done.stderr
        found = {path.stem: json.loads(path.read_text()) for path in self.answers.glob("*.json")}
        assert found.keys() >= set(on), self.said[-3_000:]
        return found

    def alone(self, check: bool = False, **task: object) -> dict[str, Any]:
        """Run the module on the first machine as Ansible would there, without a play around it."""
        (self.folder / "task.json").write_text(json.dumps({"ANSIBLE_MODULE_ARGS": {**task, "_ansible_check_mode": check}}))
        done = subprocess.run(
            [sys.executable, str(MODULE), "task.json"], cwd=self.folder, env=os.environ | {"HOME": str(self.home("desk-1"))},
            stdin=subprocess.DEVNULL, capture_output=True, text=True, check=False,
        )  # fmt: skip
        answer: dict[str, Any] = json.loads(done.stdout)
        return answer


@pytest.fixture
def machines(folder: Path, mount: Mount) -> Machines:
    made = Machines(folder)
    for name in MACHINES:
        for number in range(6):
            put(made.home(name) / f"Intake/kiln {number}.log", f"{name} {number}" * 2_000)
    small = mount("tmpfs", "small", size="64k")
    move = 'where = "ext is log"\nmove = "Logs"'
    for name, rules in (
        ("desk-1", move), ("desk-2-full", f'where = "ext is log"\nmove = "{small}"'), ("desk-3-without", f'in = "~/Nowhere"\n{move}'),
        ("desk-4-of-others", move), ("desk-5-dies", move),
    ):  # fmt: skip
        put(made.home(name) / "front-desk.toml", rules_text(rules))
    (made.home("desk-4-of-others") / "front-desk.toml").chmod(0o666)
    put(folder / "dying/sitecustomize.py", DIES)
    put(folder / "dying/python", f'#!/bin/sh\nPYTHONPATH="{folder}/dying" exec "{sys.executable}" "$@"\n').chmod(0o755)
    return made


def test_five_machines_are_looked_at_tidied_found_tidy_and_undone(machines: Machines) -> None:
    before = {name: snapshot(machines.home(name) / "Intake") for name in MACHINES}
    logs = {f"Logs/kiln {number}.log" for number in range(6)}

    # Check mode is the preview.
    seen = machines.play("--check", "--diff", path="~/front-desk.toml")
    assert {name: snapshot(machines.home(name) / "Intake") for name in MACHINES} == before
    assert (seen["desk-1"]["changed"], seen["desk-1"]["changes"], seen["desk-1"]["run"]) == (True, 6, 0)
    assert f"-{machines.home('desk-1')}/Intake/kiln 0.log" in machines.said
    assert f"+{machines.home('desk-1')}/Intake/Logs/kiln 0.log" in machines.said
    assert seen["desk-2-full"]["failed"] and seen["desk-2-full"]["codes"]["no-room"] == 1
    assert seen["desk-3-without"]["failed"] and "is missing" in seen["desk-3-without"]["msg"]
    assert seen["desk-4-of-others"]["failed"] and "front-desk.toml" in seen["desk-4-of-others"]["msg"]

    # The run: what cannot be done on one machine keeps no other from it.
    done = machines.play(dies=True, path="~/front-desk.toml")
    assert (done["desk-1"]["changed"], done["desk-1"]["run"], names(machines.home("desk-1") / "Intake")) == (True, 1, logs)
    assert done["desk-5-dies"]["failed"] and len(contents(machines.home("desk-5-dies") / "Intake")) == 6
    for name in MACHINES[1:4]:
        assert done[name]["failed"] and snapshot(machines.home(name) / "Intake") == before[name]

    # Again: nothing on the one that is tidy; the one that died puts right what was half done, and goes on.
    again = machines.play(on=("desk-1", "desk-5-dies"), path="~/front-desk.toml")
    assert not again["desk-1"]["changed"] and again["desk-1"]["run"] == 0
    assert again["desk-5-dies"]["changed"] and names(machines.home("desk-5-dies") / "Intake") == logs

    undone = machines.play(on=MACHINES[:2], path="~/front-desk.toml", state="undone", run=1)
    assert undone["desk-1"]["changed"] and snapshot(machines.home("desk-1") / "Intake") == before["desk-1"]
    assert undone["desk-2-full"]["failed"] and "run 1 does not exist" in undone["desk-2-full"]["msg"]


def test_rules_are_written_checked_and_removed(machines: Machines) -> None:
    text = rules_text('in = "Intake"\nwhere = "ext is log"\nmove = "Old"')
    path, file = "~/new/rules.toml", machines.home("desk-1") / "new/rules.toml"
    looked = machines.alone(check=True, path=path, rules=text.replace('in = "Intake"', 'in = "~/Intake"'))
    assert looked["changed"] and looked["changes"] == 6 and not file.parent.exists()
    wrong = machines.alone(path=path, state="checked", rules=text.replace("move", "mvoe"))
    assert wrong["failed"] and "mvoe" in wrong["msg"] and not file.parent.exists()
    assert machines.alone(path=path, state="checked", rules=text)["changed"] and file.read_text() == text
    assert not machines.alone(path=path, state="checked", rules=text)["changed"]
    late = machines.alone(path=path, state="scheduled", when="daily 27:00")
    assert late["failed"] and "27:00" in late["msg"]
    assert machines.alone(path=path, state="absent")["changed"] and not file.exists()
    assert not machines.alone(path=path, state="absent")["changed"]


def test_the_linter_of_ansible_finds_nothing(folder: Path) -> None:
    command = Path(sys.executable).with_name("ansible-lint")
    if not command.exists():
        pytest.skip("ansible-lint is not installed")
    path = os.pathsep.join((str(command.parent), os.environ["PATH"]))
    for broken in (False, True):
        # On a copy: it writes beside what it reads.
        collection = folder / f"{broken}/ansible_collections/frugal/sorter"
        shutil.copytree(ROOT / "contrib/ansible/ansible_collections/frugal/sorter", collection)
        if broken:
            (collection / "meta/runtime.yml").unlink()
        seen = environment(folder) | {"PATH": path, "ANSIBLE_COLLECTIONS_PATH": str(folder / str(broken))}
        done = subprocess.run([str(command), "--offline"], cwd=collection, env=seen, capture_output=True, text=True, check=False)
        assert (done.returncode != 0) is broken, done.stdout + done.stderr
