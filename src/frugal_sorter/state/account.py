"""The account that this process acts for."""

from __future__ import annotations

import os
import pwd


def account_name() -> str:
    """Return the name of the account, or its number where it has none."""
    try:
        return pwd.getpwuid(os.geteuid()).pw_name
    except KeyError:
        return str(os.geteuid())
