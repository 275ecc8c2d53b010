"""Steps that keep rows, or hold some out."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Self

import numpy as np
import pandas as pd

from markbase.core.arguments import check_seed, told_value
from markbase.core.errors import ColumnError, MarkbaseError, count_noun, listed, quoted, remark
from markbase.core.rows.parts import in_parts
from markbase.core.rows.row_functions import kept_rows as in_memory
from markbase.core.rows.row_functions import refuse_in_parts
from markbase.core.study.aggregating import aggregated, wanted_columns, weights_unused
from markbase.core.study.declarations import as_levels
from markbase.core.study.long_form import in_long_form, names_of_measurements
from markbase.core.study.repeats import check_of_repeats, other_answers, sources_of_repeats
from markbase.core.study.row_selection import arrays_of, kept_rows, one_sided_levels, split_rows
from markbase.core.study.steps.base_step import Stepping, given, plain
from markbase.core.study.trail import TrailStep
from markbase.core.tables import rows_of

_FEW_ROWS = 30


class RowSteps(Stepping):
    """Rows kept and held out."""

    def keep(self, conditions: Mapping[str, object], *, reason: str = "") -> Self:
        """Keep the rows that meet every condition.

        Parameters
        ----------
        conditions : mapping
            Column to tests, for instance ``{"age": {"at_least": 18}, "voice": ["alto", "tenor"]}``.
            Tests: ``above``, ``among``, ``at_least``, ``at_most``, ``below``, ``is``, ``is_not``,
            ``not_among``, ``present``. A row with a gap in such a column is not kept.
        reason : str
            Why; kept in the trail.

        Returns
        -------
        Study
            A new study with those rows; what each condition costs is in the trail's check. Few rows (up to 131,072) of many that come in
            parts are in memory then.

        Raises
        ------
        MarkbaseError
            If there is no condition, or no row meets them all.
        ColumnError, LevelError
            For a column, test or level that is not there.
        """
        for name in conditions if isinstance(conditions, Mapping) else ():
            self.column(name)
        kept, check, words = kept_rows(self._columns, conditions, self._rows)
        costs = [f"“{r.condition}” fails in {r.fail:,}, is missing in {r.missing:,}" for r in rows_of(check.table)]
        text = f"Kept the rows where {words}: {int(kept.sum()):,} of {self._rows:,} rows ({'; '.join(costs)})."
        return self._taken(kept, TrailStep("keep", "", text, {"conditions": plain(conditions)}, reason, check))

    def leave_out_repeats(self, columns: Sequence[str] = (), *, reason: str = "") -> Self:
        """Leave out rows that are the same as a row before them (duplicates); of each the first stays.

        Parameters
        ----------
        columns : sequence of str
            In which columns rows are the same, such as an identifier; by default in all of them.
        reason : str
            Why; kept in the trail.

        Returns
        -------
        Study
            A new study with the other rows; how many rows stood there how often is in the trail's check. Missing answers are the
            same if they are missing for the same reason.

        Raises
        ------
        MarkbaseError
            If no row is like one before it, or rows come in parts.
        ColumnError
            For a column that is not there.

        Warns
        -----
        MarkbaseWarning
            For repeats of some columns that differ in others: which of the rows is right?

        Examples
        --------
        >>> import markbase as mb, pandas as pd
        >>> study = mb.Study(pd.DataFrame({"singer": ["s1", "s2", "s2"], "age": [31, 44, 44]}))
        >>> study.leave_out_repeats().rows
        2
        """
        own = [self.column(name) for name in columns] or list(self._columns.values())
        refuse_in_parts(
            [c.values for c in own],
            "finding rows that are the same as others",
            "leave them out where the file is made",
        )
        where = f"in {listed(quoted(columns))}" if columns else f"in all {len(own)} columns"
        sources = sources_of_repeats(own)
        kept = sources == np.arange(self._rows)
        if kept.all():
            raise MarkbaseError(
                f"No row of {self._rows:,} is the same as a row before it {where}. Nothing was left out."
            )
        left = self._rows - int(kept.sum())
        differing = other_answers(list(self._columns.values()), sources) if columns else 0
        text = f"Left out {count_noun(left, 'row')} that {'is' if left == 1 else 'are'} the same {where} as a row before: {self._rows - left:,} of {self._rows:,} rows stay"
        if differing:
            text += f"; {differing:,} of those left out differ from it in other columns"
            remark(
                f"{differing:,} of {left:,} rows left out are the same {where} as a row before, and differ from it in other columns: the first stays, "
                f"whichever is right."
            )
        check = check_of_repeats(sources, kept, ", ".join(columns) or "all columns")
        settings = given(columns=list(columns))
        return self._taken(kept, TrailStep("leave_out_repeats", "", f"{text}.", settings, reason, check))

    def as_long(
        self,
        columns: Mapping[str, Sequence[str]],
        *,
        name: str,
        labels: Sequence[str] = (),
        case: str = "case",
        reason: str = "",
    ) -> Self:
        """Put repeated measurements that stand in columns beside one another (wide form) below one another, a row each (long form).

        Parameters
        ----------
        columns : mapping
            What each new column is called, and the columns it is made of, in the order of the occasions, for instance
            ``{"score": ["score_1", "score_2"], "mood": ["mood_1", "mood_2"]}``.
        name : str
            What the column is called that tells the occasion.
        labels : sequence of str
            What the occasions are called, in order; by default what is different in the names of the columns: ``1``, ``2``. Whole numbers make
            `name` a numeric column, texts a group.
        case : str
            What the column is called that tells which rows are of one case, where no column has the role of an identifier.
        reason : str
            Why; kept in the trail.

        Returns
        -------
        Study
            A new study with a row for each case and occasion, also where nothing was measured. All other columns are repeated. The
            column that names the case has the role of a cluster: rows of one case go together.

        Raises
        ------
        ColumnError
            For columns that are lacking, named twice or of different kinds or units, and names that are taken.
        MarkbaseError
            If rows come in parts.

        Examples
        --------
        >>> import markbase as mb, pandas as pd
        >>> study = mb.Study(pd.DataFrame({"age": [31, 44], "score_1": [3.5, 4.1], "score_2": [4.0, None]}))
        >>> study.as_long({"score": ["score_1", "score_2"]}, name="wave").frame()
          case  age  wave  score
        0    1   31     1    3.5
        1    1   31     2    4.0
        2    2   44     1    4.1
        3    2   44     2    NaN
        """
        names_of_measurements(columns, name, labels, case)
        own = [self.column(n) for old in columns.values() for n in old]
        refuse_in_parts(
            [c.values for c in self._columns.values()],
            "putting measurements below one another",
            "do so where the file is made",
        )
        found, check, identifier = in_long_form(self._columns, columns, name, labels, case)
        if not check.passed:
            raise AssertionError("as_long did not verify")  # a defect of ours
        times = len(next(iter(columns.values())))
        text = (
            f"Put {listed(quoted(c.name for c in own))} below one another, as {listed(quoted(columns))} on {times} occasions (`{name}`): {self._rows:,} cases are "
            f"{times * self._rows:,} rows; those of one `{identifier}` go together."
        )
        settings = given(columns=plain(columns), name=name, labels=list(labels)) | (
            {} if case == "case" else {"case": case}
        )
        return self._remade(found, TrailStep("as_long", name, text, settings, reason, check), times * self._rows)

    def aggregate(self, by: str | Sequence[str], columns: Mapping[str, object], *, reason: str = "") -> Self:
        """Make one row for each level of a group, or each combination of several: of choirs what is in the rows of their singers (collapse).

        Parameters
        ----------
        by : str or sequence of str
            The group, or groups; whole numbers are codes.
        columns : mapping
            What each new column is: ``"rows"``, how many rows there are, or a measure of a column: ``{"mean": "age"}``, ``sum``, ``sd`` (n − 1),
            ``median``, ``low`` or ``high`` of a numeric one, ``{"share": "voice", "of": "alto"}`` (0 to 1) of a group. In means, sums,
            shares and standard deviations rows may count by weights: ``{"mean": "age", "weights": "weight"}``; those without one do not count. A
            weighted variance is Σw(x − x̄)²/Σw · n/(n − 1), x̄ = Σwx/Σw, over the n rows with a weight above 0.
        reason : str
            Why; kept in the trail.

        Returns
        -------
        Study
            A new study, its rows in the order of the levels, in memory. A measure is of the rows with a value; where none has one it is missing. Columns
            that are the same in all rows of each level stay, others are left out, as are rows without a level.

        Raises
        ------
        ColumnError, LevelError
            For columns and levels that are lacking, measures that do not suit a column, names that are taken, and a `by` of fractions.
        MarkbaseError
            For a median of rows in parts.

        Warns
        -----
        MarkbaseWarning
            Where rows have weights by which no measure counts them.

        Examples
        --------
        >>> import markbase as mb, pandas as pd
        >>> singers = mb.Study(pd.DataFrame({"choir": ["A", "A", "B"], "age": [31, 44, 52]}))
        >>> singers.aggregate("choir", {"singers": "rows", "mean_age": {"mean": "age"}}).frame()
          choir  singers  mean_age
        0     A        2      37.5
        1     B        1      52.0
        """
        keys = [by] if isinstance(by, str) else list(by)
        if not keys or len(set(keys)) < len(keys):
            raise ColumnError(
                f"Name the group, or the different groups, to put rows together by, not {told_value(by)}."
            )
        for name in keys:
            self.column(name)
        wanted = wanted_columns(columns, self._columns, keys)
        found = aggregated(self._columns, keys, wanted, self._rows)
        if not found.check.passed:
            raise AssertionError("aggregate did not verify")  # a defect of ours
        if unused := weights_unused(wanted, self._columns):
            remark(unused)
        step = TrailStep("aggregate", "", found.text, given(by=plain(by), columns=plain(columns)), reason, found.check)
        return self._remade(found.columns, step, found.rows)

    def hold_out(
        self, share: float, seed: int, *, within: str | None = None, whole: str | None = None, reason: str = ""
    ) -> tuple[Self, Self]:
        """Hold rows out at random, to judge on them a model fitted on the others.

        Parameters
        ----------
        share : float
            Share to hold out, between 0 and 1.
        seed : int
            Seed of the random numbers: the same seed holds out the same rows.
        within : str, optional
            A group: the share is held out of each of its levels.
        whole : str, optional
            A group of which whole levels are held out, such as choirs: a model is then judged on choirs it has not seen.
        reason : str
            Why; kept in the trail.

        Returns
        -------
        kept, held_out : Study
            Two studies that have every row of this one between them.

        Raises
        ------
        MarkbaseError
            For a share or seed out of range, or so few rows, or levels, that a part would be empty.

        Warns
        -----
        MarkbaseWarning
            For a level that one part lacks, and a part of fewer than 30 rows.

        Examples
        --------
        >>> import markbase as mb
        >>> study = mb.demo.choirs().merge_levels("voice", {"tenor": ["tennor"]}).mark("voice", "alto")
        >>> kept, rest = study.hold_out(share=0.25, seed=1)
        >>> kept.rows + rest.rows
        2003
        """
        held, words = split_rows(
            self._rows,
            share,
            seed,
            self.column(within) if within else None,
            as_levels(self.column(whole), "clusters") if whole else None,
            next(iter(self._columns.values())).values,
        )
        settings = given(share=share, seed=seed, within=within, whole=whole)
        parts = []
        for part, rows in (("kept", ~held), ("held_out", held)):
            text = f"Took the {part.replace('_', '-')} part: {int(rows.sum()):,} rows; {words}."
            parts.append(self._taken(rows, TrailStep("hold_out", "", text, settings | {"part": part}, reason)))
        others = {n: c for n, c in parts[0]._columns.items() if n != whole}  # of that, no level is meant to be in both
        lacking = one_sided_levels(others, parts[1]._columns)
        if lacking:
            remark(f"After holding out, {'; '.join(lacking)}: such a level cannot be estimated, or not be judged.")
        for part, study in zip(("kept", "held-out"), parts, strict=True):
            if study._rows < _FEW_ROWS:
                remark(f"The {part} part has only {count_noun(study._rows, 'row')}: figures from it will be rough.")
        return parts[0], parts[1]

    def sample(self, rows: int, *, seed: int = 0, reason: str = "") -> Self:
        """Take some rows at random into memory, as a study of their own with the same columns, levels and bases.

        Parameters
        ----------
        rows : int
            How many; all where there are no more. Of rows that come in parts at most 131,072, of those that are kept in memory.
        seed : int
            Seed of the random numbers: the same seed takes the same rows.
        reason : str
            Why; kept in the trail.

        Returns
        -------
        Study
            The sample; its trail says that it is one.

        Raises
        ------
        MarkbaseError
            If no row is asked for.

        Examples
        --------
        >>> import markbase as mb
        >>> mb.demo.choirs().sample(500, seed=1).rows
        500
        """
        if rows < 1:
            raise MarkbaseError(f"A sample has one row or more, not {rows}.")
        check_seed(seed)
        arrays = arrays_of(self._columns)
        held = in_memory(arrays)[0] if in_parts(arrays) else arrays
        there = len(next(iter(held.values()))[0])
        if there < min(rows, self._rows):
            remark(
                f"Of rows that come in parts only some stay in memory: the sample has {there:,} rows, and {rows:,} were asked for."
            )
        some = np.sort(np.random.default_rng(seed).permutation(there)[:rows])
        index = pd.RangeIndex(len(some)) if in_parts(arrays) else self._index[some]
        study = self._holding({n: (v[some], None if w is None else w[some]) for n, (v, w) in held.items()}, index)
        text = f"Took a random sample: {len(some):,} of {self._rows:,} rows (seed {seed})."
        study._trail = self._trail.then(TrailStep("sample", "", text, {"rows": rows, "seed": seed}, reason))
        return study
