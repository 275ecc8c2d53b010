"""Numbers with flags, stars or signs of about beside them."""

import contextlib

import numpy as np
import pandas as pd
import pytest

import markbase as mb

MARKED = {
    "flags": ([f"{k}.5{' b' if k % 3 else ''}" for k in range(60)], ["b"], []),
    "flags and gaps": ([f"{k}.5{'e' if k % 3 else ''}" if k % 7 else ":" for k in range(60)], ["e"], [":"]),
    "stars": ([f"{k / 4}{'*' * (k % 4)}" for k in range(60)], ["*", "**", "***"], []),
    "about": ([f"{'~' if k % 2 else ''}{k},{k % 10}" for k in range(60)], ["~"], []),
    "classes": ([f"{k % 14}{'ab'[k % 2]}" for k in range(60)], [], []),
    "houses": ([f"{k}{'a' if k % 2 else ''}" for k in range(60)], [], []),
    "numbers of cases": ([f"#{k}" for k in range(60)], [], []),
    "few numbers": ([f"{k % 9}.5{'*' * (k % 2)}" for k in range(60)], [], []),
    "words": ([f"{k}.5 b" if k % 2 else "abcdefgh"[k % 8] * 3 for k in range(60)], [], []),
}


@pytest.mark.parametrize("case", MARKED)
def test_marks_beside_numbers_are_told_and_taken_off(case):
    texts, marks, gaps = MARKED[case]
    study = mb.Study(pd.DataFrame({"c": texts, "y": np.arange(60) % 11}))
    told = [r for r in study.remarks()["c"] if "numbers with marks beside them" in r.text]
    off = {"do": "as_numeric", "column": "c", "without": marks}
    blank = ({"do": "blank", "column": "c", "codes": gaps},) if gaps else ()
    assert [r.mend for r in told] == ([(*blank, off)] if marks else [])
    if not marks:
        return
    with pytest.warns(mb.MarkbaseWarning, match="holds numbers with marks beside them"), contextlib.suppress(mb.FitError):
        mb.fit_linear(study, "y", ["c"])
    mended = study.prepare(told[0].mend)
    wanted = [float(t.strip("~*be ").replace(",", ".")) if t != ":" else np.nan for t in texts]
    np.testing.assert_array_equal(mended["c"].values, wanted)
    assert f"taken off in {sum(any(m in t for m in marks) for t in texts)} rows" in str(mended.trail)
    with pytest.raises(mb.ColumnError, match="is empty"):
        study.as_numeric("c", without=[""])
    with pytest.raises(mb.ColumnError, match="not both"):
        study.as_numeric("c", without=marks, scores={texts[0]: 1})
    with pytest.raises(mb.ColumnError, match="was read as numbers already"):
        study.as_numeric("y", without=marks)
