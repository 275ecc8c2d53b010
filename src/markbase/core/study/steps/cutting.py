"""Steps that make groups of numeric columns, name events, and take lists of answers apart."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Self

from markbase.core.errors import MarkbaseError
from markbase.core.study import cutting, multiple_responses
from markbase.core.study.quantiles import quantile_edges, quantile_names, with_shares
from markbase.core.study.steps.base_step import Stepping, given, plain


class Cutting(Stepping):
    """Bands, splits, events and multiple responses."""

    def cut(
        self,
        column: str,
        edges: Sequence[float] = (),
        *,
        quantiles: int | None = None,
        name: str,
        labels: Sequence[str] | None = None,
        edge_goes: str = "up",
        reason: str = "",
    ) -> Self:
        """Cut a numeric column into bands.

        Parameters
        ----------
        column : str
            A numeric column.
        edges : sequence of float
            Where one band ends and the next begins, rising; one fewer than bands.
        quantiles : int, optional
            Instead: so many bands of about as many rows each (4 for quarters), as far as equal values allow. The edges are those of these
            rows and kept in the trail, so that other rows are cut at the same.
        name : str
            The name of the new column.
        labels : sequence of str, optional
            One a band; by default the bands are written out, or are called as quarters, or whatever share they are.
        edge_goes : str
            ``up`` or ``down``: which band a value at an edge belongs to.
        reason : str
            Why; kept in the trail.

        Returns
        -------
        Study
            A new study with an ordinal column more.

        Raises
        ------
        ColumnError
            If there is no such column, it is categorical, or the name is taken.
        LevelError
            For edges that do not rise, labels that do not fit, and too few different values for so many quantiles.

        Warns
        -----
        MarkbaseWarning
            For empty bands, where a small move of an edge would change many rows, and for bands of quantiles that are far from equal.

        Examples
        --------
        >>> import markbase as mb
        >>> mb.demo.choirs().cut("age", [30, 60], name="age_group").levels("age_group")[["level", "count"]].head(3)
                    level  count
        0        below 30    266
        1  30 to below 60   1236
        2     60 and more    458
        """
        if edge_goes not in ("up", "down"):
            raise MarkbaseError(f"A value at an edge goes `up` or `down`, not `{edge_goes}`.")
        source, up = self.column(column), edge_goes == "up"
        if quantiles is not None and len(edges):
            raise MarkbaseError(f"`{column}` is cut at edges, or at quantiles, and not at both.")
        if quantiles is not None:
            edges = quantile_edges(source, quantiles, up, name)
            labels = labels or quantile_names(edges, up)
        recode = cutting.cut_numeric(source, edges, labels, self._new_name(name), up)
        if quantiles is not None:
            recode = with_shares(recode, source, list(edges))
        settings = given(column=column, edges=plain(edges), name=name, labels=plain(labels))
        if edge_goes != "up":
            settings["edge_goes"] = edge_goes
        return self._recoded(recode, "cut", settings, reason, ("no row falls", "sensitive", "far from equal"))

    def split_at(
        self,
        column: str,
        above: float | None = None,
        *,
        at_least: float | None = None,
        labels: Sequence[str] = ("low", "high"),
        name: str,
        reason: str = "",
    ) -> Self:
        """Split a numeric column or a scale in two.

        Parameters
        ----------
        column : str
            A numeric column.
        above : float, optional
            Values above this are the second level; the value itself is not.
        at_least : float, optional
            Instead: values of at least this are the second level.
        labels : sequence of str
            The lower and the upper level.
        name : str
            The name of the new column.
        reason : str
            Why; kept in the trail.

        Returns
        -------
        Study
            A new study with a two-level group more, whose base is the lower level.

        Raises
        ------
        ColumnError
            If there is no such column, it is categorical, or the name is taken.
        LevelError
            If both thresholds or neither are given, labels do not fit, or one side is empty.

        Warns
        -----
        MarkbaseWarning
            Where a small move of the threshold would change many rows.

        Examples
        --------
        >>> import markbase as mb
        >>> mb.demo.choirs().split_at("age", above=60, labels=("younger", "older"), name="old").levels("old")["level"].head(2).tolist()
        ['younger', 'older']
        """
        recode = cutting.split_numeric(self.column(column), above, at_least, labels, self._new_name(name))
        settings = given(column=column, above=above, at_least=at_least, labels=plain(labels), name=name)
        return self._recoded(recode, "split_at", settings, reason, ("sensitive",))

    def event(
        self,
        column: str,
        event: object,
        *,
        name: str | None = None,
        labels: Sequence[str] | None = None,
        reason: str = "",
    ) -> Self:
        """Make a yes/no outcome: say which level, or levels, are the event.

        Parameters
        ----------
        column : str
            A group, or a numeric column with few values.
        event : object or list
            The level or value that is the event, or several.
        name : str, optional
            The name of a new column; without it a two-level group keeps its name.
        labels : sequence of str, optional
            The labels of what is not the event, and of the event.
        reason : str
            Why; kept in the trail.

        Returns
        -------
        Study
            A new study in which the event is known.

        Raises
        ------
        ColumnError
            If there is no such column, or the name is taken.
        LevelError
            If there is no such level, or no row or every row is the event.

        Warns
        -----
        MarkbaseWarning
            For an event called ``no`` or the like, and for levels that are mixtures.
        """
        new_name = column if name is None else self._new_name(name)
        recode = cutting.make_event(self.column(column), event, new_name, labels)
        settings = given(column=column, event=plain(event), name=name, labels=plain(labels))
        return self._recoded(recode, "event", settings, reason)

    def multiple_response(self, column: str, answer: str, *, separator: str = ";", name: str, reason: str = "") -> Self:
        """Make a yes/no column of one answer to a question that may be answered several times (check all that apply).

        Parameters
        ----------
        column : str
            A group whose cells hold several answers, as ``email;phone``.
        answer : str
            One of the answers.
        separator : str
            What stands between them.
        name : str
            The name of the new column.
        reason : str
            Why; kept in the trail.

        Returns
        -------
        Study
            A new study with a two-level group more: `yes` where the cell holds the answer, else `no`, which is the base; missing
            where the cell is blank.

        Raises
        ------
        ColumnError
            If there is no such column, it is numeric, or the name is taken.
        LevelError
            If no cell holds that answer, or every one does.

        Warns
        -----
        MarkbaseWarning
            Where cells are blank: whether none was meant nobody knows.

        Examples
        --------
        >>> import markbase as mb
        >>> import pandas as pd
        >>> study = mb.Study(pd.DataFrame({"contact": ["email;phone", "email", "letter", "phone; letter"]}))
        >>> study.multiple_response("contact", "phone", name="by_phone").levels("by_phone")["count"].tolist()
        [2, 2]
        """
        new_name = self._new_name(name)
        recode = multiple_responses.one_answer(self.column(column), answer, separator, new_name)
        settings = given(column=column, answer=answer, separator=None if separator == ";" else separator, name=name)
        return self._recoded(recode, "multiple_response", settings, reason)
