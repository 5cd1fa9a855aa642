"""Everyday words for what rules call otherwise: asked before the spelling is."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from typing import Literal

from frugal_sorter.rules.file.mistakes import nearest

Of = Literal["field", "operator", "key", "type", "placeholder"]

_AGE = "`modified older than 30 days` tells its age"
_FIELDS = {
    "extension extensions suffix filetype format": "say `ext is pdf`",
    "kind category sort": "say `type is image`",
    "age days date time timestamp mtime changed edited updated written": _AGE,
    "filename file title_of names": "say `name has kiln`",
    "basename": "say `stem is kiln`",
    "directory dir subfolder parent": "say `folder is Intake`",
    "filesize length bytes mb gb kb": "say `size > 10 MB`",
    "accessed atime used read lastused last_access": "say `opened older than 30 days`",
    "birth born ctime creation creationdate": "say `created older than 30 days`",
    "added downloaded received came": "say `arrived older than 30 days`",
    "url website downloaded_from link": 'say `origin has "example.org"`',
    "tags label labels": "say `tag is keep`",
    "user account owned": "say `owner is maren`",
    "content contents body words": 'say `text has "kiln"`',
    "duplicate duplicates copy copies": "say `copy-named`, or use `duplicates` as the ending of a rule",
    "locked protected write-protected": "say `readonly`",
    "open opened-by busy used-by": "say `in use`",
    "recursive recurse subfolders": 'that is a key of the rule: levels = "all"',
    "any anything all always every true": "say `everything`",
    "photo photos picture pictures image images": "say `type is image`",
    "movie movies film films video videos clip": "say `type is video`",
    "music song songs sound audio": "say `type is audio`",
    "pdf zip jpg jpeg png docx xlsx csv txt mp3 mp4": "say `ext is pdf`, and `ext in (zip, pdf)` for several",
    "older newer": _AGE,
}
_OPERATORS = {
    "contains contain includes include containing": "say `has`",
    "begins startswith starting beginswith": "say `starts`",
    "endswith ending": "say `ends`",
    "equals equal == === eq are": "say `is`",
    "!= <> ne isnt isn't differs": "say `is not`",
    "greater bigger larger more over above gt": "say `>`",
    "less smaller lower under below lt fewer": "say `<`",
    "newer younger since recent": "say `within`",
    "older": "say `older than`",
    "regex regexp =~ ~ ~=": "say `matches`",
    "glob wildcard wildcards": "say `like`",
    "fit": "say `fits`",
    "excludes without lacks": "say `not name has ...`",
}
_KEYS = {
    "recursive recurse subfolders deep depth": 'say levels = "all"',
    "confirm prompt interactive": "say ask = true",
    "folder folders from source path paths dir directory location watch": 'say in = "~/Intake"',
    "to target destination dest into move_to output": 'say move = "Logs"',
    "if when filter filters condition conditions match contains extension extensions kind age days pattern older_than size": (
        'say where = "ext is log and modified older than 30 days"'
    ),
    "title label description id": "say name",
    "action actions do then": "say what becomes of an entry: move, trash, delete, pack, leave, ...",
    "remove purge erase recycle": "say trash = true, or delete = true for good",
    "schedule hours time times at": 'say during = "mon-fri 08:00-18:00"',
    "include_hidden dotfiles": "say hidden = true",
    "conflict on_conflict overwrite exists if_exists collision": 'say clash = "number"',
    "wait delay cooldown": 'say settle = "10 minutes"',
    "limit max max_files maximum": "say at_most = 100",
    "enabled disabled active enable disable": "say off = true to switch a rule off",
    "archive zip compress": 'say pack = "Old/{ext}.zip"',
    "extract unzip decompress": 'say unpack = "{stem}"',
    "dedupe duplicate dedup": 'say duplicates = {keep = "oldest", do = "trash"}',
    "command exec execute script shell program": 'say run = ["program", "{path}"]',
    "test tests examples": "say [[rule.example]]",
    "ignore skip exclude except exception": "say leave = true in a rule above",
    "tags": 'say tag = "seen"',
    "cleanup remove_empty": "say prune = true",
}
_TYPES = {
    "photo photos picture pictures images img": "say `type is image`",
    "movie movies film films clip clips videos": "say `type is video`",
    "music song songs sound sounds": "say `type is audio`",
    "pdf zip jpg jpeg png docx xlsx csv txt mp3 mp4 doc xls log": "`type` is a group; say `ext is pdf`",
    "documents doc word office": "say `type is document`",
    "excel table tables spreadsheets sheet": "say `type is spreadsheet`",
    "archives compressed zipped": "say `type is archive`",
    "app application apps software setup": "say `type is installer`, or program",
    "download downloads unfinished": "say `type is partial`",
    "book books": "say `type is ebook`",
    "presentations slides powerpoint": "say `type is presentation`",
    "script scripts source": "say `type is code`",
    "email emails message": "say `type is mail`",
    "temp tmp": "say `type is temporary`",
}
_PLACEHOLDERS = {
    "year yyyy yr": "say {modified:%Y}",
    "month mm": "say {modified:%m}, or {modified:%Y-%m}",
    "day dd": "say {modified:%d}, or {modified:%Y-%m-%d}",
    "date today now time timestamp": "say {modified:%Y-%m-%d}",
    "extension suffix filetype": "say {ext}",
    "filename file": "say {name}, or {stem} without the suffix",
    "basename title_of": "say {stem}",
    "kind category": "say {type}",
    "counter count number index i num": "say {n}, or {n:03}",
    "directory dir parent": "say {folder}",
    "account username": "say {user}",
    "host hostname computer": "say {machine}",
    "letter first": "say {initial}",
}


def _by_word(table: Mapping[str, str]) -> Mapping[str, str]:
    return {word: hint for words, hint in table.items() for word in words.split()}


_ALL: Mapping[Of, Mapping[str, str]] = {
    "field": _by_word(_FIELDS),
    "operator": _by_word(_OPERATORS),
    "key": _by_word(_KEYS),
    "type": _by_word(_TYPES),
    "placeholder": _by_word(_PLACEHOLDERS),
}


def meant(word: str, of: Of, known: Iterable[str]) -> str:
    """Return what somebody who wrote a word probably means: by everyday words, then by the spelling; or an empty text."""
    return _ALL[of].get(word.strip().lower(), "") or nearest(word, known)


def everyday_words(of: Of) -> Mapping[str, str]:
    """Return the everyday words for one kind of thing, each with what to write instead."""
    return _ALL[of]
