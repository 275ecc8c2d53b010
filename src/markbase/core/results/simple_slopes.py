"""Probing curves and interactions: slopes at chosen values and within levels, turning points, regions where a slope is clear.

References
----------
Aiken & West (1991), Multiple Regression: Testing and Interpreting Interactions, ch. 2-5.
Cohen, Cohen, West & Aiken (2003), Applied Multiple Regression/Correlation Analysis for the Behavioral Sciences, 3rd ed.,
ch. 6-7 and 9, doi:10.4324/9780203774441.
Fieller (1954), Journal of the Royal Statistical Society B 16(2), 175-185, doi:10.1111/j.2517-6161.1954.tb00159.x.
Johnson & Neyman (1936), Statistical Research Memoirs 1, 57-93.
"""

from __future__ import annotations

import itertools
import math
import numbers
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
import pandas as pd
from numpy.typing import NDArray

from markbase.core.arguments import told_value
from markbase.core.design.mean_columns import derivative_along
from markbase.core.design.terms import variables_of
from markbase.core.display import Shown
from markbase.core.errors import FitError, LevelError, MarkbaseError, listed, near, remark
from markbase.core.formatting import short
from markbase.core.inference.distributions import t_quantile
from markbase.core.results.fit_statistics import OverallTest
from markbase.core.results.group_comparisons import Grouped
from markbase.core.study.cutting import few_values

Array = NDArray[np.float64]
Places = Mapping[str, float | Sequence[float]]
_FLAT = 1e-12


@dataclass(frozen=True, repr=False)
class TurningPoint(Shown):
    """Where a curve turns, with its intervals."""

    numeric: str
    """The column."""
    value: float
    """Where its slope is 0."""
    kind: str
    """``maximum`` or ``minimum``."""
    low: float
    """Lower end of the interval by the delta method."""
    high: float
    """Its upper end."""
    fieller_low: float
    """Lower end of Fieller's interval, all places whose slope may be 0; −infinite where it has none."""
    fieller_high: float
    """Its upper end; infinite where it has none."""
    inside: bool
    """Whether it lies inside the rows used."""
    lowest: float
    """The lowest value in the rows used."""
    highest: float
    """The highest."""
    level: float
    """Confidence level."""

    @property
    def text(self) -> str:
        """What it says, as a sentence."""
        percent = f"{short(100 * self.level, 4)}% CI"
        bounded = math.isfinite(self.fieller_low) and math.isfinite(self.fieller_high)
        interval = (
            f"{percent} {short(self.fieller_low, 4)} to {short(self.fieller_high, 4)}, Fieller"
            if bounded
            else f"{percent} unbounded: the bend is not clear enough to say where the curve turns"
        )
        where = (
            "inside the rows used"
            if self.inside
            else f"outside the rows used ({short(self.lowest, 4)} to {short(self.highest, 4)}), so that no row shows the turn"
        )
        return f"The curve of `{self.numeric}` has its {self.kind} at {short(self.value, 4)} ({interval}), {where}."


@dataclass(frozen=True, eq=False, repr=False)
class Probed(Grouped):
    """An estimated regression whose curves and interactions can be probed."""

    def _values_at(self, numeric: str) -> list[float]:
        """Return the mean of a numeric column and a standard deviation below and above, those inside the rows used."""
        low, high, sd = self.spread(numeric)
        mean = self.middle(numeric)
        distinct = few_values(self._values_of(numeric)[0], 3)
        if len(distinct) == 2:
            return distinct
        return [v for v in (mean - sd, mean, mean + sd) if low <= v <= high]

    def moves_with(self, numeric: str) -> list[str]:
        """Return the other columns of the model that were derived from a numeric column, and move when it does."""
        everything = slice(None)
        return [
            v.name
            for v in variables_of(self.model_terms).values()
            if v.name != numeric
            and not v.is_categorical
            and derivative_along(v.column, numeric, {}, everything) is not None
        ]

    def _slope_depends_on(self, numeric: str) -> list[str]:
        """Return the columns at which the slope of a numeric column is told, itself among them where it has a curve."""
        followers = self.moves_with(numeric)
        names: list[str] = []
        for term in self.model_terms:
            for name, degree in zip(term.names, term.degrees, strict=True):
                if name == numeric and degree > 1:
                    names.append(numeric)
            if numeric in term.names or any(f in term.names for f in followers):
                names += [n for n in term.names if n not in (numeric, *followers)]
        for name in followers:
            made = variables_of(self.model_terms)[name].column.made
            if made is not None and made.how not in ("centre", "z", "unit_range", "sum", "mean", "difference"):
                names += [numeric, *(n for n in made.of if n != numeric and n in variables_of(self.model_terms))]
        return list(dict.fromkeys(names))

    def slope_at(self, numeric: str, at: Mapping[str, float | str | Array] | None = None) -> tuple[float, float]:
        """Return the slope of a numeric column where some variables are held, and its standard error.

        Parameters
        ----------
        numeric : str
            The column.
        at : mapping, optional
            Values of numeric columns, itself included; of a group a level, or the shares of its levels. What is not named is
            averaged over the rows used.

        Returns
        -------
        slope, se : float
            In units of the linear predictor per unit of the column; columns derived from it move with it.

        Raises
        ------
        ColumnError
            If the model has no such column.
        LevelError
            If a group has no such level in the rows used.

        Examples
        --------
        >>> import markbase as mb
        >>> study = mb.demo.choirs().merge_levels("voice", {"tenor": ["tennor"]}).mark("voice", "alto")
        >>> fit = mb.fit_linear(study, "belonging", ["age", "voice", mb.interaction("age", "voice")])
        >>> slope, se = fit.slope_at("age", {"voice": "tenor"})
        >>> round(slope, 2), round(se, 2)
        (0.24, 0.05)
        """
        if not self.moves_with(numeric):
            self.variable(numeric, "numeric")
        wide = self._sample.slope(numeric, {name: self._held_at(name, value) for name, value in (at or {}).items()})
        estimate, root = self._wide(wide, False)
        return estimate, float(self._se(root[None, :])[0])

    def _held_at(self, name: str, value: object) -> float | Array:
        """Return a value of a numeric column, or the shares of the levels of a group."""
        group = next((v for v in self._groups if v.name == name), None)
        if group is None:
            if isinstance(value, numbers.Real) and not isinstance(value, bool):
                return float(value)
            raise MarkbaseError(f"`at` holds `{name}` at a number, not at {told_value(value)}.")
        if isinstance(value, str):
            if value not in group.labels:
                raise LevelError(f"`{name}` has no level `{value}` in the rows used.{near(value, group.labels)}")
            return np.asarray(np.eye(group.size)[group.labels.index(value)])
        if isinstance(value, np.ndarray) and value.shape == (group.size,):
            return value
        raise MarkbaseError(
            f"`at` holds `{name}` at one of its levels, or at the shares of all {group.size}, not at {told_value(value)}."
        )

    def simple_slopes(self, numeric: str, *, by: str | None = None, at: Places | None = None) -> pd.DataFrame:
        """Tell the slope of a numeric column where others are held: simple slopes of an interaction or a curve.

        Parameters
        ----------
        numeric : str
            A numeric column of the model.
        by : str, optional
            The moderator: a group (a row for each of its levels) or a numeric column (a row for each chosen value).
        at : mapping of str to number or sequence of numbers, optional
            Chosen values of numeric columns, the column itself included where it has a curve; by default its mean and a
            standard deviation below and above, inside the rows used. What is not named is averaged over the rows used.

        Returns
        -------
        pandas.DataFrame
            A row for each combination: `level` and `base` and `n` for a group, a column for each numeric column that is held;
            then `slope`, `se`, `low`, `high`, `p`; of a group also the `difference` from the slope at its base with
            `difference_low`, `difference_high`, `difference_p`. In a logistic model slopes are of log odds, with `odds_ratio`
            (per unit), `odds_low`, `odds_high`, and `probability_slope` with its interval: what the probability rises per unit, averaged over the rows.

        Raises
        ------
        ColumnError
            If the model has no such column.
        FitError
            If nothing in the model lets the slope differ by `by`.

        Warns
        -----
        MarkbaseWarning
            For values outside the rows used.

        Examples
        --------
        >>> import markbase as mb
        >>> study = mb.demo.choirs().merge_levels("voice", {"tenor": ["tennor"]}).mark("voice", "alto")
        >>> fit = mb.fit_linear(study, "belonging", ["age", "voice", mb.interaction("age", "voice")])
        >>> fit.simple_slopes("age", by="voice").iloc[:, :4].round(2)
             level   base    n  slope
        0  soprano  False  653   0.26
        1     alto   True  674   0.20
        2    tenor  False  244   0.24
        3     bass  False  346   0.21
        """
        self.variable(numeric, "numeric")
        variables = variables_of(self.model_terms)
        group = variables[by] if by is not None and by in variables and variables[by].is_categorical else None
        if by is not None and group is None:
            self.variable(by, "numeric")
        depends = self._slope_depends_on(numeric)
        if by is not None and by not in depends:
            raise FitError(
                f"Nothing in the model lets the slope of `{numeric}` differ by `{by}`: add the interaction of the two to its terms."
            )
        chosen = self._chosen(at)
        held = [
            n
            for n in (by, numeric)
            if n is not None and n in depends and n not in chosen and n != (group.name if group else "")
        ]
        values = {**{n: self._values_at(n) for n in held}, **chosen}
        records: list[dict[str, Any]] = []
        combos: list[Array] = []
        settings: list[dict[str, float | Array]] = []
        for place in itertools.product(*values.values()):
            setting: dict[str, float | Array] = dict(zip(values, place, strict=True))
            for level in range(group.size) if group else [None]:
                here = dict(setting)
                record: dict[str, Any] = {}
                if group is not None and level is not None:
                    here[group.name] = np.eye(group.size)[level]
                    record = {"level": group.labels[level], "base": level == group.base}
                    record["n"] = int(self._counts_of(group)[level])
                records.append({**record, **setting})
                settings.append(here)
                combos.append(self._sample.slope(numeric, here))
        rows = np.array(combos)
        table = pd.DataFrame(records, index=range(len(records)))
        found = self._compared([("", "")] * len(rows), rows, "none", 2)
        table = table.assign(slope=found["difference"], **{k: found[k] for k in ("se", "low", "high", "p")})
        table = self.family.with_ratios(table, "slope")
        if group is not None:
            size = group.size
            anchor = rows.reshape(-1, size, rows.shape[1])[:, group.base]
            other = self._compared([("", "")] * len(rows), rows - np.repeat(anchor, size, axis=0), "none", 2)
            base = table["base"].to_numpy()
            for name, source in (("difference", "difference"), ("difference_low", "low"), ("difference_high", "high")):
                table[name] = np.where(base, 0.0, other[source])
            table["difference_p"] = np.where(base, np.nan, other["p"])
        return self._with_probability_slopes(table, numeric, settings)

    def _with_probability_slopes(
        self, table: pd.DataFrame, numeric: str, settings: Sequence[Mapping[str, float | Array]]
    ) -> pd.DataFrame:
        """Add what a probability rises per unit, in a logistic model."""
        del numeric, settings
        return table

    def bend_test(self, numeric: str) -> OverallTest:
        """Test the bend of a polynomial alone: that all powers above the first are 0.

        Parameters
        ----------
        numeric : str
            A numeric column with a polynomial.

        Returns
        -------
        OverallTest
            F, or Wald's chi-squared in a logistic model.

        Raises
        ------
        FitError
            If the model has no polynomial of that column.

        Examples
        --------
        >>> import markbase as mb
        >>> study = mb.demo.choirs().merge_levels("voice", {"tenor": ["tennor"]}).mark("voice", "alto")
        >>> fit = mb.fit_linear(study, "belonging", ["voice", mb.polynomial("age")])
        >>> fit.bend_test("age").df
        1
        """
        term = next((t for t in self.model_terms if t.kind == "polynomial" and t.names == (numeric,)), None)
        if term is None:
            raise FitError(f"The model has no polynomial of `{numeric}`; add one to its terms.")
        higher = [s for c, s in zip(term.components, self._columns_of(term), strict=True) if c.degree > 1]
        columns = np.concatenate([np.arange(s.start, s.stop) for s in higher])
        chosen = np.eye(len(self.solution.columns))[np.isin(self.solution.columns, columns)]
        return self._as_overall(self._joint(chosen))

    def _chosen(self, at: Places | None) -> dict[str, list[float]]:
        """Return chosen values of numeric columns as lists, checked."""
        chosen: dict[str, list[float]] = {}
        for name, given in (at or {}).items():
            self.variable(name, "numeric")
            low, high, _ = self.spread(name)
            several = [given] if isinstance(given, (int, float, np.number)) else list(given)
            if not several:
                raise MarkbaseError(f"Give at least one value at which to hold `{name}`.")
            try:
                values = [float(v) for v in several]
            except (TypeError, ValueError):
                raise MarkbaseError(f"`{name}` is held at numbers, not at {given!r}.") from None
            if not all(math.isfinite(v) for v in values):
                raise MarkbaseError(f"`{name}` is held at finite numbers, not at {given!r}.")
            outside = [v for v in values if not low <= v <= high]
            if outside:
                remark(
                    f"`{name}` = {listed([short(v, 6) for v in outside])} lies outside the rows used ({short(low, 6)} to {short(high, 6)}): "
                    f"what is told there rests on the form of the model alone."
                )
            chosen[name] = values
        return chosen

    def turning_points(self, numeric: str, *, by: str | None = None) -> pd.DataFrame:
        """Find where the curve of a numeric column turns: where its slope is 0.

        Parameters
        ----------
        numeric : str
            A numeric column with a polynomial, or whose square is in the model.
        by : str, optional
            A group by which the curve differs: a row or more for each of its levels.

        Returns
        -------
        pandas.DataFrame
            A row a turning point: `level` (empty without `by`), `value`, `kind` (``maximum`` or ``minimum``), `se`, `low`,
            `high` (delta method), `fieller_low`, `fieller_high`, `inside`. Empty where the fitted curve does not turn.

        Raises
        ------
        FitError
            If the model has no curve of that column.

        Examples
        --------
        >>> import markbase as mb
        >>> study = mb.demo.choirs().merge_levels("voice", {"tenor": ["tennor"]}).mark("voice", "alto")
        >>> fit = mb.fit_linear(study, "belonging", ["voice", mb.polynomial("age")])
        >>> len(fit.turning_points("age"))
        1
        """
        self.variable(numeric, "numeric")
        if numeric not in self._slope_depends_on(numeric):
            raise FitError(
                f"The model has a straight line in `{numeric}`, which does not turn; add a polynomial of it to the terms."
            )
        group = self.variable(by, "categorical") if by is not None else None
        found = []
        for level in range(group.size) if group else [None]:
            setting: dict[str, float | Array] = {}
            if group is not None and level is not None:
                setting[group.name] = np.eye(group.size)[level]
            label = group.labels[level] if group is not None and level is not None else ""
            found += [{"level": label, **point} for point in self._turns(numeric, setting)]
        columns = ["level", "value", "kind", "se", "low", "high", "fieller_low", "fieller_high", "inside"]
        return pd.DataFrame(found, columns=columns)

    def turning_point(self, numeric: str) -> TurningPoint:
        """Find the one place where a curve turns, with its interval by the delta method and by Fieller's theorem.

        Parameters
        ----------
        numeric : str
            A numeric column with a polynomial of degree 2, or whose square is in the model.

        Returns
        -------
        TurningPoint
            `value`, `kind`, `low`, `high`, `fieller_low`, `fieller_high`, `inside`; print it.

        Raises
        ------
        FitError
            If the model has no curve of that column, or one that does not turn, or turns twice.

        Examples
        --------
        >>> import markbase as mb
        >>> study = mb.demo.choirs().merge_levels("voice", {"tenor": ["tennor"]}).mark("voice", "alto")
        >>> fit = mb.fit_linear(study, "belonging", ["voice", mb.polynomial("age")])
        >>> turn = fit.turning_point("age")
        >>> turn.kind in ("minimum", "maximum")
        True
        """
        table = self.turning_points(numeric)
        if len(table) != 1:
            raise FitError(
                f"The curve of `{numeric}` turns {'nowhere' if not len(table) else 'twice'}; `turning_points` lists them, and "
                f"`simple_slopes` tells its slope at chosen values."
            )
        low, high, _ = self.spread(numeric)
        row = table.iloc[0]
        return TurningPoint(
            numeric,
            float(row["value"]),
            str(row["kind"]),
            float(row["low"]),
            float(row["high"]),
            float(row["fieller_low"]),
            float(row["fieller_high"]),
            bool(row["inside"]),
            low,
            high,
            self.level,
        )

    def _slope_polynomial(
        self, numeric: str, setting: Mapping[str, float | Array]
    ) -> tuple[Array, Array, float, float]:
        """Return the slope as a quadratic in (value − mean)/sd: its three coefficients, their covariance, the mean and the sd."""
        mean, sd = self.middle(numeric), self.spread(numeric)[2]
        places = np.array([-1.0, 0.0, 1.0])
        rows = np.array([self._sample.slope(numeric, {**setting, numeric: mean + sd * u}) for u in places])
        inverse = np.linalg.inv(np.vander(places, 3, increasing=True))
        combos = inverse @ rows
        chooser, starts = combos[:, self.solution.columns], np.zeros(3, dtype=bool)
        return (
            self._combined(chooser, starts),
            self._covariance_of(self._roots_of(chooser, starts)),
            mean,
            sd,
        )

    def _turns(self, numeric: str, setting: Mapping[str, float | Array]) -> list[dict[str, Any]]:
        c, V, mean, sd = self._slope_polynomial(numeric, setting)
        lowest, highest, _ = self.spread(numeric)
        size = float(np.abs(c).max())
        if abs(c[2]) <= _FLAT * size:
            roots = np.array([-c[0] / c[1]]) if abs(c[1]) > _FLAT * size else np.zeros(0)
        else:
            within = c[1] ** 2 - 4 * c[0] * c[2]
            if within < 0:
                return []
            q = -(c[1] + math.copysign(math.sqrt(within), c[1])) / 2
            roots = np.sort(np.array([q / c[2], c[0] / q] if q else [0.0]))
        half = t_quantile(self.level, self.df_rest)
        found = []
        for u in roots:
            steep = c[1] + 2 * c[2] * u
            powers = np.array([1.0, u, u * u])
            se = math.sqrt(max(float(powers @ V @ powers), 0.0)) / abs(steep) if steep else math.inf
            ends = _region_around(u, lambda v: _clear(c, V, v, half))
            value = mean + sd * u
            found.append(
                {
                    "value": value,
                    "kind": "maximum" if steep < 0 else "minimum",
                    "se": sd * se,
                    "low": value - half * sd * se,
                    "high": value + half * sd * se,
                    "fieller_low": mean + sd * ends[0],
                    "fieller_high": mean + sd * ends[1],
                    "inside": bool(lowest <= value <= highest),
                }
            )
        return found

    def clear_region(self, numeric: str, by: str) -> pd.DataFrame:
        """Find where, along a numeric moderator, the slope of a numeric column is clear (Johnson & Neyman).

        Parameters
        ----------
        numeric : str
            The column whose slope is told.
        by : str
            A numeric column that moderates it.

        Returns
        -------
        pandas.DataFrame
            The stretches of the moderator inside the rows used, a row each: `from`, `to`, `clear` (whether the interval of
            the slope excludes 0), `slope_from`, `slope_to`, `rows` (rows used in the stretch).

        Raises
        ------
        FitError
            If the slope does not differ by that column.

        Notes
        -----
        The bounds are those of single intervals at the fit's confidence level, not of a band for all places together.

        Examples
        --------
        >>> import markbase as mb
        >>> study = mb.demo.choirs().merge_levels("voice", {"tenor": ["tennor"]}).mark("voice", "alto")
        >>> fit = mb.fit_linear(study, "belonging", ["age", "rehearsals", mb.interaction("age", "rehearsals")])
        >>> list(fit.clear_region("age", "rehearsals").columns)
        ['from', 'to', 'clear', 'slope_from', 'slope_to', 'rows']
        """
        self.variable(by, "numeric")
        if by not in self._slope_depends_on(numeric):
            raise FitError(
                f"Nothing in the model lets the slope of `{numeric}` differ by `{by}`; add their interaction to the terms."
            )
        low, high, _ = self.spread(by)
        half = t_quantile(self.level, self.df_rest)

        def margin(value: float) -> float:
            slope, se = self.slope_at(numeric, {by: value})
            return abs(slope) - half * se

        grid = np.linspace(low, high, 201)
        margins = np.array([margin(v) for v in grid])
        edges = [low]
        for k in np.flatnonzero(np.sign(margins[1:]) != np.sign(margins[:-1])):
            edges.append(_bisect(margin, grid[k], grid[k + 1]))
        edges.append(high)
        values = self._values_of(by)[0]
        records = []
        for a, b in itertools.pairwise(edges):
            last = b == high
            inside = (values >= a) & ((values <= b) if last else (values < b))
            records.append(
                {
                    "from": a,
                    "to": b,
                    "clear": bool(margin((a + b) / 2) > 0),
                    "slope_from": self.slope_at(numeric, {by: a})[0],
                    "slope_to": self.slope_at(numeric, {by: b})[0],
                    "rows": int(inside.sum()),
                }
            )
        return pd.DataFrame(records)

    def cell_means(self, first: str, second: str, *, correction: str = "holm") -> tuple[pd.DataFrame, pd.DataFrame]:
        """Tell the adjusted mean of every combination of two groups, and the pairs within each.

        Parameters
        ----------
        first, second : str
            Two groups of the model.
        correction : str
            Of all pairs of `first` within the levels of `second` together, and of the reverse together; ``tukey`` of the pairs
            within each level.

        Returns
        -------
        means : pandas.DataFrame
            A row a combination with rows: both levels (columns named by the groups), `n`, `adjusted` (expected if all rows had
            both levels and were otherwise as they are), `se`, `low`, `high`; of a logistic model the share of the event, averaged
            over the rows, its `se` by the delta method and an interval even in log odds.
        pairs : pandas.DataFrame
            `within` (a level of one group), `of` (the other group), and as `between`. Where no term has both groups the pairs are
            the same within every level: each is told once, and `within` is ``every level``.

        Raises
        ------
        ColumnError
            If the model has no such group.

        Examples
        --------
        >>> import markbase as mb
        >>> study = mb.demo.choirs().merge_levels("voice", {"tenor": ["tennor"]}).mark("voice", "alto")
        >>> fit = mb.fit_linear(study, "belonging", ["voice", "stays", "age"])
        >>> means, pairs = fit.cell_means("voice", "stays")
        >>> means[["voice", "stays", "adjusted"]].round(1)
             voice stays  adjusted
        0  soprano    no      53.8
        1  soprano   yes      62.1
        2     alto    no      54.8
        3     alto   yes      63.1
        4    tenor    no      58.7
        5    tenor   yes      67.0
        6     bass    no      56.2
        7     bass   yes      64.6
        """
        a, b = self.variable(first, "categorical"), self.variable(second, "categorical")
        if first == second:
            raise MarkbaseError(f"Name two different groups; `{first}` was given twice.")
        counts = self._counts_at((first, second))
        rows = {
            (i, j): self._sample.row({first: np.eye(a.size)[i], second: np.eye(b.size)[j]})
            for i, j in np.argwhere(counts > 0)
        }
        keys = list(rows)
        settings = [{first: np.eye(a.size)[i], second: np.eye(b.size)[j]} for i, j in keys]
        adjusted, se, low, high = self._adjusted(settings)
        means = pd.DataFrame(
            {
                first: [a.labels[i] for i, _ in keys],
                second: [b.labels[j] for _, j in keys],
                "n": [int(counts[k]) for k in keys],
                "adjusted": adjusted,
                "se": se,
                "low": low,
                "high": high,
            }
        )
        families = []
        depends = any({first, second} <= set(t.names) for t in self.model_terms)
        for outer, inner, turned in ((b, a, False), (a, b, True)):
            names, combos, within = [], [], []
            for j in range(outer.size if depends else 0):
                here = [i for i in range(inner.size) if ((i, j) if not turned else (j, i)) in rows]
                for i, k in itertools.combinations(here, 2):
                    here_at, there_at = ((i, j), (k, j)) if not turned else ((j, i), (j, k))
                    names.append((inner.labels[k], inner.labels[i]))
                    combos.append(rows[there_at] - rows[here_at])
                    within.append(outer.labels[j])
            if depends and combos:
                table = self._compared(names, np.array(combos), correction, inner.size)
            elif depends:
                continue
            else:
                table = self.between(inner.name, correction)
                within = ["every level"] * len(table)
            table.insert(0, "of", inner.name)
            table.insert(0, "within", within)
            families.append(table)
        return means, pd.concat(families, ignore_index=True) if families else pd.DataFrame()


def _clear(c: Array, V: Array, u: float, half: float) -> float:
    """Return by how much the squared slope at a place exceeds what its error allows."""
    powers = np.array([1.0, u, u * u])
    return float(powers @ c) ** 2 - half**2 * float(powers @ V @ powers)


def _region_around(u: float, margin: Callable[[float], float]) -> tuple[float, float]:
    """Return the stretch around a root in which the slope may be 0, by steps and bisection; infinite where it does not end."""
    ends = []
    for way in (-1.0, 1.0):
        step, here = 1e-3, u
        end = way * math.inf
        while step < 1e6:
            there = u + way * step
            if margin(there) > 0:
                end = _bisect(margin, here, there)
                break
            here, step = there, step * 1.3
        ends.append(end)
    return ends[0], ends[1]


def _bisect(margin: Callable[[float], float], a: float, b: float) -> float:
    """Return where a function changes its sign between two places."""
    rising = margin(b) > 0
    for _ in range(100):
        middle = (a + b) / 2
        if middle in (a, b):
            break
        if (margin(middle) > 0) == rising:
            b = middle
        else:
            a = middle
    return (a + b) / 2
