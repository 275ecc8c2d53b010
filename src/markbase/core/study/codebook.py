"""What is known of the columns before the data are read."""

from __future__ import annotations

import datetime
import re
from collections.abc import Mapping
from dataclasses import dataclass, field, replace
from typing import Any, cast

import numpy as np
import pandas as pd

from markbase.core.errors import CodebookError, count_noun, listed, near, quoted
from markbase.core.study.column import KINDS, ROLES, Kind, Level, MissingCode, Role, Unit

DECLARABLE = {
    **dict.fromkeys(("centre", "cube_root", "log", "log1p", "reciprocal", "sqrt", "square", "unit_range", "z"), (1, 1)),
    **dict.fromkeys(("difference", "product", "ratio"), (2, 2)),
    **dict.fromkeys(("mean", "sum"), (2, 1000)),
}
"""Operations that a column of a file can be declared to be made by, with the least and the most columns they take."""
_LAST_ZEROS = re.compile(r"(\.\d*[1-9])0+(?=$|[+-])")
_KEYS = ("base", "kind", "label", "levels", "made", "missing", "role", "unit")

GIVEN_KINDS = tuple(sorted((*KINDS, "identifier")))
"""What a column can be said to be in one word: its kind, or that it is an identifier."""


@dataclass(frozen=True)
class ColumnSpec:
    """What the codebook says of one column."""

    name: str
    """The column's name in the file."""
    kind: Kind | None = None
    """``numeric``, ``categorical`` or ``ordinal``; None leaves it to be guessed."""
    role: Role | None = None
    """``identifier``, ``weight``, ``cluster``, ``stratum`` or None."""
    label: str = ""
    """What the column asks or measures."""
    unit: Unit | None = None
    """What a numeric column is counted in."""
    levels: tuple[Level, ...] = ()
    """The levels expected, in order."""
    missing: tuple[MissingCode, ...] = ()
    """The codes that stand for a missing answer."""
    base: str = ""
    """The reference level, by label or code."""
    made: tuple[str, tuple[str, ...]] | None = None
    """How the column was made, and of which columns; None if it was not, or nobody said."""


@dataclass(frozen=True)
class Codebook:
    """What is known of a data file: one entry a column."""

    columns: Mapping[str, ColumnSpec] = field(default_factory=dict)
    """The entries by column name."""
    title: str = ""
    """What the file is, in a line."""
    source: str = "the codebook"
    """Where it was read from, for messages."""
    wider: bool = False
    """Whether it may describe columns that the data do not have, as that of an archive does of an extract."""

    @classmethod
    def from_mapping(cls, mapping: Mapping[str, Any], source: str = "the codebook") -> Codebook:
        """Read a codebook from nested mappings, as a TOML file gives them.

        Parameters
        ----------
        mapping : mapping
            ``{"title": str, "columns": {name: entry}}``; an entry may hold ``label``, ``kind``,
            ``role``, ``unit`` (a text, or ``[one, many]``), ``levels`` (a list of levels, or a
            mapping of code to label), ``missing`` (a list of codes, or a mapping of code to
            meaning), ``base`` and ``made`` (``{"log": "wage"}``: the operation, and the column or columns it was done to).
        source : str
            What to call it in messages.

        Returns
        -------
        Codebook
            The codebook, checked.

        Raises
        ------
        CodebookError
            For an unknown key, kind or role, a value of the wrong type, levels given twice, or
            levels, missing codes and base that contradict one another.
        """
        for key in mapping:
            if key not in ("title", "columns"):
                raise CodebookError(f"{source}: unknown key `{key}`.{near(key, ['title', 'columns'])}")
        columns = mapping.get("columns", {})
        if not isinstance(columns, Mapping):
            raise CodebookError(f"{source}: `columns` must be a table of columns, not {columns!r}.")
        specs = {str(name): _spec(str(name), entry, source) for name, entry in columns.items()}
        return cls(specs, str(mapping.get("title", "")), source)

    def with_kind(self, name: str, kind: str) -> Codebook:
        """Return a codebook that declares a column's kind, or that it is an identifier.

        Parameters
        ----------
        name : str
            The column.
        kind : str
            ``numeric``, ``categorical``, ``ordinal`` or ``identifier``.

        Returns
        -------
        Codebook
            The codebook with that entry changed or added.

        Raises
        ------
        CodebookError
            If there is no such kind, or the entry contradicts it.

        Examples
        --------
        >>> import markbase as mb
        >>> book = mb.Codebook.from_mapping({"columns": {"day": {"label": "Day"}}})
        >>> book.with_kind("day", "categorical").columns["day"].kind
        'categorical'
        """
        if kind not in GIVEN_KINDS:
            raise CodebookError(f"`{name}` cannot be `{kind}`; it can be {listed(quoted(GIVEN_KINDS), 'or')}.")
        spec = self.columns.get(name, ColumnSpec(name))
        spec = replace(spec, role="identifier") if kind == "identifier" else replace(spec, kind=cast("Kind", kind))
        _check(spec, f"{self.source}, column `{name}`")
        return replace(self, columns={**self.columns, name: spec})

    def with_labels(self, labels: Mapping[str, str]) -> Codebook:
        """Return a codebook that says what columns are called in full, where it does not yet.

        Parameters
        ----------
        labels : mapping of str to str
            What each of some columns is called in full.

        Returns
        -------
        Codebook
            The codebook with these labels added; what it says itself stays.
        """
        known = {name: self.columns.get(name, ColumnSpec(name)) for name in labels}
        fresh = {name: replace(spec, label=labels[name]) for name, spec in known.items() if not spec.label}
        return replace(self, columns={**self.columns, **fresh}) if fresh else self


def as_codebook(codebook: Codebook | Mapping[str, Any] | None) -> Codebook:
    """Accept a codebook, nested mappings, or None for an empty one."""
    if codebook is None:
        return Codebook()
    if isinstance(codebook, Codebook):
        return codebook
    if isinstance(codebook, Mapping):
        return Codebook.from_mapping(codebook)
    raise CodebookError(
        f"A codebook is a `Codebook` or a mapping, not {type(codebook).__name__}; "
        f"`markbase.read_codebook(path)` reads one from a file."
    )


def _spec(name: str, entry: object, source: str) -> ColumnSpec:
    where = f"{source}, column `{name}`"
    if not isinstance(entry, Mapping):
        raise CodebookError(f"{where}: expected a table with keys such as `kind` or `label`, not {entry!r}.")
    for key in entry:
        if key not in _KEYS:
            raise CodebookError(f"{where}: unknown key `{key}`.{near(str(key), _KEYS)}")
    kind = _choice(entry.get("kind"), KINDS, "kind", where)
    levels = tuple(Level(code, label) for code, label in _pairs(entry.get("levels", ()), "levels", where))
    missing = tuple(MissingCode(c, "" if c == m else m) for c, m in _pairs(entry.get("missing", ()), "missing", where))
    spec = ColumnSpec(
        name=name,
        kind=cast("Kind | None", kind or ("categorical" if levels else None)),
        role=cast("Role | None", _choice(entry.get("role"), ROLES, "role", where)),
        label=_text(entry.get("label", ""), "label", where),
        unit=_unit(entry.get("unit"), where),
        levels=levels,
        missing=missing,
        base=code_text(entry.get("base", "")),
        made=_made(entry.get("made"), where),
    )
    _check(spec, where)
    return spec


def _check(spec: ColumnSpec, where: str) -> None:
    if spec.kind == "numeric" and (spec.levels or spec.base):
        what = "levels" if spec.levels else "a base"
        raise CodebookError(f"{where}: a numeric column has no {what}; declare it categorical, or leave the key out.")
    if spec.made and (spec.kind in ("categorical", "ordinal") or spec.role == "identifier"):
        raise CodebookError(
            f"{where}: only a numeric column is made of others; leave `made` out, or declare it numeric."
        )
    for what, texts in (("code", [v.code for v in spec.levels]), ("label", [v.label for v in spec.levels])):
        twice = sorted({text for text in texts if texts.count(text) > 1})
        if twice:
            raise CodebookError(f"{where}: {what} {listed(quoted(twice))} is given to two levels; each needs its own.")
    both = sorted({v.code for v in spec.levels} & {c.code for c in spec.missing})
    if both:
        raise CodebookError(f"{where}: {listed(quoted(both))} is both a level and a missing code; keep it in one list.")
    if spec.base and spec.levels and spec.base not in {t for v in spec.levels for t in (v.code, v.label)}:
        raise CodebookError(
            f"{where}: the base `{spec.base}` is not among the levels.{near(spec.base, [v.label for v in spec.levels])}"
        )


def _made(value: object, where: str) -> tuple[str, tuple[str, ...]] | None:
    """Read ``{log = "wage"}`` or ``{sum = ["rehearsals", "concerts"]}``."""
    if value is None:
        return None
    if not isinstance(value, Mapping) or len(value) != 1:
        raise CodebookError(
            f'{where}: `made` is one operation and its columns, such as {{log = "wage"}}, not {value!r}.'
        )
    how, of = next(iter(value.items()))
    if how not in DECLARABLE:
        raise CodebookError(
            f"{where}: `made` knows no operation `{how}`; there are {listed(quoted(sorted(DECLARABLE)))}.{near(str(how), DECLARABLE)}"
        )
    columns = [of] if isinstance(of, str) else of
    if not isinstance(columns, (list, tuple)) or not columns or not all(isinstance(c, str) and c for c in columns):
        raise CodebookError(f"{where}: `made` names the columns of `{how}`, one or a list of them, not {of!r}.")
    least, most = DECLARABLE[how]
    if not least <= len(columns) <= most:
        wanted = count_noun(least, "column") if least == most else f"{least} columns or more"
        raise CodebookError(f"{where}: `{how}` is made of {wanted}, not of {len(columns)}.")
    return str(how), tuple(columns)


def code_text(code: object) -> str:
    """Write a code as the file would: whole numbers without a decimal point, moments as ISO 8601 has them, without a fraction or time of 0."""
    if isinstance(code, bool):
        return str(code).lower()
    if isinstance(code, float) and code.is_integer():
        return str(int(code))
    if isinstance(code, np.datetime64):
        code = pd.Timestamp(code)
    if isinstance(code, (datetime.date, datetime.time)):
        return _LAST_ZEROS.sub(r"\1", code.isoformat()).removesuffix("T00:00:00")
    return code.decode() if isinstance(code, bytes) else str(code).strip()


def _choice(value: object, choices: tuple[str, ...], key: str, where: str) -> str | None:
    if value is None or value == "":
        return None
    if value not in choices:
        raise CodebookError(f"{where}: `{key}` is {value!r}; it can be {listed(quoted(sorted(choices)), 'or')}.")
    return str(value)


def _text(value: object, key: str, where: str) -> str:
    if not isinstance(value, str):
        raise CodebookError(f"{where}: `{key}` must be text between quotes, not {value!r}.")
    return value


def _unit(value: object, where: str) -> Unit | None:
    if value is None or value == "":
        return None
    if isinstance(value, str):
        return Unit(value, value)
    if isinstance(value, (list, tuple)) and len(value) == 2 and all(isinstance(v, str) for v in value):
        return Unit(value[0], value[1])
    raise CodebookError(
        f"{where}: `unit` must be a text, or two for one and many such as ['year', 'years'], not {value!r}."
    )


def _pairs(value: object, key: str, where: str) -> list[tuple[str, str]]:
    if isinstance(value, Mapping):
        return [(code_text(code), code_text(label)) for code, label in value.items()]
    if isinstance(value, (list, tuple)) and not any(isinstance(v, (list, dict)) for v in value):
        return [(code_text(v), code_text(v)) for v in value]
    raise CodebookError(f"{where}: `{key}` must be a list of codes or a table of code and label, not {value!r}.")
