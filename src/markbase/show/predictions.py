"""Predictions for profiles."""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence
from typing import Literal

import pandas as pd

from markbase.core.comparison.imputations import Imputations
from markbase.core.design.terms import Variable
from markbase.core.errors import count_noun, listed, quoted
from markbase.core.formatting import as_percent, decimals_for, from_to, number, plain, short
from markbase.core.reading.line_cautions import bend_words
from markbase.core.results.any_fit import AnyFit
from markbase.core.results.new_rows import PREDICTION_FIGURES
from markbase.core.results.stored_fit import StoredFit
from markbase.core.study.derived_values import origins, sources_through
from markbase.core.tables import TableRow, name_beside, records_of
from markbase.show.fit import what_is_read
from markbase.show.page import Facts, Page, Row, Section, Sentences, Table

_MOST = 60
_MOST_CAUTIONS = 6


def _followed(variable: Variable, given: Sequence[str]) -> tuple[str, ...]:
    """Return what a derived column was made of, if profiles give any of that, so that its values are made again of it; else nothing."""
    inside, rest = origins(variable.column, given)
    return (*inside, *rest) if inside else ()


def predictions_page(made: AnyFit | StoredFit | Imputations, table: pd.DataFrame, of_rows: str | None = None) -> Page:
    """Describe predictions, as the `predict` of a fit returned them, each with its interval and what must be said of it.

    `of_rows` names the data whose rows they are of, which are told by their identifier.
    """
    fit = made.fit if isinstance(made, Imputations) else made
    variables = {v for t in fit.model_terms for v in t.names}
    known = variables | {name for v in fit.variables for name in sources_through(v.column)}
    keys = {name: key for name in known if (key := name_beside(PREDICTION_FIGURES, name)) in table}
    given = sorted(keys, key=lambda name: list(table.columns).index(keys[name]))
    percent = f"{short(100 * fit.level, 4)}%"
    rows, own = [], []
    name = fit.identifier.name if fit.identifier is not None else None
    numbered = name_beside(PREDICTION_FIGURES, name or "")
    name = name if numbered in table else None
    for number_of_row, r in enumerate(records_of(table.head(_MOST)), 1):
        cells = {c: r[keys[c]] for c in given}
        profile = (
            ", ".join(f"{c} {_cell(cell)}" for c, cell in cells.items() if not pd.isna(cell)) or "as in the sample"
        )
        if of_rows is not None:
            profile = f"row {number_of_row}" if name is None else str(r[numbered])
        look: Literal["aside", "plain"] = "aside" if r["caution"] else "plain"
        rows.append(Row((profile, *_figures(fit, r)), look))
        if "geometric_mean" in r:
            own.append(Row((profile, *_figures_back(r)), look))
    if fit.family.shares:
        event = fit.outcome.levels[1].label
        heads: tuple[str, ...] = ("profile", f"probability of {event}", f"{percent} CI")
        title = f"{fit.outcome.name} = {event}: predicted probability"
    else:
        heads = (
            "profile",
            f"mean ({fit.outcome.unit_many})",
            f"{percent} CI of the mean",
            f"{percent} CI for one",
        )
        heads = heads if "one_low" in table else heads[:3]
        title = f"{fit.outcome.name}: predicted"
    right = frozenset(range(1, len(heads)))
    facts = []
    if of_rows is not None:
        heads = (name or "row", *heads[1:])
        given, variables = [], set()
        facts.append(("predicted for", f"the rows of {of_rows}, by the fit to those of {fit.data_name}"))
    followed = {v.name: inside for v in fit.variables if v.name not in given and (inside := _followed(v, given))}
    facts += [("moves along", f"`{name}`, which was made of {listed(quoted(of))}") for name, of in followed.items()]
    left = sorted(variables - set(given) - set(followed))
    averaged = table.loc[table[fit.family.predicted].notna()]  # what has no prediction is averaged over nothing
    partly = [c for c in given if averaged[keys[c]].isna().any()]
    if left or partly:
        sometimes = f"{listed(quoted(partly))} where a profile leaves {'it' if len(partly) == 1 else 'them'} out"
        words = ", ".join([*([listed(quoted(left))] if left else []), *([sometimes] if partly else [])])
        facts.append(("not given", f"{words}: as in the sample, averaged over the rows used"))
    if fit.fixed_effect_names:
        facts.append(
            (
                "taken out",
                f"{listed(quoted(fit.fixed_effect_names))}: at the mean over the rows, so for one person there is more to it",
            )
        )
    if isinstance(made, Imputations):
        what = f"{len(made.fits)} {'imputations' if made.by else 'plausible values'}"
        scale = "log odds are averaged, and told as probabilities" if fit.family.shares else "means are averaged"
        facts.append(("combined", f"over {what} by Rubin's rules: {scale}"))
    facts += [("mind", words) for words in _for_all(made, table)]
    if not isinstance(fit, StoredFit):
        facts += [("mind", f"{bend_words(fit, name)}: what is told along it is off") for name in fit._bent]
    if len(table) > _MOST:
        what = "profiles" if of_rows is None else "rows"
        facts.append(("shown", f"{_MOST} of {len(table):,} {what}; a file of predictions has all of them"))
    blocks: list[Table | Facts | Sentences] = [Table(heads, tuple(rows), right, 0)]
    blocks += [Facts(tuple(facts))] if facts else []
    sections = [_back(fit, tuple(own), heads[0], percent)] if own else []
    cautions = _cautions(table, of_rows is not None)
    if cautions:
        told = table[fit.family.predicted].notna() & (table["caution"] != "")
        text = "Outside the data a prediction rests on the form of the model alone." if told.any() else ""
        blocks.append(Sentences(((text or "What cannot be predicted:", cautions),)))
    read = what_is_read(fit) if fit is made else fit.data_name
    return Page(title, read, (Section("", blocks=tuple(blocks)), *sections))


def _for_all(made: AnyFit | StoredFit | Imputations, table: pd.DataFrame) -> list[str]:
    """Say what must be minded of all predictions; over imputations what the first says, where all of them say as much."""
    if not isinstance(made, Imputations):
        return made._cautions_for_all(table)
    first, *others = (fit._cautions_for_all(table) for fit in made.fits.values())
    told = first if all(len(own) == len(first) for own in others) else []
    return [f"{words} (in the first, as in all others)" for words in told]


def _back(fit: AnyFit | StoredFit, rows: tuple[Row, ...], first: str, percent: str) -> Section:
    """Describe predictions in the unit of what the outcome is the logarithm of."""
    made = fit.outcome.made
    assert made is not None
    unit = f" ({made.sources[0].unit_many})" if made.sources else ""
    kind = "geometric mean" if made.how == "log" else "geometric mean of 1 + it, less 1"
    facts = (
        (kind, f"the mean of `{fit.outcome.name}` brought back; it lies below the mean of `{made.of[0]}`"),
        ("smeared mean", _smeared(fit, made.of[0])),
    )
    heads = (first, f"{kind}{unit}", f"{percent} CI", f"smeared mean{unit}")
    blocks = (Table(heads, rows, frozenset({1, 2, 3}), 0), Facts(facts))
    return Section(f"Brought back to {made.of[0]}", blocks=blocks)


def _smeared(fit: AnyFit | StoredFit, source: str) -> str:
    if isinstance(fit, StoredFit):
        return "not known of a saved fit, which has no residuals"
    if fit.fixed_effect_names:
        return f"not known where levels are taken out: they spread `{source}` as well"
    return (
        f"the mean of `{source}` (Duan's smearing), if the spread of the residuals is the same everywhere; "
        f"for profiles that name every column of the model"
    )


def _figures_back(r: TableRow) -> tuple[str, str, str]:
    low, high = float(r["geometric_low"]), float(r["geometric_high"])
    decimals = decimals_for((high - low) / 4 or 1.0)
    ends = from_to(number(low, decimals), number(high, decimals))
    return number(r["geometric_mean"], decimals), ends, number(r["mean_smeared"], decimals)


def _cautions(table: pd.DataFrame, of_rows: bool) -> tuple[str, ...]:
    """Say what must be said of the predictions; of rows, of how many, what is said of most of them first."""
    counts = Counter(str(caution) for caution in table["caution"] if caution)
    if not of_rows:
        return tuple(f"{c[0].upper()}{c[1:]}." if c[0] != "`" else f"{c}." for c in counts)
    shown = [f"{count_noun(rows, 'row')}: {c}." for c, rows in counts.most_common(_MOST_CAUTIONS)]
    more = sum(rows for _, rows in counts.most_common()[_MOST_CAUTIONS:])
    return (
        (*shown, f"{count_noun(more, 'row')} more with other cautions, which stand beside each in a file.")
        if more
        else tuple(shown)
    )


def _cell(value: object) -> str:
    try:
        return plain(float(value), 6)  # type: ignore[arg-type]
    except (TypeError, ValueError):
        return str(value)


def _figures(fit: AnyFit | StoredFit, r: TableRow) -> tuple[str, ...]:
    if fit.family.shares:
        return (
            as_percent(r["probability"]),
            from_to(as_percent(r["low"]), as_percent(r["high"])),
        )
    decimals = decimals_for(float(r["se"]))
    cells = (number(r["predicted"], decimals), from_to(number(r["low"], decimals), number(r["high"], decimals)))
    if "one_low" not in r:
        return cells
    wide = max(decimals - 1, 0) if decimals >= 0 else decimals
    return (*cells, from_to(number(r["one_low"], wide), number(r["one_high"], wide)))
