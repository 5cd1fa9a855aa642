"""What belongs to the system itself, and where it keeps things (nothing there is sorted); what names it can hold; where programs
of this account keep what they write; and what this Python has.
"""

from __future__ import annotations

import os
import sys
from collections.abc import Sequence

from frugal_sorter.platforms import accounts, disk, slashed
from frugal_sorter.platforms.slashed import Path

try:
    # Without the rest of `hashlib`: that loads OpenSSL for its other digests, which takes as long as reading a rule file.
    from _blake2 import blake2b as blake2b
except ImportError:  # an interpreter that keeps it elsewhere
    from hashlib import blake2b as blake2b

NAME = {"win32": "windows", "darwin": "macos"}.get(sys.platform, "linux")
# Names that differ in case alone are one name on every volume, as far as is known.
IGNORES_CASE = NAME != "linux"
# Where programs keep what is theirs below a home, beside the hidden folders that all systems have.
SETTINGS = {"windows": ("AppData", "AppData/Local", "AppData/LocalLow", "AppData/Roaming"), "macos": ("Library",)}.get(NAME, ())
# Folders that macOS shows and keeps as one thing (Uniform Type Identifiers that conform to com.apple.package), by their suffixes.
_PACKAGES = frozenset(
    "app appex bundle framework kext plugin prefpane mdimporter qlgenerator component vst vst3 action workflow scptd wdgt saver "
    "photoslibrary photolibrary migratedphotolibrary aplibrary musiclibrary tvlibrary imovielibrary theater fcpbundle fcpevent "
    "logicx band garageband pages numbers key rtfd sparsebundle dtbase2 xcodeproj xcworkspace playground download".split()
)

if sys.platform == "win32":
    from frugal_sorter.platforms.windows.volumes import folders as folders
    from frugal_sorter.platforms.windows.volumes import open_trees as open_trees
    from frugal_sorter.platforms.windows.volumes import trees as trees
else:

    def trees() -> Sequence[str]:
        """Return the folders that are the system's, with everything below them."""
        return (
            "/bin", "/boot", "/dev", "/etc", "/lib", "/lib32", "/lib64", "/libx32", "/proc", "/run", "/sbin", "/sys",
            "/usr", "/var/lib", "/snap", "/System", "/Library", "/Applications", "/private/etc", "/private/var/db",
        )  # fmt: skip

    def open_trees() -> Sequence[str]:
        """Return places inside those trees where people do keep files."""
        return ("/dev/shm", "/run/media", "/run/user", "/usr/local/share")

    def folders() -> Sequence[str]:
        """Return the folders that are the system's themselves, but not what is below them."""
        return ("/", "/home", "/var", "/Users", "/private", "/private/var", "/Volumes")


def folded(name: str) -> str:
    """Return a name as volumes compare it that ignore letter case; those of macOS ignore in which form an accent is, too."""
    if NAME != "macos":
        return name.casefold()
    import unicodedata

    return unicodedata.normalize("NFC", name).casefold()


def is_private(path: str) -> bool:
    """Return True if a folder is one that macOS shows only to programs which a person has allowed to see it."""
    if NAME != "macos":
        return False
    home = slashed.realpath(slashed.expanduser("~"))
    return any(
        path == f"{home}/{name}" or path.startswith(f"{home}/{name}/")
        for name in ("Desktop", "Documents", "Downloads", "Library", ".Trash")
    )


def is_package(name: str) -> bool:
    """Return True if a folder of that name is one thing for its owner, which must not be taken apart."""
    return NAME == "macos" and name.rpartition(".")[2].lower() in _PACKAGES and "." in name[1:]


TELLING = ("HOME", "TMPDIR", "TZ", "XDG_CONFIG_HOME", "XDG_DATA_HOME", "XDG_STATE_HOME")
# The folders that every rule file can name (XDG user directories on Linux).
NAMED = ("home", "desktop", "documents", "downloads", "pictures", "music", "videos", "temp")


def state_home(app: str) -> str:
    """Return the folder of a program for what it remembers between runs; it may not exist yet."""
    if NAME == "linux":
        return slashed.join(_base("XDG_STATE_HOME", ".local/state"), app)
    import platformdirs

    return platformdirs.user_state_dir(app, appauthor=False)


def settings_home(app: str) -> str:
    """Return the folder of a program for its settings; it may not exist yet."""
    if NAME == "linux":
        return slashed.join(_base("XDG_CONFIG_HOME", ".config"), app)
    import platformdirs

    return platformdirs.user_config_dir(app, appauthor=False)


def data_home() -> str:
    """Return the folder that programs keep data of this account in."""
    if NAME == "linux":
        return _base("XDG_DATA_HOME", ".local/share")
    import platformdirs

    return platformdirs.user_data_dir()


def _base(variable: str, usual: str) -> str:
    """Return a folder after the XDG Base Directory Specification 0.8, which tells to pass over paths that are not absolute.

    Asked here, since every command needs one, and to load the library for other systems takes a tenth of the time of a list
    of runs.
    """
    named, home = os.environ.get(variable, ""), os.environ.get("HOME", "")
    if slashed.is_absolute(named):
        return named
    return slashed.join(home if slashed.is_absolute(home) else accounts.own_home(), usual)


def variables() -> dict[str, str]:
    """Return the variables that say where programs keep things, and in which time zone days begin."""
    found = {name: os.environ[name] for name in TELLING if name in os.environ}
    zone = os.path.realpath("/etc/localtime").partition("zoneinfo/")[2]
    return found if "TZ" in found or not zone else found | {"TZ": zone}


def named_folder(name: str) -> str:
    """Return the folder of one of the names that every rule file can use."""
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


_RESERVED = frozenset('<>:"|?*\\/') | frozenset(map(chr, range(32)))
# Names of devices, with any suffix ("Naming Files, Paths, and Namespaces", learn.microsoft.com).
_PORTS = [f"{port}{number}" for port in ("com", "lpt") for number in "123456789¹²³"]
_DEVICES = frozenset(["con", "prn", "aux", "nul", "conin$", "conout$", *_PORTS])
# The most that a name can have: bytes, on Windows units of UTF-16.
LONGEST = 255
_LONGEST_SUFFIX = 32


def windows_refuses(name: str) -> str:
    """Return why Windows can hold no entry of that name, or an empty text."""
    if reserved := next((letter for letter in name if letter in _RESERVED), ""):
        return f"Windows has no {reserved!r} in names"
    if name.endswith((".", " ")):
        return "Windows has no names that end in a dot or a blank"
    if is_device(name):
        return f"on Windows {name.split('.')[0].strip()} is the name of a device"
    if len(name.encode("utf-16-le", "surrogatepass")) > 2 * LONGEST:
        return f"Windows has no names of more than {LONGEST} letters"
    return ""


def is_device(name: str) -> bool:
    """Return True if a name is that of a device of Windows, whatever its suffix."""
    return name.partition(".")[0].rstrip().lower() in _DEVICES


def refused_here(name: str) -> str:
    """Return why this system can hold no entry of that name, or an empty text."""
    return windows_refuses(name) if sys.platform == "win32" else ""


def length(name: str) -> int:
    """Return how long a name is for this system."""
    return len(name.encode("utf-16-le", "surrogatepass")) // 2 if sys.platform == "win32" else len(os.fsencode(name))


def cut(name: str, room: int) -> str:
    """Return the beginning of a name that fits into so much room, without half a letter at its end."""
    if length(name) <= room:
        return name
    if sys.platform == "win32":
        return name.encode("utf-16-le", "surrogatepass")[: 2 * room].decode("utf-16-le", "ignore")
    raw = os.fsencode(name)
    # What was not a text before is cut where it must be.
    is_text = raw.decode("utf-8", "ignore") == name
    return raw[:room].decode("utf-8", "ignore") if is_text else os.fsdecode(raw[:room])


def shortened(name: str, mark: str = "", longest: int = LONGEST) -> str:
    """Return a name with a mark before its suffix, cut so that the system can hold it.

    Args:
        name: it.
        mark: such as `_2`.
        longest: how long it may be.
    """
    stem, dot, suffix = name.rpartition(".")
    if not stem.strip(".") or length(suffix) > _LONGEST_SUFFIX:
        stem, dot, suffix = name, "", ""
    double = stem.rpartition(".")
    if double[1] and double[2].lower() == "tar" and double[0]:
        stem, suffix = double[0], f"{double[2]}.{suffix}"
    tail = f"{mark}{dot}{suffix}"
    return cut(stem, longest - length(tail)) + tail
