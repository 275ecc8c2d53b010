"""The study: an immutable table of typed columns with its codebook and its trail."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator, Mapping, Sequence
from typing import Any, Self

import pandas as pd

from markbase.core.arguments import checked_methods
from markbase.core.display import Shown
from markbase.core.errors import CodebookError, ColumnError, MarkbaseError, listed, near, quoted, remark
from markbase.core.rows.parts import held_parts, in_parts
from markbase.core.rows.source import PART_ROWS
from markbase.core.rows.spread import is_spread, table_of_spread
from markbase.core.rows.table import TableInParts
from markbase.core.study.codebook import Codebook, ColumnSpec, as_codebook, code_text
from markbase.core.study.column import Column, MissingCode
from markbase.core.study.column_types import build_column, in_seconds
from markbase.core.study.declared_sources import with_declared_sources
from markbase.core.study.frames import AnyTable, columns_of, frame_of
from markbase.core.study.long_form import remark_on_occasions
from markbase.core.study.other_rows import prepared_like
from markbase.core.study.overview import levels_table, overview_table, values_table
from markbase.core.study.preparing import Preparing
from markbase.core.study.remark import Remark
from markbase.core.study.remarks import remarks_on
from markbase.core.study.repeats import remark_on_counts, remark_on_repeats
from markbase.core.study.replay import carry_out
from markbase.core.study.row_selection import arrays_of
from markbase.core.study.trail import Trail, TrailStep


@checked_methods
class Study(Preparing, Shown):
    """An immutable table of typed columns.

    Every step that prepares it returns a new study and adds a line to its trail; the source is
    never overwritten.

    Parameters
    ----------
    frame : pandas.DataFrame, polars.DataFrame, pyarrow.Table, dask.dataframe.DataFrame or the like
        One row a case, one column a question. The partitions of one of Dask stay on the workers, which compute with them.
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

    _known: tuple[dict[str, Column], dict[str, list[Remark]]] | None = None
    _known_repeats: tuple[dict[str, Column], Remark | None] | None = None

    def __init__(
        self,
        frame: object,
        codebook: Codebook | Mapping[str, Any] | None = None,
        *,
        missing: Sequence[object] = (),
        name: str = "data",
    ) -> None:
        book = as_codebook(codebook)
        opened = table_of_spread(frame, book, name) if is_spread(frame) else frame
        table = columns_of(opened)
        names = [column for column, _ in table]
        twice = sorted(n for n, times in Counter(names).items() if times > 1)
        if twice:
            raise ColumnError(
                f"{name}: the column name {listed(quoted(twice))} occurs twice; give each column its own name."
            )
        other = [wanted for wanted in book.columns if wanted not in names]
        if other and (not book.wider or len(other) == len(book.columns)):
            raise CodebookError(
                f"{book.source} describes `{other[0]}`, which {name} does not have.{near(other[0], names)}"
            )
        if other:
            shown = listed(quoted(other[:3])) if len(other) <= 3 else f"`{other[0]}` and {len(other) - 1:,} others"
            remark(f"{book.source} also describes {shown}, which {name} does not have.")
        codes = tuple(MissingCode(code_text(code), "") for code in missing)
        specs = {n: book.columns.get(n, ColumnSpec(n)) for n in names}
        specs |= {n: in_seconds(specs[n]) for n in (opened.durations if isinstance(opened, TableInParts) else ())}
        read = {n: build_column(series, specs[n], codes) for n, series in table}
        self._columns = with_declared_sources(read, book)
        self._rows = len(self._columns[names[0]].values) if table else 0
        self._index = frame.index if isinstance(frame, pd.DataFrame) else pd.RangeIndex(self._rows)
        self._name = name
        self._title = book.title
        self._trail = Trail((TrailStep("open", "", f"Opened {name}: {self._rows:,} rows, {len(names)} columns."),))

    @property
    def _brief(self) -> str:
        return f"{self._name}, {self._rows:,} rows, {len(self._columns)} columns"

    @property
    def rows(self) -> int:
        """How many rows there are."""
        return self._rows

    @property
    def in_parts(self) -> bool:
        """Whether the rows are read a part at a time, and not held in memory."""
        return in_parts([column.values for column in self._columns.values()])

    @property
    def index(self) -> pd.Index[Any]:
        """The index of the rows, as the table had it."""
        return self._index

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
        return self._columns[name] if isinstance(name, str) and name in self._columns else self.column(name)

    def _ipython_key_completions_(self) -> list[str]:
        """Offer the names of the columns where one is typed in brackets."""
        return list(self._columns)

    def __contains__(self, name: object) -> bool:
        return name in self._columns

    def __iter__(self) -> Iterator[str]:
        raise MarkbaseError(
            "A study is gone through by its columns (`study.columns`) or its rows (`study.frame()`), not by itself."
        )

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

        Examples
        --------
        >>> import markbase as mb
        >>> mb.demo.choirs().column("age").unit
        Unit(one='year', many='years')
        """
        if name not in self._columns:
            hint = near(str(name), self._columns)
            if name in self._index.names and name is not None:
                hint = " It is what the rows of the table are called by (its index): make it a column (`reset_index`)."
            raise ColumnError(f"{self._name} has no column `{name}`.{hint}")
        return self._columns[name]

    def frame(self, *, codes: bool = False) -> pd.DataFrame:
        """Return the columns as a table, for use elsewhere.

        Parameters
        ----------
        codes : bool
            Whether groups are told by their codes instead of their labels.

        Returns
        -------
        pandas.DataFrame
            Numeric columns as float64, or Int64 where every value is whole; groups as categories in the
            order of their levels.

        Examples
        --------
        >>> import markbase as mb
        >>> mb.demo.choirs().frame()["voice"].head(3).tolist()
        ['soprano', 'alto', 'alto']
        """
        return frame_of(list(self._columns.values()), codes)

    def overview(self) -> pd.DataFrame:
        """Describe every column in a row.

        Returns
        -------
        pandas.DataFrame
            `column`, `label`, `kind`, `role`, `unit` (texts); `guessed` (whether the kind is a guess); `rows` with a value,
            `missing` and of these `blank` and `coded` (counts); `levels` that occur (a group) or distinct values (a numeric
            column; NaN where rows come in parts and they are more than 1,000); `mean`, `sd` (n − 1), `low`, `median`, `high`,
            `skew` of a numeric column, NaN for a group; `remarks`, parted by semicolons.

        Examples
        --------
        >>> import markbase as mb
        >>> mb.demo.choirs().overview()[["column", "kind", "missing"]].head(3)
              column         kind  missing
        0  singer_id  categorical        0
        1      choir  categorical        0
        2      voice  categorical        0
        """
        return overview_table(list(self._columns.values()), self._remarks)

    def remarks(self) -> dict[str, list[Remark]]:
        """Say what deserves a second look, with the steps that would mend it.

        Returns
        -------
        dict of str to list of Remark
            By column, what is about whole rows under ``""``; each remark has a `text` and `mend`, steps to give to `prepare`.

        Examples
        --------
        >>> import markbase as mb
        >>> [remark.text for remark in mb.demo.choirs().remarks()["events"]]
        ['exact total of `rehearsals` and `concerts`']
        """
        columns = list(self._columns.values())
        found = self._repeats, remark_on_counts(columns), None if self.in_parts else remark_on_occasions(columns)
        whole = [told for told in found if told is not None]
        return {name: list(remarks) for name, remarks in {"": whole, **self._remarks}.items() if remarks}

    @property
    def _repeats(self) -> Remark | None:
        """What is to be said of rows that are the same as a row before them, looked for once."""
        if self._known_repeats is None or self._known_repeats[0] is not self._columns:
            self._known_repeats = self._columns, remark_on_repeats(list(self._columns.values()))
        return self._known_repeats[1]

    @property
    def _remarks(self) -> dict[str, list[Remark]]:
        """The remarks on the columns, looked for once; a study made of this one takes over what it knows, and has other columns."""
        if self._known is None or self._known[0] is not self._columns:
            self._known = self._columns, remarks_on(list(self._columns.values()))
        return self._known[1]

    def levels(self, name: str) -> pd.DataFrame:
        """Count the levels of a group, with its missing answers below.

        Parameters
        ----------
        name : str
            The name of a group.

        Returns
        -------
        pandas.DataFrame
            `level` (label), `code`, `count`, `share` of all rows and `share_valid` of the rows with a value (0 to 1; NaN for
            missing), `base` (true or false), `missing` (true for the rows below the levels), `remarks`.

        Raises
        ------
        ColumnError
            If there is no such column, or it is numeric.

        Examples
        --------
        >>> import markbase as mb
        >>> mb.demo.choirs().levels("stays")[["level", "count"]]
           level  count
        0     no    642
        1    yes   1336
        2  blank     25
        """
        column = self.column(name)
        if not column.is_categorical:
            raise ColumnError(
                f"`{name}` is numeric and has no levels; `values` describes it. If its numbers are codes, declare it categorical."
            )
        return levels_table(column)

    def values(self, name: str) -> pd.DataFrame:
        """Describe the spread of a numeric column.

        Parameters
        ----------
        name : str
            The name of a numeric column.

        Returns
        -------
        pandas.DataFrame
            `measure` and `value`: rows, distinct values, mean, sd, quartiles, skew, missing by reason.

        Raises
        ------
        ColumnError
            If there is no such column, or it is categorical.

        Examples
        --------
        >>> import markbase as mb
        >>> mb.demo.choirs().values("age").head(3)
                   measure       value
        0             rows  1960.00000
        1  distinct values    71.00000
        2             mean    47.77398
        """
        column = self.column(name)
        if column.is_categorical:
            raise ColumnError(f"`{name}` is categorical and has levels, not a spread; `levels` counts them.")
        return values_table(column)

    def parts(self) -> Iterator[Self]:
        """Go through the rows a part at a time, each a study of its own in memory with the same columns, levels and bases.

        Yields
        ------
        Study
            The next rows, at most some 130,000 of them.

        Examples
        --------
        >>> import markbase as mb
        >>> sum(part.rows for part in mb.demo.choirs().parts())
        2003
        """
        arrays = arrays_of(self._columns)
        if in_parts(arrays):
            for held in held_parts(arrays):
                if len(next(iter(held.values()))[0]):
                    yield self._holding(held)
            return
        for start in range(0, self._rows, PART_ROWS):
            at = slice(start, start + PART_ROWS)
            yield self._holding(
                {n: (v[at], None if w is None else w[at]) for n, (v, w) in arrays.items()}, self._index[at]
            )

    def prepare(self, steps: Sequence[Mapping[str, Any]], *, source: str = "steps") -> Study:
        """Carry out preparing steps that are written down as plain values.

        Parameters
        ----------
        steps : sequence of mapping
            Each with ``do`` (the name of a preparing method) and its arguments, as `Trail.record`
            returns them and a plan holds them.
        source : str
            What to call them in messages; empty where the message is put into another.

        Returns
        -------
        Study
            The study after the last step.

        Raises
        ------
        MarkbaseError
            If a step is unknown or refuses; the message says which one.

        Examples
        --------
        >>> import markbase as mb
        >>> study = mb.demo.choirs().prepare([{"do": "mark", "column": "voice", "base": "alto"}])
        >>> study.column("voice").base.chosen
        True
        """
        study = self
        for number, step in enumerate(steps, 1):
            study = carry_out(study, step, f"{source}, step {number}" if source else "")
        return study

    def prepare_like(self, other: Study, columns: Sequence[str] | None = None) -> Self:
        """Carry out on these rows the steps that prepared another study, to predict for them or to judge a fit on them.

        Levels are merged that were merged there, whatever the rule, as far as they are here; levels that a step names may be those of no row here.
        Bases are not marked, for none changes a prediction, and rows that were expected are not.

        Parameters
        ----------
        other : Study
            The study that was prepared, for instance that of a fit.
        columns : sequence of str, optional
            The columns that are needed; a step that fails is left out where it makes none of them. By default every step has to succeed.

        Returns
        -------
        Study
            These rows, prepared alike.

        Raises
        ------
        MarkbaseError
            If a step fails that is needed; the message says which one.

        Warns
        -----
        MarkbaseWarning
            For steps that choose rows, or look at other rows (``keep``, ``lag``, ``hold_out``, ``derive`` within levels), which are left out.

        Examples
        --------
        >>> import markbase as mb
        >>> import pandas as pd
        >>> days = {"Monday": 1, "Tuesday": 2, "Wednesday": 3, "Thursday": 4, "Friday": 5}
        >>> study = mb.demo.choirs().as_numeric("rehearsal_day", scores=days)
        >>> new = mb.Study(pd.DataFrame({"rehearsal_day": ["Friday", "Tuesday"]})).prepare_like(study)
        >>> new["rehearsal_day"].values.tolist()
        [5.0, 2.0]
        """
        return prepared_like(self, other.trail.steps, columns)


def as_study(data: Study | AnyTable) -> Study:
    """Accept a study, or a table, which then is a study without a codebook."""
    return data if isinstance(data, Study) else Study(data)
