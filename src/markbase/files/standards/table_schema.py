"""Table Schema and Data Package (Frictionless standards): fields with types, categories and missing values, in JSON."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from typing import Any

from markbase.core.errors import CodebookError
from markbase.core.study.codebook import Codebook, ColumnSpec, code_text
from markbase.files.standards.common import (
    OURS,
    chosen,
    entry_of,
    named,
    rest_of,
    tables_in,
    to_json,
    whole_codes,
    with_ours,
)

_NUMBERS = ("integer", "number", "year")
_GROUPS = ("string", "boolean")

Opener = Callable[[str], Mapping[str, Any]]
"""Reads a JSON file that is named in another."""


def read_package(record: Mapping[str, Any], where: str, data: str, opened: Opener) -> dict[str, Any]:
    """Read a Data Package as `Codebook.from_mapping` takes it: of its resources the one of the `data` file, or the only one.

    `opened` reads a schema that stands in a file of its own.
    """
    resources = tables_in(record.get("resources"), "resources", where)
    paths = [r.get("path") for r in resources]
    names = [
        str(p[0] if isinstance(p, list) and p else p or r.get("name", ""))
        for p, r in zip(paths, resources, strict=True)
    ]
    resource = resources[chosen(names, data, where, "resources")]
    schema = resource.get("schema")
    if isinstance(schema, str):
        schema = opened(schema)
    if not isinstance(schema, Mapping):
        raise CodebookError(f"{where}: the resource `{names[resources.index(resource)]}` has no `schema`.")
    found = read_schema(schema, where)
    title = resource.get("title") or record.get("title")
    return {"title": title, **found} if isinstance(title, str) else found


def read_schema(record: Mapping[str, Any], where: str) -> dict[str, Any]:
    """Read a Table Schema as `Codebook.from_mapping` takes it; raises CodebookError if it is none."""
    everywhere = _missing(record.get("missingValues"))
    key = record.get("primaryKey")
    keys = [key] if isinstance(key, str) else key if isinstance(key, list) else []
    columns: dict[str, Any] = {}
    for field in tables_in(record.get("fields"), "fields", where):
        name = named(field, "name", where)
        columns[name] = _entry(field, everywhere, keys == [name], f"{where}, field `{name}`")
    ours = record.get(OURS)
    title = ours.get("title") if isinstance(ours, Mapping) else None
    found: dict[str, Any] = {"columns": columns}
    return {"title": title, **found} if isinstance(title, str) else found


def _entry(field: Mapping[str, Any], everywhere: dict[str, str], is_key: bool, where: str) -> dict[str, Any]:
    found: dict[str, Any] = {}
    label = field.get("title") or field.get("description")
    if isinstance(label, str):
        found["label"] = label
    kind = str(field.get("type"))
    missing = _missing(field["missingValues"]) if "missingValues" in field else everywhere
    levels = _levels(field.get("categories"), where)
    constraints = field.get("constraints")
    if not levels and isinstance(constraints, Mapping) and isinstance(constraints.get("enum"), list):
        levels = _levels(constraints["enum"], where)
    levels = {code: name for code, name in levels.items() if code not in missing}
    if levels:
        found["kind"] = "ordinal" if field.get("categoriesOrdered") is True else "categorical"
        found["levels"] = levels if any(code != name for code, name in levels.items()) else list(levels)
    elif kind in _NUMBERS:
        found["kind"] = "numeric"
    elif kind in _GROUPS:
        found["kind"] = "categorical"
    if is_key:
        found["role"] = "identifier"
    if missing:
        found["missing"] = missing if any(code != name for code, name in missing.items()) else list(missing)
    return with_ours(found, field.get(OURS), where)


def _levels(value: object, where: str) -> dict[str, str]:
    """Read categories: values, or values with labels."""
    if value is None:
        return {}
    if not isinstance(value, list):
        raise CodebookError(f"{where}: `categories` must be a list, not {value!r}.")
    return _pairs(value)


def _missing(value: object) -> dict[str, str]:
    """Read missing values, without the empty cell, which always is one."""
    return {code: name for code, name in _pairs(value if isinstance(value, list) else []).items() if code}


def _pairs(values: list[Any]) -> dict[str, str]:
    found = {}
    for value in values:
        code = code_text(value.get("value", "")) if isinstance(value, Mapping) else code_text(value)
        label = value.get("label") if isinstance(value, Mapping) else None
        found[code] = label if isinstance(label, str) and label else code
    return found


def schema_record(book: Codebook, guesses: Mapping[str, str]) -> dict[str, Any]:
    """Return a codebook as a Table Schema."""
    fields = [_field(spec, guesses.get(name, "")) for name, spec in book.columns.items()]
    keys = [name for name, spec in book.columns.items() if spec.role == "identifier"]
    return {"fields": fields, "missingValues": [""], **({"primaryKey": keys[0]} if len(keys) == 1 else {})}


def _field(spec: ColumnSpec, guess: str) -> dict[str, Any]:
    field: dict[str, Any] = {"name": spec.name}
    entry = entry_of(spec)
    held: dict[str, Any] = {key: entry[key] for key in ("label", "levels", "missing") if key in entry}
    if spec.label:
        field["title"] = spec.label
    codes = [level.code for level in spec.levels]
    whole = whole_codes(codes)
    kinds = {"numeric": "number", None: "any"}
    field["type"] = kinds.get(spec.kind, "integer" if whole else "string")
    if spec.kind:
        held["kind"] = "categorical" if spec.kind == "ordinal" and not codes else spec.kind
    if codes:
        values = [int(code) if whole else code for code in codes]
        pairs = [{"value": v, "label": level.label} for v, level in zip(values, spec.levels, strict=True)]
        field["categories"] = pairs if isinstance(entry["levels"], dict) else values
        if spec.kind == "ordinal":
            field["categoriesOrdered"] = True
    if isinstance(entry.get("missing"), dict):
        told = {"": "blank", **entry["missing"]}
        field["missingValues"] = [{"value": code, "label": label} for code, label in told.items()]
    elif "missing" in entry:
        field["missingValues"] = ["", *entry["missing"]]
    ours = rest_of(entry, held, guess)
    return field | ({OURS: ours} if ours else {})


def package_text(book: Codebook, guesses: Mapping[str, str], data: str) -> str:
    """Return a codebook as a Data Package of one resource."""
    resource: dict[str, Any] = {"name": _plain_name(data), "path": data}
    if book.title:
        resource["title"] = book.title
    schema = schema_record(book, guesses)
    return to_json({"resources": [resource | {"schema": schema}]})


def _plain_name(data: str) -> str:
    plain = "".join(c if c.isascii() and (c.isalnum() or c in "-_.") else "-" for c in data.lower().rsplit(".", 1)[0])
    return plain.strip("-") or "data"


def schema_text(book: Codebook, guesses: Mapping[str, str], data: str) -> str:  # noqa: ARG001 - as the others have it
    """Return a codebook as a Table Schema; its title has no place there but ours."""
    record = schema_record(book, guesses)
    return to_json(record | ({OURS: {"title": book.title}} if book.title else {}))
