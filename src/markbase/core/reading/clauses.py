"""How large, which way, how sure: the clauses that sentences are made of."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import replace

from markbase.core.errors import listed, quoted
from markbase.core.formatting import (
    clear_of_zero,
    decimals_for,
    figures_of,
    number,
    p_phrase,
    plain,
    point_decimals,
    short,
)
from markbase.core.inference.joint_tests import JointTest
from markbase.core.results.any_fit import AnyFit
from markbase.core.results.logistic import LogisticFit
from markbase.core.results.overstated_tests import judged_p
from markbase.core.results.statements import Statement
from markbase.core.results.stored_fit import StoredFit
from markbase.core.study.column import Column
from markbase.core.tables import TableRow

_OFTEN = 3
"""A caution under so many statements is said once."""
_NAMED = 10
"""Of more than twice as many statements so many are named."""
_ROUNDING = 1e-9
"""A difference in an exact equation that is less than so many standard deviations of the outcome is none."""
_TIMES = 200.0
"""Percent more from which a ratio is told as so many times."""


def outcome_words(outcome: Column) -> str:
    """Name what is higher or lower: the outcome, or ``the geometric mean of`` the source of a logged one."""
    if outcome.made is not None and outcome.made.how == "log":
        return f"the geometric mean of `{outcome.made.of[0]}`"
    if outcome.made is not None and outcome.made.how == "log1p":
        return f"the geometric mean of 1 + `{outcome.made.of[0]}`"
    return f"`{outcome.name}`"


def is_logged(outcome: Column) -> bool:
    """Return whether a difference in the outcome is a percentage of what it was made of."""
    return outcome.made is not None and outcome.made.how in ("log", "log1p")


def is_share(outcome: Column) -> bool:
    """Return whether a numeric outcome is 0 or 1 in every row, so that its mean is a share."""
    if outcome.is_categorical or outcome.unit is not None or outcome.made is not None:
        return False
    return outcome.two_values == (0.0, 1.0)


def per_step(column: Column) -> str:
    """Say what one more of a numeric column is: ``further year (`age`)``; for a logarithm also what a step of it is."""
    per = f"further {column.step_one} (`{column.name}`)" if column.unit else f"further unit of `{column.name}`"
    if column.made is not None and column.made.how in ("log", "log1p"):
        source = f"{'1 + ' if column.made.how == 'log1p' else ''}`{column.made.of[0]}`"
        return f"{per}, which is {source} 2.72 times as large,"
    return per


def twice_as_large(fit: AnyFit, column: Column, row: TableRow) -> tuple[str, tuple[float, float, float, float]] | None:
    """Return how to say that the source of a logged column is twice as large, and estimate, ends and error of what goes with it; None of another column."""
    made = column.made
    if made is None or not is_logged(column) or fit.exact or math.isnan(float(row["se"])):
        return None
    estimate, low, high, se = (math.log(2) * float(row[key]) for key in ("estimate", "low", "high", "se"))
    return f"With {'1 + ' if made.how == 'log1p' else ''}`{made.of[0]}` twice as large", (estimate, low, high, se)


def size(fit: AnyFit, row: TableRow, question: str) -> str:
    """Say how much higher or lower, how sure, and with what held equal: the second half of a sentence, with its full stop.

    `question` is what there may be no clear evidence of, with its preposition.
    """
    estimate, low, high = float(row["estimate"]), float(row["low"]), float(row["high"])
    told = _percentages if is_logged(fit.outcome) else _units
    if fit.exact:
        return f"{told(fit, estimate, None)}, {held_equal(fit)}."
    if math.isnan(float(row["se"])):
        return f"estimated {told(fit, estimate, decimals_for(abs(estimate), 3))}, {held_equal(fit)}, with no standard error."
    decimals = decimals_for(float(row["se"]) * (100 if is_logged(fit.outcome) or is_share(fit.outcome) else 1))
    interval = f"{percent(fit)} CI {_range(fit, low, high, decimals)}, {p_phrase(float(row['p']))}"
    if clear(fit, row):
        average = "" if is_logged(fit.outcome) else "on average "  # a geometric mean is an average already
        return f"{average}{told(fit, estimate, decimals)} ({interval}), {held_equal(fit)}."
    return f"estimated {told(fit, estimate, decimals)} ({interval}), {held_equal(fit)}: no clear evidence {question}, in either direction."


def interval_words(fit: AnyFit, row: TableRow, ends: str, *, tested: bool = True) -> str:
    """Say an interval by its ends, and p if it is `tested`; or that there is no standard error."""
    if math.isnan(float(row["se"])):
        return "no standard error"
    p = f", {p_phrase(float(row['p']))}" if tested else ""
    return f"{percent(fit)} CI {ends}{p}"


def without_errors(fit: AnyFit) -> list[str]:
    """Say once why some coefficients have no standard error, if there are any."""
    table = fit.coefficients
    unknown = table["se"].isna() & table["estimate"].notna() & ~table["base"]
    return [f"Where there is no standard error, {fit.errors.unknown_words}."] if unknown.any() else []


def step_lead(column: Column, at: str) -> tuple[str, str]:
    """Say what a numeric column is compared at: one more of it, or its two values where it has no other.

    Returns the beginning of a sentence, with its comma, and what there may be no clear evidence of, with its preposition.
    """
    if pair := _pair_a_unit_apart(column):
        return f"For `{column.name}` = {plain(pair[1])}, compared with {plain(pair[0])}{at},", "of a difference"
    return f"Per {per_step(column).rstrip(',')}{at},", "that the two go together"


def _pair_a_unit_apart(column: Column) -> tuple[float, float] | None:
    pair = column.two_values
    return pair if pair is not None and pair[1] - pair[0] == 1 else None


def compared_at(column: Column) -> str:
    """Say what a numeric column is compared at, as a label has it."""
    if pair := _pair_a_unit_apart(column):
        return f"{plain(pair[1])} against {plain(pair[0])}"
    return f"per {column.step_one}"


def said_of_clear(fit: AnyFit) -> list[str]:
    """Say below which p evidence counts as clear, where it is not the usual 0.05."""
    if fit.convention is not None:
        return [f"Here p below {short(fit.alpha)} counts as clear evidence."]
    if abs(fit.alpha - 0.05) > 1e-9:
        return [f"With intervals at {percent(fit)}, p below {short(fit.alpha)} counts as clear evidence here."]
    return []


def say_once(statements: Sequence[Statement]) -> tuple[tuple[Statement, ...], list[str]]:
    """Take cautions that stand under three statements or more in the same words out of these, and say each once, of all of them."""
    under: dict[str, list[Statement]] = {}
    for statement in statements:
        for caution in statement.cautions:
            under.setdefault(caution, []).append(statement)
    often = {caution: those for caution, those in under.items() if len(those) >= _OFTEN}
    kept = tuple(replace(s, cautions=tuple(c for c in s.cautions if c not in often)) for s in statements)
    told = []
    for caution, those in often.items():
        names = list(dict.fromkeys(f"`{s.level or s.term}`" for s in those))
        few = names if len(names) <= 2 * _NAMED else [*names[:_NAMED], f"{len(names) - _NAMED:,} more"]
        told.append(f"{caution} (Of {listed(few)}.)")
    return kept, told


def clear(fit: AnyFit, row: TableRow) -> bool:
    """Return whether a coefficient is clear evidence by the convention of the reading."""
    return bool(row["p"] < fit.alpha)


def held_equal(fit: AnyFit) -> str:
    """Say what was held equal."""
    if fit.fixed_effect_names:
        inside = f"within levels of {listed(quoted(fit.fixed_effect_names))}"
        return f"other terms held equal, {inside}" if len(fit.model_terms) > 1 else inside
    return "other terms held equal" if len(fit.model_terms) > 1 else "with no other term in the model"


def _units(fit: AnyFit, value: float, decimals: int | None) -> str:
    if fit.exact and abs(value) < _ROUNDING * fit.outcome_sd:
        return "neither higher nor lower"
    size = abs(value) * (100 if is_share(fit.outcome) else 1)
    shown = short(size, 8) if decimals is None else number(size, clear_of_zero(size, size, decimals))
    one = "percentage point" if is_share(fit.outcome) else fit.outcome.step_one
    return f"{shown} {one if shown == '1' else unit_of(fit, value)} {'lower' if value < 0 else 'higher'}"


def _percentages(_: AnyFit, value: float, decimals: int | None) -> str:
    change = 100 * math.expm1(value) if value < 700 else math.inf
    if change >= _TIMES:
        return f"{short(math.exp(value), 3) if value < 700 else 'more than a million'} times as high"
    size = abs(change)
    if decimals is not None and value < 0:
        decimals = clear_of_zero(100 - size, 100 - size, decimals)  # nothing is 100% lower
    shown = short(size, 8) if decimals is None else number(size, clear_of_zero(size, size, decimals))
    return f"{shown}% {'lower' if value < 0 else 'higher'}"


def _range(fit: AnyFit, low: float, high: float, decimals: int) -> str:
    if is_logged(fit.outcome) and 100 * math.expm1(min(high, 700)) >= _TIMES:  # percentages beyond that say little
        return f"{short(math.exp(low), 3)} to {short(math.exp(min(high, 700)), 3)} times"
    if is_share(fit.outcome):
        low, high = 100 * low, 100 * high
    if is_logged(fit.outcome):
        low, high = (100 * math.expm1(min(v, 700)) for v in (low, high))
        decimals = clear_of_zero(100 + low, 100 + high, decimals)
    return _ends(low, high, decimals, "%" if is_logged(fit.outcome) else "")


def _ends(low: float, high: float, decimals: int, mark: str = "") -> str:
    decimals = clear_of_zero(low, high, decimals)
    ends = number(abs(low), decimals) + mark, number(abs(high), decimals) + mark
    if low > 0:
        return f"{ends[0]} to {ends[1]} higher"
    if high < 0:
        return f"{ends[1]} to {ends[0]} lower"
    return f"{ends[0]} lower to {ends[1]} higher"


def difference_words(fit: AnyFit, value: float, low: float, high: float, se: float) -> tuple[str, str]:
    """Say a difference of means of the outcome, or of shares of the event in percentage points, and its interval."""
    if isinstance(fit, LogisticFit):
        size, ends = points_words(value, low, high, se)
    else:
        decimals = decimals_for(se * (100 if is_logged(fit.outcome) or is_share(fit.outcome) else 1))
        told = _percentages if is_logged(fit.outcome) else _units
        size, ends = told(fit, value, decimals), _range(fit, low, high, decimals)
    return size, f"{percent(fit)} CI {ends}"


def points_words(effect: float, low: float, high: float, se: float) -> tuple[str, str]:
    """Say a difference of shares in percentage points, and the ends of its interval."""
    effect, low, high = 100 * effect, 100 * low, 100 * high
    decimals = point_decimals(low, high, se)
    shown = number(abs(effect), decimals)
    unit = "percentage point" if shown == "1" else "percentage points"
    return f"{shown} {unit} {'lower' if effect < 0 else 'higher'}", _ends(low, high, decimals)


def unit_of(fit: AnyFit, value: float) -> str:
    """Return the unit of a difference in the outcome as it stands behind a number."""
    if is_share(fit.outcome):
        return "percentage points"
    return fit.outcome.step_one if fit.exact and round(abs(value), 8) == 1 else fit.outcome.step_many  # 1, not 1.00


def level_unit(fit: AnyFit, value: float) -> str:
    """Return the unit of a value of the outcome itself as it stands behind a number."""
    return fit.outcome.unit_one if fit.exact and round(abs(value), 8) == 1 else fit.outcome.unit_many


def percent(fit: AnyFit) -> str:
    """Return the confidence level as a percentage."""
    return f"{short(100 * fit.level, 4)}%"


def step_words(fit: AnyFit, value: float) -> str:
    """Return the unit of a difference in the outcome, log units where it is logged."""
    return "log units" if is_logged(fit.outcome) else unit_of(fit, value)


def overstated_words(fit: AnyFit | StoredFit, test: JointTest | None) -> str:
    """Say that robust errors overstate a test of several coefficients, as a clause with Hotelling's test of them; empty for no such test."""
    if test is None:
        return ""
    if test.untested:
        return f"{fit.errors.kind} errors rest on too few rows to test {test.df} coefficients together"
    figures = f"{figures_of(test.statistic, test.df, test.df_rest)}, {p_phrase(judged_p(test))}"
    return f"{fit.errors.kind} errors, which rest on few rows here, overstate it: Hotelling's {figures}"


def joint_figures(fit: AnyFit | StoredFit, test: TableRow, kind: str = "") -> str:
    """Write a joint test: its statistic with its degrees of freedom, and p; of chi-squared also its kind, of a term whether it is overstated."""
    df = (int(test["df"]), fit.df_rest if math.isinf(fit.df_rest) else float(test["df_rest"]))
    told = f"{figures_of(test['statistic'], *df, kind or (fit.overall.kind if fit.overall else ''))}, {p_phrase(float(test['p']))}"
    overstated = overstated_words(fit, fit._overstated.get(str(test.get("term"))))
    return f"{told}; {overstated}" if overstated else told
