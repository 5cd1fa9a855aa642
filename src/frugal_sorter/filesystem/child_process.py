"""Child processes of this program's own: they run nothing that lies around, and little of anything."""

from __future__ import annotations

import os
import sys
from collections.abc import Sequence
from typing import TYPE_CHECKING

from frugal_sorter.platforms import processes, slashed
from frugal_sorter.platforms.slashed import Path

if TYPE_CHECKING:
    import subprocess

_OWN = str(Path(__file__).resolve().parents[2])
# Python puts the current folder first on the path of a child that it is told to run by name, so that a file
# of the right name there would be run. So a child starts isolated (-I), and gets the path of its parent.
_START = "import sys; sys.path[:] = {path!r}; from {module} import serve; serve()"


def start(module: str, stdin: int, passed: Sequence[int] = (), words: Sequence[str] = ()) -> subprocess.Popen[bytes]:
    """Start a child that runs the function `serve` of a module of this package.

    Args:
        module: the whole name of the module.
        stdin: what its standard input is, as for `subprocess.Popen`.
        passed: the descriptors that it keeps, under their numbers.
        words: its arguments.

    Returns:
        the child, with a pipe from its standard output.
    """
    import subprocess  # needed only where a child is

    return subprocess.Popen(
        [sys.executable, "-I", "-c", _START.format(path=trusted_path(), module=module), *words],
        stdin=stdin,
        stdout=subprocess.PIPE,
        stderr=subprocess.DEVNULL,
        cwd=processes.START_FOLDER,
        pass_fds=passed,
        # Ctrl-C is for us; what we do then decides about the child.
        **processes.child_group(),
    )


def trusted_path() -> list[str]:
    """Return the folders that modules are imported from, without the current one."""
    try:
        here = os.getcwd()
    except FileNotFoundError:
        here = ""
    return [one for one in sys.path if slashed.is_absolute(one) and (one == _OWN or one != here)]
