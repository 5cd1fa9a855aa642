"""The command `frugal`: finds the subcommand, imports it alone, shows errors as one line."""

from __future__ import annotations

import sys

from frugal_sorter import __version__
from frugal_sorter.cli import COMMANDS
from frugal_sorter.platforms import console


def _help() -> str:
    width = max(map(len, COMMANDS))
    rows = "\n".join(f"  {name:{width}}  {summary}" for name, summary in COMMANDS.items())
    return f"""usage: frugal COMMAND ...

Sort, clean up and report on folders by rules you write. See every change before it happens; undo it afterwards.

{rows}

frugal COMMAND --help   the options of a command, with examples
frugal --version        the version
"""


def _open_streams() -> None:
    """Put nothing in the place of standard streams that were closed: else the next file opened would be one of them."""
    import os

    from frugal_sorter.platforms import disk

    for descriptor, name in enumerate(("stdin", "stdout", "stderr")):
        if getattr(sys, name) is None:
            opened = disk.open(os.devnull, disk.O_RDWR)
            if opened != descriptor:
                os.dup2(opened, descriptor)
            mode = "r" if descriptor == 0 else "w"
            setattr(sys, name, open(descriptor, mode, encoding="utf-8", closefd=False))  # noqa: SIM115


def main(argv: list[str] | None = None) -> int:
    """Run one command and return its exit code."""
    args = console.words(sys.argv[1:] if argv is None else argv)
    if None in (sys.stdin, sys.stdout, sys.stderr):
        _open_streams()
    console.prepare()
    try:
        return _main(args)
    except KeyboardInterrupt:
        return 130
    except OSError as error:
        # Whatever cannot be printed here is the help alone.
        sys.stderr.write(f"frugal: the output: {(error.strerror or 'cannot be written').lower()}\n")
        return 1


def _main(args: list[str]) -> int:
    # These two are asked for often and by scripts, so nothing is imported for them.
    if args in (["--version"], ["-V"]):
        sys.stdout.write(f"frugal {__version__}\n")
        return 0
    if not args or args in (["--help"], ["-h"], ["help"]):
        stream = sys.stdout if args else sys.stderr
        stream.write(_help())
        stream.flush()
        return 0 if args else 2
    from frugal_sorter.cli import command

    return command.run(args[0], args[1:])
