"""Steps that blank codes, merge levels, combine groups, make groups of conditions, and one column of several."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Self

from markbase.core.errors import MarkbaseError
from markbase.core.study import blanking, classifying, coalescing, combining, filling, merging
from markbase.core.study.steps.base_step import Stepping, given, plain


class Recoding(Stepping):
    """Missing codes, merged levels and combined groups."""

    def blank(
        self,
        column: str,
        codes: Mapping[object, str] | Sequence[object] = (),
        *,
        ranges: Sequence[Sequence[float]] = (),
        reason: str = "",
    ) -> Self:
        """Take codes that stand for a missing answer out of the values.

        Parameters
        ----------
        column : str
            A numeric column or a group.
        codes : sequence or mapping
            The codes, or code to meaning, for instance ``{-9: "no answer", -8: "not asked"}``.
        ranges : sequence of (low, high)
            Ranges of a numeric column, both ends included.
        reason : str
            Why; kept in the trail.

        Returns
        -------
        Study
            A new study in which those rows are missing, counted for each code.

        Raises
        ------
        ColumnError
            If there is no such column, nothing is named, a code or range does not suit it, or more than 250 codes stand for a missing answer.

        Warns
        -----
        MarkbaseWarning
            For a code that is never seen, and one that lies among the other values.

        Examples
        --------
        >>> import markbase as mb
        >>> import pandas as pd
        >>> study = mb.Study(pd.DataFrame({"age": [20, 31, -9, 45]}))
        >>> study.blank("age", [-9]).column("age").valid
        3
        """
        recode = blanking.blank_codes(self.column(column), codes, ranges)
        settings = given(column=column, codes=plain(codes), ranges=plain(ranges))
        return self._recoded(recode, "blank", settings, reason)

    def fill_blank(self, column: str, value: object, *, reason: str = "") -> Self:
        """Say what a blank means, where it stands for a value: a box that was not ticked, none of something.

        Parameters
        ----------
        column : str
            A numeric column or a group.
        value : object
            What a blank stands for: a number, often 0; of a group a level, or a new one such as ``no``, which stands last.
        reason : str
            Why; kept in the trail.

        Returns
        -------
        Study
            A new study in which the blank rows hold that value. Codes that stand for a missing answer stay missing.

        Raises
        ------
        ColumnError
            If there is no such column, no row of it is blank, or a numeric column is to hold what is no number.

        Examples
        --------
        >>> import markbase as mb
        >>> import pandas as pd
        >>> study = mb.Study(pd.DataFrame({"sings_solo": ["yes", None, None, "yes"]}))
        >>> study.fill_blank("sings_solo", "no", reason="a box to tick").levels("sings_solo")["count"].tolist()
        [2, 2]
        """
        recode = filling.fill_blank(self.column(column), value)
        return self._recoded(recode, "fill_blank", given(column=column, value=plain(value)), reason, ())

    def fill_down(self, column: str, *, reason: str = "") -> Self:
        """Give blank rows the value of the last row above them that is not blank, where a value stands once for several rows.

        Parameters
        ----------
        column : str
            A numeric column or a group.
        reason : str
            Why; kept in the trail.

        Returns
        -------
        Study
            A new study in which these rows hold that value, or the code for a missing answer that stands there. Blank rows above
            the first value stay blank.

        Raises
        ------
        ColumnError
            If there is no such column, or no row or every row of it is blank.

        Examples
        --------
        >>> import markbase as mb
        >>> import pandas as pd
        >>> study = mb.Study(pd.DataFrame({"choir": ["Aspen", None, None, "Birch", None]}))
        >>> study.fill_down("choir", reason="named in its first row").levels("choir")["count"].tolist()
        [3, 2]
        """
        return self._recoded(filling.fill_down(self.column(column)), "fill_down", given(column=column), reason, ())

    def keep_levels(self, column: str, levels: Sequence[object], *, reason: str = "") -> Self:
        """Keep some levels of a group, and make all others missing, each with a count of its own (of more than 100, all together).

        Parameters
        ----------
        column : str
            A group.
        levels : sequence
            The levels to keep, by label or code.
        reason : str
            Why; kept in the trail.

        Returns
        -------
        Study
            A new study in which the rows of the other levels are missing in that column; no row goes.

        Raises
        ------
        ColumnError
            If there is no such column, or it is numeric.
        LevelError
            If there is no such level, none is named, or none is left over.

        Warns
        -----
        MarkbaseWarning
            If the base is among those that go.

        Examples
        --------
        >>> import markbase as mb
        >>> mb.demo.choirs().keep_levels("voice", ["alto", "bass"]).column("voice").valid
        1069
        """
        recode = blanking.keep_levels(self.column(column), levels)
        return self._recoded(recode, "keep_levels", given(column=column, levels=plain(levels)), reason)

    def merge_levels(
        self,
        column: str,
        targets: Mapping[str, Sequence[object]] | None = None,
        *,
        below: int | None = None,
        below_share: float | None = None,
        into: str = "other",
        name: str | None = None,
        reason: str = "",
    ) -> Self:
        """Merge levels of a group.

        Parameters
        ----------
        column : str
            A group.
        targets : mapping, optional
            New label to the levels that go into it, for instance ``{"other": ["workplace", "festival"]}``.
        below : int, optional
            Instead: merge all levels with fewer rows than this.
        below_share : float, optional
            Instead: merge all levels with less than this share of the rows that have a value.
        into : str
            The label of the level that a rule merges into.
        name : str, optional
            Make a new column of this name, and leave the group as it is.
        reason : str
            Why; kept in the trail.

        Returns
        -------
        Study
            A new study with the merged group.

        Raises
        ------
        ColumnError
            If there is no such column, or it is numeric.
        LevelError
            If a level is not there, goes to two targets, or nothing falls below the limit.

        Warns
        -----
        MarkbaseWarning
            If the base was merged away, or a new level mixes others.

        Examples
        --------
        >>> import markbase as mb
        >>> study = mb.demo.choirs().merge_levels("voice", {"tenor": ["tennor"]}, reason="a slip of the pen")
        >>> study.levels("voice")[["level", "count"]]
             level  count
        0  soprano    676
        1     alto    705
        2    tenor    258
        3     bass    364
        """
        source = self.column(column)
        if (targets is None) == (below is None and below_share is None):
            raise MarkbaseError(
                f"Say which levels of `{column}` to merge: either targets, such as {{'other': ['x', 'y']}}, or a limit, such as below=30."
            )
        plan = merging.thin_levels(source, below, below_share, into) if targets is None else targets
        recode = merging.merge(source, plan, self._new_name(name) if name is not None else column)
        settings = given(column=column, targets=plain(targets), below=below, below_share=below_share, name=name)
        if targets is None:
            settings["into"] = into
        return self._recoded(recode, "merge_levels", settings, reason)

    def against_rest(self, column: str, level: object, *, name: str, rest: str | None = None, reason: str = "") -> Self:
        """Set one level of a group against all the others together.

        Parameters
        ----------
        column : str
            A group.
        level : object
            The level, by label or code.
        name : str
            The name of the new column.
        rest : str, optional
            The label of the others; by default ``not`` and the level.
        reason : str
            Why; kept in the trail.

        Returns
        -------
        Study
            A new study with a two-level group more, whose base is the rest.

        Raises
        ------
        ColumnError
            If there is no such column, it is numeric, or the name is taken.
        LevelError
            If there is no such level.

        Warns
        -----
        MarkbaseWarning
            That the rest is a mixture.
        """
        source = self.column(column)
        label = source.levels[source.level_at(level)].label
        recode = merging.one_level_against_rest(source, level, self._new_name(name), rest or f"not {label}")
        settings = given(column=column, level=plain(level), name=name, rest=rest)
        return self._recoded(recode, "against_rest", settings, reason)

    def combine_groups(self, columns: Sequence[str], *, name: str, between: str = "/", reason: str = "") -> Self:
        """Combine several groups into one, of which every combination that occurs is a level.

        For cells of two factors compared with one of them, or for classes numbered anew in each school.

        Parameters
        ----------
        columns : sequence of str
            Two groups or more; levels stand in the order of the first, within it of the second, and so on.
        name : str
            The name of the new column.
        between : str
            What stands between the labels.
        reason : str
            Why; kept in the trail.

        Returns
        -------
        Study
            A new study with a group more, missing where one of the groups is. If the base of each was chosen, the combination of
            these is its base, where a row has it.

        Raises
        ------
        ColumnError
            If there is no such column, one is numeric, fewer than two are named, or the name is taken.
        LevelError
            If no row has a value in each, or two combinations would have one label.

        Warns
        -----
        MarkbaseWarning
            For combinations without a row, and those with fewer than 10.

        Examples
        --------
        >>> import markbase as mb
        >>> study = mb.demo.choirs().combine_groups(["stays", "rehearsal_day"], name="stays_and_day")
        >>> study.levels("stays_and_day")["level"].tolist()[:2]
        ['no/Monday', 'no/Tuesday']
        """
        new_name = self._new_name(name)
        if not isinstance(between, str):
            raise MarkbaseError(f"`between` is the text between labels, for instance '/', not {between!r}.")
        recode = combining.combined([self.column(column) for column in columns], new_name, between)
        settings = given(columns=plain(columns), name=name, between=None if between == "/" else between)
        return self._recoded(recode, "combine_groups", settings, reason)

    def classify(
        self, name: str, levels: Mapping[str, object], *, otherwise: str | None = None, reason: str = ""
    ) -> Self:
        """Make a group of conditions on one column or several: a row has the first level of which it meets them.

        Parameters
        ----------
        name : str
            The name of the new column.
        levels : mapping
            The label of each level and its conditions, as of `keep`: a mapping of columns to tests, all of which a row has to meet, or a
            list of such mappings, one of which it has to meet.
        otherwise : str, optional
            The level of rows that meet none of the conditions for certain; by default they are missing, and counted.
        reason : str
            Why; kept in the trail.

        Returns
        -------
        Study
            A new study with a group more, its levels in this order. Where a gap leaves open which level is the first, the row is missing,
            for the reason of that gap.

        Raises
        ------
        ColumnError, LevelError
            For a column, test or level that is not there, a name that is taken, and labels that are not different.

        Warns
        -----
        MarkbaseWarning
            For levels without a row or with fewer than 10, rows that are of none, and those of which the level is not known.

        Examples
        --------
        >>> import markbase as mb
        >>> study = mb.demo.choirs().keep({"age": {"present": True}})
        >>> levels = {"old hand": {"years_in_choir": {"at_least": 20}}, "late starter": {"age": {"at_least": 50}, "years_singing": {"below": 5}}}
        >>> study.classify("stage", levels, otherwise="other").levels("stage")["level"].tolist()
        ['old hand', 'late starter', 'other']
        """
        recode = classifying.classified(self.column, levels, otherwise, self._new_name(name))
        settings = given(name=name, levels=plain(levels), otherwise=otherwise)
        return self._recoded(recode, "classify", settings, reason, ("no row is", "thin", "left missing", "not known"))

    def coalesce(self, columns: Sequence[str], *, name: str, reason: str = "") -> Self:
        """Make one column of several that hold the same thing, each in some of the rows: a row has the first value there is.

        For a question that another wave, country or version of a form calls otherwise, or that was asked of others elsewhere.

        Parameters
        ----------
        columns : sequence of str
            Two columns or more, all numeric or all groups; where several have a value that of the first counts. Levels are the
            same by their labels.
        name : str
            The name of the new column.
        reason : str
            Why; kept in the trail.

        Returns
        -------
        Study
            A new study with a column more, missing where all of them are: for the first code for a missing answer, where one has
            such a code, else blank where one of them is. Of ordinal columns whose levels stand in one order it is ordinal. Its
            base is the first of theirs that was chosen.

        Raises
        ------
        ColumnError
            If there is no such column, fewer than two are named, some are numeric and others groups, their units differ, or the name is taken.

        Warns
        -----
        MarkbaseWarning
            For rows in which a later column has another value than the one that is taken, and columns that add no row.

        Examples
        --------
        >>> import markbase as mb
        >>> import pandas as pd
        >>> study = mb.Study(pd.DataFrame({"hours": [2.5, None, None], "hours_a_week": [None, 4.5, None]}))
        >>> study = study.coalesce(["hours", "hours_a_week"], name="practice", reason="the second wave calls it so")
        >>> study["practice"].values.tolist()
        [2.5, 4.5, nan]
        """
        new_name = self._new_name(name)
        recode = coalescing.coalesced([self.column(column) for column in columns], new_name)
        return self._recoded(recode, "coalesce", given(columns=plain(columns), name=name), reason)
