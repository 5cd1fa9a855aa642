"""The peak memory of a command, measured in a process of its own, without forks that would share the work."""

from __future__ import annotations

import os
import subprocess
import sys
from collections.abc import Sequence
from pathlib import Path

# What the kernel says of a process that was started anew (proc(5), VmHWM); what getrusage says of a child is
# at least the size of its parent.
_CODE = """
import os, re, sys
os.cpu_count = lambda: 1
from frugal_sorter.cli.main import main
main(sys.argv[1:])
with open("/proc/self/status") as lines:
    print(re.search(r"VmHWM:\\s+(\\d+)", lines.read())[1], file=sys.stderr)
"""


def peak_bytes(words: Sequence[str], home: Path | None = None) -> int:
    """Return the peak memory of a command, given without the name of the program."""
    env = os.environ if home is None else {**os.environ, "HOME": str(home)}
    done = subprocess.run([sys.executable, "-c", _CODE, *words], capture_output=True, text=True, check=True, env=env)
    return int(done.stderr.split()[-1]) * 1_024
