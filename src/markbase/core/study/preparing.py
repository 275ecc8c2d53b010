"""The steps that prepare a study. Each returns a new study and adds to the trail."""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Mapping, Sequence
from dataclasses import replace
from typing import Any, Self

import numpy as np
import pandas as pd

from markbase.core.errors import ColumnError, MarkbaseError, count_noun, listed, near, quoted, remark
from markbase.core.study import blanking, combining, cutting, declaring, deriving, merging
from markbase.core.study.base import choose_base
from markbase.core.study.coding import Coding, check_scheme, code_group, indicator_columns
from markbase.core.study.column import Column, Role
from markbase.core.study.recoding import Check, Recode
from markbase.core.study.remarks import THIN_ROWS
from markbase.core.study.rows import kept_rows, one_sided_levels, split_rows, take
from markbase.core.study.trail import Trail, TrailStep

_FEW_ROWS = 30


class Preparing(ABC):
    """The preparing steps of a `Study`."""

    _columns: dict[str, Column]
    _rows: int
    _name: str
    _trail: Trail

    @abstractmethod
    def column(self, name: str) -> Column:
        """Return one typed column."""

    # -- declaring ---------------------------------------------------------------------------

    def as_group(
        self,
        column: str,
        labels: Mapping[object, str] | None = None,
        *,
        order: Sequence[object] | None = None,
        reason: str = "",
    ) -> Self:
        """Declare a column a group: its numbers are codes.

        Parameters
        ----------
        column : str
            An amount whose numbers are codes, or a group.
        labels : mapping, optional
            Code to label, for instance ``{1: "Mon", 2: "Tue"}``.
        order : sequence, optional
            Labels or codes in the order in which to list them.
        reason : str
            Why; kept in the trail.

        Returns
        -------
        Study
            A new study in which the column is a group.

        Raises
        ------
        ColumnError
            If there is no such column, or it has too many values to be codes.
        LevelError
            For a label given to two codes, or an order that does not fit.

        Warns
        -----
        MarkbaseWarning
            For codes without a label, and labels that no row has.
        """
        recode = declaring.declare_group(self.column(column), labels, order, "group")
        settings = _given(column=column, labels=_plain(labels), order=_plain(order))
        return self._recoded(recode, "as_group", settings, reason)

    def as_ordered(
        self,
        column: str,
        order: Sequence[object] | None = None,
        *,
        labels: Mapping[object, str] | None = None,
        reason: str = "",
    ) -> Self:
        """Declare a column an ordered group.

        Parameters
        ----------
        column : str
            A group, or an amount whose numbers are codes.
        order : sequence, optional
            Labels or codes, the lowest first; by default as they are listed.
        labels : mapping, optional
            Code to label.
        reason : str
            Why; kept in the trail.

        Returns
        -------
        Study
            A new study in which the column is an ordered group.

        Raises
        ------
        ColumnError, LevelError
            As for `as_group`.
        """
        recode = declaring.declare_group(self.column(column), labels, order, "ordered")
        settings = _given(column=column, order=_plain(order), labels=_plain(labels))
        return self._recoded(recode, "as_ordered", settings, reason)

    def as_amount(self, column: str, *, reason: str = "") -> Self:
        """Declare a group whose codes are numbers an amount.

        Parameters
        ----------
        column : str
            A group with a number for a code in every level that occurs.
        reason : str
            Why; kept in the trail.

        Returns
        -------
        Study
            A new study in which the column is an amount.

        Raises
        ------
        ColumnError
            If there is no such column, or a level is no number.
        """
        recode = declaring.declare_amount(self.column(column))
        return self._recoded(recode, "as_amount", {"column": column}, reason)

    def as_role(self, column: str, role: Role | None, *, reason: str = "") -> Self:
        """Give a column a role, or take it away.

        Parameters
        ----------
        column : str
            Any column.
        role : str or None
            ``identifier`` (never a predictor), ``weight``, ``cluster``, or None.
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
        """
        if role not in ("identifier", "weight", "cluster", None):
            raise ColumnError(f"`{role}` is no role for `{column}`; there are `cluster`, `identifier` and `weight`.")
        new = replace(self.column(column), role=role)
        text = f"Gave `{column}` the role `{role}`." if role else f"Took its role from `{column}`."
        return self._with(new, TrailStep("as_role", column, text, {"column": column, "role": role}, reason))

    # -- values ------------------------------------------------------------------------------

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
            An amount or a group.
        codes : sequence or mapping
            The codes, or code to meaning, for instance ``{-9: "no answer", -8: "not asked"}``.
        ranges : sequence of (low, high)
            Ranges of an amount, both ends included.
        reason : str
            Why; kept in the trail.

        Returns
        -------
        Study
            A new study in which those rows are missing, counted for each code.

        Raises
        ------
        ColumnError
            If there is no such column, nothing is named, or a code or range does not suit it.

        Warns
        -----
        MarkbaseWarning
            For a code that is never seen, and one that lies among the other values.
        """
        recode = blanking.blank_codes(self.column(column), codes, ranges)
        settings = _given(column=column, codes=_plain(codes), ranges=_plain(ranges))
        return self._recoded(recode, "blank", settings, reason)

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
            If there is no such column, or it is an amount.
        LevelError
            If a level is not there, goes to two targets, or nothing falls below the limit.

        Warns
        -----
        MarkbaseWarning
            If the base was merged away, or a new level mixes others.
        """
        source = self.column(column)
        if (targets is None) == (below is None and below_share is None):
            raise MarkbaseError(
                f"Say which levels of `{column}` to merge: either targets, such as {{'other': ['x', 'y']}}, or a limit, such as below=30."
            )
        plan = merging.thin_levels(source, below, below_share, into) if targets is None else targets
        recode = merging.merge(source, plan, self._new_name(name) if name is not None else column)
        settings = _given(column=column, targets=_plain(targets), below=below, below_share=below_share, name=name)
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
            If there is no such column, it is an amount, or the name is taken.
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
        settings = _given(column=column, level=_plain(level), name=name, rest=rest)
        return self._recoded(recode, "against_rest", settings, reason)

    def cut(
        self,
        column: str,
        edges: Sequence[float],
        *,
        name: str,
        labels: Sequence[str] | None = None,
        edge_goes: str = "up",
        reason: str = "",
    ) -> Self:
        """Cut an amount into bands.

        Parameters
        ----------
        column : str
            An amount.
        edges : sequence of float
            Where one band ends and the next begins, rising; one fewer than bands.
        name : str
            The name of the new column.
        labels : sequence of str, optional
            One a band; by default the bands are written out.
        edge_goes : str
            ``up`` or ``down``: which band a value at an edge belongs to.
        reason : str
            Why; kept in the trail.

        Returns
        -------
        Study
            A new study with an ordered group more.

        Raises
        ------
        ColumnError
            If there is no such column, it is a group, or the name is taken.
        LevelError
            For edges that do not rise, or labels that do not fit.

        Warns
        -----
        MarkbaseWarning
            For empty bands, and where a small move of an edge would change many rows.
        """
        if edge_goes not in ("up", "down"):
            raise MarkbaseError(f"A value at an edge goes `up` or `down`, not `{edge_goes}`.")
        recode = cutting.cut_amount(self.column(column), edges, labels, self._new_name(name), edge_goes == "up")
        settings = _given(column=column, edges=_plain(edges), name=name, labels=_plain(labels))
        if edge_goes != "up":
            settings["edge_goes"] = edge_goes
        return self._recoded(recode, "cut", settings, reason, ("no row falls", "sensitive"))

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
        """Split an amount or a scale in two.

        Parameters
        ----------
        column : str
            An amount.
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
            If there is no such column, it is a group, or the name is taken.
        LevelError
            If both thresholds or neither are given, labels do not fit, or one side is empty.

        Warns
        -----
        MarkbaseWarning
            Where a small move of the threshold would change many rows.
        """
        recode = cutting.split_amount(self.column(column), above, at_least, labels, self._new_name(name))
        settings = _given(column=column, above=above, at_least=at_least, labels=_plain(labels), name=name)
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
            A group, or an amount with few values.
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
        settings = _given(column=column, event=_plain(event), name=name, labels=_plain(labels))
        return self._recoded(recode, "event", settings, reason)

    def derive(
        self,
        name: str,
        *,
        within: str | None = None,
        least: int | None = None,
        per: float | None = None,
        reason: str = "",
        **how: Any,
    ) -> Self:
        """Make a new amount of one or several.

        Parameters
        ----------
        name : str
            The name of the new column.
        within : str, optional
            For ``centre``, ``z`` and ``unit_range``: a group, each level on its own.
        least : int, optional
            For ``sum`` and ``mean``: how many items must be answered; by default all.
        per : float, optional
            For ``rate``: per how many of the second column; by default 1.
        reason : str
            Why; kept in the trail.
        **how
            One operation and what it is done to: ``log``, ``log1p``, ``sqrt``, ``cube_root``,
            ``square``, ``reciprocal``, ``centre``, ``z`` or ``unit_range`` with a column;
            ``sum`` or ``mean`` with a list of columns; ``difference``, ``ratio`` or ``rate`` with two.

        Returns
        -------
        Study
            A new study with an amount more.

        Raises
        ------
        ColumnError
            If there is no such column, the name is taken, or the operation is refused: a logarithm
            of zeros, a z of an indicator.
        MarkbaseError
            If not exactly one operation is given, or an option does not belong to it.

        Warns
        -----
        MarkbaseWarning
            For divisions by zero, which are left missing, and items that span different ranges.
        """
        operations = (*deriving.TRANSFORMS, *deriving.RESCALINGS, *combining.ARITHMETIC)
        for key in how:
            if key not in operations:
                raise MarkbaseError(f"`derive` knows no `{key}`.{near(key, sorted(operations))}")
        if len(how) != 1:
            raise MarkbaseError(
                f"`derive` does one thing to make `{name}`, not {len(how)}; for instance log1p='travel_km'."
            )
        (operation, of), new_name = next(iter(how.items())), self._new_name(name)
        options = {"within": (within, deriving.RESCALINGS), "least": (least, ("mean", "sum")), "per": (per, ("rate",))}
        for option, (value, suits) in options.items():
            if value is not None and operation not in suits:
                raise MarkbaseError(
                    f"`{option}` belongs to {listed(quoted(sorted(suits)), 'or')}, not to `{operation}`."
                )
        if operation in combining.ARITHMETIC:
            names = [of] if isinstance(of, str) else list(of)
            recode = combining.combine([self.column(n) for n in names], operation, new_name, least, per or 1.0)
        elif not isinstance(of, str):
            raise MarkbaseError(f"`{operation}` is done to one column, not to {of!r}.")
        elif operation in deriving.TRANSFORMS:
            recode = deriving.transform(self.column(of), operation, new_name)
        else:
            group = self.column(within) if within else None
            recode = deriving.rescale(self.column(of), operation, new_name, group)
        settings = _given(name=name, **{operation: _plain(of)}, within=within, least=least, per=per)
        return self._recoded(recode, "derive", settings, reason, ("with `", "the items do not", "too small"))

    def lag(
        self,
        column: str,
        *,
        by: int = 1,
        order: str,
        within: str | None = None,
        name: str,
        reason: str = "",
    ) -> Self:
        """Look back in time: make a column of earlier values.

        Parameters
        ----------
        column : str
            The column whose earlier value is wanted.
        by : int
            How many steps of `order` to look back.
        order : str
            An amount that counts the steps in whole numbers.
        within : str, optional
            A group whose levels are series of their own; no value is taken across them.
        name : str
            The name of the new column.
        reason : str
            Why; kept in the trail.

        Returns
        -------
        Study
            A new study with a column more; starts of a series and gaps are missing, each counted.

        Raises
        ------
        ColumnError
            If there is no such column, the name is taken, the order is not in whole numbers, or a
            series has two rows at one step.
        """
        recode = combining.lag(
            self.column(column), by, self.column(order), self.column(within) if within else None, self._new_name(name)
        )
        settings = _given(column=column, by=by, order=order, within=within, name=name)
        return self._recoded(recode, "lag", settings, reason, ())

    # -- bases and coding --------------------------------------------------------------------

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
            For ``lowest_mean``: the amount whose mean decides.
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
            If the base has fewer than 30 rows: every comparison then rests on those few. If it was
            chosen by looking at another column: comparisons with it look larger than they are, if
            that column is the outcome.
        """
        group = self.column(column)
        chosen = choose_base(group, base, by, reason, self.column(of) if of is not None else None)
        label, n = group.levels[chosen.level].label, int(group.counts[chosen.level])
        if n < THIN_ROWS:
            remark(
                f"The base `{label}` of `{column}` has only {n} rows: every comparison with it will be wide; "
                f"a larger base would do better unless this one is the point."
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
            _given(column=column, base=label if by is None else None, by=by, of=of),
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
            polynomials); the last two need an ordered group.
        reason : str
            Why; kept in the trail.

        Returns
        -------
        Study
            A new study in which the group is so coded.

        Raises
        ------
        ColumnError
            If there is no such column, it is an amount, or the scheme needs an order.
        LevelError
            If there is no such scheme.
        """
        group = self.column(column)
        check_scheme(group, scheme)
        step = TrailStep(
            "code_as", column, f"Chose {scheme} coding for `{column}`.", {"column": column, "scheme": scheme}, reason
        )
        return self._with(replace(group, scheme=scheme), step)  # type: ignore[arg-type]

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
            If there is no such column, it is an amount, or it has fewer than two levels with rows.
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
            If there is no such column, or it is an amount.

        Warns
        -----
        MarkbaseWarning
            For a full set: it must not be entered together with an intercept.
        """
        if isinstance(columns, str):
            raise ColumnError(f"Give the groups as a list, for instance [{columns!r}].")
        frames = [indicator_columns(self.column(name), full_set) for name in columns]
        frame = pd.concat(frames, axis=1) if frames else pd.DataFrame(index=range(self._rows))
        bases = {n: c.levels[c.base.level].label for n in columns if (c := self.column(n)).base is not None}
        note = "bases have no column: a row of zeros is the base"
        if full_set:
            note = "full set: leave one column of each group out wherever there is an intercept"
            remark(f"Indicators of {listed(quoted(columns))}: {note}, or the columns overlap exactly.")
        frame.attrs.update({"bases": bases, "note": note})
        return frame

    # -- rows --------------------------------------------------------------------------------

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
            A new study with those rows; what each condition costs is in the trail's check.

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
        text = f"Kept the rows where {words}: {int(kept.sum()):,} of {self._rows:,} rows."
        return self._taken(kept, TrailStep("keep", "", text, {"conditions": _plain(conditions)}, reason, check))

    def hold_out(self, share: float, seed: int, *, within: str | None = None, reason: str = "") -> tuple[Self, Self]:
        """Hold rows out at random, to judge on them a model fitted on the others.

        Parameters
        ----------
        share : float
            Share to hold out, between 0 and 1.
        seed : int
            Seed of the random numbers: the same seed holds out the same rows.
        within : str, optional
            A group: the share is held out of each of its levels.
        reason : str
            Why; kept in the trail.

        Returns
        -------
        kept, held_out : Study
            Two studies that have every row of this one between them.

        Raises
        ------
        MarkbaseError
            For a share or seed out of range, or so few rows that a part would be empty.

        Warns
        -----
        MarkbaseWarning
            For a level that one part lacks, and a part of fewer than 30 rows.
        """
        held, words = split_rows(self._rows, share, seed, self.column(within) if within else None)
        settings = _given(share=share, seed=seed, within=within)
        parts = []
        for part, rows in (("kept", ~held), ("held_out", held)):
            text = f"Took the {part.replace('_', '-')} part: {int(rows.sum()):,} rows; {words}."
            parts.append(self._taken(rows, TrailStep("hold_out", "", text, settings | {"part": part}, reason)))
        lacking = one_sided_levels(parts[0]._columns, parts[1]._columns)
        if lacking:
            remark(f"After holding out, {'; '.join(lacking)}: such a level cannot be estimated, or not be judged.")
        for part, study in zip(("kept", "held-out"), parts, strict=True):
            if study._rows < _FEW_ROWS:
                remark(f"The {part} part has only {count_noun(study._rows, 'row')}: figures from it will be rough.")
        return parts[0], parts[1]

    # -- verification ------------------------------------------------------------------------

    def check(self, column: str) -> Check:
        """Return the verification of the last recoding of a column: old × new, with counts.

        Parameters
        ----------
        column : str
            The name of a column that was made or changed.

        Returns
        -------
        Check
            `table`, `passed`, `notes`; print it to read it.

        Raises
        ------
        ColumnError
            If there is no such column, or it was not recoded.
        """
        self.column(column)
        for step in reversed(self._trail.steps):
            if step.column == column and step.check is not None:
                return step.check
        raise ColumnError(f"`{column}` was not recoded: it is as it was read, so there is nothing to verify.")

    # -- how a step ends ---------------------------------------------------------------------

    def _new_name(self, name: str) -> str:
        if not isinstance(name, str) or not name.strip():
            raise ColumnError(f"A new column needs a name, not {name!r}.")
        if name in self._columns:
            raise ColumnError(f"There is a column `{name}` already, and nothing is overwritten; choose another name.")
        return name

    def _recoded(
        self,
        recode: Recode,
        action: str,
        settings: Mapping[str, Any],
        reason: str,
        worth_a_remark: Sequence[str] | None = None,
    ) -> Self:
        if not recode.check.passed:
            raise AssertionError(f"{action} of {recode.column.name} did not verify")  # a defect of ours
        notes = recode.check.notes
        if worth_a_remark is not None:
            notes = tuple(n for n in notes if any(mark in n for mark in worth_a_remark))
        if notes:
            told = "; ".join(notes)
            remark(f"`{recode.column.name}`: {told}{'' if told.endswith('?') else '.'}")
        step = TrailStep(action, recode.column.name, recode.text, settings, reason, recode.check)
        return self._with(recode.column, step)

    def _with(self, column: Column, step: TrailStep) -> Self:
        """Return a study with one column put in place and one more step on the trail."""
        study = object.__new__(type(self))
        study.__dict__.update(self.__dict__)
        study._columns = {**self._columns, column.name: column}
        study._trail = self._trail.then(step)
        return study

    def _taken(self, rows: np.ndarray, step: TrailStep) -> Self:
        """Return a study with some of the rows and one more step on the trail."""
        study = object.__new__(type(self))
        study.__dict__.update(self.__dict__)
        study._columns = {name: take(column, rows) for name, column in self._columns.items()}
        study._rows = int(np.count_nonzero(rows))
        study._trail = self._trail.then(step)
        return study


def _given(**settings: Any) -> dict[str, Any]:
    """Keep the settings that were given."""
    return {k: v for k, v in settings.items() if v is not None and not (isinstance(v, (list, dict)) and not v)}


def _plain(value: Any) -> Any:
    """Return a setting as values that TOML and JSON can hold."""
    if isinstance(value, Mapping):
        return {str(k): _plain(v) for k, v in value.items()}
    if isinstance(value, (list, tuple, range)):
        return [_plain(v) for v in value]
    return value.item() if isinstance(value, np.generic) else value
