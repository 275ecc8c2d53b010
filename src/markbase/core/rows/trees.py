"""Lists, mappings and records that hold arrays among other things: what is in them, and the same with something else in its place."""

from __future__ import annotations

import dataclasses
from collections.abc import Callable, Iterator, Mapping
from functools import cache
from typing import Any, TypeVar

A = TypeVar("A")


def leaves_of(tree: Any, kind: type[A]) -> Iterator[A]:
    """Yield what is of a type among what lists, mappings and records hold."""
    if isinstance(tree, kind):
        yield tree
    elif isinstance(tree, (list, tuple)):
        for value in tree:
            yield from leaves_of(value, kind)
    elif isinstance(tree, Mapping):
        for value in tree.values():
            yield from leaves_of(value, kind)
    else:
        yield from (v for name in _fields_of(tree.__class__) if isinstance(v := getattr(tree, name), kind))


@cache
def _fields_of(kind: type) -> tuple[str, ...]:
    return tuple(f.name for f in dataclasses.fields(kind)) if dataclasses.is_dataclass(kind) else ()


def with_leaves(tree: Any, kind: type[A], function: Callable[[A], Any]) -> Any:
    """Return the same lists, mappings and records with what a function makes of everything of a type in them."""
    if isinstance(tree, kind):
        return function(tree)
    if isinstance(tree, Mapping):
        return {key: with_leaves(value, kind, function) for key, value in tree.items()}
    if isinstance(tree, (list, tuple)):
        return [with_leaves(value, kind, function) for value in tree]
    own = {name: getattr(tree, name) for name in _fields_of(tree.__class__)}
    change = {name: function(v) for name, v in own.items() if isinstance(v, kind)}
    return dataclasses.replace(tree, **change) if change else tree
