"""Steps that say what a column is."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import replace
from typing import Self

from markbase.core.errors import ColumnError, listed, quoted
from markbase.core.study import declarations, renaming
from markbase.core.study.column import ROLES, Role
from markbase.core.study.steps.base_step import Stepping, given, plain
from markbase.core.study.trail import TrailStep


class Declaring(Stepping):
    """Names, kinds, labels, order and roles."""

    def rename(self, columns: Mapping[str, str], *, reason: str = "") -> Self:
        """Give columns other names, which all that follows uses.

        Parameters
        ----------
        columns : mapping of str to str
            The name of each column so far, and its new one: ``{"v23": "age"}``.
        reason : str
            Why; kept in the trail.

        Returns
        -------
        Study
            A new study with the same columns in their order; what was made of one is known by the new name.

        Raises
        ------
        ColumnError
            If there is no such column, a name is blank, or two columns would have one name.

        Examples
        --------
        >>> import markbase as mb
        >>> mb.demo.choirs().rename({"travel_km": "way to rehearsal"})["way to rehearsal"].unit_many
        'km'
        """
        for name in columns:
            self.column(name)
        told = listed([f"`{old}` is `{new}`" for old, new in columns.items()])
        step = TrailStep("rename", "", f"Renamed: {told}.", given(columns=plain(columns)), reason)
        return self._remade(renaming.renamed(self._columns, columns), step)

    def as_categorical(
        self,
        column: str,
        labels: Mapping[object, str] | None = None,
        *,
        order: Sequence[object] | None = None,
        expect: Mapping[str, int] | None = None,
        reason: str = "",
    ) -> Self:
        """Declare a column a group: its numbers are codes.

        Parameters
        ----------
        column : str
            A numeric column whose numbers are codes, or a group.
        labels : mapping, optional
            Code to label, for instance ``{1: "Mon", 2: "Tue"}``.
        order : sequence, optional
            Labels or codes in the order in which to list them.
        expect : mapping of str to int, optional
            How many rows each label has in the documentation of the survey, for instance ``{"male": 274}``: another count is
            refused, as that of two codes that were swapped.
        reason : str
            Why; kept in the trail.

        Returns
        -------
        Study
            A new study in which the column is categorical.

        Raises
        ------
        ColumnError
            If there is no such column, or it has too many values to be codes.
        LevelError
            For a label given to two codes, an order that does not fit, or a level that has not as many rows as expected.

        Warns
        -----
        MarkbaseWarning
            For codes without a label, and labels that no row has.

        Examples
        --------
        >>> import markbase as mb
        >>> import pandas as pd
        >>> study = mb.Study(pd.DataFrame({"day": [1, 2, 2, 1]}))
        >>> study.as_categorical("day", labels={1: "Monday", 2: "Tuesday"}).levels("day")["level"].tolist()
        ['Monday', 'Tuesday']
        """
        recode = declarations.declare_categorical(self.column(column), labels, order, "categorical")
        declarations.check_expected(recode.column, expect or {})
        settings = given(column=column, labels=plain(labels), order=plain(order), expect=plain(expect))
        return self._recoded(recode, "as_categorical", settings, reason)

    def as_ordinal(
        self,
        column: str,
        order: Sequence[object] | None = None,
        *,
        labels: Mapping[object, str] | None = None,
        reason: str = "",
    ) -> Self:
        """Declare a column an ordinal column.

        Parameters
        ----------
        column : str
            A group, or a numeric column whose numbers are codes.
        order : sequence, optional
            Labels or codes, the lowest first; by default as they are listed.
        labels : mapping, optional
            Code to label.
        reason : str
            Why; kept in the trail.

        Returns
        -------
        Study
            A new study in which the column is an ordinal column.

        Raises
        ------
        ColumnError, LevelError
            As for `as_categorical`.

        Examples
        --------
        >>> import markbase as mb
        >>> import pandas as pd
        >>> study = mb.Study(pd.DataFrame({"liking": ["low", "high", "middle"] * 4}))
        >>> study.as_ordinal("liking", order=["low", "middle", "high"]).levels("liking")["level"].tolist()
        ['low', 'middle', 'high']
        """
        recode = declarations.declare_categorical(self.column(column), labels, order, "ordinal")
        settings = given(column=column, order=plain(order), labels=plain(labels))
        return self._recoded(recode, "as_ordinal", settings, reason)

    def as_numeric(
        self,
        column: str,
        *,
        scores: Mapping[object, float] | None = None,
        decimal: str | None = None,
        without: Sequence[str] = (),
        reason: str = "",
    ) -> Self:
        """Declare a group whose codes are numbers a numeric column, or give its levels numbers: the items of a scale, say.

        Parameters
        ----------
        column : str
            A group with a number for a code in every level that occurs; with scores any group, or a numeric column of few values
            (an item to be turned round).
        scores : mapping, optional
            The number of each level that occurs, by label or code.
        decimal : str, optional
            What parts whole numbers from fractions in texts such as ``1,500``: ``.`` (fifteen hundred) or ``,`` (one and a half).
            Needed only where nothing else in the column says it.
        without : sequence of str
            Marks that stand beside numbers and are no part of them, such as ``*`` or the flags of a statistical office.
        reason : str
            Why; kept in the trail.

        Returns
        -------
        Study
            A new study in which the column is numeric.

        Raises
        ------
        ColumnError
            If there is no such column, or a level is no number and has no score, or its numbers can be read in two ways.
        LevelError
            If a score is of a level that is not there.

        Examples
        --------
        >>> import markbase as mb
        >>> import pandas as pd
        >>> study = mb.Study(pd.DataFrame({"size": ["12", "7", "9", "7"]})).as_categorical("size")
        >>> study.as_numeric("size").column("size").kind
        'numeric'
        >>> items = mb.Study(pd.DataFrame({"liked": ["agree", "neither", "disagree", "agree"]}))
        >>> scored = items.as_numeric("liked", scores={"disagree": 1, "neither": 2, "agree": 3})
        >>> scored.column("liked").values.tolist()
        [3.0, 2.0, 1.0, 3.0]
        """
        recode = declarations.declare_numeric(self.column(column), scores, decimal, without)
        settings = given(column=column, scores=plain(scores), decimal=decimal, without=plain(without) or None)
        return self._recoded(recode, "as_numeric", settings, reason)

    def as_role(self, column: str, role: Role | None, *, reason: str = "") -> Self:
        """Give a column a role, or take it away.

        Parameters
        ----------
        column : str
            Any column.
        role : str or None
            ``identifier`` (never a predictor), ``weight``, ``cluster``, ``stratum``, or None.
        reason : str
            Why; kept in the trail.

        Returns
        -------
        Study
            A new study in which the column has that role.

        Raises
        ------
        ColumnError
            If there is no such column or role.

        Examples
        --------
        >>> import markbase as mb
        >>> mb.demo.choirs().as_role("weight", "weight").column("weight").role
        'weight'
        """
        if role is not None and role not in ROLES:
            raise ColumnError(f"`{role}` is no role for `{column}`; there are {listed(quoted(ROLES))}.")
        new = replace(self.column(column), role=role)
        text = f"Gave `{column}` the role `{role}`." if role else f"Took its role from `{column}`."
        return self._with(new, TrailStep("as_role", column, text, {"column": column, "role": role}, reason))
