"""Fitting the same model, or the same blocks, in each of several imputations, or for each of several plausible values."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

from markbase.core.arguments import checked
from markbase.core.comparison.each_imputation import each_imputation, outcomes_of
from markbase.core.comparison.fit_blocks import fit_blocks, terms_of_blocks
from markbase.core.comparison.imputations import Imputations
from markbase.core.comparison.imputed_blocks import ImputedBlocks
from markbase.core.design.fit_options import KINDS
from markbase.core.design.requested_terms import AllBut, TermRequest, degrees_of, read_term
from markbase.core.errors import MarkbaseError, near
from markbase.core.results.any_fit import AnyFit
from markbase.core.results.fit_linear import fit_linear
from markbase.core.results.fit_logistic import fit_logistic
from markbase.core.study.frames import AnyTable
from markbase.core.study.study import Study, as_study


@checked
def fit_imputations(
    study: Study | AnyTable,
    outcome: str | Sequence[str],
    terms: Sequence[TermRequest] | AllBut,
    imputation: str | None = None,
    *,
    kind: str = "linear",
    **settings: Any,
) -> Imputations:
    """Fit the same model in each of several imputations, or for each of several plausible values, and combine them by Rubin's rules.

    Parameters
    ----------
    study : Study, or a table
        The imputations one below another, with the base of each group marked. A table (pandas, Polars, Arrow, DuckDB) is taken as a study without a
        codebook.
    outcome : str, or sequence of str
        The name of the outcome; without an `imputation` those of two or more plausible values, or what these have in common (``"pv*pitch"``).
    terms : sequence of str, Polynomial or Interaction, or AllBut
        The terms of the model.
    imputation : str, optional
        The column that numbers the imputations (or names the file of each). Where more is missing in the first than in any other it is taken for the
        data before imputation, and left out.
    kind : str
        ``linear`` or ``logistic``.
    **settings
        As for `fit_linear` or `fit_logistic`: `level`, `errors`, `cluster`, `strata`, `weights`, `weights_are`; `fixed_effects` or `event`, `penalty`.

    Returns
    -------
    Imputations
        `coefficients`, `terms`, `overall`, `strength`, `groups` and `between`, all combined; `fits`, one an imputation; print it to read it.

    Raises
    ------
    MarkbaseError
        If there is no such kind of regression, or an imputation is named beside several outcomes, or neither.
    ColumnError
        If there is no such column, or fewer than two imputations, or more than a thousand.
    FitError
        If the model cannot be fitted in one of them, or not all of them tell the same coefficients.

    Notes
    -----
    With Q the estimates, U their variances, W the mean of U and B the variance of Q between the m imputations, an estimate is the mean of Q and its
    variance W + (1 + 1/m)B, on the degrees of freedom of Barnard and Rubin (1999). Several coefficients are tested together by
    D = QᵀW⁻¹Q/(k(1 + r)), r = (1 + 1/m)tr(BW⁻¹)/k (Li, Raghunathan & Rubin 1991), on those of Reiter (2007).

    References
    ----------
    Rubin (1987), Multiple Imputation for Nonresponse in Surveys, doi:10.1002/9780470316696.
    Barnard & Rubin (1999), Biometrika 86(4), 948-955, doi:10.1093/biomet/86.4.948.
    Reiter (2007), Biometrika 94(2), 502-508, doi:10.1093/biomet/asm028.

    Examples
    --------
    >>> import markbase as mb
    >>> found = mb.fit_imputations(mb.demo.choir_imputed(), "belonging", ["age", "rehearsals"], "imputation")
    >>> found.coefficients[["term", "estimate", "se", "df"]].round(3)
              term  estimate     se       df
    0  (intercept)    39.218  3.834   95.691
    1          age     0.142  0.043  335.499
    2   rehearsals     0.685  0.218   70.614
    """
    study = as_study(study)
    if kind not in KINDS:
        raise MarkbaseError(f"There is no kind {kind!r} of regression.{near(str(kind), KINDS)}")
    outcomes = outcomes_of(study, outcome, imputation)
    wanted = terms.chosen(study, outcomes[0]) if isinstance(terms, AllBut) else terms
    names = [n for term in wanted for n in degrees_of(read_term(term, study.columns))]

    def fitted(own: Study, name: str) -> AnyFit:
        fit = fit_linear if kind == "linear" else fit_logistic
        return fit(own, name, wanted, **settings)

    each = each_imputation(study, outcomes, names, imputation, fitted)
    found = Imputations(imputation or "", each.results, each.imputed, each.bases)
    found.coefficients  # noqa: B018 - which says so where they do not tell the same coefficients
    return found


@checked
def fit_imputed_blocks(
    study: Study | AnyTable,
    outcome: str | Sequence[str],
    blocks: Mapping[str, Sequence[TermRequest]],
    imputation: str | None = None,
    *,
    kind: str = "linear",
    **settings: Any,
) -> ImputedBlocks:
    """Fit a regression block by block in each of several imputations, or for each of several plausible values, and combine what each block adds.

    Parameters
    ----------
    study : Study, or a table
        The imputations one below another, with the base of each group marked.
    outcome : str, or sequence of str
        The name of the outcome; without an `imputation` those of two or more plausible values, or what these have in common (``"pv*pitch"``).
    blocks : mapping of str to sequence of str, Polynomial or Interaction
        The blocks in the order of entry, as for `fit_blocks`.
    imputation : str, optional
        The column that numbers the imputations, as for `fit_imputations`.
    kind : str
        ``linear`` or ``logistic``.
    **settings
        As for `fit_linear` or `fit_logistic`.

    Returns
    -------
    ImputedBlocks
        `steps`, `moves`, `movements` and `reading`, all combined; `fits`, the model after each block; print it to read it.

    Raises
    ------
    MarkbaseError
        As `fit_imputations` and `fit_blocks`.

    Notes
    -----
    What a block adds is tested by its coefficients in the model that has them, all together, by D of Li, Raghunathan & Rubin (1991) on the degrees of freedom of
    Reiter (2007); of one block alone that is the test of the whole model. R² is combined by Fisher's z of its root after every block, and a change is the difference
    of two such. By how much an estimate moves is told in each imputation by the standard error of the movement, and combined as an estimate is.

    References
    ----------
    Li, Raghunathan & Rubin (1991), Journal of the American Statistical Association 86(416), 1065-1073, doi:10.1080/01621459.1991.10475152.
    Reiter (2007), Biometrika 94(2), 502-508, doi:10.1093/biomet/asm028.
    Harel (2009), Journal of Applied Statistics 36(10), 1109-1118, doi:10.1080/02664760802553000.

    Examples
    --------
    >>> import markbase as mb
    >>> blocks = {"who": ["age", "voice"], "taking part": ["rehearsals"]}
    >>> found = mb.fit_imputed_blocks(mb.demo.choir_imputed(), "belonging", blocks, "imputation")
    >>> found.steps[["block", "r2", "r2_change", "statistic", "df", "df_rest"]].round(3)
             block     r2  r2_change  statistic  df  df_rest
    0          who  0.048      0.048      4.427   4  352.289
    1  taking part  0.077      0.029      8.433   1   60.779
    """
    study = as_study(study)
    outcomes = outcomes_of(study, outcome, imputation)
    every = terms_of_blocks(blocks, study.columns, kind)
    names = [n for term in every for n in degrees_of(read_term(term, study.columns))]
    each = each_imputation(
        study, outcomes, names, imputation, lambda own, name: fit_blocks(own, name, blocks, kind=kind, **settings)
    )
    found = ImputedBlocks(imputation or "", each.results, each.imputed, each.bases)
    for combined in found.fits:
        combined.coefficients  # noqa: B018 - which says so where the imputations do not tell the same coefficients
    return found
