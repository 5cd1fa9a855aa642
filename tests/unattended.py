"""A machine of its own for tests of what runs automatically: a real systemd of an account, or a real cron, in a mount namespace."""

from __future__ import annotations

import json
import os
import shutil
import subprocess
import sys
from pathlib import Path
from typing import Any

# What each story begins with.
PRELUDE = """
import json, os, re, signal, subprocess, sys, time
said, told = {}, {}

# Loaded once: each command is a fork of this process.
import frugal_sorter.cli.command, frugal_sorter.cli.commands.schedule, frugal_sorter.cli.commands.history
from frugal_sorter.cli.main import main

def frugal(*words, code=None):
    out, into = os.pipe()
    child = os.fork()
    if child == 0:
        os.dup2(os.open(os.devnull, os.O_RDONLY), 0), os.dup2(into, 1), os.dup2(into, 2)
        ended = 70
        try:
            sys.argv = ["frugal", *words]
            ended = main(list(words))
            sys.stdout.flush(), sys.stderr.flush()
        except SystemExit as left:
            ended = left.code or 0
        finally:
            os._exit(ended)
    os.close(into)
    with os.fdopen(out, encoding="utf-8", errors="replace") as file:
        said = file.read()
    ended = os.waitstatus_to_exitcode(os.waitpid(child, 0)[1])
    assert code is None or ended == code, (words, ended, said)
    return said

def system(*words):
    return subprocess.run(words, capture_output=True, text=True, check=False).stdout

def until(is_so, seconds=90):
    end = time.monotonic() + seconds
    while not (found := is_so()):
        assert time.monotonic() < end, "what was waited for did not happen"
        time.sleep(0.05)
    return found

def start(name):
    # A systemd without the control groups of a booted machine now and then ends a unit wrongly that follows another at once.
    def is_recorded():
        unit = "frugal-" + name + ".service"
        until(lambda: system("systemctl", "--user", "is-active", unit).strip() in ("inactive", "failed"))
        time.sleep(0.2)
        said = frugal("schedule", "run", name)
        return said if any(line.startswith(name + ": ") for line in said.splitlines()) else ""
    return until(is_recorded)

def visits(name):
    return [one for one in json.loads(frugal("history", "--by", name, "--format", "json"))["visits"] if one["driver"] != "person"]
"""
TOOLS = ("unshare", "dbus-run-session", "systemctl")
SYSTEMD = "/usr/lib/systemd/systemd"


def has_systemd() -> bool:
    """Tell whether a systemd of its own can be started for a test."""
    return os.geteuid() == 0 and all(map(shutil.which, TOOLS)) and os.path.exists(SYSTEMD)


def has_cron() -> bool:
    """Tell whether a cron of its own, whose clock runs fast, can be started for a test."""
    return os.geteuid() == 0 and all(map(shutil.which, ("unshare", "cron", "crontab", "faketime")))


def with_systemd(story: str, place: Path, home: Path) -> dict[str, Any]:
    """Run a story in Python beside a systemd of the account; return what it leaves in `told`."""
    runtime = place / "run"
    (runtime / "systemd").mkdir(parents=True, mode=0o700)
    runtime.chmod(0o700)
    begin = (
        "mount -t tmpfs tmpfs /run/systemd && mkdir /run/systemd/system || exit 9\n"
        f"exec dbus-run-session -- sh -c '{SYSTEMD} --user > {place}/systemd.log 2>&1 & manager=$!\n"
        f'"$0" "$1"; code=$?; kill $manager; wait $manager; exit $code\' {sys.executable} {place}/story.py'
    )
    wait = 'until(lambda: "running" in system("systemctl", "--user", "is-system-running"))\n'
    return _run(begin, wait + story, place, {"HOME": str(home), "XDG_RUNTIME_DIR": str(runtime)})


def with_cron(story: str, place: Path) -> dict[str, Any]:
    """Run a story in Python beside a cron whose minute is two seconds; its home is that of the account, emptied."""
    begin = (
        "for one in /var/spool/cron /run; do mount -t tmpfs tmpfs $one || exit 9; done\n"
        # What this machine itself has for cron is none of the test's business.
        "mount --bind /dev/null /etc/crontab; mount -t tmpfs tmpfs /etc/cron.d\n"
        "mkdir -p -m 1730 /var/spool/cron/crontabs && chgrp crontab /var/spool/cron/crontabs\n"
        "for one in $HOME/.local $HOME/.config; do mkdir -p $one && mount -t tmpfs tmpfs $one || exit 9; done\n"
        f"faketime -f '+0 x30' cron -f > {place}/cron.log 2>&1 &\n"
        f"{sys.executable} {place}/story.py; code=$?; kill $(cat /run/crond.pid) 2> /dev/null; exit $code"
    )
    return _run(begin, story, place, {"HOME": os.path.expanduser("~root"), "PATH": os.environ["PATH"]})


def _run(begin: str, story: str, place: Path, env: dict[str, str]) -> dict[str, Any]:
    (place / "story.py").write_text(PRELUDE + story + "\nprint(json.dumps(told))\n")
    kept = {name: value for name, value in os.environ.items() if not name.startswith(("XDG_", "FRUGAL_", "PYTEST"))}
    done = subprocess.run(
        ["unshare", "-m", "--propagation", "private", "sh", "-c", begin], cwd=place, env={**kept, **env},
        capture_output=True, text=True, stdin=subprocess.DEVNULL, timeout=240, check=False,
    )  # fmt: skip
    assert done.returncode == 0, done.stdout + done.stderr
    found: dict[str, Any] = json.loads(done.stdout.strip().splitlines()[-1])
    return found
