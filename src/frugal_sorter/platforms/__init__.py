"""What differs between systems: one module a concern, which takes what it gives from the system it runs on.

Nothing outside this package knows a system, or asks which one it runs on. Of the concerns without a module here, the one of
the name stands for the system it runs on; it is loaded when it is first asked for.
"""

from __future__ import annotations

import sys

TYPE_CHECKING = False
if TYPE_CHECKING and sys.platform == "win32":
    from frugal_sorter.platforms.windows import accounts, attributes, processes
elif TYPE_CHECKING and sys.platform == "darwin":
    from frugal_sorter.platforms.darwin import accounts, attributes, processes
elif TYPE_CHECKING:
    from frugal_sorter.platforms.posix import accounts, attributes, processes

__all__ = ["accounts", "attributes", "processes"]


def __getattr__(name: str) -> object:
    """Return the module of a concern, as this system has it."""
    if name not in __all__:
        raise AttributeError(name)
    from importlib import import_module

    system = "windows" if sys.platform == "win32" else "darwin" if sys.platform == "darwin" else "posix"
    globals()[name] = module = import_module(f"{__name__}.{system}.{name}")
    return module
