"""What deserves a second look in a column, before anything is fitted, and what would mend it."""

from __future__ import annotations

import difflib
import re
import unicodedata
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from markbase.core.errors import count_noun, listed, quoted
from markbase.core.rows.parts import InParts
from markbase.core.study.clock_times import read_as_clock
from markbase.core.study.column import Column
from markbase.core.study.dates import day_stands_first, first_and_last, has_short_years, read_as_dates
from markbase.core.study.level_order import numbers_within, ordered, reads_as_no_answer
from markbase.core.study.multiple_responses import answers_in, separator_in, steps_for
from markbase.core.study.written_numbers import decimals_in_doubt, numbers_as_written

THIN_ROWS = 30
"""A level with fewer rows than this is called thin: its interval will be wide."""
SKEWED = 1.0
"""A numeric column with a skew beyond this, either way, is called strongly skewed."""
FEW_VALUES = 12
"""Whole numbers with at most this many distinct values may be codes."""
_USUAL_CODES = (
    *(
        -float(c)
        for c in (1, 2, 3, 4, 5, 6, 7, 8, 9, 66, 77, 88, 96, 97, 98, 99, 666, 777, 888, 996, 997, 998, 999, 9999)
    ),
    *(float(c) for c in (66, 77, 88, 96, 97, 98, 99, 666, 777, 888, 996, 997, 998, 999, 9996, 9997, 9998, 9999, 99999)),
)
_ALIKE = 0.2
"""Groups whose numbers are taken for such have at least so much of the rows of the middle one, and at most as many times as many."""
_TAIL = 5
"""Of so many values before it, none may occur a third as often as a code at the end."""
_POSTAL = re.compile(
    r"\b(post(al)?[ _-]?(code)?|zip([ _-]?code)?|plz|postcode)\b|postcode|postal|zipcode", re.IGNORECASE
)
_WEIGHT = re.compile(r"(survey|sampling|design|person|case|post)?[ _-]?(weights?|wgts?)", re.IGNORECASE)


@dataclass(frozen=True)
class Remark:
    """One thing that deserves a second look."""

    text: str
    """What was seen."""
    mend: tuple[Mapping[str, Any], ...] = ()
    """The preparing steps that would mend it, as `Study.prepare` takes them; empty if none would."""


def column_remarks(column: Column, total_of: tuple[str, ...] = ()) -> list[Remark]:
    """Say what deserves a second look in a column.

    Parameters
    ----------
    column : Column
        The column.
    total_of : tuple of str
        The parts of which it is the exact total, if it is one.

    Returns
    -------
    list of Remark
        In the order of their weight; empty when there is nothing to say.
    """
    remarks = [Remark(column.fault)] if column.fault else []
    if column.doubt:
        remarks.append(Remark(column.doubt, _out_of_doubt(column)))
        if column.is_categorical and column.valid:
            return [*remarks, *map(Remark, column.notes)]
    if not column.valid:
        return [*remarks, Remark("every row is missing"), *map(Remark, column.notes)]
    if column.role != "identifier":
        remarks += _group_remarks(column) if column.is_categorical else _numeric_remarks(column)
    if total_of:
        words = f"equals {quoted(total_of)[0]}" if len(total_of) == 1 else f"exact total of {listed(quoted(total_of))}"
        remarks.append(Remark(words))
    if column.made is not None and column.made.how in ("difference", "mean", "sum") and not total_of:
        remarks.append(Remark(f"{column.made.words}: not to be entered together with all of them"))
    if column.event is not None:
        remarks.append(Remark(f"the event is `{column.levels[column.event].label}`"))
    return [*remarks, *map(Remark, column.notes)]


def _out_of_doubt(column: Column) -> tuple[Mapping[str, Any], ...]:
    """Return what makes numbers of a group that is in doubt."""
    codes = [level.code for level in column.levels]
    if decimals_in_doubt(codes):
        return ({"do": "as_numeric", "column": column.name, "decimal": "."},)
    texts = [codes[k] for k in np.flatnonzero(np.isnan(numbers_as_written(codes)))]
    return {"do": "blank", "column": column.name, "codes": texts[:6]}, {"do": "as_numeric", "column": column.name}


def _numeric_remarks(column: Column) -> list[Remark]:
    values = _looked_at(column)
    infinite = column.values.facts.infinite if isinstance(column.values, InParts) else int(np.isinf(values).sum())
    if infinite:
        signs = [text for text in ("inf", "-inf") if float(text) in column.span]
        return [
            Remark(
                f"infinite in {count_noun(infinite, 'row')}", ({"do": "blank", "column": column.name, "codes": signs},)
            )
        ]
    if column.has_lost_digits:
        lost = (
            "numbers beyond 2^53, whose last digits are lost: if they are codes, declare it categorical in the codebook"
        )
        return [Remark(lost)]
    low, high = column.span
    if low == high:
        return [_about_one(column, 0.0 if low else None, "constant: one value in every row")]
    remarks = []
    distinct = np.unique(values) if isinstance(column.values, InParts) else column.distinct
    if looks_like_identifier(column):
        mend = ({"do": "as_role", "column": column.name, "role": "identifier"},)
        remarks.append(Remark("looks like an identifier: whole numbers, none of them twice", mend))
    whole = isinstance(column.values, InParts) and column.values.facts.distinct is None
    codes = [] if whole else _stray_codes(values, distinct)
    if (
        not column.unit
        and np.array_equal(distinct, np.round(distinct))
        and _POSTAL.search(f"{column.name} {column.label}")
    ):
        mend = ({"do": "as_categorical", "column": column.name},)
        remarks.append(
            Remark("a postal code by its name: it sorts and does not measure", mend if len(distinct) <= 1000 else ())
        )
    if codes:
        told = [f"`{c:g}` ({int(np.sum(values == c))})" for c in codes]
        blank = ({"do": "blank", "column": column.name, "codes": [int(c) for c in codes]},)
        remarks.append(Remark(f"{listed(told)} far from all other values: a code for a missing answer?", blank))
    elif looks_coded(column):
        text = f"digits that look like codes: {len(distinct)} whole numbers; if they are, declare it categorical"
        remarks.append(Remark(text, ({"do": "as_categorical", "column": column.name},)))
    elif looks_like_group_numbers(column):
        text = f"whole numbers from 1 to {len(distinct)}, each in about as many rows: numbers of groups? they sort and do not measure"
        remarks.append(Remark(text, ({"do": "as_categorical", "column": column.name},)))
    if looks_like_weight(column):
        text = "a weight of the rows, by its name? it is none until a fit is asked to weigh by it"
        remarks.append(Remark(text, ({"do": "as_role", "column": column.name, "role": "weight"},)))
    skew = _skew(column)
    if abs(skew) > SKEWED and not codes and not looks_coded(column) and len(distinct) > 2:
        side = "a long tail of high" if skew > 0 else "a long tail of low"
        how = "log" if low > 0 else "log1p" if low >= 0 else "cube_root"
        mend = (
            {
                "do": "derive",
                "name": f"log_{column.name}" if how != "cube_root" else f"root_{column.name}",
                how: column.name,
            },
        )
        remarks.append(Remark(f"strongly skewed ({skew:+.1f}): {side} values", mend if skew > 0 else ()))
    return remarks


def _about_one(column: Column, no: object, text: str) -> Remark:
    """Say that a column has one value; beside blanks it may be a box that was ticked, and a blank what was not."""
    reasons = dict(column.missing_counts())
    if not column.guess or no is None or not reasons.get("blank"):
        return Remark(text)
    mend = {"do": "fill_blank", "column": column.name, "value": int(no) if isinstance(no, float) else no}
    return Remark("one value, or blank: a box to tick? if so, a blank is one that was not ticked", (mend,))


def _looked_at(column: Column) -> NDArray[np.float64]:
    """Return the values of the rows that have one; of rows in parts every value as often as it occurs at most, or those kept in memory."""
    if not isinstance(column.values, InParts):
        found: NDArray[np.float64] = column.values[column.present]
        return found
    if column.values.facts.distinct is None:
        kept = column.values.kept
        return np.asarray(kept[~np.isnan(kept)])
    distinct, counts = column.values.facts.distinct
    return np.repeat(distinct, counts)


def _stray_codes(values: NDArray[np.float64], distinct: NDArray[np.float64]) -> list[float]:
    """Find customary codes for a missing answer that stand apart from all other values."""
    codes = distinct[np.isin(distinct, _USUAL_CODES)].tolist()
    rest = distinct[~np.isin(distinct, codes)] if codes else distinct
    if not codes or not len(rest):
        return []
    spread = float(rest[-1] - rest[0])
    apart = {c for c in codes if (c < 0 <= rest[0]) or c > rest[-1] + max(spread, 1.0)}
    gap = float(np.median(np.diff(rest))) if len(rest) > 1 else 1.0
    often = max(int(np.sum(values == v)) for v in rest[-_TAIL:])
    beyond = sorted(c for c in codes if c > rest[-1] + 2 * gap)  # at the end, and more often than anything before it
    apart |= {c for c in beyond if len(rest) > _TAIL and np.sum(values == c) > 3 * often}
    return sorted(c for c in apart if np.sum(values == c) > 1)


def stray_codes(column: Column) -> list[tuple[float, int]]:
    """Return customary codes for a missing answer that stand apart in a numeric column and count as numbers there, with their rows."""
    if column.is_categorical or not column.valid or not np.isfinite(column.span).all():
        return []
    if column.span[0] not in _USUAL_CODES and column.span[1] not in _USUAL_CODES:  # such codes stand at an end
        return []
    if isinstance(column.values, InParts) and column.values.facts.distinct is None:
        return []
    values = _looked_at(column)
    return [(c, int(np.sum(values == c))) for c in _stray_codes(values, np.unique(values))]


def looks_coded(column: Column) -> bool:
    """Return whether a column guessed to be a numeric column holds so few whole numbers that they may be codes."""
    if column.is_categorical or not column.guess or not column.valid:
        return False
    if isinstance(column.values, InParts):
        facts = column.values.facts
        return (
            facts.whole and facts.distinct is not None and len(facts.distinct[0]) <= min(FEW_VALUES, facts.valid // 2)
        )
    values = column.values[column.present]
    if not np.array_equal(values[:100], np.round(values[:100])):  # spares most numeric columns the full look
        return False
    few = min(FEW_VALUES, len(values) // 2)
    return bool(np.all(values == np.round(values))) and column.distinct_count <= few


def looks_like_identifier(column: Column) -> bool:
    """Return whether a numeric column holds whole numbers of which none occurs twice, and is no amount: of a unit, below 0, or with a long tail."""
    if column.is_categorical or column.unit is not None or not column.valid > FEW_VALUES:
        return False
    return column.is_whole_and_distinct and column.span[0] >= 0 and not abs(_skew(column)) > SKEWED


def looks_like_group_numbers(column: Column) -> bool:
    """Return whether a guessed numeric column holds 1, 2, 3, … without a gap, more than codes have, and each in about as many rows."""
    if column.is_categorical or not column.guess or column.unit is not None or not column.valid:
        return False
    low, high = column.span
    if low != 1 or not FEW_VALUES < high <= column.valid / 3 or high != round(high):
        return False
    if isinstance(column.values, InParts) and column.values.facts.distinct is None:
        return False
    values = _looked_at(column)
    if not np.all(values == np.round(values)):
        return False
    counts = np.bincount(values.astype(np.intp), minlength=int(high) + 1)[1:]
    return bool(counts.min() >= _ALIKE * np.median(counts) and counts.max() <= np.median(counts) / _ALIKE)


def looks_like_weight(column: Column) -> bool:
    """Return whether a numeric column without a unit or a role is named like a weight of the rows, and could be one."""
    if column.is_categorical or column.unit is not None or column.role is not None or not column.valid:
        return False
    return _WEIGHT.fullmatch(column.name) is not None and column.span[0] >= 0


def _skew(column: Column) -> float:
    return column.values.facts.skew if isinstance(column.values, InParts) else column.skew


def _group_remarks(column: Column) -> list[Remark]:
    counts = column.counts
    here = [int(k) for k in np.flatnonzero(counts)]
    if (several := _about_answers(column, here)) is not None:
        return [several]
    if holds_times(column):
        return [
            Remark(
                f"times of a clock, {len(here)} of them: a model takes a number made of them", (_from_clock(column),)
            )
        ]
    if column.guess and len(here) > max(FEW_VALUES, 0.9 * column.valid):
        codes = [column.levels[k].code for k in here]
        if read_as_dates(codes):
            return [_about_dates(column, codes)]
        mend = ({"do": "as_role", "column": column.name, "role": "identifier"},)
        return [Remark("looks like an identifier: hardly a value occurs twice", mend)]
    no_answer = levels_of_no_answer(column)
    few_times = column.guess and read_as_clock([column.levels[k].code for k in here])
    remarks, slips = _misspelt(column, [k for k in here if k not in no_answer])
    remarks += _about_words(column, here, no_answer, bool(slips)) if column.guess else []
    if few_times:
        remarks.append(Remark("times of a clock: if they measure, make a number of them", (_from_clock(column),)))
    if len(here) == 1:
        label = column.levels[here[0]].label
        no = None if label.casefold() in ("no", "false") else "false" if label.casefold() == "true" else "no"
        if no and label.casefold() in ("yes", "true"):
            no = no.upper() if label.isupper() else no.capitalize() if label.istitle() else no
        remarks.append(_about_one(column, no, f"constant: every row is `{label}`"))
    thin = [k for k in here if counts[k] < THIN_ROWS and column.levels[k].declared and k not in (*no_answer, *slips)]
    if thin:
        shown = [f"`{column.levels[k].label}` ({counts[k]})" for k in thin[:4]]
        more = f" and {len(thin) - 4} more" if len(thin) > 4 else ""
        targets = {"other": [column.levels[k].label for k in thin]}
        merge = ({"do": "merge_levels", "column": column.name, "targets": targets},)
        text = f"thin level{'s' if len(thin) > 1 else ''}: {', '.join(shown)}{more}"
        remarks.append(Remark(text, merge if 1 < len(thin) <= 6 and len(thin) < len(here) else ()))
    if len(here) > 1 and all(
        v.label == v.code and v.label.strip("-").isdigit() for v in (column.levels[k] for k in here)
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
    return read_as_clock([column.levels[k].code for k in np.flatnonzero(column.counts)])


def _from_clock(column: Column) -> Mapping[str, Any]:
    return {"do": "from_clock", "column": column.name, "take": "hours", "name": f"{column.name}_hours"}


def holds_dates(column: Column) -> bool:
    """Return whether the levels of a group that occur are dates, and more than a few."""
    if not column.is_categorical or np.count_nonzero(column.counts) <= FEW_VALUES:
        return False
    return read_as_dates([column.levels[k].code for k in np.flatnonzero(column.counts)])


def span_of_dates(column: Column) -> tuple[str, str] | None:
    """Return the earliest and the latest date of a group of them; None if it is none, or its order is not known."""
    if not holds_dates(column):
        return None
    return first_and_last([column.levels[k].code for k in np.flatnonzero(column.counts)])


def _about_dates(column: Column, codes: Sequence[str]) -> Remark:
    """Say that a group holds dates, and what makes a number of them."""
    step = {"do": "from_date", "column": column.name, "take": "year", "name": f"{column.name}_year"}
    text = "dates, of which none or few occur twice: a model takes a number made of them (a year, days since a day)"
    if has_short_years(codes):
        return Remark(f"{text}; years of two digits do not say their century, so write them with four")
    if day_stands_first(codes) is not None:
        return Remark(text, (step,))
    return Remark(f"{text}; nothing says whether the day or the month stands first", ({**step, "day_first": True},))


def separator_of_answers(column: Column) -> str | None:
    """Return what stands between the answers of a guessed group whose cells hold several; None if they do not."""
    if not column.is_categorical or not column.guess or column.doubt:
        return None
    return separator_in([column.levels[k].label for k in np.flatnonzero(column.counts)])


def _about_answers(column: Column, here: Sequence[int]) -> Remark | None:
    """Say that cells hold several answers, with the steps that make a column of each; None if they do not."""
    labels = [column.levels[k].label for k in here]
    separator = separator_of_answers(column)
    if separator is None:
        return None
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
    labels = {int(k): column.levels[k].label for k in np.flatnonzero(column.counts)}
    found = [k for k, label in labels.items() if reads_as_no_answer(label)]
    if all(len(label) == 2 and label.isupper() for label in labels.values()):  # `NA` among codes of countries is one
        return []
    return found if len(found) < len(labels) else []


def _about_words(column: Column, here: Sequence[int], no_answer: Sequence[int], slips: bool) -> list[Remark]:
    """Say that some levels read like a missing answer, and that the others are a scale of words."""
    remarks, labels = [], [column.levels[k].label for k in here]
    if no_answer:
        codes = [column.levels[k].label for k in no_answer]
        told = listed([f"`{column.levels[k].label}` ({column.counts[k]:,})" for k in no_answer])
        verbs = "reads like a missing answer and counts as a level"
        verbs = verbs if len(codes) == 1 else "read like missing answers and count as levels"
        remarks.append(Remark(f"{told} {verbs}", ({"do": "blank", "column": column.name, "codes": codes},)))
    if not slips and len(here) <= FEW_VALUES and ordered(labels)[1]:
        text = "a scale by its words, which stand from low to high: if it is one, declare it ordinal, or give its levels numbers"
        remarks.append(Remark(text, ({"do": "as_ordinal", "column": column.name, "order": labels},)))
    elif not slips and len(here) <= FEW_VALUES:
        remarks += _about_numbers(column, [column.levels[k].label for k in here if k not in no_answer])
    return remarks


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
            remarks.append(
                Remark(f"levels that differ only by case, blanks or accents: {shown}", _into(column, home, others))
            )
    declared = {k: column.levels[k].label.casefold() for k in range(len(column.levels)) if column.levels[k].declared}
    undeclared = [k for k in here if not column.levels[k].declared and k not in told]
    for k in undeclared[:4]:
        label = column.levels[k].label
        close = difflib.get_close_matches(label.casefold(), list(declared.values()), 1, 0.7)
        words = f"undeclared level `{label}` in {count_noun(int(column.counts[k]), 'row')}"
        if close:
            home = next(p for p, text in declared.items() if text == close[0])
            text = f"{words}: misspelt for `{column.levels[home].label}`?"
            remarks.append(Remark(text, _into(column, home, [label])))
        else:
            remarks.append(Remark(words))
    if column.guess:  # without a codebook, a rare level much like a common one may be a slip
        for k in here:
            common = {
                p: v.label.casefold() for p, v in enumerate(column.levels) if column.counts[p] >= 10 * column.counts[k]
            }
            close = difflib.get_close_matches(column.levels[k].label.casefold(), list(common.values()), 1, 0.85)
            if column.counts[k] < THIN_ROWS and close and k not in told:
                home = next(p for p, text in common.items() if text == close[0])
                text = f"rare level `{column.levels[k].label}` ({column.counts[k]}): misspelt for `{column.levels[home].label}`?"
                remarks.append(Remark(text, _into(column, home, [column.levels[k].label])))
    if len(undeclared) > 4:
        remarks.append(Remark(f"{len(undeclared) - 4} more undeclared levels"))
    return remarks, told


def _into(column: Column, home: int, others: list[str]) -> tuple[Mapping[str, Any], ...]:
    return ({"do": "merge_levels", "column": column.name, "targets": {column.levels[home].label: others}},)


def plain_form(label: str) -> str:
    """Return a label without case, accents, blanks and marks between words."""
    plain = unicodedata.normalize("NFKD", label.casefold())
    return "".join(c for c in plain if not unicodedata.combining(c) and not c.isspace() and c not in "-_.")
