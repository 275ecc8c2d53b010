"""That rows go together by a column that errors do not allow for, in words: beside the errors of a fit, and among its checks."""

from __future__ import annotations

from collections.abc import Collection

from markbase.core.checks.beyond_clusters import Beyond, beyond_clusters
from markbase.core.checks.hidden_groups import Alike, hidden_group
from markbase.core.checks.rows_in_time import SharedTimes, following_words, shared_times
from markbase.core.design.repeated_rows import are_dyads
from markbase.core.diagnostics.residuals import Finding
from markbase.core.errors import count_noun
from markbase.core.formatting import figures_of, number, p_phrase
from markbase.core.inference.serial_errors import FEWEST_PERIODS
from markbase.core.results.any_fit import AnyFit
from markbase.core.results.linear import LinearFit
from markbase.core.study.column import Column

_DYADS = (
    "`{}` and `{}` name the same members, of which two are in each row, so that rows with one in common may go together"
)


def _way(fit: AnyFit, found: Alike) -> str:
    other = _other_member(fit, found.column)
    if other:
        return f"{_DYADS.format(*sorted((found.column, other)))}: take dyadic errors of both"
    if found.is_few and found.same:
        return (
            f"`{found.same}`, which is the same in all rows of one, rests on {found.levels} of them: where they are places, classes or persons, one row of means for "
            f"each tells how sure it is, or errors clustered by `{found.column}` that leave out one at a time (CR3); where they are answers, put `{found.column}` in its place"
        )
    if found.is_few:
        return f"put `{found.column}` into the model; its {found.levels} levels are too few to cluster by"
    if fit.time is not None:
        return f"its levels as {'fixed effects' if isinstance(fit, LinearFit) else 'a term'} take that out"
    taken_out = ", or take its levels out as fixed effects" if isinstance(fit, LinearFit) and not found.same else ""
    return f"cluster the errors by `{found.column}`, where its rows were measured, drawn or treated together{taken_out}"


def _other_member(fit: AnyFit, name: str) -> str:
    """Name the column whose members are those of a column, which form dyads with them; empty for none."""
    columns = {column.name: column for column in (*fit.repeating, *fit.drawn_by.clusters)}
    one = columns.pop(name, None)
    return next((other.name for other in columns.values() if one is not None and are_dyads(one, other)), "")


def _words(found: Alike) -> str:
    figures = f"{figures_of(found.statistic, found.df, found.df_rest)}, {p_phrase(found.p)}"
    return f"intraclass correlation {number(found.correlation, 2)}, {figures}{found.where}"


def hidden_words(fit: AnyFit, errors: str = "They") -> str:
    """Say, beside the errors of a fit, which rows they take as independent that are not; empty for none."""
    found = hidden_group(fit)
    if found is None:
        beyond = beyond_clusters(fit)
        if beyond is not None:
            return _beyond_words(fit, beyond, errors)
        shared = shared_times(fit)
        return (
            ""
            if shared is None or following_words(fit)
            else f"{errors} do not allow for {_shared_words(shared)}: {shared.way}"
        )
    if fit.time is not None:
        return f"Rows of one `{found.column}` are alike in what the model misses ({_words(found)}) at all times, for which they do not allow: {_way(fit, found)}"
    return f"{errors} take rows of one `{found.column}` as independent, which are alike in what the model misses ({_words(found)}): {_way(fit, found)}"


def is_hidden(fit: AnyFit, column: Column) -> bool:
    """Return whether these rows are those of one level of a column."""
    found = hidden_group(fit)
    return found is not None and found.column == column.name


def hidden_findings(fit: AnyFit, told: Collection[str] = ()) -> list[Finding]:
    """Say the same among the checks of a fit, as a list of none or one, unless they tell of the same column already."""
    found, beyond = hidden_group(fit), beyond_clusters(fit)
    if found is not None and found.column in told:
        return []
    if beyond is not None:
        figures = f"`{beyond.alike.column}` ({count_noun(beyond.alike.levels, 'level')}): {_words(beyond.alike)}"
        within = f", in one of which each `{beyond.cluster}` lies" if beyond.nested else ""
        meaning = f"its rows are alike in what the model misses, for which errors clustered by `{beyond.cluster}`{within} do not allow"
        return [Finding("rows together", figures, meaning, _way_beyond(fit, beyond))]
    if found is None:
        shared = shared_times(fit)
        if shared is None:
            return []
        meaning = f"its rows are alike in what the model misses, for which the errors of this fit do not allow, and `{shared.alike.same}` is the same in all of them"
        return [Finding("rows together", f"`{shared.alike.column}`: {_words(shared.alike)}", meaning, shared.way)]
    levels = f" ({count_noun(found.levels, 'level')})" if found.levels else ""
    figures = f"`{found.column}`{levels}, which the model does not have: {_words(found)}"
    meaning = (
        f"rows of one `{found.column}` are alike in what the model misses, and its errors take them as independent: the variance of what is the same "
        f"in all of them is about {number(found.design_effect, 1)} times what they take it for (design effect)"
    )
    if fit.time is not None:
        meaning = f"rows of one `{found.column}` are alike in what the model misses at all times, for which its errors do not allow"
    return [Finding("rows together", figures, meaning, _way(fit, found))]


def _shared_words(shared: SharedTimes) -> str:
    return f"`{shared.alike.column}`, whose rows are alike in what the model misses ({_words(shared.alike)}); `{shared.alike.same}` is the same in all of them"


def _beyond_words(fit: AnyFit, found: Beyond, errors: str) -> str:
    within = f", in one of which each `{found.cluster}` lies, and" if found.nested else ","
    what = f"{errors} do not allow for `{found.alike.column}`{within} whose rows are alike in what the model misses as well"
    return f"{what} ({_words(found.alike)}): {_way_beyond(fit, found)}"


def _way_beyond(fit: AnyFit, found: Beyond) -> str:
    column, same = found.alike.column, found.alike.same
    if not found.nested and _other_member(fit, column) == found.cluster:
        return f"{_DYADS.format(*sorted((column, found.cluster)))}: take dyadic errors of both"
    if found.nested and not found.alike.is_few:
        return f"cluster the errors by `{column}`{'' if fit.crossed is None else f' in place of `{found.cluster}`'}"
    both = f"errors clustered two ways, by `{found.cluster}` and by `{column}`"
    if same:
        rests = f"`{same}`, which is the same in all rows of one, rests on {found.alike.levels:,} of them"
        if not found.nested and column in {time.name for time in fit.timed_by} and found.alike.levels >= FEWEST_PERIODS:
            both += f", or, where what is left goes on from one `{column}` to the next, such as are robust to it (HAC, by `{column}`)"
        return f"{rests}: take {f'errors clustered by `{column}`' if found.nested else both}"
    if found.alike.is_few:
        return f"put `{column}` into the model; its {found.alike.levels} levels are too few to cluster by"
    taken_out = "take its levels out as fixed effects, or " if isinstance(fit, LinearFit) else ""
    return f"{taken_out}take {both}"
