"""The parsers of commands, and the options that several have."""

from __future__ import annotations

import argparse
import importlib
import re
import sys
from collections.abc import Callable, Iterable, Sequence
from contextlib import suppress
from functools import partial
from itertools import takewhile
from typing import TYPE_CHECKING, Any, NoReturn, TypeVar

from frugal_sorter.cli.output.text import shown, width_asked, width_of
from frugal_sorter.errors import RefusedError, UsageError
from frugal_sorter.platforms import disk, processes, slashed
from frugal_sorter.platforms.slashed import Path
from frugal_sorter.rules.units import nearest
from frugal_sorter.state import default_rules_file

if TYPE_CHECKING:
    from frugal_sorter.rules.units import Duration


_USUAL_WIDTH = 80
# The names of the option that answers the question in advance.
YES = ("-y", "--yes")
# How much is printed; what is done stays the same.
LISTING = ("--list-all", "--short")


def help_formatter() -> partial[argparse.RawDescriptionHelpFormatter]:
    """Return what lays out the help of a command, as wide as the terminal.

    One is made for each argument that is added. Not told the width, each would ask for it, and load `shutil` for that, with
    three libraries for archives.
    """
    return partial(argparse.RawDescriptionHelpFormatter, width=_columns() - 2)


def _columns() -> int:
    """Return the width of the terminal, a usual one where there is none; `COLUMNS` says otherwise."""
    return width_asked() or (width_of(sys.__stdout__) if sys.__stdout__ else None) or _USUAL_WIDTH


# Words that people try first, and our words for them: the first that the command has.
_CALLED = {
    word: called
    for words, called in {
        "clean cleanup": ("purge", "--permanent"),
        "delete": ("purge", "remove", "--permanent"),
        "remove rm del erase": ("purge",),
        "run apply organize organise do": ("tidy",),
        "list ls dir count stats size usage scan": ("inventory",),
        "tree": ("inventory --tree",),
        "find search": ("inventory --listing",),
        "save": ("inventory --save",),
        "log runs": ("history",),
        "dedupe dups": ("duplicates",),
        "restore": ("trash --restore", "undo"),
        "revert rollback back redo": ("undo",),
        "empty bin recycle": ("trash",),
        "stop": ("pause", "remove"),
        "start enable": ("resume",),
        "info status": ("show", "schedule check"),
        "cron timer daemon service": ("schedule",),
        "validate lint test": ("check",),
        "simulate dryrun plan what-if": ("preview",),
        "why": ("explain",),
        "diff changes": ("compare",),
        "export copy cp": ("gather",),
        "move mv": ("sort",),
        "rename zip unzip pack unpack tag": ("help rules",),
        "config settings setup where": ("help files",),
        "init new create": ("suggest",),
        "man manual docs": ("help manual",),
        "/? -?": ("--help",),
        "-q --quiet --silent --brief": ("--short",),
        "--verbose --debug --full": ("--list-all",),
        "-v": ("--list-all", "--version"),
        "-r -R --recursive --recurse --deep": ("--levels all",),
        "--depth --max-depth --maxdepth --level": ("--levels 2",),
        "--days --age --older --min-age --before": ("--older-than 30d",),
        "--delete --rm": ("--permanent", "--do delete"),
        "--trash --remove": ("--do trash",),
        "--empty": ("--older-than 0d",),
        "--keep --keep-last --retain": ("--keep-newest 5",),
        "--all -a": ("--since 2000-01-01", "--levels all", "--list-all"),
        "--force --no-confirm --noconfirm --assume-yes": ("--yes",),
        "--simulate --test --what-if --whatif --pretend --preview --check": ("--dry-run",),
        "--json": ("--format json",),
        "--csv": ("--format csv",),
        "--html": ("--format html",),
        "--by --group-by --group": ("--into '{type}'",),
        "--to --target --dest --destination": ("--into",),
        "--exclude --ignore --skip --except": ("--without", "--where 'not name like *.log'"),
        "--user --as": ("--for",),
        "--biggest --large": ("--largest",),
        "extension suffix": ("ext",),
        "date month year modified": ("age",),
        "kind category": ("type",),
        "user account": ("owner",),
        "dir directory": ("folder",),
    }.items()
    for word in words.split()
}
# Words that people try first and what to do instead, where the command has an option that it needs.
_INSTEAD = {
    word: (needs, instead)
    for words, (needs, instead) in {
        "--output --out -o --outfile --file": ("", "to write it to a file, add > FILE"),
        "--min-size --larger --larger-than --bigger --size": ("--where", "use --where 'size > 1 GB'"),
        "--max-size --smaller --smaller-than": ("--where", "use --where 'size < 1 MB'"),
        "--ext --extension --type --types --filter": ("--where", "use --where 'ext is pdf'"),
        "--name --pattern --include --match --glob": ("--where", "use --where 'name like *.pdf'"),
        "--newer --newer-than --after": ("--where", "use --where 'modified within 7 days'"),
        "--config --rules --rule-file -c -f": ("", "name the rule file without an option: frugal tidy rules.toml"),
        "--path --folder --directory --dir --in -d": ("", "name the folder without an option"),
        "--trash --recycle": ("--permanent", "that is what it does; --permanent deletes"),
        "--color --colour --no-color": ("", "set the variable NO_COLOR to print without colours"),
    }.items()
    for word in words.split()
}
# How close the spelling of a command or a value must be, and that of an option, whose two dashes are always right.
_CLOSE, _CLOSER = 0.6, 0.72
# What a missing option looks like.
_SUCH_AS = {"--older-than": "--older-than 30d", "--into": "--into '{type}'", "--at": "--at 'daily 02:00'"}


def did_you_mean(word: str, known: Iterable[str]) -> str:
    """Return what the word is called here, or the closest known word, as a question; or what to do instead; or nothing."""
    known = list(known)
    for called in _CALLED.get(word, ()):
        if called.split()[0] in known:
            return f"did you mean `{called}`?"
    if word in _INSTEAD and (not _INSTEAD[word][0] or _INSTEAD[word][0] in known):
        return _INSTEAD[word][1]
    begun = [one for one in known if len(word) > 4 and one.startswith(word)]
    # All options have the dashes, so these do not tell which one is meant.
    return f"did you mean `{begun[0]}`?" if len(begun) == 1 else nearest(word, known, _CLOSE if word[:2] != "--" else _CLOSER)


class Parser(argparse.ArgumentParser):
    """Reads the arguments of a command."""

    @property
    def _help_hint(self) -> str:
        return f"`{self.prog} --help` shows the options"

    def error(self, message: str) -> NoReturn:
        if missing := message.partition("arguments are required: ")[2]:
            such = _SUCH_AS.get(missing)
            raise UsageError(f"`{self.prog}` needs {missing}", f"add it, such as {such}" if such else self._help_hint)
        if extra := message.partition("unrecognized arguments: ")[2]:
            hint = self._unquoted(extra.split()) or did_you_mean(f"--{extra}", self._option_string_actions)
            if "--older-than" in self._option_string_actions and re.fullmatch(r"\d+ ?[a-z]+", extra):
                hint = f"did you mean `--older-than {extra}`?"
            hint = hint or "put a name or a condition with blanks or wildcards in quotes"
            raise UsageError(f"`{self.prog}` has no use for {shown(extra)}", hint)
        if "argument --" in message and (hint := self._unquoted([])):
            raise UsageError(message.removeprefix("argument "), hint)
        what, answer, hint = message.partition("; did you mean")
        if answer:
            raise UsageError(what.removeprefix("argument "), f"did you mean{hint}")
        command = self.prog.removeprefix("frugal").strip()
        raise UsageError(f"{command}: {message.removeprefix('argument ')}".removeprefix(": "), self._help_hint)

    def _unquoted(self, extra: Sequence[str]) -> str:
        """Return how an option is written whose value has blanks and stands without quotes; empty where there is none."""
        for at, word in enumerate(self._words):
            action = self._option_string_actions.get(word)
            if action is None or action.nargs is not None:
                continue
            rest = takewhile(lambda one: not one.startswith("-"), self._words[at + 1 :])
            value = [*rest]
            joined = " ".join(value)
            if len(value) < 2:
                continue
            if extra and value[-len(extra) :] == list(extra):
                return f'put the value in quotes: {word} "{joined}"'
            if not extra and action.type is not None:
                with suppress(argparse.ArgumentTypeError, UsageError, ValueError):
                    action.type(joined)  # type: ignore[operator]
                    return f'put the value in quotes: {word} "{joined}"'
        return ""

    def parse_known_args(self, args: Any = None, namespace: Any = None) -> Any:
        """Parse; an unknown option is reported first, whatever else is missing."""
        self._words: list[str] = list(args or ())
        words = [word.partition("=")[0] for word in self._words]
        takes_any = any(action.nargs in (argparse.PARSER, argparse.REMAINDER) for action in self._actions)
        if not takes_any and not {"-h", "--help"}.intersection(words):
            for word in words[: words.index("--") if "--" in words else None]:
                known = self._option_string_actions
                if word not in known and (word.startswith("--") or re.fullmatch("-[a-zA-Z]", word)):
                    hint = did_you_mean(word, known) or self._help_hint
                    raise UsageError(f"`{self.prog}` has no option `{word}`", hint)
        return super().parse_known_args(args, namespace)

    def _check_value(self, action: argparse.Action, value: Any) -> None:
        if action.choices is not None and value not in action.choices:
            name = "command" if isinstance(action, argparse._SubParsersAction) else "/".join(action.option_strings) or action.dest
            hint = did_you_mean(str(value), action.choices) or f"choose from {', '.join(map(str, action.choices))}"
            raise UsageError(f"`{self.prog}`: unknown {name} `{shown(str(value))}`", hint)


def parser_of(name: str, summary: str) -> Parser:
    """Return the parser of one command."""
    module = importlib.import_module(f"frugal_sorter.cli.commands.{name}")
    parser = Parser(
        prog=f"frugal {name}",
        description=f"{summary[:1].upper()}{summary[1:]}.",
        epilog="examples:\n" + module.EXAMPLES.strip("\n"),
        formatter_class=help_formatter(),
        allow_abbrev=False,
    )
    module.add_arguments(parser)
    return parser


Value = TypeVar("Value")


def folder_named(text: str) -> str:
    """Return the folder that a person named, resolved.

    Raises:
        UsageError: there is none; an empty name is not the folder one stands in.
    """
    if not text.strip():
        raise UsageError("(empty): no folder was named", "name one")
    path = slashed.realpath(text)
    if not disk.lexists(path):
        hint = "check the path, and put a name with blanks in quotes"
        if "*" in text:
            hint = "name the folder, and choose its files with --where 'ext is log'"
        raise UsageError(f"folder not found: {shown(text)}", hint)
    if not disk.isdir(path):
        raise UsageError(f"{shown(text)} is not a folder", "name the folder, and choose its files with --where 'ext is log'")
    if slashed.unfollowed(path):
        from frugal_sorter.planning.guard import refused_link

        _refuse(refused_link(path))
    return path


def refuse_removal(folder: str, levels: int | None, hidden: bool) -> None:
    """Refuse to take away what is in a folder where that is not for a job in one line to do.

    Args:
        folder: the folder, resolved.
        levels: how deep it goes, None for all levels.
        hidden: whether it takes what is hidden.

    Raises:
        RefusedError: it is; says what to name instead.
    """
    from frugal_sorter.planning.guard import refused_removal

    _refuse(refused_removal(folder, levels, hidden))


def _refuse(why: str | None) -> None:
    if why:
        what, _, hint = why.partition("; ")
        raise RefusedError(what, hint or "name a folder inside it")


def line_of(words: Sequence[str]) -> str:
    """Return a command with its arguments as it would be typed."""
    return processes.join(["frugal", *words])


def command_line() -> str:
    """Return the command as it was typed, which stands for the rule file in the history."""
    return line_of(sys.argv[1:])


def levels(text: str) -> int | None:
    """Read a number of levels, or `all`."""
    if text == "all":
        return None
    if not text.isascii() or not text.isdigit() or int(text) < 1:
        raise argparse.ArgumentTypeError(f"{text!r} is not a number of levels; use 1, 2, ... or all")
    return int(text)


def number(text: str) -> int:
    """Read a number from 1 on."""
    if not text.isascii() or not text.isdigit() or len(text) > 9 or int(text) < 1:
        raise argparse.ArgumentTypeError(f"{text!r} is not a number; use 1, 2, ...")
    return int(text)


def duration(text: str) -> Duration:
    """Read an age such as `30d`, `1 month` or `36h`."""
    from frugal_sorter.rules.units import parse_duration

    return _read(parse_duration, text)


def size(text: str) -> int:
    """Read a size with its unit, in bytes."""
    from frugal_sorter.rules.units import parse_size

    return _read(parse_size, text)


def _read(parse: Callable[[str], Value], text: str) -> Value:
    from frugal_sorter.rules.units import InvalidValue

    try:
        return parse(text)
    except InvalidValue as wrong:
        raise argparse.ArgumentTypeError(f"{wrong.message}; {wrong.hint}") from None


def run_number(text: str) -> int:
    """Read the number of a run."""
    if not text.isascii() or not text.isdigit() or len(text) > 15:
        hint = "`frugal undo` without a number undoes the last run; `frugal history` lists the numbers"
        raise argparse.ArgumentTypeError(f"{text!r} is not a run number; {hint}")
    return int(text)


def add_format(parser: argparse.ArgumentParser, *formats: str) -> None:
    """Add `--format`; the first one is the default."""
    parser.add_argument("--format", choices=formats, default=formats[0], help=f"default: {formats[0]}")


def add_chart(parser: argparse.ArgumentParser) -> None:
    """Add `--chart`; a name that no chart can have is refused before anything is counted."""

    def chart(text: str) -> Path:
        from frugal_sorter.reports.figures import refuse_name

        try:
            refuse_name(Path(text))
        except UsageError as wrong:
            raise argparse.ArgumentTypeError(wrong.text) from None
        return Path(text)

    parser.add_argument("--chart", metavar="FILE", type=chart, help="also draw a chart: FILE.png, .svg or .pdf")


def add_listing(parser: argparse.ArgumentParser) -> None:
    """Add `--list-all` and `--short`: how much of long lists is printed."""
    group = parser.add_mutually_exclusive_group()
    group.add_argument(LISTING[0], action="store_true", help="list every file (default when the output is piped)")
    group.add_argument(
        LISTING[1], action="store_true", help="show only the first and last few lines of long lists (default on a terminal)"
    )


def is_short(args: argparse.Namespace) -> bool | None:
    """Return whether long lists are to be cut short; None where that is not said."""
    return True if args.short else False if args.list_all else None


def add_rules(parser: argparse.ArgumentParser) -> None:
    """Add the rule file as an argument."""
    parser.add_argument(
        "rules",
        metavar="RULES",
        nargs="?",
        type=Path,
        help=(
            "the rule file: a path, or the name of a file in your configuration folder (default: $FRUGAL_RULES, or "
            "else rules.toml in that folder)"
        ),
    )


def add_rule(parser: argparse.ArgumentParser) -> None:
    """Add `--rule`."""
    parser.add_argument(
        "--rule", metavar="NAME", action="append", default=[], help="apply only this rule; repeat the option for more rules"
    )


def add_where(parser: argparse.ArgumentParser) -> None:
    """Add `--where`."""
    parser.add_argument(
        "--where", metavar="CONDITION", help=("limit to files that match this condition; see `frugal help conditions`")
    )


def add_as_of(parser: argparse.ArgumentParser) -> None:
    """Add `--as-of`."""
    when = 'pretend that it is this date or time: "in 2 weeks", tomorrow, 2026-12-24, "2026-12-24 08:00"'
    parser.add_argument("--as-of", metavar="WHEN", help=when)


def add_unattended(parser: argparse.ArgumentParser) -> None:
    """Add `--yes` and `--log`, which a run needs that nobody watches, and `--dry-run`."""
    parser.add_argument("-n", "--dry-run", action="store_true", help="list the changes, but do not ask and do not make them")
    parser.add_argument(*YES, action="store_true", help="do not ask for confirmation; for unattended runs")
    parser.add_argument("--log", metavar="PATH", help="append a line to this file for each change, as it is made")


def add_at_most(parser: argparse.ArgumentParser) -> None:
    """Add `--at-most`."""
    parser.add_argument(
        "--at-most",
        metavar="N",
        type=_count,
        help=("refuse any rule that would remove more than N files; overrides `at_most` in the rule"),
    )


def _count(text: str) -> int:
    if not text.isascii() or not text.isdigit() or len(text) > 15:
        raise argparse.ArgumentTypeError(f"{text!r} is not a number of files")
    return int(text)


def add_for(parser: argparse.ArgumentParser) -> None:
    """Add `--for`."""
    parser.add_argument(
        "--for", metavar="USER", dest="for_user", help="as root: act as this account, using its home, trash and history"
    )


def rules_file(args: argparse.Namespace) -> Path:
    """Return the rule file that was named, or the default one."""
    path: Path = args.rules or default_rules_file()
    # A short name is that of a file in the configuration folder, unless the current folder has a file of that name.
    if args.rules is not None and path.name == str(path) and not path.suffix and not disk.lexists(path):
        known = default_rules_file().with_name(f"{path.name}.toml")
        if not known.is_file():
            raise UsageError(f"no rule file {shown(path.name)} here, and no {shown(str(known))}", _rule_files_text(known.parent))
        path = known
    if args.rules is not None and disk.isdir(path):
        quoted = processes.quote(str(path))
        raise UsageError(
            f"{shown(str(path))} is a folder, not a rule file", f"without rules: frugal sort {quoted} --into '{{type}}'"
        )
    if args.rules is not None and not disk.lexists(path) and disk.isdir(path.parent):
        names = [one.stem for one in path.parent.iterdir() if one.suffix == ".toml"]
        if hint := nearest(path.stem, names):
            raise UsageError(
                f"{shown(str(path))}: the rule file cannot be read (no such file or directory)", hint[:-2] + ".toml`?"
            )
    return path.absolute()


def _rule_files_text(folder: Path) -> str:
    try:
        names = sorted(shown(one.stem) for one in folder.iterdir() if one.suffix == ".toml")
    except OSError:
        names = []
    return f"known by name: {', '.join(names)}" if names else "check the path"
