"""From the text of a condition to its parse tree.

The grammar, in the order in which it is read; words count whatever the case of their letters:

    either    = both ("or" both)*
    both      = single ("and" single)*
    single    = "not" single | "(" either ")" | test
    test      = "in use" | "listed in" value | field
              | field "is" ["not"] value
              | field ["not"] "in" "(" value ("," value)* [","] ")"
              | field ["not"] ("has" | "starts" | "ends" | "like" | "fits" | "matches"
                              | "older than" | "within" | "before" | "after" | "on") value
              | field (">=" | "<=" | ">" | "<") value
    value     = "none" | ["exactly"] quoted | ["exactly"] word word*

A quoted text stands as it is, its own quote doubled. A word is anything but blanks, parentheses, commas, quotes, `<`,
`>`, `=` and `!`; seven words of the language must be quoted to be a text. Whether a value is a size, a date, a type or a
text is decided afterwards by the kind of its field.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator
from typing import NamedTuple


class Token(NamedTuple):
    """A word of a condition: its kind in the grammar, its text, and its column from 1."""

    kind: str
    text: str
    column: int


class Tree(NamedTuple):
    """A part of a condition: which rule of the grammar, its parts, and where it stands in the text."""

    rule: str
    parts: tuple[Tree | Token | None, ...]
    start: int
    end: int

    @property
    def trees(self) -> Iterator[Tree]:
        """The parts that are trees themselves."""
        return (part for part in self.parts if isinstance(part, Tree))


class Unparsed(Exception):
    """A text that is no condition: where it stops making sense, or that it ends too early."""

    def __init__(self, at: int | None) -> None:
        super().__init__(at)
        self.at = at


# A word of the language is a whole word; a field ends where a name does.
_WHOLE, _NAMED = r"""(?![^\s(),"'<>=!])""", r"(?![\w-])"
QUOTED = """"(?:[^"]|"")*"|'(?:[^']|'')*'"""
_WORDS = "and|or|not|in|is|none|exactly"
_TOKENS = {
    kind: re.compile(pattern, re.IGNORECASE)
    for kind, pattern in {
        "AND": f"and{_WHOLE}", "OR": f"or{_WHOLE}", "NOT": f"not{_WHOLE}", "NONE": f"none{_WHOLE}",
        "EXACTLY": f"exactly{_WHOLE}", "IN_USE": rf"in\s+use{_NAMED}", "LISTED": rf"listed(?=\s+in{_NAMED})",
        "IS": f"is{_NAMED}", "IN": f"in{_NAMED}", "TEXTUAL": f"(has|starts|ends|like|fits|matches){_NAMED}",
        "AGE": rf"(older\s+than|within){_NAMED}", "DAY": f"(before|after|on){_NAMED}", "ORDER": ">=|<=|>|<",
        "STRING": QUOTED, "WORD": rf"""(?!(?:{_WORDS}){_WHOLE})[^\s(),"'<>=!]+""",
        "NAME": rf"(?!(?:{_WORDS}){_NAMED})[a-z]+(?:-[a-z]+)*{_WHOLE}", "(": r"\(", ")": r"\)", ",": ",",
    }.items()
}  # fmt: skip
_BLANK = re.compile(r"\s*")


class _TooDeep(Exception):
    """A condition is nested more deeply than is allowed."""


class _Parser:
    """Reads one text from left to right."""

    def __init__(self, text: str, deepest: int) -> None:
        self._text, self._at, self._deepest, self._end = text, 0, deepest, 0

    def parse(self) -> Tree:
        """Return the tree of the whole text."""
        tree = self._either(1)
        if self._start() < len(self._text):
            raise Unparsed(self._start())
        return tree

    def _start(self) -> int:
        """Return where the next word begins."""
        blank = _BLANK.match(self._text, self._at)
        return blank.end() if blank else self._at

    def _next(self, *kinds: str) -> Token | None:
        """Return the next word if it is of one of some kinds, the first that fits; None leaves it where it is."""
        at = self._start()
        for kind in kinds:
            if found := _TOKENS[kind].match(self._text, at):
                self._at = self._end = found.end()
                return Token(kind, found[0], at - self._text.rfind("\n", 0, at))
        return None

    def _must(self, *kinds: str) -> Token:
        found = self._next(*kinds)
        if found is None:
            raise Unparsed(self._start() if self._start() < len(self._text) else None)
        return found

    def _tree(self, rule: str, start: int, *parts: Tree | Token | None) -> Tree:
        return Tree(rule, parts, start, self._end)

    def _either(self, depth: int) -> Tree:
        return self._several("any_of", "OR", lambda: self._several("all_of", "AND", lambda: self._single(depth)))

    def _several(self, rule: str, between: str, part: Callable[[], Tree]) -> Tree:
        start, parts = self._start(), [part()]
        while self._next(between):
            parts.append(part())
        return parts[0] if len(parts) == 1 else self._tree(rule, start, *parts)

    def _single(self, depth: int) -> Tree:
        if depth > self._deepest:
            raise _TooDeep
        start = self._start()
        if word := self._next("NOT"):
            return self._tree("negation", start, word, self._single(depth + 1))
        if self._next("("):
            inner = self._either(depth + 1)
            self._must(")")
            return self._tree("group", start, inner)
        return self._test(start)

    def _test(self, start: int) -> Tree:
        if word := self._next("IN_USE"):
            return self._tree("flag", start, word)
        if word := self._next("LISTED"):
            self._must("IN")
            return self._tree("listed", start, word, self._value())
        name = self._must("NAME")
        if self._next("IS"):
            return self._tree("same", start, name, self._next("NOT"), self._value())
        if operator := self._next("ORDER"):
            return self._tree("compare", start, name, operator, self._value())
        says_not = self._next("NOT")
        if self._next("IN"):
            return self._tree("one_of", start, name, says_not, *self._values())
        operators = ("TEXTUAL", "AGE", "DAY")
        operator = self._must("IN", *operators) if says_not else self._next(*operators)
        if operator is None:
            return self._tree("flag", start, name)
        return self._tree("compare", start, name, says_not, operator, self._value())

    def _values(self) -> list[Tree]:
        self._must("(")
        values = [self._value()]
        while self._must(",", ")").kind == ",":
            if self._next(")"):
                break
            values.append(self._value())
        return values

    def _value(self) -> Tree:
        start = self._start()
        if word := self._next("NONE"):
            return self._tree("none", start, word)
        exactly = self._next("EXACTLY")
        first = self._must("STRING", "WORD")
        if first.kind == "STRING":
            return self._tree("quoted", start, exactly, first)
        words = [first]
        while word := self._next("WORD"):
            words.append(word)
        return self._tree("bare", start, exactly, *words)


def depth_of(tree: Tree) -> int:
    """Return how deeply a tree is nested, without recursion."""
    deepest, todo = 0, [(tree, 1)]
    while todo:
        one, depth = todo.pop()
        deepest = max(deepest, depth)
        todo.extend((part, depth + 1) for part in one.trees)
    return deepest


def parse(text: str, deepest: int) -> Tree | None:
    """Return the parse tree of a condition, or None where it is nested too deeply.

    Raises:
        Unparsed: the text is no condition.
    """
    try:
        tree = _Parser(text, deepest).parse()
    except _TooDeep:
        return None
    return tree if depth_of(tree) <= deepest else None
