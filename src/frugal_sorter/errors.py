"""What a person can cause: each error knows its message, the next step, and its exit code."""

from __future__ import annotations


class FrugalError(Exception):
    """An error that is shown as one line, never as a traceback.

    `message` says what and where; `hint` says what to do about it.
    """

    exit_code = 2

    def __init__(self, message: str, hint: str = "") -> None:
        super().__init__(message)
        self.message = message
        self.hint = hint


class UsageError(FrugalError):
    """The command line asks for something that does not exist or does not fit."""


class StateError(FrugalError):
    """The tool's own folder or journal cannot be used."""


class RefusedError(FrugalError):
    """The tool will not do this: guarded place, not confirmed, or another writer."""

    exit_code = 3
