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

A quoted text is taken as it is, its own quote doubled. A word is anything but blanks, parentheses, commas, quotes, `<`,
`>`, `=` and `!`; seven words of the language must be quoted to be a text. Whether a value is a size, a date, a type or a
text is decided afterwards by the kind of its field.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator, Sequence
from contextlib import suppress
from typing import Any, NamedTuple

from frugal_sorter.filesystem.record import Unknown
from frugal_sorter.rules import operators
from frugal_sorter.rules.fields import FIELDS, Fact, Facts, Field
from frugal_sorter.rules.source import meant
from frugal_sorter.rules.templates import CaptureKind
from frugal_sorter.rules.tree import Leaf, Negation, Node, Several
from frugal_sorter.rules.units import InvalidValue
from frugal_sorter.values import field, mutable, replace


class Token(NamedTuple):
    """A word of a condition: its kind in the grammar, its text, and its column from 1."""

    kind: str
    text: str
    column: int


class Tree(NamedTuple):
    """A part of a condition: which rule of the grammar, its parts, and where it is in the text."""

    rule: str
    parts: tuple[Tree | Token | None, ...]
    start: int
    end: int

    @property
    def trees(self) -> Iterator[Tree]:
        """The parts that are trees themselves."""
        return (part for part in self.parts if isinstance(part, Tree))


class Unparsed(Exception):
    """A text that is not a condition: where it stops making sense, or that it ends too early."""

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
        "AND": f"and{_WHOLE}",
        "OR": f"or{_WHOLE}",
        "NOT": f"not{_WHOLE}",
        "NONE": f"none{_WHOLE}",
        "EXACTLY": f"exactly{_WHOLE}",
        "IN_USE": rf"in\s+use{_NAMED}",
        "LISTED": rf"listed(?=\s+in{_NAMED})",
        "IS": f"is{_NAMED}",
        "IN": f"in{_NAMED}",
        "TEXTUAL": f"(has|starts|ends|like|fits|matches){_NAMED}",
        "AGE": rf"(older\s+than|within){_NAMED}",
        "DAY": f"(before|after|on){_NAMED}",
        "ORDER": ">=|<=|>|<",
        "STRING": QUOTED,
        "WORD": rf"""(?!(?:{_WORDS}){_WHOLE})[^\s(),"'<>=!]+""",
        "NAME": rf"(?!(?:{_WORDS}){_NAMED})[a-z_][a-z0-9_]*(?:-[a-z]+)*{_WHOLE}",
        "(": r"\(",
        ")": r"\)",
        ",": ",",
    }.items()
}
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
        Unparsed: the text is not a condition.
    """
    try:
        tree = _Parser(text, deepest).parse()
    except _TooDeep:
        return None
    return tree if depth_of(tree) <= deepest else None


LONGEST = 4_000
DEEPEST = 100


class Parsed(NamedTuple):
    """A condition, with what is probably not meant in it, though valid."""

    node: Node
    warnings: tuple[str, ...]


ReadList = Callable[[str], frozenset[str]]


def _no_lists(name: str) -> frozenset[str]:
    raise InvalidValue(f'list file "{name}" not found', "list files must be next to the rule file")


def parse_condition(text: str, types: Sequence[str], read_list: ReadList = _no_lists) -> Parsed:
    """Read a condition.

    Args:
        text: the condition as written.
        types: the names of all type groups.
        read_list: returns the folded paths in a list file, or raises InvalidValue.

    Raises:
        InvalidValue: it cannot be read or asks for what does not exist. `what` names the column.
    """
    if len(text) > LONGEST:
        raise InvalidValue(f"the condition has {len(text):,} characters", f"{LONGEST:,} are allowed; make two rules of it")
    if not text.strip():
        raise InvalidValue("the condition is empty", "use `everything` to match all files")
    try:
        tree = parse(text, DEEPEST)
    except Unparsed as error:
        raise _unreadable(text, error.at) from None
    if tree is None:
        raise InvalidValue("the condition is nested too deeply", f"{DEEPEST} levels are allowed")
    builder = _Builder(text, types, read_list)
    builder.know_captures(tree)
    node = builder.build(tree)
    if builder.wrong:
        first, *others = builder.wrong
        first.others = others
        raise first
    return Parsed(node, tuple(builder.warnings))


_DATES = "|".join(name for name, one in FIELDS.items() if one.kind == "date")
_FLAGS = "|".join(name for name, one in FIELDS.items() if one.kind == "flag")
# How people write a test elsewhere, and how it is written here; the first that fits a whole test.
_REWRITTEN = (
    (rf"({_DATES}) (?:in )?(today|yesterday|(?:19|20)\d\d\S*)", r"\1 on \2"),
    (rf"({_DATES}) (?:in (?:the )?)?(?:last|past) (\d.*)", r"\1 within \2"),
    (rf"({_DATES}) since (.+)", r"\1 after \2"),
    (r"(?:in the )?(?:last|past) (\d.*)", r"modified within \1"),
    (r"ext(?:ension)?\s*[:=]+\s*[*.]*(\w+)", r"ext is \1"),
    (r"(\w+)\s*=~\s*(.+)", r"\1 matches \2"),
    (rf"(?:is )?({_FLAGS})(?:\s*=+\s*(?:true|yes|1))?", r"\1"),
    (r"(fits|like|matches|has|starts|ends) (.+)", r"name \1 \2"),
    (r"(?:larger|bigger|greater|more) than (.+)", r"size > \1"),
    (r"(?:smaller|less) than (.+)", r"size < \1"),
    (r"contents? (?:contains?|has) (.+)", r"text has \1"),
    (r"\*", "everything"),
    (r"\*?\.(\w+)", r"ext is \1"),
    (r"([^\s\"']*[*?][^\s\"']*)", r'name like "\1"'),
)


def _rewritten(text: str, at: int) -> str:
    """Return how the test of a condition around a place is written here; empty where that is not known."""
    start = max((found.end() for found in re.finditer(r"\b(?:and|or|not)\b|\(", text[:at])), default=0)
    test = re.split(r"\b(?:and|or)\b|\)", text[start:])[0].strip()
    return next((found.expand(here) for pattern, here in _REWRITTEN if (found := re.fullmatch(pattern, test, re.IGNORECASE))), "")


def _unreadable(text: str, at: int | None) -> InvalidValue:
    if found := re.search(r"&&|\|\||==|!=", re.sub(QUOTED, lambda quoted: "x" * len(quoted[0]), text)):
        instead = {"&&": "and", "||": "or", "==": "is", "!=": "is not"}[found[0]]
        return InvalidValue(f"`{found[0]}` at column {found.start() + 1} is not part of a condition", f"use `{instead}`")
    if at is None:
        without = re.sub(QUOTED, "", text)
        if without.count("(") > without.count(")"):
            return InvalidValue('the condition is incomplete: ")" is missing', "close each ( with a )")
        return InvalidValue(f"the condition is incomplete: {_shown(text)}", "a test is a field, an operator and a value")
    rest = text[at:].split()
    column = at + 1
    word = rest[0] if rest else text[at:]
    before = text[:at].split()
    if text[at] in "\"'" and text.count(text[at]) % 2:
        return InvalidValue(
            f"the quote at column {column} is not closed", ("add the closing quote; to write a quote inside the text, double it")
        )
    if instead := _rewritten(text, at):
        return InvalidValue(f'cannot read "{_shown(text[at:])}" at column {column}', f"use `{instead}`")
    if text[at] == "!":
        return InvalidValue(f"`!` at column {column} is not part of a condition", "use `not`")
    if listed := re.search(
        r"(\b(?!not\b)\w[\w-]*)\s+(?:is\s+)?(not\s+)?in\s+$", text[:at] if before[-1:] == ["in"] else text[: at + 3]
    ):
        values = text[listed.end() :].partition(" and ")[0].partition(" or ")[0].strip()
        return InvalidValue(f"a list at column {column} needs parentheses", f"use `{listed[1]} {listed[2] or ''}in ({values})`")
    if text[at] == "=":
        return InvalidValue(f'"=" at column {column} is not an operator', "use `is`")
    if text[at] == "," and (listed := re.search(r"(\w[\w-]*)\s+is\s+(\S+)\s*$", text[:at])):
        others = " ".join(text[at + 1 :].split()[:1])
        return InvalidValue(f"a list at column {column} needs parentheses", f"use `{listed[1]} in ({listed[2]}, {others})`")
    if text[:at].rstrip().endswith(('"', "'")) and text[at] not in "()":
        return InvalidValue(
            f"the text ends before column {column}", "inside a text the same quote is doubled, or use the other kind around it"
        )
    if text[at] == ")":
        return InvalidValue(f'unexpected ")" at column {column}', "count the parentheses")
    if before and before[-1].lower() in ("older", "newer", "within", "before", "after"):
        return InvalidValue(f"`{before[-1]}` needs a date field in front of it", f"use `modified {before[-1]} {' '.join(rest)}`")
    if before and before[-1].lower() in FIELDS and not text[at:].startswith("("):
        near = meant(word, "operator", operators.OPERATOR_WORDS)
        return InvalidValue(f'"{word}" at column {column} is not an operator', near or "operators are: is, has, like, >, ...")
    return InvalidValue(
        f'cannot read the condition from "{_shown(text[at:])}" at column {column}',
        "put values with spaces in quotes, and join tests with `and` or `or`",
    )


def _shown(text: str) -> str:
    text = " ".join(text.split())
    return text if len(text) <= 40 else text[:37] + "..."


# The path of an entry below its `in`, for list files; it is not a field of its own.
LISTED = Field("listed in", "text", 2, "its path is in a list file", lambda facts: facts.below)


@mutable
class _Builder:
    """Turns the parse tree into nodes; the kind of each field decides what its values mean."""

    written: str
    types: Sequence[str]
    read_list: ReadList
    warnings: list[str] = field(default_factory=list)
    wrong: list[InvalidValue] = field(default_factory=list)
    captured: dict[str, Field] = field(default_factory=dict)

    def know_captures(self, tree: Tree) -> None:
        """Learn which parts of names the whole condition captures: they are fields of it, wherever they are."""
        if tree.rule == "compare" and any(isinstance(part, Token) and part.kind == "TEXTUAL" for part in tree.parts):
            with suppress(InvalidValue):
                leaf = next(self._compare(list(tree.parts)).leaves())
                self.captured |= {name.lower(): _captured(leaf, name, kind) for name, kind in leaf.check.captured}
        for part in tree.trees:
            self.know_captures(part)
        self.warnings.clear()

    def build(self, tree: Tree) -> Node:
        if tree.rule in ("any_of", "all_of"):
            parts = list(tree.trees)
            if tree.rule == "any_of" and any(part.rule == "all_of" for part in parts):
                hint = "add parentheses to make the order clear"
                self.warnings.append(f"`and` and `or` are mixed without parentheses (`and` is applied first); {hint}")
            several = Several(tuple(map(self.build, parts)), every=tree.rule == "all_of")
            if not several.every and all(isinstance(part, Negation) for part in several.parts):
                hint = "did you mean `and` in place of `or`?"
                self.warnings.append(f"`{self._written(tree)}` is true of whatever does not match all of its tests; {hint}")
            return several
        if tree.rule == "group":
            return self.build(next(tree.trees))
        if tree.rule == "negation":
            return Negation(self.build(next(tree.trees)))
        make = {"flag": self._flag, "same": self._same, "one_of": self._one_of, "compare": self._compare, "listed": self._listed}
        try:
            node = make[tree.rule](list(tree.parts))
        except InvalidValue as wrong:
            self.wrong.append(wrong)
            return Leaf(FIELDS["everything"], operators.flag())  # stands in, so that everything that is wrong is found
        return self._with_text(node, tree)

    def _written(self, tree: Tree) -> str:
        return " ".join(self.written[tree.start : tree.end].split())

    def _with_text(self, node: Node, tree: Tree) -> Node:
        text = self._written(tree)

        def named(one: Node, says_not: bool = False) -> Node:
            if isinstance(one, Leaf):
                return replace(one, text=text, says_not=says_not)
            if isinstance(one, Negation):
                return Negation(named(one.part, True))
            assert isinstance(one, Several)
            return Several(tuple(named(part, says_not) for part in one.parts), one.every)

        return named(node)

    def _listed(self, children: list[Any]) -> Node:
        name, _ = _text(children[-1])
        return Leaf(LISTED, operators.among(self.read_list(name)))

    def _field(self, token: Token) -> Field:
        known = FIELDS.get(token.text.lower()) or self.captured.get(token.text.lower())
        if known is None:
            known_names = ", ".join([*FIELDS, *self.captured])
            raise InvalidValue(
                f'unknown field or flag "{token.text}" (column {token.column})',
                self._meant(token) or f"choose from {known_names}",
            )
        return known

    def _meant(self, token: Token) -> str:
        """Return what a word that is not a field probably means."""
        before = re.search(r"(\w[\w-]*)\s+is\s+(\S+)(?:\s+or\s+\S+)*\s+or\s*$", self.written[: token.column - 1])
        if before is not None and before[1] in FIELDS:
            return f"several values go in parentheses: `{before[1]} in ({before[2]}, {token.text})`"
        return meant(token.text, "field", [*FIELDS, *self.captured])

    def _flag(self, children: list[Any]) -> Node:
        token = children[0]
        if token.kind == "IN_USE":
            return Leaf(FIELDS["in use"], operators.flag())
        found = self._field(token)
        if found.kind != "flag":
            raise InvalidValue(
                f"`{found.name}` at column {token.column} needs an operator and a value",
                f"for example `{found.name} {operators.EXAMPLES[found.kind]}`",
            )
        return Leaf(found, operators.flag())

    def _valued(self, token: Token) -> Field:
        found = self._field(token)
        if found.kind == "flag":
            raise InvalidValue(f"`{found.name}` takes no value (column {token.column})", f"use `{found.name}` alone")
        return found

    def _same(self, children: list[Any]) -> Node:
        on = self._valued(children[0])
        leaf = Leaf(on, self._is(on, children[-1]))
        return Negation(leaf) if children[1] is not None else leaf

    def _one_of(self, children: list[Any]) -> Node:
        on = self._valued(children[0])
        values = [child for child in children[2:] if isinstance(child, Tree)]
        if on.kind in operators.TEXTS:
            leaf: Node = Leaf(on, self._texts(on, values))
        else:
            leaf = Several(tuple(Leaf(on, self._is(on, value)) for value in values), every=False)
        return Negation(leaf) if children[1] is not None else leaf

    def _is(self, on: Field, value: Tree) -> operators.Check:
        if value.rule == "none":
            return operators.absent(on.kind)
        if on.kind in operators.TEXTS:
            return self._texts(on, [value])
        text, exactly = _text(value)
        _no_exactly(on, exactly)
        return operators.equal(on.kind, text)

    def _texts(self, on: Field, values: Sequence[Tree]) -> operators.Check:
        if any(value.rule == "none" for value in values):
            raise InvalidValue("`none` is not allowed in a list", f"use `{on.name} is none or {on.name} in (...)`")
        read = [_text(value) for value in values]
        exactly = any(flag for _, flag in read)
        _no_exactly(on, exactly and on.kind == "word")
        texts = [text for text, _ in read]
        if on.name == "type":
            for text in texts:
                if text.lower() not in self.types:
                    hint = meant(text, "type", self.types) or f"choose from {', '.join(self.types)}"
                    raise InvalidValue(f'unknown type "{text}"', hint)
        if on.name == "ext":
            texts = [text.removeprefix(".") for text in texts]
        for value, (text, _) in zip(values, read, strict=True):
            if value.rule == "bare" and re.search(r"[*?]", text):
                raise InvalidValue(
                    f"`{on.name} is {text}` matches these exact characters", f"use `{on.name} like {text}` for a pattern"
                )
            if value.rule == "bare" and "|" in text:
                raise InvalidValue(
                    f"`|` is not part of a condition (`{text}`)", f"use `{on.name} in ({', '.join(text.split('|'))})`"
                )
            if value.rule != "bare" and re.search(r"\*\.?\w|\w\*", text):
                self.warnings.append(
                    f'`{on.name} is "{text}"` matches these exact characters; did you mean `{on.name} like "{text}"`?'
                )
        return operators.one_of(texts, exactly, word=on.kind == "word")

    def _compare(self, children: list[Any]) -> Node:
        name, *middle, value = children
        on = self._valued(name)
        operator = next(token for token in reversed(middle) if token is not None)
        negated = len(middle) == 2 and middle[0] is not None
        if value.rule == "none":
            raise InvalidValue(f"`{operator.text}` cannot be used with `none`", f"use `{on.name} is none`")
        if operator.kind == "ORDER" and on.name in self.captured and on.kind == "text":
            on = replace(on, kind="number", get=_as_number(on.get))
        text, exactly = _text(value)
        word = " ".join(operator.text.lower().split())
        if value.rule == "bare" and word in ("starts", "ends") and text.lower().startswith("with "):
            raise InvalidValue(
                f"use `{word}`, not `{word} with`",
                (f'write `{on.name} {word} {text[5:]}`; if the text itself starts with "with", put it in quotes'),
            )
        if operator.kind != "TEXTUAL":
            _no_exactly(on, exactly)
        if word == "has" and on.name in ("name", "stem", "path") and _looks_like_suffix(text):
            self.warnings.append(
                f'`{on.name} has "{text}"` also matches in the middle of a name; did you mean `ext is {text[1:]}`?'
            )
        if word == "fits" and re.search(r"[*?]", text):
            self.warnings.append(f'`fits` reads * and ? as they are; did you mean `{on.name} like "{text}"`?')
        if word == "matches" and re.fullmatch("/.*/i?", text):
            self.warnings.append(
                f"the slashes are part of the expression; did you mean `{on.name} matches '{text.strip('i')[1:-1]}'`?"
            )
        leaf = Leaf(on, operators.compare(on.name, on.kind, word, text, exactly))
        return Negation(leaf) if negated else leaf


def _captured(leaf: Leaf, name: str, kind: CaptureKind) -> Field:
    """Return what a test captures as a field: a date, or a text that may be a number."""

    def get(facts: Facts) -> Fact:
        text = leaf.value(facts)
        found = leaf.check.capture(text) if leaf.check.capture is not None and isinstance(text, str) else None
        if found is None:
            return Unknown(f"the name does not fit the pattern with {{{name}}}")
        value: Fact = found[name]
        return value

    return Field(name.lower(), kind, leaf.cost, "a part of the name", get)


def _as_number(get: Callable[[Facts], Fact]) -> Callable[[Facts], Fact]:
    """Return the same field as a number, where the text is one."""

    def number(facts: Facts) -> Fact:
        value = get(facts)
        if isinstance(value, str):
            return int(value) if value.isdecimal() else Unknown(f"{value} is not a number")
        return value

    return number


def _looks_like_suffix(text: str) -> bool:
    return len(text) in range(2, 6) and text[0] == "." and text[1:].isalnum()


def _no_exactly(on: Field, exactly: bool) -> None:
    if exactly:
        raise InvalidValue(f"`exactly` cannot be used with `{on.name}`", "it makes a text comparison case-sensitive")


def _text(value: Tree) -> tuple[str, bool]:
    """Return the text of a value and whether `exactly` is before it."""
    exactly, *rest = value.parts
    words = [part.text for part in rest if isinstance(part, Token)]
    if value.rule == "bare":
        # Bare words are taken as they are, with one space between them.
        return " ".join(words), exactly is not None
    quoted = words[0]
    mark = quoted[0]
    return quoted[1:-1].replace(mark * 2, mark), exactly is not None
