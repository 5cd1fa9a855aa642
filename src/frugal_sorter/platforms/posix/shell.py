"""For the shells of POSIX."""

from shlex import join, quote, split

__all__ = ["join", "quote", "split"]
