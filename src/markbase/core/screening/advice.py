"""What a screening means in this case, and what would do."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

import numpy as np

from markbase.core.errors import count_noun, listed, quoted
from markbase.core.formatting import number, short, without_zero
from markbase.core.screening.few_rows import (
    about_few_rows,
    about_pairs_of_few_rows,
    free_cases,
    inflation_by_chance,
    most_by_chance,
)
from markbase.core.screening.pair_sets import WHAT_WOULD_DO, sets_of, words_of_set
from markbase.core.screening.rounded_parts import rounded_parts
from markbase.core.screening.screen_tables import ScreenTables
from markbase.core.screening.variance_inflation import variance_inflation
from markbase.core.tables import rows_of

if TYPE_CHECKING:
    from markbase.core.results.linear import LinearFit


_FAR = 1.5
_MOST_OF_IT = 0.8
_MOST_TOLD = 12
"""Findings of a kind that are told one by one."""
_WITHOUT_SIGN = ("correlation ratio", "Cramér's V")
_PARTS = ("sum", "mean", "difference", "ratio", "rate")
_SCALES = {
    "log": "the logarithm of",
    "log1p": "the logarithm of 1 +",
    "sqrt": "the square root of",
    "cube_root": "the cube root of",
    "reciprocal": "the reciprocal of",
}


@dataclass(frozen=True)
class Advice:
    """One finding, what it means and what would do."""

    kind: str
    """``few``, ``collinear``, ``total``, ``power``, ``scale``, ``group``, ``set``, ``pair``, ``rounded``, ``hidden``, ``product``, ``more`` or ``none``."""
    terms: tuple[str, ...]
    """The terms concerned."""
    text: str
    """The sentence."""


def give_advice(screen: ScreenTables, from_products: Sequence[Advice] = ()) -> tuple[Advice, ...]:
    """Say what the figures of a screening mean; one entry if there is nothing.

    Exact collinearity first, then what chance shows in few rows, flagged pairs, and variance inflation that no pair shows: of each
    a dozen, and how many more there are.
    """
    if screen.basis.too_few_rows:
        return (_too_few(screen), *(Advice("few", (), text) for text in about_pairs_of_few_rows(screen)))
    found = [
        Advice("collinear", o.terms, f"Exact collinearity: {o.statement}. {o.advice}")
        for o in screen.collinear[:_MOST_TOLD]
    ]
    found += _more(len(screen.collinear), "exact collinearity", "exact collinearities", "")
    found += [Advice("few", (), text) for text in about_few_rows(screen)]
    rounded = rounded_parts([t.column for t in screen.basis.terms if t.kind == "numeric"], screen.basis.used)
    found += [
        Advice("rounded", o.names, o.statement)
        for o in rounded
        if not any(set(o.names) == set(c.terms) for c in screen.collinear)
    ]
    found += _pairs(screen)
    paired = {name for pair in rows_of(screen.pairs) if pair.flag for name in (pair.first, pair.second)}
    found += _inflated(screen, paired | {name for advice in found for name in advice.terms})
    found += from_products
    if not found:
        return (
            Advice(
                "none",
                (),
                f"No pair reaches |r| = {screen.limits.r:g} and no variance inflation factor {screen.limits.vif:g}: nothing here speaks "
                f"against fitting these terms together.",
            ),
        )
    found.append(
        Advice(
            "none",
            (),
            "Inflation widens intervals; it biases nothing. What matters is whether a conclusion changes: fit, and see "
            "how the estimate your question is about moves when each other term is left out.",
        )
    )
    return tuple(found)


def _more(count: int, one: str, many: str, where: str) -> list[Advice]:
    """Say how many findings of a kind are not told one by one."""
    left = count - _MOST_TOLD
    return [Advice("more", (), f"{count_noun(left, f'more {one}', f'more {many}')}{where}.")] if left > 0 else []


def _too_few(screen: ScreenTables) -> Advice:
    """Say that there are more columns than rows can tell apart, and to what most rows were lost."""
    (finding,) = screen.collinear
    most = max(screen.sample.losses, key=lambda loss: loss.rows, default=None)
    lost = (
        ""
        if most is None
        else f" Most rows are left out because of `{most.column}` ({most.rows:,} of {screen.sample.rows:,})."
    )
    return Advice("few", (), f"{finding.statement[0].upper()}{finding.statement[1:]}. {finding.advice}{lost}")


def advice_on_products(fit: LinearFit) -> tuple[Advice, ...]:
    """Say what slopes by group do to the errors of the terms they are made of, and what centring would change.

    An entry for each group whose differences are told far from the middle of a numeric column.
    """
    found = []
    for term in fit.model_terms:
        if len(term.names) != 2 or len(term.groups) != 1 or any(d > 1 for d in term.degrees):
            continue
        numeric, group = term.numerics[0].name, term.groups[0].name
        mean = fit.rows_used.middle(numeric)
        here, there = (
            table[(table["term"] == group) & ~table["base"]]["se"]
            for table in (fit.coefficients_at({numeric: mean}), fit.coefficients)
        )
        ratio = float((there / here).max())
        if ratio >= _FAR:
            found.append(
                Advice(
                    "product",
                    (group, term.name),
                    f"With `{term.name}` in the model, the differences of `{group}` are those at `{numeric}` = 0, where their standard "
                    f"errors are up to {short(ratio)} times those at the mean of `{numeric}` ({short(mean)}). Centring `{numeric}` "
                    f"removes that: the fit, its predictions and the test of the slopes stay the same, and the differences are told "
                    f"where the rows are.",
                )
            )
    return tuple(found)


def _pairs(screen: ScreenTables) -> list[Advice]:
    made = {t.name: t.column.made for t in screen.basis.terms}
    exact = [set(o.terms) for o in screen.collinear]
    flagged = [
        pair
        for pair in rows_of(screen.pairs)
        if pair.flag and not any({pair.first, pair.second} <= terms for terms in exact)
    ]
    alike = {
        (p.first, p.second): float(p.r)
        for p in flagged
        if made[p.first] is None and made[p.second] is None and p.measure not in _WITHOUT_SIGN
    }
    sets = sets_of(alike, list(made))
    found = [Advice("set", names, words_of_set(names, alike)) for names in sets[:_MOST_TOLD]]
    found += _more(len(sets), "such set of columns", "such sets of columns", "")
    if sets:
        found.append(Advice("set", (), WHAT_WOULD_DO))
    flagged = [p for p in flagged if not any({p.first, p.second} <= set(names) for names in sets)]
    for pair in flagged[:_MOST_TOLD]:
        names = (pair.first, pair.second)
        lead = f"`{pair.first}` and `{pair.second}` go together ({pair.measure} {without_zero(pair.r, 2)}, {pair.rows:,} rows)"
        parts = [n for n in names if made[n] is not None and set(made[n].of) & set(names)]  # type: ignore[union-attr]
        if parts:
            (source,) = set(names) - {parts[0]}
            kind, text = _because_made(parts[0], source, screen)
            found.append(Advice(kind, names, f"{lead}: {text}"))
        elif pair.measure in _WITHOUT_SIGN:
            text = f"{lead}: who is in which group largely decides the other. Their effects can hardly be told apart in these rows."
            found.append(Advice("group", names, text))
        else:
            found.append(Advice("pair", names, f"{lead}. {_leaving_out(screen, pair)}"))
    return found + _more(len(flagged), "pair", "pairs", " at or above the limit: the table of pairs has them")


def _because_made(name: str, source: str, screen: ScreenTables) -> tuple[str, str]:
    """Say what it means that a column was made of another, and what would do."""
    columns = {t.name: t.column for t in screen.basis.terms}
    made, origin = columns[name].made, columns[source].made
    assert made is not None
    if made.how in _PARTS:
        return "total", f"`{name}` is made of the other. Enter the parts or the whole, not both."
    if made.how == "square" and origin is not None and origin.how in ("centre", "z"):
        return "power", (
            f"`{name}` is the square of `{source}`, which is centred already: what is left comes from its skew, and is no reason to leave "
            f"one of them out."
        )
    if made.how == "square":
        return "power", (
            f"`{name}` is the square of `{source}`, and together they are a curve. Centre `{source}` before it is squared and most of this goes "
            f"away, unless it is skewed; the curve itself stays the same."
        )
    if made.how == "product":
        of, lacking = listed(quoted(made.of)), [other for other in made.of if other not in columns]
        if lacking:
            return "power", (
                f"`{name}` is the product of {of}, and without {listed(quoted(lacking))} among the terms it is no interaction. Add "
                f"{'it' if len(lacking) == 1 else 'them'}, or leave the product out."
            )
        return "power", (
            f"`{name}` is the product of {of}, and together they are an interaction. Centre them before they are multiplied and most of this "
            f"goes away, unless they are skewed; the interaction itself stays the same."
        )
    if made.how in _SCALES:
        return "scale", (
            f"`{name}` is {_SCALES[made.how]} `{source}`: the same on another scale. Enter it on the scale on which the line is straight, or on "
            f"that of the question; with both, neither tells by itself what the outcome goes with."
        )
    if made.how == "cut":
        return (
            "scale",
            f"`{name}` was cut from `{source}`: its groups say in steps what the numbers say in full. Enter one of them.",
        )
    return "scale", (
        f"`{name}` was made of `{source}`: in part they say the same by construction. With both among the terms, each is told by what the other "
        f"lacks; if that is not the question, enter one of them."
    )


def _leaving_out(screen: ScreenTables, pair) -> str:  # type: ignore[no-untyped-def]
    """Say how the two relate to the outcome, and what leaving either out would do to the other's variance inflation."""
    told = []
    whole = screen.terms.set_index("term")["comparable"]
    for gone, stays in ((pair.second, pair.first), (pair.first, pair.second)):
        names = [t.name for t in screen.basis.terms if t.name != gone]
        if len(names) == 1:
            after = 1.0
        elif screen.collinear:
            after = float(variance_inflation(screen.basis.only(names)).terms.set_index("term").loc[stays, "comparable"])
        else:
            without = screen.auxiliary(stays).set_index("term").loc[gone, "gvif_without"]
            after = math.sqrt(float(without))  # pairs that are told so are of single columns
        told.append(
            f"without `{gone}` the standard error of `{stays}` is {number(after, 2)} times what it would be with nothing in common, "
            f"instead of {number(float(whole[stays]), 2)} times"
        )
    text = f"{'; '.join(told)}."
    if screen.outcome is None or math.isnan(pair.first_low) or math.isnan(pair.second_low):
        return (
            text[0].upper()
            + text[1:]
            + " Keep both if the question is about both: then the interval is honest about what these rows can tell."
        )
    both = (
        f"with `{screen.outcome.name}` they correlate {without_zero(pair.first_outcome, 2)} ({without_zero(pair.first_low, 2)} to "
        f"{without_zero(pair.first_high, 2)}) and {without_zero(pair.second_outcome, 2)} ({without_zero(pair.second_low, 2)} to {without_zero(pair.second_high, 2)})"
    )
    first, second = abs(pair.first_outcome), abs(pair.second_outcome)  # of opposite signs they are as strong
    reach = max(pair.first_high - pair.first_low, pair.second_high - pair.second_low) / 2
    choice = (
        "too much alike in strength to choose by that. Choose by the question"
        if abs(first - second) <= reach
        else "one is the stronger. Choose by the question all the same, not by the larger figure"
    )
    return f"{text[0].upper()}{text[1:]} On their own, {both}: {choice}."


def _inflated(screen: ScreenTables, told: set[str]) -> list[Advice]:
    root = math.sqrt(screen.limits.vif)
    most = most_by_chance(free_cases(screen), screen.basis.width)
    over = [
        r
        for r in rows_of(screen.terms)
        if math.isfinite(r.comparable) and r.comparable >= root and r.term not in told and (r.df > 1 or r.gvif >= most)
    ]
    found = []
    over.sort(key=lambda record: -record.comparable)
    for record in over[:_MOST_TOLD]:
        carriers = [c.term for c in rows_of(screen.auxiliary(record.term)) if c.carried > 1.2][:3]
        text = (
            f"The standard error of `{record.term}` is {short(record.comparable)} times what it would be with nothing in common with the "
            f"other terms, though no single pair is flagged: "
        )
        single = _carried_by_one(screen, record, carriers)
        if single:
            text += f"`{single}` alone accounts for most of it, at a correlation below the limit."
        elif carriers:
            text += f"it takes several terms together to show it, {listed(quoted(carriers))} most of all."
        else:
            text += "it takes several terms together to show it, none of them much by itself."
        found.append(Advice("hidden", (record.term, *carriers), text))
    where = f" whose standard error is {short(root, 3)} times as large or more, though no single pair is flagged: the table of terms has them"
    found += _more(len(over), "term", "terms", where)
    if inflation_by_chance(free_cases(screen), screen.basis.width) >= screen.limits.vif:
        return found  # condition indices are of chance as well
    shared = _conditions(screen, {n for a in found for n in a.terms} | {r.term for r in over} | told)
    return found + shared[:_MOST_TOLD] + _more(len(shared), "such dependence", "such dependences", "")


def _carried_by_one(screen: ScreenTables, record: Any, carriers: Sequence[str]) -> str:
    """Return the one term that by itself accounts for most of the variance inflation of another; empty for none."""
    for name in carriers:
        table = variance_inflation(screen.basis.only([record.term, name])).terms.set_index("term")
        alone = float(table.loc[record.term, "comparable"])
        if alone - 1 >= _MOST_OF_IT * (record.comparable - 1):
            return name
    return ""


def _conditions(screen: ScreenTables, told: set[str]) -> list[Advice]:
    """Name dependences that only the condition indices show."""
    if screen.collinear or screen.basis.is_wide:
        return []
    table = screen.conditions
    names = list(table.columns[1:])
    found = []
    for _, row in table[table["index"] >= screen.limits.index].iterrows():
        shares = row.to_numpy(dtype=np.float64)[1:]
        here = [n for n, s in zip(names, shares, strict=True) if s >= screen.limits.share]
        terms = {n.split(": ")[0] for n in here if n != "(intercept)"}
        if len(here) >= 2 and not terms <= told:
            text = f"At condition index {short(float(row['index']))}, {listed(quoted(here))} share a dependence" + (
                ": with the intercept, which means values far from 0; centring removes it."
                if "(intercept)" in here
                else "."
            )
            found.append(Advice("hidden", tuple(sorted(terms)), text))
    return found
