"""Checking a linear fit: residuals, spread, lines, cases, order."""

from __future__ import annotations

import math
from collections.abc import Sequence
from typing import TYPE_CHECKING, Any, NamedTuple

import numpy as np
import pandas as pd
import scipy.special as sp
from numpy.typing import NDArray

from markbase.core.checks.clusters_left_out import clusters_finding
from markbase.core.checks.few_far_rows import few_rows_findings
from markbase.core.checks.intraclass import intraclass_finding, intraclasses_of
from markbase.core.checks.rows_in_time import following_by, following_finding
from markbase.core.checks.rows_together import hidden_findings
from markbase.core.checks.spread import spread_finding
from markbase.core.design.terms import levels_against
from markbase.core.diagnostics.residuals import Checks, Finding, Intraclass, Views, shape
from markbase.core.errors import FitError, count_noun, listed, quoted
from markbase.core.estimation.whitening import Whitened
from markbase.core.formatting import number, p_phrase, short
from markbase.core.results.coefficient_rows import label_of
from markbase.core.results.fit import ROW_NAME
from markbase.core.rows.parts import row_numbers, rows_at
from markbase.core.rows.row_functions import lowest, sample_of, with_values_at
from markbase.core.rows.sums import total_of
from markbase.core.tables import records_of

if TYPE_CHECKING:
    from markbase.core.results.linear import LinearFit

Array = NDArray[np.float64]
LARGE_DISTANCE = 1.0
"""Of a case that moves a fit alone: Cook's, or Pregibon's, distance."""
_FAR = 3.0
_MOVES = 0.5
_LITTLE_ROOM = 1e-6
_ROUNDING, _ALONE = 1e-12, 1e-24
"""A row with no more than this left of its own residual is fitted exactly: taken as a difference, and as a sum over the others."""
_MOST_FAR = 200
MOST_CASES = 10
"""So many cases are told where nothing else is asked for."""


class Cases(NamedTuple):
    """The rows that weigh most, in the order of the rows; `order` ranks them by their weight."""

    name: str
    """What they are called by."""
    labels: Sequence[object]
    """The rows, the heaviest first."""
    order: NDArray[np.intp]
    """Their ranks."""
    leverage: Array
    """Shape (cases,)."""
    standardised: Array
    """Shape (cases,): standardised residuals."""
    influence: Array
    """Shape (cases,): Cook's distances."""
    fitted: Array
    """Shape (cases,)."""
    observed: Array
    """Shape (cases,)."""
    whitened: Whitened
    """Their whitened columns."""


class LookedOver(NamedTuple):
    """What the checks find in the residuals, whatever the bases."""

    shape: tuple[float, float, float, float]
    """Skew, kurtosis less 3, K² and its p."""
    rows: int
    """How many rows these are of."""
    alone: int
    """Rows that are fitted exactly."""
    cases: Cases
    """The rows that weigh most."""
    intraclasses: list[Intraclass]
    """How alike rows of one cluster are."""


def look_over(fit: LinearFit, most: int = MOST_CASES) -> LookedOver:
    """Look over the residuals of a linear fit, with so many of the cases that weigh most."""
    inside, times = slice(None) if fit.used is None else fit.used, fit.rows_used.times
    looked = _standardised(fit)
    e, alone = fit._residuals[inside], np.isnan(looked[1][inside])
    own, often = e, None if times is None else times[inside]
    if alone.any():
        own, often = e[alone == 0], None if often is None else often[alone == 0]
    rows = len(own) if often is None else round(float(often.sum()))
    shaped, count = shape(own, often), int(np.count_nonzero(alone))
    return LookedOver(shaped, rows, count, _heaviest(fit, most, looked), intraclasses_of(fit))


def check_fit(fit: LinearFit, most: int, order: Any) -> Checks:
    """Make all checks of a linear fit."""
    if fit.exact:
        raise FitError("The outcome is reproduced exactly, so there are no residuals to check.")
    seen = fit._looked_over if most == MOST_CASES else look_over(fit, most)
    skew, kurtosis, k2, k2_p = seen.shape
    lines, cases = fit._bends.copy(), _cases(fit, seen.cases)
    clusters, on_clusters = clusters_finding(fit)
    found = following_by(fit, order)
    findings = [
        _on_shape(fit, skew, kurtosis, k2, k2_p, seen.rows),
        *few_rows_findings(fit),
        spread_finding(fit),
        *_on_lines(fit, lines),
        *([_on_cases(cases)] if len(cases) else []),
        *on_exact_rows(seen.alone),
        *on_clusters,
    ]
    if found is not None:
        findings.append(following_finding(fit, found))
    alike = seen.intraclasses
    findings += [intraclass_finding(fit, own) for own in alike]
    if not alike and found is None and fit.possible_cluster:
        findings.append(unseen_together(fit.possible_cluster.name))
    findings += hidden_findings(fit, {own.cluster for own in alike})
    of_shape = (skew, kurtosis, k2, k2_p)
    spread, against = fit._spread, levels_against(fit.model_terms)
    tests = (*of_shape, spread.statistic, spread.df, spread.p)
    serial = None if found is None else (found.correlation, found.statistic, found.p)
    told = (lines, cases, clusters, serial, tuple(findings))
    return Checks(
        fit.outcome.name,
        *tests,
        *told,
        spread_df_rest=spread.df_rest,
        against=against,
        left_out="cluster" if fit.errors.members is None else "member",
        intraclass=next(iter(alike), None),
    )


def views_of(fit: LinearFit, most: int = 5) -> Views:
    """Return what the figure of the checks draws: of rows in parts, those used of the rows that are kept in memory."""
    h, standardised, influence, _ = _standardised(fit)
    order = np.sort(lowest(-influence, most))
    heavy_h, heavy_residual, heavy_influence = rows_at(order, h, standardised, influence)
    ranked = np.argsort(-heavy_influence, kind="stable")
    labels = fit.identified(order[ranked])[1]
    heaviest = tuple(
        (v, float(heavy_h[k]), float(heavy_residual[k])) for v, k in zip(labels, ranked.tolist(), strict=True)
    )
    fitted, shown, leverage = (sample_of(values) for values in (fit._fitted, standardised, h))
    here = np.flatnonzero(~np.isnan(shown))
    normal = sp.ndtri((np.arange(1, len(here) + 1) - 0.375) / (len(here) + 0.25))
    return Views(
        fitted[here], shown[here], leverage[here], normal, heaviest, float(np.nanmax(heavy_influence, initial=0.0))
    )


def _standardised(fit: LinearFit) -> tuple[Array, Array, Array, Whitened]:
    """Return leverages, standardised residuals and Cook's distances, NaN in rows not used, and the whitened columns.

    Residuals and distances are NaN too where a row is fitted exactly, since it decides a coefficient alone.
    """
    whitened = fit._whitened
    repeated = fit.weights is not None and fit.weights.kind == "frequency"
    p, s2 = fit.moments.rows - fit.rows_over, fit.strength.residual_sd**2

    def looked(own: Whitened) -> tuple[Array, Array]:
        outcome = own.blocks[-1].multiplier
        assert outcome is not None
        h, e = np.full(len(outcome), np.nan), np.full(len(outcome), np.nan)
        for chunk, Q, residual, w in own.chunks():
            h[chunk] = own.leverages(chunk, Q) * (1.0 if repeated else w)
            e[chunk] = residual * (1.0 if repeated else np.sqrt(w))
        return h, e

    h, e = whitened.made(2, looked)
    room = np.maximum(1 - h, _ROUNDING)
    far = np.sort(lowest(room, _MOST_FAR + 1))
    tight, leverage = rows_at(far, room, h)
    far, leverage = far[tight < _LITTLE_ROOM], leverage[tight < _LITTLE_ROOM]
    refined = len(far) <= _MOST_FAR
    if len(far) and refined:
        room = with_values_at(room, far, _room_of(whitened, far, repeated) / leverage)
    room = np.where(
        room <= (_ALONE if refined else _ROUNDING), np.nan, room
    )  # such a row is fitted exactly, whatever it holds
    standardised = e / np.sqrt(s2 * room)
    return h, standardised, standardised**2 * h / room / p, whitened


def distances_of(fit: LinearFit) -> Array:
    """Return Cook's distance of every row, NaN in rows not used and where a row is fitted exactly."""
    return _standardised(fit)[2]


def _room_of(whitened: Whitened, rows: NDArray[np.intp], repeated: bool) -> Array:
    """Return h(1 − h) of some rows, as the sum over all other rows of the squared products with them: no digit cancels."""
    numbers = row_numbers(whitened.blocks[-1].multiplier)
    own, weight_of, codes_of = _whitened_at(whitened, rows)
    own = own * np.sqrt(weight_of)[:, None]

    def summed(whitened: Whitened, numbers: NDArray[np.intp]) -> Array:
        fixed = whitened.fixed_effects
        found = np.zeros(len(rows))
        for chunk, Q, _, w in whitened.chunks():
            products = np.dot(Q * np.sqrt(w)[:, None], own.T)
            if fixed is not None and fixed.sums is not None:  # the level takes the place of the mean of all rows
                both = np.sqrt(w)[:, None] * np.sqrt(weight_of)[None, :]
                alike = fixed.codes[chunk][:, None] == codes_of[None, :]
                products += both * (alike / fixed.sums[0, codes_of] - 1 / whitened.solution.weight)
            products = products**2
            same = numbers[chunk][:, None] == rows[None, :]
            if repeated:  # one of the rows it stands for is left out, the others stay
                products = np.where(same, products * (1 - 1 / w[:, None]), products)
            else:
                products[same] = 0.0
            found += products.sum(axis=0)
        return found

    return total_of(whitened.over(summed, numbers))


def _whitened_at(whitened: Whitened, rows: NDArray[np.intp]) -> tuple[Array, Array, NDArray[np.intp]]:
    """Return the whitened columns of some rows, their weights, and their levels of what is taken out."""
    alone = whitened.at_rows(rows)
    found = list(alone.chunks())
    codes = np.zeros(len(rows), dtype=np.intp) if alone.fixed_effects is None else alone.fixed_effects.codes
    return np.vstack([Q for _, Q, _, _ in found]), np.concatenate([w for _, _, _, w in found]), codes


def _heaviest(fit: LinearFit, most: int, looked: tuple[Array, Array, Array, Whitened]) -> Cases:
    h, standardised, influence, whitened = looked
    chosen = np.sort(lowest(-influence, most))
    leverage, residual, weight, fitted, observed = rows_at(
        chosen, h, standardised, influence, fit._fitted, fit.outcome.values
    )
    order = np.argsort(-weight, kind="stable")
    name, labels = fit.identified(chosen[order])
    return Cases(name, labels, order, leverage, residual, weight, fitted, observed, whitened.at_rows(chosen))


def _cases(fit: LinearFit, heaviest: Cases) -> pd.DataFrame:
    repeated = fit.weights is not None and fit.weights.kind == "frequency"
    s2, order, alone = fit.strength.residual_sd**2, heaviest.order, heaviest.whitened
    told = fit.coefficient_map.told
    told = told[1:] if fit.fixed_effects else told  # the start is then a mean over the levels, that nobody reads
    roots, se = fit.coefficient_rows.roots[told], np.sqrt(s2 * fit.coefficient_rows.squares[told])
    rows = fit.coefficient_map.rows
    moves: list[tuple[str, float]] = []
    for chunk, Q, residual, w in alone.chunks():
        lengths = alone.leverages(chunk, Q)
        for q, r, weight, length in zip(Q, residual, w, lengths, strict=True):
            leverage = float(length) * (1.0 if repeated else weight)
            change = roots @ q * r * (1.0 if repeated else weight) / (1 - leverage) / se
            if not told:  # no row has the bases together, and no coefficient is told
                moves.append(("", math.nan))
                continue
            k = int(np.argmax(np.abs(change)))
            r_told = rows[told[k]]
            moves.append((label_of(r_told.term, r_told.compared.level), float(-change[k])))
    return pd.DataFrame(
        {
            heaviest.name: heaviest.labels,
            "observed": heaviest.observed[order],
            "fitted": heaviest.fitted[order],
            "residual": heaviest.standardised[order],
            "leverage": heaviest.leverage[order],
            "influence": heaviest.influence[order],
            "moves": [moves[int(k)][0] for k in order],
            "by": [moves[int(k)][1] for k in order],
        }
    )


def _on_shape(fit: LinearFit, skew: float, kurtosis: float, k2: float, p: float, n: int) -> Finding:
    figures = (
        f"skew {number(skew, 2)}, kurtosis {number(kurtosis, 2)} beyond the normal; K² = {number(k2, 2)}, {p_phrase(p)}"
    )
    figures += ", as if rows were independent" if fit.cluster is not None and not math.isnan(p) else ""
    if abs(skew) < 0.5 and abs(kurtosis) < 1:
        meaning = (
            "close to a normal shape"
            if not p < fit.alpha
            else f"off a normal shape by little, which {n:,} rows make plain"
        )
        return Finding("shape", figures, f"{meaning}: intervals and tests are hardly touched", "")
    side = (
        "a long tail upward"
        if skew > 0.5
        else "a long tail downward"
        if skew < -0.5
        else "heavy tails"
        if kurtosis > 0
        else "light tails"
    )
    rows = (
        "with so many rows means and slopes still have about normal errors, but intervals for single people do not hold"
        if n >= 200
        else "with so few rows tests and intervals lean on the normal shape"
    )
    positive = float(np.nanmin(fit.outcome.values)) > 0
    way = (
        f"fit the logarithm of `{fit.outcome.name}`"
        if skew > 1 and positive
        else "look at the cases below; robust errors do not mend it"
    )
    return Finding("shape", figures, f"{side}: {rows}", way)


def _on_lines(fit: LinearFit, lines: pd.DataFrame) -> list[Finding]:
    if not len(lines):
        return []
    bent = lines[lines["p"] < fit.alpha]
    told = [
        f"`{r['term']}` F(1, {r['df_rest']:.0f}) = {number(r['statistic'], 2)}, {p_phrase(r['p'])}"
        for r in records_of(lines)
    ]
    figures = "; ".join(told)
    if not len(bent):
        return [Finding("straight lines", figures, "no clear evidence of a bend in any numeric column", "")]
    names = listed([f"`{r['term']}` ({r['bend']})" for r in records_of(bent)])
    way = f"look at the residuals along {listed(quoted(bent['term']), 'or')}; a logarithm, a square (centred first) or cutting into groups may fit better"
    return [Finding("straight lines", figures, f"the line of {names} bends: one slope tells only its average", way)]


def case_words(name: str, label: object) -> str:
    """Name a case in a sentence: by the analyst's identifier, or as the row it is."""
    return str(label) if name == ROW_NAME else f"{name} {label}"


def _on_cases(cases: pd.DataFrame) -> Finding:
    first = cases.iloc[0]
    name = str(cases.columns[0])
    figures = f"largest Cook's distance {short(float(first['influence']))} ({case_words(name, first[name])}), largest residual among these {number(float(cases['residual'].abs().max()), 2)}"
    if first["influence"] > LARGE_DISTANCE:
        how = f": `{first['moves']}` by {number(float(first['by']), 1)} standard errors" if first["moves"] else ""
        meaning = f"one case alone moves the fit{how}"
        return Finding(
            "cases", figures, meaning, "look whether its row is right; if it is, tell the fit with and without it"
        )
    moving = cases.iloc[int(np.argmax(np.abs(cases["by"].to_numpy())))]  # NaN of all where no coefficient is told
    alone = abs(moving["by"]) > _MOVES
    meaning = "no single case moves the fit by much"
    if alone:
        meaning = f"{case_words(name, moving[name])} alone moves `{moving['moves']}` by {number(float(moving['by']), 1)} standard errors"
    far = cases[cases["residual"].abs() > _FAR]
    if len(far):
        meaning += f"{'; ' if alone else ', though '}{len(far)} of the {len(cases)} that weigh most {'lies' if len(far) == 1 else 'lie'} more than {_FAR:g} standard deviations off"
    return Finding("cases", figures, meaning, "look whether their rows are right" if len(far) else "")


def unseen_together(name: str) -> Finding:
    """Say that rows of one cluster may go together, where no figure tells whether they do."""
    means = "may go together, which no figure here shows"
    return Finding("rows together", f"rows of one `{name}`", means, f"cluster the errors by `{name}`")


def on_exact_rows(rows: int, how: str = "fitted exactly") -> list[Finding]:
    """Say how many rows decide a coefficient alone."""
    if not rows:
        return []
    figures = f"{count_noun(rows, 'row')} {how}"
    meaning = "each decides a coefficient alone, as the only row of a level does: no residual shows whether it is odd, and it is none of the cases"
    return [Finding("rows alone", figures, meaning, "merge such levels, or check these rows by hand")]
