"""The manual page of the program, made from its parsers (man(7))."""

from __future__ import annotations

import argparse
import re
from collections.abc import Iterable

from frugal_sorter.cli import COMMANDS
from frugal_sorter.cli.options import parser_of
from frugal_sorter.rules.reference import EXIT_CODES, TOPICS


def manual() -> str:
    """Return the page in the language of man(7)."""
    lines = [
        '.TH FRUGAL 1 "" "Frugal Sorter" "User Commands"', ".SH NAME",
        "frugal \\- sort, clean up and report on folders by rules, with preview and undo",
        ".SH SYNOPSIS", ".B frugal", ".I COMMAND", "[\\fIoptions\\fR]", ".SH DESCRIPTION",
        "Sort, clean up and report on folders by rules you write. See every change before it happens; undo it afterwards.",
        ".SH COMMANDS",
    ]  # fmt: skip
    for name, summary in COMMANDS.items():
        lines += [".SS " + _text(f"frugal {name}"), _text(f"{summary[:1].upper()}{summary[1:]}.")]
        parser = parser_of(name, summary)
        for action in parser._actions:
            lines += _of(action)
        examples = (parser.epilog or "").split("\n", 1)[1]
        lines += [".PP", "Examples:", ".nf", *map(_text, examples.split("\n")), ".fi"]
    lines += [".SH EXIT STATUS", *_list((str(code), meaning) for code, meaning in EXIT_CODES)]
    lines += [".SH ENVIRONMENT", *_list(_VARIABLES), ".SH FILES", *_list(_PLACES)]
    lines += [".SH EXAMPLES", ".nf", *map(_text, _EXAMPLES), ".fi", ".SH SEE ALSO", ".BR frugal-rules (5)"]
    return "\n".join([*lines, ""])


_VARIABLES = (
    ("FRUGAL_RULES", "the rule file to use when none is named"),
    (
        "XDG_CONFIG_HOME, XDG_STATE_HOME, XDG_DATA_HOME",
        "where settings, the history and the trash are, as the XDG specification says",
    ),
    ("VISUAL, EDITOR", "the editor for --edit"),
    ("PAGER", "what long help and long lists are shown in"),
    ("COLUMNS", "how wide the terminal is"),
    ("NO_COLOR", "print without colours"),
)
_PLACES = (
    ("~/.config/frugal-sorter/rules.toml", "the rule file when none is named"),
    ("~/.config/frugal-sorter/NAME.toml", "a rule file that NAME is short for"),
    ("~/.config/frugal-sorter/settings.toml", "settings: how long runs can be undone, and a log"),
    ("~/.local/state/frugal-sorter/MACHINE/", "the history, saved inventories and earlier rule files"),
    ("~/.local/share/Trash/", "the trash of the desktop"),
)
_EXAMPLES = (
    "frugal inventory ~ --tree",
    "frugal preview rules.toml",
    "frugal tidy rules.toml",
    "frugal undo",
    "frugal sort ~/Intake --into '{type}'",
    "frugal purge ~/Intake/scratch --older-than 30d",
    "frugal schedule add nightly --at 'daily 02:00' -- tidy rules.toml",
)


def rules_manual() -> str:
    """Return the page of the rule file, frugal-rules(5), in the language of man(7)."""
    lines = [
        '.TH FRUGAL-RULES 5 "" "Frugal Sorter" "File Formats"',
        ".SH NAME",
        "frugal-rules \\- the rule file of frugal(1)",
        ".SH DESCRIPTION",
        "A rule file is TOML 1.0. Each [[rule]] says which entries it is for and what becomes of them; the first rule that",
        "matches an entry decides.",
    ]
    for topic, make in TOPICS.items():
        lines.append(f".SH {topic.upper()}")
        text = make().splitlines()
        # The row of headings says nothing here.
        for line, below in zip(text, [*text[1:], ""], strict=True):
            lines += _of_markdown(line) if not below.startswith("| ---") else []
    example = (
        '[[rule]]\nname = "Kiln logs by month"\nin = "~/Intake"\nwhere = \'ext is log\'\nmove = "Kiln Logs/{modified:%Y-%m}"'
    )
    lines += [
        ".SH EXAMPLE",
        ".nf",
        *map(_text, ["frugal = 1", "", *example.split("\n")]),
        ".fi",
        ".SH SEE ALSO",
        ".BR frugal (1)",
    ]
    return "\n".join([*lines, ""])


def _of_markdown(line: str) -> list[str]:
    if line.startswith("|"):
        cells = [cell.strip().replace("\\|", "|").replace("`", "") for cell in re.split(r"(?<!\\)\|", line)[1:-1]]
        if set("".join(cells)) <= {"-"}:
            return []
        what = "; ".join(filter(None, cells[1:]))
        return [".TP", f".B {_text(cells[0])}", _text(what)]
    return [_text(line.replace("`", ""))] if line.strip() else [".PP"]


def _list(items: Iterable[tuple[str, str]]) -> list[str]:
    return [line for head, text in items for line in (".TP", f".B {_text(head)}", _text(text))]


def _of(action: argparse.Action) -> list[str]:
    """Return the lines of one argument, and of those of the commands in it."""
    if isinstance(action, argparse._SubParsersAction):
        found = []
        for name, inner in action.choices.items():
            found += [".PP", f".B {_text(name)}"]
            for one in inner._actions:
                found += _of(one)
        return found
    if isinstance(action, argparse._HelpAction):
        return []
    metavar = action.metavar if isinstance(action.metavar, str) else action.dest.upper()
    if action.choices and not isinstance(action.metavar, str):
        metavar = "|".join(map(str, action.choices))
    takes = action.nargs != 0
    names = ", ".join(action.option_strings) or metavar
    head = f"{names} {metavar}" if action.option_strings and takes else names
    text = (action.help or "").replace("%%", "%")
    return [".TP", f".B {_text(head)}", _text(text)]


def _text(text: str) -> str:
    """Return a line of text with what the language would take for its own escaped."""
    text = text.replace("\\", "\\e").replace("-", "\\-").replace('"', "\\(dq")
    return f"\\&{text}" if text[:1] in (".", "'") else text
