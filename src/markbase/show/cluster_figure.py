"""What an estimate would be without each cluster, drawn beside what it is with all of them."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np

from markbase.core.checks.clusters_left_out import kinds_left_out, moved_most
from markbase.core.errors import ColumnError, FitError, near
from markbase.core.formatting import short
from markbase.core.results.any_fit import AnyFit
from markbase.core.results.coefficient_rows import label_of
from markbase.core.tables import rows_of
from markbase.show.figures import AMBER, INK, TEAL, finish, own_axes, styled

if TYPE_CHECKING:
    from matplotlib.axes import Axes

_ENDS = 15
"""How many clusters are drawn at either end where there are more than both ends hold."""


@styled
def draw_clusters(fit: AnyFit, coefficient: str | None = None, ax: Axes | None = None) -> Axes:
    """Draw what a coefficient would be without each cluster, the farthest marked, beside what it is with all of them.

    Parameters
    ----------
    fit : LinearFit or LogisticFit
        A fit with clusters.
    coefficient : str, optional
        ``term``, or ``term: level`` of a group; by default the one that leaving a cluster out would move most.
    ax : matplotlib.axes.Axes, optional
        Where to draw; by default on a figure of its own (``ax.figure``).

    Returns
    -------
    matplotlib.axes.Axes
        The axes drawn on, in units of the coefficient (of a logistic fit log odds), clusters from the lowest to the highest. Of more than
        thirty clusters the fifteen lowest and the fifteen highest are drawn.

    Raises
    ------
    ColumnError
        If there is no such coefficient.
    FitError
        If it has no standard error, or levels taken out lie in several clusters.
    MarkbaseError
        If the fit has no clusters.

    Examples
    --------
    >>> import markbase as mb
    >>> study = mb.demo.choirs().merge_levels("voice", {"tenor": ["tennor"]}).mark("voice", "alto")
    >>> fit = mb.fit_linear(study, "belonging", ["age", "voice"], cluster="choir", errors="CR3")
    >>> mb.draw_clusters(fit, "voice: tenor").get_xlabel()
    'voice: tenor (against alto), points of belonging, without each choir'
    """
    table = fit.without_clusters()
    labels = [label_of(row.term, row.level) for row in rows_of(table)]
    if coefficient is None:
        known = moved_most(table[table["moves"].notna()])
        if not len(known):
            raise FitError("No coefficient of the fit has a clustered error, so there is no movement to draw.")
        coefficient = label_of(known["term"].iloc[0], known["level"].iloc[0])
    if coefficient not in labels:
        raise ColumnError(
            f"The fit has no coefficient `{coefficient}`.{near(coefficient, list(dict.fromkeys(labels)))}"
        )
    own = table[np.array(labels) == coefficient]
    first = own.iloc[0]
    rows = fit.coefficients[(fit.coefficients["term"] == first["term"]) & (fit.coefficients["level"] == first["level"])]
    whole = rows.iloc[0]
    if np.isnan(whole["se"]):
        raise FitError(f"`{coefficient}` has no clustered error, since a cluster decides it alone.")
    ordered = own.sort_values("without", kind="stable")
    shown = ordered if len(ordered) <= 2 * _ENDS else ordered.iloc[[*range(_ENDS), *range(-_ENDS, 0)]]
    if ax is None:
        ax = own_axes(7.6, 1.6 + 0.21 * len(shown))
    ax.axvspan(whole["low"], whole["high"], color=TEAL, alpha=0.12, linewidth=0)
    ax.axvline(whole["estimate"], color=INK, linewidth=1)
    farthest = int(np.argmax(np.abs(shown["moves"].to_numpy())))
    for y, row in enumerate(rows_of(shown)):
        marker, colour = ("s", AMBER) if y == farthest else ("o", TEAL)
        ax.hlines(y, whole["estimate"], row.without, color=colour, linewidth=1.2)
        ax.plot(row.without, y, marker, color=colour, markersize=5.5)
    ax.set_yticks(range(len(shown)), shown["cluster"].tolist())
    ax.set_ylim(-0.7, len(shown) - 0.3)
    ax.tick_params(axis="y", length=0)
    kinds = [kind.name for kind, _ in kinds_left_out(fit)]
    against = f" (against {whole['against']})" if first["level"] else ""
    ax.set_xlabel(
        f"{coefficient}{against}, {fit.family.scale(fit.outcome)}, without each {' or '.join(kinds)}", fontsize=9
    )
    some = f"; the {_ENDS} lowest and {_ENDS} highest of {len(ordered):,}" if len(shown) < len(ordered) else ""
    finish(
        ax,
        f"line and band: with every {' and '.join(kinds)}, {short(100 * fit.level, 4)}% CI; without ■ it moves most{some}",
    )
    return ax
