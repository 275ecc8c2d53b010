"""What deserves a second look in a numeric column: codes, identifiers, weights, long tails."""

from __future__ import annotations

import re
from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from markbase.core.errors import count_noun, listed
from markbase.core.formatting import plain
from markbase.core.rows.facts import NumberFacts
from markbase.core.rows.parts import InParts
from markbase.core.study.classifications import codes_of, is_named_as_codes, remark_on_codes
from markbase.core.study.column import Column, kept
from markbase.core.study.cycles import Cycle, cycle_of, remark_on_cycle
from markbase.core.study.mixed_units import mixed_units
from markbase.core.study.remark import FEW_VALUES, SKEWED, Remark, about_one, about_rows_of_one

_USUAL_CODES = (
    *(
        -float(c)
        for c in (1, 2, 3, 4, 5, 6, 7, 8, 9, 66, 77, 88, 96, 97, 98, 99, 666, 777, 888, 996, 997, 998, 999, 9999)
    ),
    *(float(c) for c in (66, 77, 88, 96, 97, 98, 99, 666, 777, 888, 996, 997, 998, 999, 9996, 9997, 9998, 9999, 99999)),
)
_ONE_DIGIT = (7.0, 8.0, 9.0)
_SKIPPED, _GOES_ON, _FEW_CODED = 3, 0.05, 0.3
"""Codes of one digit lie so far above the answers, of which the last is given by such a share of all, and are no more than such a share themselves."""
_ITEMS = 3
"""So many columns of few whole numbers in the same range may be the items of a scale."""
_ALIKE = 0.2
"""Groups whose numbers are taken for such have at least so much of the rows of the middle one, and at most as many times as many."""
_TAIL = 5
"""Of so many values before it, none may occur a third as often as a code at the end."""
_SMALL = 10
"""Codes below 0 that are nearer to it are hardly far from other values."""
_COMPARABLE, _MOST_OF_THEM = 1 / 3, 0.9
"""Values that go on below 0: how often −1 is, of how often 0 is; and what share of those below 0 follows without a gap."""
_ENOUGH, _MOST_FAR = 20, 3
"""Of so many rows so many values may lie far from all others."""
_MANY_NUMBERS, _MOST_OF_ONE = 32, 50
"""So many numbers, more than the days of a month, may be those of persons, each with at most so many rows on average."""
_YEARS = re.compile(r"(?<![a-z])(years?|jahre?|année|annee|ano|anno|born|founded|since)(?![a-z])")
_IN_ORDER = re.compile(
    r"(?<![a-z])(trial|round|session|visit|occasion|position|order|wave|rank|age|grade|dose|score|points)s?(?![a-z])"
)
"""What numbers from 1 on are called that count or measure something, each in about as many rows though they may be."""
CALENDAR = "years?|quarters?|months?|weeks?|days?|times?|periods?|jahre?|monate?|wochen?|tage?"
"""What columns that tell when are called, as a pattern of words."""
_TIMES = re.compile(rf"(?<![a-z])(trend|{CALENDAR})(?![a-z])")
_FIRST_YEAR, _LAST_YEAR = 1800, 2200
_WEIGHT = re.compile(
    r"(survey|sampling|design|person|per|case|post|final|population|pop|analysis|an|psp|d|p|hh|household|rak(e|ing)|calibration|norm(ali[sz]ed)?|resp(ondent)?)?[ _-]?(weights?|wgh?ts?|wts?|gewicht(ung)?)([ _-]?\d+)?",
    re.IGNORECASE,
)


def numeric_remarks(column: Column, alike: int = 0) -> list[Remark]:
    """Say what deserves a second look in a numeric column with values, in the order of its weight.

    `alike` is how many other columns hold few whole numbers of the same range.
    """
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
        return [about_one(column, 0.0 if low else None, "constant: one value in every row")]
    remarks = []
    distinct = np.unique(values) if isinstance(column.values, InParts) else column.distinct
    if looks_like_identifier(column):
        mend = ({"do": "as_role", "column": column.name, "role": "identifier"},)
        remarks.append(Remark("looks like an identifier: whole numbers, none of them twice", mend))
    whole = isinstance(column.values, InParts) and column.values.facts.distinct is None
    codes = [] if whole else _stray_codes(values, distinct) or _codes_of_one_digit(column, values, distinct)
    sorting = remark_on_codes(column, distinct) or remark_on_cycle(column, distinct)
    if sorting is not None:
        remarks.append(sorting)
    if codes:
        told = [f"`{c:g}` ({int(np.sum(values == c))})" for c in codes]
        blank = ({"do": "blank", "column": column.name, "codes": [int(c) for c in codes]},)
        remarks.append(Remark(f"{listed(told)} {where_codes_stand(codes, 'far')}: a code for a missing answer?", blank))
    elif sorting is not None:
        pass
    elif looks_coded(column):
        text = f"digits that look like codes: {len(distinct)} whole numbers; if they are, declare it categorical"
        if looks_like_years(column):
            text = f"{len(distinct)} years: a number tells a straight trend over them; declared categorical, each stands by itself"
        elif alike >= _ITEMS - 1 and len(distinct) > 2:
            text = (
                f"{len(distinct)} whole numbers, {low:g} to {high:g} as in {alike} other columns: answers on one scale? see how they go "
                "together before they are averaged; if they are codes, declare it categorical"
            )
        remarks.append(Remark(text, ({"do": "as_categorical", "column": column.name},)))
    elif looks_like_group_numbers(column):
        text = f"whole numbers from 1 to {len(distinct)}, each in about as many rows: numbers of groups? they sort and do not measure"
        remarks.append(Remark(text, ({"do": "as_categorical", "column": column.name},)))
    elif numbers_rows_of_one(column):
        remarks.append(about_rows_of_one(column, f"{len(distinct):,} whole numbers", len(values) / len(distinct)))
    if looks_like_weight(column):
        text = "a weight of the rows, by its name? it is none until a fit is asked to weigh by it"
        remarks.append(Remark(text, ({"do": "as_role", "column": column.name, "role": "weight"},)))
    if mixed := mixed_units(column, codes):
        return [*remarks, Remark(mixed)]  # its skew is that of the mixture
    skew = _skew(column)
    far, rest = _far_from_others(values) if abs(skew) > SKEWED and not codes and not whole else ([], values)
    if far:
        ends = listed([f"`{plain(v, 6)}`" for v in far])
        text = (
            f"{ends} {'lies' if len(far) == 1 else 'lie'} further from all others ({plain(float(rest[0]), 6)} to {plain(float(rest[-1]), 6)}) than these lie apart: "
            f"{'is it' if len(far) == 1 else 'are they'} right? if not, {'it is' if len(far) == 1 else 'they are'} no answer"
        )
        remarks.append(Remark(text, ({"do": "blank", "column": column.name, "codes": [_as_code(v) for v in far]},)))
        skew = NumberFacts.of(rest).skew
    weighs = column.role == "weight" or looks_like_weight(column)
    if (
        abs(skew) > SKEWED
        and not codes
        and sorting is None
        and not looks_coded(column)
        and len(distinct) > 2
        and not weighs
    ):
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


def _far_from_others(values: NDArray[np.float64]) -> tuple[list[float], NDArray[np.float64]]:
    """Return up to three values at one end, each in one row, beyond a gap wider than all others lie apart; and the others, rising."""
    if len(values) < _ENOUGH:
        return [], values
    rising = np.sort(values)
    for count in range(_MOST_FAR, 0, -1):
        for ends, rest in ((rising[-count:], rising[:-count]), (rising[:count], rising[count:])):
            gap = max(float(ends[0] - rest[-1]), float(rest[0] - ends[-1]))
            if gap > rest[-1] - rest[0] > 0 and len(np.unique(ends)) == count:
                tail = NumberFacts.of(rest).skew * (1 if ends[0] > rest[-1] else -1)
                return ([], values) if tail > SKEWED else (ends.tolist(), rest)  # of a long tail its end
    return [], values


def _as_code(value: float) -> int | float:
    return int(value) if value == round(value) else value


def _stray_codes(values: NDArray[np.float64], distinct: NDArray[np.float64]) -> list[float]:
    """Find customary codes for a missing answer that stand apart from all other values."""
    codes = distinct[np.isin(distinct, _USUAL_CODES)].tolist()
    rest = distinct[~np.isin(distinct, codes)] if codes else distinct
    if not codes or not len(rest):
        return []
    spread = float(rest[-1] - rest[0])
    if _go_on_below(values, rest):
        codes = [c for c in codes if c >= 0]
    apart = {c for c in codes if (c < 0 <= rest[0]) or c > rest[-1] + max(spread, 1.0)}
    gap = float(np.median(np.diff(rest))) if len(rest) > 1 else 1.0
    often = max(int(np.sum(values == v)) for v in rest[-_TAIL:])
    beyond = sorted(c for c in codes if c > rest[-1] + 2 * gap)  # at the end, and more often than anything before it
    apart |= {c for c in beyond if len(rest) > _TAIL and np.sum(values == c) > 3 * often}
    return sorted(c for c in apart if np.sum(values == c) > 1)


def _codes_of_one_digit(column: Column, values: NDArray[np.float64], distinct: NDArray[np.float64]) -> list[float]:
    """Find 7, 8 and 9 that stand above a few answers which count on from 0 or 1 without a gap, where these do not fade out."""
    codes = distinct[np.isin(distinct, _ONE_DIGIT)]
    rest = distinct[: len(distinct) - len(codes)]
    if not looks_coded(column) or not len(codes) or len(rest) < 2 or rest[0] not in (0, 1):
        return []
    if rest[-1] - rest[0] != len(rest) - 1 or codes[0] - rest[-1] < _SKIPPED:
        return []
    times = [int(np.sum(values == c)) for c in codes]
    ends = np.mean(values == rest[-1]) >= _GOES_ON and sum(times) <= _FEW_CODED * len(values)
    return [] if not ends or min(times) < 2 else [float(c) for c in codes]


def _go_on_below(values: NDArray[np.float64], rest: NDArray[np.float64]) -> bool:
    """Return whether whole numbers go on below 0 as those of a scale with two ends, or of differences, do: step by step, in about as many rows."""
    if len(rest) < 2 or rest[0] != 0 or rest[1] != 1:
        return False
    below = values[values < 0]
    steps = [int(np.sum(values == -k)) for k in range(10)]
    last = next((k for k in range(1, 10) if not steps[k]), 10) - 1
    smooth = steps[1] >= _COMPARABLE * steps[0] and all(steps[k + 1] <= 2 * steps[k] for k in range(1, last))
    mirrored = last > 2 or (last == 2 and rest[-1] == 2)
    return smooth and mirrored and sum(steps[1 : last + 1]) >= _MOST_OF_THEM * len(below)


def where_codes_stand(codes: Sequence[float], far: str) -> str:
    """Say how codes for a missing answer stand to the other values: below 0, as none of these is, or `far` from them."""
    return "below 0, as no other value is" if all(-_SMALL < c < 0 for c in codes) else f"{far} from all other values"


def stray_codes(column: Column) -> list[tuple[float, int]]:
    """Return customary codes for a missing answer that stand apart in a numeric column and count as numbers there, with their rows."""
    if column.is_categorical or not column.valid or not np.isfinite(column.span).all():
        return []
    ends = (*_USUAL_CODES, *(_ONE_DIGIT if looks_coded(column) else ()))
    if column.span[0] not in ends and column.span[1] not in ends:  # such codes stand at an end
        return []
    if isinstance(column.values, InParts) and column.values.facts.distinct is None:
        return []
    values = _looked_at(column)
    distinct = np.unique(values)
    codes = _stray_codes(values, distinct) or _codes_of_one_digit(column, values, distinct)
    return [(c, int(np.sum(values == c))) for c in codes]


@kept
def looks_coded(column: Column) -> bool:
    """Return whether a column guessed to be a numeric column holds so few whole numbers that they may be codes."""
    if column.is_categorical or not column.guess or not column.valid:
        return False
    if isinstance(column.values, InParts):
        facts = column.values.facts
        return (
            facts.whole and facts.distinct is not None and len(facts.distinct[0]) <= min(FEW_VALUES, facts.valid // 2)
        )
    first = column.values[:100]
    if not np.all((first == np.round(first)) | np.isnan(first)):  # spares most numeric columns the full look
        return False
    values = column.values[column.present]
    few = min(FEW_VALUES, len(values) // 2)
    return bool(np.all(values == np.round(values))) and column.distinct_count <= few


def looks_like_years(column: Column) -> bool:
    """Return whether the few whole numbers of a column are years, by their size and its name."""
    low, high = column.span
    return bool(_YEARS.search(column.name.lower())) and _FIRST_YEAR <= low <= high <= _LAST_YEAR


def looks_like_identifier(column: Column) -> bool:
    """Return whether a numeric column holds whole numbers of which none occurs twice, and is no time and no amount: of a unit, below 0, or with a long tail."""
    if column.is_categorical or column.unit is not None or not column.valid > FEW_VALUES:
        return False
    if _TIMES.search(column.name.lower()):
        return False
    return column.is_whole_and_distinct and column.span[0] >= 0 and not abs(_skew(column)) > SKEWED


def looks_like_group_numbers(column: Column) -> bool:
    """Return whether a guessed numeric column holds 1, 2, 3, … without a gap, more than codes have, and each in about as many rows."""
    if column.is_categorical or not column.guess or column.unit is not None or not column.valid:
        return False
    low, high = column.span
    if low != 1 or not FEW_VALUES < high <= column.valid / 3 or high != round(high):
        return False
    if _IN_ORDER.search(column.name.lower()) or _TIMES.search(column.name.lower()):
        return False
    if isinstance(column.values, InParts) and column.values.facts.distinct is None:
        return False
    values = _looked_at(column)
    if not np.all(values == np.round(values)):
        return False
    counts = np.bincount(values.astype(np.intp), minlength=int(high) + 1)[1:]
    return bool(counts.min() >= _ALIKE * np.median(counts) and counts.max() <= np.median(counts) / _ALIKE)


def numbers_rows_of_one(column: Column) -> bool:
    """Return whether a guessed numeric column holds whole numbers that stand as those of persons do who are measured more than once.

    All rows of a number follow one another, or the numbers rise from row to row and begin again a few times, as with one wave below the other. Of
    rows in parts the order is not looked at.
    """
    if column.is_categorical or not column.guess or column.unit is not None or column.role is not None:
        return False
    if isinstance(column.values, InParts) or column.valid < _MOST_OF_ONE or column.span[0] < 0:
        return False
    first = column.values[:100]
    if not np.all((first == np.round(first)) | np.isnan(first)):  # spares most numeric columns the full look
        return False
    values = column.values[column.present]
    steps, several = np.diff(values), column.distinct_count
    if (
        several < _MANY_NUMBERS
        or not 1.2 * several <= len(values) <= _MOST_OF_ONE * several
        or np.any(values != np.round(values))
    ):
        return False
    together = np.count_nonzero(steps) + 1 == several
    begun = np.count_nonzero(steps <= 0) + 1
    return bool(together or (1 < begun <= _MOST_OF_ONE and len(values) >= _MANY_NUMBERS * begun))


def classification_of(column: Column) -> str:
    """Say of what a numeric column holds the codes, by its name; empty for none."""
    return "" if column.is_categorical or not is_named_as_codes(column) else codes_of(column, _looked_at(column))


@kept
def cycle_in(column: Column) -> Cycle | None:
    """Return what a numeric column counts round, such as months of the year; None for nothing of the kind."""
    return cycle_of(column, _looked_at)


def whose_numbers(column: Column) -> str:
    """Say of what a guessed numeric column seems to hold the numbers, which sort and do not measure; empty for none."""
    if looks_like_group_numbers(column):
        return "the numbers of groups"
    if told := classification_of(column):
        return told
    return "the numbers of persons, classes or places" if numbers_rows_of_one(column) else ""


def looks_like_weight(column: Column) -> bool:
    """Return whether a numeric column without a unit or a role is named like a weight of the rows, and could be one."""
    if column.is_categorical or column.unit is not None or column.role is not None or not column.valid:
        return False
    return _WEIGHT.fullmatch(column.name) is not None and column.span[0] >= 0


def _skew(column: Column) -> float:
    return column.values.facts.skew if isinstance(column.values, InParts) else column.skew
