"""Leaving terms out one by one, with a log, and with the caution it needs."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass

import pandas as pd

from markbase.core.arguments import checked
from markbase.core.comparison.comparison import about_criteria
from markbase.core.design.requested_terms import term_name
from markbase.core.design.terms import POWER_MARKS, Term, contains, keys_of, variables_of
from markbase.core.display import ShownTables
from markbase.core.errors import MarkbaseError, listed, near, quoted
from markbase.core.formatting import decimals_for, number
from markbase.core.results.changes import AnyFit, change_between
from markbase.core.results.fit_statistics import LinearStrength
from markbase.core.results.movements import movements, worth_telling
from markbase.core.study.derived_values import origins
from markbase.core.tables import rows_of


@dataclass(frozen=True, eq=False, repr=False)
class Elimination(ShownTables):
    """What was left out, step by step."""

    limit: float
    """Terms with a larger p were candidates."""
    steps: pd.DataFrame
    """`step`, `dropped`, `df`, `df_rest`, `statistic`, `p` (as in `terms` of a fit: of what is dropped, given all still in), then `r2_adjusted` (or `mcfadden`), `aic`, `bic` without it."""
    fit: AnyFit
    """What is left."""
    kept: tuple[str, ...]
    """Its terms."""
    protected: tuple[str, ...]
    """Terms that had to stay."""
    cautions: tuple[str, ...]
    """What must be read with it."""


@checked
def backward_elimination(fit: AnyFit, *, limit: float = 0.05, keep: Sequence[str] = ()) -> Elimination:
    """Leave out the least clear term, look again, and go on until every term left is clear.

    Parameters
    ----------
    fit : LinearFit or LogisticFit
        The model to begin with.
    limit : float
        A term with p above it may go; between 0 and 1.
    keep : sequence of str
        Terms that must stay.

    Returns
    -------
    Elimination
        A log of every step and the fit that is left, all on the same rows. A group goes as a whole, a curve by its highest
        power first (``age²``, then ``age``), and neither before an interaction that it is part of [1]_; of tied terms the
        one given last goes.

    Raises
    ------
    MarkbaseError
        If the limit is not between 0 and 1, or a protected term is not there.

    References
    ----------
    .. [1] J. A. Nelder (1977), "A reformulation of linear models", Journal of the Royal Statistical Society A 140, 48-77.

    Examples
    --------
    >>> import markbase as mb
    >>> study = mb.demo.choirs().merge_levels("voice", {"tenor": ["tennor"]}).mark("voice", "alto")
    >>> fit = mb.fit_linear(study, "belonging", ["age", "voice", "travel_km", "practice_hours"])
    >>> mb.backward_elimination(fit, keep=["voice"]).kept
    ('age', 'voice', 'travel_km', 'practice_hours')
    """
    if not isinstance(limit, (int, float)) or not 0 < limit < 1:
        raise MarkbaseError(f"The limit for p is {limit!r}; it must lie between 0 and 1, for instance 0.05.")
    names = [t.name for t in fit.model_terms]
    for name in keep:
        if name not in names:
            raise MarkbaseError(f"`{name}` is to be kept, but the model has no such term.{near(name, names)}")
    now = fit
    records: list[dict[str, object]] = []
    while candidates := [c for c in _candidates(now, keep) if c.p > limit]:
        worst = max(reversed(candidates), key=lambda c: c.p)
        now = now._with_only(worst.left)
        s = now.strength
        kind = {"r2_adjusted": s.r2_adjusted} if isinstance(s, LinearStrength) else {"mcfadden": s.mcfadden}
        records.append(
            {
                "step": len(records) + 1,
                "dropped": worst.name,
                "df": worst.df,
                "df_rest": worst.df_rest,
                "statistic": worst.statistic,
                "p": worst.p,
                **kind,
                "aic": s.aic,
                "bic": s.bic,
            }
        )
    figure = fit.family.adjusted_share
    columns = ["step", "dropped", "df", "df_rest", "statistic", "p", figure, "aic", "bic"]
    kept = tuple(t.name for t in now.model_terms)
    return Elimination(
        limit,
        pd.DataFrame(records, columns=columns),
        now,
        kept,
        tuple(keep),
        tuple(
            [*_cautions(now, records, keep, limit), *_moved(now, fit), *filter(None, [about_criteria([fit])])]
            if records
            else _cautions(now, records, keep, limit)
        ),
    )


@dataclass(frozen=True)
class _Candidate:
    """What may be left out next, with the test of it given all that is still in."""

    name: str
    """What goes: a term, or the highest power in one."""
    left: tuple[Term, ...]
    """The terms without it."""
    df: int
    df_rest: float
    statistic: float
    p: float


def _candidates(fit: AnyFit, keep: Sequence[str]) -> Iterator[_Candidate]:
    """Tell what may go: terms that are no curves, and the highest powers of those that are, if no higher product contains them."""
    tested = {r.term: r for r in rows_of(fit.terms)}
    inside = variables_of(fit.model_terms)
    made = [
        origins(v.column, inside) for v in inside.values()
    ]  # a square made by hand stands to its source as a power does
    sources = [name for own, outside in made if not outside for name in own]
    for term in fit.model_terms:
        for name, lower in _without_highest(term) if term.name not in (*keep, *sources) else ():
            left = tuple(t for u in fit.model_terms if (t := lower if u is term else u) is not None)
            gone = keys_of([term]) - keys_of(left)
            if not left or any(contains(higher, key) for higher in keys_of(left) for key in gone):
                continue
            told = change_between(fit._with_only(left), fit) if lower else tested[term.name]
            yield _Candidate(name, left, told.df, told.df_rest, told.statistic, told.p)


def _without_highest(term: Term) -> Iterator[tuple[str, Term | None]]:
    """Tell what goes of a term: the highest power of one of its curves, or the term, and what is left of it."""
    if max(term.degrees) == 1:
        yield term.name, None
    for place, degree in enumerate(term.degrees):
        if degree > 1:
            names = [term_name({n: d}) for n, d in zip(term.names, term.degrees, strict=True)]
            names[place] = f"{term.names[place]}{POWER_MARKS[degree]}"
            yield " × ".join(names), term.of_degrees((*term.degrees[:place], degree - 1, *term.degrees[place + 1 :]))


def _moved(now: AnyFit, whole: AnyFit) -> list[str]:
    """Say which estimates that are left differ from those of the whole model by more than chance allows."""
    errors = whole.coefficients.set_index(["term", "level"])["se"]
    told = []
    for row in rows_of(movements(now, whole)):
        if worth_telling(row, float(errors.loc[(row.term, row.level)]), whole.alpha):
            decimals = decimals_for(float(row.se))
            name = f"`{row.term}` `{row.level}`" if row.level else f"`{row.term}`"
            told.append(f"{name} from {number(row.after, decimals)} to {number(row.before, decimals)}")
    if not told:
        return []
    scale = f" ({whole.family.coefficient}, on the scale of the whole model)" if whole.family.rescaled else ""
    return [f"Leaving terms out moved what is left: {listed(told)}{scale}. What went is not held equal any more."]


def _cautions(now: AnyFit, records: list[dict[str, object]], keep: Sequence[str], limit: float) -> list[str]:
    if not records:
        return [
            f"Every term that may go has p at or below {limit:g}, or is part of one that has: nothing was left out."
        ]
    told = [
        "The p values and intervals of what is left are too good: they do not know that terms were looked at and dropped. Say so, and show the "
        "whole model beside it.",
        "A term that went has not been shown to do nothing, and what is left is not the best model; another sample might have kept other terms.",
    ]
    still = [r.term for r in rows_of(now.terms) if r.p > limit and r.term in keep]
    if still:
        told.append(f"{listed(quoted(still))} stayed because you asked.")
    return told
