"""An interaction that is clear while a curve is lacking, and not beside it."""

import re

import numpy as np
import pandas as pd
import pytest

import markbase as mb
from reference import upper_f

pytestmark = pytest.mark.filterwarnings("ignore::markbase.MarkbaseWarning")


def rows(bent, crossed="", seed=5):
    """Return rows in which x goes with z, and lies higher in one level of g; the outcome bends in x, or its slope differs by z, or by g."""
    rng = np.random.default_rng(seed)
    x = rng.normal(size=400)
    frame = pd.DataFrame({"x": x, "z": 0.7 * x + 0.7 * rng.normal(size=400), "g": np.where(x + rng.normal(0, 0.8, 400) > 0, "high", "low")})
    frame["y"] = x + 0.5 * frame["z"] + bent * x**2 + {"": 0, "z": x * frame["z"], "g": 1.5 * x * (frame["g"] == "high")}[crossed] + rng.normal(0, 1, 400)  # fmt: skip
    frame["stays"] = np.where(frame["y"] + rng.logistic(0, 1, 400) > frame["y"].median(), "yes", "no")
    return frame


def p_beside(frame, other):
    """Return p of the product beside the squares, of columns laid out."""
    own = frame[other] if other == "z" else (frame["g"] == "high") * 1.0
    squares = [frame["x"] ** 2, *([frame["z"] ** 2] if other == "z" else [])]
    X = np.column_stack([np.ones(400), frame["x"], own, *squares, frame["x"] * own])
    left = [float(np.linalg.lstsq(M, frame["y"], rcond=None)[1][0]) for M in (X[:, :-1], X)]
    return upper_f((left[0] - left[1]) / (left[1] / (400 - X.shape[1])), 1, 400 - X.shape[1])


@pytest.mark.parametrize("kind", ["linear", "logistic"])
@pytest.mark.parametrize("other", ["z", "g"])
def test_a_product_that_stands_in_for_a_curve_is_told(kind, other):
    def said(frame, *terms):
        terms = [*terms, other, mb.interaction("x", other)]
        fit = mb.fit_linear(frame, "y", terms) if kind == "linear" else mb.fit_logistic(frame, "stays", terms, event="yes")
        of = {s.term: [c for c in s.cautions if "may stand in for a curve" in c] for s in reversed(fit.reading().statements)}
        return of[f"x × {other}"], fit.terms.set_index("term").loc[f"x × {other}", "p"]

    frame = rows(bent=0.9)
    (told,), p = said(frame, "x")
    assert p < 0.05
    words = "the squares of `x` and `z`, of which one at least" if other == "z" else "the square of `x`, which"
    match = re.fullmatch(rf"Beside {words} is clear \(p < \.001\), it is not \(p = (\.\d+)\): of .*", told)
    if kind == "linear":
        assert float(match[1]) == pytest.approx(float(p_beside(frame, other)), abs=0.0006)
    assert said(rows(bent=0, crossed=other), "x")[0] == []
    assert said(frame, mb.polynomial("x"))[0] == []  # the curve is in the model


@pytest.mark.parametrize("kind", ["linear", "logistic"])
@pytest.mark.parametrize(("none", "step"), [(0.5, 9), (0.5, 0), (0.95, 9), (0.0, 0)])
def test_rows_without_any_that_lie_apart_from_the_line_are_told(kind, none, step):
    rng = np.random.default_rng(4)
    frame = pd.DataFrame({"x": np.where(rng.random(500) < none, 0, rng.poisson(9, 500) + 1.0), "age": rng.normal(size=500)})
    frame["y"] = 50 - step * (frame["x"] > 0) - 0.3 * frame["x"] + frame["age"] + rng.normal(0, 4, 500)
    frame["ill"] = np.where(frame["y"] + rng.logistic(0, 2, 500) < frame["y"].median(), "yes", "no")
    fit = mb.fit_linear(frame, "y", ["x", "age"]) if kind == "linear" else mb.fit_logistic(frame, "ill", ["x", "age"], event="yes")
    told = [c for s in fit.reading().statements if s.term == "x" for c in s.cautions if "any, and how much" in c]
    assert len(told) == (none == 0.5 and step > 0)
    if told and kind == "linear":
        X = np.column_stack([np.ones(500), frame["x"], frame["age"], frame["x"] == 0]).astype(float)
        left = [float(np.linalg.lstsq(M, frame["y"], rcond=None)[1][0]) for M in (X[:, :-1], X)]
        match = re.match(r"`x` is 0 in ([\d.]+)% of the rows, .* \(F\(1, 496\) = ([\d.]+), p < \.001, ([\d.]+)% of", told[0])
        wanted = [100 * (frame["x"] == 0).mean(), (left[0] - left[1]) / (left[1] / 496), 100 * (1 - left[1] / left[0])]
        np.testing.assert_allclose([float(v) for v in match.groups()], wanted, atol=0.051)
