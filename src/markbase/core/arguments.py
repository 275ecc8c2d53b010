"""Checking the arguments of public functions: one place, from their annotations, with one sentence for what does not fit."""

from __future__ import annotations

import functools
import inspect
import numbers
import os
import re
from collections.abc import Callable, Container, Mapping, Sequence
from typing import Any, TypeVar

import numpy as np
import pandas as pd

from markbase.core.errors import MarkbaseError, listed

F = TypeVar("F", bound=Callable[..., Any])
C = TypeVar("C", bound=type)
_SHOWN = 60
_ARRAYS = (pd.Index, pd.Series, np.ndarray)
"""What is taken where a list is asked for, and made one: nothing further on need know that an array is neither true nor false."""


def _is_number(value: object) -> bool:
    return isinstance(value, numbers.Real) and not isinstance(value, (bool, np.bool_))


def _is_whole(value: object) -> bool:
    return _is_number(value) and isinstance(value, numbers.Integral)


def _is_plain(value: object) -> bool:
    """Whether a value is one that a cell of a table holds."""
    return value is None or isinstance(value, (str, numbers.Real, np.generic))


def _is_list(value: object) -> bool:
    return isinstance(value, _ARRAYS) or (isinstance(value, Sequence) and not isinstance(value, (str, bytes)))


def _is_table(value: object) -> bool:
    """Whether a value looks like a table, whatever package it is of."""
    names = ("__arrow_c_stream__", "__dataframe__", "to_arrow_table", "fetch_arrow_table")
    return any(hasattr(value, name) for name in names) and not isinstance(value, type)


_KINDS: dict[str, tuple[str, Callable[[Any], bool]]] = {
    "str": ("a text", lambda v: isinstance(v, str)),
    "int": ("a whole number", _is_whole),
    "float": ("a number", _is_number),
    "bool": ("true or false", lambda v: isinstance(v, (bool, np.bool_))),
    "Chosen": ("a list of texts", lambda v: isinstance(v, Container) and not isinstance(v, bytes)),
    "GivenLayout": (
        "a table of the rows that are `header`, `labels`, `data` and `last`",
        lambda v: isinstance(v, Mapping),
    ),
    "Path": ("a path", lambda v: isinstance(v, os.PathLike)),
    "AnyTable": ("a table (pandas, Polars, Arrow)", _is_table),
    "None": ("none", lambda v: v is None),
    "Sequence[str]": ("a list of texts", lambda v: _is_list(v) and all(isinstance(x, str) for x in v)),
    "Sequence[float]": ("a list of numbers", lambda v: _is_list(v) and all(_is_number(x) for x in v)),
    "Sequence[TermRequest]": ("a list of terms", lambda v: _is_list(v) and all(_is_term(x) for x in v)),
    "Mapping[str, float]": (
        "a table of numbers",
        lambda v: isinstance(v, Mapping) and all(isinstance(k, str) and _is_number(x) for k, x in v.items()),
    ),
    "Mapping[object, str]": (
        "a table of texts",
        lambda v: isinstance(v, Mapping) and all(isinstance(x, str) for x in v.values()),
    ),
    "Mapping[object, float]": (
        "a table of numbers",
        lambda v: isinstance(v, Mapping) and all(_is_number(x) for x in v.values()),
    ),
    "Mapping[str, str]": (
        "a table of names",
        lambda v: isinstance(v, Mapping) and all(isinstance(k, str) and isinstance(x, str) for k, x in v.items()),
    ),
    "Mapping[str, int]": (
        "a table of whole numbers",
        lambda v: isinstance(v, Mapping) and all(_is_whole(x) for x in v.values()),
    ),
    "Mapping[str, Sequence[object]]": (
        "a table of lists",
        lambda v: isinstance(v, Mapping) and all(_is_list(x) for x in v.values()),
    ),
    "Mapping[str, Mapping[str, float]]": (
        "a table of tables of numbers",
        lambda v: (
            isinstance(v, Mapping)
            and all(isinstance(x, Mapping) and all(_is_number(w) for w in x.values()) for x in v.values())
        ),
    ),
    "Sequence[object]": ("a list", lambda v: isinstance(v, (list, tuple)) and all(_is_plain(x) for x in v)),
    "Sequence[Sequence[float]]": ("a list of pairs of numbers", lambda v: _is_list(v) and all(_is_list(x) for x in v)),
    "Sequence[Mapping[str, Any]]": (
        "a list of tables",
        lambda v: _is_list(v) and all(isinstance(x, Mapping) for x in v),
    ),
    "object": (
        "a label or a code",
        lambda v: _is_plain(v) or (isinstance(v, (list, tuple)) and all(_is_plain(x) for x in v)),
    ),
    "Callable[[int], None]": ("a function", callable),
    "Role": ("a text", lambda v: isinstance(v, str)),
    "Places": ("a table of numbers, or of lists of them", lambda v: isinstance(v, Mapping)),
}
_CLASSES = {
    "AllBut": "`all_but` of some columns",
    "AnyFit": "a fit",
    "Axes": "axes of a figure",
    "Blocks": "a blockwise entry",
    "Fit": "a fit",
    "Limits": "limits",
    "LinearFit": "a linear fit",
    "LogisticFit": "a logistic fit",
    "Score": "a score",
    "StoredFit": "a saved fit",
    "Screen": "a screening",
    "Self": "a study",
    "Study": "a study",
}


def _is_term(value: object) -> bool:
    return isinstance(value, str) or type(value).__name__ in ("Polynomial", "Interaction")


def _of_class(value: object, name: str) -> bool:
    names = [c.__name__ for c in type(value).__mro__]
    return any(n in names for n in (("LinearFit", "LogisticFit", "StoredFit") if name == "AnyFit" else (name,)))


def _check(function: str, name: str, value: object, annotation: str) -> None:
    """Refuse a value that is nothing of what an annotation says; annotations that are not known say nothing."""
    words = []
    for kind in annotation.split(" | "):
        if kind in _KINDS:
            word, suits = _KINDS[kind]
        elif kind in _CLASSES:
            word, suits = _CLASSES[kind], functools.partial(_of_class, name="Study" if kind == "Self" else kind)
        else:
            return
        if suits(value):
            return
        words.append(word)
    told = [w for w in dict.fromkeys(words) if w != "none"]
    listing = isinstance(value, str) and any(w.startswith("a list") for w in told)
    example = f"; for instance {[part.strip() for part in re.split('[+,;]', str(value))]}" if listing else ""
    if _is_list(value) and "a path" in told:
        example = "; several files are a folder, or a pattern of their names such as 'waves/*.csv'"
    raise MarkbaseError(f"`{name}` of `{function}` is {listed(told, 'or')}, not {told_value(value)}{example}.")


def check_seed(seed: int) -> None:
    """Refuse a seed that is no whole number of 0 or more."""
    if isinstance(seed, bool) or not isinstance(seed, int) or seed < 0:
        raise MarkbaseError(f"The seed is {seed!r}; it must be a whole number of 0 or more.")


def told_value(value: object) -> str:
    """Write a value for a message: short, and by its kind where it would print as a page."""
    if value is None or isinstance(value, (str, bytes, bool, int, float, list, tuple, dict)):
        text = repr(value)
        return text if len(text) <= _SHOWN else f"{text[:_SHOWN]}…"
    name = type(value).__name__
    return f"{'an' if name[0] in 'AEIOaeio' or name == 'ndarray' else 'a'} {name}"


def _plain(value: Any) -> Any:
    """Make lists of arrays and Python's own values of NumPy's, also within lists and tables; what holds neither stays as it is."""
    if isinstance(value, np.generic):
        return value.item()
    if isinstance(value, _ARRAYS):
        return value.tolist()
    if isinstance(value, Mapping):
        table = {_plain(name): _plain(own) for name, own in value.items()}
        return table if any(a is not b for a, b in zip(table.values(), value.values(), strict=False)) else value
    if isinstance(value, (list, tuple)):
        items = [_plain(own) for own in value]
        return items if any(a is not b for a, b in zip(items, value, strict=True)) else value
    return value


def checked(function: F) -> F:
    """Check the arguments of a public function against its annotations before it runs."""
    signature = inspect.signature(function)
    annotations = {
        name: p.annotation if isinstance(p.annotation, str) else inspect.formatannotation(p.annotation)
        for name, p in signature.parameters.items()
        if p.annotation is not p.empty and p.kind not in (p.VAR_POSITIONAL, p.VAR_KEYWORD)
    }

    by_place = [n for n, p in signature.parameters.items() if p.kind in (p.POSITIONAL_ONLY, p.POSITIONAL_OR_KEYWORD)]
    defaults = {name: p.default for name, p in signature.parameters.items()}
    takes_lists = {
        n for n, a in annotations.items() if re.search("Sequence|Mapping", a) and not re.search(r"Any\b|Array", a)
    }

    def plain(name: str, value: Any) -> Any:
        whole = name in takes_lists or name not in signature.parameters
        return _plain(value) if whole or isinstance(value, np.generic) else value

    @functools.wraps(function)
    def wrapped(*args: Any, **kwargs: Any) -> Any:
        args = (*map(plain, by_place, args), *args[len(by_place) :])
        kwargs = {name: plain(name, value) for name, value in kwargs.items()}
        for name, value in (*zip(by_place, args, strict=False), *kwargs.items()):
            if name in annotations and value is not defaults[name]:
                _check(function.__name__, name, value, annotations[name])
        return function(*args, **kwargs)  # too few or unknown arguments are refused in Python's own words

    wrapped.__checked__ = True  # type: ignore[attr-defined]
    return wrapped  # type: ignore[return-value]


def checked_methods(cls: C) -> C:
    """Check the arguments of every public method of a class, those it has from its bases in this package among them."""
    for base in cls.__mro__:
        if not base.__module__.startswith("markbase."):
            continue
        for name, method in list(vars(base).items()):
            if name.startswith("_") or not inspect.isfunction(method) or hasattr(method, "__checked__"):
                continue
            setattr(base, name, checked(method))
    return cls
