"""Classes of values behave as those of the standard library, which are the definition."""

from __future__ import annotations

import copy
import dataclasses
import pickle
import re
import sys
from collections.abc import Callable
from functools import cached_property, partial
from pathlib import Path
from types import ModuleType
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from frugal_sorter import values
from frugal_sorter.values import as_dict, field, frozen, mutable, replace

SOURCE = Path(__file__).parent.parent / "src/frugal_sorter"
# Written once, and made twice: by the standard library, and by `values`.
CLASSES = '''
from __future__ import annotations

@frozen
class Glaze:
    """A glaze, and what it costs."""

    name: str
    cones: tuple[int, ...] = ()
    price: int = field(default=3, compare=False)

    @property
    def label(self) -> str:
        return f"{self.name}!"

@ordered
class Shelf:
    room: int
    row: int = 0

@mutable
class Order:
    who: str
    glazes: list[Glaze] = field(default_factory=list)
    paid: dict[str, int] = field(default_factory=dict)
    done: bool = False

@frozen
class Firing(Glaze):
    kiln: str = "small"
    shelves: tuple[Shelf, ...] = ()

@frozen_itself
class Kiln:
    name: str

@mutable
class Empty:
    pass
'''


def made(name: str, **decorators: object) -> Any:
    module = ModuleType(name)
    sys.modules[name] = module
    vars(module).update(decorators)
    exec(CLASSES, vars(module))  # noqa: S102
    return module


THEIRS = made(
    "glazes_of_theirs", field=dataclasses.field, frozen=dataclasses.dataclass(frozen=True, slots=True),
    ordered=dataclasses.dataclass(frozen=True, slots=True, order=True), mutable=dataclasses.dataclass(slots=True),
    frozen_itself=dataclasses.dataclass(frozen=True, eq=False, slots=True),
)  # fmt: skip
OURS = made(
    "glazes_of_ours", field=field, frozen=frozen, ordered=frozen(order=True), mutable=mutable, frozen_itself=frozen(eq=False)
)  # fmt: skip

words = st.text("abc", max_size=2)
numbers = st.integers(0, 2)
makers: st.SearchStrategy[tuple[str, tuple[Any, ...], dict[str, Any]]] = st.one_of(
    st.tuples(
        st.just("Glaze"), st.tuples(words), st.fixed_dictionaries({}, optional={"cones": st.tuples(numbers), "price": numbers})
    ),
    st.tuples(st.just("Glaze"), st.tuples(words, st.tuples(numbers), numbers), st.just({})),
    st.tuples(st.just("Shelf"), st.tuples(numbers, numbers), st.just({})),
    st.tuples(
        st.just("Order"), st.tuples(words), st.fixed_dictionaries({}, optional={"done": st.booleans(), "paid": st.just({"a": 1})})
    ),
    st.tuples(st.just("Firing"), st.tuples(words), st.fixed_dictionaries({}, optional={"kiln": words, "price": numbers})),
    st.tuples(st.just("Empty"), st.just(()), st.just({})),
    # These are not made.
    st.tuples(st.just("Glaze"), st.just(()), st.just({})),
    st.tuples(st.just("Shelf"), st.tuples(numbers), st.just({"colour": 1})),
    st.tuples(st.just("Shelf"), st.tuples(numbers, numbers, numbers), st.just({})),
)


# What the two are asked; both must say the same.
QUESTIONS: list[Callable[[Any, Any], object]] = [
    lambda one, other: one == other,
    lambda one, other: one != other,
    lambda one, other: one < other,
    lambda one, other: hash(one) == hash(other),
    lambda one, _: len({one, copy.copy(one)}),
    lambda one, _: copy.deepcopy(one) == one,
    lambda one, _: pickle.loads(pickle.dumps(one)) == one,
    lambda one, _: one.label,
    lambda one, _: type(one).__match_args__,
    lambda one, _: setattr(one, "colour", 1),
]


def tried(work: Callable[[], object]) -> object:
    """Return what some work makes, or the kind of its error."""
    try:
        return work()
    except Exception as error:
        return type(error)


def both(make: tuple[str, tuple[Any, ...], dict[str, Any]]) -> tuple[Any, Any]:
    name, given, named = make
    theirs, ours = (tried(partial(getattr(module, name), *given, **named)) for module in (THEIRS, OURS))
    return theirs, ours


@given(makers, makers)
def test_values_are_made_shown_compared_sorted_and_copied_as_those_of_the_standard_library(
    first: tuple[str, tuple[Any, ...], dict[str, Any]], second: tuple[str, tuple[Any, ...], dict[str, Any]]
) -> None:
    (their_one, our_one), (their_other, our_other) = both(first), both(second)
    assert isinstance(their_one, type) == isinstance(our_one, type) and repr(their_one) == repr(our_one)
    if isinstance(their_one, type) or isinstance(their_other, type):
        return
    for ask in QUESTIONS:
        told = tried(partial(ask, their_one, their_other)), tried(partial(ask, our_one, our_other))
        # The one stands in its way by its slots, the other by its freezing, which is an AttributeError, too.
        kinds = [issubclass(one, (AttributeError, TypeError)) if isinstance(one, type) else one for one in told]
        assert kinds[0] == kinds[1], told
    assert dataclasses.asdict(their_one) == as_dict(our_one)


def test_a_copy_with_other_fields_is_that_of_the_standard_library() -> None:
    shelf = (THEIRS.Shelf(1), OURS.Shelf(1))
    theirs, ours = (module.Firing("celadon", shelves=(one,)) for module, one in zip((THEIRS, OURS), shelf, strict=True))
    for changes in ({"kiln": "large"}, {"name": "ash", "price": 9}, {}):
        assert repr(dataclasses.replace(theirs, **changes)) == repr(replace(ours, **changes))
    assert dataclasses.asdict(theirs) == as_dict(ours)
    with pytest.raises(TypeError):
        replace(ours, colour=1)


def test_values_of_one_class_share_nothing_and_each_of_those_without_eq_is_its_own() -> None:
    one, other = OURS.Order("a"), OURS.Order("a")
    one.glazes.append(1)
    assert other.glazes == [] and one != other
    kiln = OURS.Kiln("x")
    assert kiln != OURS.Kiln("x") and len({kiln, kiln, OURS.Kiln("x")}) == 2


def test_what_was_worked_out_is_remembered_where_a_class_has_no_slots() -> None:
    asked = []

    @frozen(slots=False)
    class Remembering:
        name: str

        @cached_property
        def long(self) -> str:
            asked.append(self.name)
            return self.name * 2

    one = Remembering("a")
    assert (one.long, one.long, asked) == ("aa", "aa", ["a"])

    @mutable(slots=False)
    class Counting:
        name: str

        def __post_init__(self) -> None:
            self.letters = len(self.name)

    assert Counting("abc").letters == 3


def test_no_module_makes_classes_by_the_standard_library() -> None:
    users = [
        path.name for path in SOURCE.rglob("*.py") if re.search(r"^\s*(from|import) dataclasses", path.read_text("utf-8"), re.M)
    ]
    assert users == [] and "dataclass" in (values.__doc__ or "")
