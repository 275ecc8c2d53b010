"""What deserves a second look in a group: thin and misspelt levels, dates, times, lists of answers, scales of words."""

from __future__ import annotations

import difflib
import re
import unicodedata
from collections.abc import Mapping, Sequence
from typing import Any

import numpy as np

from markbase.core.errors import count_noun, listed, quoted
from markbase.core.study.clock_times import read_as_clock
from markbase.core.study.column import Column
from markbase.core.study.dates import (
    day_stands_first,
    first_and_last,
    first_of_months,
    first_of_one_year,
    has_short_years,
    read_as_dates,
)
from markbase.core.study.level_order import numbers_within, ordered, read_as_totals, reads_as_no_answer
from markbase.core.study.multiple_responses import answers_in, parts_some, separator_in, steps_for
from markbase.core.study.remark import FEW_VALUES, THIN_ROWS, Remark, about_one, about_rows_of_one

_NOT_DIGITS, _WITHOUT_DIGIT = re.compile(r"\D+"), re.compile(r"(?<=\0)[^\0\d]*(?![^\0])")
_BLANKS, _BLANKS_IN_NUMBERS = re.compile(r"\s+"), re.compile(r"(?<=\d)\s+(?=\d)")
_MARKS = re.compile(r"[-_.](?!\d)|(?<=[^\W\d_])[-_.]")
"""Marks between words; before a digit that no letter stands before they are part of a number, as in 1.5, 1-2 or -1."""
_MANY_OF_ROWS, _NEARLY_ALL = 20, 0.9
"""So many levels, such a share of them thin, are no groups to compare."""
_GLANCE, _MANY_LEVELS = 20, 10_000
"""Levels that are looked at before all are; of more than the latter what stands in single rows is not looked for."""
_MOST_COMPARED = 500
"""Of more levels the rare ones are not held against each of the others: that takes the square of their number."""
_LOOK_ALIKE = str.maketrans(
    "авекмнорстухіјѕαβεζηικμνορτυχ’‘ʼ´`“”„‐‑‒–—−", "abekmhopctyxijsabezhikmnoptyx'''''\"\"\"------"
)
"""Small letters that look, they or their capitals, like Latin ones: Cyrillic, then Greek; and quotes and dashes that are typed for one another."""


def group_remarks(column: Column) -> list[Remark]:
    """Say what deserves a second look in a group with rows, in the order of its weight."""
    counts = column.counts
    here = np.flatnonzero(counts).tolist()
    dated = bool(column.guess) and holds_dates(column)
    if not dated and (several := _about_answers(column, here)) is not None:
        return [several]
    if holds_times(column):
        return [
            Remark(
                f"times of a clock, {len(here)} of them: a model takes a number made of them", (_from_clock(column),)
            )
        ]
    no_answer = levels_of_no_answer(column)
    if dated:
        return [*_about_no_answer(column, no_answer), _about_dates(column)]
    if column.guess and len(here) > max(FEW_VALUES, 0.9 * column.valid):
        mend = ({"do": "as_role", "column": column.name, "role": "identifier"},)
        return [Remark("looks like an identifier: hardly a value occurs twice", mend)]
    few_times = column.guess and read_as_clock([column.levels[k].code for k in here])
    totals = levels_of_totals(column)
    remarks, slips = _misspelt(column, [k for k in here if k not in (*no_answer, *totals)])
    remarks += _about_totals(column, totals)
    remarks += _about_words(column, here, no_answer, bool(slips)) if column.guess else []
    if few_times:
        remarks.append(Remark("times of a clock: if they measure, make a number of them", (_from_clock(column),)))
    if len(here) == 1:
        label = column.levels[here[0]].label
        no = None if label.casefold() in ("no", "false") else "false" if label.casefold() == "true" else "no"
        if no and label.casefold() in ("yes", "true"):
            no = no.upper() if label.isupper() else no.capitalize() if label.istitle() else no
        remarks.append(about_one(column, no, f"constant: every row is `{label}`"))
    known = {*no_answer, *totals, *slips}
    thin = [k for k in here if counts[k] < THIN_ROWS and column.levels[k].declared and k not in known]
    if (
        column.role is None
        and len(here) >= _MANY_OF_ROWS
        and len(thin) >= _NEARLY_ALL * len(here)
        and counts[here].sum() >= 2 * len(here)
    ):
        remarks.append(about_rows_of_one(column, f"{len(here)} levels", counts[here].sum() / len(here)))
    elif thin and column.role not in ("cluster", "identifier"):  # whose levels no term compares
        answers = [column.levels[k].label for k in here if k not in known]
        in_order = column.kind == "ordinal" or numbers_within(answers) is not None or ordered(answers)[1]
        shown = [f"`{column.levels[k].label}` ({counts[k]})" for k in thin[:4]]
        more = f" and {len(thin) - 4} more" if len(thin) > 4 else ""
        targets = {"other": [column.levels[k].label for k in thin]}
        merge = ({"do": "merge_levels", "column": column.name, "targets": targets},)
        text = f"thin level{'s' if len(thin) > 1 else ''}: {', '.join(shown)}{more}"
        text += "; where levels stand in an order, one goes together with its neighbour" if in_order else ""
        remarks.append(Remark(text, merge if 1 < len(thin) <= 6 and len(thin) < len(answers) and not in_order else ()))
    if (
        column.role is None
        and len(here) > 1
        and all(  # of clusters and strata no level is told
            v.label == v.code and v.label.strip("-").isdigit() for v in (column.levels[k] for k in here)
        )
    ):
        labels = {column.levels[k].code: f"what {column.levels[k].code} stands for" for k in here[:2]}
        declare = {"do": "as_categorical", "column": column.name, "labels": labels}
        text = "levels are told by their codes alone: give them labels, or nobody can read the results"
        remarks.append(Remark(text, (declare,) if len(here) <= FEW_VALUES else ()))
    unused = [level.label for level, n in zip(column.levels, counts, strict=True) if n == 0]
    if unused:
        remarks.append(Remark(f"no row is {listed(quoted(unused[:4]), 'or')}"))
    return remarks


def holds_times(column: Column) -> bool:
    """Return whether the levels of a guessed group that occur are times of a clock, and more than a few."""
    if not column.is_categorical or not column.guess or np.count_nonzero(column.counts) <= FEW_VALUES:
        return False
    here = np.flatnonzero(column.counts).tolist()
    return all(read_as_clock([column.levels[k].code for k in some]) for some in (here[:_GLANCE], here))


def _from_clock(column: Column) -> Mapping[str, Any]:
    return {"do": "from_clock", "column": column.name, "take": "hours", "name": f"{column.name}_hours"}


def holds_dates(column: Column) -> bool:
    """Return whether the levels of a group that occur are dates, and more than a few; some may read like missing answers."""
    if not column.is_categorical or np.count_nonzero(column.counts) <= FEW_VALUES:
        return False
    left, here = set(levels_of_no_answer(column)), np.flatnonzero(column.counts)
    some = [column.levels[k].code for k in here[: _GLANCE + len(left)].tolist() if k not in left]
    return read_as_dates(some) and read_as_dates(answers_of(column))


def answers_of(column: Column) -> list[str]:
    """Return the codes of the levels that occur and read like answers."""
    left = set(levels_of_no_answer(column))
    return [column.levels[k].code for k in np.flatnonzero(column.counts).tolist() if k not in left]


def span_of_dates(column: Column) -> tuple[str, str] | None:
    """Return the earliest and the latest date of a group of them; None if it is none, or its order is not known."""
    return first_and_last(answers_of(column)) if holds_dates(column) else None


def _about_dates(column: Column) -> Remark:
    """Say that a group holds dates, and what makes a number of them."""
    codes = answers_of(column)
    step = {"do": "from_date", "column": column.name, "take": "year", "name": f"{column.name}_year"}
    if first := first_of_months(codes):
        step |= {"take": "months", "since": first, "name": f"{column.name}_months"}
    elif first := first_of_one_year(codes):  # of which the year would be the same in every row
        step |= {"take": "days", "since": first, "name": f"{column.name}_days"}
    which = "of which none or few occur twice" if len(codes) > 0.9 * column.valid else f"{len(codes)} of them"
    text = f"dates, {which}: a model takes a number made of them (a year, months or days since a day)"
    if has_short_years(codes):
        return Remark(f"{text}; years of two digits do not say their century, so write them with four")
    if day_stands_first(codes) is not None:
        return Remark(text, (step,))
    return Remark(f"{text}; nothing says whether the day or the month stands first", ({**step, "day_first": True},))


def separator_of_answers(column: Column) -> str | None:
    """Return what stands between the answers of a guessed group whose cells hold several; None if they do not."""
    if not column.is_categorical or not column.guess or column.doubt:
        return None
    here = np.flatnonzero(column.counts)
    some = here[:: max(1, len(here) // _MANY_LEVELS)].tolist()
    likely = len(some) == len(here) or parts_some([column.levels[k].label for k in some])
    return separator_in([column.levels[k].label for k in here.tolist()]) if likely else None


def _about_answers(column: Column, here: Sequence[int]) -> Remark | None:
    """Say that cells hold several answers, with the steps that make a column of each; None if they do not."""
    separator = separator_of_answers(column)
    if separator is None:
        return None
    labels = [column.labels[k] for k in here]
    answers = list(answers_in(labels, separator))
    some = (
        listed(quoted(answers[:6]))
        if len(answers) <= 6
        else f"{listed(quoted(answers[:5]))} and {len(answers) - 5} more"
    )
    mark = "line ends" if separator == "\n" else f"`{separator}`"
    text = f"cells hold several answers with {mark} between them: {some}; a model takes a yes/no column of each"
    return Remark(text, tuple(steps_for(column, labels, separator)))


def levels_of_no_answer(column: Column) -> list[int]:
    """Return the levels with rows of a guessed group that read like missing answers, where it has others."""
    if not column.is_categorical or not column.guess or column.doubt:  # what is in doubt is told as that
        return []
    known: list[int] | None = column.__dict__.get("no_answer")
    if known is None:
        known = column.__dict__["no_answer"] = _no_answer_among(column)
    return known


def _no_answer_among(column: Column) -> list[int]:
    """Look for the same: among very many levels, at those of most rows, and of dates or numbers at those without a digit."""
    here = np.flatnonzero(column.counts)
    if len(here) > _MANY_LEVELS:
        often = here[np.argsort(-column.counts[here], kind="stable")[:_MANY_LEVELS]]
        words = set(_WITHOUT_DIGIT.findall("\0" + "\0".join(column.labels)))
        wordy = [k for k in here.tolist() if column.labels[k] in words] if words else []
        here = np.union1d(often, wordy[:_MANY_LEVELS]).astype(np.intp)
    labels = {k: column.labels[k] for k in here.tolist()}
    found = [k for k, label in labels.items() if reads_as_no_answer(label)]
    if all(len(label) == 2 and label.isupper() for label in labels.values()):  # `NA` among codes of countries is one
        return []
    return found if len(found) < len(labels) else []


def levels_of_totals(column: Column) -> list[int]:
    """Return the levels with rows of a guessed group that read like totals of the others."""
    if not column.is_categorical or not column.guess or column.doubt:
        return []
    here = np.flatnonzero(column.counts).tolist()
    return [here[k] for k in read_as_totals([column.levels[k].label for k in here])]


def _about_totals(column: Column, totals: Sequence[int]) -> list[Remark]:
    if not totals:
        return []
    labels = [column.levels[k].label for k in totals]
    told = listed(
        [f"`{column.levels[k].label}` ({column.counts[k]:,})" for k in totals[:4]]
        + [f"{len(totals) - 4} more"] * (len(totals) > 4)
    )
    what = (
        "reads like the total of other rows, which would count"
        if len(totals) == 1
        else "read like totals of other rows, which would count"
    )
    keep = {"do": "keep", "conditions": {column.name: {"not_among": labels}}}
    return [Remark(f"{told} {what} twice: if so, leave {'it' if len(totals) == 1 else 'them'} out", (keep,))]


def _about_words(column: Column, here: Sequence[int], no_answer: Sequence[int], slips: bool) -> list[Remark]:
    """Say that some levels read like a missing answer, and that the others are a scale of words."""
    remarks, labels = _about_no_answer(column, no_answer), [column.levels[k].label for k in here]
    if not slips and len(here) <= FEW_VALUES and ordered(labels)[1]:
        text = "a scale by its words, which stand from low to high: if it is one, declare it ordinal, or give its levels numbers"
        scale = [column.levels[k].label for k in here if k not in no_answer]
        scores = {label: place for place, label in enumerate(scale, 1)}
        ordinal = {"do": "as_ordinal", "column": column.name, "order": scale}
        remarks.append(Remark(text, (ordinal, {"do": "as_numeric", "column": column.name, "scores": scores})))
    elif not slips and len(here) <= FEW_VALUES:
        remarks += _about_numbers(column, [column.levels[k].label for k in here if k not in no_answer])
    return remarks


def _about_no_answer(column: Column, no_answer: Sequence[int]) -> list[Remark]:
    """Say that some levels read like a missing answer, and what blanks them."""
    if not no_answer:
        return []
    codes = [column.levels[k].label for k in no_answer]
    told = listed([f"`{column.levels[k].label}` ({column.counts[k]:,})" for k in no_answer])
    verbs = "reads like a missing answer and counts as a level"
    verbs = verbs if len(codes) == 1 else "read like missing answers and count as levels"
    return [Remark(f"{told} {verbs}", ({"do": "blank", "column": column.name, "codes": codes},))]


def _about_numbers(column: Column, labels: Sequence[str]) -> list[Remark]:
    """Say that levels carry numbers, which may be those of a scale."""
    numbers = numbers_within(labels)
    if numbers is None:
        return []
    scale = [label for _, label in sorted(zip(numbers, labels, strict=True))]
    text = f"levels that carry numbers ({scale[0]} … {scale[-1]}): if they go from low to high, declare it ordinal, or take the numbers"
    scores = dict(sorted(zip(labels, numbers, strict=True), key=lambda pair: pair[1]))
    ordinal = {"do": "as_ordinal", "column": column.name, "order": scale}
    return [Remark(text, (ordinal, {"do": "as_numeric", "column": column.name, "scores": scores}))]


def _misspelt(column: Column, here: Sequence[int]) -> tuple[list[Remark], set[int]]:
    """Find undeclared levels, and levels that differ only by case, blanks or accents; return those that are slips for others too."""
    remarks: list[Remark] = []
    told: set[int] = set()
    by_form: dict[str, list[int]] = {}
    for k in here:
        by_form.setdefault(plain_form(column.levels[k].label), []).append(k)
    for twins in by_form.values():
        if len(twins) > 1:
            home = max(twins, key=lambda k: (column.levels[k].declared, int(column.counts[k])))
            others = [column.levels[k].label for k in twins if k != home]
            shown = listed([f"`{column.levels[k].label}` ({column.counts[k]})" for k in twins])
            told |= {k for k in twins if k != home}
            labels = "".join(column.levels[k].label for k in twins)
            by = "blanks, accents or signs that are not seen" if any(map(_is_unseen, labels)) else "blanks or accents"
            alike = labels.casefold().translate(_LOOK_ALIKE) != labels.casefold()
            by = "blanks, accents, or letters and quotes of other alphabets that look the same" if alike else by
            remarks.append(Remark(f"levels that differ only by case, {by}: {shown}", _into(column, home, others)))
    declared = {k: column.levels[k].label.casefold() for k in range(len(column.levels)) if column.levels[k].declared}
    undeclared = [k for k in here if not column.levels[k].declared and k not in told]
    for k in undeclared[:4]:
        label = column.levels[k].label
        close = _alike(label, list(declared.values()), 0.7)
        words = f"undeclared level `{label}` in {count_noun(int(column.counts[k]), 'row')}"
        if close:
            home = next(p for p, text in declared.items() if text == close[0])
            text = f"{words}: misspelt for `{column.levels[home].label}`?"
            remarks.append(Remark(text, _into(column, home, [label])))
        else:
            remarks.append(Remark(words))
    if column.guess and len(here) <= _MOST_COMPARED:  # a rare level much like a common one may be a slip
        for k in (k for k in here if column.counts[k] < THIN_ROWS and k not in told):
            common = {
                p: v.label.casefold() for p, v in enumerate(column.levels) if column.counts[p] >= 10 * column.counts[k]
            }
            close = _alike(column.levels[k].label, list(common.values()), 0.85)
            if close:
                home = next(p for p, text in common.items() if text == close[0])
                text = f"rare level `{column.levels[k].label}` ({column.counts[k]}): misspelt for `{column.levels[home].label}`?"
                remarks.append(Remark(text, _into(column, home, [column.levels[k].label])))
    if len(undeclared) > 4:
        remarks.append(Remark(f"{len(undeclared) - 4} more undeclared levels"))
    return remarks, told


def _alike(label: str, others: Sequence[str], least: float) -> list[str]:
    """Return the one of some folded labels that comes closest to a label, none if none is close or has the same digits: `team 12` is not `team 13`."""
    same = [other for other in others if _NOT_DIGITS.sub(" ", other).split() == _NOT_DIGITS.sub(" ", label).split()]
    return difflib.get_close_matches(label.casefold(), same, 1, least)


def _into(column: Column, home: int, others: list[str]) -> tuple[Mapping[str, Any], ...]:
    return ({"do": "merge_levels", "column": column.name, "targets": {column.levels[home].label: others}},)


def plain_form(label: str) -> str:
    """Return a label without case, accents, blanks, marks between words, and signs that are not seen; letters that look like Latin ones as these."""
    plain = unicodedata.normalize("NFKD", label.casefold()).translate(_LOOK_ALIKE)
    plain = "".join(c for c in plain if not (unicodedata.combining(c) or _is_unseen(c)))
    return _MARKS.sub("", _BLANKS.sub("", _BLANKS_IN_NUMBERS.sub("_", plain.strip())))


def _is_unseen(sign: str) -> bool:
    """Return whether a sign leaves no mark, as a joiner or a soft hyphen."""
    return unicodedata.category(sign) == "Cf"
