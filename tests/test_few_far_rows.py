"""A few rows that hold half of what a linear fit leaves unexplained."""

import re

import numpy as np
import pandas as pd
import pytest
from hypothesis import given
from hypothesis import strategies as st

import markbase as mb

pytestmark = pytest.mark.filterwarnings("ignore::markbase.MarkbaseWarning")


def told(fit):
    found = re.search(r"Half of the squared residuals is in ([\d,]+) of ([\d,]+) rows \(`?y`? (?:is|from) ([-−\d.]+)", str(fit.reading()))
    return found and (int(found[1]), int(found[2]))


@given(
    seed=st.integers(0, 10**6), far=st.integers(0, 12), out=st.sampled_from([0, 6, 30, -30]), kind=st.sampled_from([None, "frequency", "sampling"])
)
def test_they_are_counted_as_their_definition_says(seed, far, out, kind):
    rng = np.random.default_rng(seed)
    frame = pd.DataFrame({"x": rng.normal(size=300), "w": rng.integers(1, 4, 300)})
    frame["y"] = frame["x"] + rng.normal(size=300)
    frame.loc[: far - 1, "y"] += out * rng.uniform(1, 2, far)
    fit = mb.fit_linear(frame, "y", ["x"], **({} if kind is None else {"weights": "w", "weights_are": kind}))
    e = np.sort(np.repeat(fit.residuals**2, frame["w"]) if kind == "frequency" else fit.residuals**2 * (frame["w"] if kind else 1))[::-1]
    k = int(np.argmax(np.cumsum(e) >= e.sum() / 2)) + 1
    assert told(fit) == ((k, len(e)) if k <= 0.02 * len(e) else None)


def test_the_logarithm_is_named_where_there_is_one_and_few_rows_are_left_in_peace():
    y = np.append(np.arange(196) % 7 + 1.0, [400, 410, 420, 400])
    fit = mb.fit_linear(pd.DataFrame({"y": y, "x": np.arange(200)}), "y", ["x"])
    page = " ".join(str(fit.reading()).split())
    assert "(`y` from 400 to 420 there)" in page or "(y from 400 to 420 there)" in page
    assert "if so, y may be one to be told in its logarithm." in page
    assert f"few rows: half of the squared residuals is in {told(fit)[0]} of 200 rows (y from 400 to 420 there)." in " ".join(
        str(fit.checks()).split()
    )
    low = mb.fit_linear(pd.DataFrame({"y": 425 - y, "x": np.arange(200)}), "y", ["x"])
    assert "(y from 5 to 25 there): estimates may follow these, intervals" in " ".join(str(low.reading()).split())
    assert "logarithm" not in str(low.reading())
    assert "logarithm" not in str(mb.fit_linear(pd.DataFrame({"y": y - 1, "x": np.arange(200)}), "y", ["x"]).reading())
    assert told(mb.fit_linear(pd.DataFrame({"y": y[-49:], "x": np.arange(49)}), "y", ["x"])) is None
