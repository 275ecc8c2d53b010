"""Writing plans."""

from __future__ import annotations

from collections.abc import Container, Mapping, Sequence
from pathlib import Path
from typing import Any

import numpy as np
import tomlkit

from markbase.core.arguments import checked, told_value
from markbase.core.comparison.blocks import Blocks
from markbase.core.comparison.coefficient_samples import CoefficientSamples
from markbase.core.comparison.each_imputation import rows_of_imputations
from markbase.core.comparison.imputations import Imputations
from markbase.core.comparison.imputed_blocks import ImputedBlocks
from markbase.core.design.terms import Term
from markbase.core.errors import MarkbaseError, count_noun
from markbase.core.results.linear import LinearFit
from markbase.core.results.logistic import LogisticFit
from markbase.core.rows.parts import InParts
from markbase.core.study.column import Column
from markbase.core.study.study import Study
from markbase.files.joined_tables import seen_steps
from markbase.files.layout import GivenLayout
from markbase.files.text_files import seen_from
from markbase.files.whole_files import refuse_to_replace, write_whole

Fit = LinearFit | LogisticFit
Written = LinearFit | LogisticFit | Blocks | CoefficientSamples | Imputations | ImputedBlocks
"""What a plan can give again."""


@checked
def write_plan(
    path: str | Path,
    study: Study,
    fits: Mapping[str, Written],
    *,
    data: str | Path,
    codebook: str | Path | None = None,
    missing: Sequence[object] = (),
    encoding: str = "utf-8",
    sheet: str | None = None,
    layout: GivenLayout | None = None,
    file_column: str | None = None,
    title: str = "",
    replace: bool = False,
) -> None:
    """Write down what was done in Python as a plan, which gives the same numbers.

    Parameters
    ----------
    path : str or Path
        The plan, a TOML file.
    study : Study
        The prepared study; its trail becomes the preparing steps.
    fits : mapping of str to LinearFit, LogisticFit, Blocks, CoefficientSamples, Imputations or ImputedBlocks
        What was fitted to it, by name; of coefficients in samples the fit, and that it is to be sampled again.
    data : str or Path
        The file the study was opened from.
    codebook : str or Path, optional
        Its codebook.
    missing : sequence
        Codes that stand for a missing answer in every column, as `open_study` was given them.
    encoding, sheet, layout, file_column
        How the file was read, as `open_study` was given it.
    title : str
        The title of the report.
    replace : bool
        Whether a file that is there may be written over.

    Raises
    ------
    MarkbaseError
        If a fit is of another study, has a base that the study does not have, or rests on terms that a plan cannot say.
    FileError
        If the file is there already or cannot be written.

    Examples
    --------
    >>> import markbase as mb
    >>> import tempfile
    >>> study = mb.demo.choirs().merge_levels("voice", {"tenor": ["tennor"]}).mark("voice", "alto")
    >>> fit = mb.fit_linear(study, "belonging", ["age", "voice"])
    >>> with tempfile.TemporaryDirectory() as folder:
    ...     mb.write_plan(f"{folder}/my.plan.toml", study, {"by voice": fit}, data=mb.demo.path("choirs.csv"))
    ...     print([entry.name for entry in mb.read_plan(f"{folder}/my.plan.toml").analysis.fits])
    ['by voice']
    """
    path = Path(path)
    refuse_to_replace(path, replace)
    if not isinstance(fits, Mapping) or not all(isinstance(f, Written) for f in fits.values()):
        raise MarkbaseError(
            f'The fits of a plan are given with their names, {{"by voice": fit}}, not as {told_value(fits)}.'
        )
    entries = {name: _entry(name, result, study) for name, result in fits.items()}
    combined = {name for name, result in fits.items() if isinstance(result, (Imputations, ImputedBlocks))}
    more: dict[str, Any] = {
        "fit": [e for name, e in entries.items() if name not in combined and "terms" in e],
        "blocks": [e for name, e in entries.items() if name not in combined and "entry" in e],
        "imputations": [entries[name] for name in fits if name in combined],
    }
    if title:
        more["output"] = {"title": title}
    folder = path.resolve().parent
    steps = seen_steps(study.trail.written(), folder)
    text = plan_text(
        seen_from(Path(data), folder),
        seen_from(Path(codebook), folder) if codebook else None,
        steps,
        missing,
        more,
        opened_with={"encoding": encoding, "sheet": sheet, "layout": layout, "file_column": file_column},
        in_parts=study.in_parts,
    )
    write_whole(path, text.encode())


def _check_same(name: str, own: Column, there: Column) -> None:
    """Refuse a study in which a column of a fit has other values, by step or by row."""
    ours, theirs = own.values, there.values
    if isinstance(ours, InParts) or isinstance(theirs, InParts):
        return
    if ours is not theirs and not (own.kind == there.kind and np.array_equal(ours, theirs, equal_nan=True)):
        raise MarkbaseError(
            f"`{own.name}` has other values in the study than in the rows of the fit `{name}`; give the study it was made from."
        )


def _entry(name: str, result: Written, study: Study) -> dict[str, Any]:
    """Return the entry of a plan that gives a fit again."""
    if isinstance(result, (Imputations, ImputedBlocks)):
        return _combined_entry(name, result, study)
    fit = (
        result.last if isinstance(result, Blocks) else result.fit if isinstance(result, CoefficientSamples) else result
    )
    _check_study(name, fit, study)
    _check_bases(name, fit, study, ())
    return _entry_of(name, fit, result)


def _combined_entry(name: str, result: Imputations | ImputedBlocks, study: Study) -> dict[str, Any]:
    """Return the entry of a plan that combines the fits of imputations, or of plausible values, again."""
    model = result.last if isinstance(result, ImputedBlocks) else result
    first = next(iter(model.fits.values()))
    if model.by:
        if model.by not in study.columns:
            raise MarkbaseError(
                f"`{name}` was combined over the imputations that `{model.by}` numbers, which the study does not have; give the study it was made from."
            )
        parts = rows_of_imputations(study, study.column(model.by))
        for label, fit in model.fits.items():
            if label not in parts:
                raise MarkbaseError(
                    f"The study has no imputation `{label}`, which `{name}` was fitted to; give the study it was made from."
                )
            _check_study(name, fit, parts[label])
    else:
        for fit in model.fits.values():
            _check_study(name, fit, study)
    _check_bases(name, first, study, model.bases)
    entry = _entry_of(name, first, result.entry if isinstance(result, ImputedBlocks) else first)
    if model.by:
        return {**entry, "imputation": model.by}
    return {
        "name": entry.pop("name"),
        "outcomes": list(model.fits),
        **{k: v for k, v in entry.items() if k != "outcome"},
    }


def _check_study(name: str, fit: Fit, study: Study) -> None:
    """Refuse a study that a fit was not made from."""
    columns = {p.column.name: p.column for t in fit.model_terms for p in t.variables} | {fit.outcome.name: fit.outcome}
    for column in columns:
        if column not in study.columns:
            raise MarkbaseError(
                f"The fit `{name}` has a column `{column}` that the study does not have; give the study it was made from."
            )
    if fit.sample.rows != study.rows:
        raise MarkbaseError(
            f"The fit `{name}` was made of {count_noun(fit.sample.rows, 'row')}, and the study has {study.rows:,}; give the study it was made from."
        )
    for column, own in columns.items():
        if not isinstance(fit, LogisticFit) or column != fit.outcome.name:  # of which it has the event alone
            _check_same(name, own, study[column])


def _check_bases(name: str, fit: Fit, study: Study, unchosen: Container[str]) -> None:
    """Refuse a study in which a group of a fit has another base; those that nobody chose are found again."""
    for term in (p for t in fit.model_terms for p in t.variables if p.is_categorical):
        base = study[term.name].base
        if term.name in unchosen and (base is None or not base.chosen):
            continue
        if base is None or study[term.name].levels[base.level].label != term.base_label:
            raise MarkbaseError(
                f"The fit `{name}` tells `{term.name}` against `{term.base_label}`, which is not its base in the study; mark it there."
            )


def _entry_of(name: str, fit: Fit, result: Fit | Blocks | CoefficientSamples) -> dict[str, Any]:
    """Return the entry of a plan for a fit, or for a result that holds it."""
    logistic = isinstance(fit, LogisticFit)
    entry: dict[str, Any] = {"name": name, "outcome": fit.outcome.name}
    if isinstance(fit, LogisticFit):
        entry |= {"kind": "logistic", "event": fit.event}
        if fit.penalty:
            entry["penalty"] = fit.penalty
    if isinstance(result, Blocks):
        by_name = {t.name: _spec(t) for own in result.fits for t in own.model_terms}
        blocks = zip(result.names, result.added, strict=True)
        if result.bootstrapped:
            entry |= {"bootstrap": result.bootstrapped.draws, "seed": result.bootstrapped.seed}
        entry["entry"] = [{"name": block, "terms": [by_name[t] for t in added]} for block, added in blocks]
    else:
        entry["terms"] = [_spec(t) for t in fit.model_terms]
    if isinstance(result, CoefficientSamples):
        entry |= {"bootstrap": result.draws, "seed": result.seed}
    if fit.level != 0.95:
        entry["level"] = fit.level
    if fit.cluster is not None:
        names = [column.name for column in fit.drawn_by.clusters]
        entry["cluster"] = names[0] if fit.crossed is None else names
    if fit.strata is not None:
        entry["strata"] = fit.strata.name
    if fit.time is not None:
        entry["time"] = fit.time.name
    if fit.errors.asked and not fit.errors.replicates:
        entry["errors"] = fit.errors.asked
    if fit.weights is not None:
        entry |= {"weights": fit.weights.column, "weights_are": fit.weights.kind}
        if (made := fit.weights.replicates) is not None:
            entry |= {"replicates": list(made.names), "replicates_are": made.method, "replicates_scale": made.scale}
    if not logistic and fit.fixed_effect_names:
        entry["fixed_effects"] = list(fit.fixed_effect_names)
    return entry


def _spec(term: Term) -> Any:
    factors: list[Any] = [
        v.name if degree == 1 else {"polynomial": v.name, "degree": degree}
        for v, degree in zip(term.variables, term.degrees, strict=True)
    ]
    return factors[0] if len(factors) == 1 else {"interaction": factors}


def plan_text(
    file: str,
    codebook: str | None,
    steps: Sequence[Mapping[str, Any]],
    missing: Sequence[object] = (),
    more: Mapping[str, Any] | None = None,
    *,
    opened_with: Mapping[str, Any],
    in_parts: bool = False,
    kinds: Mapping[str, str] | None = None,
) -> str:
    """Write a plan that `read_plan` reads, its files named as seen from where it will be.

    `steps` are as `Trail.written` returns them, their files named likewise; `more` has further tables, or lists of them, by name; `opened_with` says how
    the file is read: `encoding`, `sheet`, `layout`, `file_column`, as `open_study` takes them, and `kinds` what columns are, above the codebook.
    """
    document = tomlkit.document()
    data = tomlkit.table()
    data["file"] = file
    if codebook:
        data["codebook"] = codebook
    if codes := [code for code in missing if code is not None]:  # an empty cell is missing always
        data["missing"] = codes
    for key, value in {"kinds": kinds, **opened_with}.items():
        if value and (key, value) != ("encoding", "utf-8"):
            data[key] = _inline(value)
    if in_parts:
        data["in_parts"] = True
    document["data"] = data
    for name, tables in {"prepare": steps, **(more or {})}.items():
        if isinstance(tables, Mapping):
            document[name] = _table(tables)
        elif tables:
            listed = tomlkit.aot()
            for entry in tables:
                listed.append(_table(entry))
            document[name] = listed
    return tomlkit.dumps(document)


def _table(entry: Mapping[str, Any]) -> Any:
    table = tomlkit.table()
    for key, value in entry.items():
        table[key] = _inline(value)
    return table


def _inline(value: Any) -> Any:
    if isinstance(value, (list, tuple)):
        array = tomlkit.array()
        for inner in value:
            array.append(_inline(inner))
        return array.multiline(any("terms" in v for v in value if isinstance(v, Mapping)))
    if not isinstance(value, Mapping):
        return value
    table = tomlkit.inline_table()
    for key, inner in value.items():
        table[key] = _inline(inner)
    return table
