"""What a fit, or a blockwise entry, answers in a few sentences: how much, then what is clear, then what is not."""

from __future__ import annotations

import math
from collections.abc import Sequence

from markbase.core.checks.rows_in_time import following_words
from markbase.core.checks.rows_together import hidden_words
from markbase.core.comparison.blocks import Blocks
from markbase.core.errors import listed, quoted
from markbase.core.formatting import as_percent, points, short, without_zero
from markbase.core.reading.averages import averages_of, overall_figures, within_others
from markbase.core.reading.clauses import overstated_words
from markbase.core.reading.left_out_words import lost_sentences
from markbase.core.reading.line_cautions import bend_words
from markbase.core.reading.outcome_cautions import from_sources
from markbase.core.reading.overlap_words import about_overlap
from markbase.core.results.any_fit import AnyFit
from markbase.core.results.linear import LinearFit
from markbase.core.results.statements import Statement
from markbase.core.tables import rows_of

_MOST_NAMED = 5
_MOST_STATEMENTS = 4
_MOST_AVERAGED = 2
_MOST = 6
_MOST_MINDED = 3


def answers(made: AnyFit | Blocks, first: Sequence[str] = ()) -> tuple[Statement, ...]:
    """Answer the question of an analysis in a few sentences; the terms in `first` are told before others.

    How much all terms (or each block) tell; what is clearest, of a group the joint test and the level furthest in evidence
    (corrected after Holm among the comparisons with its base); the names of what is clear as well; the first estimate that
    the last block moves; which terms are not clear; and what takes a part of it back: rows that are not independent, levels that are lost,
    comparisons of groups that no two rows make.
    """
    if isinstance(made, Blocks):
        told = made.reading().statements
        places = [k for k, s in enumerate(told) if not s.level and s.term in made.names]
        steps, moved = [told[k] for k in places], told[places[-1] + 1 : places[-1] + 2]
        room = max(1, _MOST - len(steps) - len(moved) - len(_unclear(made.last)))
        clear = _of_terms(made.last, (*made.added[-1], *first), room)
        return (*steps, *clear, *moved, *_unclear(made.last), *_to_be_minded(made.last))
    nothing = not made._judged("", made.overall.p) < made.alpha and not any(a.p < made.alpha for a in averages_of(made))
    if nothing and not _clear(made, first, 1):
        return (_strength(made), *_to_be_minded(made))  # it says all there is
    return (_strength(made), *_of_terms(made, first, _MOST_STATEMENTS), *_unclear(made), *_to_be_minded(made))


def _to_be_minded(fit: AnyFit) -> tuple[Statement, ...]:
    """Say what takes back a part of what is told: what goes together by construction, rows chosen by the outcome or taken as independent, what no rows show of groups."""
    in_time = following_words(fit, "The errors")
    told = [*from_sources(fit), *(f"{words}." for words in (hidden_words(fit, "The errors"), in_time) if words)]
    for variable in (v for v in fit.variables if v.is_categorical):
        told += [*lost_sentences(variable), *about_overlap(fit, variable)]
    return tuple(Statement("", "", text) for text in told[:_MOST_MINDED])


def _of_terms(fit: AnyFit, first: Sequence[str], most: int) -> tuple[Statement, ...]:
    """Tell what is clearest in at most so many sentences, what differs by others on average, and name what is clear as well."""
    averages = averages_of(fit)
    clear = _clear(fit, first, most, [a.name for a in averages])
    sure = sum(a.p < fit.alpha for a in averages)
    room = max(most - len(clear), min(sure, most - 1))  # what is not clear on average takes no other's place
    told = averages[: min(_MOST_AVERAGED, room)]
    clear = clear[: most - len(told)]
    by_itself = {name: p for name, p in _tests(fit).items() if name not in within_others(fit)}
    tests = by_itself | {a.name: a.p for a in averages}
    here = {*(s.term for s in clear), *(a.name for a in told)}
    other = [name for name, p in tests.items() if p < fit.alpha and name not in here]
    return (*clear, *_as_well(fit, other), *(a.statement for a in told))


def _tests(fit: AnyFit) -> dict[str, float]:
    """Return the p by which each term is judged."""
    return {str(r.term): fit._judged(r.term, float(r.p)) for r in rows_of(fit.terms)}


def _strength(fit: AnyFit) -> Statement:
    """Say how much the terms tell together."""
    test, names = fit.overall, [t.name for t in fit.model_terms]
    who = listed(quoted(names)) if len(names) <= _MOST_NAMED else f"The {len(names)} terms"
    together = " together" if len(names) > 1 else ""
    outcome = f"`{fit.outcome.name}`"
    if math.isnan(test.p):
        return Statement("", "", f"Whether the terms tell anything about {outcome} is not tested: {test.untested}.")
    figures = "; ".join(filter(None, (overall_figures(test), overstated_words(fit, fit._overstated.get("")))))
    rows = f"in these {fit.sample.used:,} rows"
    if not fit._judged("", test.p) < fit.alpha:
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


def _clear(fit: AnyFit, first: Sequence[str], most: int, averaged: Sequence[str] = ()) -> tuple[Statement, ...]:
    """Return the sentences of the clearest terms, those asked for before others, but for those that are told as averages."""
    tests = _tests(fit)
    clear = [name for name, p in tests.items() if p < fit.alpha]
    order = sorted(clear, key=lambda name: (name not in first, tests[name]))
    held = within_others(fit)
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
    held = within_others(fit)
    other = [name for name, p in _tests(fit).items() if p >= fit.alpha and name not in held]
    if not other:
        return ()
    level = short(fit.alpha, 3).removeprefix("0")
    named = listed(quoted(other)) if len(other) <= _MOST_NAMED else f"{len(other)} of the {len(fit.terms)} terms"
    return (
        Statement(
            "",
            "",
            f"For {named} nothing is clear here (p of {level} or more), which is no evidence that nothing is there.",
            (
                *_clear_rows(fit, other),
                *(
                    f"{bend_words(fit, name)}, of which a straight line tells nothing."
                    for name in other
                    if name in fit._bent
                ),
            ),
        ),
    )


def _clear_rows(fit: AnyFit, terms: Sequence[str]) -> list[str]:
    """Say of terms that are not clear as a whole how many of their coefficients are by themselves, as their figure shows them."""
    told, level, table = [], short(fit.alpha, 3).removeprefix("0"), fit.coefficients
    for name in terms:
        p = table.loc[(table["term"] == name) & ~table["base"], "p"].dropna()
        if len(p) > 1 and (clear := int((p < fit.alpha).sum())):
            has = "has" if clear == 1 else "have"
            told.append(
                f"{clear} of the {len(p)} coefficients of `{name}` {has} p below {level}: weak evidence while all of them together are not clear."
            )
    return told
