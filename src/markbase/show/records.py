"""Results as plain data at full precision, for machines."""

from __future__ import annotations

import dataclasses
import json
import math
from collections.abc import Mapping
from typing import TYPE_CHECKING, Any

import numpy as np
import pandas as pd

from markbase.core.study.column import Column
from markbase.core.study.study import Study
from markbase.core.tables import records_of

if TYPE_CHECKING:
    from markbase.core.comparison.backward_elimination import Elimination
    from markbase.core.comparison.blocks import Blocks
    from markbase.core.comparison.comparison import Comparison
    from markbase.core.comparison.score import Score
    from markbase.core.design.weights import Weighting
    from markbase.core.diagnostics.classification import Classification
    from markbase.core.diagnostics.log_odds import LogisticChecks
    from markbase.core.diagnostics.residuals import Checks
    from markbase.core.results.linear import LinearFit
    from markbase.core.results.logistic import LogisticFit
    from markbase.core.results.stored_fit import StoredFit
    from markbase.core.screening.prune import Pruned
    from markbase.core.screening.screen import Screen
    from markbase.core.study.coding import Coding


def fit_record(fit: LinearFit) -> dict[str, Any]:
    """Return a linear fit as plain data, tables as lists of rows."""
    return {
        **_shared(fit),
        "fixed_effects": list(fit.fixed_effect_names),
        "standardised": _rows(fit.standardised),
    }


def stored_record(fit: StoredFit) -> dict[str, Any]:
    """Return a saved fit as plain data: what `fit_record` and `logistic_record` have of it without a row."""
    return {
        **_without_rows(fit),
        "saved": True,
        "fixed_effects": list(fit.fixed_effect_names),
        "penalty": fit.penalty or None,
    }


def _shared(fit: LinearFit | LogisticFit) -> dict[str, Any]:
    found, reading = _without_rows(fit), fit.reading()
    found["sample"]["left_out"] = fit.left_out._asdict() if fit.left_out else None
    if fit.weights and fit.weights.kind == "sampling":
        found["sample"]["effective"] = fit.rows_used.told_as_equal[0]
    if fit.rows_used.times is not None:
        found["sample"]["counted"] = fit.rows_used.counted
    return found | {
        "reading": [dataclasses.asdict(s) for s in reading.statements],
        "cautions": list(reading.cautions),
    }


def _without_rows(fit: LinearFit | LogisticFit | StoredFit) -> dict[str, Any]:
    return {
        "kind": fit.family.name,
        "outcome": _about(fit.outcome),
        "level": fit.level,
        "errors": {"kind": fit.errors.kind, "cluster": fit.errors.cluster, "clusters": fit.errors.clusters}
        | (
            {"crossed": fit.errors.crossed.cluster, "crossed_clusters": fit.errors.crossed.clusters}
            if fit.errors.crossed
            else {}
        )
        | ({"members": fit.errors.members.clusters} if fit.errors.members else {})
        | ({"time": fit.errors.time, "periods": fit.errors.periods} if fit.errors.periods else {})
        | ({"strata": fit.errors.strata, "strata_count": fit.errors.strata_count} if fit.errors.strata else {}),
        "weights": _weights(fit.weighting),
        "sample": {"rows": fit.sample.rows, "used": fit.sample.used, "lost": _rows(fit.sample.lost)},
        "overall": dataclasses.asdict(fit.overall) if fit.overall else None,
        "strength": dataclasses.asdict(fit.strength) if fit.strength else None,
        "terms": _rows(fit.terms),
        "coefficients": _rows(fit.coefficients),
        "bases": [
            {
                "term": t.name,
                "base": t.base_label,
                "chosen": t.column.base is not None and t.column.base.chosen,
                "reason": t.column.base.reason if t.column.base else "",
            }
            for t in {p.name: p for part in fit.model_terms for p in part.variables}.values()
            if t.is_categorical
        ],
        "equation": fit.equation().text,
    }


def logistic_record(fit: LogisticFit) -> dict[str, Any]:
    """Return a logistic fit as plain data: as `fit_record`, with event, marginal effects, classification and calibration."""
    return {
        **_shared(fit),
        "event": fit.event,
        "otherwise": fit.otherwise,
        "events": fit.events,
        "penalty": fit.penalty or None,
        "converged": fit.converged,
        "steps": fit.steps,
        "marginal": _rows(fit.marginal),
        "classification": classification_record(fit.classification()),
        "calibration": _rows(fit.calibration()),
    }


def classification_record(c: Classification) -> dict[str, Any]:
    """Return a classification as plain data, with that of rows held out if there is one."""
    figures = (
        "correct",
        "guess",
        "commoner",
        "sensitivity",
        "specificity",
        "area",
        "area_low",
        "area_high",
        "area_within",
        "allows_for",
    )
    own = {"cut": c.cut, "table": c.table.to_dict(), **{figure: getattr(c, figure) for figure in figures}}
    if c.held_out is None:
        return own
    h = c.held_out
    return own | {
        "held_out": classification_record(h) | {"folds": h.folds, "left_out": h.left_out, "cluster": h.cluster}
    }


def groups_record(
    fit: LinearFit | LogisticFit | StoredFit,
    group: str,
    correction: str,
    at: Mapping[str, float] | None = None,
    margin: float | None = None,
    against: str | None = None,
) -> dict[str, Any]:
    """Return a group of a fit as plain data: its levels and every pair, or each with one of them, where numeric columns are held, and the equation by its levels."""
    lines = fit.equation(by=group)
    test = lines.parallel
    return {
        "levels": _rows(fit.groups(group, at=at)) if fit._averages_levels(group) else None,
        "correction": correction,
        "margin": margin,
        "pairs": _rows(fit.between(group, correction, against=against, at=at, margin=margin)),
        "lines": {level: equation.text for level, equation in lines.lines},
        "parallel": {k: getattr(test, k) for k in ("statistic", "df", "df_rest", "p")} if test else None,
        "overstated": lines.overstated or None,
    }


def cells_record(fit: LinearFit | LogisticFit | StoredFit, first: str, second: str, correction: str) -> dict[str, Any]:
    """Return two groups of a fit together as plain data: every combination, and the pairs within each level."""
    means, pairs = fit.cell_means(first, second, correction=correction)
    effects = [row for of, by in ((first, second), (second, first)) for row in _rows(fit.simple_effects(of, by=by))]
    return {"means": _rows(means), "effects": effects, "correction": correction, "pairs": _rows(pairs)}


def coding_record(coding: Coding) -> dict[str, Any]:
    """Return how a group becomes columns as plain data, with what was verified."""
    return {
        "column": coding.column,
        "scheme": coding.scheme,
        "grids": {scheme: _rows(table.reset_index()) for scheme, table in coding.grids.items()},
        "passed": coding.passed,
        "check": _rows(coding.check),
    }


def score_record(scored: Score) -> dict[str, Any]:
    """Return figures on rows held out as plain data."""
    return {
        "outcome": scored.outcome,
        "rows": scored.rows,
        "left_out": scored.left_out,
        "seen": scored.seen,
        "figures": _rows(scored.table),
    }


def checks_record(checks: Checks) -> dict[str, Any]:
    """Return the checks of a linear fit as plain data."""
    return {
        "shape": {
            "skew": checks.skew,
            "kurtosis": checks.kurtosis,
            "statistic": checks.shape_statistic,
            "p": checks.shape_p,
        },
        "spread": {
            "statistic": checks.spread_statistic,
            "df": checks.spread_df,
            "df_rest": checks.spread_df_rest if math.isfinite(checks.spread_df_rest) else None,
            "p": checks.spread_p,
        },
        "lines": _rows(checks.lines),
        "cases": _rows(checks.cases),
        "clusters": None if checks.clusters is None else _rows(checks.clusters),
        "intraclass": None if checks.intraclass is None else checks.intraclass._asdict(),
        "findings": [dataclasses.asdict(f) for f in checks.findings],
    }


def logistic_checks_record(checks: LogisticChecks) -> dict[str, Any]:
    """Return what was looked at in a logistic fit as plain data."""
    return {
        "lines": None if checks.lines is None else _rows(checks.lines),
        "calibration_test": dataclasses.asdict(checks.calibration),
        "findings": [dataclasses.asdict(f) for f in checks.findings],
    }


def blocks_record(hierarchy: Blocks) -> dict[str, Any]:
    """Return a blockwise entry as plain data: `steps`, `moves`, `errors`, `variance_inflation`, `reading`, and each block as a fit."""
    from markbase.core.results.linear import LinearFit

    return {
        "kind": "logistic" if hierarchy.logistic else "linear",
        "entry": dict(zip(hierarchy.names, map(list, hierarchy.added), strict=True)),
        "rows_alone": list(hierarchy.rows_alone),
        "steps": _rows(hierarchy.steps),
        "bootstrapped": dataclasses.asdict(hierarchy.bootstrapped) if hierarchy.bootstrapped else None,
        "moves": _rows(hierarchy.moves),
        "errors": _rows(hierarchy.errors),
        "movements": _rows(hierarchy.movements),
        "vif": _rows(hierarchy.vif),
        "reading": [dataclasses.asdict(s) for s in hierarchy.reading().statements],
        "blocks": [fit_record(f) if isinstance(f, LinearFit) else logistic_record(f) for f in hierarchy],
    }


def comparison_record(comparison: Comparison) -> dict[str, Any]:
    """Return fits side by side as plain data."""
    return {
        "fits": list(comparison.names),
        "rows": comparison.rows,
        "refitted": list(comparison.refitted),
        "strength": _rows(comparison.strength),
        "tests": _rows(comparison.tests),
        "estimates": _rows(comparison.estimates),
        "cautions": list(comparison.cautions),
    }


def elimination_record(elimination: Elimination) -> dict[str, Any]:
    """Return what was left out as plain data."""
    return {
        "limit": elimination.limit,
        "steps": _rows(elimination.steps),
        "kept": list(elimination.kept),
        "cautions": list(elimination.cautions),
    }


def table_record(table: pd.DataFrame) -> list[dict[str, Any]]:
    """Return a table as plain data, a mapping a row."""
    return _rows(table)


def study_record(study: Study) -> dict[str, Any]:
    """Return the overview of a study as plain data."""
    overview = _rows(study.overview())
    for entry in overview:
        column = study[entry["column"]]
        if column.is_categorical and column.role != "identifier":
            entry["level_counts"] = _rows(study.levels(column.name))
    return {"data": study.name, "title": study.title, "rows": study.rows, "columns": overview}


def column_record(study: Study, name: str) -> dict[str, Any]:
    """Return one column of a study as plain data."""
    column = study.column(name)
    record = {"data": study.name, "rows": study.rows, **_about(column), "guess": column.guess}
    table = study.levels(name) if column.is_categorical else study.values(name)
    return record | {"levels" if column.is_categorical else "values": _rows(table)}


def trail_record(study: Study) -> dict[str, Any]:
    """Return what was done to a study as plain data, with the verification of each step."""
    steps = []
    for step in study.trail:
        check = step.check
        verified = {"passed": check.passed, "notes": list(check.notes), "table": _rows(check.table)} if check else None
        steps.append({**step.written(), "text": step.text, "check": verified})
    return {"data": study.name, "rows": study.rows, "columns": list(study.columns), "steps": steps}


def screen_record(screen: Screen) -> dict[str, Any]:
    """Return a screening as plain data; an infinite variance inflation factor is null, and `infinite` says so."""
    variance_inflation = [row | {"infinite": math.isinf(row["vif"])} for row in _rows(screen.vif)]
    terms = [row | {"infinite": math.isinf(row["gvif"])} for row in _rows(screen.terms)]
    return {
        "data": screen.data_name,
        "outcome": screen.outcome.name if screen.outcome else None,
        "sample": {"rows": screen.sample.rows, "used": screen.sample.used, "lost": _rows(screen.sample.lost)},
        "weights": _weights(screen.weighting),
        "limits": dataclasses.asdict(screen.limits),
        "names": list(screen.correlations.columns),
        "correlations": screen.correlations.to_numpy().tolist(),
        "measures": screen.measures.to_numpy().tolist(),
        "pairs": _rows(screen.pairs),
        "vif": variance_inflation,
        "terms": terms,
        "collinear": [dataclasses.asdict(o) for o in screen.collinear],
        "conditions": _rows(screen.conditions),
        "advice": [dataclasses.asdict(a) for a in screen.advice],
    }


def pruned_record(pruned: Pruned) -> dict[str, Any]:
    """Return what was dropped, and all values on the way, as plain data."""
    return {
        "limit": pruned.limit,
        "steps": _rows(pruned.steps),
        "values": _rows(pruned.values),
        "kept": list(pruned.kept),
        "cautions": list(pruned.cautions),
    }


def to_json(record: dict[str, Any]) -> str:
    """Write plain data as JSON; numbers that are none or infinite become null."""
    return json.dumps(_clean(record), ensure_ascii=False, indent=2, allow_nan=False)


def _about(column: Column) -> dict[str, Any]:
    unit = column.unit.many if column.unit else ""
    return {
        "column": column.name,
        "label": column.label,
        "kind": column.kind,
        "role": column.role or "",
        "unit": unit,
    }


def _weights(weighting: Weighting | None) -> dict[str, str] | None:
    return {"kind": weighting.kind, "column": weighting.column} if weighting else None


def _rows(table: pd.DataFrame) -> list[dict[str, Any]]:
    return [{str(k): v for k, v in row.items()} for row in records_of(table)]


def _clean(value: Any) -> Any:
    if isinstance(value, dict):
        return {k: _clean(v) for k, v in value.items()}
    if isinstance(value, (list, tuple)):
        return [_clean(v) for v in value]
    if isinstance(value, np.generic):
        value = value.item()
    if isinstance(value, float) and not math.isfinite(value):
        return None
    return value
