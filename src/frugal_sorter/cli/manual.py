"""The manual page of the program, made from its parsers (man(7))."""

from __future__ import annotations

import argparse

from frugal_sorter.cli import COMMANDS
from frugal_sorter.cli.options import parser_of
from frugal_sorter.rules.reference import EXIT_CODES


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
    lines += [".SH EXIT STATUS"]
    for code, meaning in EXIT_CODES:
        lines += [".TP", f".B {code}", _text(meaning)]
    return "\n".join([*lines, ""])


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
    text = text.replace("\\", "\\e").replace("-", "\\-")
    return f"\\&{text}" if text[:1] in (".", "'") else text
