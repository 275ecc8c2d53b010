"""How few rows have the levels, or the combination of levels, that a coefficient compares."""

from __future__ import annotations

import itertools
from collections.abc import Mapping

from markbase.core.errors import count_noun, listed
from markbase.core.results.any_fit import AnyFit
from markbase.core.study.remark import THIN_ROWS


def about_rows(fit: AnyFit, levels: Mapping[str, str], rows: int) -> list[str]:
    """Say that few rows have the levels of groups that a coefficient is about, or, where these are in an interaction, the rarest of the combinations it compares.

    Each level is compared with its base, and groups that are in an interaction with all of them stand at theirs. Combinations are looked at only
    where every group is coded by a base.
    """
    fewest, rarest = rows, dict(levels)
    for term in fit.model_terms:
        groups = {v.name: v for v in term.groups}
        if (
            len(groups) < 2
            or not set(levels) <= set(groups)
            or any(v.column.scheme != "indicator" for v in groups.values())
        ):
            continue
        counts = fit.rows_used.counts_at(tuple(groups))
        compared = [[v.base, *([v.labels.index(levels[name])] if name in levels else [])] for name, v in groups.items()]
        for cell in itertools.product(*compared):
            if 0 < counts[cell] < fewest:  # of what an empty one tells nothing is estimated
                fewest = int(counts[cell])
                rarest = {name: v.labels[k] for (name, v), k in zip(groups.items(), cell, strict=True)}
    if fewest >= THIN_ROWS:
        return []
    which = listed([f"`{group}` `{level}`" for group, level in rarest.items()])
    among = "" if rarest == dict(levels) else ", one of the combinations it compares"
    return [f"Only {count_noun(fewest, 'row')} used {'has' if fewest == 1 else 'have'} {which}{among}."]
