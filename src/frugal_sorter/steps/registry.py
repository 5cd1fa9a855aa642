"""From the name of a verb to what carries it out."""

from __future__ import annotations

from collections.abc import Mapping
from importlib import import_module

from frugal_sorter.steps.base import RunContext, Verb
from frugal_sorter.steps.kinds import KINDS, VerbName


def verbs_for(context: RunContext) -> Mapping[VerbName, Verb]:
    """Return every verb by its name."""
    return {verb: _made(kind.does, context) for verb, kind in KINDS.items()}


def _made(does: str, context: RunContext) -> Verb:
    module, name = does.split(":")
    made: Verb = getattr(import_module(f"frugal_sorter.steps.{module}"), name)(context)
    return made
