"""A screening: rows, correlations, flagged pairs, variance inflation, hidden dependences, and what it means."""

from __future__ import annotations

import itertools
import math

from markbase.core.design.terms import levels_against
from markbase.core.errors import count_noun, listed, quoted
from markbase.core.formatting import decimals_for, from_to, number, p_value, share, short, without_zero
from markbase.core.screening.limits import R_IN_USE, VIF_IN_USE
from markbase.core.screening.prune import Pruned
from markbase.core.screening.screen import Screen
from markbase.core.screening.specifications import Specifications
from markbase.core.screening.variance_inflation import MOST_CONDITIONS
from markbase.core.tables import rows_of
from markbase.show.few_of_many import SHOWN, few_of
from markbase.show.fit import errors_text
from markbase.show.page import Facts, Page, Row, Section, Sentences, Strip, Table

FLAG = "▲"
_MOST_SHOWN = 11
_MOST_TERMS = 80
"""Terms that a page lists; of more the largest."""


def screen_page(screen: Screen) -> Page:
    """Describe a screening in six sections, in reading order."""
    about = f" for {screen.outcome.name}" if screen.outcome else ""
    sections = [
        _rows(screen),
        _correlations(screen),
        _pairs(screen),
        *_inflation(screen),
        *_conditions(screen),
    ]
    means = Section("What it means here", blocks=(Sentences(tuple((a.text, ()) for a in screen.advice)),))
    return Page(
        f"Screening of {count_noun(len(screen.basis.terms), 'predictor')}{about}", screen.data_name, (*sections, means)
    )


def _rows(screen: Screen) -> Section:
    sample = screen.sample
    text = f"{sample.used:,} of {count_noun(sample.rows, 'row')} ({share(sample.used, sample.rows)}): those a model of all of these would use"
    facts = [("complete cases", text)]
    if screen.counted:
        facts.append(("weights", screen.counted))
    if screen.weighting is not None and screen.weighting.kind == "sampling":
        facts.append(
            (
                "inflation",
                "that of weighted columns and of classical errors; the robust errors of such a fit need not be inflated by just as much",
            )
        )
    if screen.rows == "pairwise":
        facts.append(
            ("correlations", "each from all rows that have both columns; variance inflation from the complete rows")
        )
    fixed = screen.basis.fixed_effects
    if fixed is not None:
        names = listed(quoted(fixed.names))
        facts.append(
            (
                "within levels",
                f"variance inflation and dependences are those within the levels of {names}; correlations are over all rows",
            )
        )
    return Section("1  Which rows", blocks=(Facts(tuple(facts)),))


def _correlations(screen: Screen) -> Section:
    names, values = list(screen.correlations.columns), screen.correlations.to_numpy()
    note = "▲ at or above the limit" + (" · ranks" if screen.method == "spearman" else "")
    if len(names) > _MOST_SHOWN:
        facts = (
            (
                "shown below",
                f"of {len(names)} columns, the pairs at or above the limit; the table of all correlations has the others",
            ),
        )
        return Section("2  How they go together", note, (Facts(facts),))
    rows = []
    for k, name in enumerate(names):
        cells = ["" if j > k else "1" if j == k else _r(float(values[k, j]), screen, j) for j in range(len(names) - 1)]
        rows.append(Row((f"{k + 1} {name}", *cells)))
    heads = ("", *(str(k + 1) for k in range(len(names) - 1)))
    return Section(
        "2  How they go together", note, (Table(heads, tuple(rows), frozenset(range(1, len(heads))), wide=-1),)
    )


def _r(value: float, screen: Screen, column: int) -> str:
    with_outcome = screen.outcome is not None and column == 0
    mark = FLAG if abs(value) >= screen.limits.r and not with_outcome else ""
    return f"{mark}{without_zero(value, 2)}"


def _pairs(screen: Screen) -> Section:
    others = ", ".join(short(r) for r in R_IN_USE if r != screen.limits.r)
    title = f"3  Pairs at or above |r| = {short(screen.limits.r)}"
    flagged = screen.pairs[screen.pairs["flag"]] if len(screen.pairs) else screen.pairs
    note = f"a rule of thumb and no test; {others} are in use as well"
    if not len(flagged):
        return Section(title, note, (Facts((("none", "no pair of predictors reaches it"),)),))
    heads = ["pair", "measure", "r", "rows"]
    if screen.outcome:
        heads += [f"first with {screen.outcome.name}", f"second with {screen.outcome.name}"]
    strongest, told = few_of(flagged.assign(size=flagged["r"].abs()), "size", "strongest", "pairs", most=SHOWN)
    note += told
    rows = []
    for pair in rows_of(strongest):
        cells = [f"{pair.first} – {pair.second}", pair.measure, without_zero(pair.r, 2), f"{pair.rows:,}"]
        if screen.outcome:
            cells += [_with_outcome(pair, "first"), _with_outcome(pair, "second")]
        rows.append(Row(tuple(cells)))
    return Section(title, note, (Table(tuple(heads), tuple(rows), frozenset({2, 3}), wide=-1),))


def _with_outcome(pair, side: str) -> str:  # type: ignore[no-untyped-def]
    r, low, high = (getattr(pair, f"{side}_{k}") for k in ("outcome", "low", "high"))
    interval = "" if math.isnan(low) else f" ({without_zero(low, 2)} to {without_zero(high, 2)})"
    return f"{without_zero(r, 2)}{interval}"


def _inflation(screen: Screen) -> list[Section]:
    """Describe variance inflation, unless there are more columns than rows can tell apart."""
    if not screen.basis.too_few_rows:
        return [_terms(screen), _columns(screen)]
    facts = tuple(("not told", o.statement) for o in screen.collinear)
    return [Section("4  Variance inflation", blocks=(Facts(facts),))]


def _terms(screen: Screen) -> Section:
    root = math.sqrt(screen.limits.vif)
    others = ", ".join(short(v) for v in VIF_IN_USE if v != screen.limits.vif)
    most = max([v for v in screen.terms["comparable"] if math.isfinite(v)], default=1.0)
    right = max(most, root) * 1.08
    rows = []
    terms, told = few_of(screen.terms, "comparable", "largest", "terms", most=_MOST_TERMS)
    for r in rows_of(terms):
        flag = FLAG if r.comparable >= root else ""
        end = min(r.comparable, right) if math.isfinite(r.comparable) else right
        strip = Strip(1.0, end, end, 1.0 - 0.04 * (right - 1.0), right, mark=root)
        rows.append(Row((r.term, f"{r.df}", number(r.gvif, 2), f"{flag}{number(r.comparable, 2)}"), "plain", strip))
    note = f"limit √{short(screen.limits.vif)} = {number(root, 2)}, no test; roots of {others} are in use as well{told}"
    heads = ("term", "df", "generalised", "se times")
    table = Table(heads, tuple(rows), frozenset({1, 2, 3}), 0, "1 … ┊ limit")
    return Section("4  Variance inflation of each term", note, (table,))


def _columns(screen: Screen) -> Section:
    rows = []
    columns, told = few_of(screen.vif, "vif", "largest", "coded columns", most=_MOST_TERMS)
    for r in rows_of(columns):
        label = f"{r.term}: {r.column}" if r.column else r.term
        cells = (label, number(r.vif, 2), number(r.tolerance, 3), without_zero(r.r2), number(r.se_factor, 2))
        rows.append(Row(cells))
    heads = ("coded column", "vif", "tolerance", "R² from the others", "se times")
    note = "“se times”: the standard error is so many times what it would be with nothing in common"
    note += told + (f"; {against}" if (against := levels_against(screen.basis.terms)) else "")
    return Section(
        "5  Variance inflation (VIF) of each coded column", note, (Table(heads, tuple(rows), frozenset({1, 2, 3, 4})),)
    )


def _conditions(screen: Screen) -> list[Section]:
    if screen.collinear:
        return []
    title = "6  Dependences that pairs do not show"
    if screen.basis.is_wide:
        why = f"condition indices of more than {MOST_CONDITIONS:,} columns ({screen.basis.width:,}): a group of very many levels is better taken out as fixed effects"
        return [Section(title, "", (Facts((("not looked for", why),)),))]
    table = screen.conditions
    high = table[table["index"] >= screen.limits.index]
    note = f"condition indices of {short(screen.limits.index)} and more, with variance shares of {short(screen.limits.share)} and more"
    if not len(high):
        fact = ("none", f"the highest condition index is {short(float(table['index'].max()))}")
        return [Section(title, note, (Facts((fact,)),))]
    shares = high.iloc[:, 1:]
    told = [
        ", ".join(f"{name} {without_zero(float(v), 2)}" for name, v in row.items() if v >= screen.limits.share)
        for _, row in shares.iterrows()
    ]
    facts = []
    for words, run in itertools.groupby(zip(told, high["index"].tolist(), strict=True), key=lambda pair: pair[0]):
        own = [short(index) for _, index in run]
        if words:
            facts += [(index, words) for index in own]
        else:
            facts.append((" to ".join(own[:: max(len(own) - 1, 1)]), "no coefficient has so large a share"))
    return [Section(title, note, (Facts(tuple(facts)),))]


def pruned_page(pruned: Pruned) -> Page:
    """Describe what was dropped on the way below a limit."""
    rows = tuple(Row((str(r.step), r.dropped, number(r.value, 2))) for r in rows_of(pruned.steps))
    blocks: list[Table | Facts | Sentences] = []
    if rows:
        blocks.append(Table(("step", "dropped", "inflation factor"), rows, frozenset({0, 2})))
    else:
        blocks.append(Facts((("nothing dropped", f"no term reaches {short(pruned.limit)}"),)))
    facts = [("left", ", ".join(pruned.kept))]
    facts += [("protected", ", ".join(pruned.protected))] if pruned.protected else []
    blocks += [Facts(tuple(facts)), Sentences(tuple((text, ()) for text in pruned.cautions))]
    note = "a group counts by the square of its comparable value"
    return Page(
        f"Dropping until the variance inflation is below {short(pruned.limit)}",
        note,
        (Section("", blocks=tuple(blocks)),),
    )


def specifications_page(result: Specifications) -> Page:
    """Describe how an estimate moves when other terms are left out."""
    table = result.table
    left, right = min(float(table["low"].min()), 0.0), max(float(table["high"].max()), 0.0)
    room = 0.08 * (right - left) or 1.0
    bases = [b for b in dict.fromkeys(table["against"]) if b]
    rows = []
    for r in rows_of(table):
        decimals = decimals_for(float(r.se))
        name = f"without {r.without}" if r.without else "the whole model"
        label = f"{name}: {r.level}" if r.level else name
        label += f" against {r.against}" if r.against and len(bases) > 1 else ""
        known = math.isfinite(r.se)  # a row that decides it alone has no residual
        interval = from_to(number(r.low, decimals), number(r.high, decimals)) if known else ""
        figures = (number(r.se, decimals), interval, p_value(r.p)) if known else ("–", "no standard error", "")
        moved = f"{number(r.moved, 1)}" if r.without and math.isfinite(r.moved) else ""
        strip = Strip(r.low, r.estimate, r.high, left - room, right + room)
        cells = (label, number(r.estimate, decimals), *figures, moved)
        rows.append(Row(cells, "plain" if r.without else "group", strip))
    percent = f"{short(100 * result.level, 4)}% CI"
    heads = ("left out", "estimate", "se", percent, "p", "moved (se)")
    told = result.changed or (
        "Leaving out any one other term moves it by next to nothing, or by no more than chance allows.",
    )
    sentences = Sentences(tuple((text, ()) for text in told))
    body = Table(heads, tuple(rows), frozenset({1, 2, 3, 4, 5}), 0, "lower ┊ higher")
    return Page(
        f"{result.focus} and {result.outcome}: how the estimate moves",
        f"{f'each level against {bases[0]}; ' if len(bases) == 1 else ''}the same rows throughout",
        (Section("", blocks=(body, Facts((("errors", errors_text(result.whole)),)), sentences)),),
    )
