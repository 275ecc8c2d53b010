"""Steps that make numeric columns of others, and look back in time."""

from __future__ import annotations

import datetime
from typing import Any, Self

from markbase.core.errors import MarkbaseError, listed, near, quoted
from markbase.core.study import arithmetic, calculating, clock_times, dates, lagging, transformations
from markbase.core.study.steps.base_step import Stepping, given, plain


class Deriving(Stepping):
    """Transformations, rescaling, arithmetic and lags."""

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
        """Make a new numeric column of one or several.

        Parameters
        ----------
        name : str
            The name of the new column.
        within : str, optional
            For ``centre``, ``z`` and ``unit_range``: a group, each level on its own; for ``level_mean``: of whose levels.
        least : int, optional
            For ``sum`` and ``mean``: how many items must be answered; by default all.
        per : float, optional
            For ``rate``: per how many of the second column; by default 1.
        reason : str
            Why; kept in the trail.
        **how
            One operation and what it is done to: ``log``, ``log1p``, ``sqrt``, ``cube_root``,
            ``square``, ``reciprocal``, ``centre``, ``z``, ``unit_range`` or ``level_mean`` with a column;
            ``sum`` or ``mean`` with a list of columns; ``difference``, ``product``, ``ratio`` or ``rate`` with two.

        Returns
        -------
        Study
            A new study with a numeric column more.

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
            For divisions by zero, which are left missing, items that span different ranges, and items of a mean (or of a
            sum of answers on one scale) that go against the others, as if they were worded the other way round.

        Examples
        --------
        >>> import markbase as mb
        >>> mb.demo.choirs().derive("log_km", log1p="travel_km").column("log_km").kind
        'numeric'
        """
        leveled = transformations.LEVEL_MEAN
        operations = (*transformations.TRANSFORMS, *transformations.RESCALINGS, leveled, *arithmetic.ARITHMETIC)
        for key in how:
            if key not in operations:
                raise MarkbaseError(f"`derive` knows no `{key}`.{near(key, sorted(operations))}")
        if len(how) != 1:
            raise MarkbaseError(
                f"`derive` does one thing to make `{name}`, not {len(how)}; for instance log1p='travel_km'."
            )
        (operation, of), new_name = next(iter(how.items())), self._new_name(name)
        options = {
            "within": (within, (*transformations.RESCALINGS, leveled)),
            "least": (least, ("mean", "sum")),
            "per": (per, ("rate",)),
        }
        for option, (value, suits) in options.items():
            if value is not None and operation not in suits:
                raise MarkbaseError(
                    f"`{option}` belongs to {listed(quoted(sorted(suits)), 'or')}, not to `{operation}`."
                )
        if operation in arithmetic.ARITHMETIC:
            names = [of] if isinstance(of, str) else list(of) if isinstance(of, (list, tuple)) else []
            if not names or not all(isinstance(n, str) for n in names):
                raise MarkbaseError(f"`{operation}` takes the names of columns, not {of!r}.")
            recode = arithmetic.combine([self.column(n) for n in names], operation, new_name, least, per or 1.0)
        elif not isinstance(of, str):
            raise MarkbaseError(f"`{operation}` is done to one column, not to {of!r}.")
        elif operation in transformations.TRANSFORMS:
            recode = transformations.transform(self.column(of), operation, new_name)
        else:
            group = self.column(within) if within else None
            if operation == leveled:
                recode = transformations.level_mean(self.column(of), new_name, group)
            else:
                recode = transformations.rescale(self.column(of), operation, new_name, group)
        settings = given(name=name, **{operation: plain(of)}, within=within, least=least, per=per)
        return self._recoded(
            recode, "derive", settings, reason, ("with `", "the items do not", "against", "too small", "uncertain")
        )

    def calculate(self, name: str, expression: str, *, reason: str = "") -> Self:
        """Make a new numeric column of an expression of others: arithmetic, row by row.

        Parameters
        ----------
        name : str
            The name of the new column.
        expression : str
            Numbers, columns, ``+ - * / ^`` and brackets, for instance ``"weight / (height / 100)^2"``, and the functions ``abs``, ``ceiling``,
            ``cube_root``, ``exp``, ``floor``, ``log`` (natural, also ``ln``), ``log10``, ``log1p``, ``log2``, ``max``, ``min``, ``round`` (halves away from
            0), ``sign``, ``sqrt``. A name that is more than letters, digits, dots and underscores stands between quotes:
            ``"'hours a week' * 52"``. It is read as arithmetic, and not run as code.
        reason : str
            Why; kept in the trail.

        Returns
        -------
        Study
            A new study with a numeric column more, missing where a column in it is, where it divides by 0, and where a number gets too
            large, each counted. A logarithm, a square, a product, a ratio, a difference, a sum or a mean is told as such, as after
            `derive`.

        Raises
        ------
        ColumnError
            If the expression cannot be read, there is no such column, it is a group, the name is taken, or a function is not defined
            in some rows: a logarithm of zeros, a root of negatives.

        Warns
        -----
        MarkbaseWarning
            For rows that are left missing for dividing by 0 or for too large a number.

        Examples
        --------
        >>> import markbase as mb
        >>> import pandas as pd
        >>> study = mb.Study(pd.DataFrame({"kg": [70.0, 81.0], "cm": [175, 180]})).calculate("bmi", "kg / (cm / 100)^2")
        >>> study["bmi"].values.round(1).tolist()
        [22.9, 25.0]
        """
        recode = calculating.calculated(self.column, expression, self._new_name(name))
        settings = given(name=name, expression=expression)
        return self._recoded(recode, "calculate", settings, reason, ("left missing", "against", "too small"))

    def from_date(
        self,
        column: str,
        take: str,
        *,
        since: str | datetime.date | None = None,
        until: str | datetime.date | None = None,
        day_first: bool | None = None,
        name: str,
        reason: str = "",
    ) -> Self:
        """Make a numeric column of dates, which are groups as they are read, or a group of their days of the week.

        Parameters
        ----------
        column : str
            A column of dates: ``2020-06-30``, ``30.06.2020``, ``6/30/2020``, with a time of the day or without, which is not counted; or of
            months and quarters, which are taken as their first days: ``2020-06``, ``6/2020``, ``2020 Q2``.
        take : str
            ``year``, ``month`` or ``weekday`` of the calendar (the last is a group, Monday to Sunday); or ``days``, ``months`` of the calendar or ``years``, counted since or until a day (a year has
            365.2425 days; from 31 January to 1 February is a month).
        since, until : str or date, optional
            For days, months and years: another column of dates, or a date (as a text, written as year-month-day). Give one of the two.
        day_first : bool, optional
            Whether the day stands before the month, where no number above 12 says it.
        name : str
            The name of the new column.
        reason : str
            Why; kept in the trail.

        Returns
        -------
        Study
            A new study with a numeric column more.

        Raises
        ------
        ColumnError
            If there is no such column, the name is taken, a value is no date, or day and month cannot be told apart.
        MarkbaseError
            If it is not clear what is to be taken.

        Warns
        -----
        MarkbaseWarning
            For counts below 0, of dates on the other side of that day.

        Examples
        --------
        >>> import markbase as mb
        >>> import pandas as pd
        >>> singers = mb.Study(pd.DataFrame({"born": ["30.06.1980", "01.01.2000"], "joined": ["2010-06-30", "2020-01-01"]}))
        >>> singers = singers.from_date("joined", "years", since="born", name="age_at_joining")
        >>> singers.column("age_at_joining").values.round(2).tolist()
        [30.0, 20.0]
        """
        since, until = (day.isoformat()[:10] if isinstance(day, datetime.date) else day for day in (since, until))
        ends = {
            key: self.column(value) if value is not None and value in self._columns else value
            for key, value in (("since", since), ("until", until))
        }
        recode = dates.from_date(self.column(column), take, self._new_name(name), **ends, day_first=day_first)
        settings = given(column=column, take=take, since=since, until=until, day_first=day_first, name=name)
        return self._recoded(recode, "from_date", settings, reason, ("below 0",))

    def from_clock(self, column: str, take: str, *, first: str | None = None, name: str, reason: str = "") -> Self:
        """Make a numeric column of times as a clock shows them, which are groups as they are read.

        Parameters
        ----------
        column : str
            A column of times: ``19:30``, ``7:30 pm``, ``1:05:30``; of the day, or how long something took. Of dates with a time
            (``2020-06-30 19:30``) it is the time of the day.
        take : str
            ``hours``, ``minutes`` or ``seconds``: what they are counted in.
        first : str, optional
            What the first of two numbers counts, ``hours`` or ``minutes``. Three are hours, minutes and seconds, and two by default hours
            and minutes; where some have two and others three it has to be said.
        name : str
            The name of the new column.
        reason : str
            Why; kept in the trail.

        Returns
        -------
        Study
            A new study with a numeric column more.

        Raises
        ------
        ColumnError
            If there is no such column, the name is taken, a value is no time, or two numbers cannot be told from three.
        MarkbaseError
            If it is not clear what is to be taken.

        Warns
        -----
        MarkbaseWarning
            For times shortly before and shortly after midnight, which stand far apart.

        Examples
        --------
        >>> import markbase as mb
        >>> import pandas as pd
        >>> study = mb.Study(pd.DataFrame({"came": ["19:30", "7:45 pm", "20:00"]})).from_clock("came", "hours", name="came_at")
        >>> study.column("came_at").values.tolist()
        [19.5, 19.75, 20.0]
        """
        recode = clock_times.from_clock(self.column(column), take, self._new_name(name), first)
        settings = given(column=column, take=take, first=first, name=name)
        return self._recoded(recode, "from_clock", settings, reason, ("midnight",))

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
            A numeric column that counts the steps in whole numbers.
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
        MarkbaseError
            If the rows come in parts, and are not sorted by the group and, within it, the order.
        """
        recode = lagging.lag(
            self.column(column), by, self.column(order), self.column(within) if within else None, self._new_name(name)
        )
        settings = given(column=column, by=by, order=order, within=within, name=name)
        return self._recoded(recode, "lag", settings, reason, ())
