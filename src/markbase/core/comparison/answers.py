"""What a fit, or a blockwise entry, answers in a few sentences: how much, then what is clear, then what is not."""

from __future__ import annotations

import math
from collections.abc import Sequence

from markbase.core.comparison.blocks import Blocks
from markbase.core.errors import listed, quoted
from markbase.core.formatting import as_percent, number, p_phrase, points, short, without_zero
from markbase.core.results.any_fit import AnyFit
from markbase.core.results.fit_statistics import OverallTest
from markbase.core.results.linear import LinearFit
from markbase.core.results.statements import Statement
from markbase.core.tables import rows_of

_MOST_NAMED = 5
_MOST_STATEMENTS = 4
_MOST = 6


def answers(made: AnyFit | Blocks, first: Sequence[str] = ()) -> tuple[Statement, ...]:
    """Answer the question of an analysis in a few sentences; the terms in `first` are told before others.

    How much all terms (or each block) tell; what is clearest, of a group the joint test and the level furthest in evidence
    (corrected after Holm among the comparisons with its base); the names of what is clear as well; the first estimate that
    the last block moves; and which terms are not clear.
    """
    if isinstance(made, Blocks):
        whole = made.last
        told = made.reading().statements
        places = [k for k, s in enumerate(told) if not s.level and s.term in made.names]
        steps, moved = [told[k] for k in places], told[places[-1] + 1 : places[-1] + 2]
        unclear = _unclear(whole)
        room = max(1, _MOST - len(steps) - len(moved) - len(unclear))
        clear = _clear(whole, (*made.added[-1], *first), room)
        return (*steps, *clear, *_as_well(whole, clear), *moved, *unclear)
    if not made.overall.p < made.alpha and not _clear(made, first, 1):
        return (_strength(made),)  # it says all there is
    averaged = _averaged(made)[:2]
    clear = _clear(made, first, _MOST_STATEMENTS - len(averaged))
    return (_strength(made), *clear, *_as_well(made, clear), *averaged, *_unclear(made))


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


def _averaged(fit: AnyFit) -> tuple[Statement, ...]:
    """Tell groups within an interaction that is not clear as they differ on average; where it is, that is told instead."""
    found = []
    for variable in (fit.variable(name, "categorical") for name in _groups_averaged(fit)):
        test = fit.group_test(variable.name)
        if math.isnan(test.p):
            continue
        evidence = "" if test.p < fit.alpha else "there is no clear evidence that "
        outcome = (
            f"the {fit.family.coefficient} of `{fit.outcome.name}`" if fit.family.ratios else f"`{fit.outcome.name}`"
        )
        what = f"the {variable.size} levels of `{variable.name}` differ in {outcome}"
        found.append(Statement("", "", f"Averaged over these rows, {evidence}{what} ({_figures(test)})."))
    return tuple(found)


def _groups_averaged(fit: AnyFit) -> list[str]:
    """Return the groups that are part of interactions none of which is clear, and that can be averaged over the others."""
    p = {str(r.term): float(r.p) for r in rows_of(fit.terms)}
    found = []
    for variable in (v for v in fit.variables if v.is_categorical):
        larger = [t.name for t in fit.model_terms if variable.name in t.names and len(t.names) > 1]
        if larger and all(p.get(name, 0.0) >= fit.alpha for name in larger) and not fit.not_averaged(variable.name):
            found.append(variable.name)
    return found


def _clear(fit: AnyFit, first: Sequence[str], most: int) -> tuple[Statement, ...]:
    """Return the sentences of the clearest terms, those asked for before others."""
    tests = {r.term: float(r.p) for r in rows_of(fit.terms)}
    clear = [name for name, p in tests.items() if p < fit.alpha]
    order = sorted(clear, key=lambda name: (name not in first, tests[name]))
    held = _within_others(fit)
    averaged = _groups_averaged(fit)
    # what is told of such a term holds at one value of the others; a caution says that no row is near it
    statements = [s for s in fit.reading().statements if s.term not in averaged and not (s.term in held and s.cautions)]
    found: list[Statement] = []
    for name in order:
        own = [s for s in statements if s.term == name]
        found += _of_group(fit, name, own) if any(s.level for s in own) else own[:1]
        if len(found) >= most:
            break
    return tuple(found[:most])


def _as_well(fit: AnyFit, told: Sequence[Statement]) -> tuple[Statement, ...]:
    """Name the terms that are clear and not told here, but for those within an interaction."""
    left = {*(s.term for s in told), *_within_others(fit)}
    other = [str(r.term) for r in rows_of(fit.terms) if r.p < fit.alpha and r.term not in left]
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
