"""Tables that a plan, or the command, joins: opened from their files, and written down."""

from __future__ import annotations

import warnings
from collections.abc import Callable, Mapping, Sequence
from contextvars import ContextVar
from pathlib import Path
from typing import Any

from markbase.core.errors import MarkbaseError, MarkbaseWarning, remark
from markbase.core.study.steps.joining import refuse_without_file
from markbase.core.study.study import Study
from markbase.files.data import only_in_parts, open_study
from markbase.files.text_files import seen_from

Step = Mapping[str, Any]
TOLD_OF_FILES = ("file", "codebook", "prepare")
"""What a step that joins a table says of where it comes from."""
_FILES = TOLD_OF_FILES[:2]
_opening: ContextVar[tuple[Path, ...]] = ContextVar("_opening", default=())
"""The plans that are being opened, each joined to the one before."""


def is_join(step: object) -> bool:
    """Return whether a step joins a table that is told by its file."""
    return isinstance(step, Mapping) and step.get("do") == "join" and not isinstance(step.get("other"), Study)


def with_table(step: Step, open_plan: Callable[[Path], Study]) -> Step:
    """Return a step with the table that it joins, opened, if it joins one.

    Raises
    ------
    MarkbaseError
        If it names no file, the file is refused, or plans join one another in a circle.
    """
    if not is_join(step):
        return step
    if "other" in step:
        raise MarkbaseError("`join` has no setting `other` here; `file` names the table that is joined.")
    told = {key: step.get(key) for key in _FILES}
    if not isinstance(told["file"], str) or not isinstance(told["codebook"], (str, type(None))):
        raise MarkbaseError(
            '`join` names the file of the table that is joined, and if need be its codebook: {do = "join", file = "choir_homes.csv", by = "choir"}.'
        )
    steps = step.get("prepare", [])
    if not isinstance(steps, list):
        raise MarkbaseError("`prepare` of `join` is a list of steps that prepare the table before it is joined.")
    with warnings.catch_warnings(record=True) as caught:
        warnings.simplefilter("always", MarkbaseWarning)
        other = _opened(Path(told["file"]), told["codebook"], open_plan)
        for own in steps:
            other = other.prepare([with_table(own, open_plan)], source="")
    for text in dict.fromkeys(str(w.message) for w in caught if issubclass(w.category, MarkbaseWarning)):
        remark(f"{other.name}, before it is joined: {text}")
    rest = {key: value for key, value in step.items() if key not in TOLD_OF_FILES}
    return {**rest, "other": other}


def _opened(file: Path, codebook: str | None, open_plan: Callable[[Path], Study]) -> Study:
    if only_in_parts(file):
        raise MarkbaseError(
            f"`{file}` is packed, or one of Arrow's own, and read in parts alone, and a table that is joined is held in memory: unpack it, or save it as CSV or Parquet."
        )
    if file.suffix.lower() != ".toml":
        return open_study(file, codebook)
    if codebook is not None:
        raise MarkbaseError(f"`{file}` is a plan, which names its own codebook; leave the one of `join` out.")
    within = _opening.get()
    if file.resolve() in within:
        raise MarkbaseError(f"`{file}` joins itself, by way of the plans it joins; name the data file of one of them.")
    token = _opening.set((*within, file.resolve()))
    try:
        return open_plan(file)
    finally:
        _opening.reset(token)


def placed(step: Step, folder: Path) -> Step:
    """Return a step of a plan whose files are taken from its folder."""
    return _with_files(step, lambda file: str(folder / file))


def seen_steps(steps: Sequence[Step], folder: Path) -> list[Step]:
    """Return steps as a plan in a folder holds them, their files named as seen from there.

    Raises
    ------
    MarkbaseError
        If a table that was joined came from no file.
    """
    for step in steps:
        refuse_without_file(step)
    return [_with_files(step, lambda file: seen_from(Path(file), folder)) for step in steps]


def _with_files(step: Step, seen: Any) -> Step:
    if not is_join(step):
        return step
    found = {key: seen(value) if key in _FILES and isinstance(value, str) else value for key, value in step.items()}
    if isinstance(step.get("prepare"), list):
        found["prepare"] = [_with_files(own, seen) for own in step["prepare"]]
    return found
