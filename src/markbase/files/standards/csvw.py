"""CSVW metadata (W3C: Metadata Vocabulary for Tabular Data): columns with data types, null values and descriptions, in JSON."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any
from urllib.parse import unquote

from markbase.core.errors import CodebookError
from markbase.core.study.codebook import Codebook, ColumnSpec, code_text
from markbase.files.standards.common import OURS, chosen, entry_of, named, rest_of, tables_in, to_json, with_ours
from markbase.files.standards.table_schema import Opener

_CONTEXT = "http://www.w3.org/ns/csvw"
_OURS = f"urn:{OURS}:column"
"""A property of ours; what is not of the vocabulary is named by a URN."""
_NUMBERS = frozenset(
    [
        "decimal",
        "integer",
        "long",
        "int",
        "short",
        "byte",
        "nonNegativeInteger",
        "positiveInteger",
        "unsignedLong",
        "unsignedInt",
        "unsignedShort",
        "unsignedByte",
        "nonPositiveInteger",
        "negativeInteger",
        "double",
        "float",
        "number",
        "gYear",
    ]
)
_TEXTS = frozenset(("string", "normalizedString", "token", "boolean", "xml", "html", "json", "Name", "NMTOKEN"))
_LABELS = ("dc:description", "rdfs:label", "schema:description", "dc:title", "rdfs:comment", "schema:name")
_TITLES = ("dc:title", "schema:name", "rdfs:label")


def read_csvw(record: Mapping[str, Any], where: str, data: str, opened: Opener) -> dict[str, Any]:
    """Read CSVW metadata as `Codebook.from_mapping` takes it: of its tables the one of the `data` file, or the only one.

    `opened` reads a schema that stands in a file of its own.
    """
    tables = tables_in(record["tables"], "tables", where) if "tables" in record else [record]
    table = tables[chosen([unquote(str(t.get("url", ""))) for t in tables], data, where, "tables")]
    schema = table.get("tableSchema", record.get("tableSchema"))
    if isinstance(schema, str):
        schema = opened(schema)
    if not isinstance(schema, Mapping):
        raise CodebookError(f"{where}: the table `{table.get('url', '')}` has no `tableSchema`.")
    key = schema.get("primaryKey")
    keys = [key] if isinstance(key, str) else key if isinstance(key, list) else []
    columns: dict[str, Any] = {}
    for column in tables_in(schema.get("columns"), "columns", where):
        if column.get("virtual") is True:
            continue
        name = _text(column.get("titles")) or unquote(named(column, "name", where))
        is_key = keys == [column.get("name", name)]
        inherited = {k: schema.get(k, table.get(k, record.get(k))) for k in ("null", "datatype")}
        columns[name] = _entry({**inherited, **column}, is_key, f"{where}, column `{name}`")
    title = next((text for key in _TITLES for part in (table, record) if (text := _text(part.get(key)))), "")
    found: dict[str, Any] = {"columns": columns}
    return {"title": title, **found} if title else found


def _entry(column: Mapping[str, Any], is_key: bool, where: str) -> dict[str, Any]:
    found: dict[str, Any] = {}
    label = next((text for key in _LABELS if (text := _text(column.get(key)))), "")
    if label:
        found["label"] = label
    datatype = column.get("datatype")
    base = str(datatype.get("base", "string") if isinstance(datatype, Mapping) else datatype)
    if base in _NUMBERS:
        found["kind"] = "numeric"
    elif base in _TEXTS:
        found["kind"] = "categorical"
    null = column.get("null")
    codes = [code_text(c) for c in (null if isinstance(null, list) else [null] if isinstance(null, str) else [])]
    missing = list(dict.fromkeys(code for code in codes if code))
    if missing:
        found["missing"] = missing
    if is_key:
        found["role"] = "identifier"
    return with_ours(found, column.get(_OURS), where)


def _text(value: object) -> str:
    """Read a text of natural language: as it is, of the first language, or the first of several."""
    if isinstance(value, str):
        return value
    if isinstance(value, list):
        return _text(value[0]) if value else ""
    if isinstance(value, Mapping):
        return _text(value["@value"]) if "@value" in value else _text(next(iter(value.values()), ""))
    return ""


def csvw_text(book: Codebook, guesses: Mapping[str, str], data: str) -> str:
    """Return a codebook as CSVW metadata of one table."""
    columns = [_column(spec, guesses.get(name, "")) for name, spec in book.columns.items()]
    names = [f"column_{k}" for k in range(1, len(columns) + 1)]
    keys = [k for k, spec in zip(names, book.columns.values(), strict=True) if spec.role == "identifier"]
    schema: dict[str, Any] = {"columns": [{"name": k, **c} for k, c in zip(names, columns, strict=True)]}
    if len(keys) == 1:
        schema["primaryKey"] = keys[0]
    title = {"dc:title": book.title} if book.title else {}
    return to_json({"@context": _CONTEXT, "url": data, **title, "tableSchema": schema})


def _column(spec: ColumnSpec, guess: str) -> dict[str, Any]:
    column: dict[str, Any] = {"titles": spec.name}
    entry = entry_of(spec)
    held: dict[str, Any] = {}
    if spec.label:
        column["dc:description"] = held["label"] = spec.label
    if spec.kind:
        column["datatype"] = "number" if spec.kind == "numeric" else "string"
        held["kind"] = "numeric" if spec.kind == "numeric" else "categorical"
    if spec.missing:
        column["null"] = ["", *(code.code for code in spec.missing)]
        held["missing"] = [code.code for code in spec.missing]
    ours = rest_of(entry, held, guess)
    return column | ({_OURS: ours} if ours else {})
