"""Codebooks in TOML: read, drafted from data with every guess marked, and written."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

import tomlkit
import tomlkit.items

from markbase.core.arguments import checked
from markbase.core.errors import CodebookError
from markbase.core.study.codebook import DECLARABLE, Codebook
from markbase.core.study.column import Column
from markbase.core.study.study import Study
from markbase.files.text_files import read_toml
from markbase.files.whole_files import refuse_to_replace, write_whole

_MOST_LEVELS = 60


def read_codebook(path: str | Path) -> Codebook:
    """Read a codebook from a TOML file.

    Parameters
    ----------
    path : str or Path
        The file: an optional ``title``, and a table ``[columns.NAME]`` for each column described,
        with any of ``label``, ``kind``, ``role``, ``unit``, ``levels``, ``missing``, ``base``,
        ``made``.

    Returns
    -------
    Codebook
        The codebook, checked.

    Raises
    ------
    FileError
        If the file cannot be read.
    CodebookError
        If it is not TOML, or says something a codebook cannot say.
    """
    path = Path(path)
    mapping, _ = read_toml(path, CodebookError)
    return Codebook.from_mapping(mapping, source=path.name)


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
        so; levels of groups with more than 60 are not listed.
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


def _entry(column: Column, names: Sequence[str]) -> tomlkit.items.Table:
    entry = tomlkit.table()
    entry["label"] = column.label
    entry["kind"] = column.kind
    if column.guess:
        entry["kind"].comment(
            column.guess.replace("guessed", "guessed:", 1) + (f"; {column.doubt}" if column.doubt else "")
        )
    if column.role:
        entry["role"] = column.role
    if column.unit:
        entry["unit"] = column.unit.one if column.unit.one == column.unit.many else [column.unit.one, column.unit.many]
    if column.is_categorical and column.role != "identifier" and len(column.levels) <= _MOST_LEVELS:
        if all(level.code == level.label for level in column.levels):
            entry["levels"] = [level.label for level in column.levels]
        else:
            labels = tomlkit.inline_table()
            labels.update({level.code: level.label for level in column.levels})
            entry["levels"] = labels
        if column.guess:
            entry["levels"].comment("guessed: the values that occur")
    codes = [c for c in column.missing_codes if c.code]
    if codes and any(c.label for c in codes):
        meanings = tomlkit.inline_table()
        meanings.update({c.code: c.label or c.code for c in codes})
        entry["missing"] = meanings
    elif codes:
        entry["missing"] = [c.code for c in codes]
    if column.base is not None and column.base.chosen:
        entry["base"] = column.levels[column.base.level].label
    made = column.made
    if made is not None and made.how in DECLARABLE and made.sources and set(made.of) <= set(names):
        entry["made"] = tomlkit.inline_table()
        entry["made"][made.how] = made.of[0] if len(made.of) == 1 else list(made.of)
    return entry


def write_codebook(study: Study, path: str | Path, *, replace: bool = False) -> None:
    """Write the codebook of a study.

    Parameters
    ----------
    study : Study
        The study.
    path : str or Path
        The TOML file.
    replace : bool
        Whether a file that is there may be written over.

    Raises
    ------
    FileError
        If the file is there already, or cannot be written.
    """
    refuse_to_replace(Path(path), replace)
    write_whole(Path(path), codebook_text(study).encode())
