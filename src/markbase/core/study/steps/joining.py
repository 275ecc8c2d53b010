"""The step that joins columns of another table."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import replace
from typing import Any, Self

from markbase.core.errors import MarkbaseError, remark
from markbase.core.study.frames import AnyTable
from markbase.core.study.joining import NAMELESS, joined, named_columns, named_keys
from markbase.core.study.steps.base_step import Stepping, given, plain
from markbase.core.study.trail import TrailStep


class Joining(Stepping):
    """Columns of another table."""

    def join(
        self,
        other: Self | AnyTable,
        by: str | Sequence[str] | Mapping[str, str],
        *,
        columns: Sequence[str] | Mapping[str, str] = (),
        loosely: bool = False,
        reason: str = "",
    ) -> Self:
        """Join columns of another table by a key (merge): what is known of choirs to the singers in them.

        Parameters
        ----------
        other : Study or table
            The other table, with one row for each key; of a study its columns come as they are declared and prepared there.
        by : str, sequence of str or mapping
            The column, or columns, by which rows of both tables are known: ``"choir"``, ``["land", "year"]``, or where they are called otherwise there
            ``{"choir": "name"}``. Levels are the same by their labels, or by their codes where no label is the same; whole numbers are codes.
        columns : sequence of str or mapping, optional
            The columns to join; with new names ``{"choir_size": "size"}``. By default all but the key.
        loosely : bool
            Whether keys that differ in case, blanks, marks or zeros in front alone are the same: ``St. Mary`` and ``st mary``. Which were is told.
        reason : str
            Why; kept in the trail.

        Returns
        -------
        Study
            A new study with the same rows, in the same order, and these columns. Where a row has no key, or one that the other table does not have, they
            are missing for that reason. A single key that several rows have in common gets the role of a cluster, if it has none: what is joined
            says the same of all of these rows, so that errors have to be clustered by it.

        Raises
        ------
        ColumnError
            For columns that are lacking, a name that is taken, and a key of fractions.
        MarkbaseError
            If a key stands in several rows of the other table (or two come to the same loosely), no key is in both, or the rows of the other table come in parts.

        Warns
        -----
        MarkbaseWarning
            For keys without a row in the other table.

        Examples
        --------
        >>> import markbase as mb, pandas as pd
        >>> singers = mb.Study(pd.DataFrame({"choir": ["A", "A", "B"], "age": [31, 44, 52]}))
        >>> singers.join(pd.DataFrame({"choir": ["A", "B"], "founded": [1921, 1988]}), "choir").frame()
          choir  age  founded
        0     A   31     1921
        1     A   44     1921
        2     B   52     1988
        """
        table: Any = other if isinstance(other, Stepping) else type(self)(other, name=NAMELESS)  # type: ignore[call-arg]
        keys = named_keys(by)
        pairs = named_columns(self._columns, table._columns, keys, columns, self._name, table._name)
        found = joined(self._columns, table._columns, keys, pairs, table._name, loosely)
        if not found.check.passed:
            raise AssertionError("join did not verify")  # a defect of ours
        for note in found.lost:
            remark(f"{note}.")
        same = all(new == old for new, old in pairs.items())
        settings = {"other": table} | given(
            by=plain(by), columns=list(pairs) if same else pairs, loosely=loosely or None
        )
        every, first = {**self._columns, **found.columns}, next(iter(keys))
        if len(keys) == 1 and found.repeats and every[first].role is None:
            every[first] = replace(every[first], role="cluster")
        return self._remade(every, TrailStep("join", "", found.text, settings, reason, found.check))

    def opened_from(self) -> dict[str, Any]:
        """Return where a study was opened from, as plain values, as a step of a plan that joins it says it.

        Returns
        -------
        dict
            ``file`` and, if need be, ``codebook`` and the steps of ``prepare`` since; of one that came from no file, or was opened with settings that only a
            plan holds, its name, as ``table``.
        """
        if self._opened is None:
            return {"table": self._name}
        settings, done = self._opened
        return {**settings, **given(prepare=self._trail.written(done))}


def refuse_without_file(step: Mapping[str, Any]) -> None:
    """Refuse to write down a step that joins a table that came from no file."""
    if "table" in step:
        raise MarkbaseError(
            f"`{step['table']}`, which was joined, cannot be named in a plan: it came from no file, or was opened with more than a codebook. Write it into a file and open that, "
            f"or open it by a plan of its own."
        )
