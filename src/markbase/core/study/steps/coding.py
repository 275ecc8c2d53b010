"""Steps that choose bases and codings, and lay them out."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import replace
from typing import Self, cast

import pandas as pd

from markbase.core.errors import ColumnError, count_noun, listed, quoted, remark
from markbase.core.study.base import choose_base
from markbase.core.study.coding import Coding, check_scheme, code_group, indicator_columns, side_by_side
from markbase.core.study.column import Scheme
from markbase.core.study.remark import THIN_ROWS
from markbase.core.study.steps.base_step import Stepping, given
from markbase.core.study.trail import TrailStep

_FULL_SET = "full set: leave one column of each group out wherever there is an intercept"


def _remark_on_full_set(groups: Sequence[str]) -> None:
    remark(f"Indicators of {listed(quoted(groups))}: {_FULL_SET}, or the columns are exactly collinear.")


class CodingSteps(Stepping):
    """Bases, schemes and indicators."""

    def mark(
        self,
        column: str,
        base: object | None = None,
        *,
        by: str | None = None,
        of: str | None = None,
        reason: str = "",
    ) -> Self:
        """Choose the base of a group: the level the others are compared with.

        Parameters
        ----------
        column : str
            A group.
        base : object, optional
            The level, by label or code.
        by : str, optional
            A rule instead: ``first``, ``largest``, ``last`` or ``smallest`` among the levels that
            occur, or ``lowest_mean`` of another column; ties go to the earlier level.
        of : str, optional
            For ``lowest_mean``: the numeric column whose mean decides.
        reason : str
            Why; kept in the trail and shown beside the base.

        Returns
        -------
        Study
            A new study with that base.

        Raises
        ------
        ColumnError
            If there is no such column, or it is numeric.
        LevelError
            If there is no such level or rule, or no row has the level.

        Warns
        -----
        MarkbaseWarning
            If the base has fewer than 30 rows: every comparison then rests on those few. If it was
            chosen by looking at another column: comparisons with it look larger than they are, if
            that column is the outcome.

        Examples
        --------
        >>> import markbase as mb
        >>> study = mb.demo.choirs().mark("voice", "alto", reason="the largest part")
        >>> study.levels("voice").query("base")["level"].tolist()
        ['alto']
        """
        group = self.column(column)
        chosen = choose_base(group, base, by, reason, self.column(of) if of is not None else None)
        label, n = group.levels[chosen.level].label, int(group.counts[chosen.level])
        if n < THIN_ROWS:
            remark(
                f"The base `{label}` of `{column}` has only {count_noun(n, 'row')}: every comparison with it rests on these; "
                f"a larger base would do better unless this one is the point, or rows count by frequencies."
            )
        if chosen.looked_at:
            remark(
                f"The base of `{column}` was chosen by looking at `{chosen.looked_at}`: with that as the outcome, differences "
                f"from the base come out larger than they are, and p values too small."
            )
        step = TrailStep(
            "mark",
            column,
            f"Marked `{label}` as the base of `{column}` ({n:,} of {group.valid:,} rows): {chosen.reason}.",
            given(column=column, base=label if by is None else None, by=by, of=of),
            reason,
        )
        return self._with(replace(group, base=chosen), step)

    def code_as(self, column: str, scheme: str, *, reason: str = "") -> Self:
        """Choose how a group becomes columns in a model.

        Parameters
        ----------
        column : str
            A group.
        scheme : str
            ``indicator`` (each level against the base), ``effect`` (each against the mean of the
            levels), ``adjacent`` (each against the one before) or ``trend`` (orthogonal
            polynomials); the last two need an ordinal column.
        reason : str
            Why; kept in the trail.

        Returns
        -------
        Study
            A new study in which the group is so coded.

        Raises
        ------
        ColumnError
            If there is no such column, it is numeric, or the scheme needs an order.
        LevelError
            If there is no such scheme.

        Examples
        --------
        >>> import markbase as mb
        >>> mb.demo.choirs().code_as("voice", "effect").column("voice").scheme
        'effect'
        """
        group = self.column(column)
        check_scheme(group, scheme)
        step = TrailStep(
            "code_as", column, f"Chose {scheme} coding for `{column}`.", {"column": column, "scheme": scheme}, reason
        )
        return self._with(replace(group, scheme=cast("Scheme", scheme)), step)

    def coding(self, column: str) -> Coding:
        """Lay out how a group becomes columns under each scheme, and verify it by counts.

        Parameters
        ----------
        column : str
            A group.

        Returns
        -------
        Coding
            `grids`, `meaning`, `check`, `row_sums`, `passed`; print it to read it.

        Raises
        ------
        ColumnError
            If there is no such column, it is numeric, or it has fewer than two levels with rows, or more than 1,000.

        Examples
        --------
        >>> import markbase as mb
        >>> study = mb.demo.choirs().merge_levels("voice", {"tenor": ["tennor"]}).mark("voice", "alto")
        >>> study.coding("voice").grids["indicator"].rename_axis(None).astype(int)
                 soprano  tenor  bass
        soprano        1      0     0
        alto           0      0     0
        tenor          0      1     0
        bass           0      0     1
        """
        group = self.column(column)
        check_scheme(group, "indicator")
        return code_group(group)

    def indicators(self, columns: Sequence[str], *, full_set: bool = False) -> pd.DataFrame:
        """Return the 0/1 columns of groups, for use elsewhere. Fits here do not need them.

        Parameters
        ----------
        columns : sequence of str
            Groups.
        full_set : bool
            Whether each base gets a column too.

        Returns
        -------
        pandas.DataFrame
            Int8 columns named ``group_level``, missing where the group is missing. ``attrs`` holds
            the ``bases`` and a ``note``.

        Raises
        ------
        ColumnError
            If there is no such column, or it is numeric.

        Warns
        -----
        MarkbaseWarning
            For a full set: it must not be entered together with an intercept.

        Examples
        --------
        >>> import markbase as mb
        >>> study = mb.demo.choirs().merge_levels("voice", {"tenor": ["tennor"]}).mark("voice", "alto")
        >>> study.indicators(["voice"]).head(2)
           voice_soprano  voice_tenor  voice_bass
        0              1            0           0
        1              0            0           0
        """
        if isinstance(columns, str):
            raise ColumnError(f"Give the groups as a list, for instance [{columns!r}].")
        frames = [indicator_columns(self.column(name), full_set) for name in columns]
        frame = side_by_side(frames) if frames else pd.DataFrame(index=range(self._rows))
        bases = {n: c.levels[c.base.level].label for n in columns if (c := self.column(n)).base is not None}
        note = _FULL_SET if full_set else "bases have no column: a row of zeros is the base"
        if full_set:
            _remark_on_full_set(columns)
        frame.attrs.update({"bases": bases, "note": note})
        return frame

    def indicator_parts(self, columns: Sequence[str], *, full_set: bool = False) -> Iterator[tuple[Self, pd.DataFrame]]:
        """Lay the 0/1 columns of groups out a part of the rows at a time, with a column for each level that any row has.

        Parameters
        ----------
        columns, full_set
            As for `indicators`.

        Yields
        ------
        part : Study
            The next rows, as `parts` gives them.
        indicators : pandas.DataFrame
            Their columns.

        Raises
        ------
        ColumnError
            If there is no such column, or it is numeric.

        Examples
        --------
        >>> import markbase as mb
        >>> study = mb.demo.choirs().merge_levels("voice", {"tenor": ["tennor"]}).mark("voice", "alto")
        >>> [list(frame.columns) for _, frame in study.indicator_parts(["voice"])]
        [['voice_soprano', 'voice_tenor', 'voice_bass']]
        """
        groups = [self.column(name) for name in columns]
        if full_set:
            _remark_on_full_set(columns)
        for part in self.parts():
            frames = [indicator_columns(group, full_set, part.column(group.name).values) for group in groups]
            yield part, side_by_side(frames)
