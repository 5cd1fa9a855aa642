"""Which keys of a rule go together."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any, cast

from frugal_sorter.rules.file.keys import KEYS, REMOVALS, Ending
from frugal_sorter.rules.file.positions import KeyPath
from frugal_sorter.rules.file.source import Source
from frugal_sorter.rules.file.values import truth
from frugal_sorter.rules.model import Rule
from frugal_sorter.state.trust import distrusted

_SHOWN = {"move": "`move` or `rename`"}


def ending_of(source: Source, table: Mapping[str, Any], path: KeyPath, rule: str) -> Ending | None:
    """Return the one ending that a rule has, None where it has extras alone."""
    named = []
    for key in (name for name, one in KEYS.items() if one.ending and name in table):
        with source.at((*path, key), rule):
            if KEYS[key].schema.get("type") != "boolean" or truth(table[key]):
                named.append("move" if key == "rename" else key)
    endings = list(dict.fromkeys(named))
    if len(endings) > 1:
        first, second = (_SHOWN.get(one, f"`{one}`") for one in endings[:2])
        source.wrong((*path, endings[1]), f"{second} does not go with {first}", "a rule has one ending", rule)
    misspelt = any(key not in KEYS for key in table)  # then that is said already
    if not endings and not misspelt and not any(KEYS[key].extra for key in table):
        known = ", ".join(name for name, one in KEYS.items() if one.ending and name != "leave")
        what = f"say what becomes of the entries: {known} or leave"
        source.wrong(path, "the rule has no ending", what, rule)
    return cast(Ending, endings[0]) if endings else None


def refuse_unfit(source: Source, rule: Rule, table: Mapping[str, Any], path: KeyPath) -> None:
    """Take in which keys of a rule do not go together."""
    if rule.take == "items" and rule.levels != 1:
        source.wrong((*path, "take"), "items are the top level of a folder", "leave `levels` out", rule.name)
    if rule.extras.retag and (rule.extras.tag or rule.extras.untag):
        other = "tag" if rule.extras.tag else "untag"
        source.wrong(
            (*path, "retag"), f"`retag` does not go with `{other}`", "it says all tags there are to be", rule.name
        )
    if rule.extras.link is not None and rule.ending in REMOVALS:
        source.wrong(
            (*path, "link"), "a link does not go with a removal", "there would be nothing behind it", rule.name
        )
    for key, one in KEYS.items():
        needed, hint = one.needs
        if key in table and needed and needed not in table:
            source.wrong((*path, key), f"`{key}` goes with `{needed}` only", hint, rule.name)
        if one.only_files and rule.ending == key and rule.take != "files":
            source.wrong((*path, key), one.only_files, 'leave `take` out, or say "files"', rule.name)
        template = getattr(rule.extras if one.extra else rule, key, None)
        if one.numbered and template is not None and template.counts:
            source.wrong((*path, key), f"{{n}} cannot stand in `{key}`", "taken names are numbered anyway", rule.name)
    if rule.extras and rule.ending in ("leave", "duplicates"):
        extra = next(key for key in table if KEYS[key].extra)
        what = f"`{extra}` does not go with `{rule.ending}`"
        source.wrong((*path, extra), what, f"leave `{rule.ending}` out", rule.name)
    if rule.extras.run and (who := distrusted(source.file)):
        what = f"other accounts can change this file, so no program is run from it: {who}"
        source.wrong((*path, "run"), what, "chmod go-w what is named", rule.name)
