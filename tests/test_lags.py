"""Values of rows before, in memory and in parts."""

import itertools
import re

import numpy as np
import pandas as pd
import pyarrow as pa
import pyarrow.parquet as pq
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

import markbase as mb
from markbase.core.study import lagging

pytestmark = [pytest.mark.filterwarnings("ignore::markbase.MarkbaseWarning"), pytest.mark.usefixtures("small_parts")]


SEASONS = st.lists(st.tuples(st.sampled_from([None, "a", "a", "b"]), st.one_of(st.none(), *[st.integers(0, 9)] * 5),
    st.one_of(st.none(), st.integers(0, 9))), min_size=8, max_size=18,
    unique_by=lambda row: row[:2] if None not in row[:2] else object())  # fmt: skip


@settings(max_examples=10)
@given(rows=SEASONS, cuts=st.one_of(st.just([*range(20)]), st.lists(st.integers(0, 18), max_size=6)), by=st.integers(1, 3), text=st.booleans())  # fmt: skip
def test_a_lag_is_that_of_a_search_in_memory_and_in_parts(tmp_path_factory, rows, cuts, by, text):
    rows = [*rows, ("d", 1, 5), ("d", 2, 6)]
    placed = iter(sorted((r for r in rows if None not in r[:2]), key=lambda r: r[:2]))
    order = [r if None in r[:2] else next(placed) for r in rows]  # sorted, with rows without a place in between
    known = {r[:2]: r[2] for r in rows if None not in r[:2]}
    wanted = [known.get((s, t - by)) if s is not None and t is not None else None for s, t, _ in order]
    begins = {s: min(t for u, t in known if u == s) for s, _ in known}
    reasons = ["place in the series not known" if s is None or t is None
        else ("earlier `x` missing" if known[s, t - by] is None else "") if (s, t - by) in known
        else "start of a series" if t - by < begins[s] else "gap in the series" for s, t, _ in order]  # fmt: skip
    table = pd.DataFrame(order, columns=["series", "step", "x"])
    table["step"] = table["step"].astype(float)
    table["x"] = table["x"].map(lambda v: None if v != v else f"v{v:.0f}") if text else table["x"].astype(float)
    home = tmp_path_factory.mktemp("lags")
    edges = [0, *sorted(min(c, len(table)) for c in cuts), len(table)]
    schema = pa.Schema.from_pandas(table, preserve_index=False)
    for k, (start, stop) in enumerate(itertools.pairwise(edges)):
        pq.write_table(pa.Table.from_pandas(table[start:stop], schema, preserve_index=False), home / f"{k:02d}.parquet")
    kinds = {"series": "categorical", "step": "numeric", "x": "categorical" if text else "numeric"}
    book = {"columns": {name: {"kind": kind} for name, kind in kinds.items()}}
    parts = mb.open_study(home, codebook=book, in_parts=True)
    shuffled = table.sample(frac=1, random_state=1)
    lagged = [s.lag("x", by=by, order="step", within="series", name="before") for s in (mb.Study(table, book), mb.Study(shuffled, book), parts)]  # fmt: skip
    for study, index in zip(lagged, (table.index, shuffled.index, table.index), strict=True):
        column = study["before"]
        values = column.values.at(np.arange(len(table))) if study.in_parts else column.values
        found = [None if v != v or (text and v < 0) else column.levels[v].label if text else v for v in values.tolist()]
        assert found == [wanted[k] if not text or wanted[k] is None else f"v{wanted[k]}" for k in index]
        assert study.trail.steps[-1].check.passed
        why = column.reasons()
        why = why.at(np.arange(len(table))) if study.in_parts else why
        names = ["", "", *(code.label for code in column.missing_codes)]
        assert [names[w] for w in why] == [reasons[k] for k in index]
    kept = parts.lag("x", by=by, order="step", within="series", name="before")["before"].values.kept
    assert len(kept) == len(table)


@pytest.mark.parametrize(
    ("change", "told"),
    [
        (lambda t: t.iloc[[0, 2, 1, 3, 4, 5]], "not sorted by `s` and, within it, `t`"),
        (lambda t: t.iloc[[0, 3, 4, 5, 1, 2]], "not sorted by `s`"),
        (lambda t: t.assign(t=[1, 1, 2, 1, 2, 3]), "two rows at 1 of `a`"),
        (lambda t: t.assign(t=[1, 2, 2, 1, 2, 3]), "two rows at 2 of `a`"),
        (lambda t: t.assign(t=[1, 2, 1e17, 1, 2, 3]), "at most 15 digits"),
    ],
)
@pytest.mark.parametrize("size", [1, 2, 6])
def test_a_lag_in_parts_counts_on_no_order_that_is_not_there(tmp_path, change, told, size):
    table = change(pd.DataFrame({"s": list("aaabbb"), "t": [1.0, 2, 3, 1, 2, 3], "x": range(6)}))
    for k in range(0, 6, size):
        table[k : k + size].to_parquet(tmp_path / f"{k}.parquet", index=False)
    with pytest.raises(mb.MarkbaseError, match=re.escape(told)):
        mb.open_study(tmp_path, in_parts=True).lag("x", order="t", within="s", name="b")


@pytest.mark.parametrize("text", [False, True])
def test_the_verification_notices_a_value_of_another_row(monkeypatch, text):
    earlier = lagging._Lags.earlier

    def wrong(self, *trees):
        found, why = earlier(self, *trees)
        known = np.flatnonzero(why == 0)
        found[known[0]] = found[known[-1]]  # one row has the value of another
        return found, why

    data = pd.DataFrame({"series": list("aaaabbbb"), "step": [1, 2, 3, 4] * 2, "x": [3, 1, 4, 1, 5, 9, 2, 6]})
    data["x"] = data["x"].map("v{}".format) if text else data["x"]
    study, asked = mb.Study(data), {"by": 1, "order": "step", "within": "series", "name": "before"}
    assert study.lag("x", **asked).trail.steps[-1].check.passed
    monkeypatch.setattr(lagging._Lags, "earlier", wrong)
    with pytest.raises(AssertionError, match="did not verify"):
        study.lag("x", **asked)
