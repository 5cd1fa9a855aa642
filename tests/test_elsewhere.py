"""Schedulers of systems that these tests do not run on, driven through stand-ins for the programs that they are asked by.

The stand-ins answer as those programs are documented to; that the programs themselves do is not shown here.
"""

from __future__ import annotations

import os
import sys
from pathlib import Path

import pytest

from frugal_sorter.errors import StateError
from frugal_sorter.schedule.scheduler import Entry, Scheduler, scheduler_of

LAUNCHCTL = """
import plistlib, subprocess
def main(state, words):
    verb, *rest = words
    if verb == "bootstrap":
        table = plistlib.load(open(rest[1], "rb"))
        target = f"{rest[0]}/{table['Label']}"
        if target in state["loaded"] or target in state["off"]:
            print("Bootstrap failed: 5: Input/output error", file=sys.stderr)
            return 5
        state["loaded"][target] = {"plist": rest[1], "code": None}
    elif verb == "bootout":
        return 0 if state["loaded"].pop(rest[0], None) else 3
    elif verb == "disable":
        state["off"].append(rest[0])
    elif verb == "enable":
        state["off"] = [one for one in state["off"] if one != rest[0]]
    elif verb == "print":
        job = state["loaded"].get(rest[0])
        if job is None:
            return 113
        print("\\tstate = not running")
        print("\\tlast exit code = " + ("(never exited)" if job["code"] is None else str(job["code"])))
    elif verb == "kickstart":
        job = state["loaded"].get(rest[0])
        if job is None:
            return 113
        job["code"] = subprocess.run(plistlib.load(open(job["plist"], "rb"))["ProgramArguments"]).returncode
    return 0
"""
SCHTASKS = """
import csv, shlex, subprocess
from xml.etree import ElementTree
SPACE = "{http://schemas.microsoft.com/windows/2004/02/mit/task}"
def main(state, words):
    name = words[words.index("/TN") + 1]
    tasks, verb = state["loaded"], words[0]
    if verb == "/Create":
        tasks[name] = {"xml": open(words[words.index("/XML") + 1], encoding="utf-16").read(), "code": 267011}
        return 0
    if name not in tasks:
        print("ERROR: The system cannot find the file specified.", file=sys.stderr)
        return 1
    if verb == "/Delete":
        del tasks[name]
    elif verb == "/Change":
        tasks[name]["xml"] = tasks[name]["xml"].replace("<Enabled>true</Enabled>\\n    <WakeToRun", "<Enabled>false</Enabled>\\n    <WakeToRun")
    elif verb == "/Run":
        run = ElementTree.fromstring(tasks[name]["xml"].encode("utf-16")).find(f".//{SPACE}Exec")
        line = [run.findtext(SPACE + "Command"), *shlex.split(run.findtext(SPACE + "Arguments"))]
        tasks[name]["code"] = subprocess.run(line).returncode
    elif "/XML" in words:
        sys.stdout.buffer.write(tasks[name]["xml"].encode("utf-16"))
    else:
        csv.writer(sys.stdout).writerow(["DESK", name, "N/A", "Ready", "Interactive only", "N/A", tasks[name]["code"], "desk"])
    return 0
"""
HEAD = """#!{python}
import json, sys
{body}
try:
    state = json.load(open({state!r}))
except OSError:
    state = {{"loaded": {{}}, "off": []}}
code = main(state, sys.argv[1:])
json.dump(state, open({state!r}, "w"))
sys.exit(code)
"""


@pytest.fixture(params=[("launchd", "launchctl", LAUNCHCTL), ("windows", "schtasks", SCHTASKS)], ids=lambda one: one[0])
def there(request: pytest.FixtureRequest, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Scheduler:
    """Return a scheduler whose program is a stand-in."""
    name, program, body = request.param
    folder = tmp_path / "bin"
    folder.mkdir()
    (folder / program).write_text(HEAD.format(python=sys.executable, body=body, state=str(tmp_path / "state.json")))
    (folder / program).chmod(0o755)
    monkeypatch.setenv("PATH", f"{folder}:{os.environ['PATH']}")
    monkeypatch.setenv("HOME", str(tmp_path / "home"))
    return scheduler_of(name)


def entry(tmp_path: Path, code: int = 0) -> Entry:
    """Return a schedule whose interpreter is a program that leaves its arguments and an exit code."""
    program = tmp_path / "interpreter"
    program.write_text(f"#!/bin/sh\nprintf '%s\\n' \"$@\" > '{tmp_path}/ran'\nexit {code}\n")
    program.chmod(0o755)
    command = ("tidy", "/srv/Front Desk/rules.toml", "--yes")
    return Entry("nightly", "mon-fri 18:00", command, str(program), str(tmp_path), since_ns=1_795_431_600_000_000_000)


def test_it_is_set_up_paused_resumed_and_removed(there: Scheduler, tmp_path: Path) -> None:
    one = entry(tmp_path)
    assert not there.state(one).is_there and there.state(one).trouble
    there.install(one)
    assert (there.state(one).is_there, there.state(one).is_on, there.state(one).trouble) == (True, True, ())
    there.install(one)  # a second time is no other than the first
    assert there.state(one).is_on
    there.turn(one, False)
    assert (there.state(one).is_there, there.state(one).is_on) == (True, False)
    assert any("resume nightly" in line for line in there.state(one).trouble), "it is meant to be on"
    there.turn(one, True)
    assert there.state(one).is_on and not there.state(one).trouble
    there.remove(one)
    there.remove(one)
    assert not there.state(one).is_there
    assert not list((tmp_path / "home").rglob("*.plist"))


@pytest.mark.parametrize("code", [0, 3])
def test_it_is_run_as_written_and_its_end_is_known(there: Scheduler, tmp_path: Path, code: int) -> None:
    one = entry(tmp_path, code)
    there.install(one)
    assert there.state(one).last == "", "it never ran"
    assert there.run(one) == code
    assert (tmp_path / "ran").read_text().splitlines() == list(one.command_line[1:])
    assert there.state(one).last == (f"exit code {code}" if code else "")


def test_what_was_changed_by_hand_is_said(there: Scheduler, tmp_path: Path) -> None:
    one = entry(tmp_path)
    there.install(one)
    other = Entry("nightly", "mon-fri 09:00", one.command, one.interpreter, one.folder, since_ns=one.since_ns)
    assert any("was edited" in line for line in there.state(other).trouble)


def test_a_program_that_fails_leaves_nothing(there: Scheduler, tmp_path: Path) -> None:
    for program in (tmp_path / "bin").iterdir():
        program.write_text("#!/bin/sh\necho no >&2\nexit 1\n")
    with pytest.raises(StateError, match="no"):
        there.install(entry(tmp_path))
    assert not list((tmp_path / "home").rglob("*.plist"))
