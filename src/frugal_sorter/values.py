"""Classes that only hold values: what `dataclasses` makes, in a fifth of the time.

Each command makes some fifty such classes before it does anything. The standard library compiles up to nine functions for each
of them and loads `inspect` with its imports; here one function is compiled, and all classes compare and show alike.
That a `frozen` one is not changed is checked by the type checker, not while the program runs.
"""

from __future__ import annotations

from collections.abc import Callable
from operator import attrgetter
from typing import Any, TypeVar, cast, dataclass_transform, overload

_V = TypeVar("_V")


class _Field:
    """How a field begins where nothing is given for it."""

    __slots__ = ("compare", "default", "default_factory")

    def __init__(self, default: object, default_factory: Callable[[], object] | None, compare: bool) -> None:
        self.default = default
        self.default_factory = default_factory
        self.compare = compare


_NOT_GIVEN = object()


@overload
def field(*, default: _V, compare: bool = True) -> _V: ...
@overload
def field(*, default_factory: Callable[[], _V]) -> _V: ...
def field(*, default: object = _NOT_GIVEN, default_factory: Callable[[], object] | None = None, compare: bool = True) -> object:
    """Describe a field: its default from a function, or that it is left out of comparisons."""
    return _Field(default, default_factory, compare)


@overload
def frozen(cls: type[_V], /) -> type[_V]: ...
@overload
def frozen(*, slots: bool = True, eq: bool = True, order: bool = False) -> Callable[[type[_V]], type[_V]]: ...
@dataclass_transform(frozen_default=True, field_specifiers=(field,))
def frozen(cls: type | None = None, /, *, slots: bool = True, eq: bool = True, order: bool = False) -> Any:
    """Make a class of values that do not change: equal where all fields are, and fit for sets and keys.

    `slots` is false for classes that remember what they worked out (`cached_property`), `eq` for those whose
    instances are equal to themselves alone; with `order` values are sorted by their fields.
    """
    return _made(cls, _HASHED if eq else {}, slots, order)


@overload
def mutable(cls: type[_V], /) -> type[_V]: ...
@overload
def mutable(*, slots: bool = True, eq: bool = True) -> Callable[[type[_V]], type[_V]]: ...
@dataclass_transform(field_specifiers=(field,))
def mutable(cls: type | None = None, /, *, slots: bool = True, eq: bool = True) -> Any:
    """Make a class of values that are filled as work goes on: as `frozen`, but neither in sets nor keys."""
    return _made(cls, _EQUAL if eq else {}, slots, False)


def replace(old: _V, **changes: Any) -> _V:
    """Return a copy of a value in which some fields are others."""
    names = cast(Any, old).__match_args__
    return type(old)(**{**{name: getattr(old, name) for name in names}, **changes})


def as_dict(one: object) -> dict[str, Any]:
    """Return the fields of a value by their names, those of values in it likewise."""
    return {name: _plain(getattr(one, name)) for name in cast(Any, one).__match_args__}


def _plain(thing: Any) -> Any:
    if isinstance(thing, dict):
        return {key: _plain(inner) for key, inner in thing.items()}
    if hasattr(thing, "__match_args__") and not isinstance(thing, tuple):
        return as_dict(thing)
    if type(thing) in (list, tuple):
        return type(thing)(map(_plain, thing))
    return thing


def _equal(one: Any, other: Any) -> Any:
    return one._compared(one) == one._compared(other) if type(other) is type(one) else NotImplemented


def _less(one: Any, other: Any) -> Any:
    return one._compared(one) < one._compared(other) if type(other) is type(one) else NotImplemented


def _hash(one: Any) -> int:
    return hash(one._compared(one))


def _shown(one: Any) -> str:
    return f"{type(one).__qualname__}({', '.join(f'{name}={getattr(one, name)!r}' for name in one.__match_args__)})"


_HASHED: dict[str, object] = {"__eq__": _equal, "__hash__": _hash}
_EQUAL: dict[str, object] = {"__eq__": _equal, "__hash__": None}


def _made(cls: type | None, compared: dict[str, object], slots: bool, order: bool) -> Any:
    if cls is None:
        return lambda cls: _made(cls, compared, slots, order)
    inherited: dict[str, _Field | None] = {}
    for base in reversed(cls.__mro__[1:]):
        inherited |= base.__dict__.get("__fields__", {})
    own = cls.__annotations__
    fields = {**inherited, **{name: _field_of(cls, name) for name in own}}
    names = tuple(fields)
    body: dict[str, Any] = {name: what for name, what in cls.__dict__.items() if name not in ("__dict__", "__weakref__")}
    for name in own:
        body.pop(name, None)  # a default: it would be in the way of the slot
    if slots:
        body["__slots__"] = tuple(name for name in own if name not in inherited)
    for name, what in {"__repr__": _shown, **compared}.items():
        body.setdefault(name, what)
    if order:
        body["__lt__"] = _less
    body["__fields__"] = fields
    body["__match_args__"] = names
    body["_compared"] = _getter([name for name in names if (one := fields[name]) is None or one.compare])
    body["__init__"] = _init_of(cls, fields)
    return type(cls)(cls.__name__, cls.__bases__, body)


def _getter(names: list[str]) -> Any:
    return attrgetter(*names) if names else type


def _field_of(cls: type, name: str) -> _Field | None:
    default = cls.__dict__.get(name, _NOT_GIVEN)
    if default is _NOT_GIVEN:
        return None
    return default if isinstance(default, _Field) else _Field(default, None, True)


def _init_of(cls: type, fields: dict[str, _Field | None]) -> Callable[..., None]:
    """Return the function that fills a new value, with the same parameters as the class has fields."""
    known: dict[str, Any] = {"_not_given": _NOT_GIVEN}
    parameters, lines = ["self"], []
    for name, one in fields.items():
        if one is None:
            parameters.append(name)
            lines.append(f"self.{name} = {name}")
        elif one.default_factory is None:
            known[f"_{name}"] = one.default
            parameters.append(f"{name}=_{name}")
            lines.append(f"self.{name} = {name}")
        else:
            known[f"_{name}"] = one.default_factory
            parameters.append(f"{name}=_not_given")
            lines.append(f"self.{name} = _{name}() if {name} is _not_given else {name}")
    if hasattr(cls, "__post_init__"):
        lines.append("self.__post_init__()")
    body = "\n    ".join(lines or ["pass"])
    exec(f"def __init__({', '.join(parameters)}):\n    {body}", known)  # noqa: S102 - names of fields, nothing of a user
    made: Callable[..., None] = known["__init__"]
    made.__qualname__ = f"{cls.__qualname__}.__init__"
    return made
