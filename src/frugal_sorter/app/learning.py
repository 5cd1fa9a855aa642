"""Learning rules from files that somebody put into folders: tests of names, types, sizes and words, and a score."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Mapping, Sequence
from datetime import datetime
from functools import lru_cache
from typing import TYPE_CHECKING, Any, NamedTuple

from frugal_sorter.app.proposal import SAYS_NOTHING, form_of, tokens_of
from frugal_sorter.filesystem.record import OTHER, TYPE_OF_SUFFIX, stem_of, suffix_of
from frugal_sorter.platforms import slashed
from frugal_sorter.rules.editing import quoted
from frugal_sorter.rules.fields import fold
from frugal_sorter.rules.templates import parse_reading
from frugal_sorter.rules.units import SECOND_NS, parse_size
from frugal_sorter.values import field, frozen, mutable

if TYPE_CHECKING:
    import numpy

    Table = numpy.ndarray[Any, Any]


# The least files of a rule, the most tests, and the part of its files that it must place correctly.
_FEWEST, _MOST_TESTS, _RIGHT = 4, 4, 0.8
# This part of what it takes is held against a rule that is right only behind those before it.
_LEANING = 0.3
# Below this part it is written down, but switched off.
SURE = 0.9
# Bounds of sizes, as a person would name them.
_BOUNDS = [f"{number} {unit}" for unit in ("KB", "MB", "GB") for number in (1, 2, 5, 10, 20, 50, 100, 200, 500)]
_WORDS, _SHORTEST_WORD, _BASES, _MOST_RULES = 600, 3, 12, 200
FOLDS = 5
# Words inside files: of letters, and long enough to be no filler.
_INSIDE = re.compile(r"[^\W\d_]{5,}")


class Item(NamedTuple):
    """A file that somebody has put somewhere: its name, the folder as seen from the tree, size, and modification time in ns.

    `inside` is the text in it, folded, where it was read.
    """

    name: str
    folder: str
    bytes: int
    mtime_ns: int
    inside: str = ""

    @property
    def says_nothing(self) -> bool:
        """Whether its name is of the kind that a device gives: no word but such as `scan`."""
        words = (fold(token.text) for token in tokens_of(stem_of(self.name)) if token.kind == "word")
        return all(len(word) < _SHORTEST_WORD or word in SAYS_NOTHING for word in words)


class Test(NamedTuple):
    """A test of our own language, and what it looks for: a suffix, a type, a word of the name or inside, or a size.

    `bound` is that of a size, in bytes; `names` are those of a family of folders.
    """

    text: str
    kind: str
    value: str
    bound: int = 0
    names: tuple[str, ...] = ()

    def holds(self, item: Item) -> bool:
        """Return True if it is true of a file."""
        if self.kind == "size":
            return item.bytes > self.bound if self.value.startswith("over") else item.bytes < self.bound
        if self.kind == "inside":
            return self.value in item.inside
        if self.kind == "family":
            return fold(part_of(self.value, item)) in self.names
        if self.kind == "fits":
            return bool(parse_reading(self.value, False).fits(stem_of(item.name)))
        suffix, group, name = _parts(item.name)
        if self.kind == "ext":
            return suffix == self.value
        if self.kind == "type":
            return group == self.value
        return self.value in name


@lru_cache(maxsize=1 << 16)
def _read_part(pattern: str, stem: str) -> str:
    found = parse_reading(pattern, False).read(stem)
    return str(found["part"]) if found is not None else ""


def part_of(pattern: str, item: Item) -> str:
    """Return the part of a file's name that names its folder, as a pattern reads it; empty where the name does not fit."""
    return _read_part(pattern, stem_of(item.name))


@lru_cache(maxsize=1 << 15)
def _parts(name: str) -> tuple[str, str, str]:
    """Return the suffix, the type and the folded form of a name: hundreds of tests ask for them."""
    suffix = suffix_of(name)
    return suffix, TYPE_OF_SUFFIX.get(suffix, OTHER), fold(name)


@frozen
class LearntRule:
    """A rule that was learnt.

    Args:
        tests: they must all hold.
        target: the folder, as seen from the tree; it may hold `{modified:…}`, and `{part}` of a family.
        right: on how many files that it was learnt from it was right.
        wrong: and on how many not.
    """

    tests: tuple[Test, ...]
    target: str
    right: int
    wrong: int

    @property
    def name(self) -> str:
        """What a file calls it: its target and what it looks for."""
        return f"{self.target}: {' '.join(test.value for test in self.tests)}"

    @property
    def where(self) -> str:
        """The condition."""
        return " and ".join(test.text for test in self.tests)

    @property
    def is_sure(self) -> bool:
        """Whether it is right often enough to be switched on."""
        return self.right >= SURE * (self.right + self.wrong)

    def takes(self, item: Item) -> bool:
        """Return True if it takes a file."""
        return all(test.holds(item) for test in self.tests)

    def place(self, item: Item) -> str:
        """Return the folder that it has for a file."""
        pattern = next((test.value for test in self.tests if test.kind == "family"), "")
        parts = [
            _date(item, part[len("{modified:") : -1])
            if part.startswith("{modified:")
            else part_of(pattern, item)
            if part == PART and pattern
            else part
            for part in self.target.split("/")
        ]
        return slashed.normpath("/".join(parts))


class Misplaced(NamedTuple):
    """A held-out file that was put elsewhere: its name, where it is, and where it was put."""

    name: str
    lies: str
    put: str


@mutable
class Score:
    """What became of files that were held out, in all folds.

    Args:
        right: put where they are.
        left: taken by no rule.
        misplaced: put elsewhere.
        by_folder: for each folder how many are there, and how many of these were put right.
    """

    right: int = 0
    left: int = 0
    misplaced: list[Misplaced] = field(default_factory=list)
    by_folder: dict[str, tuple[int, int]] = field(default_factory=dict)

    @property
    def all(self) -> int:
        """How many files were held out."""
        return self.right + self.left + len(self.misplaced)


def learn(items: Sequence[Item], stays: str = "") -> list[LearntRule]:
    """Return a list of rules; the first that takes a file decides.

    Args:
        items: what somebody has sorted.
        stays: a folder that no rule is made for: what is there is only what the others must not take.
    """
    import numpy as np

    items = sorted(items)
    targets, families = _targets(items)
    classes = sorted(set(targets) - {stays}) + ([stays] if stays else [])
    tests = [*families, *_tests(items)]
    if not tests or (len(classes) < 2 and not families):
        return []
    table = np.array([[test.holds(item) for item in items] for test in tests], dtype=bool)
    which = np.array([classes.index(target) for target in targets])
    one_hot = np.eye(len(classes), dtype=np.float32)[which]
    if stays:
        one_hot = one_hot[:, :-1]
    left = np.ones(len(items), dtype=bool)
    alone = np.array([test.kind not in ("size", "inside") for test in tests])
    rules: list[LearntRule] = []
    while len(rules) < _MOST_RULES:
        found = _best(table, alone, one_hot, left)
        if found is None:
            return rules
        chosen, target = found
        taken = left & np.logical_and.reduce(table[list(chosen)])
        right = int((which[taken] == target).sum())
        rules.append(LearntRule(tuple(tests[at] for at in chosen), classes[target], right, int(taken.sum()) - right))
        left &= ~taken
    return rules


class _Candidate(NamedTuple):
    """Tests that tell a class from the others: how much they are worth, which they are, and whether they lean.

    Tests lean that are right only since rules before them take what they would put wrong.
    """

    value: float
    tests: tuple[int, ...]
    target: int
    leans: bool


def _best(table: Table, alone: Table, one_hot: Table, left: Table) -> tuple[tuple[int, ...], int] | None:
    """Return the tests that tell most files of one class from those left over, and the class; None where none do.

    Args:
        table: which test holds for which file.
        alone: which of the tests may be used on their own: a size says too little, and few names justify opening files.
        one_hot: the class of each file.
        left: the files that no rule takes yet.
    """
    import numpy as np

    def leans(tests: tuple[int, ...], target: int) -> bool:
        mask = np.logical_and.reduce(table[list(tests)])
        return float(one_hot[mask, target].sum()) < _RIGHT * float(mask.sum())

    waiting: list[tuple[tuple[int, ...], Table]] = [((), left)]
    found: _Candidate | None = None
    looked_further = False
    for _ in range(_MOST_TESTS):
        deeper: list[tuple[float, tuple[int, ...], Table]] = []
        for chosen, mask in waiting:
            part = table[:, mask]
            counts = part.astype(np.float32) @ one_hot[mask]
            total, best, target = part.sum(1), counts.max(1), counts.argmax(1)
            for at in np.flatnonzero(best >= _FEWEST):
                if int(at) in chosen or not (chosen or alone[at]):
                    continue
                right, wrong = float(best[at]), float(total[at] - best[at])
                tests = (*chosen, int(at))
                # Each further test costs: of two rules that do the same the shorter one is kept.
                value = right - 5 * wrong - 2 * len(tests)
                could_be = right >= _RIGHT * (right + wrong) and (found is None or value > found.value)
                # Files not seen yet would end up there, too: a test that is right on its own comes before one that is not.
                leaning = could_be and leans(tests, int(target[at]))
                value -= _LEANING * right if leaning else 0
                if could_be and (found is None or value > found.value):
                    found = _Candidate(value, tests, int(target[at]), leaning)
                if leaning or (wrong and not could_be):
                    deeper.append((right - wrong, tests, mask))
        if found is not None and found.value > 0:
            if looked_further or not found.leans:
                break
            looked_further = True
        deeper.sort(key=lambda one: (-one[0], one[1]))
        waiting = [(tests, mask & table[tests[-1]]) for _, tests, mask in deeper[:_BASES]]
        if not waiting:
            break
    return None if found is None else (found.tests, found.target)


def _tests(items: Sequence[Item]) -> list[Test]:
    """Return the tests that some files pass and others do not, words that many names have first."""
    suffixes = Counter(_parts(item.name)[0] for item in items)
    types = Counter(_parts(item.name)[1] for item in items)
    words = Counter(word for item in items for word in _words(item.name))
    found = [
        Test(f"ext is {suffix}", "ext", suffix)
        for suffix, count in sorted(suffixes.items())
        if suffix.isalnum() and count >= _FEWEST
    ]
    found += [
        Test(f"type is {name}", "type", name) for name, count in sorted(types.items()) if count >= _FEWEST and name != OTHER
    ]
    inside = Counter(word for item in items for word in set(_INSIDE.findall(item.inside)))
    for field_name, kind, counts in (("name", "word", words), ("text", "inside", inside)):
        ranked = sorted(counts.items(), key=lambda one: (-one[1], one[0]))[:_WORDS]
        found += [Test(f"{field_name} has {quoted(word)}", kind, word) for word, count in ranked if _FEWEST <= count < len(items)]
    for text in _BOUNDS:
        bound = parse_size(text)
        over, under = sum(item.bytes > bound for item in items), sum(item.bytes < bound for item in items)
        if over >= _FEWEST and under >= _FEWEST:
            # Last: of two tests that tell as much, the name is what a person would go by.
            found += [
                Test(f"size {sign} {text}", "size", f"{side} {text}", bound) for sign, side in ((">", "over"), ("<", "under"))
            ]
    return found


def _words(name: str) -> set[str]:
    return {
        fold(token.text) for token in tokens_of(name) if token.kind in ("word", "number") and len(token.text) >= _SHORTEST_WORD
    }


# Folders that are named after months or years, or after a part of the names of their files

PART = "{part}"
# How a part is separated from the rest of a name; and how many folders make a family.
_BETWEEN, _FAMILY = (" - ", "_", " ", "-", "."), 3
_PATTERNS = tuple(
    form.format(between)
    for between in _BETWEEN
    for form in ("{{part}}{0}{{rest}}", "{{rest}}{0}{{part}}", "{{first}}{0}{{part}}{0}{{rest}}")
)


def _families(items: Sequence[Item]) -> dict[str, Test]:
    """Return folders that are named after the same part of the names of nearly all their files, each with the test for it."""
    beside: dict[str, dict[str, list[Item]]] = {}
    for item in items:
        names = item.folder.split("/")
        for at, name in enumerate(names):
            if not form_of(name):
                beside.setdefault("/".join(names[:at]), {}).setdefault(name, []).append(item)
    found: dict[str, Test] = {}
    for above, there in beside.items():
        # Reading all names by all patterns takes long: first, whether they hold the name at all.
        folders = {
            name: inside for name, inside in there.items() if sum(name in one.name for one in inside) >= _RIGHT * len(inside)
        }
        best: tuple[int, str, list[str]] = (0, "", [])
        for pattern in _PATTERNS if len(folders) >= _FAMILY else ():
            hits = {name: sum(part_of(pattern, item) == name for item in inside) for name, inside in folders.items()}
            named = sorted(name for name, inside in folders.items() if hits[name] >= max(_RIGHT * len(inside), 1))
            best = max(best, (sum(hits[name] for name in named), pattern, named), key=lambda one: one[0])
        count, pattern, named = best
        if len(named) >= _FAMILY and count >= _FEWEST:
            listed = ", ".join(map(quoted, named))
            test = Test(f"stem fits {quoted(pattern)} and part in ({listed})", "family", pattern, names=tuple(map(fold, named)))
            found |= {f"{above}/{name}".lstrip("/"): test for name in named}
    return found


def _targets(items: Sequence[Item]) -> tuple[list[str], list[Test]]:
    """Return for each file the folder it is in, its dates and the name of its family as placeholders, and tests of families."""
    families = _families(items)
    by_folder: dict[str, list[Item]] = {}
    for item in items:
        by_folder.setdefault(item.folder, []).append(item)
    # May is the same in short: the form of the other months decides.
    parts = [(item, set(item.folder.split("/"))) for item in items]
    months = sorted(_BELOW_A_YEAR, key=lambda form: -sum(_date(item, form) in names for item, names in parts))
    known = {folder: _as_template(folder, inside, months, families) for folder, inside in by_folder.items()}
    return [known[item.folder] for item in items], list(dict.fromkeys(families.values()))


def _as_template(folder: str, items: Sequence[Item], months: Sequence[str], families: Mapping[str, Test]) -> str:
    parts: list[str] = []
    names = folder.split("/")
    for at, part in enumerate(names):
        # One part of a name can name one folder on the way.
        if "/".join(names[: at + 1]) in families and PART not in parts:
            parts.append(PART)
            continue
        forms = [form_of(part), *(months if "{modified:%Y}" in parts else ())]
        form = next((one for one in forms if one and sum(_date(item, one) == part for item in items) > len(items) / 2), "")
        parts.append(f"{{modified:{form}}}" if form else part)
    return "/".join(parts)


# How folders of months are called in one of a year.
_BELOW_A_YEAR = ("%m", "%m %B", "%m-%B", "%B", "%m %b", "%m-%b", "%b")


def _date(item: Item, form: str) -> str:
    return datetime.fromtimestamp(item.mtime_ns // SECOND_NS).strftime(form)


# How good it is


def score_of(items: Sequence[Item]) -> Score:
    """Return what rules do with files that they were not learnt from: every fifth is held out, five times.

    Args:
        items: what somebody has sorted.
    """
    items, score = sorted(items), Score()
    for fold_at in range(FOLDS):
        rules = learn([item for at, item in enumerate(items) if at % FOLDS != fold_at])
        for item in items[fold_at::FOLDS]:
            put = place_for(rules, item)
            lies, right = score.by_folder.get(item.folder, (0, 0))
            score.by_folder[item.folder] = (lies + 1, right + (put == item.folder))
            if put is None:
                score.left += 1
            elif put == item.folder:
                score.right += 1
            else:
                score.misplaced.append(Misplaced(item.name, item.folder, put))
    return score


def place_for(rules: Sequence[LearntRule], item: Item) -> str | None:
    """Return where rules put a file; None where none that is sure takes it."""
    for rule in rules:
        if rule.is_sure and rule.takes(item):
            return rule.place(item)
    return None
