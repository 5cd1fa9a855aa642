"""`python -m frugal_sorter` is the same as `frugal`."""

import os
import sys

# Python puts the current folder first on the path: a file there that has the name of a library would be run.
if not sys.flags.safe_path and sys.path and sys.path[0] in ("", os.getcwd()):
    package = os.path.dirname(os.path.dirname(os.path.abspath(__file__)))
    if sys.path[0] != package:
        del sys.path[0]

from frugal_sorter.cli.main import main

sys.exit(main())
