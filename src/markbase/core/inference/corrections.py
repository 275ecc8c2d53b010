"""The names of corrections for several comparisons; what they do is in `multiplicity`."""

from __future__ import annotations

from markbase.core.errors import MarkbaseError, listed, quoted

CORRECTIONS = ("benjamini-hochberg", "bonferroni", "dunnett", "holm", "none", "scheffe", "tukey")
STEP_BY_STEP = ("benjamini-hochberg", "bonferroni", "holm")
"""Those that take p values whatever they are of."""
WITH_ONE_LEVEL = ("dunnett",)
"""Those that are for comparisons with one level."""
OF_ALL_PAIRS = ("tukey",)
"""Those that are for all pairs of levels, and no others."""


def check_correction(correction: str) -> None:
    """Refuse a correction that does not exist."""
    if correction not in CORRECTIONS:
        raise MarkbaseError(f"There is no correction {correction!r}; there are {listed(quoted(CORRECTIONS))}.")
