"""Coding of groups: grids, indicators, and estimates under each scheme against dense columns."""

import itertools

import numpy as np
import pandas as pd
import pytest

import markbase as mb
from markbase.core.study.coding import grid


@pytest.mark.filterwarnings("ignore::markbase.MarkbaseWarning")
def test_of_very_many_levels_nothing_is_laid_out_that_grows_with_their_square():
    data = pd.DataFrame({"g": [f"level {k}" for k in range(1001)] * 2, "y": np.arange(2002.0) % 8})
    study = mb.Study(data, codebook={"columns": {"g": {"kind": "categorical"}}})
    with pytest.raises(mb.ColumnError, match="has 1,001 levels with rows, more than the 1,000 whose coding is laid out"):
        study.coding("g")
    few = study.keep_levels("g", [f"level {k}" for k in range(30)])
    assert few["g"].missing_counts() == [("one of 971 levels not kept", 1942)]
    with pytest.raises(mb.ColumnError, match="more than 250 codes for a missing answer"):
        study.blank("y", [*range(300)])
    told = " ".join(str(few.coding("g")).split())
    assert "30 levels, 29 columns: more than can be read here; as data it is whole" in told
    with pytest.raises(mb.MarkbaseError, match="500,500 pairs of them are more than the 50,000 that are compared"):
        mb.fit_linear(study, "y", ["g"]).between("g")
    totals = study.merge_levels("g", {"level 1": ["level 2"]}).trail.steps[-1].check
    assert (totals.passed, totals.table["rows"].tolist()) == (True, [2] * 1001)


def test_coding_grids_are_what_the_coefficients_need_and_indicators_add_up():
    study = mb.demo.choirs().cut("age", [30, 45, 60], name="band").mark("band", by="first")
    coding = study.coding("band")
    assert coding.passed
    assert list(coding.grids) == ["indicator", "effect", "adjacent", "trend"]
    assert list(study.coding("voice").grids) == ["indicator", "effect"]
    for scheme, table in coding.grids.items():
        assert table.shape == (4, 3)
        assert scheme == "indicator" or np.allclose(table.sum(), 0, atol=1e-15)
    trend = coding.grids["trend"].to_numpy()
    np.testing.assert_allclose(trend.T @ trend, np.eye(3), atol=1e-15)
    published = np.array([[-3, -1, 1, 3], [1, -1, -1, 1], [-1, 3, -3, 1]]).T / np.sqrt([20, 4, 20])
    np.testing.assert_allclose(trend, published, atol=1e-15)
    coded = study.code_as("voice", "effect").code_as("band", "trend")
    screened = " ".join(str(mb.screen(coded, ["voice", "band"])).split())
    assert "; voice against the mean of its levels, band in trend coding" in screened
    columns = study.indicators(["band", "voice"])
    assert columns.shape == (2003, 7)
    assert columns.iloc[:, :3].isna().all(axis=1).sum() == 43
    assert columns.attrs["bases"] == {"band": "below 30", "voice": "alto"}
    with pytest.warns(mb.MarkbaseWarning, match="wherever there is an intercept"):
        full = study.indicators(["voice"], full_set=True)
    assert (full.sum(axis=1) == 1).all()
    alike = pd.DataFrame({"a": ["b_c", "x", "x"], "a_b": ["x", "c", "x"]})  # both are `a_b_c`
    assert mb.Study(alike).indicators(["a", "a_b"]).to_dict("list") == {"a_b_c": [1, 0, 0], "a_b_c_2": [0, 1, 0]}


@pytest.mark.parametrize("schemes", list(itertools.product(["indicator", "effect", "adjacent", "trend"], ["indicator", "effect"])))
def test_estimates_under_each_scheme_agree_with_dense_columns(schemes):
    study = mb.demo.choirs().cut("age", [30, 45, 60], name="band").mark("band", by="last")
    study = study.merge_levels("voice", {"tenor": ["tennor"]})
    study = study.mark("voice", "alto").code_as("band", schemes[0]).code_as("voice", schemes[1])
    fit = mb.fit_linear(study, "belonging", ["band", "voice", "travel_km"])
    grids = [study.coding(g).grids[s] for g, s in zip(("band", "voice"), schemes, strict=True)]
    frame = study.frame()[["belonging", "band", "voice", "travel_km"]].dropna()
    blocks = [table.loc[frame[g].astype(str)].to_numpy() for g, table in zip(("band", "voice"), grids, strict=True)]
    X = np.column_stack([np.ones(len(frame)), *blocks, frame["travel_km"]])
    y = frame["belonging"].to_numpy(dtype=float)
    b, rss, *_ = np.linalg.lstsq(X, y, rcond=None)
    se = np.sqrt(np.diag(np.linalg.inv(X.T @ X)) * rss[0] / (len(y) - X.shape[1]))
    table = fit.coefficients
    omitted = {"indicator": lambda r: r["base"], "effect": lambda r: r["level"] == {"band": "60 and more", "voice": "alto"}[r["term"]]}
    scheme_of = dict(zip(("band", "voice"), schemes, strict=True))
    rows = table[[not omitted.get(scheme_of.get(r["term"], ""), lambda _: False)(r) for _, r in table.iterrows()]]
    np.testing.assert_allclose(rows["estimate"], b, rtol=1e-9)
    np.testing.assert_allclose(rows["se"], se, rtol=1e-9)
    np.testing.assert_allclose(fit.fitted[~np.isnan(fit.fitted)], X @ b, rtol=1e-10)
    plain = mb.fit_linear(study.code_as("band", "indicator").code_as("voice", "indicator"), "belonging", ["band", "voice", "travel_km"])
    assert plain.overall == fit.overall
    words = {"indicator": "compared with the base", "effect": "mean of the 4 levels", "adjacent": "the level before it", "trend": "linear trend"}  # fmt: skip
    assert any(words[schemes[0]] in s.text for s in fit.reading().statements)


def test_uneven_points_give_orthogonal_trends():
    table = grid("trend", ["a", "c", "f"], 0, [0, 2, 5]).to_numpy()
    np.testing.assert_allclose(table.T @ table, np.eye(2), atol=1e-15)
    np.testing.assert_allclose(np.diff(table[:, 0]) / np.diff([0, 2, 5]), np.diff(table[:, 0])[0] / 2)
