"""Tables that say what is in a study: one row a column, and one row a level."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence

import numpy as np
import pandas as pd

from markbase.core.errors import count_noun
from markbase.core.rows.parts import InParts
from markbase.core.rows.row_functions import sd_of
from markbase.core.study.column import Column
from markbase.core.study.remark import THIN_ROWS, Remark

OVERVIEW_COLUMNS = [
    "column",
    "label",
    "kind",
    "guessed",
    "role",
    "unit",
    "rows",
    "missing",
    "blank",
    "coded",
    "levels",
    "mean",
    "sd",
    "low",
    "median",
    "high",
    "skew",
    "remarks",
]


def overview_table(columns: Sequence[Column], remarks: Mapping[str, Sequence[Remark]]) -> pd.DataFrame:
    """Describe every column in a row, as `Study.overview` documents it."""
    records = [_record(column, remarks[column.name]) for column in columns]
    return pd.DataFrame(records, columns=OVERVIEW_COLUMNS)


def _record(column: Column, remarks: Sequence[Remark]) -> dict[str, object]:
    missing = len(column.values) - column.valid
    blank = dict(column.missing_counts()).get("blank", 0)
    record: dict[str, object] = {
        "column": column.name,
        "label": column.label,
        "kind": column.kind,
        "guessed": bool(column.guess),
        "role": column.role or "",
        "unit": column.unit.many if column.unit else "",
        "rows": column.valid,
        "missing": missing,
        "blank": blank,
        "coded": missing - blank,
        "remarks": "; ".join(remark.text for remark in remarks),
    }
    if column.is_categorical:
        return record | {"levels": int(np.count_nonzero(column.counts))}
    if isinstance(column.values, InParts):
        return record | _of_parts(column.values, str(record["remarks"]))
    values = column.values[column.present]
    record["levels"] = column.distinct_count
    if not len(values) or np.isinf(values).any():
        return record
    varies = values.min() < values.max()
    return record | {
        "mean": float(values.mean()),
        "sd": sd_of(values) if len(values) > 1 else float("nan"),
        "low": float(values.min()),
        "median": float(np.median(values)),
        "high": float(values.max()),
        "skew": column.skew if varies else float("nan"),
    }


def _of_parts(values: InParts, remarks: str) -> dict[str, object]:
    """Describe numbers that come in parts; where there are many distinct ones, these are not counted and the median is of a sample."""
    facts = values.facts
    record: dict[str, object] = {"levels": float("nan") if facts.distinct is None else len(facts.distinct[0])}
    if not facts.valid or facts.infinite:
        return record
    median, approximate = quantile_of(values, 0.5)
    some = np.count_nonzero(~np.isnan(values.kept))
    told = f"median of a random sample of {some:,} rows" if approximate else ""
    return record | {
        "mean": facts.mean,
        "sd": facts.sd,
        "low": facts.low,
        "median": median,
        "high": facts.high,
        "skew": facts.skew,
        "remarks": "; ".join(text for text in (remarks, told) if text),
    }


def quantile_of(values: InParts, share: float) -> tuple[float, bool]:
    """Return a quantile of numbers that come in parts, and whether it is of a sample of them: of those in memory, if that is not all."""
    if values.facts.distinct is None:
        return float(np.nanquantile(values.kept, share)), len(values.kept) < values.rows
    distinct, counts = (np.asarray(v) for v in values.facts.distinct)
    at = share * (values.facts.valid - 1)
    below, above = (
        distinct[np.searchsorted(np.cumsum(counts), k, side="right")] for k in (math.floor(at), math.ceil(at))
    )
    return float(below + (at - math.floor(at)) * (above - below)), False


def levels_table(column: Column) -> pd.DataFrame:
    """Count the levels of a group, with its missing answers below, as `Study.levels` documents it."""
    rows, valid = len(column.values), column.valid
    records: list[dict[str, object]] = []
    for place, level in enumerate(column.levels):
        n = int(column.counts[place])
        is_base = column.base is not None and column.base.level == place
        remarks = []
        sorts = column.role != "identifier"  # whose levels are nobody's groups
        if sorts and is_base and column.base is not None:
            remarks.append(f"base: {column.base.reason}")
        if not level.declared:
            remarks.append("not in the codebook")
        if n == 0:
            remarks.append("no row has it")
        elif sorts and n < THIN_ROWS:
            remarks.append(f"thin: only {count_noun(n, 'row')}, so its intervals will be wide")
        records.append(
            {
                "level": level.label,
                "code": level.code,
                "count": n,
                "share": n / rows if rows else float("nan"),
                "share_valid": n / valid if valid else float("nan"),
                "base": is_base,
                "missing": False,
                "remarks": "; ".join(remarks),
            }
        )
    codes = {c.shown: c.code for c in column.missing_codes}
    for reason, n in column.missing_counts():
        records.append(
            {
                "level": reason,
                "code": codes.get(reason, ""),
                "count": n,
                "share": n / rows,
                "share_valid": float("nan"),
                "base": False,
                "missing": True,
                "remarks": "",
            }
        )
    return pd.DataFrame(
        records, columns=["level", "code", "count", "share", "share_valid", "base", "missing", "remarks"]
    )


def values_table(column: Column) -> pd.DataFrame:
    """Describe one numeric column by `measure` and `value`: its spread, its commonest values and its missing answers.

    Of rows in parts with more than 1,000 distinct values these are not counted (NaN), and quartiles and median are of a
    random sample, as their measures say.
    """
    record = _record(column, ())
    measures = ["rows", "levels", "mean", "sd", "low", "median", "high", "skew"]
    table = [{"measure": "distinct values" if m == "levels" else m, "value": record.get(m)} for m in measures]
    values, quarters = column.values, {}
    if isinstance(values, InParts):
        if values.facts.valid and not values.facts.infinite:
            quarters = {k: quantile_of(values, q)[0] for k, q in (("lower quartile", 0.25), ("upper quartile", 0.75))}
    elif column.valid and np.isfinite(values[column.present]).all():
        both = np.quantile(values[column.present], [0.25, 0.75])
        quarters = dict(zip(("lower quartile", "upper quartile"), both, strict=True))
    if quarters:
        table[5:5] = [{"measure": "lower quartile", "value": float(quarters["lower quartile"])}]
        table[7:7] = [{"measure": "upper quartile", "value": float(quarters["upper quartile"])}]
    if isinstance(values, InParts) and values.facts.distinct is None and quantile_of(values, 0.5)[1]:
        for row in table:  # what is not of all rows says so where it stands
            if row["measure"] in ("lower quartile", "median", "upper quartile"):
                row["measure"] = f"{row['measure']} of a random sample"
    table += [{"measure": f"missing: {reason}", "value": n} for reason, n in column.missing_counts()]
    return pd.DataFrame(table, columns=["measure", "value"])
