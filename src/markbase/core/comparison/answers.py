"""What a fit, or a blockwise entry, answers in a few sentences: how much, then what is clear, then what is not."""

from __future__ import annotations

import itertools
import math
from collections.abc import Sequence
from typing import NamedTuple

from markbase.core.comparison.blocks import Blocks
from markbase.core.design.terms import Variable
from markbase.core.errors import FitError, listed, quoted
from markbase.core.formatting import as_percent, number, p_phrase, points, short, without_zero
from markbase.core.reading.clauses import held_equal, outcome_words, percent, points_words, size, step_lead
from markbase.core.results.any_fit import AnyFit
from markbase.core.results.fit_statistics import OverallTest
from markbase.core.results.linear import LinearFit
from markbase.core.results.logistic import LogisticFit
from markbase.core.results.statements import Statement
from markbase.core.tables import rows_of

_MOST_NAMED = 5
_MOST_STATEMENTS = 4
_MOST_AVERAGED = 2
_MOST = 6


def answers(made: AnyFit | Blocks, first: Sequence[str] = ()) -> tuple[Statement, ...]:
    """Answer the question of an analysis in a few sentences; the terms in `first` are told before others.

    How much all terms (or each block) tell; what is clearest, of a group the joint test and the level furthest in evidence
    (corrected after Holm among the comparisons with its base); the names of what is clear as well; the first estimate that
    the last block moves; and which terms are not clear.
    """
    if isinstance(made, Blocks):
        told = made.reading().statements
        places = [k for k, s in enumerate(told) if not s.level and s.term in made.names]
        steps, moved = [told[k] for k in places], told[places[-1] + 1 : places[-1] + 2]
        room = max(1, _MOST - len(steps) - len(moved) - len(_unclear(made.last)))
        return (*steps, *_of_terms(made.last, (*made.added[-1], *first), room), *moved, *_unclear(made.last))
    terms = _of_terms(made, first, _MOST_STATEMENTS)
    if (
        not made.overall.p < made.alpha
        and not any(s.p < made.alpha for s in _averages(made))
        and not _clear(made, first, 1)
    ):
        return (_strength(made),)  # it says all there is
    return (_strength(made), *terms, *_unclear(made))


def _of_terms(fit: AnyFit, first: Sequence[str], most: int) -> tuple[Statement, ...]:
    """Tell what is clearest in at most so many sentences, what differs by others on average, and name what is clear as well."""
    averages = _averages(fit)
    clear = _clear(fit, first, most, [a.name for a in averages])
    sure = sum(a.p < fit.alpha for a in averages)
    room = max(most - len(clear), min(sure, most - 1))  # what is not clear on average takes no other's place
    told = averages[: min(_MOST_AVERAGED, room)]
    clear = clear[: most - len(told)]
    by_itself = {str(r.term): float(r.p) for r in rows_of(fit.terms) if r.term not in _within_others(fit)}
    tests = by_itself | {a.name: a.p for a in averages}
    here = {*(s.term for s in clear), *(a.name for a in told)}
    other = [name for name, p in tests.items() if p < fit.alpha and name not in here]
    return (*clear, *_as_well(fit, other), *(a.statement for a in told))


def _strength(fit: AnyFit) -> Statement:
    """Say how much the terms tell together."""
    test, names = fit.overall, [t.name for t in fit.model_terms]
    who = listed(quoted(names)) if len(names) <= _MOST_NAMED else f"The {len(names)} terms"
    together = " together" if len(names) > 1 else ""
    outcome = f"`{fit.outcome.name}`"
    if math.isnan(test.p):
        return Statement("", "", f"Whether the terms tell anything about {outcome} is not tested: {test.untested}.")
    figures = _figures(test)
    rows = f"in these {fit.sample.used:,} rows"
    if not test.p < fit.alpha:
        verb = "tells" if len(names) == 1 else "tell"
        return Statement(
            "",
            "",
            f"There is no clear evidence {rows} that {who}{together} {verb} anything about {outcome} ({figures}).",
        )
    verb = "explains" if len(names) == 1 else "explain"
    if isinstance(fit, LinearFit):
        within = fit.fixed_effect_names
        share = float(fit.strength.r2_within or 0.0) if within else fit.strength.r2
        where = f" within the levels of {listed(quoted(within))}" if within else ""
        text = (
            f"{who}{together} {verb} {as_percent(share)} of the variance of {outcome}{where} {rows} "
            f"(R²{' within' if within else ''} {without_zero(share)}; {figures})."
        )
        return Statement("", "", text)
    event = f"{outcome} = `{fit.event}`"
    text = (
        f"With {who} the model gives rows with {event} a probability {points(fit.strength.tjur)} percentage points higher on average than the others "
        f"{rows} (Tjur {without_zero(fit.strength.tjur)}; {figures})."
    )
    return Statement("", "", text)


def _figures(test: OverallTest) -> str:
    rest = "" if math.isinf(test.df_rest) else f", {test.df_rest:.0f}"
    if test.kind == "F":
        name = f"F({test.df}{rest})"
    else:
        name = f"{test.kind}({test.df}{rest})" if rest else f"{test.kind} chi²({test.df})"
    return f"{name} = {number(test.statistic, 2)}, {p_phrase(test.p)}"


class _Average(NamedTuple):
    """What a column within interactions goes with on average."""

    name: str
    p: float
    text: str

    @property
    def statement(self) -> Statement:
        return Statement("", "", self.text)


def _averages(fit: AnyFit) -> list[_Average]:
    """Tell columns within interactions none of which is clear as they are on average, the clearest first; where one is clear, that is told instead."""
    p = {str(r.term): float(r.p) for r in rows_of(fit.terms)}
    found = []
    for variable in fit.variables:
        larger = [t.name for t in fit.model_terms if variable.name in t.names and len(t.names) > 1]
        if not larger or not all(p.get(name, 0.0) >= fit.alpha for name in larger):
            continue
        average = _average_of_group(fit, variable) if variable.is_categorical else _average_of_slope(fit, variable)
        if average is not None and not math.isnan(average.p):
            found.append(average)
    return sorted(found, key=lambda average: average.p)


def _average_of_group(fit: AnyFit, group: Variable) -> _Average | None:
    """Say whether the levels of a group differ on average; None where that would run over combinations that no row has."""
    if fit.not_averaged(group.name):
        return None
    test = fit.group_test(group.name)
    evidence = "" if test.p < fit.alpha else "there is no clear evidence that "
    outcome = f"the {fit.family.coefficient} of `{fit.outcome.name}`" if fit.family.ratios else f"`{fit.outcome.name}`"
    what = f"the {group.size} levels of `{group.name}` differ in {outcome}"
    return _Average(group.name, test.p, f"Averaged over these rows, {evidence}{what} ({_figures(test)}).")


def _average_of_slope(fit: AnyFit, numeric: Variable) -> _Average | None:
    """Say how steep the slope of a numeric column is on average; None of a curve, and of what moves along with others."""
    moving = {v.name: fit.moves_with(v.name) for v in fit.variables if not v.is_categorical}
    if (
        numeric.name in [*fit.slope_depends_on(numeric.name), *itertools.chain(*moving.values())]
        or moving[numeric.name]
    ):
        return None
    lead, question = step_lead(numeric.column, "")
    lead = f"Averaged over these rows, {lead[0].lower()}{lead[1:]}"
    if isinstance(fit, LogisticFit):
        effect = fit.marginal[fit.marginal["term"] == numeric.name].iloc[0]
        points, ends = points_words(*(float(effect[key]) for key in ("effect", "low", "high", "se")))
        p, figures = float(effect["p"]), f"{percent(fit)} CI {ends}, {p_phrase(float(effect['p']))}"
        verb, rest = (
            ("is", "") if p < fit.alpha else ("is estimated", f": no clear evidence {question}, in either direction")
        )
        event = f"the probability of `{fit.outcome.name}` = `{fit.event}`"
        return _Average(numeric.name, p, f"{lead} {event} {verb} {points} ({figures}), {held_equal(fit)}{rest}.")
    try:
        slope = fit.simple_slopes(numeric.name).iloc[0]
    except FitError:  # it would run over a combination of levels that no row has
        return None
    row = {"estimate": slope["slope"], **{key: slope[key] for key in ("se", "low", "high", "p")}}
    return _Average(
        numeric.name, float(slope["p"]), f"{lead} {outcome_words(fit.outcome)} is {size(fit, row, question)}"
    )


def _clear(fit: AnyFit, first: Sequence[str], most: int, averaged: Sequence[str] = ()) -> tuple[Statement, ...]:
    """Return the sentences of the clearest terms, those asked for before others, but for those that are told as averages."""
    tests = {r.term: float(r.p) for r in rows_of(fit.terms)}
    clear = [name for name, p in tests.items() if p < fit.alpha]
    order = sorted(clear, key=lambda name: (name not in first, tests[name]))
    held = _within_others(fit)
    # what is told of such a term holds at one value of the others; a caution says that no row is near it
    statements = [s for s in fit.reading().statements if s.term not in averaged and not (s.term in held and s.cautions)]
    found: list[Statement] = []
    for name in order:
        own = [s for s in statements if s.term == name]
        found += _of_group(fit, name, own) if any(s.level for s in own) else own[:1]
        if len(found) >= most:
            break
    return tuple(found[:most])


def _as_well(fit: AnyFit, other: Sequence[str]) -> tuple[Statement, ...]:
    """Name the terms that are clear and not told here."""
    if not other:
        return ()
    named = listed(quoted(other)) if len(other) <= _MOST_NAMED else f"{len(other)} more of the {len(fit.terms)} terms"
    return (Statement("", "", f"Clear as well, and told further on: {named}."),)


def _within_others(fit: AnyFit) -> set[str]:
    """Return the names of the terms that are part of an interaction."""
    return {t.name for t in fit.model_terms if any(set(t.names) < set(o.names) for o in fit.model_terms)}


def _of_group(fit: AnyFit, name: str, own: Sequence[Statement]) -> list[Statement]:
    """Return the joint sentence of a group, and that of its level with the strongest evidence."""
    rows = fit.coefficients
    rows = rows[(rows["term"] == name) & ~rows["base"]]
    together = dict(zip(rows["level"].astype(str), fit.corrected_p(rows["p"].tolist()), strict=True))
    joint = [s for s in own if not s.level][:1]
    levels = [s for s in own if together.get(s.level, 1.0) < fit.alpha]
    return [*joint, *sorted(levels, key=lambda s: together[s.level])[:1]]


def _unclear(fit: AnyFit) -> tuple[Statement, ...]:
    """Name the terms for which nothing clear is shown; one within an interaction is told by that."""
    held = _within_others(fit)
    other = [str(r.term) for r in rows_of(fit.terms) if r.p >= fit.alpha and r.term not in held]
    if not other:
        return ()
    level = short(fit.alpha, 3).removeprefix("0")
    named = listed(quoted(other)) if len(other) <= _MOST_NAMED else f"{len(other)} of the {len(fit.terms)} terms"
    return (
        Statement(
            "",
            "",
            f"For {named} nothing is clear here (p of {level} or more), which is no evidence that nothing is there.",
        ),
    )
