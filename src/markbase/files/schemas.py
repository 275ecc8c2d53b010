"""JSON Schemas of what is read and written: the codebook, the plan, and the results for machines.

Keys, kinds and choices are those that the readers themselves go by, so that neither says what the other does not.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import fields
from typing import Any

from markbase.core.design.fit_options import KINDS, FitOptions
from markbase.core.inference.corrections import CORRECTIONS
from markbase.core.study.codebook import DECLARABLE, GIVEN_KINDS
from markbase.core.study.column import KINDS as COLUMN_KINDS
from markbase.core.study.column import ROLES
from markbase.core.study.replay import STEPS
from markbase.core.version import FORMAT_VERSION
from markbase.files.plan_analysis import (
    COMPARE_KEYS,
    DESCRIBE_KEYS,
    ELIMINATION_KEYS,
    OUTPUT_KEYS,
    RELIABILITY_KEYS,
    SCREEN_KEYS,
)
from markbase.files.plan_fits import BLOCK_KEYS, FIT_KEYS, IMPUTATION_KEYS

Schema = dict[str, Any]
_TEXT: Schema = {"type": "string"}
_TEXTS: Schema = {"type": "array", "items": _TEXT}
_FLAG: Schema = {"type": "boolean"}
_COUNT: Schema = {"type": "integer", "minimum": 0}
_CODE: Schema = {"type": ["string", "number", "boolean"]}
_NUMBER: Schema = {"type": ["number", "null"]}


def _table(
    properties: Mapping[str, Schema], required: Sequence[str] = (), told: str = "", more: bool = False
) -> Schema:
    found: Schema = {"type": "object", "properties": dict(properties), "additionalProperties": more}
    if told:
        found = {"description": told, **found}
    return found | ({"required": list(required)} if required else {})


def _whole(title: str, schema: Schema) -> Schema:
    return {"$schema": "https://json-schema.org/draft/2020-12/schema", "title": title, **schema}


def codebook_schema() -> Schema:
    """Return the schema of a codebook, in TOML or JSON."""
    coded: Schema = {"oneOf": [{"type": "array", "items": _CODE}, {"type": "object", "additionalProperties": _CODE}]}
    texts: Schema = {"oneOf": [_TEXT, {**_TEXTS, "minItems": 1}]}
    column = {
        "label": {**_TEXT, "description": "What the column asks or measures."},
        "kind": {"enum": list(COLUMN_KINDS)},
        "role": {"enum": list(ROLES)},
        "unit": {"oneOf": [_TEXT, {**_TEXTS, "minItems": 2, "maxItems": 2}], "description": "One text, or one and many."},
        "levels": {**coded, "description": "The levels expected, in order: codes, or codes with labels."},
        "missing": {**coded, "description": "Codes that stand for a missing answer, or codes with meanings."},
        "base": {**_CODE, "description": "The reference level, by label or code."},
        "made": {"type": "object", "minProperties": 1, "maxProperties": 1, "additionalProperties": False,
                 "properties": dict.fromkeys(sorted(DECLARABLE), texts)},
    }  # fmt: skip
    return _whole("A Mark Base codebook", _table({
        "title": _TEXT, "columns": {"type": "object", "additionalProperties": _table(column)},
    }))  # fmt: skip


def plan_schema() -> Schema:
    """Return the schema of a plan, in TOML."""
    term: Schema = {"oneOf": [_TEXT, {"type": "object"}], "description": "A column, a polynomial or an interaction."}
    terms: Schema = {"type": "array", "items": term, "minItems": 1}
    known: dict[str, Schema] = {
        "name": {**_TEXT, "minLength": 1},
        "question": _TEXT,
        "kind": {"enum": list(KINDS)},
        "outcome": {**_TEXT, "minLength": 1},
        "terms": terms,
        "entry": {"type": "array", "items": _table({"name": _TEXT, "terms": terms}, ["name", "terms"]), "minItems": 1},
        "groups": _TEXTS,
        "correction": {"enum": list(CORRECTIONS)},
        "margin": {"type": "number", "exclusiveMinimum": 0},
        "slopes": _TEXTS,
        "subgroups": _TEXTS,
        "imputation": _TEXT,
        "outcomes": {**_TEXTS, "minItems": 2},
        "at": {"type": "object"},
        "cross_validate": _FLAG,
        "dominance": _FLAG,
        "hold_out": {"type": "number", "exclusiveMinimum": 0, "exclusiveMaximum": 1},
        "bootstrap": _COUNT,
        "seed": _COUNT,
        "fits": {**_TEXTS, "minItems": 2},
        "fit": _TEXT,
        "keep": _TEXTS,
        "limit": {"type": "number"},
        "limit_r": {"type": "number"},
        "limit_vif": {"type": "number"},
        "by": _TEXT,
        "columns": _TEXTS,
        "items": _TEXTS | {"minItems": 2},
        "title": _TEXT,
        "figures": _FLAG,
        "labels": {**_FLAG, "description": "Whether tables for a manuscript call columns by their labels."},
        "standardised": {
            **_FLAG,
            "description": "Whether coefficients of linear regressions stand standardised in tables for a manuscript as well.",
        },
    }
    for setting in fields(FitOptions):
        about = setting.metadata
        told = {"description": about["told"]}
        if about["choices"]:
            known[setting.name] = told | {"enum": list(about["choices"])}
        elif about["number"]:
            most = {"exclusiveMaximum": 1} if setting.default is not None else {}
            known[setting.name] = told | {"type": "number", "exclusiveMinimum": 0, **most}
        elif about["several"]:
            known[setting.name] = told | {"oneOf": [_TEXT, _TEXTS]}
        else:
            known[setting.name] = told | (_CODE if setting.name == "event" else _TEXT)

    def several(keys: Sequence[str], required: Sequence[str], told: str) -> Schema:
        return {"type": "array", "items": _table({key: known[key] for key in keys}, required, told)}

    data = {
        "file": _TEXT,
        "codebook": _TEXT,
        "encoding": _TEXT,
        "sheet": _TEXT,
        "file_column": {
            **_TEXT,
            "description": "Of several files: what the column is called that tells which of them a row is from.",
        },
        "layout": _table({key: {"type": "integer", "minimum": 1} for key in ("data", "header", "labels", "last")}),
        "in_parts": {"type": "boolean"},
        "missing": {"type": "array", "items": _CODE},
        "kinds": {"type": "object", "additionalProperties": {"enum": list(GIVEN_KINDS)}},
    }
    step = {"type": "object", "required": ["do"], "properties": {"do": {"enum": sorted(STEPS)}, "reason": _TEXT}}
    return _whole("A Mark Base plan", _table({
        "data": _table(data, ["file"], "The data file and its codebook."),
        "prepare": {"type": "array", "items": step, "description": "Preparing steps, in order."},
        "screen": _table({key: known[key] for key in SCREEN_KEYS}, ["terms"], "What is screened before fitting."),
        "describe": several(DESCRIBE_KEYS, [], "A description of the sample."),
        "reliability": several(RELIABILITY_KEYS, ["items"], "A scale whose items are told together."),
        "fit": several(FIT_KEYS, ["outcome", "terms"], "A linear or logistic regression."),
        "imputations": several(IMPUTATION_KEYS, [], "A fit, or blocks, in each imputation, or for each plausible value, combined."),
        "blocks": several(BLOCK_KEYS, ["outcome", "entry"], "A blockwise (hierarchical) entry."),
        "compare": several(COMPARE_KEYS, ["fits"], "Fits side by side."),
        "backward_elimination": several(ELIMINATION_KEYS, ["fit"], "Terms left out that are not clear."),
        "output": _table({key: known[key] for key in OUTPUT_KEYS}),
    }))  # fmt: skip


def results_schema() -> Schema:
    """Return the schema of ``results.json``; what a number has none of is null."""
    names = {"term": _TEXT, "level": _TEXT, "against": _TEXT, "base": _FLAG, "n": {"type": ["integer", "number"]}}
    numbers = ("estimate", "se", "t", "z", "p", "low", "high", "odds_ratio", "odds_low", "odds_high")
    row = _table(
        {**names, **dict.fromkeys(numbers, _NUMBER)},
        ["term", "level", "base", "estimate", "se", "low", "high"],
        more=True,
    )
    lost = _table(
        {"column": _TEXT, "reason": _TEXT, "rows": _COUNT, "only": _COUNT}, ["column", "reason", "rows"], more=True
    )
    sample = _table(
        {"rows": _COUNT, "used": _COUNT, "lost": {"type": "array", "items": lost}}, ["rows", "used"], more=True
    )
    test = _table(
        {"statistic": _NUMBER, "df": _COUNT, "df_rest": _NUMBER, "p": _NUMBER, "kind": _TEXT},
        ["statistic", "df", "p"],
        more=True,
    )
    statement = _table({"term": _TEXT, "level": _TEXT, "text": _TEXT, "cautions": _TEXTS}, ["text"], more=True)
    fit: dict[str, Schema] = {
        "kind": {"enum": list(KINDS)},
        "outcome": {"type": "object", "required": ["column"]},
        "level": {"type": "number"},
        "sample": sample,
        "overall": test,
        "coefficients": {"type": "array", "items": row, "minItems": 1},
        "reading": {"type": "array", "items": statement},
        "blocks": {"type": "array", "items": {"$ref": "#/$defs/fit"}},
    }
    defined = _table(fit, more=True) | {
        "anyOf": [
            {"required": ["kind", "outcome", "sample", "overall", "coefficients"]},
            {"required": ["blocks", "steps"]},
        ]
    }
    top = {
        "format_version": {"const": FORMAT_VERSION},
        "title": _TEXT,
        "version": {**_TEXT, "description": "Of the program that wrote it."},
        "methods": _TEXTS,
        "remarks": _TEXTS,
        "screen": {"type": "object"},
        "fits": {"type": "object", "additionalProperties": {"$ref": "#/$defs/fit"}},
        "describe": {"type": "object"},
        "reliability": {"type": "object"},
        "comparisons": {"type": "object"},
        "eliminated": {"type": "object"},
    }
    return _whole(
        "Results of a Mark Base plan", _table(top, ["format_version", "title", "version", "methods", "remarks"])
    ) | {"$defs": {"fit": defined}}


SCHEMAS = {"codebook": codebook_schema, "plan": plan_schema, "results": results_schema}
"""By what they describe."""
