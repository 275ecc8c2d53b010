"""Carrying out preparing steps that are written down as plain values."""

from __future__ import annotations

import inspect
from collections.abc import Callable, Mapping
from typing import Any, TypeVar

from markbase.core.errors import MarkbaseError, near
from markbase.core.study.preparing import Preparing

S = TypeVar("S", bound=Preparing)

STEPS: dict[str, Callable[..., Any]] = {
    "against_rest": Preparing.against_rest,
    "as_numeric": Preparing.as_numeric,
    "as_categorical": Preparing.as_categorical,
    "as_ordinal": Preparing.as_ordinal,
    "as_role": Preparing.as_role,
    "blank": Preparing.blank,
    "code_as": Preparing.code_as,
    "cut": Preparing.cut,
    "derive": Preparing.derive,
    "event": Preparing.event,
    "hold_out": Preparing.hold_out,
    "keep": Preparing.keep,
    "lag": Preparing.lag,
    "mark": Preparing.mark,
    "merge_levels": Preparing.merge_levels,
    "split_at": Preparing.split_at,
}
"""The steps that can be written down, by the name of their method."""


def carry_out(study: S, step: Mapping[str, Any], where: str) -> S:
    """Carry out one step.

    Parameters
    ----------
    study : Study
        The study.
    step : mapping
        ``do`` (the name of the step) and its arguments.
    where : str
        What to call the step in messages.

    Returns
    -------
    Study
        The study after the step.

    Raises
    ------
    MarkbaseError
        If there is no such step, an argument is unknown or missing, or the step itself refuses.
    """
    lead = f"{where}: " if where else ""
    if not isinstance(step, Mapping) or not isinstance(step.get("do"), str):
        raise MarkbaseError(
            f'{lead}a step is a table that says what to do, for instance {{do = "mark", column = "voice", base = "alto"}}.'
        )
    action = str(step["do"])
    if action not in STEPS:
        raise MarkbaseError(f"{lead}there is no step `{action}`.{near(action, sorted(STEPS))}")
    arguments = {k: v for k, v in step.items() if k not in ("do", "part")}
    signature = inspect.signature(STEPS[action])
    known = [p for p in signature.parameters if p not in ("self", "how")]
    if action != "derive":
        for key in arguments:
            if key not in known:
                raise MarkbaseError(f"{lead}`{action}` has no setting `{key}`.{near(key, known)}")
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
