"""Folders with a name: the built-in places of the operating system, and those of a rule file."""

from __future__ import annotations

import os
import re
from collections.abc import Iterator, Mapping

from frugal_sorter.platforms import disk, slashed
from frugal_sorter.platforms.slashed import Path
from frugal_sorter.rules.file.mistakes import InvalidValue, nearest

_LEAD = re.compile(r"\{([^{}]*)\}")
_VARIABLE = re.compile(r"\$(?:\{(\w+)\}|(\w+))")


_BUILT_IN = ("home", "desktop", "documents", "downloads", "pictures", "music", "videos", "temp")


class Places(Mapping[str, str]):
    """Folders with a name: those that every rule file can name (XDG user directories on Linux), and those that one adds.

    Where the system has a folder is found out when it is named: few rule files name more than one or two.
    """

    def __init__(self) -> None:
        self._known: dict[str, str | None] = dict.fromkeys(_BUILT_IN)

    def __getitem__(self, name: str) -> str:
        folder = self._known[name]
        if folder is None:
            folder = self._known[name] = _built_in(name)
        return folder

    def __setitem__(self, name: str, folder: str) -> None:
        self._known[name] = folder

    def __iter__(self) -> Iterator[str]:
        return iter(self._known)

    def __contains__(self, name: object) -> bool:
        return name in self._known

    def __len__(self) -> int:
        return len(self._known)


def _built_in(name: str) -> str:
    if name == "home":
        return str(Path.home())
    if name == "temp":
        return _temp_folder()
    import platformdirs

    return slashed.slashed(str(getattr(platformdirs, f"user_{name}_dir")()))


def _temp_folder() -> str:
    named = os.environ.get("TMPDIR", "")
    for folder in (named, "/tmp"):
        if slashed.is_absolute(folder) and disk.isdir(folder):
            return folder
    import tempfile  # only where it is not plain: it takes a while to import

    return tempfile.gettempdir()


def expand(text: str, places: Mapping[str, str], beside: str) -> str:
    """Return the absolute path that a folder in a rule file means; links are not resolved.

    Args:
        text: as written; may start with `{place}` or `~` and hold environment variables.
        places: known places.
        beside: the folder of the rule file, which relative paths are below.

    Raises:
        InvalidValue: a place, a user or a variable is not known.
    """
    if not text.strip():
        raise InvalidValue("the folder is empty", "name a folder")
    if "\x00" in text:
        raise InvalidValue("the folder holds a NUL", "take it out")
    lead = _LEAD.match(text)
    if lead:
        if lead[1] not in places:
            hint = nearest(lead[1], places) or f"known are {', '.join(places)}"
            raise InvalidValue(f"there is no place {{{lead[1]}}}", hint)
        text = places[lead[1]] + text[lead.end() :]
    else:
        text = expand_user(slashed.slashed(_VARIABLE.sub(_variable, text)))
    return slashed.normpath(slashed.join(beside, text))


def expand_user(text: str) -> str:
    """Return a path with a leading `~` or `~user` filled in.

    Raises:
        InvalidValue: there is no such user.
    """
    expanded = slashed.expanduser(text)
    if expanded.startswith("~") and text.split("/")[0] == expanded.split("/")[0]:
        raise InvalidValue(f"there is no user {text.split('/')[0][1:]}", "write the folder out")
    return expanded


def _variable(match: re.Match[str]) -> str:
    name = match[1] or match[2]
    value = os.environ.get(name)
    if value is None:
        raise InvalidValue(f"the environment variable {name} is not set", "write the folder out")
    return value
