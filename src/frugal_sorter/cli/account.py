"""Acting as another account: for root, who helps it."""

from __future__ import annotations

import os
import pwd

from frugal_sorter.errors import UsageError
from frugal_sorter.state.remembered import forget_all


def act_as(user: str) -> None:
    """Become an account for good, so that nothing is done that it could not do itself.

    Its home, its trash, its rules and its history are used; what is made belongs to it.

    Raises:
        UsageError: there is no such account, or this one is not root.
    """
    try:
        found = pwd.getpwnam(user)
    except KeyError:
        raise UsageError(f"--for: there is no account {user!r}", "`getent passwd` lists them") from None
    if os.geteuid() != 0:
        raise UsageError("--for: only root can act as another account", "use sudo")
    os.initgroups(found.pw_name, found.pw_gid)
    os.setgid(found.pw_gid)
    os.setuid(found.pw_uid)
    for name in list(os.environ):
        if name.startswith("XDG_"):
            del os.environ[name]
    os.environ |= {"HOME": found.pw_dir, "USER": found.pw_name, "LOGNAME": found.pw_name}
    # Where the systemd of that account is asked, if it runs (file-hierarchy(7)).
    if os.path.isdir(runtime := f"/run/user/{found.pw_uid}"):
        os.environ["XDG_RUNTIME_DIR"] = runtime
    forget_all()
