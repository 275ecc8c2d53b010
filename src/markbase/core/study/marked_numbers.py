"""Numbers with marks beside them that are no part of them: the flags of a statistical office, stars, signs of about."""

from __future__ import annotations

import re
from collections.abc import Sequence

import numpy as np

from markbase.core.study.column import Column
from markbase.core.study.remark import FEW_VALUES
from markbase.core.study.written_numbers import numbers_as_written

_SIGNS = "*†‡^~≈"
_MARKED = re.compile(
    rf"([{_SIGNS}]{{0,3}})\s*([^{_SIGNS}a-z]*\d[^{_SIGNS}a-z]*?)(\s*)([{_SIGNS}]{{1,3}}|[a-z]{{1,2}})?"
)
_LEAST_BARE = 0.2
"""Letters behind numbers are flags if so many of them have none: `7a` and `7b` are names."""
_MOST_BARE = 6
"""So many levels without a number may stand for missing ones."""
_MANY_LEVELS, _GLANCE = 10_000, 60
"""Of more levels so many are looked at first."""


def without_marks(text: str, marks: Sequence[str]) -> str:
    """Take marks off the ends of a text, at most one off each."""
    text = text.strip()
    before = next((mark for mark in sorted(marks, key=len, reverse=True) if text.startswith(mark)), "")
    text = text.removeprefix(before).strip()
    after = next((mark for mark in sorted(marks, key=len, reverse=True) if text.endswith(mark)), "")
    return text.removesuffix(after).strip()


def marks_beside(texts: Sequence[str]) -> list[str]:
    """Return the marks beside numbers in order, none if a text is no number beside its marks, or they may be part of a name."""
    parts = _beside_marks(texts)
    marks = sorted({mark for before, _, _, after in parts for mark in (before, after) if mark})
    if not marks or not _are_numbers(parts):
        return []
    flagged = [(gap, number) for _, number, gap, after in parts if after.isalpha()]
    apart = all(gap or "." in number or "," in number for gap, number in flagged)
    return marks if not flagged or (apart and len(flagged) <= (1 - _LEAST_BARE) * len(texts)) else []


def _beside_marks(texts: Sequence[str]) -> list[tuple[str, ...]]:
    """Return the mark before, the number, the gap and the mark behind it of each of some texts; nothing if one is not of that form."""
    parts = []
    for text in texts:
        match = _MARKED.fullmatch(text.strip())
        if match is None:
            return []
        parts.append(match.groups(default=""))
    return parts


def _are_numbers(parts: Sequence[tuple[str, ...]]) -> bool:
    return not np.isnan(numbers_as_written([number for _, number, _, _ in parts])).any()


def _have_marks(texts: Sequence[str]) -> bool:
    """Return whether some texts begin with a sign, or end with one or a small letter, as marked numbers do."""
    firsts, lasts = {text[:1] for text in texts}, {text[-1:] for text in texts}
    return any(end in _SIGNS for end in firsts if end) or any(
        end in _SIGNS or "a" <= end <= "z" for end in lasts if end
    )


def marks_on(column: Column) -> tuple[list[str], list[str]]:
    """Return the marks beside the numbers that the levels of a guessed group are, and the few levels without one; no marks for none.

    The numbers are more than a few.
    """
    if not column.is_categorical or not column.guess or np.count_nonzero(column.counts) <= FEW_VALUES:
        return [], []
    here = np.flatnonzero(column.counts).tolist()
    if len(here) > _MANY_LEVELS:
        some = [text for text in map(column.codes.__getitem__, here[:_GLANCE]) if any(map(str.isdigit, text))]
        if len(some) < _GLANCE - _MOST_BARE or not (parts := _beside_marks(some)) or not _are_numbers(parts):
            return [], []
    texts = [column.codes[k] for k in here]
    if not _have_marks(texts):
        return [], []
    bare = [text for text in texts if not any(map(str.isdigit, text))]
    if len(bare) > _MOST_BARE:
        return [], []
    marked = [text for text in texts if text not in bare]
    marks = marks_beside(marked)
    if not marks or len({without_marks(text, marks) for text in marked}) <= FEW_VALUES:
        return [], []
    return marks, bare
