"""What goes with the outcome by construction: columns made of one another, in the preparing steps or, though nobody says so, in every row."""

from __future__ import annotations

from collections.abc import Iterable, Mapping

from markbase.core.design.shared import Shared
from markbase.core.design.shared_ages import by_ages
from markbase.core.design.shared_changes import by_change
from markbase.core.design.shared_means import by_means
from markbase.core.design.shared_order import by_order
from markbase.core.design.shared_parts import among_terms, by_parts
from markbase.core.design.shared_ratios import by_ratio
from markbase.core.errors import count_noun, listed, quoted, remark
from markbase.core.study.column import Column
from markbase.core.study.derived_values import made_of_same
from markbase.core.study.study import Study
from markbase.core.tables import rows_of


def remark_on_shared(
    study: Study, outcome: str, columns: Mapping[str, Column], weighed: bool = False
) -> tuple[Shared, ...]:
    """Say which columns of a model go with the outcome by construction; return what only the rows say of it.

    Of rows that are weighed nothing is said of how much each of them tells.
    """
    if outcome not in study:
        return ()
    target = study.column(outcome)
    numbers = [study[n] for n in study.columns if n != outcome and not study[n].is_categorical]
    others = [c for c in numbers if c.name not in columns]
    found = (
        *by_change(target, columns.values(), others),
        *by_parts(target, columns.values(), numbers),
        *by_ratio(target, columns.values(), numbers, weighed),
        *by_order(target, columns.values()),
        *by_means(study, target, columns.values()),
        *among_terms(columns.values(), numbers),
        *by_ages(columns.values(), numbers),
        *by_selection(study, target),
    )
    for told in (*by_construction(target, columns.values()), *(shared.text for shared in found)):
        remark(told)
    return found


def by_construction(outcome: Column, columns: Iterable[Column]) -> list[str]:
    """Say which columns of a model go with the outcome because of how one of the two, or both, were made."""
    told = []
    for column in columns:
        shared = made_of_same(outcome, column)
        if not shared:
            continue
        how = f"`{outcome.name}` and `{column.name}` were both made of {listed(quoted(shared))}"
        if shared == [column.name]:
            how = f"The outcome `{outcome.name}` was made of `{column.name}`, which is in the model"
        elif shared == [outcome.name]:
            how = f"`{column.name}` was made of the outcome `{outcome.name}`"
        told.append(f"{how}: the two go together by construction, and in part that is what their figures say.")
    return told


def by_selection(study: Study, outcome: Column) -> list[Shared]:
    """Say that a preparing step left rows out because of the outcome, or of a column made of it or behind it."""
    told = []
    for step in study.trail.steps:
        if step.action != "keep" or step.check is None or outcome.is_categorical:
            continue
        for (name, tests), row in zip(step.settings["conditions"].items(), rows_of(step.check.table), strict=True):
            if name not in study:
                continue
            column = study.column(name)
            if column.is_categorical or not row.fail or not _cuts(tests) or not made_of_same(outcome, column):
                continue
            what = "the outcome" if name == outcome.name else f"`{name}`, which goes with the outcome by construction"
            text = (
                f"{count_noun(row.fail, 'row')} {'was' if row.fail == 1 else 'were'} left out because of {what} (kept where {row.condition}). Rows chosen by the "
                f"outcome draw slopes and differences towards 0, the more the more are left out (selection on the outcome, truncation): what is told is about "
                f"such rows, not about all."
            )
            told.append(Shared("", text))
    return told


def _cuts(tests: object) -> bool:
    """Return whether tests of a number keep one side of it, or some values, and do not only leave some values out."""
    return not isinstance(tests, Mapping) or bool({"above", "among", "at_least", "at_most", "below", "is"} & set(tests))
