"""`frugal schedule`, by the built program, beside a real systemd and a real cron."""

from __future__ import annotations

import json
import shutil
from pathlib import Path
from typing import Any

import pytest

from tests.conftest import Frugal
from tests.support import on_terminal, put, rules_text
from tests.unattended import has_cron, has_systemd, with_cron, with_systemd

RULE = 'where = "ext is log"\nmove = "Logs"'


@pytest.fixture
def desk(folder: Path) -> Path:
    """A folder with a rule file, and something for it to do."""
    for number in range(3):
        put(folder / f"desk 100%/Intake/{number}.log", f"{number}")
    (folder / "desk 100%/rules.toml").write_text(rules_text(RULE))
    return folder / "desk 100%"


STORY = """
os.chdir(DESK)
told["added"] = frugal("schedule", "add", "nightly", "--at", "daily 02:00", "--yes", "--", "tidy", "rules.toml", code=0)
units = os.path.expanduser("~/.config/systemd/user/")
told["verify"] = system("systemd-analyze", "--user", "verify", units + "frugal-nightly.timer")
# The timer itself fires: a second after it is turned on.
os.mkdir(units + "frugal-nightly.timer.d")
open(units + "frugal-nightly.timer.d/soon.conf", "w").write("[Timer]\\nOnActiveSec=1s\\n")
system("systemctl", "--user", "daemon-reload"), system("systemctl", "--user", "restart", "frugal-nightly.timer")
told["fired"] = until(lambda: [one for one in visits("nightly") if one["ended"]])
until(lambda: "inactive" in system("systemctl", "--user", "is-active", "frugal-nightly.service"))
os.remove(units + "frugal-nightly.timer.d/soon.conf"), os.rmdir(units + "frugal-nightly.timer.d")
system("systemctl", "--user", "daemon-reload"), system("systemctl", "--user", "restart", "frugal-nightly.timer")
told["table"] = frugal("history")
open("Intake/4.log", "w").write("4")
told["run"] = start("nightly")
start("nightly"), start("nightly")
told["visits"] = visits("nightly")
told["list"] = json.loads(frugal("schedule", "list", "--format", "json", code=0))
told["theirs"] = system("systemctl", "--user", "list-timers", "--output=json", "frugal-nightly.timer")
told["well"] = frugal("schedule", "check", code=0)
told["pause"] = frugal("schedule", "pause", "nightly", code=0)
told["paused"] = [system("systemctl", "--user", "is-enabled", "frugal-nightly.timer").strip(), frugal("schedule", "check", code=1)]
told["resume"] = frugal("schedule", "resume", "nightly", code=0)
told["resumed"] = [system("systemctl", "--user", "is-enabled", "frugal-nightly.timer").strip(), frugal("schedule", "check", code=0)]
# An entry of somebody else is not ours to touch.
open(units + "frugal-theirs.timer", "w").write("[Timer]\\nOnBootSec=1\\n")
told["theirs_stays"] = frugal("schedule", "add", "theirs", "--at", "daily 02:00", "--yes", "--", "tidy", "rules.toml", code=2)
told["twice"] = frugal("schedule", "add", "nightly", "--at", "daily 02:00", "--yes", "--", "tidy", "rules.toml", code=2)
# A watcher as a service.
told["watch"] = frugal("schedule", "add", "intake", "--at", "arrival", "--yes", "--", "watch", "rules.toml", "--settle", "0.2s", code=2)
frugal("schedule", "add", "intake", "--at", "arrival", "--yes", "--", "watch", "rules.toml", "--settle", "1s", code=0)
until(lambda: visits("intake"))
open("Intake/5.log", "w").write("5")
until(lambda: os.path.exists("Intake/Logs/5.log"))
until(lambda: any(one["outcome"] == "done" for one in visits("intake")))
told["service"] = [system("systemctl", "--user", "is-active", "frugal-intake.service").strip(), frugal("schedule", "check", code=0)]
system("systemctl", "--user", "stop", "frugal-intake.service")
told["service_gone"] = frugal("schedule", "check", code=1)
told["watched"] = visits("intake")
frugal("schedule", "remove", "intake", code=0)
told["removed"] = frugal("schedule", "remove", "nightly", code=0)
told["left"] = [sorted(os.listdir(units)), system("systemctl", "--user", "list-timers", "--all", "--no-legend"), frugal("schedule", "list")]
"""


@pytest.mark.skipif(not has_systemd(), reason="no systemd of its own can be started here (as root, with dbus)")
def test_a_timer_of_systemd_fires_and_is_seen_as_systemd_has_it(desk: Path, own_home: Path, tmp_path: Path) -> None:
    told = with_systemd(f"DESK = {str(desk)!r}\n{STORY}", tmp_path, own_home)
    assert "nightly is on, next at" in told["added"] and "today   move 3 files" in told["added"] and not told["verify"]
    (fired,) = told["fired"]
    assert (fired["driver"], fired["name"], fired["outcome"]) == ("schedule", "nightly", "done")
    assert fired["done"] == {"move": {"files": 3, "folders": 0, "inside": 0, "bytes": 3}} and fired["runs"] == [1]
    assert "nightly" in told["table"] and "nightly: " in told["run"] and "run 2" in told["run"] and "frugal undo 2" in told["run"]
    # The timer's run and ours see the same.
    first, second, idle = told["visits"]
    assert first["environment"] == second["environment"] and first["environment"]["folder"] == str(desk)
    assert (first["account"], first["command"]) == (second["account"], second["command"])
    assert (idle["outcome"], idle["times"]) == ("nothing to do", 2)
    (row,) = told["list"]["schedules"]
    from datetime import datetime

    at = int(datetime.fromisoformat(row["next"]).timestamp())
    assert row["state"] == "on" and json.loads(told["theirs"])[0]["next"] == at * 1_000_000
    assert "no problems" in told["well"] and told["paused"][0] == "disabled" and "paused" in told["paused"][1]
    assert told["resumed"][0] == "enabled" and "no problems" in told["resumed"][1]
    assert (
        "another unit with this name" in told["theirs_stays"] and "already" in told["twice"] and "not a duration" in told["watch"]
    )
    assert told["service"][0] == "active" and "no problems" in told["service"][1]
    assert "intake: it is disabled in systemd" in told["service_gone"]
    assert {one["outcome"] for one in told["watched"]} == {"nothing to do", "done", "stopped"}
    assert told["left"][0] == ["frugal-theirs.timer"] and not told["left"][1].strip() and "No schedules yet" in told["left"][2]


# How it could stop, what does it, and what `schedule check` must say of it.
SILENT = {
    "turned off": ('system("systemctl", "--user", "disable", "--now", "frugal-nightly.timer")', "disabled in systemd", "schedule resume"),
    "stopped": ('system("systemctl", "--user", "stop", "frugal-nightly.timer")', "disabled in systemd", "schedule resume"),
    "masked": (
        'os.remove(units + "frugal-nightly.timer"); system("systemctl", "--user", "mask", "frugal-nightly.timer")',
        "it is masked", "unmask",
    ),
    "timer gone": ('os.remove(units + "frugal-nightly.timer")', "frugal-nightly.timer is missing", "schedule resume"),
    "service gone": ('os.remove(units + "frugal-nightly.service")', "frugal-nightly.service is missing", "schedule resume"),
    "changed by hand": ('open(units + "frugal-nightly.service", "a").write("Nice=1\\n")', "was edited", "schedule resume"),
    "rules broken": ('open("rules.toml", "a").write("x = [")', "rules.toml:", "not TOML"),
    "rules gone": ('os.rename("rules.toml", "other.toml")', "cannot be read", "name another one"),
    "rules of others": ('os.chmod("rules.toml", 0o666)', "other users can", "chmod"),
    "folder missing": ('os.rename("Intake", "Gone"); start("nightly")', "failed at", "Intake is missing"),
    "ceiling": (
        'open("rules.toml", "w").write(CEILING); start("nightly")', "refused at", "--at-most 2",
    ),
    "another writer": (
        'import fcntl; lock = open(next(state.glob("*/*/writer.lock")), "r+"); fcntl.flock(lock, fcntl.LOCK_EX); '
        'start("nightly"); lock.close()', "refused at", "another frugal run is changing files",
    ),
    "disk full": (
        'os.mkdir("Small"); system("mount", "-t", "tmpfs", "-o", "size=64k", "tmpfs", "Small"); '
        'open("Intake/big.log", "w").write("x" * 500_000); open("rules.toml", "w").write(SMALL); '
        'start("nightly")', "at 2", "free",
    ),
    "interpreter gone": ('change(interpreter="/nowhere/python3")', "/nowhere/python3, no longer exists", "install"),
    "interpreter does not start": (
        'change(interpreter="/bin/false"); frugal("schedule", "resume", "nightly"); frugal("schedule", "run", "nightly")',
        "the scheduler says: exit-code", "history --by nightly",
    ),
    "its folder gone": ('change(folder="/nowhere")', "/nowhere, no longer exists", "remove the schedule and add it from another folder"),
    "machine may have been off": (
        'import sqlite3; db = sqlite3.connect(next(state.glob("*/*/journal.sqlite"))); '
        'db.execute("UPDATE visits SET began_ns = began_ns - 3 * 86400000000000"); db.commit(); db.close(); '
        'change(since_ns=entry["since_ns"] - 3 * 86_400 * 10**9)', "overdue: it was due at", "schedule run"),
    "clock set back": (
        'import sqlite3; db = sqlite3.connect(next(state.glob("*/*/journal.sqlite"))); '
        'db.execute("UPDATE visits SET began_ns = began_ns + 86400000000000"); db.commit(); db.close()', "is in the future, so", "clock was probably set back",
    ),
    "journal damaged": (
        'path = next(state.glob("*/*/journal.sqlite")); open(path, "r+b").write(b"x" * 4096)', "journal", "rename it",
    ),
    "paused": ('frugal("schedule", "pause", "nightly")', "paused", "schedule resume"),
}  # fmt: skip


@pytest.mark.skipif(not has_systemd(), reason="no systemd of its own can be started here (as root, with dbus)")
def test_no_way_in_which_it_could_stop_is_silent(desk: Path, own_home: Path, tmp_path: Path) -> None:
    small = rules_text('where = "ext is log"\nmove = "../Small"')
    ceiling = rules_text('where = "ext is log"\ntrash = true\nat_most = 1')
    lines = [
        f"DESK, CEILING, SMALL = {str(desk)!r}, {ceiling!r}, {small!r}",
        "import pathlib, shutil",
        "units, state = os.path.expanduser('~/.config/systemd/user/'), pathlib.Path(os.path.expanduser('~/.local/state'))",
        "def change(**fields):",
        "    path = next(state.glob('*/*/schedules/nightly.json'))",
        "    path.write_text(json.dumps({**json.loads(path.read_text()), **fields}))",
    ]
    for name, (deed, _, _) in SILENT.items():
        lines += [
            "shutil.rmtree(state, ignore_errors=True); shutil.copytree(DESK, DESK + '/../now', symlinks=True); os.chdir(DESK + '/../now')",
            "frugal('schedule', 'add', 'nightly', '--at', 'daily 02:00', '--yes', '--', 'tidy', 'rules.toml', code=0)",
            "start('nightly')",
            "[open(f'Intake/{number}.log', 'w').close() for number in range(7, 9)]",
            "entry = json.loads(next(state.glob('*/*/schedules/nightly.json')).read_text())",
            f"assert 'no problems' in frugal('schedule', 'check', code=0), {name!r}",
            deed,
            f"told[{name!r}] = frugal('schedule', 'check', code=1)",
            f"told[{name + ' list'!r}] = frugal('schedule', 'list', code=None)",
            "system('umount', 'Small'); os.chdir(DESK); shutil.rmtree(DESK + '/../now')",
            "system('systemctl', '--user', 'unmask', 'frugal-nightly.timer')",
            "system('systemctl', '--user', 'stop', 'frugal-nightly.timer')",
            "[os.remove(units + one) for one in os.listdir(units) if one.startswith('frugal-')]",
            "system('systemctl', '--user', 'daemon-reload'); system('systemctl', '--user', 'reset-failed')",
        ]
    told = with_systemd("\n".join(lines), tmp_path, own_home)
    for name, (_, said, instead) in SILENT.items():
        # A line for each thing that is wrong: which schedule, what, and what to do.
        assert all(line.startswith(("nightly: ", "Note: ")) for line in told[name].splitlines()), told[name]
        assert said in told[name] and instead in told[name], (name, told[name])
        assert said in told[f"{name} list"] or "journal" in told[f"{name} list"], told[f"{name} list"]


CRON = """
os.chdir(DESK)
table = b"SHELL=/bin/sh\\nPATH=/usr/bin:/bin\\n# 50% of it\\r\\n0 5 1 1 * echo a\\\\%b\\n\\n17 5 1 1 * true # \\xe9\\n"
subprocess.run(["crontab", "-"], input=table, check=True)
spool = "/var/spool/cron/crontabs/root"
foreign = lambda: open(spool, "rb").read()[-len(table):] == table
mine = lambda: open(spool, "rb").read().partition(b"# frugal nightly: begin")[0].endswith(table)
told["refused"] = frugal("schedule", "add", "nightly", "--with", "cron", "--at", "daily 02:00", "--wake", "--yes", "--", "tidy", "rules.toml", code=2)
frugal("schedule", "add", "nightly", "--with", "cron", "--at", "every 1 minute", "--yes", "--", "tidy", "rules.toml", code=0)
told["kept"] = [mine()]
until(lambda: any(one["outcome"] == "done" for one in visits("nightly")))
frugal("schedule", "run", "nightly", code=0)
until(lambda: sum(one["times"] for one in visits("nightly")) >= 4)
told["visits"] = visits("nightly")
told["well"] = frugal("schedule", "check", code=0)
frugal("schedule", "pause", "nightly", code=0)
told["kept"].append(mine())
told["paused"] = frugal("schedule", "check", code=1)
before = sum(one["times"] for one in visits("nightly"))
frugal("schedule", "resume", "nightly", code=0)
until(lambda: sum(one["times"] for one in visits("nightly")) > before)
subprocess.run(["crontab", "-"], input=table, check=True)
told["replaced"] = frugal("schedule", "check", code=1)
frugal("schedule", "resume", "nightly", code=0)
system("sh", "-c", "sed -i 's/--yes/--yes --again/' " + spool)
told["changed"] = frugal("schedule", "check", code=1)
frugal("schedule", "resume", "nightly", code=0)
os.kill(int(open("/run/crond.pid").read()), signal.SIGTERM)
until(lambda: "cron is not running" in frugal("schedule", "check"))
frugal("schedule", "remove", "nightly", code=0)
told["kept"].append(foreign())
told["list"] = frugal("schedule", "list")
"""


@pytest.mark.skipif(not has_cron(), reason="no cron of its own can be started here (as root, with faketime)")
def test_cron_fires_and_whatever_else_its_table_holds_stays(desk: Path, tmp_path: Path) -> None:
    told = with_cron(f"DESK = {str(desk)!r}\n{CRON}", tmp_path)
    assert told["kept"] == [True, True, True] and "--wake is not supported by cron" in told["refused"]
    assert (desk / "Intake/Logs/0.log").exists()
    # With cron's bare environment, and so when we start it.
    environments = [one["environment"] for one in told["visits"]]
    assert all(one == environments[0] for one in environments) and environments[0]["PATH"] == "/usr/bin:/bin"
    assert "no problems" in told["well"] and "paused" in told["paused"] and "missing" in told["replaced"]
    assert "was edited" in told["changed"] and "No schedules yet" in told["list"]


def test_what_is_printed_is_for_any_platform_and_writes_nothing(desk: Path, frugal: Frugal, own_home: Path) -> None:
    rules = str(desk / "rules.toml")
    for name, mark in (
        ("systemd", "OnCalendar="),
        ("cron", "0 2 * * * "),
        ("launchd", "<key>StartCalendarInterval"),
        ("windows", "<ScheduleByWeek>"),
    ):
        said = frugal("schedule", "add", "nightly", "--at", "daily 02:00", "--with", name, "--print", "--", "tidy", rules).stdout
        assert mark in said and "visit" in said and "nightly" in said
    assert "No schedules yet" in frugal("schedule", "list").stdout and not (own_home / ".config/systemd").exists()


@pytest.mark.parametrize(("words", "told"), [
    (("nightly", "--at", "18:00"), "--at: "), (("Nightly", "--at", "daily 18:00"), "not a valid schedule"),
    (("x", "--at", "daily 18:00", "--", "history"), "cannot be scheduled"), (("x", "--at", "arrival", "--", "tidy"), "use --at arrival -- watch"),
    (("x", "--at", "daily 18:00", "--", "watch"), "use --at arrival -- watch"), (("x", "--at", "daily 18:00", "--", "tidy", "none.toml"), "found"),
    (("x", "--at", "daily 18:00", "--", "inventory", "."), "add --save"), (("x", "--at", "daily 18:00", "--", "purge", "."), "needs --older-than"),
    (("x", "--at", "daily 18:00", "--limit", "soon"), "--limit: "), (("x", "--at", "daily 18:00", "--at-most", "0", "--", "purge", ".", "--older-than", "1d"), "--at-most"),
    (("x", "--at", "daily 18:00", "--for", "nobody-here", "--", "sort", "."), "no account"),
])  # fmt: skip
def test_bad_input_is_one_line_and_writes_nothing(desk: Path, frugal: Frugal, words: tuple[str, ...], told: str) -> None:
    if told == "--at-most" and not shutil.which("crontab"):
        pytest.skip("cron is not installed")
    said = frugal("schedule", "add", *words[:3], "--with", "cron", *words[3:], code=2).stderr
    assert told in said and said.count("\n") == 1 and "No schedules yet" in frugal("schedule", "list").stdout


def test_a_run_that_would_take_too_much_must_be_allowed(desk: Path, frugal: Frugal) -> None:
    for number in range(1_200):
        put(desk / f"Intake/{number}.tmp", "", 90)
    words = ("schedule", "add", "x", "--at", "daily 18:00", "--with", "cron", "--print")
    purge = ("--", "purge", str(desk / "Intake"), "--older-than", "30d", "--by", "modified")
    assert "would be refused" in frugal(*words, *purge, code=2).stderr
    assert "--at-most 2400" in frugal(*words, "--at-most", "2400", *purge).stdout
    assert json.loads(frugal("history", "--format", "json").stdout) == {"format": 2, "runs": [], "visits": []}


@pytest.mark.skipif(not shutil.which("crontab"), reason="cron is not installed")
def test_a_person_who_is_asked_sees_what_the_chosen_number_allows(desk: Path) -> None:
    for number in range(1_200):
        put(desk / f"Intake/{number}.tmp", "", 90)
    words = (
        "schedule",
        "add",
        "x",
        "--at",
        "daily 18:00",
        "--with",
        "cron",
        "--",
        "purge",
        "Intake",
        "--older-than",
        "30d",
        "--by",
        "modified",
    )
    code, said = on_terminal(desk, *words, answers="\nn\n")
    said = " ".join(said.split())
    assert code == 3 and "it would remove 1,200 files" in said and "[2,400]" in said
    assert "--at-most 2400" in said and "today move 1,200 files" in said and "are allowed" not in said


def visit(frugal: Frugal, *words: str, **more: Any) -> str:
    return str(frugal("visit", "nightly", "--in", *words, **more).stdout)


def test_a_visit_keeps_to_its_hours_and_its_limit_and_leaves_a_record(desk: Path, frugal: Frugal) -> None:
    tidy = ("--", "tidy", str(desk / "rules.toml"), "--yes")
    visit(frugal, str(desk), "--during", "sun 00:00-00:01", *tidy)
    visit(frugal, "/nowhere", *tidy, code=2)
    (desk / "rules.toml").write_text(rules_text(RULE + '\nrun = ["sleep", "30"]'))
    visit(frugal, str(desk), "--limit", "1 second", *tidy, code=143)
    assert not (desk / "Intake/Logs/2.log").exists()
    found = json.loads(frugal("history", "--by", "nightly", "--format", "json").stdout)["visits"]
    assert [one["outcome"] for one in found] == ["nothing to do", "failed", "stopped"]
    assert found[0]["reason"] == "outside the allowed hours, sun 00:00-00:01" and "/nowhere" in found[1]["reason"]
