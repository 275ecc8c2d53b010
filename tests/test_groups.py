"""Reading the groups: means, pairs, other bases, slopes, predictions, held against refits and brute force."""

import math

import mpmath as mp
import numpy as np
import pandas as pd
import pytest
from scipy.special import expit, ndtr
from scipy.stats import chi, norm, studentized_range
from scipy.stats import t as t_distribution

import markbase as mb
from markbase.core.inference.distributions import p_of_t
from markbase.core.inference.joint_t import LargestOf
from markbase.core.inference.multiplicity import corrected, studentised_range_tail
from markbase.core.inference.shift_nodes import shift_nodes
from markbase.show.group_tables import pairs_section
from markbase.show.page import Page
from markbase.show.text import to_text
from yes_no import choir, study_of

pytestmark = pytest.mark.filterwarnings("ignore::markbase.MarkbaseWarning")
TERMS = ["voice", "day", "age", "km", mb.interaction("age", "voice")]
KINDS = {
    "linear": lambda study, terms=TERMS, **more: mb.fit_linear(study, "score", terms, **more),
    "logistic": lambda study, terms=TERMS, **more: mb.fit_logistic(study, "stays", terms, event="yes", **more),
}
SETTINGS = {"classical": {}, "HC3": {"errors": "HC3"}, "clustered": {"cluster": "team"}, "frequencies": {"weights": "times", "weights_are": "frequency"}, "sampling": {"weights": "times"}}  # fmt: skip


@pytest.mark.parametrize("kind", KINDS)
@pytest.mark.parametrize("setting", SETTINGS)
def test_another_base_told_is_the_refit_with_that_base(kind, setting):
    frame = choir(300)
    fit = KINDS[kind](study_of(frame), **SETTINGS[setting])
    for level in ("bass", "soprano"):
        told, refit = fit.rebase("voice", level), KINDS[kind](study_of(frame, level), **SETTINGS[setting])
        for column in ("estimate", "se", "p", "low", "high"):
            np.testing.assert_allclose(told.coefficients[column], refit.coefficients[column], rtol=1e-9, atol=1e-13)
        assert list(told.coefficients["base"]) == list(refit.coefficients["base"])
        assert told.strength == fit.strength
        gap = float(told.retold.rpartition("largest difference ")[2].rstrip(")"))
        assert gap < 1e-9
        assert "told again" in str(told)
        np.testing.assert_array_equal(told.fitted, fit.fitted)


@pytest.mark.parametrize("kind", KINDS)
@pytest.mark.parametrize("setting", SETTINGS)
def test_pairs_are_the_coefficients_of_refits(kind, setting):
    frame, terms = choir(300), ["voice", "day", "age", "km"]
    pairs = KINDS[kind](study_of(frame), terms, **SETTINGS[setting]).between("voice", "none")
    assert len(pairs) == 6
    for row in pairs.itertuples():
        table = KINDS[kind](study_of(frame, row.against), terms, **SETTINGS[setting]).coefficients
        wanted = table[(table["term"] == "voice") & (table["level"] == row.level)].iloc[0]
        np.testing.assert_allclose([row.difference, row.se, row.low, row.high, row.p], wanted[["estimate", "se", "low", "high", "p"]].astype(float), rtol=1e-9)  # fmt: skip


@pytest.mark.parametrize("kind", KINDS)
@pytest.mark.parametrize("setting", ["classical", "clustered"])
@pytest.mark.parametrize("correction", ["none", "holm", "bonferroni", "benjamini-hochberg"])
@pytest.mark.parametrize("small", [True, False])
def test_a_margin_is_held_against_two_one_sided_tests(kind, setting, correction, small):
    fit = KINDS[kind](study_of(choir(300)), ["voice", "age"], level=0.9, **SETTINGS[setting])
    plain = fit.between("voice", correction)
    bound = float(np.quantile(plain["difference"].abs(), 0.3 if small else 0.8) + (0 if small else plain["se"].max()))
    margin = bound if kind == "linear" else float(np.exp(bound))
    table = fit.between("voice", correction, margin=margin)
    pd.testing.assert_frame_equal(table[plain.columns], plain)
    dist = t_distribution(fit.df_rest) if np.isfinite(fit.df_rest) else norm
    d, se = table["difference"], table["se"]
    sides = np.maximum(dist.cdf((d - bound) / se), dist.sf((d + bound) / se))
    beyond = dist.sf((d.abs() - bound) / se) + dist.cdf((-d.abs() - bound) / se)
    for column, alone in (("p_smaller", sides), ("p_larger", beyond)):
        np.testing.assert_allclose(table[column], corrected(np.asarray(alone), correction), rtol=1e-10)
    half = dist.ppf(0.9) * se  # of level 0.9 the interval at 80%: 10% at either end
    np.testing.assert_allclose(table[["inner_low", "inner_high"]], np.column_stack([d - half, d + half]), rtol=1e-9)
    wanted = np.where(table["p_smaller"] < 0.1, "smaller", np.where(table["p_larger"] < 0.1, "larger", "open"))
    assert table["verdict"].tolist() == wanted.tolist()
    assert len(set(wanted)) > 1 or (kind, small) != ("linear", False)
    one, weights = table.iloc[0], {table["level"][0]: 1, table["against"][0]: -1}
    if correction == "none":
        nothing = fit.between("voice", "none", margin=1e-12 if kind == "linear" else 1 + 1e-12)
        np.testing.assert_allclose(nothing["p_larger"], plain["p"], rtol=1e-8)  # larger than nothing is different
        alone = fit.planned("voice", {"it": weights}, margin=margin)
        pd.testing.assert_series_equal(alone.iloc[0, 2:], one.iloc[2:], check_names=False)
    for none in (0, -1.0, np.inf, *([1.0] if kind == "logistic" else [])):
        with pytest.raises(mb.MarkbaseError, match="smallest difference that would matter"):
            fit.between("voice", margin=none)


@pytest.mark.parametrize("kind", KINDS)
@pytest.mark.parametrize("setting", SETTINGS)
@pytest.mark.parametrize("at", [None, {"age": 30.0}], ids=["as in the sample", "at 30"])
@pytest.mark.parametrize("terms", [TERMS, ["day", "voice", "age"]], ids=["interaction", "none"])
def test_adjusted_means_and_probabilities_are_averages_of_predictions(kind, setting, at, terms):
    frame = choir(300)
    fit = KINDS[kind](study_of(frame), terms, **SETTINGS[setting])
    table = fit.groups("voice", at=at).set_index("level")
    weights = frame["times"] if "weights" in SETTINGS[setting] else np.ones(len(frame))
    averages, slopes = {}, {}
    for level in table.index:
        people = frame.assign(voice=level, **(at or {}))
        averages[level], slopes[level] = _average_by_hand(fit, people, weights)
        what = "predicted" if kind == "linear" else "probability"
        assert table.loc[level, "adjusted"] == pytest.approx(averages[level], rel=1e-9)
        assert table.loc[level, "adjusted"] == pytest.approx(np.average(fit.predict(people)[what], weights=weights), rel=1e-9)
        mine = frame["voice"] == level
        outcome = frame["score"] if kind == "linear" else (frame["stays"] == "yes").astype(float)
        assert table.loc[level, "plain"] == pytest.approx(np.average(outcome[mine], weights=weights[mine]), rel=1e-12)
        assert table.loc[level, "n"] == (weights[mine].sum() if setting == "frequencies" else mine.sum())
    V = _covariance(fit)
    for level in table.index.drop("alto"):
        lean = slopes[level] - slopes["alto"]
        assert table.loc[level, "difference"] == pytest.approx(averages[level] - averages["alto"], rel=1e-8, abs=1e-12)
        assert table.loc[level, "se"] == pytest.approx(np.sqrt(lean @ V @ lean), rel=1e-6)


def _told(fit):
    return fit.coefficients[~fit.coefficients["base"]]


def _covariance(fit):
    return fit.covariance.to_numpy()[np.ix_(*[np.flatnonzero(~fit.coefficients["base"])] * 2)]


def _average_by_hand(fit, people, weights):
    """Average what the told coefficients give on columns laid out, and its derivative by them."""
    columns = []
    for row in _told(fit).itertuples():
        if row.term == "(intercept)":
            columns.append(np.ones(len(people)))
        elif row.term == "age × voice":
            columns.append(people["age"] * (people["voice"] == row.level))
        else:
            columns.append(people[row.term] == row.level if row.level else people[row.term])
    X = np.column_stack(columns).astype(float)
    value = X @ _told(fit)["estimate"].to_numpy()
    slope = np.ones(len(X))
    if isinstance(fit, mb.LogisticFit):
        value = 1 / (1 + np.exp(-value))
        slope = value * (1 - value)
    return np.average(value, weights=weights), np.average(X * slope[:, None], weights=weights, axis=0)


def test_marginal_effects_are_averages_of_small_changes():
    frame = choir(300)
    fit = KINDS["logistic"](study_of(frame))
    table = fit.marginal
    row = table[table["term"] == "age"].iloc[0]
    up, down = (fit.predict(frame.assign(age=frame["age"] + h))["probability"].mean() for h in (1e-5, -1e-5))
    assert row["effect"] == pytest.approx((up - down) / 2e-5, rel=1e-7)
    # its error, by moving every told coefficient a little and taking the same average
    table_of, names = _told(fit)["estimate"].to_numpy(), _told(fit)
    lean = []
    for k in range(len(names)):
        moved = [_slope_by_hand(names, table_of + h * np.eye(len(names))[k], frame) for h in (1e-6, -1e-6)]
        lean.append((moved[0] - moved[1]) / 2e-6)
    assert row["se"] == pytest.approx(np.sqrt(np.array(lean) @ _covariance(fit) @ np.array(lean)), rel=1e-5)


def _slope_by_hand(rows, b, frame):
    eta, slope = np.zeros(len(frame)), np.zeros(len(frame))
    for value, row in zip(b, rows.itertuples(), strict=True):
        mine = (frame["voice"] == row.level).to_numpy(float)
        if row.term == "(intercept)":
            eta += value
        elif row.term == "age × voice":
            eta += value * mine * frame["age"]
            slope += value * mine
        elif row.level:
            eta += value * (frame[row.term] == row.level)
        else:
            eta += value * frame[row.term]
            slope += value * (row.term == "age")
    p = 1 / (1 + np.exp(-eta))
    return np.mean(p * (1 - p) * slope)


@pytest.mark.parametrize("kind", KINDS)
def test_slopes_within_levels_and_lines_agree_with_other_bases_and_predictions(kind):
    frame = choir(300)
    fit = KINDS[kind](study_of(frame))
    slopes = fit.simple_slopes("age", by="voice").set_index("level")
    lines = dict(fit.equation(by="voice").lines)
    assert {line.bases for line in lines.values()} == {(("day", fit.variable("day", "categorical").base_label),)}
    for level in slopes.index:
        table = fit.rebase("voice", level).coefficients.set_index(["term", "level"])
        np.testing.assert_allclose(slopes.loc[level, ["slope", "se", "p"]].astype(float), table.loc[("age", ""), ["estimate", "se", "p"]].astype(float), rtol=1e-9)  # fmt: skip
        given = {"voice": level, "age": 50.0, "km": 3.0, "day": "Tue"}
        told = fit.predict(given).iloc[0]
        wanted = told["predicted"] if kind == "linear" else told["log_odds"]
        values = {"age": 50.0, "km": 3.0, "[day: Tue]": 1.0, "[day: Wed]": 0.0, "[day: Mon]": 0.0, "": 1.0}
        assert sum(p.estimate * values[p.factor] for p in lines[level].parts) == pytest.approx(wanted, rel=1e-10)
    assert fit.equation(by="voice").parallel.p == pytest.approx(fit.equal_slopes("age", by="voice").p, rel=1e-9)


def test_a_test_of_equal_slopes_that_robust_errors_overstate_is_told_as_that_of_the_interaction():
    said = []
    for seed in range(8):
        rng = np.random.default_rng(seed)
        table = pd.DataFrame({"x": rng.exponential(size=90), "g": rng.choice(list("abcdefgh"), 90)})
        table["y"] = rng.normal(size=90) * (1 + table["x"])
        lines = mb.fit_linear(table, "y", ["x", "g"], errors="HC3").equation(by="g")
        more = mb.fit_linear(table, "y", ["x", "g", mb.interaction("x", "g")], errors="HC3")
        here, page = lines.overstated, " ".join(str(more).split())
        assert here in page
        assert here == more.equation(by="g").overstated
        assert {"x × g HC3 errors" in page, "the test of equal slopes: HC3 errors" in " ".join(str(lines).split())} == {bool(here)}
        said.append(bool(here))
    assert len(set(said)) == 2


def test_parallel_lines_are_tested_by_the_model_with_all_slopes():
    study = study_of(choir(300))
    fit = mb.fit_linear(study, "score", ["voice", "age", "km"])
    more = mb.fit_linear(study, "score", ["voice", "age", "km", mb.interaction("age", "voice"), mb.interaction("km", "voice")])
    left, rest = fit.strength.residual_ss, more.strength.residual_ss
    assert fit.equation(by="voice").parallel.statistic == pytest.approx((left - rest) / 6 / (rest / more.df_rest), rel=1e-9)


def test_planned_comparisons_are_combinations_of_coefficients():
    fit = KINDS["linear"](study_of(choir(300)), ["voice", "age"])
    b = fit.coefficients.set_index("level")["estimate"]
    planned = fit.planned("voice", {"low": {"tenor": 0.5, "bass": 0.5, "alto": -1}, "one": {"bass": 1, "tenor": -1}}, "bonferroni")
    assert planned["difference"].tolist() == pytest.approx([(b["tenor"] + b["bass"]) / 2, b["bass"] - b["tenor"]])
    others = fit.planned("voice", ["tenor"]).iloc[0]
    assert others["difference"] == pytest.approx(b["tenor"] - (b["bass"] + b["soprano"]) / 3)
    assert others["against"] == "mean of others"
    for wrong, message in (
        ({"x": {"bass": 1, "alto": -2}}, "sum to 0"),
        ({"x": {"baritone": 1}}, "no level `baritone`"),
        (["bas"], "no level `bas`"),
    ):
        with pytest.raises(mb.MarkbaseError, match=message):
            fit.planned("voice", wrong)


def test_corrections_by_definition():
    p = np.array([0.04, 0.001, 0.02, 0.9])
    assert corrected(p, "holm") == pytest.approx([0.08, 0.004, 0.06, 0.9])
    assert corrected(p, "bonferroni") == pytest.approx([0.16, 0.004, 0.08, 1.0])
    for seed in range(20):  # the false discovery rate: of all thresholds from p on, the smallest share of the tests that chance would put below
        p = np.random.default_rng(seed).beta(0.4, 1, 9).round(2)
        p[seed % 3 :: 4] = np.nan if seed % 2 else p[0]
        m, found = np.count_nonzero(~np.isnan(p)), corrected(p, "benjamini-hochberg")
        wanted = [min(t * m / np.count_nonzero(p <= t) for t in p[p >= own]) if own == own else np.nan for own in p]
        assert found == pytest.approx(wanted, rel=1e-12, nan_ok=True)
    for q, levels, df in ((3.5, 3, 12), (2.0, 5, 40), (5.2, 4, 300), (1.1, 2, 3)):
        assert studentised_range_tail(q, levels, df) == pytest.approx(studentized_range.sf(q, levels, df), rel=1e-8)
    t = 2.2  # two levels: the range is √2 |t|
    two = 2 * mp.betainc(mp.mpf(15) / 2, mp.mpf(1) / 2, 0, 15 / (15 + mp.mpf(t) ** 2), regularized=True) / 2
    assert studentised_range_tail(np.sqrt(2) * t, 2, 15) == pytest.approx(float(two), rel=1e-10)
    fit = KINDS["linear"](study_of(choir(300)), ["voice", "age"])
    tukey = fit.between("voice", "tukey")
    assert ((tukey["low"] > 0) | (tukey["high"] < 0)).tolist() == (tukey["p_corrected"] < 0.05).tolist()
    with pytest.raises(mb.MarkbaseError, match="Tukey-Kramer rests on one variance"):
        KINDS["logistic"](study_of(choir(300)), ["voice", "age"]).between("voice", "tukey")


PROFILES = {
    "an unseen level": ({"voice": "baritone"}, "no level `baritone`"),
    "no such column": ({"voise": "bass"}, "The model has no column `voise`"),
    "no number": ({"age": "old"}, "`age` is numeric, and 'old' is no number"),
    "a gap": ({"age": float("nan")}, "`age` is blank in a profile"),
    "a gap of pandas": ({"voice": pd.NA}, "`voice` is blank in a profile"),
    "none": ([], "at least one profile"),
    "the second of two": ([{"voice": "bass"}, {"voice": "baritone"}], "^Profile 2: .*no level `baritone`"),
    "a text": ("bass", "Predictions are for profiles or for the rows of a table, not for 'bass'"),
    "a number": (5, "Predictions are for profiles or for the rows of a table, not for 5"),
}


@pytest.mark.parametrize("case", PROFILES)
def test_profiles_that_cannot_be_predicted_are_refused(case):
    profile, message = PROFILES[case]
    with pytest.raises(mb.MarkbaseError, match=message):
        KINDS["linear"](study_of(choir(300))).predict(profile)


def test_profiles_outside_the_data_are_remarked():
    frame = choir(300)
    frame.loc[(frame["voice"] == "tenor") & (frame["day"] == "Wed"), "day"] = "Tue"
    fit = KINDS["linear"](study_of(frame), ["voice", "day", "age"])
    with pytest.warns(mb.MarkbaseWarning, match="2 profiles lie outside the data"):
        table = fit.predict([{"voice": "tenor", "day": "Wed"}, {"age": 200}, {"age": 50}])
    assert table["caution"].tolist()[0] == "no row used has `voice` `tenor` and `day` `Wed` together"
    assert "`age` = 200 lies outside the rows used" in table["caution"][1]
    assert table["caution"][2] == ""


@pytest.mark.filterwarnings("ignore::markbase.MarkbaseWarning")
@pytest.mark.parametrize("kind", ["linear", "logistic"])
def test_a_model_whose_interaction_lacks_a_combination_is_printed_reported_and_drawn(kind, tmp_path):
    rng = np.random.default_rng(1)
    frame = pd.DataFrame({"g": rng.choice(list("abc"), 900), "h": rng.choice(list("xyz"), 900)})
    frame["u"] = rng.normal(size=900)
    frame = frame[(frame["g"] != "a") | (frame["h"] != "z")]
    study = mb.Study(frame.assign(s=rng.normal(size=len(frame)), y=np.where(rng.random(len(frame)) < 0.4, "yes", "no")))
    terms = [mb.interaction("g", "h"), "u"]
    fit = mb.fit_linear(study, "s", terms) if kind == "linear" else mb.fit_logistic(study, "y", terms, event="yes")
    assert "of g × h cannot be estimated" in (said := " ".join(str(fit).split()))
    assert "g categorical, h categorical, u numeric: no codebook says so" in said
    assert "combinations of levels that no row has" in " ".join(str(fit.guide()).split())
    mb.report(fit, tmp_path / "r.html")
    assert "has combinations of levels that no row has, so the levels of <b>g</b>" in (tmp_path / "r.html").read_text()
    label = mb.draw_coefficients(fit).get_yticklabels()[0].get_text()
    assert label.split() == "g (not averaged: empty combinations)".split()
    with pytest.raises(mb.FitError, match="merge levels"):
        fit.groups("g")
    if kind == "logistic":
        g, base = fit.marginal.query("term == 'g'"), fit.variable("g", "categorical").base_label
        assert (g["effect"].isna().all(), *g.query("base")["level"]) == (True, base)
        assert "not averaged: empty combinations" in str(fit)


def _largest(loadings, width, df):
    """Return the tail of the largest of t statistics that go together by two shared values, by quadrature over these and the standard error."""
    x, weight = (9 * v for v in np.polynomial.legendre.leggauss(100))
    s, f = np.array([1.0]), np.array([1.0])
    if np.isfinite(df):
        s = np.linspace(0, 1 + 9 / np.sqrt(df), 71)[1:]
        f = chi(df, scale=1 / np.sqrt(df)).pdf(s)
    shared, own = loadings @ np.stack(np.meshgrid(x, x)).reshape(2, -1), np.sqrt(1 - (loadings**2).sum(axis=1))
    weights = np.multiply.outer(weight * norm.pdf(x), weight * norm.pdf(x)).ravel()
    inside = [ndtr((w - shared.T) / own) - ndtr((-w - shared.T) / own) for w in width * s]
    return 1 - f @ [weights @ some.prod(axis=1) for some in inside] / f.sum()


def test_the_largest_of_several_statistics_is_that_of_tables_and_of_quadrature():
    tabled = {10: (2.23, 2.57, 2.76, 2.89, 2.99), 20: (2.09, 2.38, 2.54, 2.65, 2.73), math.inf: (1.96, 2.21, 2.35, 2.44, 2.51)}
    for df, wanted in tabled.items():  # Dunnett's, of equal numbers, at .05
        for m, value in enumerate(wanted, 1):
            assert LargestOf((np.eye(m) + 1) / 2, df).quantile(0.05) == pytest.approx(value, abs=0.0051)
    first, second = [0.9, 0.6, 0.3, 0.7, 0.5, 0.2, 0.6], [0.3, -0.5, 0.6, 0.6, 0.0, -0.7, 0.5]
    for m, off, near in ((3, 0, 2e-9), (3, 1, 1e-7), (4, 1, 1e-7), (5, 1, 5e-6), (7, 1, 3e-5)):
        loadings = np.column_stack([first[:m], off * np.array(second[:m])])
        correlation = loadings @ loadings.T
        np.fill_diagonal(correlation, 1.0)
        for width, df in ((0.7, math.inf), (2.1, math.inf), (3.3, 40.0), (2.4, 12.0)):
            assert LargestOf(correlation, df).tail(width) == pytest.approx(_largest(loadings, width, df), abs=near)
    steep = np.array([[1.0, 0.9999], [0.9999, 1.0]])  # a small base: its error is all there is
    assert float(p_of_t(2.0, 30)) < LargestOf(steep, 30).tail(2.0) < 1.02 * float(p_of_t(2.0, 30))


@pytest.mark.parametrize("options", [{}, {"errors": "HC3"}, {"cluster": "team"}], ids="-".join)
@pytest.mark.parametrize("kind", KINDS)
def test_comparisons_with_one_level_are_corrected_for_one_another_and_no_more(kind, options):
    fit = KINDS[kind](study_of(choir(300)), ["voice", "age", mb.interaction("voice", "age")], **options)
    table, plain = fit.between("voice", "dunnett"), fit.between("voice", "none", against="alto")
    assert table["against"].tolist() == ["alto"] * 3
    assert (plain["p"] <= table["p_corrected"]).all()
    assert (table["p_corrected"] <= fit.between("voice", "bonferroni", against="alto")["p_corrected"]).all()
    assert ((table["low"] > 0) | (table["high"] < 0)).tolist() == (table["p_corrected"] < 0.05).tolist()
    told = fit.rebase("voice", "tenor").between("voice", "dunnett")
    pd.testing.assert_frame_equal(told, fit.between("voice", "dunnett", against="tenor"), rtol=1e-7)
    bare = KINDS[kind](study_of(choir(300)), ["voice", "age"], **options)
    told, among = bare.between("voice", "dunnett"), ["voice: " + level for level in table["level"]]
    own = bare.covariance.loc[among, among].to_numpy()
    largest = LargestOf(own / np.sqrt(np.outer(np.diag(own), np.diag(own))), bare.df_rest)
    wanted = [largest.tail(abs(t)) for t in told["difference"] / told["se"]]
    np.testing.assert_allclose(told["p_corrected"], wanted, rtol=1e-7)


@pytest.mark.parametrize("options", [{}, {"errors": "HC3"}], ids=["classical", "robust"])
@pytest.mark.parametrize("kind", KINDS)
def test_the_clearest_of_all_comparisons_is_after_scheffe_as_clear_as_the_joint_test(kind, options):
    fit = KINDS[kind](study_of(choir(300)), ["voice", "age"], **options)
    own = fit.coefficients.loc[lambda t: (t["term"] == "voice") & ~t["base"]]
    among = "voice: " + own["level"]
    clearest = np.linalg.solve(fit.covariance.loc[among, among], own["estimate"])
    weights = dict(zip(own["level"], clearest, strict=True)) | {"alto": -clearest.sum()}
    row = fit.planned("voice", {"clearest": weights}, "scheffe").iloc[0]
    assert row["p_corrected"] == pytest.approx(fit.group_test("voice").p, rel=1e-7)
    columns = np.eye(fit.inner.solution.factor.shape[0])
    two = columns[:2] + columns[1:3]
    told, wanted = (fit.inner.joint(rows) for rows in (np.vstack([two, two.sum(axis=0)]), two))  # one that adds nothing
    assert (told.df, told.statistic) == (2, pytest.approx(wanted.statistic, rel=1e-9))
    level = 1 - row["p_corrected"]  # at which its interval ends at no difference
    at_it = KINDS[kind](study_of(choir(300)), ["voice", "age"], level=level, **options)
    edge = at_it.planned("voice", {"clearest": weights}, "scheffe").iloc[0]
    assert min(abs(edge["low"]), abs(edge["high"])) < 1e-5 * abs(edge["difference"])


def test_a_correction_that_does_not_suit_the_comparisons_is_refused():
    fit, four = KINDS["linear"](study_of(choir(300)), ["voice", "age"]), choir(300).assign(place=[f"p{k % 4}" for k in range(300)])
    few = mb.fit_linear(study_of(four), fit.outcome.name, ["voice"], cluster="place")
    for ask, told in (
        (lambda: few.between("voice", "scheffe"), "of all 4 levels: 4 clusters cannot carry a joint test of 3 coefficients. Use `holm`"),
        (lambda: fit.between("voice", "tukey", against="bass"), "Tukey-Kramer is for all pairs; .* take `dunnett`"),
        (lambda: fit.between("voice", against="bas"), "no level `bas`. Did you mean `bass`"),
        (lambda: fit.planned("voice", ["bass"], "dunnett"), "Dunnett's is for comparisons with one level; planned"),
        (lambda: fit.between_grid("voice", "dunnett"), "a grid has every pair: use `holm`"),
        (lambda: fit.between("voice", "sidak"), "`dunnett`, `holm`, `none`, `scheffe` and `tukey`"),
    ):
        with pytest.raises(mb.MarkbaseError, match=told):
            ask()


@pytest.mark.parametrize(("levels", "spread", "start"), [(40, 0.3, 0.0), (60, 0.9, -3.0)])
def test_averages_at_many_levels_keep_all_digits_though_taken_at_few_places(levels, spread, start):
    rng = np.random.default_rng(levels)
    choirs, age = rng.permutation(np.repeat(np.arange(levels), 150)), rng.normal(size=150 * levels)
    odds = start + 2 * age + rng.normal(scale=spread, size=levels)[choirs]
    frame = pd.DataFrame({"voice": [f"c{k:02}" for k in choirs], "age": age})
    frame["sings"] = rng.random(len(age)) < expit(odds)
    fit = mb.fit_logistic(frame, "sings", ["age", "voice"], event=True)
    table = fit.groups("voice").set_index("level")
    found = [_average_by_hand(fit, frame.assign(voice=level), np.ones(len(frame))) for level in table.index]
    np.testing.assert_allclose(table["adjusted"], [value for value, _ in found], rtol=1e-12)
    slopes = np.array([slope for _, slope in found])
    lean = slopes - slopes[table["base"].to_numpy()]
    wanted = np.sqrt(np.einsum("ij,jk,ik->i", lean, _covariance(fit), lean))
    np.testing.assert_allclose(table["se"], wanted, rtol=1e-9, atol=1e-15)


@pytest.mark.parametrize("span", [0.0, 0.1, 3.0, 16.0])
@pytest.mark.parametrize("middle", [-30.0, 0.0, 5.0])
def test_sums_at_all_shifts_follow_from_those_at_few(span, middle):
    rng = np.random.default_rng(3)
    odds, shifts = rng.normal(middle, 4, 50), rng.uniform(-span / 2, span / 2, 400)
    nodes, shares = shift_nodes(shifts)
    assert len(nodes) < (50 if span < 4 else 300)
    for power in (0, 1):  # p, and p(1 - p)
        at = [(expit(odds + s) * expit(-odds - s) ** power).sum() for s in (*nodes, *shifts)]
        np.testing.assert_allclose(shares @ at[: len(nodes)], at[len(nodes) :], rtol=1e-13)


@pytest.mark.parametrize("limit", ["_MOST_WORK", "_MOST_PROFILED"])
def test_where_a_penalised_likelihood_would_take_long_pairs_are_walds_and_that_is_said(limit, monkeypatch):
    fit = mb.fit_logistic(mb.demo.choirs().sample(300, seed=2), "stays", ["rehearsal_day", "age"], event="yes", penalty="firth")
    profiled = fit.between("rehearsal_day")["p"]
    monkeypatch.setattr(f"markbase.core.results.logistic.{limit}", 1)
    table = fit.between("rehearsal_day")
    assert table["p"].tolist() == pytest.approx((2 * ndtr(-table["z"].abs())).tolist(), rel=1e-12)
    assert not np.allclose(table["p"], profiled, rtol=1e-3)
    assert "of so many comparisons are Wald's: by" in to_text(Page("pairs", "", (pairs_section(fit, "rehearsal_day"),)))
