"""The reference of the rule language, made from the tables that the program itself reads."""

from __future__ import annotations

from collections.abc import Iterable

from frugal_sorter.filesystem.record import TYPE_OF_SUFFIX, TYPES
from frugal_sorter.rules.fields import FIELDS
from frugal_sorter.rules.keys import INVENTORY, KEYS, TRASH
from frugal_sorter.rules.templates import EXTRAS, PLACEHOLDER_FIELDS
from frugal_sorter.state import default_rules_file, settings_file, state_folder

OPERATORS: tuple[tuple[str, str], ...] = (
    ("`is`, `is not`, `in (a, b)`, `not in (…)`, `is none` (absent)", "any field"),
    ("`has`, `starts`, `ends`", "texts"),
    ('`like "*.tmp"` (shell wildcards)', "texts"),
    ('`fits "Scan_{scanned:%Y%m%d}_{page}.tif"` (the whole text; names what it captures)', "texts"),
    ('`matches "^INV-\\d+"` (regular expression; named groups are captures)', "texts"),
    ("`>` `<` `>=` `<=`", "sizes, with a unit, and numbers"),
    ("`older than 30 days`, `within 20 minutes`; a date in the future is neither", "dates"),
    ("`before`, `after`, `on` with `2026-10-04`, `2026-10`, `2026`, `today`, `yesterday`", "dates"),
    ('`listed in "keep.txt"` (a path below `in` on each line, `#` comments, either slash)', "the entry"),
)
_KINDS = {"texts": "texts", "word": "text", "text": "text"}
_LIBRARIES = {"PIL": "media", "mutagen": "media", "puremagic": "media", "pypdf": "media"}


def _table(headings: Iterable[str], rows: Iterable[Iterable[str]]) -> str:
    head = list(headings)
    lines = [head, ["---"] * len(head), *map(list, rows)]
    return "\n".join("| " + " | ".join(cells) + " |" for cells in lines)


def conditions() -> str:
    """Return the reference of conditions as Markdown."""
    fields = [
        (f"`{one.name}`", _KINDS.get(one.kind, one.kind), one.summary, _LIBRARIES.get(one.library, ""))
        for one in FIELDS.values()
        if one.kind != "flag"
    ]
    flags = [(f"`{one.name}`", one.summary, _LIBRARIES.get(one.library, "")) for one in FIELDS.values() if one.kind == "flag"]
    return f"""\
Tests are joined with `and`, `or`, `not` and parentheses; `not` binds strongest, then `and`. Values are
quoted (`"…"` or `'…'`, the quote doubled inside, backslashes literal) or bare words; a bare
value of several words, and the words `and or not in is none exactly`, need quotes. Comparisons ignore
case unless `exactly` comes before the value. `not` may come before an operator too.

{_table(("test", "on"), OPERATORS)}

{_table(("field", "kind", "says", "extra"), fields)}

{_table(("flag (used alone)", "says", "extra"), flags)}

Sizes are `250 KB` (1000) or `250 KiB` (1024), up to T. Durations are seconds to years, side by side:
`1 day 12 hours`; months and years go by the calendar. All times are local.

What `fits` or `matches` captures is a field of the same condition: a date, a number or a text, such as
`name fits "Order_{{day:%Y%m%d}}_{{rest}}.pdf" and day older than 3 weeks`, or `name fits "plan {{rev}}.pdf" and
rev > 3`. Of a name that does not fit it is unknown.

Types: {", ".join(TYPES)}; and those in `[types]`.

A fact can be unknown: a date that an entry does not have, a date in the future when its age is asked,
anything that cannot be read, is damaged, or takes too long. Unknown stays unknown through `and`, `or` and
`not`, and only true acts. Texts and tags that an entry does not have are empty, so that tests on them
are decided. `is none` asks for absence itself.
"""


def placeholders() -> str:
    """Return the reference of placeholders as Markdown."""
    rows = [(f"`{{{name}}}`", FIELDS[name].summary) for name in PLACEHOLDER_FIELDS]
    rows += [(f"`{{{name}}}`", summary) for name, (summary, _) in EXTRAS.items()]
    return f"""\
Placeholders can be used in `move`, `rename`, `pack`, `unpack`, `copy`, `link`, `tag`, `untag`, `comment` and `run`.
Dates take strftime codes, `{{modified:%Y/%m %B}}`, and month names
are English; numbers take a width, `{{n:03}}`. Alternatives for what may be missing:
`{{taken|modified:%Y-%m}}`, `{{artist|"Unknown"}}`. What `fits` and `matches` capture can be used by its name. An
entry without a value for one is claimed, left and reported. A filled-in value never leaves its path
segment: separators, control characters, leading dots, trailing dots and spaces, reserved device names
and over-long names are made safe.

{_table(("placeholder", "says"), rows)}
"""


def rules() -> str:
    """Return the reference of the keys of a rule as Markdown."""
    rows = [(f"`{name}`", key.meaning, key.default) for name, key in KEYS.items()]
    common = ", ".join(f"`{name}`" for name, key in KEYS.items() if key.common)
    endings = ", ".join(f"`{name}`" for name, key in KEYS.items() if key.ending and name not in ("move", "rename"))
    extras = ", ".join(f"`{name}`" for name, key in KEYS.items() if key.extra)
    trash = [(f"`{name}`", key.meaning, key.default) for name, key in TRASH.items()]
    inventory = [(f"`{name}`", key.meaning, key.default) for name, key in INVENTORY.items()]
    return f"""\
{_table(("key", "meaning", "default"), rows)}

A rule has one action: `move`, `rename` or both, {endings}. Beside it, or alone, it may have extras:
{extras}. A rule with extras alone adds them and passes the file on to the next rule; extras below
the rule that decides do not run. Tags, comments and copies come before the action, links after it, programs
after a move and before a removal; a file with several of these gets all of them or none. Rules see each
file as it was before the run. `[defaults]` may hold {common}.

Rules are tried from top to bottom, and the first rule that matches a file decides what happens to it. Later
rules do not see the file, even if frugal then holds the change back. A file that is already where its rule
would put it, even under a numbered name, is left alone. A rule that builds a new name from the old one does
so only once. frugal never acts on folders that rules act in or write into, the folders above them, the rule
file and its lists; a file inside a folder that is moved or removed as a whole goes with that folder.

A table `[trash]` keeps the trash small; it is part of every `tidy`. It deletes files from the trash
permanently, the oldest first, in every trash of this account; what the run itself moves there is kept. Too
old and too much are separate limits. To have several limits, each with its own `where`, write `[[trash]]`;
each sees what the limits above it leave.

{_table(("key of `[trash]`", "meaning", "default"), trash)}

A table `[inventory]` saves what `frugal forecast` needs: every `tidy` looks whether one is due, also if it
changes nothing else.

{_table(("key of `[inventory]`", "meaning", "default"), inventory)}
"""


EXIT_CODES: tuple[tuple[int, str], ...] = (
    (0, "done, or nothing to do"),
    (1, "partly done, or something needs attention; with `preview --exit-code`: there is something to do"),
    (2, "an error in the command, a rule file or another input, or the state of the tool cannot be used; nothing was changed"),
    (3, "declined, or refused; nothing was changed"),
    (130, "stopped by Ctrl-C between two steps"),
    (141, "the program reading the output closed the pipe"),
    (143, "terminated by a signal (SIGTERM) between two steps"),
)


def types() -> str:
    """Return the types with their suffixes as Markdown."""
    of_type: dict[str, list[str]] = {name: [] for name in TYPES}
    for suffix, name in TYPE_OF_SUFFIX.items():
        of_type.setdefault(name, []).append(suffix)
    rows = [(f"`{name}`", " ".join(sorted(suffixes))) for name, suffixes in of_type.items()]
    return f"{_table(('type', 'suffixes'), rows)}\n\n`[types]` in a rule file adds others, and `--types` in a command.\n"


def fields() -> str:
    """Return the fields that conditions ask for, one a line."""
    rows = [(f"`{one.name}`", one.kind, one.summary) for one in FIELDS.values()]
    return f"{_table(('field', 'kind', 'says'), rows)}\n"


def exit_codes() -> str:
    """Return what the program ends with."""
    return f"{_table(('exit code', 'means'), [(str(code), meaning) for code, meaning in EXIT_CODES])}\n"


def files() -> str:
    """Return where everything is on this machine, for this account."""
    state, settings = str(state_folder()), settings_file()
    rows = [
        ("rule files known by a short name", f"{settings.parent}/NAME.toml"),
        ("the rule file when none is named", f"{default_rules_file()} (or what $FRUGAL_RULES says)"),
        ("settings", str(settings)),
        ("history, saved inventories, earlier rule files", state),
        ("log", "what `log` in the settings or in a rule file says; none by default"),
        ("schedules", "with the scheduler of this system; `frugal schedule show NAME` names their files"),
    ]
    return (
        f"{_table(('what', 'where'), rows)}\n\nTo uninstall: `frugal schedule remove` for each schedule, then remove the "
        "program the way it was installed, such as `pipx uninstall frugal-sorter`, and last the folders above. Without the "
        "history, no run can be undone; what is in the trash stays there.\n"
    )


TOPICS = {"conditions": conditions, "placeholders": placeholders, "rules": rules}
# Printed, but elsewhere in the docs.
MORE_TOPICS = {"types": types, "fields": fields, "exit-codes": exit_codes, "files": files}
