"""What commands need that combine the fits of several imputations, or plausible values."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import replace
from typing import Any, TypeVar

import rich_click as click

from markbase.cli.model_options import Model
from markbase.cli.typed import split
from markbase.core.errors import MarkbaseError
from markbase.core.study.named_alike import is_pattern
from markbase.core.study.study import Study
from markbase.files.plan_entries import FitEntry

F = TypeVar("F", bound=Callable[..., Any])


def imputation_option(panel: str) -> Callable[[F], F]:
    """Add the option that says what numbers imputations."""
    return click.option(
        "--imputation",
        metavar="COLUMN",
        help="What numbers the imputations, which stand one below another; none with several outcomes by commas, which are plausible values.",
        panel=panel,
    )


def is_combined(model: Model, imputation: str | None) -> bool:
    """Tell whether fits are to be combined: over imputations that are named, for several outcomes, or as an entry of the plan says."""
    if imputation:
        return True
    if model.outcome is not None:
        return is_pattern(model.outcome) or len(split([model.outcome])) > 1
    if model.source.file.suffix.lower() != ".toml":
        return False
    analysis = model.source.plan().analysis
    named = {entry.name for entry in analysis.imputations}
    return bool(model.names and model.names[0] in named) or (not analysis.fits and not model.names and len(named) == 1)


def opened_combined(
    model: Model, imputation: str | None, blocks: Sequence[str] = (), *, needed: bool = True
) -> tuple[Model, Study, FitEntry]:
    """Open the data, and say what is to be fitted to each imputation, or each plausible value; also as what the names behind the file are read.

    Where there is neither, it is refused if one is `needed`: a name with a comma may be that of one outcome.
    """
    model = replace(model, of="imputations", parted_outcome=imputation is None)
    study, entry = model.opened(blocks, also=(imputation,) if imputation else ())
    if imputation:
        entry = replace(entry, imputation=imputation, outcomes=())
    if needed and not entry.imputation and not entry.outcomes:
        raise MarkbaseError(
            "Say what numbers the imputations: --imputation imputation; or give plausible values as outcomes, by commas: --outcome pv1pitch,pv2pitch."
        )
    return model, study, entry
