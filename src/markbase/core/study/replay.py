"""Carrying out preparing steps that are written down as plain values."""

from __future__ import annotations

import inspect
import math
from collections.abc import Callable, Mapping
from typing import Any, TypeVar

from markbase.core.errors import MarkbaseError, listed, near, quoted
from markbase.core.study.preparing import Preparing

S = TypeVar("S", bound=Preparing)

STEPS: dict[str, Callable[..., Any]] = {
    name: method
    for name, method in inspect.getmembers(Preparing, inspect.isfunction)
    if not name.startswith("_") and "reason" in inspect.signature(method).parameters
}
"""The steps that can be written down, by the name of their method: all that keep a reason. Plans and the command take them from
here, with their settings by signature and annotation."""

_WORDS = {
    "str": "a text",
    "int": "a whole number",
    "float": "a number",
    "bool": "true or false",
    "object": "a value of the column",
    "Sequence[str]": "a list of texts",
    "Sequence[float]": "a list of numbers",
    "Sequence[object]": "a list of values",
    "Sequence[Sequence[float]]": "a list of pairs of numbers",
    "Mapping[object, str]": "a table of texts",
    "Mapping[object, float]": "a table of numbers",
    "Mapping[str, int]": "a table of whole numbers",
    "Mapping[str, Sequence[object]]": "a table of lists of values",
    "Mapping[str, Sequence[str]]": "a table of lists of columns",
    "Mapping[str, str]": "a table of names",
    "Mapping[str, object]": "a table",
}
"""What each annotation of a setting is called in messages."""


_OTHER_WORDS = {
    "bin": ("cut",),
    "compute": ("calculate", "derive"),
    "filter": ("keep",),
    "formula": ("calculate",),
    "merge": ("join", "merge_levels"),
    "recode": ("merge_levels", "classify", "cut"),
    "reshape": ("as_long",),
    "select": ("keep",),
    "standardise": ("derive",),
    "subset": ("keep",),
    "transform": ("derive", "calculate"),
}
"""Steps by what else they are called."""


def _suits(value: Any, kind: str) -> bool:
    """Whether a plain value can be what an annotation says; kinds that are not known are left to the step itself."""
    if kind in ("bool", "str", "None"):
        return value is None if kind == "None" else isinstance(value, bool if kind == "bool" else str)
    if kind in ("int", "float"):
        number = isinstance(value, int if kind == "int" else (int, float)) and not isinstance(value, bool)
        return number and math.isfinite(value)
    within = kind.removesuffix("]").partition("[")[2]
    if kind.startswith("Sequence["):
        if not isinstance(value, (list, tuple)):
            return False
        plain = within != "object" or not any(isinstance(v, (list, tuple, Mapping)) for v in value)
        return plain and all(_suits(v, within) for v in value)
    if kind.startswith("Mapping["):
        held = within.partition(", ")[2]
        return isinstance(value, Mapping) and all(_suits(v, held) for v in value.values())
    return True


def carry_out(study: S, step: Mapping[str, Any], where: str) -> S:
    """Carry out one step: ``do`` (its name) and its arguments; `where` is what to call it in messages."""
    lead = f"{where}: " if where else ""
    if not isinstance(step, Mapping) or not isinstance(step.get("do"), str):
        raise MarkbaseError(
            f'{lead}a step is a table that says what to do, for instance {{do = "mark", column = "voice", base = "alto"}}.'
        )
    action = str(step["do"])
    if action not in STEPS:
        called = _OTHER_WORDS.get(action.casefold())
        told = f" Here it is {listed(quoted(called), 'or')}." if called else near(action, sorted(STEPS))
        raise MarkbaseError(f"{lead}there is no step `{action}`.{told}")
    arguments = {k: v for k, v in step.items() if k not in ("do", "part")}
    signature = inspect.signature(STEPS[action])
    known = [p for p in list(signature.parameters)[1:] if p != "how"]  # the first is the study
    if action != "derive":
        for key in arguments:
            if action == "join" and key in ("file", "codebook", "prepare"):
                raise MarkbaseError(
                    f"{lead}`join` takes the table itself here: open the file, and give the study as `other`."
                )
            if key not in known:
                raise MarkbaseError(f"{lead}`{action}` has no setting `{key}`.{near(key, known)}")
    for key, value in arguments.items():
        if key in known:
            told = signature.parameters[key].annotation
            wanted = (told if isinstance(told, str) else inspect.formatannotation(told)).split(" | ")
            if not any(_suits(value, kind) for kind in wanted):
                words = listed([_WORDS[kind] for kind in wanted if kind in _WORDS], "or")
                raise MarkbaseError(f"{lead}`{key}` of `{action}` is {words}, not {value!r}.")
    try:
        signature.bind(study, **arguments)
    except TypeError as problem:
        raise MarkbaseError(f"{lead}`{action}`: {problem}.") from None
    try:
        result = STEPS[action](study, **arguments)
    except MarkbaseError as problem:
        raise type(problem)(f"{lead}{problem}") from None
    if action == "hold_out":
        part = step.get("part", "kept")
        if part not in ("kept", "held_out"):
            raise MarkbaseError(f"{lead}the part after `hold_out` is `kept` or `held_out`, not {part!r}.")
        result = result[0 if part == "kept" else 1]
    done: S = result
    return done
