"""Timers of systemd: of the account, or of the whole machine (systemd.timer(5), systemd.service(5))."""

from __future__ import annotations

import json
import os
import re
import shlex
import signal
import tempfile
from collections.abc import Sequence
from contextlib import suppress
from shutil import which

from frugal_sorter.errors import StateError
from frugal_sorter.platforms import accounts, disk, slashed, system
from frugal_sorter.platforms.slashed import Path
from frugal_sorter.schedule import scheduler
from frugal_sorter.schedule.scheduler import Cannot, Entry, Piece, State, ask_system, insist, put_in_place, text_of, unremembered
from frugal_sorter.schedule.when import DAYS, LAST, When

_MARK = "# Written by `frugal schedule`, which also changes and removes it."
_SYSTEM = Path("/etc/systemd/system")
# What may be inside an argument without quotes.
_PLAIN = re.compile(r"[A-Za-z0-9_./:@,+=-]+")
# After the time that a visit may take it is given so long to end the step that it is at.
_GRACE_SECONDS = 120


def quoted(word: str) -> str:
    """Return a word as an argument of a command line of a unit, nothing in it expanded (systemd.service(5))."""
    safe = word.replace("%", "%%").replace("$", "$$")
    if _PLAIN.fullmatch(safe):
        return safe
    return '"' + safe.replace("\\", "\\\\").replace('"', '\\"') + '"'


def calendar_of(when: When) -> list[str]:
    """Return the calendar expressions for when something runs (systemd.time(7))."""
    if when.kind == "once":
        return [f"{when.at:%Y-%m-%d %H:%M}:00"]
    weekdays = ",".join(DAYS[at].capitalize() for at in sorted(when.weekdays))
    month = "*" if when.months is None else ",".join(f"{one:02}" for one in sorted(when.months))
    dates: list[str] = []
    by_month_day = when.month_days is not None
    if by_month_day:
        assert when.month_days is not None
        days = sorted(day for day in when.month_days if day != LAST)
        on = "" if when.either or len(when.weekdays) == 7 else f"{weekdays} "
        dates += [f"{on}*-{month}-{','.join(f'{day:02}' for day in days)}"] if days else []
        dates += [f"{on}*-{month}~01"] if LAST in when.month_days else []
    if not by_month_day or when.either:
        dates.append(f"*-{month}-*" if len(when.weekdays) == 7 else f"{weekdays} *-{month}-*")
    times = [
        f"{'*' if len(hours) == 24 else ','.join(f'{hour:02}' for hour in hours)}:"
        f"{'*' if len(minutes) == 60 else ','.join(f'{minute:02}' for minute in minutes)}:00"
        for minutes, hours in when.by_minute().items()
    ]
    return [f"{day} {at}" for day in dates for at in times]


class Scheduler(scheduler.Scheduler):
    """systemd."""

    name = "systemd"

    @classmethod
    def is_here(cls) -> bool:
        if which("systemctl") is None:
            return False
        user = [] if accounts.is_admin() and not _has_user_manager() else ["--user"]
        done = ask_system(["systemctl", *user, "is-system-running"])
        return done.stdout.strip() in (b"running", b"degraded", b"starting", b"initializing", b"maintenance")

    def cannot(self, entry: Entry) -> Sequence[Cannot]:
        is_system, found = entry.whole_machine, []
        kind = entry.when.kind
        if entry.wake and not is_system:
            found.append(Cannot("--wake", "to do this, run as root and add --whole-machine"))
        if entry.wake and kind != "times" and kind != "once":
            found.append(Cannot("--wake", "this needs a schedule with a clock time"))
        if kind == "log-on" and is_system:
            found.append(Cannot("log-on", "remove --whole-machine, or use start-up"))
        if entry.catch_up and kind not in ("times", "once"):
            found.append(Cannot("--catch-up", "this needs a schedule with a clock time"))
        return found

    def pieces(self, entry: Entry) -> Sequence[Piece]:
        folder = _folder(entry)
        pieces = [Piece(str(folder / f"{entry.unit}.service"), self._service(entry))]
        if not entry.is_watch:
            pieces.append(Piece(str(folder / f"{entry.unit}.timer"), self._timer(entry)))
        return pieces

    def _service(self, entry: Entry) -> str:
        what = " ".join(map(quoted, entry.command))
        lines = [
            _MARK,
            "[Unit]",
            f"Description=frugal {entry.name}: {what}",
            # However often it is started, it is never left out in silence.
            "StartLimitIntervalSec=0",
            "",
            "[Service]",
        ]
        if entry.is_watch:
            lines += ["Type=simple", "Restart=always", "RestartSec=10"]
        else:
            lines += ["Type=oneshot"]
            if entry.limit:
                lines.append(f"TimeoutStartSec={entry.seconds(entry.limit) + _GRACE_SECONDS}")
        lines += [
            f"ExecStart={' '.join(map(quoted, entry.command_line))}",
            "Nice=10",
            # Only the program itself is asked to end; what it reads files with ends with it, and what a rule started
            # to go on is left alone.
            "KillMode=process",
        ]
        if entry.is_watch:
            lines += ["", "[Install]", f"WantedBy={'multi-user.target' if entry.whole_machine else 'default.target'}"]
        return "\n".join([*lines, ""])

    def _timer(self, entry: Entry) -> str:
        when, is_system = entry.when, entry.whole_machine
        lines = [_MARK, "[Unit]", f"Description=when frugal {entry.name} runs: {when.text.replace('%', '%%')}", "", "[Timer]"]
        if when.kind == "start-up":
            lines.append("OnBootSec=1min" if is_system else "OnStartupSec=1min")
        elif when.kind == "log-on":
            lines.append("OnStartupSec=10s")
        else:
            lines += [f"OnCalendar={one}" for one in calendar_of(when)]
            lines.append(f"Persistent={'false' if entry.catch_up is False else 'true'}")
        # Without this it may come up to a minute late.
        lines.append("AccuracySec=1s")
        if entry.spread:
            lines.append(f"RandomizedDelaySec={entry.seconds(entry.spread)}")
        if entry.wake:
            lines.append("WakeSystem=true")
        lines += ["", "[Install]", "WantedBy=timers.target", ""]
        return "\n".join(lines)

    def starts(self, entry: Entry) -> Sequence[Sequence[str]]:
        # A line that ends in a backslash goes on in the next one (systemd.syntax(7)).
        text = re.sub(r"\\\n", " ", self._service(entry))
        lines = [line.rstrip() for line in text.splitlines() if line.startswith("ExecStart=")]
        read = [[word.replace("%%", "%").replace("$$", "$") for word in shlex.split(line[10:])] for line in lines]
        return read if read and not self._complaint(entry) else []

    def _complaint(self, entry: Entry) -> str:
        """Return what systemd itself says against the units, where it is there to be asked."""
        if which("systemd-analyze") is None:
            return ""
        with tempfile.TemporaryDirectory() as folder:
            paths = [slashed.join(folder, os.path.basename(piece.path)) for piece in self.pieces(entry)]
            for path, piece in zip(paths, self.pieces(entry), strict=True):
                Path(path).write_text(piece.text, encoding="utf-8")
            said = ask_system(["systemd-analyze", "verify", "--man=no", *paths]).stderr.decode(errors="replace")
        return next((line for line in said.splitlines() if f"{entry.unit}." in line), "")

    def commands(self, entry: Entry) -> Sequence[Sequence[str]]:
        always = [["loginctl", "enable-linger", accounts.account_name()]] if entry.linger else []
        return [[*_control(entry), "daemon-reload"], *always, [*_control(entry), "enable", "--now", _what(entry)]]

    def install(self, entry: Entry) -> None:
        pieces = self.pieces(entry)
        before = {piece.path: text_of(piece.path) for piece in pieces}
        for path, text in before.items():
            if text is not None and not text.startswith(_MARK):
                raise StateError(f"another unit with this name already exists: {path}", "choose another name")
        try:
            for piece in pieces:
                put_in_place(piece)
            for command in self.commands(entry) if entry.on else self.commands(entry)[:1]:
                insist(command)
        except StateError:
            # All or nothing: what was there before comes back, else a half of it would run.
            for path, text in before.items():
                with suppress(OSError, StateError):
                    put_in_place(Piece(path, text)) if text is not None else disk.unlink(path)
            ask_system([*_control(entry), "daemon-reload"])
            raise

    def remove(self, entry: Entry) -> None:
        ask_system([*_control(entry), "disable", "--now", _what(entry)])
        if not entry.is_watch:
            # What runs now ends its step.
            ask_system([*_control(entry), "stop", "--no-block", f"{entry.unit}.service"])
        for piece in self.pieces(entry):
            text = text_of(piece.path)
            if text is not None and text.startswith(_MARK):
                try:
                    disk.unlink(piece.path)
                except OSError as error:
                    raise StateError(f"{piece.path}: it cannot be removed ({error.strerror})", "remove it as its owner") from None
        ask_system([*_control(entry), "daemon-reload"])
        ask_system([*_control(entry), "reset-failed", f"{entry.unit}.service"])

    def turn(self, entry: Entry, on: bool) -> None:
        if on:
            self.install(entry)
        else:
            insist([*_control(entry), "disable", "--now", _what(entry)])

    def state(self, entry: Entry) -> State:
        names = "LoadState,ActiveState,UnitFileState"
        done = ask_system([*_control(entry), "show", f"--property={names}", _what(entry)])
        said = _properties(done.stdout)
        if done.returncode != 0 or not said:
            why = done.stderr.decode(errors="replace").strip() or "no answer"
            return State(False, trouble=(f"systemd does not answer: {why}; check that it is running for this account",))
        trouble = []
        for piece in self.pieces(entry):
            text = text_of(piece.path)
            if text is None:
                trouble.append(f"{piece.path} is missing; to restore it: frugal schedule resume {entry.name}")
            elif text != piece.text:
                trouble.append(f"{piece.path} was edited; to restore it: frugal schedule resume {entry.name}")
        if said.get("LoadState") == "masked":
            trouble.append(f"it is masked; to unmask it: systemctl unmask {_what(entry)}")
        is_there = said.get("LoadState") == "loaded"
        is_on = is_there and said.get("ActiveState") in ("active", "activating") and said.get("UnitFileState") == "enabled"
        service = _shown(entry, f"{entry.unit}.service", "Result,ExecMainStatus,ActiveState")
        result = service.get("Result", "")
        # While it runs, the result is that of the time before.
        is_over = service.get("ActiveState") in ("inactive", "failed")
        last = "" if result in ("", "success") or not is_over else f"{result}, exit code {service.get('ExecMainStatus', '?')}"
        if is_there and entry.on and not is_on:
            trouble.append(f"it is disabled in systemd; to enable it: frugal schedule resume {entry.name}")
        next_ns = None if entry.is_watch else _next_ns(entry)
        return State(is_there, is_on, tuple(trouble), next_ns, last)

    def marked(self) -> Sequence[Entry]:
        found = []
        for whole_machine in (False, True) if accounts.is_admin() else (False,):
            folder = _folder(unremembered("", self.name, whole_machine))
            for path in sorted(folder.glob("frugal-*.service")):
                if (text_of(str(path)) or "").startswith(_MARK):
                    found.append(unremembered(path.stem.removeprefix("frugal-"), self.name, whole_machine))
        return found

    def run(self, entry: Entry) -> int:
        # Of a unit of the kind `oneshot` this waits for its end; without a limit of ours, since it may rightly take hours.
        done = ask_system([*_control(entry), "start", f"{entry.unit}.service"], seconds=None)
        said = _properties(
            ask_system(
                [*_control(entry), "show", "--property=LoadState,ExecMainStatus,ExecMainCode", f"{entry.unit}.service"]
            ).stdout
        )
        if said.get("LoadState") != "loaded":
            why = done.stderr.decode(errors="replace").strip()
            raise StateError(
                f"{entry.unit}.service cannot be started: {why}", f"`frugal schedule resume {entry.name}` writes it again"
            )
        code = int(said.get("ExecMainStatus") or 0)
        if done.returncode != 0 and code == 0:
            said_first = (done.stderr.decode(errors="replace").strip() or "it was not started").splitlines()[0]
            raise StateError(f"{entry.unit}.service: {said_first}", "see `systemctl status`")
        # Of a program that a signal ended the number is that of the signal.
        return code if said.get("ExecMainCode") in ("1", "0", "") else 128 + code if code else 128 + signal.SIGTERM


def _shown(entry: Entry, unit: str, names: str) -> dict[str, str]:
    """Return properties of a unit, as systemd has them."""
    return _properties(ask_system([*_control(entry), "show", f"--property={names}", unit]).stdout)


def _next_ns(entry: Entry) -> int | None:
    """Return when systemd starts a timer next, in ns since the epoch; None where it does not say."""
    done = ask_system([*_control(entry), "list-timers", "--all", "--output=json", _what(entry)])
    try:
        (timer,) = json.loads(done.stdout)
        return int(timer["next"]) * 1_000 or None
    except (ValueError, TypeError, KeyError):
        return None


def _has_user_manager() -> bool:
    runtime = os.environ.get("XDG_RUNTIME_DIR", "")
    return bool(runtime) and disk.exists(f"{runtime}/systemd/private")


def _control(entry: Entry) -> list[str]:
    return ["systemctl"] if entry.whole_machine else ["systemctl", "--user"]


def _what(entry: Entry) -> str:
    """Return the unit that is turned on: the timer, or the service of a watcher."""
    return f"{entry.unit}.service" if entry.is_watch else f"{entry.unit}.timer"


def _folder(entry: Entry) -> Path:
    return _SYSTEM if entry.whole_machine else Path(system.settings_home("systemd")) / "user"


def _properties(said: bytes) -> dict[str, str]:
    lines = said.decode(errors="replace").splitlines()
    return dict(line.split("=", 1) for line in lines if "=" in line)
