"""Slopes along a curve, where it turns, and where its slope is clear."""

import numpy as np
import pandas as pd
import pytest
from mpmath import mp

import markbase as mb
from markbase.core.inference.distributions import t_quantile
from reference import digits, least_squares, made_up


@pytest.mark.parametrize("far", [0.0, 2000.0])
def test_slopes_turning_points_and_regions_agree_with_algebra_on_the_raw_coefficients(far):
    frame = pd.DataFrame(made_up(200, seed=9))
    frame["age"] += far
    frame["score"] -= 0.02 * (frame["age"] - 47 - far) ** 2
    study = mb.Study(frame).mark("voice", "alto")
    fit = mb.fit_linear(study, "score", [mb.polynomial("age"), "km", "voice"])
    wanted = least_squares(frame, "score", [("age", 2), "km", "voice"], {"voice": "alto"})
    b, V, at = wanted["b"], wanted["V"], [wanted["names"].index(("age (quadratic)", m)) for m in ("age", "age²")]
    for row in fit.simple_slopes("age").itertuples():
        slope = b[at[0]] + 2 * row.age * b[at[1]]
        error = mp.sqrt(V[at[0], at[0]] + 4 * row.age * V[at[0], at[1]] + 4 * mp.mpf(row.age) ** 2 * V[at[1], at[1]])
        assert min(digits(row.slope, slope), digits(row.se, error)) > 8
    turn = fit.turning_point("age")
    assert digits(turn.value, -b[at[0]] / (2 * b[at[1]])) > 10
    assert (turn.kind, turn.inside) == ("maximum", True)
    for end in (turn.fieller_low, turn.fieller_high):  # there the slope is just clear
        slope, se = fit.slope_at("age", {"age": end})
        assert abs(slope / se) == pytest.approx(1.97, abs=0.01)
    assert turn.fieller_low < turn.value < turn.fieller_high
    variance = V[at[0], at[0]] / 4 - b[at[0]] * V[at[0], at[1]] / (2 * b[at[1]])
    variance += b[at[0]] ** 2 * V[at[1], at[1]] / (4 * b[at[1]] ** 2)
    half = t_quantile(0.95, int(wanted["df_rest"])) * mp.sqrt(variance) / abs(b[at[1]])  # delta method
    assert min(digits(turn.high - turn.value, half), digits(turn.value - turn.low, half)) > 6
    bend = fit.bend_test("age")
    assert digits(bend.statistic, b[at[1]] ** 2 / V[at[1], at[1]]) > 8
    words = " ".join(s.text for s in fit.reading().statements)
    assert all(told in words for told in ("has its maximum at `age`", "the line is clearly bent"))


@pytest.mark.filterwarnings("ignore:.*order of:markbase.MarkbaseWarning")
def test_every_group_turns_where_it_does_by_itself_and_a_cubic_twice_or_not_at_all():
    frame = pd.DataFrame(made_up(400, seed=4))
    frame["score"] -= 0.02 * (frame["age"] - np.where(frame["voice"] == "alto", 40.0, 55.0)) ** 2
    study, curve = mb.Study(frame), mb.polynomial("age")
    fit = mb.fit_linear(study, "score", [curve, "voice", mb.interaction(curve, "voice")])
    table = fit.turning_points("age", by="voice")
    assert table["level"].tolist() == list(fit.variable("voice", "categorical").labels)
    for row in table.itertuples():
        alone = mb.fit_linear(study.keep({"voice": row.level}), "score", [curve])
        turn = next(alone.turning_points("age").itertuples())
        assert (row.value, row.kind, row.inside) == (pytest.approx(turn.value, rel=1e-9), turn.kind, turn.inside)
        spread = fit.strength.residual_sd / alone.strength.residual_sd  # one for all groups, or that of this one
        assert row.se == pytest.approx(turn.se * spread, rel=1e-8)
    x = np.linspace(-3, 5, 90)
    for bend, turns in ((-0.05, 2), (0.05, 0), (-1e-4, 2)):
        wave = pd.DataFrame({"x": x, "y": 0.1 * (x - 2) ** 3 + bend * 5 * x + 1e-3 * np.sin(40 * x)})
        found = mb.fit_linear(mb.Study(wave), "y", [mb.polynomial("x", 3)]).turning_points("x")
        cubic, spread = np.polyfit(x, wave["y"], 3, cov=True)
        slope = np.polyder(cubic)
        roots = np.sort(np.roots(slope)) if turns else []
        assert found["value"].tolist() == pytest.approx(list(roots), rel=1e-7)
        assert found["kind"].tolist() == ["maximum", "minimum"][:turns]
        moves = [np.array([3 * t**2, 2 * t, 1, 0]) / np.polyval(np.polyder(slope), t) for t in roots]  # delta method
        assert found["se"].tolist() == pytest.approx([np.sqrt(m @ spread @ m) for m in moves], rel=1e-6)
        assert (found["level"] == "").all()


@pytest.mark.filterwarnings("ignore::markbase.MarkbaseWarning")
@pytest.mark.parametrize(("formula", "slope", "root"), [
    ("log(x)", lambda v: 1 / v, lambda a, b: -b / a), ("1/x", lambda v: -1 / v**2, lambda a, b: np.sqrt(b / a)), ("sqrt(x)", lambda v: 0.5 / np.sqrt(v), lambda a, b: (b / a / 2) ** 2),
    ("x * sqrt(x)", lambda v: 1.5 * np.sqrt(v), lambda a, b: (a / b / 1.5) ** 2), ("2^(x / 10)", lambda v: np.log(2) / 10 * 2 ** (v / 10), lambda a, b: 10 * np.log2(-a / b * 10 / np.log(2))),
])  # fmt: skip
def test_a_curve_that_is_no_polynomial_turns_where_its_own_slope_is_0(formula, slope, root):
    x = np.linspace(1, 50, 300)
    one = slope(x) - slope(20.0)
    study = mb.Study(pd.DataFrame({"x": x, "y": 3 * np.cumsum(one) / np.abs(one).max() + np.sin(40 * x)})).calculate("new", formula)
    fit = mb.fit_linear(study, "y", ["x", "new"])
    a, b = fit.coefficients["estimate"][1:]
    turn = fit.turning_point("x")
    assert turn.value == pytest.approx(root(a, b), rel=1e-7)
    V = np.asarray(fit.covariance)[1:, 1:]
    rise, step = np.array([1, slope(turn.value)]), (slope(turn.value + 1e-4) - slope(turn.value - 1e-4)) / 2e-4 * b
    half = t_quantile(0.95, 297) * np.sqrt(rise @ V @ rise) / abs(step)
    assert [turn.high - turn.value, turn.value - turn.low] == pytest.approx([half, half], rel=1e-4)
    for end in (turn.fieller_low, turn.fieller_high):
        found, se = fit.slope_at("x", {"x": end})
        assert abs(found / se) == pytest.approx(t_quantile(0.95, 297), rel=1e-6)
    assert (turn.kind == "maximum") == (step < 0)


@pytest.mark.filterwarnings("ignore::markbase.MarkbaseWarning")
def test_a_hinge_turns_at_its_corner_or_not_at_all():
    x = np.linspace(1, 50, 300)
    for sign, turns in ((-0.6, 1), (-0.1, 0)):
        study = mb.Study(pd.DataFrame({"x": x, "y": 0.3 * x + sign * np.maximum(x - 20, 0) + np.sin(40 * x)})).calculate("h", "max(x - 20, 0)")
        fit = mb.fit_linear(study, "y", ["x", "h"])
        found = fit.turning_points("x")
        assert found[["value", "se", "fieller_low", "fieller_high"]].to_numpy() == pytest.approx(
            np.array([[20, 0, 20, 20]] * turns).reshape(turns, 4), abs=1e-9
        )
        told = " ".join(str(fit).split())
        assert (
            "its maximum at x = 20 (a corner, which the form of the term sets and the rows do not)" if turns else "x does not turn within these rows"
        ) in told


@pytest.mark.filterwarnings("ignore::markbase.MarkbaseWarning")
def test_far_from_0_a_parabola_still_turns_outside_the_rows():
    x = np.linspace(0, 50, 300)
    y = np.sin(40 * x) - (x - 90) ** 2 / 50
    found = mb.fit_linear(mb.Study(pd.DataFrame({"x": 1e11 + x, "y": y})), "y", [mb.polynomial("x")]).turning_points("x")
    bent, rise, _ = np.polyfit(x, y, 2)
    assert (found["value"] - 1e11).tolist() == [pytest.approx(-rise / (2 * bent), abs=1e-3)]
