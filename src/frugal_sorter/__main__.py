"""`python -m frugal_sorter` is the same as `frugal`."""

import sys

from frugal_sorter.cli.main import main

sys.exit(main())
