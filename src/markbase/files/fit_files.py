"""Saved fits: a documented JSON with all that is needed to predict, to tell another base and to compare groups.

Numbers are written with 17 significant digits, so that what is read is what was written; those that JSON cannot hold are
the texts ``nan``, ``inf`` and ``-inf``. No row of the data is in the file.
"""

from __future__ import annotations

import hashlib
import json
import math
from collections.abc import Mapping, Sequence
from dataclasses import fields, is_dataclass
from pathlib import Path
from typing import Any

import numpy as np
import pandas as pd

from markbase.core.arguments import checked
from markbase.core.design.coefficient_map import components_of
from markbase.core.design.complete_cases import CompleteCases, Loss
from markbase.core.design.moments import Moments
from markbase.core.design.terms import Term, Variable, variables_of
from markbase.core.design.weights import Weighting
from markbase.core.errors import FileError
from markbase.core.estimation.least_squares_solution import Pivoted, Solution
from markbase.core.inference.joint_tests import JointTest
from markbase.core.inference.standard_errors import Crossed, Errors
from markbase.core.results.any_fit import AnyFit
from markbase.core.results.family import FAMILIES
from markbase.core.results.fit_statistics import LinearStrength, LogisticStrength, OverallTest
from markbase.core.results.level_probabilities import AveragedLevels
from markbase.core.results.outcome_ends import Ends
from markbase.core.results.prediction_coverage import Held
from markbase.core.results.profiled import Profiled
from markbase.core.results.stored_fit import StoredFit, store
from markbase.core.study.column import Base, Column, Level, Made, MissingCode, Unit
from markbase.core.study.expressions import read
from markbase.files.text_files import read_text
from markbase.files.whole_files import refuse_to_replace, write_whole

FORMAT = "markbase fit"
VERSION = 1


@checked
def write_fit(fit: AnyFit | StoredFit, path: str | Path, *, replace: bool = False) -> None:
    """Save a fit as JSON, without a row of the data.

    Parameters
    ----------
    fit : LinearFit or LogisticFit
        The fit.
    path : str or Path
        The file to write; its name ends in ``.json``.
    replace : bool
        Write over a file that is there.

    Raises
    ------
    FileError
        If the file is there already, or cannot be written.

    Examples
    --------
    >>> import markbase as mb
    >>> import tempfile
    >>> study = mb.demo.choirs().merge_levels("voice", {"tenor": ["tennor"]}).mark("voice", "alto")
    >>> fit = mb.fit_linear(study, "belonging", ["age", "voice"])
    >>> with tempfile.TemporaryDirectory() as folder:
    ...     mb.write_fit(fit, f"{folder}/fit.json")
    ...     saved = mb.read_fit(f"{folder}/fit.json")
    >>> saved.predict({"voice": "tenor", "age": 30})["predicted"].round(1).tolist()
    [60.4]
    """
    stored = fit if isinstance(fit, StoredFit) else store(fit)
    record = _record(stored)
    record["digest"] = _digest(record)
    text = _laid_out(record) + "\n"
    refuse_to_replace(Path(path), replace)
    write_whole(Path(path), text.encode())


@checked
def read_fit(path: str | Path) -> StoredFit:
    """Read a saved fit.

    Parameters
    ----------
    path : str or Path
        What `write_fit` wrote.

    Returns
    -------
    StoredFit
        Its tables, and `predict`, `rebase`, `between`, `groups`, `simple_slopes`, `equation`.

    Raises
    ------
    FileError
        If the file cannot be read, is no saved fit, is of a newer version, or is not as it was written.

    Examples
    --------
    >>> import markbase as mb
    >>> import tempfile
    >>> study = mb.demo.choirs().merge_levels("voice", {"tenor": ["tennor"]}).mark("voice", "alto")
    >>> fit = mb.fit_linear(study, "belonging", ["age", "voice"])
    >>> with tempfile.TemporaryDirectory() as folder:
    ...     mb.write_fit(fit, f"{folder}/fit.json")
    ...     saved = mb.read_fit(f"{folder}/fit.json")
    >>> bool((saved.coefficients["estimate"] == fit.coefficients["estimate"]).all())
    True
    """
    path = Path(path)
    text = read_text(path)
    try:
        record = json.loads(text)
    except (ValueError, RecursionError) as problem:
        raise FileError(f"`{path}` is not JSON that can be read: {str(problem).splitlines()[0]}.") from None
    if not isinstance(record, Mapping) or record.get("format") != FORMAT:
        raise FileError(f"`{path}` is no saved fit: its `format` is not `{FORMAT}`.")
    version = record.get("version")
    if not isinstance(version, int) or version > VERSION:
        raise FileError(
            f"`{path}` was written by a newer version (format {version!r}, and this one reads up to {VERSION}); update to read it."
        )
    if record.get("digest") != _digest(record):
        raise FileError(
            f"`{path}` is not as it was written: its `digest` does not fit what it holds, so a number in it may be wrong; save the fit again."
        )
    stored = _held_together(record)
    if stored is None:
        raise FileError(f"`{path}` is no saved fit: what it holds does not go together; save the fit again.")
    return stored


def _held_together(record: Mapping[str, Any]) -> StoredFit | None:
    """Return the fit of a record, or None if it cannot be one: its coefficients are those that the rest of it gives."""
    try:
        stored = _fit(record)
        variables = variables_of(stored.model_terms)
        told = {key: _array(record["coefficients"][key]) for key in ("estimate", "se", "low", "high", "p")}
        with np.errstate(all="ignore"):
            given = stored.coefficients
        alike = all(np.allclose(given[key], told[key], rtol=1e-9, atol=0, equal_nan=True) for key in told)
        components, means = components_of(stored.model_terms), stored.part_means
        shapes = {
            key: tuple(g.size for g in components[key[0]].groups if g.name in key[1]) for key in means if key[0] >= 0
        }
        alike &= all(means[key].shape == shapes.get(key) for key in means)
        alike &= all((k, frozenset(c.names)) in means for k, c in enumerate(components))
        alike &= set(stored.spreads) == {v.name for v in variables.values() if not v.is_categorical}
        alike &= all(len(four) == 4 and np.isfinite(four).all() for four in stored.spreads.values())
        alike &= all(_fits(levels, stored, variables[group].size) for group, levels in stored.averaged.items())
        with np.errstate(all="ignore"):
            turned = stored.solution.factor @ stored.solution.root
            alike &= np.allclose(turned @ turned.T, np.eye(len(turned)), atol=1e-3)
        alike &= all(shares.shape == (variables[group].size,) for group, shares in stored.plain.items())
        alike &= stored.terms["term"].tolist() == [t.name for t in stored.model_terms]
        alike &= stored.column_means.shape == (sum(stored.moments.sizes),)
        alike &= all(rows.shape == tuple(variables[n].size for n in key) for key, rows in stored.counts.items())
    except (
        ArithmeticError,
        AttributeError,
        LookupError,
        TypeError,
        ValueError,
    ):  # of a file that anybody may have made
        return None
    return stored if alike else None


def _fits(levels: AveragedLevels, stored: StoredFit, size: int) -> bool:
    """Return whether adjusted probabilities are those of a group of so many levels."""
    shapes = levels.values.shape, levels.roots.shape
    return shapes == ((size,), (size, len(stored.solution.columns) + 1)) and bool(
        ((levels.values >= 0) & (levels.values <= 1)).all()
    )


def _laid_out(value: Any, indent: str = "") -> str:
    """Write a value as JSON, an entry of a record or of a list of lists or records a line: so a matrix is one row a line, and written in one go."""
    inner = indent + " "
    if isinstance(value, Mapping) and value:
        lines = [f"{json.dumps(key, ensure_ascii=False)}: {_laid_out(own, inner)}" for key, own in value.items()]
        return f"{{\n{inner}" + f",\n{inner}".join(lines) + f"\n{indent}}}"
    if isinstance(value, list) and any(isinstance(own, (list, Mapping)) for own in value):
        lines = [json.dumps(own, ensure_ascii=False, allow_nan=False) for own in value]
        return f"[\n{inner}" + f",\n{inner}".join(lines) + f"\n{indent}]"
    return json.dumps(value, ensure_ascii=False, allow_nan=False)


def _digest(record: Mapping[str, Any]) -> str:
    """Return the SHA-256 of all else in a record, in its shortest form with keys in order."""
    rest = {k: v for k, v in record.items() if k != "digest"}
    text = json.dumps(rest, ensure_ascii=True, sort_keys=True, separators=(",", ":"))
    return hashlib.sha256(text.encode()).hexdigest()


def _plain(value: Any) -> Any:
    """Return a value as JSON can hold it."""
    if isinstance(value, np.ndarray) and value.dtype.kind in "biuf" and np.isfinite(value).all():
        return value.tolist()  # a look at each number takes long where there are millions
    if isinstance(value, (np.ndarray, np.generic)):
        return _plain(value.tolist())
    if isinstance(value, float) and not math.isfinite(value):
        return str(value)
    if isinstance(value, (list, tuple)):
        return [_plain(v) for v in value]
    if isinstance(value, Mapping):
        return {k: _plain(v) for k, v in value.items()}
    if isinstance(value, pd.DataFrame):
        return {str(k): _plain(value[k].tolist()) for k in value.columns}
    if is_dataclass(value) and not isinstance(value, type):
        return {f.name: _plain(getattr(value, f.name)) for f in fields(value)}
    return value


def _column(column: Column) -> dict[str, Any]:
    made = column.made
    return {
        "name": column.name,
        "kind": column.kind,
        "label": column.label,
        "unit": _plain(column.unit),
        "scheme": column.scheme,
        "levels": [
            {"code": v.code, "label": v.label, "declared": v.declared, "mixture": list(v.mixture)}
            for v in column.levels
        ],
        "base": _plain(column.base),
        "missing": [_plain(code) for code in column.missing_codes if code.code],
        "made": None
        if made is None
        else {
            "how": made.how,
            "of": list(made.of),
            "parameters": _plain(made.parameters),
            **({"expression": made.expression} if made.expression else {}),
            "sources": [_column(s) for s in made.sources],
        },
    }


def _record(fit: StoredFit) -> dict[str, Any]:
    coefficients = fit.coefficients
    return {
        "format": FORMAT,
        "version": VERSION,
        "kind": fit.kind,
        "data": fit.data_name,
        "level": fit.level,
        "told_again": fit.retold,
        "outcome": _column(fit.outcome),
        "identifier": fit.identifier.name if fit.identifier is not None else None,
        "fixed_effects": list(fit.fixed_effect_names),
        "variables": {
            v.name: {"column": _column(v.column), "places": _plain(v.places), "base": v.base, "shift": v.shift}
            for v in variables_of(fit.model_terms).values()
        },
        "terms": [{"name": t.name, "variables": list(t.names), "degrees": list(t.degrees)} for t in fit.model_terms],
        "coefficients": _plain(coefficients),
        "sample": {
            "rows": fit.sample.rows,
            "used": fit.sample.used,
            "counted": fit.counted,
            "lost": [_plain(tuple(v)) for v in fit.sample.losses],
        },
        "overall": _plain(fit.overall),
        "tests": _plain(fit.terms),
        "strength": _plain(fit.strength),
        "errors": _plain(fit.errors),
        "moments": {
            "sizes": list(fit.moments.sizes),
            **{k: _plain(getattr(fit.moments, k)) for k in ("centres", "scales", "cross")},
        },
        "solution": {n: v for n, v in _plain(fit.solution).items() if n != "pivoted"}
        | {"factor": _plain(fit.solution.factor)},
        "spreads": _plain(fit.spreads),
        "counts": [{"groups": list(k), "rows": _plain(v)} for k, v in fit.counts.items()],
        "plain": _plain(fit.plain),
        "part_means": [
            {"component": k, "variables": sorted(names), "means": _plain(v)} for (k, names), v in fit.part_means.items()
        ],
        "column_means": _plain(fit.column_means),
        "weights": _plain(fit.weighted_by),
        "own_mean": _plain(fit.own_mean),
        "own_measures": _plain(fit.own_measures),
        "overstated": {name: _plain(test._asdict()) for name, test in fit.overstated.items()},
        "held": [_plain(part._asdict()) for part in fit.held],
        "ends": _plain(fit.ends._asdict()),
        "averaged": {group: _plain(levels._asdict()) for group, levels in fit.averaged.items()},
        "profiled": fit.profiled and _plain(fit.profiled._asdict()),
    }


def _number(value: Any) -> float:
    return value if type(value) is int else float(value)


def _expression(made: Mapping[str, Any]) -> str:
    text = str(made.get("expression", ""))
    if (text or made["how"] == "calculation") and len(read(text).columns) != len(made["sources"]):
        raise ValueError(text)
    return text


def _test(record: Mapping[str, Any]) -> JointTest:
    return JointTest(
        _number(record["statistic"]), int(record["df"]), _number(record["df_rest"]), str(record["untested"])
    )


def _array(value: Any) -> np.ndarray[Any, np.dtype[np.float64]]:
    return (
        np.asarray(value, dtype=np.float64)
        if not _has_text(value)
        else np.vectorize(float)(np.asarray(value, dtype=object))
    )


def _has_text(value: Any) -> bool:
    return isinstance(value, str) or (isinstance(value, list) and any(_has_text(v) for v in value))


def _read_column(record: Mapping[str, Any]) -> Column:
    made = record["made"]
    unit, base = record["unit"], record["base"]
    categorical = record["kind"] != "numeric"
    return Column(
        name=str(record["name"]),
        kind=record["kind"],
        values=np.zeros(0, dtype=np.int32 if categorical else np.float64),
        levels=tuple(
            Level(str(v["code"]), str(v["label"]), bool(v["declared"]), tuple(v["mixture"])) for v in record["levels"]
        ),
        scheme=record["scheme"],
        label=str(record["label"]),
        unit=None if unit is None else Unit(**unit),
        base=None if base is None else Base(**base),
        missing_codes=tuple(MissingCode(**code) for code in record.get("missing", ())),
        made=None
        if made is None
        else Made(
            made["how"],
            tuple(made["of"]),
            tuple(_read_column(s) for s in made["sources"]),
            tuple(_number(v) for v in made["parameters"]),
            _expression(made),
        ),
    )


def _texts(values: Sequence[Any]) -> list[str]:
    return [str(v) for v in values]


def _fit(record: Mapping[str, Any]) -> StoredFit:
    variables = {
        name: Variable(
            _read_column(v["column"]), np.asarray(v["places"], dtype=np.intp), int(v["base"]), float(v["shift"])
        )
        for name, v in record["variables"].items()
    }
    terms = tuple(
        Term(t["name"], tuple(variables[n] for n in t["variables"]), tuple(int(d) for d in t["degrees"]))
        for t in record["terms"]
    )
    m, s, e = record["moments"], dict(record["solution"]), dict(record["errors"])
    for key in ("coefficients", "lower", "centres", "means", "root", "means_lower", "root_lower", "factor", "whitened"):
        s[key] = _array(s[key]).reshape(np.shape(s[key]))
    factor = s.pop("factor")
    s["columns"] = np.asarray(s["columns"], dtype=np.intp)
    s["at_centres"] = tuple(_number(v) for v in s["at_centres"])
    for key in ("explained", "residual", "weight", "condition"):
        s[key] = _number(s[key])
    for key in ("middle", "uncancelled", "fitted"):
        e[key] = None if e[key] is None else _array(e[key])
    e["df"] = _number(e["df"])
    if (other := e.get("crossed")) is not None:
        e["crossed"] = Crossed(
            **{
                **other,
                **{k: _number(v) for k, v in other.items() if k.startswith("even_")},
                "alone": _array(other["alone"]),
            }
        )
    strength = {k: None if k == "r2_within" and v is None else _number(v) for k, v in record["strength"].items()}
    overall: dict[str, Any] = {
        k: str(v) if k in ("kind", "untested") else _number(v) for k, v in record["overall"].items()
    }
    tests = pd.DataFrame(
        {
            k: _texts(v) if k == "term" else np.asarray(v, dtype=np.intp) if k == "df" else _array(v)
            for k, v in record["tests"].items()
        }
    )
    if "df_rest" not in tests:  # of a fit that was saved before tests had their own
        tests.insert(2, "df_rest", e["df"])
    sample = record["sample"]
    logistic = record["kind"] == "logistic"
    return StoredFit(
        outcome=_read_column(record["outcome"]),
        model_terms=terms,
        sample=CompleteCases(int(sample["rows"]), int(sample["used"]), tuple(Loss(*v) for v in sample["lost"])),
        level=float(record["level"]),
        data_name=str(record["data"]),
        retold=str(record["told_again"]),
        moments=Moments(tuple(int(k) for k in m["sizes"]), *(_array(m[k]) for k in ("centres", "scales", "cross"))),
        solution=Solution(**s, pivoted=Pivoted.known(factor)),
        used=None,
        errors=Errors(**e),
        identifier=None if record["identifier"] is None else Column(str(record["identifier"]), "numeric", np.zeros(0)),
        family=FAMILIES[record["kind"]],
        strength=LogisticStrength(**strength) if logistic else LinearStrength(**strength),  # type: ignore[arg-type]
        overall=OverallTest(**overall),
        terms=tests,
        spreads={k: tuple(_number(x) for x in v) for k, v in record["spreads"].items()},  # type: ignore[misc]
        counts={tuple(c["groups"]): np.asarray(c["rows"], dtype=np.int64) for c in record["counts"]},
        plain={k: _array(v) for k, v in record["plain"].items()},
        part_means={(int(p["component"]), frozenset(p["variables"])): _array(p["means"]) for p in record["part_means"]},
        column_means=_array(record["column_means"]),
        fixed_names=tuple(_texts(record["fixed_effects"])),
        counted=int(sample.get("counted", sample["used"])),
        weighted_by=Weighting(**{k: str(v) for k, v in weights.items()})
        if (weights := record.get("weights"))
        else None,
        own_mean=_number(record.get("own_mean", math.nan)),
        own_measures={str(k): _number(v) for k, v in record.get("own_measures", {}).items()},
        overstated={k: _test(v) for k, v in record.get("overstated", {}).items()},
        held=tuple(Held(**{k: _number(v) for k, v in part.items()}) for part in record.get("held", [])),
        averaged={
            group: AveragedLevels(**{k: _array(v) for k, v in levels.items()})
            for group, levels in record.get("averaged", {}).items()
        },
        ends=Ends(**{k: _number(v) for k, v in record.get("ends", {}).items()}),
        profiled=Profiled(**{k: _array(v) for k, v in own.items()}) if (own := record.get("profiled")) else None,
    )
