"""DDI-Codebook 2.5 (XML): variables with labels, categories, missing values and units.

Parsed without entities and without a network. Elements are known by their names in whatever version's namespace.
"""

from __future__ import annotations

import json
import re
import xml.etree.ElementTree as Tree
from collections.abc import Iterator, Mapping
from typing import Any

import defusedxml
import defusedxml.ElementTree

from markbase.core.errors import CodebookError, count_noun, remark
from markbase.core.study.codebook import Codebook, ColumnSpec, code_text
from markbase.files.standards.common import OURS, chosen, entry_of, rest_of, with_ours

_SPACE = "ddi:codebook:2_5"
_GROUPS = {
    "nominal": "categorical",
    "ordinal": "ordinal",
    "interval": "numeric",
    "ratio": "numeric",
    "percent": "numeric",
}
_MOST_IN_RANGE = 1_000
"""Whole numbers of a range of missing values that are written out."""
_NOT_IN_XML = re.compile("[^\\t\\n\\r\\u0020-\\ud7ff\\ue000-\\ufffd\\U00010000-\\U0010ffff]")


def read_ddi(content: bytes, where: str, data: str) -> dict[str, Any]:
    """Read a DDI codebook as `Codebook.from_mapping` takes it: of its files the one of the `data` file, or the only one.

    Raises a `CodebookError` if it is not XML, declares entities, or describes no variables, or none of the data file.
    """
    try:
        root = defusedxml.ElementTree.fromstring(content)
    except Tree.ParseError as problem:
        raise CodebookError(f"{where} is not XML that can be read: {problem}.") from None
    except defusedxml.DefusedXmlException:
        raise CodebookError(
            f"{where} declares entities, which are not read; save it without a document type."
        ) from None
    except (ValueError, LookupError, RecursionError) as problem:
        raise CodebookError(f"{where} is not XML that can be read: {str(problem).splitlines()[0]}.") from None
    variables = list(_all(root, "var"))
    if not variables:
        raise CodebookError(f"{where} describes no variables: it has no element `var`.")
    files = {f.get("ID", ""): _words(next(_all(f, "fileName"), None)) for f in _all(root, "fileDscr")}
    if len(files) > 1:
        names = list(files.values())
        own = list(files)[chosen(names, data, where, "files")]
        variables = [v for v in variables if own in v.get("files", own).split()]
    columns: dict[str, Any] = {}
    for variable in variables:
        name = variable.get("name") or variable.get("ID") or ""
        if not name:
            raise CodebookError(f"{where}: a variable has no `name`.")
        if name in columns:
            raise CodebookError(f"{where}: the variable `{name}` is described twice.")
        columns[name] = _entry(variable, f"{where}, variable `{name}`")
    title = next((_words(t) for path in _all(root, "titlStmt") for t in _children(path, "titl")), "")
    found: dict[str, Any] = {"columns": columns}
    return {"title": title, **found} if title else found


def _entry(variable: Tree.Element, where: str) -> dict[str, Any]:
    found: dict[str, Any] = {}
    label = _label(variable) or next((_words(q) for q in _all(variable, "qstnLit")), "")
    if label:
        found["label"] = label
    levels: dict[str, str] = {}
    missing: dict[str, str] = {}
    for category in _children(variable, "catgry"):
        code = code_text(_words(next(_children(category, "catValu"), None)))
        if code:
            is_missing = category.get("missing", "N").upper() in ("Y", "YES", "TRUE")
            (missing if is_missing else levels)[code] = _label(category) or code
    for outside in _children(variable, "invalrng"):
        for code in _outside(outside, where):
            missing.setdefault(code, levels.pop(code, code))
    nature, spread = variable.get("nature", ""), variable.get("intrvl", "")
    form = next((f.get("type", "") for f in _children(variable, "varFormat")), "")
    if nature in _GROUPS:
        found["kind"] = _GROUPS[nature]
    elif spread == "contin":
        found["kind"] = "numeric"
    elif levels or form == "character":
        found["kind"] = "categorical"
    if levels and found.get("kind") == "numeric":
        remark(
            f"{where}: it is continuous, and {count_noun(len(levels), 'label')} of single values {'was' if len(levels) == 1 else 'were'} passed over."
        )
    elif levels:
        found["levels"] = levels if any(code != name for code, name in levels.items()) else list(levels)
    if missing:
        found["missing"] = missing if any(code != name for code, name in missing.items()) else list(missing)
    if variable.get("measUnit"):
        found["unit"] = variable.get("measUnit")
    if variable.get("wgt") == "wgt":
        found["role"] = "weight"
    ours = next((_words(n) for n in _children(variable, "notes") if n.get("type") == OURS), "")
    if not ours:
        return found
    try:
        return with_ours(found, json.loads(ours), where)
    except (ValueError, RecursionError):
        raise CodebookError(f"{where}: the note of type `{OURS}` is not JSON: {ours[:80]!r}.") from None


def _outside(outside: Tree.Element, where: str) -> list[str]:
    """Return the missing codes of a range: single items, and ranges of whole numbers."""
    found = [code_text(i.get("VALUE", "")) for i in _children(outside, "item") if i.get("VALUE", "").strip()]
    for span in _children(outside, "range"):
        ends = [span.get("min", "").strip(), span.get("max", "").strip()]
        if all(re.fullmatch(r"-?\d{1,9}", end) for end in ends) and 0 <= int(ends[1]) - int(ends[0]) < _MOST_IN_RANGE:
            found += [str(code) for code in range(int(ends[0]), int(ends[1]) + 1)]
        else:
            remark(
                f"{where}: the range of missing values {ends[0] or 'open'} to {ends[1] or 'open'} is no short range of whole numbers and was passed over; blank it in preparing."
            )
    return found


def _all(element: Tree.Element, name: str) -> Iterator[Tree.Element]:
    """Return all elements of a name, of whatever namespace, below another."""
    return (e for e in element.iter() if isinstance(e.tag, str) and e.tag.rpartition("}")[2] == name)


def _children(element: Tree.Element, name: str) -> Iterator[Tree.Element]:
    return (e for e in element if isinstance(e.tag, str) and e.tag.rpartition("}")[2] == name)


def _words(element: Tree.Element | None) -> str:
    """Return the text of an element, whatever stands inside, blanks as one."""
    return "" if element is None else " ".join("".join(element.itertext()).split())


def _label(element: Tree.Element) -> str:
    """Return the label of a variable or a category: the one of no other level."""
    labels = list(_children(element, "labl"))
    own = [e for e in labels if e.get("level", "variable") in ("variable", "category", "catgry")]
    return _words(next(iter(own or labels), None))


def ddi_text(book: Codebook, guesses: Mapping[str, str], data: str) -> str:
    """Return a codebook as DDI-Codebook 2.5; raises CodebookError if it holds what XML cannot."""
    Tree.register_namespace("", _SPACE)
    root = _element(None, "codeBook", version="2.5")
    title = _element(_element(_element(root, "stdyDscr"), "citation"), "titlStmt")
    _element(title, "titl", book.title or data)
    _element(_element(_element(root, "fileDscr", ID="F1"), "fileTxt"), "fileName", data)
    described = _element(root, "dataDscr")
    for number, spec in enumerate(book.columns.values(), 1):
        _variable(described, spec, number, guesses.get(spec.name, ""))
    Tree.indent(root)
    text = Tree.tostring(root, encoding="unicode", xml_declaration=False)
    strange = _NOT_IN_XML.search(text)
    if strange:
        raise CodebookError(
            f"A name or a label holds the character {strange[0]!r}, which XML cannot; write the codebook as .toml or .json."
        )
    return f'<?xml version="1.0" encoding="UTF-8"?>\n{text}\n'


def _element(parent: Tree.Element | None, name: str, text: str = "", /, **attributes: str) -> Tree.Element:
    tag = f"{{{_SPACE}}}{name}"
    made = Tree.Element(tag, attributes) if parent is None else Tree.SubElement(parent, tag, attributes)
    if text:
        made.text = text
    return made


def _variable(parent: Tree.Element, spec: ColumnSpec, number: int, guess: str) -> None:
    attributes = {"ID": f"V{number}", "name": spec.name, "files": "F1"}
    entry = entry_of(spec)
    held: dict[str, Any] = {key: entry[key] for key in ("levels", "missing") if key in entry}
    if spec.role == "weight":
        attributes["wgt"], held["role"] = "wgt", "weight"
    if spec.kind:
        attributes["intrvl"] = "contin" if spec.kind == "numeric" else "discrete"
        attributes["nature"] = {"numeric": "interval", "categorical": "nominal", "ordinal": "ordinal"}[spec.kind]
        held["kind"] = spec.kind
    if spec.unit:
        attributes["measUnit"] = held["unit"] = spec.unit.many
    made = _element(parent, "var", **attributes)
    if spec.label:
        _element(made, "labl", spec.label)
        held["label"] = " ".join(spec.label.split())
    told = any(code.label for code in spec.missing)
    if spec.missing and not told:
        outside = _element(made, "invalrng")
        for code in spec.missing:
            _element(outside, "item", VALUE=code.code)
    for level in spec.levels:
        _category(made, level.code, level.label)
    if told:
        for code in spec.missing:
            _category(made, code.code, code.label or code.code, missing="Y")
    ours = rest_of(entry, held, guess)
    if any(text != " ".join(text.split()) for text in _texts(held)):
        ours |= entry  # blanks that XML would not keep
    if ours:
        _element(made, "notes", json.dumps(ours, ensure_ascii=True), type=OURS)


def _texts(held: Mapping[str, Any]) -> Iterator[str]:
    for value in held.values():
        yield from (
            value if isinstance(value, list) else [*value, *value.values()] if isinstance(value, dict) else [value]
        )


def _category(parent: Tree.Element, code: str, label: str, /, **attributes: str) -> None:
    category = _element(parent, "catgry", **attributes)
    _element(category, "catValu", code)
    _element(category, "labl", label)
