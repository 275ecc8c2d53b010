"""Fits for other rows than their own: saved fits, and files prepared as the data of a fit were."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace
from pathlib import Path
from typing import Any

from markbase.cli.model_options import Model
from markbase.cli.opening import open_in_parts, read_in_parts
from markbase.cli.source import Source
from markbase.cli.typed import pair
from markbase.core.design.terms import variables_of
from markbase.core.errors import MarkbaseError, listed
from markbase.core.results.any_fit import AnyFit
from markbase.core.results.stored_fit import StoredFit
from markbase.core.study.codebook import Codebook
from markbase.core.study.column import Column
from markbase.core.study.study import Study
from markbase.files.data import read_table
from markbase.files.fit_files import read_fit


def is_saved(model: Model) -> bool:
    """Tell whether what is to be opened is a saved fit."""
    return model.source.file.suffix.lower() == ".json"


def saved_fit(model: Model) -> StoredFit:
    """Read a saved fit, told from other bases where these are given; nothing else can be changed of it."""
    source = model.source
    if model.outcome or model.terms or model.polynomials or model.interactions or model.kind or model.settings:
        raise MarkbaseError(
            "A saved fit is as it was saved: leave the options of the model out, or name the data and fit again."
        )
    if source != Source(source.file, bases=source.bases):
        raise MarkbaseError(
            "A saved fit reads no data of its own: leave the options of the data, and --base-by, out, or name the data and fit again."
        )
    fit = read_fit(source.file)
    for group, level in (pair(text, "--base") for text in source.bases):
        fit = fit.rebase(group, level)
    return fit


def fit_or_saved(model: Model) -> AnyFit | StoredFit:
    """Return the fit that is asked for: made, or saved before."""
    return saved_fit(model) if is_saved(model) else model.fit()[1]


def refuse_if_saved(fit: AnyFit | StoredFit, options: Mapping[str, Any]) -> None:
    """Refuse options that need the rows of a fit where it was saved without them."""
    given = [option for option, value in options.items() if value]
    if isinstance(fit, StoredFit) and given:
        raise MarkbaseError(
            f"A saved fit holds no rows of the data, and {listed(given)} {'needs' if len(given) == 1 else 'need'} them: leave "
            f"{'it' if len(given) == 1 else 'them'} out, or name the data and fit again."
        )


def rows_for_saved(fit: StoredFit, file: Path, *, outcome: bool = False) -> Any:
    """Read the rows of a file for a saved fit, which knows the kinds of its columns, with the outcome if it is to be judged."""
    if not read_in_parts(file):
        return read_table(file)
    book = Codebook()
    for column in (*sources_of_fit(fit), *([fit.outcome] if outcome else [])):
        book = book.with_kind(column.name, column.kind)
        spec = replace(book.columns[column.name], missing=column.missing_codes)
        book = replace(book, columns={**book.columns, column.name: spec})
    return open_in_parts(file, book)


def rows_prepared_alike(model: Model, fit: AnyFit, study: Study, file: Path, *, outcome: bool = False) -> Study:
    """Open a file and prepare it as the data of a fit were, the outcome too if it is to be judged."""
    needed = (*sources_of_fit(fit), *([fit.outcome] if outcome else []))
    return model.source.open_other(file, {c.name for c in needed}, study)


def sources_of_fit(fit: AnyFit | StoredFit) -> list[Column]:
    """Return the columns a fit predicts from, and those they were made of."""
    found: dict[str, Column] = {}
    waiting = [v.column for v in variables_of(fit.model_terms).values()]
    while waiting:
        column = waiting.pop()
        found.setdefault(column.name, column)
        waiting += column.made.sources if column.made else ()
    return list(found.values())
