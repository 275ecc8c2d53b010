"""How much the other terms inflate the variance of each coefficient.

References
----------
Fox & Monette (1992), J. Am. Stat. Assoc. 87(417), 178-183, doi:10.1080/01621459.1992.10475190.
Belsley, Kuh & Welsch (1980), Regression Diagnostics, ch. 3, doi:10.1002/0471725153.
"""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np
import pandas as pd
import scipy.linalg
from numpy.typing import NDArray

from markbase.core.design.moments import Moments
from markbase.core.design.terms import CodedColumns, Term
from markbase.core.errors import ColumnError, count_noun, near
from markbase.core.estimation.collinearity import find_collinearities
from markbase.core.estimation.collinearity_names import Collinearity
from markbase.core.estimation.dependences import dependences
from markbase.core.estimation.fixed_effects import FixedEffects
from markbase.core.estimation.least_squares import solve
from markbase.core.estimation.least_squares_solution import Dependent, Solution, inner_columns
from markbase.core.tables import table_of

Array = NDArray[np.float64]
MOST_CONDITIONS = 1500
"""Condition indices of more columns are not looked at unasked."""
_TOUCHED = 1e-7


@dataclass(frozen=True, eq=False)
class VarianceInflation:
    """The variance inflation among a set of terms."""

    columns: pd.DataFrame
    """`term`, `column` (empty for a numeric column, else the level), `vif`, `tolerance`, `r2`, `se_factor`."""
    terms: pd.DataFrame
    """`term`, `df`, `gvif`, `comparable` (its power 1/(2·df), which is √VIF for a numeric column)."""
    collinear: tuple[Collinearity, ...]
    """Exact collinearity; the values of their members are infinite."""


@dataclass(frozen=True, eq=False)
class Basis:
    """The predictors of a screening, in one set of moments."""

    moments: Moments
    """Intercept, then each term, then a numeric column that serves as outcome."""
    blocks: tuple[CodedColumns, ...]
    """What the moments were taken of."""
    terms: tuple[Term, ...]
    """The terms."""
    used: NDArray[np.bool_] | None
    """The rows."""
    rows: int
    """Rows of the study."""
    weights: Array | None = None
    """Shape (rows,): with how much each row counts; None if all count alike."""
    solved: Solution | None = None
    """The solution for these terms, where a fit has it."""
    fixed_effects: FixedEffects | None = None
    """The levels within which the terms are looked at; a second column of them stands behind the terms in the moments."""

    def only(self, names: Sequence[str]) -> Basis:
        """Return the basis of some of the terms, without touching the rows."""
        kept = [k for k, t in enumerate(self.terms) if t.name in names]
        places = [0, *(k + 1 for k in kept), *range(len(self.terms) + 1, len(self.moments.sizes))]
        return Basis(
            self.moments.only(places),
            tuple(self.blocks[k - 1] for k in places[1:]),
            tuple(self.terms[k] for k in kept),
            self.used,
            self.rows,
            self.weights,
            fixed_effects=self.fixed_effects.only(self.moments.columns_of(places)) if self.fixed_effects else None,
        )

    @property
    def inner(self) -> NDArray[np.intp]:
        """The columns that are solved for: those of the terms, then what a second column of fixed effects adds."""
        if self.solved is not None:
            return self.solved.columns
        own = inner_columns(self.moments, len(self.terms) + 1)
        if self.fixed_effects is None:
            return own
        return np.concatenate([own, self.fixed_effects.free_levels(self.moments, len(self.terms) + 1)])

    @property
    def free_rows(self) -> int:
        """Rows less the means that are taken out of the columns: one, or that of each level of a first column of fixed effects."""
        fixed = self.fixed_effects
        return self.moments.rows - (1 if fixed is None or fixed.sums is None else len(fixed.sums[0]))

    @property
    def columns(self) -> list[NDArray[np.intp]]:
        """Which columns of the moments are the inner ones of each term."""
        every, starts = self.inner, self.moments.starts.tolist()
        return [every[(every >= starts[k]) & (every < starts[k] + t.size)] for k, t in enumerate(self.terms, 1)]

    @property
    def width(self) -> int:
        """How many inner columns the terms have."""
        return sum(len(own) for own in self.columns)

    @property
    def is_wide(self) -> bool:
        """Whether columns are so many that their condition indices would take minutes."""
        return self.width > MOST_CONDITIONS

    @property
    def too_few_rows(self) -> bool:
        """Whether rows cannot tell so many columns apart, whatever these measure."""
        return len(self.inner) > self.free_rows

    def solve(self, columns: NDArray[np.intp]) -> Solution:
        """Solve for some columns."""
        return solve(self.moments, self.blocks, self.used, self.rows, columns, self.weights, self.fixed_effects)

    def centred(self, at: Sequence[int] | NDArray[np.intp]) -> Array:
        """Return the cross-products of some columns from their means, or from those within the levels, shape (k, k)."""
        m, at = self.moments, np.asarray(at, dtype=np.intp)
        scale = np.repeat(m.scales, m.sizes)[at]
        if self.fixed_effects is None:
            found = m.cross[np.ix_(at, at)] - np.outer(m.cross[0, at], m.cross[0, at]) / m.weight
            return np.asarray(found * np.outer(scale, scale))
        hidden = self.fixed_effects.free_levels(m, len(self.terms) + 1)
        every = np.concatenate([at, hidden])
        assert self.fixed_effects.sums is not None
        own = self.fixed_effects.sums[every]
        found = m.cross[np.ix_(every, every)] - (own / self.fixed_effects.sums[0]) @ own.T
        k = len(at)
        if len(hidden):
            found[:k, :k] -= found[:k, k:] @ np.linalg.solve(found[k:, k:], found[k:, :k])
        return np.asarray(found[:k, :k] * np.outer(scale, scale))


def variance_inflation(basis: Basis) -> VarianceInflation:
    """Compute the variance inflation of every coded column and every term.

    With S the centred cross-products, VIF is ``S_jj (S⁻¹)_jj`` of a coded column and the generalised form ``det(S_tt)
    det((S⁻¹)_tt)`` of a term, which does not depend on the base. Members of an exact collinearity have infinite values; the
    others' are those among what remains.
    """
    starts = basis.moments.starts.tolist()
    every = basis.inner
    names: list[str] = []
    labels: list[str] = []
    first = []  # where the columns of each term begin
    of, base = (
        [],
        [],
    )  # the coded columns, and what each is told against: for a numeric column the intercept, whose row is 0
    for k, term in enumerate(basis.terms, 1):
        at = starts[k]
        told = [j for j in range(term.size) if j != term.base] if term.is_categorical else [0]
        first.append(len(names))
        names += [term.name] * len(told)
        labels += [term.labels[j] for j in told] if term.is_categorical else [""]
        of += [at + j for j in told]
        base += [at + term.base if term.is_categorical else 0] * len(told)
    inner = basis.columns
    df = [len(own) for own in inner]
    if basis.too_few_rows:
        return _of_too_few_rows(basis, names, labels, df)

    collinear, null, solution = _solved(basis)
    root = _root_of(basis, solution)
    zero = np.zeros((len(null), len(root)))
    if len(null):
        zero[:, every] = null
    product = root[of] - root[base]
    spread = np.diag(basis.centred(of))
    vif = np.maximum(spread * np.einsum("ij,ij->i", product, product), 1.0)
    vif[np.any(np.abs(zero[:, of] - zero[:, base]) > _TOUCHED, axis=0)] = math.inf

    gvif, solved = [], np.intersect1d(np.concatenate(inner), solution.columns)
    for k, own in enumerate(inner, 1):
        if len(own) == 1:
            gvif.append(float(vif[first[k - 1]]))
        elif np.any(np.abs(zero[:, own]) > _TOUCHED):
            gvif.append(math.inf)
        else:
            others = np.setdiff1d(solved, own)  # both sides have the same canonical correlations
            smaller = own if len(own) <= len(others) else others
            gvif.append(_generalised(basis.centred(smaller), root[smaller]) if len(smaller) else 1.0)
    return _tables(basis, names, labels, vif, df, gvif, collinear)


def _tables(
    basis: Basis,
    names: list[str],
    labels: list[str],
    vif: Array,
    df: list[int],
    gvif: list[float],
    collinear: Sequence[Collinearity],
) -> VarianceInflation:
    tolerance = 1 / vif
    columns = {"vif": vif, "tolerance": tolerance, "r2": 1 - tolerance, "se_factor": np.sqrt(vif)}
    comparable = np.array(gvif) ** (0.5 / np.array(df))
    return VarianceInflation(
        table_of({"term": names, "column": labels, **columns}),
        table_of({"term": [t.name for t in basis.terms], "df": df, "gvif": gvif, "comparable": comparable}),
        tuple(collinear),
    )


def _of_too_few_rows(basis: Basis, names: list[str], labels: list[str], df: list[int]) -> VarianceInflation:
    """Return what is told of more columns than rows can tell apart: each is fixed by others, whatever it measures."""
    rows = basis.moments.rows
    finding = Collinearity(
        tuple(t.name for t in basis.terms),
        f"{count_noun(rows, 'row')} cannot tell {len(basis.inner):,} columns apart, so that each follows from others whatever it measures",
        "Nothing is told of variance inflation. Leave terms out, those with many gaps first.",
    )
    return _tables(basis, names, labels, np.full(len(names), math.inf), df, [math.inf] * len(df), [finding])


def _root_of(basis: Basis, solution: Solution) -> Array:
    """Return the root of a solution by the columns of the moments; the rows of levels that are not inner columns are 0."""
    root = np.zeros((basis.moments.cross.shape[0], len(solution.columns)))
    root[solution.columns] = solution.root
    return root


def _generalised(S: Array, root: Array) -> float:
    """Return det(S) det(AAᵀ), from the lengths left in two triangular factors."""
    lengths = np.sqrt(np.diag(S))
    first = np.linalg.slogdet(S / np.outer(lengths, lengths))[1]
    R = scipy.linalg.lapack.dgeqrf((root * lengths[:, None]).T)[0]
    second = 2 * float(np.sum(np.log(np.abs(np.diag(R)))))
    return max(float(math.exp(first + second)), 1.0)


def _solved(basis: Basis) -> tuple[list[Collinearity], Array, Solution]:
    """Solve; where columns are exactly collinear, say how and solve for an independent set.

    Returns the exact collinearities; the combinations that are zero, at unit length, shape (collinearities, inner columns);
    and the solution for all inner columns, or those that are left.
    """
    if basis.solved is not None:
        return [], np.zeros((0, len(basis.solved.columns))), basis.solved
    columns = every = basis.inner
    collinear: list[Collinearity] = []
    null: list[Array] = []
    while True:
        try:
            return (
                collinear,
                np.array(null),
                basis.solve(columns),
            )
        except Dependent as finding:
            tolerance = finding.tolerance or float(np.abs(np.diag(np.linalg.qr(finding.factor, mode="r"))).min()) * 2
            fresh = dependences(finding.factor, tolerance / math.sqrt(len(columns)))
            names = {o.terms for o in collinear}
            collinear += [o for o in find_collinearities(finding, basis.moments, basis.terms) if o.terms not in names]
            drop = set()
            for weights in fresh:
                raw = np.where(np.abs(weights) > _TOUCHED * np.abs(weights).max(), weights, 0.0) / finding.lengths
                full = np.zeros(len(every))
                full[np.searchsorted(every, finding.columns)] = raw / np.abs(raw).max()
                null.append(full)
                drop.add(int(finding.columns[int(np.argmax(np.abs(weights)))]))
            columns = np.array([c for c in columns if int(c) not in drop], dtype=np.intp)


def term_directions(basis: Basis) -> list[Array]:
    """Return an orthonormal basis of the rows of the root that belong to each term, shape (inner columns, own columns) each.

    Between those of two terms lie the canonical correlations of their coefficients.
    """
    root = _root_of(basis, _solved(basis)[2])
    return [np.linalg.qr(root[own].T)[0] for own in basis.columns]


def auxiliary(basis: Basis, term: str, known: VarianceInflation, directions: Sequence[Array] | None) -> pd.DataFrame:
    """Say which other terms carry a term, the one that carries most first.

    `term` (each other), `gvif_without` (the generalised variance inflation of the term when that one is left out),
    `carried` (by what factor it is smaller then). The auxiliary R² of a numeric column is ``1 − 1/VIF``. With ρ the canonical
    correlations of the coefficients of two terms, all others in the model, `carried` is ``1/Π(1 − ρ²)``, by the `directions` of
    the terms; where these are None, as some terms are exactly collinear, it is computed anew without each.
    """
    names = [t.name for t in basis.terms]
    if term not in names:
        raise ColumnError(f"The screening has no term `{term}`.{near(term, names)}")
    whole = float(known.terms.set_index("term").loc[term, "gvif"])  # type: ignore[arg-type]
    records = []
    if directions is not None:
        own = directions[names.index(term)]
        for other, Q in zip(names, directions, strict=True):
            if other != term:
                left = np.linalg.svd(own - Q @ (Q.T @ own), compute_uv=False)
                carried = min(1 / float(np.prod(left)) ** 2, whole)
                records.append({"term": other, "gvif_without": whole / carried, "carried": carried})
        return _most_first(records)
    for other in names:
        if other == term:
            continue
        rest = variance_inflation(basis.only([n for n in names if n != other])).terms.set_index("term")
        without = float(rest.loc[term, "gvif"])  # type: ignore[arg-type]
        carried = (
            math.inf
            if math.isinf(whole) and math.isfinite(without)
            else whole / without
            if math.isfinite(without)
            else 1.0
        )
        records.append({"term": other, "gvif_without": without, "carried": carried})
    return _most_first(records)


def _most_first(records: Sequence[Mapping[str, object]]) -> pd.DataFrame:
    table = pd.DataFrame(records, columns=["term", "gvif_without", "carried"])
    return table.sort_values("carried", ascending=False, kind="stable").reset_index(drop=True)


def condition_indices(basis: Basis) -> pd.DataFrame:
    """Compute condition indices with the variance shares of every coefficient, one row a dimension.

    `index`, then the share of each coefficient's variance that lies on it (columns sum to 1), the intercept's first. The
    columns are scaled to unit length and not centred, as Belsley, Kuh & Welsch (1980) have it; within the levels of fixed
    effects, where there is no intercept, they are deviations from the means of the levels.
    """
    places, labels = [], [] if basis.fixed_effects else ["(intercept)"]
    for k, term in enumerate(basis.terms, 1):
        start = int(basis.moments.starts[k])
        for level, label in enumerate(term.labels) if term.is_categorical else [(0, "")]:
            if not term.is_categorical or level != term.base:
                places.append(start + level)
                labels.append(f"{term.name}: {label}" if label else term.name)
    chosen = np.array(places, dtype=np.intp)
    R = _uncentred_factor(basis, chosen) if basis.fixed_effects is None else _factor_within(basis, chosen)
    lengths = np.sqrt(np.einsum("ij,ij->j", R, R))
    _, values, vectors = np.linalg.svd(R / lengths)
    values = np.maximum(values, 1e-17 * values[0])
    phi = (vectors.T / values) ** 2
    shares = (phi / phi.sum(axis=1, keepdims=True)).T
    table = pd.DataFrame(shares, columns=labels)
    table.insert(0, "index", values[0] / values)
    return table


def _uncentred_factor(basis: Basis, places: NDArray[np.intp]) -> Array:
    """Return a triangular factor of a column of ones and some columns as they are, not from their means.

    The centred columns are factored (in twice the working precision where they are nearly collinear), and the means put on
    top: [1, X] = Q [[√n, √n·means], [0, F]], without a cross-product in which digits are squared away.
    """
    try:
        solution = basis.solve(places)
    except Dependent as finding:
        factor, means = finding.factor * finding.lengths, _means_of(basis, places)
    else:
        factor, means = solution.factor, solution.means
    root_n = math.sqrt(basis.moments.weight)
    if isinstance(factor, np.ndarray) and factor.shape[0] < len(places):
        factor = np.vstack([factor, np.zeros((len(places) - factor.shape[0], len(places)))])
    top = np.concatenate([[root_n], root_n * means])
    return np.vstack([top, np.hstack([np.zeros((len(factor), 1)), factor])])


def _factor_within(basis: Basis, places: NDArray[np.intp]) -> Array:
    """Return a factor of deviations from the means of levels: the root of their cross-products, no digit of a length lost."""
    S = basis.centred(places)
    lengths = np.sqrt(np.diag(S))
    values, vectors = np.linalg.eigh(S / np.outer(lengths, lengths))
    factor: Array = (np.sqrt(np.maximum(values, 0.0))[:, None] * vectors.T) * lengths
    return factor


def _means_of(basis: Basis, places: NDArray[np.intp]) -> Array:
    m = basis.moments
    scale, centre = np.repeat(m.scales, m.sizes), np.repeat(m.centres, m.sizes)
    means: Array = centre[places] + scale[places] * m.cross[0, places] / m.weight
    return means
