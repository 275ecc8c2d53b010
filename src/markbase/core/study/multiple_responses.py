"""Multiple responses: cells that hold several answers, and a yes/no column for each of these."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence

import numpy as np

from markbase.core.errors import ColumnError, LevelError, MarkbaseError, count_noun, near, quoted
from markbase.core.study.column import Base, Column, Level, Made
from markbase.core.study.verification import Recode, old_by_new, with_missing
from markbase.core.study.written_numbers import numbers_as_written

SEPARATORS = (";", "|", "\n", ",")
"""What is looked for between answers."""
_LONGEST = 80
"""An answer with more letters is a text of its own."""


def answers_in(labels: Sequence[str], separator: str) -> dict[str, list[str]]:
    """Return the answers that cells hold, in the order in which they come, each with the cells that hold it."""
    found: dict[str, list[str]] = {}
    for label in labels:
        for answer in dict.fromkeys(part.strip() for part in label.split(separator)):
            if answer:
                found.setdefault(answer, []).append(label)
    return found


def parts_some(labels: Sequence[str]) -> bool:
    """Return whether something that may part answers stands within one of some cells."""
    return any(separator in label.strip(f"{separator} ") for label in labels for separator in SEPARATORS)


def separator_in(labels: Sequence[str]) -> str | None:
    """Return what parts the answers of cells, if these look like several of a few: fewer answers than cells, most of them in more than one."""
    for separator in SEPARATORS:
        several = sum(separator in label.strip(f"{separator} ") for label in labels)
        if several < 2 or not np.isnan(numbers_as_written(labels)).any():
            continue
        answers = answers_in(labels, separator)
        again = sum(len(cells) > 1 for cells in answers.values())
        if len(answers) < len(labels) and 2 * again > len(answers) and max(map(len, answers)) <= _LONGEST:
            return separator
    return None


def one_answer(column: Column, answer: str, separator: str, name: str) -> Recode:
    """Make a yes/no column of whether cells hold an answer, verified.

    The levels are ``no``, the base, and ``yes``, the event; missing where the cell is. Raises a `LevelError` if no cell
    holds that answer, or every one does.
    """
    if not isinstance(separator, str) or not separator:
        raise MarkbaseError(f"`separator` is the text between answers, for instance ';', not {separator!r}.")
    if not column.is_categorical:
        raise ColumnError(f"`{column.name}` is numeric: each of its cells holds one number, and no list of answers.")
    here = [level.label for level, n in zip(column.levels, column.counts, strict=True) if n]
    answers = answers_in(here, separator)
    if not isinstance(answer, str) or answer.strip() not in answers:
        what = f"No cell of `{column.name}` holds the answer `{answer}` between {quoted([separator])[0]}."
        raise LevelError(f"{what}{near(str(answer), list(answers))}")
    cells = answers[answer.strip()]
    if len(cells) == len(here):
        raise LevelError(f"Every cell of `{column.name}` holds `{answer}`, so there is nothing to compare.")
    places = [k for k, level in enumerate(column.levels) if level.label in cells]
    told = np.isin(column.values, places)
    new = Column(
        name=name,
        kind="categorical",
        values=np.where(column.present, told.astype(np.int32), np.int32(-1)),
        levels=(Level("no", "no", True), Level("yes", "yes", True)),
        base=Base(0, f"who does not answer `{answer.strip()}`", chosen=True),
        event=1,
        label=f"{column.label or column.name}: {answer.strip()}",
        made=Made("multiple response", (column.name,)),
    )
    gone = len(column.values) - column.valid
    notes: tuple[str, ...] = ()
    if gone:
        notes = (
            f"{count_noun(gone, 'row')} without any answer stay missing: nobody knows whether none was meant, or it was not asked",
        )
    text = f"`{name}` is `yes` where `{column.name}` holds `{answer.strip()}` among its answers: {int(column.counts[places].sum()):,} of {column.valid:,} rows."
    new = with_missing(new, column)
    return Recode(new, old_by_new(column, new, notes), text)


def steps_for(column: Column, labels: Sequence[str], separator: str) -> list[Mapping[str, str]]:
    """Return the steps that make a column of each answer, as `Study.prepare` takes them."""
    own = {} if separator == ";" else {"separator": separator}
    found: list[Mapping[str, str]] = []
    for answer in answers_in(labels, separator):
        name = f"{column.name}_{re.sub(r'[^0-9A-Za-z]+', '_', answer).strip('_') or len(found) + 1}"
        found.append({"do": "multiple_response", "column": column.name, "answer": answer, **own, "name": name})
    return found
