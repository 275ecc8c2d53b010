"""Codebooks read, drafted from data with every guess marked, and written: in TOML, or in a standard of data archives."""

from __future__ import annotations

import dataclasses
from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import Any

import tomlkit
import tomlkit.items

from markbase.core.arguments import checked
from markbase.core.errors import CodebookError, FileError, listed
from markbase.core.study.codebook import DECLARABLE, Codebook, ColumnSpec
from markbase.core.study.column import Column
from markbase.core.study.study import Study
from markbase.files.standards.codebook_table import codebook_table_text, read_codebook_table
from markbase.files.standards.common import entry_of, parsed_json
from markbase.files.standards.csvw import csvw_text, read_csvw
from markbase.files.standards.ddi import ddi_text, read_ddi
from markbase.files.standards.table_schema import package_text, read_package, read_schema, schema_text
from markbase.files.text_files import read_bytes, read_text, read_toml
from markbase.files.whole_files import refuse_to_replace, write_whole

_MOST_LEVELS = 60


@checked
def read_codebook(path: str | Path, data: str = "") -> Codebook:
    """Read a codebook from a file.

    Parameters
    ----------
    path : str or Path
        The file. ``.toml``: an optional ``title``, and a table ``[columns.NAME]`` for each column described, with any of ``label``,
        ``kind``, ``role``, ``unit``, ``levels``, ``missing``, ``base``, ``made``. ``.xml``: DDI-Codebook. ``.json``: a Data
        Package, a Table Schema, CSVW metadata, or the tables of the TOML. ``.csv``, ``.tsv``: a row a column or a level.
    data : str
        The name of the data file, where the codebook describes several.

    Returns
    -------
    Codebook
        The codebook, checked.

    Raises
    ------
    FileError
        If the file cannot be read.
    CodebookError
        If it is not what it ends in, or says something a codebook cannot say.

    Examples
    --------
    >>> import markbase as mb
    >>> book = mb.read_codebook(mb.demo.path("choirs.codebook.toml"))
    >>> book.columns["age"].unit
    Unit(one='year', many='years')
    """
    path = Path(path)
    suffix = path.suffix.lower()
    found: Mapping[str, Any]
    if suffix == ".xml":
        found = read_ddi(read_bytes(path), f"`{path}`", data)
    elif suffix == ".json":
        found = _read_json(path, data)
    elif suffix in (".csv", ".tsv"):
        found = read_codebook_table(read_text(path), f"`{path}`")
    else:
        found, _ = read_toml(path, CodebookError)
    book = Codebook.from_mapping(found, source=path.name)
    return dataclasses.replace(book, wider=suffix in (".xml", ".json", ".csv", ".tsv"))


def _read_json(path: Path, data: str) -> Mapping[str, Any]:
    """Read a codebook in JSON, told by what stands in it."""
    where = f"`{path}`"

    def opened(name: str) -> Mapping[str, Any]:
        if "://" in name or Path(name).is_absolute() or ".." in Path(name).parts:
            raise CodebookError(
                f"{where}: its schema `{name}` is no file beside it, and nothing else is opened; save it beside."
            )
        return parsed_json(read_text(path.parent / name), f"`{path.parent / name}`")

    record = parsed_json(read_text(path), where)
    if "resources" in record:
        return read_package(record, where, data, opened)
    if "fields" in record:
        return read_schema(record, where)
    if "tableSchema" in record or "tables" in record:
        return read_csvw(record, where, data, opened)
    if "columns" in record:
        return record
    raise CodebookError(
        f"{where} is no codebook: it has neither `resources` (a Data Package), `fields` (a Table Schema), `tableSchema` (CSVW) nor `columns`."
    )


def codebook_content(study: Study, path: Path) -> bytes:
    """Return the codebook of a study as a file of that name holds it.

    ``.toml``; ``.xml`` for DDI-Codebook; ``-metadata.json`` for CSVW, ``schema.json`` for a Table Schema, any other
    ``.json`` for a Data Package; ``.csv`` for a table. Raises a `CodebookError` if it holds what the standard cannot.
    """
    suffix, name = path.suffix.lower(), path.name.lower()
    if suffix == ".toml":
        return codebook_text(study).encode()
    writers = {".xml": ddi_text, ".csv": codebook_table_text, ".json": package_text}
    if suffix not in writers:
        raise FileError(
            f"`{path}` does not end in {listed(['.toml', *sorted(writers)], 'or')}; codebooks are written as such."
        )
    write = (
        csvw_text
        if name.endswith("-metadata.json")
        else schema_text
        if name.endswith("schema.json")
        else writers[suffix]
    )
    specs = {column: _spec(study[column], study.columns) for column in study.columns}
    guesses = {column: study[column].guess for column in study.columns if study[column].guess}
    return write(Codebook(specs, study.title), guesses, study.name).encode()


@checked
def codebook_text(study: Study) -> str:
    """Draft the codebook of a study, with everything that was guessed marked as a guess.

    Parameters
    ----------
    study : Study
        The study.

    Returns
    -------
    str
        TOML that `read_codebook` reads. A kind that was guessed has a comment behind it that says
        so; more than 60 levels are listed only where they have labels or an order.

    Examples
    --------
    >>> import markbase as mb
    >>> print(mb.codebook_text(mb.demo.choirs())[:61])
    title = "Singers in the amateur choirs of an invented valley"
    """
    document = tomlkit.document()
    guessed = [name for name in study.columns if study[name].guess]
    if guessed:
        document.add(
            tomlkit.comment(
                f"Drafted from {study.name}. What was guessed is marked; check it, then take the mark away."
            )
        )
    if study.title:
        document["title"] = study.title
    columns = tomlkit.table(is_super_table=True)
    for name in study.columns:
        columns[name] = _entry(study[name], study.columns)
    document["columns"] = columns
    return tomlkit.dumps(document)


def _spec(column: Column, names: Sequence[str]) -> ColumnSpec:
    """Return what a codebook says of a column."""
    made = column.made
    declared = made is not None and made.how in DECLARABLE and made.sources and set(made.of) <= set(names)
    told = column.kind == "ordinal" or any(level.label != level.code for level in column.levels)
    few = len(column.levels) <= _MOST_LEVELS
    listed_levels = column.is_categorical and column.role != "identifier" and (few or told)
    return ColumnSpec(
        column.name,
        column.kind,
        column.role,
        column.label,
        column.unit,
        tuple(column.levels) if listed_levels else (),
        tuple(code for code in column.missing_codes if code.code),
        column.levels[column.base.level].label if column.base is not None and column.base.chosen else "",
        (made.how, tuple(made.of)) if made is not None and declared else None,
    )


def _entry(column: Column, names: Sequence[str]) -> tomlkit.items.Table:
    """Return the entry of a column in TOML, what was guessed marked."""
    entry = tomlkit.table()
    entry["label"] = column.label
    for key, value in entry_of(_spec(column, names)).items():
        if isinstance(value, Mapping):
            inline = tomlkit.inline_table()
            inline.update(value)
            value = inline
        entry[key] = value
    if column.guess:
        doubt = f"; {column.doubt}" if column.doubt else ""
        entry["kind"].comment(column.guess.replace("guessed", "guessed:", 1) + doubt)
        if "levels" in entry:
            entry["levels"].comment("guessed: the values that occur")
    return entry


@checked
def write_codebook(study: Study, path: str | Path, *, replace: bool = False) -> None:
    """Write the codebook of a study.

    Parameters
    ----------
    study : Study
        The study.
    path : str or Path
        The file, of a kind that `read_codebook` reads: ``.toml``; ``.xml`` for DDI-Codebook; ``-metadata.json`` for CSVW,
        ``schema.json`` for a Table Schema, any other ``.json`` for a Data Package; ``.csv`` for a table.
    replace : bool
        Whether a file that is there may be written over.

    Raises
    ------
    FileError
        If the file is there already, cannot be written, or ends in something else.
    CodebookError
        If it holds what the standard cannot.

    Examples
    --------
    >>> import markbase as mb
    >>> import tempfile
    >>> with tempfile.TemporaryDirectory() as folder:
    ...     mb.write_codebook(mb.demo.choirs(), f"{folder}/choirs.xml")
    ...     print(mb.read_codebook(f"{folder}/choirs.xml").title)
    Singers in the amateur choirs of an invented valley
    """
    content = codebook_content(study, Path(path))
    refuse_to_replace(Path(path), replace)
    write_whole(Path(path), content)
