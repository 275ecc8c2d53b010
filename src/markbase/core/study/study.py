"""The study: an immutable table of typed columns with its codebook and its trail."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import replace
from typing import Any

import pandas as pd

from markbase.core.display import Shown
from markbase.core.errors import CodebookError, ColumnError, MarkbaseError, listed, near, quoted, remark
from markbase.core.study.base import choose_base
from markbase.core.study.building import build_column
from markbase.core.study.codebook import Codebook, ColumnSpec, as_codebook, code_text
from markbase.core.study.column import Column, MissingCode
from markbase.core.study.overview import levels_table, overview_table, values_table
from markbase.core.study.remarks import THIN_ROWS
from markbase.core.study.trail import Trail, TrailStep


class Study(Shown):
    """An immutable table of typed columns.

    Every step that prepares it returns a new study and adds a line to its trail; the source is
    never overwritten.

    Parameters
    ----------
    frame : pandas.DataFrame
        One row a case, one column a question.
    codebook : Codebook or mapping, optional
        What is known of the columns; the kind of a column it does not mention is guessed, and
        the guess is shown in `overview`.
    missing : sequence
        Codes that stand for a missing answer in every column.
    name : str
        What to call the data in output.

    Raises
    ------
    ColumnError
        For a column name that occurs twice or is empty.
    CodebookError
        For a codebook with a column that the frame does not have.
    LevelError
        For a declared base that is not a level.

    Examples
    --------
    >>> import pandas as pd
    >>> study = Study(pd.DataFrame({"part": ["low", "high", "low"], "age": [31, 44, 52]}))
    >>> study.levels("part")[["level", "count", "base"]]
      level  count   base
    0  high      1  False
    1   low      2   True
    """

    def __init__(
        self,
        frame: pd.DataFrame,
        codebook: Codebook | Mapping[str, Any] | None = None,
        *,
        missing: Sequence[object] = (),
        name: str = "data",
    ) -> None:
        if not isinstance(frame, pd.DataFrame):
            raise MarkbaseError(f"A study is made of a pandas DataFrame, not {type(frame).__name__}.")
        book = as_codebook(codebook)
        names = [str(c) for c in frame.columns]
        twice = sorted({n for n in names if names.count(n) > 1})
        if twice:
            raise ColumnError(
                f"{name}: the column name {listed(quoted(twice))} occurs twice; give each column its own name."
            )
        for wanted in book.columns:
            if wanted not in names:
                raise CodebookError(
                    f"{book.source} describes `{wanted}`, which {name} does not have.{near(wanted, names)}"
                )
        codes = tuple(MissingCode(code_text(code), "") for code in missing)
        self._columns = {
            n: build_column(frame.iloc[:, k], book.columns.get(n, ColumnSpec(n)), codes) for k, n in enumerate(names)
        }
        self._rows = len(frame)
        self._name = name
        self._title = book.title
        opened = TrailStep("open", "", f"Opened {name}: {self._rows:,} rows, {len(names)} columns.")
        self._trail = Trail((opened,))

    @property
    def rows(self) -> int:
        """How many rows there are."""
        return self._rows

    @property
    def name(self) -> str:
        """What the data are called."""
        return self._name

    @property
    def title(self) -> str:
        """What the data are, in the codebook's words."""
        return self._title

    @property
    def columns(self) -> tuple[str, ...]:
        """The names of the columns, in the file's order."""
        return tuple(self._columns)

    @property
    def trail(self) -> Trail:
        """Everything that was done to the study."""
        return self._trail

    def __getitem__(self, name: str) -> Column:
        return self.column(name)

    def __contains__(self, name: object) -> bool:
        return name in self._columns

    def __len__(self) -> int:
        return self._rows

    def column(self, name: str) -> Column:
        """Return one typed column.

        Parameters
        ----------
        name : str
            The name of the column.

        Returns
        -------
        Column
            The column.

        Raises
        ------
        ColumnError
            If there is no such column.
        """
        if name not in self._columns:
            raise ColumnError(f"{self._name} has no column `{name}`.{near(str(name), self._columns)}")
        return self._columns[name]

    def overview(self) -> pd.DataFrame:
        """Describe every column in a row.

        Returns
        -------
        pandas.DataFrame
            `column`, `label`, `kind`, `role`, `unit`, `rows`, `missing`, `blank`, `coded`, `levels`,
            `mean`, `sd`, `low`, `median`, `high`, `skew`, `remarks`; see `overview_table`.
        """
        return overview_table(list(self._columns.values()))

    def levels(self, name: str) -> pd.DataFrame:
        """Count the levels of a group, with its missing answers below.

        Parameters
        ----------
        name : str
            The name of a group.

        Returns
        -------
        pandas.DataFrame
            `level`, `code`, `count`, `share`, `share_valid`, `base`, `missing`, `remarks`.

        Raises
        ------
        ColumnError
            If there is no such column, or it is an amount.
        """
        column = self.column(name)
        if not column.is_group:
            raise ColumnError(
                f"`{name}` is an amount and has no levels; `values` describes it. If its numbers are codes, declare it a group."
            )
        return levels_table(column)

    def values(self, name: str) -> pd.DataFrame:
        """Describe the spread of an amount.

        Parameters
        ----------
        name : str
            The name of an amount.

        Returns
        -------
        pandas.DataFrame
            `measure` and `value`: rows, distinct values, mean, sd, quartiles, skew, missing by reason.

        Raises
        ------
        ColumnError
            If there is no such column, or it is a group.
        """
        column = self.column(name)
        if column.is_group:
            raise ColumnError(f"`{name}` is a group and has levels, not a spread; `levels` counts them.")
        return values_table(column)

    def mark(self, name: str, base: object | None = None, *, by: str | None = None, reason: str = "") -> Study:
        """Choose the base of a group: the level the others are compared with.

        Parameters
        ----------
        name : str
            The name of a group.
        base : object, optional
            The level, by label or code.
        by : str, optional
            A rule instead: ``first``, ``largest``, ``last`` or ``smallest`` among the levels that
            occur; ties go to the earlier level.
        reason : str
            Why; kept in the trail and shown beside the base.

        Returns
        -------
        Study
            A new study with that base.

        Raises
        ------
        ColumnError
            If there is no such column, or it is an amount.
        LevelError
            If there is no such level or rule, or no row has the level.

        Warns
        -----
        MarkbaseWarning
            If the base has fewer than 30 rows: every comparison then rests on those few.
        """
        column = self.column(name)
        chosen = choose_base(column, base, by, reason)
        label, n = column.levels[chosen.level].label, int(column.counts[chosen.level])
        if n < THIN_ROWS:
            remark(
                f"The base `{label}` of `{name}` has only {n} rows: every comparison with it will be wide; "
                f"a larger base would do better unless this one is the point."
            )
        step = TrailStep(
            "mark",
            name,
            f"Marked `{label}` as the base of `{name}` ({n:,} of {column.valid:,} rows): {chosen.reason}.",
            {k: v for k, v in {"base": label if by is None else None, "by": by}.items() if v is not None},
            reason,
        )
        return self._with(replace(column, base=chosen), step)

    def _with(self, column: Column, step: TrailStep) -> Study:
        """Return a study with one column put in place and one more step on the trail."""
        study = object.__new__(Study)
        study.__dict__.update(self.__dict__)
        study._columns = {**self._columns, column.name: column}
        study._trail = self._trail.then(step)
        return study
