"""The settings of the tool itself: a small TOML file beside the rules, which need not be there."""

from __future__ import annotations

import tomllib
from typing import Any

from frugal_sorter.errors import UsageError
from frugal_sorter.platforms import own_folders
from frugal_sorter.platforms.slashed import Path
from frugal_sorter.state.folders import APP
from frugal_sorter.state.inputs import read_input
from frugal_sorter.state.trust import distrusted
from frugal_sorter.values import frozen

_LARGEST_FILE = 4_000_000
LEVELS = ("debug", "info", "warning", "error", "off")


@frozen
class Settings:
    """What may be set.

    Args:
        log: from which level on lines go to the log file.
        keep_days: for how long runs are remembered, so that they can be taken back.
        on_problem: a program with its arguments that is told when an unattended visit went wrong; empty for none.
    """

    log: str = "info"
    keep_days: int = 400
    on_problem: tuple[str, ...] = ()


def settings_file() -> Path:
    """Return where the settings are looked for."""
    return Path(own_folders.settings_home(APP)) / "settings.toml"


def read_settings() -> Settings:
    """Read the settings of this account.

    Raises:
        UsageError: something in them is wrong.
    """
    path = settings_file()
    try:
        table = tomllib.loads(read_input(path, _LARGEST_FILE, lambda _: _refuse_others(path)).decode("utf-8"))
    except FileNotFoundError:
        return Settings()
    except (OSError, ValueError, RecursionError) as error:
        raise UsageError(f"{path}: the settings cannot be read ({error})", "mend the file, or remove it") from None
    for key, value in table.items():
        _check(path, key, value)
    on_problem = table.pop("on-problem", {})
    return Settings(**table, on_problem=tuple(on_problem.get("run", ())))


def _refuse_others(path: Path) -> None:
    # They name a program, and say for how long runs can be taken back.
    if who := distrusted(path):
        raise UsageError(
            f"{path}: other accounts can change these settings: {who}",
            "chmod go-w what is named, or set XDG_CONFIG_HOME to a folder of your own",
        )


def _check(path: Path, key: str, value: Any) -> None:
    if key == "log" and value in LEVELS:
        return
    if key == "keep_days" and isinstance(value, int) and not isinstance(value, bool) and value > 0:
        return
    if key == "on-problem" and isinstance(value, dict) and set(value) == {"run"} and _is_command(value["run"]):
        return
    known = {
        "log": f"one of {', '.join(LEVELS)}", "keep_days": "a number of days",
        "on-problem": 'a table with a program, such as run = ["mail", "-s", "frugal", "root"]',
    }  # fmt: skip
    if key not in known:
        raise UsageError(f"{path}: there is no setting `{key}`", f"known are {', '.join(known)}")
    raise UsageError(f"{path}: `{key}` cannot be {value!r}", f"it is {known[key]}")


def _is_command(value: Any) -> bool:
    return isinstance(value, list) and bool(value) and all(isinstance(one, str) and one for one in value)
