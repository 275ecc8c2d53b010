"""How a fit is to be made, beside its outcome and terms: the one description of its settings."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field, fields
from typing import Any

from markbase.core.design.replicates import METHODS

KINDS = ("linear", "logistic")
"""The kinds of regression."""
KINDS_OF_ERRORS = ("classical", "robust", "HC0", "HC1", "HC2", "HC3", "CR1", "CR3", "dyadic", "HAC")
OF_CLUSTERS = ("CR1", "CR3", "dyadic")
"""Those that need clusters; the first is what clusters get by themselves."""


def _setting(
    default: Any,
    told: str,
    kinds: tuple[str, ...] = KINDS,
    choices: tuple[str, ...] = (),
    names: str = "",
    several: bool = False,
    number: bool = False,
) -> Any:
    number = number or isinstance(default, float)
    about = {"told": told, "kinds": kinds, "choices": choices, "names": names, "several": several, "number": number}
    return field(default=default, metadata=about)


@dataclass(frozen=True, eq=False, kw_only=True)
class FitOptions:
    """How a fit is to be made, beside its outcome and terms.

    The one description of these settings: `fit_linear` and `fit_logistic` take those of their kind as arguments, plans as keys and
    the command as options, each of these from here.
    """

    level: float = _setting(0.95, "Confidence level of the intervals.")
    errors: str | None = _setting(
        None,
        "Standard errors; robust is HC3, CR3 is for few clusters, dyadic for rows about two members, HAC for rows in time. The default is classical, with sampling weights robust, with clusters CR1, with a time HAC.",
        choices=KINDS_OF_ERRORS,
    )
    cluster: str | Sequence[str] | None = _setting(
        None,
        "Cluster the errors by this group, such as the choir of a singer; twice for groups that cross (two-way).",
        names="GROUP",
        several=True,
    )
    strata: str | None = _setting(
        None, "The sample was drawn within each level of this group: whole clusters of it, or rows.", names="GROUP"
    )
    time: str | None = _setting(
        None,
        "What tells when: rows of one time, and of those that follow one another, may go together (HAC).",
        names="COLUMN",
    )
    weights: str | None = _setting(None, "With how much each row counts.", names="COLUMN")
    weights_are: str = _setting("sampling", "What the weights are.", choices=("sampling", "frequency"))
    replicates: str | Sequence[str] | None = _setting(
        None,
        "Replicate weights of a survey: what their names have in common, as 'w_rep*', or a column; several times for several.",
        names="COLUMNS",
        several=True,
    )
    replicates_are: str | None = _setting(None, "How the replicate weights were made.", choices=METHODS)
    replicates_scale: float | None = _setting(
        None,
        "What squared differences between replicates are multiplied with, where it is not usual for these.",
        number=True,
    )
    main_effects: str = _setting(
        "add", "Where an interaction lacks the terms it is made of: add them, or refuse.", choices=("add", "refuse")
    )
    fixed_effects: str | Sequence[str] | None = _setting(
        None,
        "Control for all levels of this group without listing them; once or twice.",
        kinds=("linear",),
        names="GROUP",
        several=True,
    )
    event: object = _setting(
        None, "The level of the outcome whose odds are modelled.", kinds=("logistic",), names="LEVEL"
    )
    penalty: str | None = _setting(
        None,
        "Penalised likelihood, finite also where levels foretell the outcome.",
        kinds=("logistic",),
        choices=("firth",),
    )

    @classmethod
    def names(cls, kind: str | None = None) -> tuple[str, ...]:
        """Return the settings a kind of regression has; all of them for None."""
        return tuple(f.name for f in fields(cls) if kind is None or kind in f.metadata["kinds"])

    @classmethod
    def other_kind(cls, name: str, kind: str) -> str:
        """Return the kind of regression that a setting belongs to, if it is not this one; else an empty text."""
        own = next(f.metadata["kinds"] for f in fields(cls) if f.name == name)
        return "" if kind in own else str(own[0])
