"""What belongs to the system itself, and where it keeps things (nothing there is sorted); and what this Python has."""

from __future__ import annotations

import sys
from collections.abc import Sequence

try:
    # Without the rest of `hashlib`: that loads OpenSSL for its other digests, which takes as long as reading a rule file.
    from _blake2 import blake2b
except ImportError:  # an interpreter that keeps it elsewhere
    from hashlib import blake2b

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
# Where trashed entries go is known here.
HAS_KNOWN_TRASH = NAME != "macos"

if sys.platform == "win32":
    from frugal_sorter.platforms.windows.system import folders, open_trees, trees
else:

    def trees() -> Sequence[str]:
        """Return the folders that are the system's, with all that is below them."""
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


def is_package(name: str) -> bool:
    """Return True if a folder of that name is one thing for its owner, which must not be taken apart."""
    return NAME == "macos" and name.rpartition(".")[2].lower() in _PACKAGES and "." in name[1:]


__all__ = ["HAS_KNOWN_TRASH", "IGNORES_CASE", "NAME", "SETTINGS", "blake2b", "folders", "is_package", "open_trees", "trees"]
