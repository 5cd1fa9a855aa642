"""Acting as another account: for root, who helps it."""

from __future__ import annotations

import os

from frugal_sorter.errors import UsageError
from frugal_sorter.platforms import accounts
from frugal_sorter.state.remembered import forget_all


def act_as(user: str) -> None:
    """Become an account for good, so that nothing is done that it could not do itself.

    Its home, its trash, its rules and its history are used; what is made belongs to it.

    Raises:
        UsageError: there is no such account, or this one is not root.
    """
    try:
        variables = accounts.become(user)
    except KeyError:
        raise UsageError(f"--for: there is no account {user!r}", "`getent passwd` lists them") from None
    except PermissionError:
        raise UsageError("--for: only root can act as another account", "use sudo") from None
    except OSError as error:
        raise UsageError(f"--for: {error.strerror}", f"sign in as {user}") from None
    for name in list(os.environ):
        if name.startswith("XDG_"):
            del os.environ[name]
    os.environ |= variables
    forget_all()
