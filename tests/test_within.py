"""Levels taken out with `within`, held against the same model with every indicator in it."""

import numpy as np
import pandas as pd
import pytest

import markbase as mb
from reference import made_up

pytestmark = pytest.mark.filterwarnings("ignore::markbase.MarkbaseWarning")


def panel(rows=400, levels=40, second=6, seed=1, far=1.0):
    """Return rows in two sets of levels; `far` times as much of `x` lies between levels as within."""
    rng = np.random.default_rng(seed)
    g, h = rng.integers(0, levels, rows), rng.integers(0, second, rows)
    z = rng.normal(size=rows)
    return pd.DataFrame({"y": rng.normal(size=rows) + 0.1 * g - h + z / 3, "x": rng.normal(size=rows) + far * g,
        "z": z, "part": rng.choice(["a", "b", "c"], rows, p=[0.2, 0.5, 0.3]), "g": np.char.add("g", g.astype(str)),
        "h": np.char.add("h", h.astype(str)), "team": np.char.add("t", (np.arange(rows) % 37).astype(str)),
        "w": rng.uniform(0.5, 2, rows), "times": rng.integers(1, 4, rows).astype(float)})  # fmt: skip


SETTINGS = {
    "classical": {},
    "HC1": {"errors": "HC1"},
    "HC3": {"errors": "HC3"},
    "clustered": {"cluster": "team"},
    "sampling weights": {"weights": "w"},
    "frequencies": {"weights": "times", "weights_are": "frequency"},
}


@pytest.mark.parametrize("within", ["g", ["g", "h"]], ids=["one", "two"])
@pytest.mark.parametrize("setting", SETTINGS)
@pytest.mark.parametrize("far", [1.0, 1e5], ids=["near", "far"])
def test_everything_is_as_with_all_indicators(within, setting, far):
    study = mb.Study(panel(far=far))
    terms = ["x", "z", "part", mb.interaction("z", "part")]
    names = [within] if isinstance(within, str) else within
    fit = mb.fit_linear(study, "y", terms, fixed_effects=within, **SETTINGS[setting])
    full = mb.fit_linear(study, "y", [*terms, *names], **SETTINGS[setting])
    own, wanted = fit.coefficients.iloc[1:], full.coefficients.iloc[1:]
    wanted = wanted[wanted["term"].isin(own["term"])]
    rtol = 1e-10 if far == 1 else 1e-7
    for column in ("estimate", "se", "p", "low", "high"):
        np.testing.assert_allclose(own[column], wanted[column], rtol=rtol, atol=1e-12)
    np.testing.assert_allclose(fit.terms["statistic"], full.terms["statistic"].iloc[:4], rtol=rtol, atol=1e-14)
    np.testing.assert_allclose(fit.fitted, full.fitted, atol=1e-9)
    assert (fit.df_rest, fit.strength.aic) == (full.df_rest, pytest.approx(full.strength.aic))
    assert fit.strength.r2 == pytest.approx(full.strength.r2, rel=1e-10)
    without = fit.without("z × part").strength.r2
    assert without == pytest.approx(full.without("z × part").strength.r2, rel=1e-10)


def test_r2_within_start_and_overall_by_their_definitions():
    data = panel()
    study = mb.Study(data)
    fit = mb.fit_linear(study, "y", ["x", "z"], fixed_effects=["g", "h"])
    alone = mb.fit_linear(study, "y", ["g", "h"])
    left, rest = alone.strength.residual_ss, fit.strength.residual_ss
    assert fit.strength.r2_within == pytest.approx(1 - rest / left)
    assert fit.overall.statistic == pytest.approx((left - rest) / 2 / (rest / fit.df_rest))
    b = fit.coefficients["estimate"]
    assert b[0] == pytest.approx(data["y"].mean() - b[1] * data["x"].mean() - b[2] * data["z"].mean())


def test_parts_that_share_no_level_cost_a_level_each():
    data = pd.concat([panel(200, 10, 3, seed) for seed in (1, 2)], keys=["north", "south"]).reset_index(level=0)
    data["g"], data["h"] = data["level_0"] + data["g"], data["level_0"] + data["h"]
    fit = mb.fit_linear(mb.Study(data), "y", ["x"], fixed_effects=["g", "h"])
    assert fit.df_rest == 400 - 1 - 20 - (6 - 2)


def test_levels_with_one_row_tell_nothing_of_the_terms():
    data = panel()
    lone = data.iloc[:2].assign(g=["only", "alone"], y=[50.0, -70.0], x=[9.0, 900.0])
    bare = mb.fit_linear(mb.Study(data), "y", ["x", "z"], fixed_effects="g", errors="HC3")
    with pytest.warns(mb.MarkbaseWarning, match="2 levels of `g` have one row only"):
        fit = mb.fit_linear(mb.Study(pd.concat([data, lone], ignore_index=True)), "y", ["x", "z"], fixed_effects="g", errors="HC3")
    assert fit.df_rest == bare.df_rest
    told, plainly = (f.coefficients[["estimate", "se"]].iloc[1:] for f in (fit, bare))
    np.testing.assert_allclose(told, plainly)


REFUSED = {
    "constant numeric column": (["z", "size"], "g", "`size` does not vary within the levels of `g`"),
    "constant group": (["z", "region"], "g", "`region` does not vary within the levels of `g`"),
    "with a number": (["z", "size", mb.interaction("z", "size")], "g", "enter the product of `z` and `size` in place"),
    "with a group": ([mb.interaction("z", "region")], "g", r"`z` and `region` \(the group as 0 and 1\) in place"),
    "with a level": ([mb.interaction("z", "kind")], "g", "cluster the errors by `g`.$"),
    "levels together": (["cell"], "g", "some levels of `cell` together do not vary once"),
    "one level apart": (["z", "kind"], "g", "`k2` of `kind` does not vary within"),
    "total": (["x", "z", "sum"], "g", r"`sum` equals `x` \+ `z` once the levels of `g` are taken out"),
    "a term": (["z", "g"], "g", "The levels of `g` cannot be fixed effects and in the model as well"),
    "a numeric column": (["z"], "x", "`x` is numeric"),
    "three": (["z"], ["g", "h", "team"], "of one column, or of two"),
    "a row each": (["z"], "row", "a level of its own for every row"),
}


@pytest.mark.parametrize("case", REFUSED)
def test_what_cannot_be_told_within_levels_is_named(case):
    data = panel()
    number = data["g"].str[1:].astype(int)
    data["size"], data["region"] = np.sqrt(number), np.where(number % 3, "east", "west")
    data["sum"], data["row"] = data["x"] + data["z"] + number, np.arange(len(data)).astype(str)
    data["cell"] = data["region"] + np.where(data["z"] > 0, "0", "1")
    data["kind"] = np.where(number < 8, "k2", np.where(data["z"] > 0, "k0", "k1"))
    terms, within, message = REFUSED[case]
    with pytest.raises(mb.MarkbaseError, match=message):
        mb.fit_linear(mb.Study(data).as_categorical("row"), "y", terms, fixed_effects=within)


def test_combinations_alone_tell_an_interaction_with_what_is_constant_within_levels():
    data = panel().assign(region=lambda d: np.where(d["g"].str[1:].astype(int) % 3, "east", "west"))
    study = mb.Study(data).mark("h", "h0").mark("region", "east")
    with pytest.raises(mb.FitError, match="merge all its combinations with a base of either into one level"):
        mb.fit_linear(study, "y", ["x", mb.interaction("h", "region")], fixed_effects="g")
    cells = study.combine_groups(["h", "region"], name="cell")
    labels = cells.levels("cell")["level"]
    plain = [label for label in labels if label.startswith("h0") or label.endswith("east")]
    cells = cells.merge_levels("cell", {"others": plain}).mark("cell", "others")
    fit = mb.fit_linear(cells, "y", ["x", "h", "cell"], fixed_effects="g", cluster="g")
    now = [(data["h"] == h) & (data["region"] == "west") for h in ("h1", "h2", "h3", "h4", "h5")]
    levels = [data[c] == k for c in ("g", "h") for k in sorted(data[c].unique())[c == "h" :]]
    X = np.column_stack([data["x"], *now, *levels]).astype(float)
    wanted = np.linalg.lstsq(X, data["y"], rcond=None)[0]
    told = fit.coefficients.query("term == 'cell' and not base")["estimate"]
    np.testing.assert_allclose(told, wanted[1:6], rtol=1e-9)


def test_an_outcome_without_variation_within_levels_is_refused():
    data = panel().assign(y=lambda d: d["g"].str[1:].astype(float))
    with pytest.raises(mb.FitError, match="`y` has one value within each level of `g`"):
        mb.fit_linear(mb.Study(data), "y", ["x"], fixed_effects="g")


def test_an_outcome_of_percents_looked_back_on_is_told_in_points_and_with_its_caution():
    study = mb.read_plan(mb.demo.path("choir_terms.plan.toml")).open()
    fit = mb.fit_linear(study, "attendance", ["attendance_before", "concerts"], fixed_effects="choir")
    told = " ".join(str(fit.reading()).split())
    assert "percentage points higher" in told
    assert "Per further percentage point (attendance_before)" in told
    assert "starts from 34.1 percent of attendance" in told
    assert "Nickell 1981" in told
    assert fit.coefficients["estimate"][1] < 0.6  # which is what the rows were made with
    assert "Within them the terms explain 30.5%" in " ".join(str(fit.guide()).split())
    assert "Nickell" not in str(mb.fit_linear(study, "attendance", ["attendance_before"]).reading())


@pytest.mark.parametrize("within", ["g", ["g", "h"]], ids=["one", "two"])
@pytest.mark.parametrize("setting", ["classical", "sampling weights", "frequencies"])
def test_checks_are_those_of_all_indicators_and_inflation_is_that_of_the_deviations(within, setting):
    frame, names = panel(), [within] if isinstance(within, str) else within
    study = mb.Study(frame)
    terms = ["x", "z", "part"]
    fit = mb.fit_linear(study, "y", terms, fixed_effects=within, **SETTINGS[setting])
    wide = mb.fit_linear(study, "y", [*terms, *names], **SETTINGS[setting])
    checks, listed = fit.checks(most=30), wide.checks(most=30)
    assert (checks.cases.iloc[:, 0] == listed.cases.iloc[:, 0]).all()
    for column in ("fitted", "residual", "leverage", "influence"):
        np.testing.assert_allclose(checks.cases[column], listed.cases[column], rtol=1e-7)
    bends = listed.lines["statistic"].iloc[: len(checks.lines)]
    np.testing.assert_allclose(checks.lines["statistic"], bends, rtol=1e-7)
    assert (checks.skew, checks.kurtosis) == pytest.approx((listed.skew, listed.kurtosis), rel=1e-9)
    spiked = mb.Study(frame.assign(x=frame["x"].where(frame.index != 3, 1e5)))  # a row that all but decides a slope
    ways = ((terms, {"fixed_effects": within}), ([*terms, *names], {}))
    tight = [mb.fit_linear(spiked, "y", t, **more, **SETTINGS[setting]).checks(most=1).cases for t, more in ways]
    np.testing.assert_allclose(*(own[["residual", "influence"]] for own in tight), rtol=1e-8)
    # a case moves what leaving its row out moves
    case = checks.cases.iloc[0]
    left = mb.Study(frame.drop(index=int(case.iloc[0][4:].replace(",", "")) - 1))
    if setting == "classical":
        other = mb.fit_linear(left, "y", terms, fixed_effects=within).coefficients
        own = fit.coefficients
        assert case["by"] == pytest.approx(max(((other["estimate"] - own["estimate"]) / own["se"])[1:].dropna(), key=abs), rel=1e-6)
    # brute force: deviations from the levels, and auxiliary regressions among them
    w = {"classical": np.ones(len(frame)), "sampling weights": frame["w"], "frequencies": frame["times"]}[setting]
    root = np.sqrt(np.asarray(w))[:, None]
    every = [(frame[n] == v).to_numpy(float) for n in names for v in frame[n].unique()]
    columns = {"x": frame["x"], "z": frame["z"], "a": frame["part"] == "a", "c": frame["part"] == "c"}
    X = np.column_stack([np.asarray(c, dtype=float) for c in columns.values()]) * root
    D = np.column_stack(every) * root
    X = X - D @ np.linalg.lstsq(D, X, rcond=None)[0]
    screen = mb.screen_fit(fit)
    vif = []
    for k in range(4):
        others = np.delete(X, k, axis=1)
        rest = X[:, k] - others @ np.linalg.lstsq(others, X[:, k], rcond=None)[0]
        vif.append((X[:, k] @ X[:, k]) / (rest @ rest))
    told = screen.vif.set_index(np.where(screen.vif["column"] == "", screen.vif["term"], screen.vif["column"]))["vif"]
    np.testing.assert_allclose([told[c] for c in columns], vif, rtol=1e-8)
    S = X.T @ X
    C = np.linalg.inv(S)
    gvif = np.linalg.det(S[2:, 2:]) * np.linalg.det(C[2:, 2:])
    assert screen.terms.set_index("term").loc["part", "gvif"] == pytest.approx(gvif, rel=1e-8)
    values = np.linalg.svd(X / np.linalg.norm(X, axis=0))[1]
    np.testing.assert_allclose(screen.conditions["index"], values[0] / values, rtol=1e-8)
    assert screen.prune(limit=1.0000001).steps["dropped"].iloc[0] in ("x", "z", "part")
    squares = ((frame["y"] - fit.fitted) ** 2).to_numpy()[:, None] * root
    squares = squares - D @ np.linalg.lstsq(D, squares, rcond=None)[0]
    left = squares - X @ np.linalg.lstsq(X, squares, rcond=None)[0]
    rows = frame["times"].sum() if setting == "frequencies" else len(frame)
    share = 1 - float((left**2).sum() / (squares**2).sum())
    wanted = (rows - frame[fit.fixed_effect_names[0]].nunique()) * share
    if setting == "sampling weights":  # a joint test of the scores
        u, m = X * squares, len(frame)
        T = u.sum(axis=0) @ np.linalg.solve(u.T @ u, u.sum(axis=0))
        wanted = T / (m - T) * (m - 4) / 4
    assert checks.spread_statistic == pytest.approx(wanted, rel=1e-7)


@pytest.mark.parametrize("sign", [1, -1])
@pytest.mark.parametrize("lagged", [False, True])
def test_serial_correlation_is_looked_at_within_units_and_said_for_what_it_is(sign, lagged):
    rng = np.random.default_rng(8)
    units, times = 60, 12
    e = rng.normal(size=(units, times))
    for t in range(1, times):
        e[:, t] += sign * 0.6 * e[:, t - 1]
    frame = pd.DataFrame({"unit": np.repeat([f"u{k:02d}" for k in range(units)], times), "t": np.tile(np.arange(times), units)})
    frame["x"], frame["y"] = rng.normal(size=len(frame)), e.ravel() + np.repeat(rng.normal(0, 3, units), times)
    study = mb.Study(frame.sample(frac=1, random_state=2).reset_index(drop=True))
    if lagged:
        study = study.lag("y", by=1, order="t", within="unit", name="before")
    terms = ["x", "before"] if lagged else ["x"]
    fit = mb.fit_linear(study, "y", terms, fixed_effects="unit")
    checks = fit.checks(order=study["t"])
    told = next(f for f in checks.findings if f.about == "order")
    if lagged:
        assert "does not hold" in told.meaning
        assert "lagged outcome" not in told.way_on
    else:
        assert ("alike" if sign > 0 else "alternate") in told.meaning


def test_blocks_with_levels_taken_out_tell_shares_of_the_variation_within_them():
    frame = pd.DataFrame(made_up(400, seed=5))
    frame["town"] = [f"t{k % 23}" for k in range(400)]
    frame["score"] += 6 * (frame["town"].str[1:].astype(int) % 5)
    study = mb.Study(frame).mark("voice", "alto")
    entry = mb.fit_blocks(study, "score", {"who": ["voice"], "where": ["km", "age"]}, fixed_effects="town")
    inside = frame[["score", "km", "age"]].assign(**{level: (frame["voice"] == level) * 1.0 for level in ("bass", "soprano", "tenor")})
    inside = inside - inside.groupby(frame["town"]).transform("mean")
    y, shares = inside["score"].to_numpy(), []
    for columns in (["bass", "soprano", "tenor"], ["bass", "soprano", "tenor", "km", "age"]):
        X = inside[columns].to_numpy()
        left = y - X @ np.linalg.lstsq(X, y, rcond=None)[0]
        shares.append(1 - left @ left / (y @ y))
    np.testing.assert_allclose(entry.steps["r2"], shares, rtol=1e-9)
    np.testing.assert_allclose(entry.steps["r2_change"], np.diff([0, *shares]), rtol=1e-8)
    rest = entry.steps["df_rest"].to_numpy()
    df = np.array([3, 5])
    np.testing.assert_allclose(entry.steps["r2_adjusted"], 1 - (1 - np.array(shares)) * (rest + df) / rest, rtol=1e-9)
    np.testing.assert_allclose(
        entry.steps["statistic"], entry.steps["f2"] * rest / entry.steps["df"], rtol=1e-9
    )  # f² is the F test's, so that both tell of the same share
    inside_ci = (entry.steps["change_low"] < entry.steps["r2_change"]) & (entry.steps["r2_change"] < entry.steps["change_high"])
    assert inside_ci.all()
    told = " ".join(str(entry).split())
    assert "of the variance of score within the levels of town in these rows (R² within" in told


@pytest.mark.parametrize("cluster", [None, "place"])
def test_levels_of_rows_that_are_not_used_count_for_nothing(cluster):
    rng = np.random.default_rng(8)
    frame = pd.DataFrame({"place": np.repeat([f"p{k:02d}" for k in range(40)], 6), "x": rng.normal(size=240)})
    frame["y"] = frame["x"] + rng.normal(size=240)
    frame.loc[frame["place"].isin(["p00", "p07", "p39"]), "y"] = np.nan
    whole, left = (mb.fit_linear(mb.Study(data), "y", ["x"], fixed_effects="place", cluster=cluster) for data in (frame, frame.dropna().reset_index(drop=True)))  # fmt: skip
    assert whole.df_rest == left.df_rest
    np.testing.assert_allclose(whole.coefficients[["se", "p"]], left.coefficients[["se", "p"]], rtol=1e-10)
    assert whole.strength.r2_adjusted == pytest.approx(left.strength.r2_adjusted, rel=1e-12)


@pytest.mark.parametrize("within", [["a", "b"], ["a"]], ids=len)
def test_the_inflation_of_a_group_within_levels_is_that_of_determinants(within):
    rng = np.random.default_rng(0)
    data = pd.DataFrame({name: rng.choice([f"{name}{k}" for k in range(size)], 400) for name, size in {"a": 12, "b": 3, "voice": 9}.items()})  # fmt: skip
    data["age"], data["y"] = rng.normal(size=400) + (data["voice"] == "voice2"), rng.normal(size=400)
    Z = pd.get_dummies(data[within], drop_first=True).assign(one=1).to_numpy(float)
    X = pd.get_dummies(data[["age", "voice"]], drop_first=True).to_numpy(float)
    X -= Z @ np.linalg.lstsq(Z, X, rcond=None)[0]
    whole, age, voice = (np.linalg.det(own.T @ own) for own in (X, X[:, :1], X[:, 1:]))
    found = mb.screen_fit(mb.fit_linear(data, "y", ["age", "voice"], fixed_effects=within)).terms["gvif"]
    np.testing.assert_allclose(found, age * voice / whole, rtol=1e-9)
