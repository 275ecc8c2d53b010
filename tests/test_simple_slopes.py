"""Simple slopes: how steep a numeric column is at chosen values, within levels, in probability, and where it is clear."""

import numpy as np
import pandas as pd
import pytest
from scipy.stats import norm

import markbase as mb
from markbase.show.slope_tables import slopes_section
from reference import made_up
from yes_no import either


def test_a_slope_is_told_at_a_level_as_at_its_share_and_at_nothing_else():
    study = mb.Study(pd.DataFrame(made_up(200, seed=9))).mark("voice", "alto")
    fit = mb.fit_linear(study, "score", ["age", "voice", mb.interaction("age", "voice")])
    table = fit.simple_slopes("age", by="voice").set_index("level")
    for level, shares in zip(table.index, np.eye(4), strict=True):
        for held in (level, shares):
            assert fit.slope_at("age", {"voice": held}) == pytest.approx(tuple(table.loc[level, ["slope", "se"]]))
    for numeric, at, told in (
        ("age", {"voice": "tenr"}, "no level `tenr` in the rows used. Did you mean `tenor`"),
        ("age", {"voice": 3}, "at one of its levels, or at the shares of all 4, not at 3"),
        ("age", {"km": "far"}, "at a number, not at 'far'"),
        ("kilometres", {}, "no numeric column `kilometres`"),
    ):
        with pytest.raises(mb.MarkbaseError, match=told):
            fit.slope_at(numeric, at)


def test_what_moderates_is_probed_and_regions_end_where_the_interval_touches_zero():
    frame = pd.DataFrame(made_up(300, seed=4))
    frame["score"] += 0.02 * frame["age"] * frame["km"]
    study = mb.Study(frame).mark("voice", "alto")
    fit = mb.fit_linear(study, "score", ["age", "km", "voice", mb.interaction("age", "km")])
    table = fit.coefficients.set_index(["term", "level"])["estimate"]
    slopes = fit.simple_slopes("age", by="km", at={"km": [2, 8]})
    np.testing.assert_allclose(slopes["slope"], table["age", ""] + np.array([2, 8]) * table["age × km", ""], rtol=1e-9)
    region = fit.clear_region("age", "km")
    assert region["rows"].sum() == 300
    for edge in region["to"].iloc[:-1]:
        slope, se = fit.slope_at("age", {"km": edge})
        assert abs(slope) / se == pytest.approx(1.968, abs=0.003)
    with pytest.warns(mb.MarkbaseWarning, match="lies outside the rows used"):
        fit.simple_slopes("age", by="km", at={"km": 1000})
    with pytest.raises(mb.FitError, match="Nothing in the model lets the slope of `age` differ by `voice`"):
        fit.simple_slopes("age", by="voice")
    logistic = mb.fit_logistic(mb.Study(frame.assign(high=frame["score"] > frame["score"].median())), "high", ["age", "km", mb.interaction("age", "km")], event="True")  # fmt: skip
    row = logistic.simple_slopes("age", by="km", at={"km": 5}).iloc[0]
    by_hand = [logistic.predict({"km": 5, "age": a})["probability"].iloc[0] for a in (44.999, 45.001)]
    at_45 = logistic.simple_slopes("age", by="km", at={"km": 5, "age": 45}).iloc[0]
    assert at_45["probability_slope"] == pytest.approx((by_hand[1] - by_hand[0]) / 0.002, rel=1e-5)
    assert row["odds_ratio"] == pytest.approx(np.exp(row["slope"]))
    people = frame.assign(high=frame["score"] > frame["score"].median(), two=np.arange(len(frame)) % 2 * 3.0)
    two = mb.fit_logistic(people, "high", ["two", "km", mb.interaction("two", "km")], event=True)
    ends = [two.predict(people.assign(km=5, two=value))["probability"].mean() for value in (0.0, 3.0)]
    told = two.simple_slopes("two", by="km", at={"km": 5})["probability_slope"]
    assert told.tolist() == pytest.approx([(ends[1] - ends[0]) / 3])


@pytest.mark.parametrize("at", [{"km": [4]}, {"km": [2, 9], "age": [30]}])
def test_slopes_in_probability_differ_by_averages_and_errors_taken_by_hand(at):
    frame, rng = pd.DataFrame(made_up(300, seed=4)), np.random.default_rng(3)
    frame["w"] = rng.integers(1, 4, 300)
    frame["high"] = np.where(frame["score"] + rng.normal(0, 9, 300) > 38, "y", "n")
    terms = ["age", "day", "km", mb.interaction("age", "day")]
    study = mb.Study(frame).mark("day", "Mon")
    fit = mb.fit_logistic(study, "high", terms, event="y", weights="w", weights_are="frequency")
    known = ~fit.coefficients["base"].to_numpy()
    told, V = fit.coefficients[known], fit.covariance.to_numpy()[np.ix_(known, known)]
    place = {(r.term, r.level): k for k, r in enumerate(told.itertuples())}

    def more(b, row):
        steep = {}
        for level in ("Mon", row["level"]):
            day, own = (b[place[term, level]] if level != "Mon" else 0.0 for term in ("day", "age × day"))
            slope = b[place["age", ""]] + own
            start, km = b[place["(intercept)", ""]], b[place["km", ""]]
            eta = start + day + slope * row.get("age", frame["age"]) + km * row["km"] + 0 * frame["age"]
            steep[level] = slope * np.average(np.exp(eta) / (1 + np.exp(eta)) ** 2, weights=frame["w"])
        return steep[row["level"]] - steep["Mon"]

    b, step = told["estimate"].to_numpy(), 1e-6 * np.eye(len(told))
    for row in fit.simple_slopes("age", by="day", at=at).query("not base").to_dict("records"):
        lean = np.array([more(b + h, row) - more(b - h, row) for h in step]) / 2e-6
        found, se = row["probability_difference"], np.sqrt(lean @ V @ lean)
        assert found == pytest.approx(more(b, row), rel=1e-9)
        assert row["probability_difference_high"] - found == pytest.approx(1.959964 * se, rel=1e-5)
        assert row["probability_difference_low"] + row["probability_difference_high"] == pytest.approx(2 * found)
        assert row["probability_difference_p"] == pytest.approx(2 * norm.sf(abs(found) / se), rel=1e-4)


@pytest.mark.filterwarnings("ignore::markbase.MarkbaseWarning")
@pytest.mark.parametrize(("seed", "apart"), [(9, "d"), (34, "c"), (1, "")])
def test_intervals_of_slopes_in_probability_are_told_as_too_narrow_where_rows_are_few_or_log_odds_say_otherwise(seed, apart):
    rng = np.random.default_rng(seed)
    frame = pd.DataFrame({"g": np.repeat(list("abcd"), [80, 40, 30, 20]), "x": rng.normal(size=170)})
    frame["e"] = np.where(rng.random(170) < 0.4, "yes", "no")
    fit = mb.fit_logistic(mb.Study(frame), "e", ["g", "x", mb.interaction("g", "x")], event="yes")
    table = fit.simple_slopes("x", by="g")
    outside = (table["probability_low"] > 0) | (table["probability_high"] < 0)
    assert "".join(table["level"][outside & (table["p"] >= 0.05)]) == apart
    told = [words for label, words in slopes_section(fit, "x", "g", None).blocks[1].pairs if label == "mind"]
    assert told[0].startswith("g d (20 rows): of so few rows intervals in probability")
    assert [words[:3] for words in told if "clear in probability and not in log odds" in words] == [f"g {apart}"] * bool(apart)


def test_a_published_probing_is_rebuilt_from_its_summary():
    """Aiken & West (1991), ch. 2: 400 cases, centred; Y = 2.54 + 1.14 X + 3.58 Z + 2.58 XZ, sd of Z 2.20."""
    rng = np.random.default_rng(0)
    draws = np.linalg.qr(np.column_stack([np.ones(400), rng.normal(size=(400, 2))]))[0][:, 1:] * np.sqrt(399)
    x, z = draws[:, 0] * 0.95, draws[:, 1] * 2.20
    X = np.column_stack([np.ones(400), x, z, x * z])
    noise = rng.normal(0, 20, 400)
    y = X @ [2.54, 1.14, 3.58, 2.58] + noise - X @ np.linalg.lstsq(X, noise, rcond=None)[0]
    fit = mb.fit_linear(mb.Study(pd.DataFrame({"x": x, "z": z, "y": y})), "y", ["x", "z", mb.interaction("x", "z")])
    table = fit.simple_slopes("x", by="z", at={"z": [-2.20, 0.0, 2.20]})
    np.testing.assert_allclose(table["slope"], [-4.54, 1.14, 6.81], atol=0.0101)  # as printed, of two decimals
    np.testing.assert_allclose(table["slope"], 1.14 + 2.58 * table["z"], rtol=1e-9)
    V = np.linalg.inv(X.T @ X) * ((y - fit.fitted) ** 2).sum() / 396
    se = np.sqrt(V[1, 1] + 2 * table["z"] * V[1, 3] + table["z"] ** 2 * V[3, 3])  # their eq. 2.3
    np.testing.assert_allclose(table["se"], se, rtol=1e-9)
    axes = mb.draw_slopes(fit, "x", by="z")
    edges = fit.clear_region("x", "z")
    drawn = [line.get_xdata()[0] for line in axes.get_lines() if line.get_linestyle() == ":"]
    np.testing.assert_allclose(sorted(drawn), edges["to"].iloc[:-1], rtol=1e-12)
    band = axes.collections[0].get_paths()[0].vertices
    np.testing.assert_allclose([band[:, 0].min(), band[:, 0].max()], [z.min(), z.max()], rtol=1e-6)


@pytest.mark.parametrize("kind", ["linear", "logistic"])
def test_a_slope_over_all_groups_is_their_average_by_weight(kind):
    frame = pd.concat([pd.DataFrame(made_up())] * 3, ignore_index=True)
    frame["w"] = np.random.default_rng(5).gamma(2, 1, len(frame)) + (frame["voice"] == "bass")
    frame["up"] = np.where(frame["score"] > frame["score"].median(), "yes", "no")
    study, terms = mb.Study(frame).mark("voice", "alto"), ["age", "voice", mb.interaction("age", "voice")]
    if kind == "linear":
        fit = mb.fit_linear(study, "score", terms, weights="w", weights_are="sampling")
    else:
        fit = mb.fit_logistic(study, "up", terms, event="yes", weights="w", weights_are="sampling")
    each = fit.simple_slopes("age", by="voice").set_index("level")["slope"]
    shares = frame.groupby("voice")["w"].sum() / frame["w"].sum()
    assert fit.simple_slopes("age")["slope"].iloc[0] == pytest.approx(float((each * shares).sum()), rel=1e-9)
    unweighted = float((each * frame["voice"].value_counts(normalize=True)).sum())
    assert float((each * shares).sum()) != pytest.approx(unweighted)


def test_a_moderator_of_two_values_is_held_at_both_and_at_nothing_between():
    rng = np.random.default_rng(4)
    frame = pd.DataFrame({"x": rng.normal(size=90), "on": np.arange(90) % 3 // 2, "y": rng.normal(size=90)})
    fit = mb.fit_linear(frame, "y", ["x", "on", mb.interaction("x", "on")])
    told = fit.simple_slopes("x", by="on")
    assert told["on"].tolist() == [0, 1]
    skewed = frame.assign(on=np.where(frame["on"] == 1, np.exp(3 * frame["x"]), 0.0))
    said = {}
    for name, table in {"both": frame, "above": skewed}.items():
        made = mb.fit_linear(table, "y", ["x", "on", mb.interaction("x", "on")])
        said[name] = slopes_section(made, "x", "on", None).note
    assert "on at both its values;" in said["both"]
    assert "on at its mean and a standard deviation above, inside the rows;" in said["above"]
    each = [np.polyfit(own["x"], own["y"], 1)[0] for _, own in frame.groupby("on")]
    np.testing.assert_allclose(told["slope"], each, rtol=1e-9)


@pytest.mark.filterwarnings("ignore::markbase.MarkbaseWarning")
@pytest.mark.parametrize("kind", ["linear", "logistic"])
@pytest.mark.parametrize("steeper", [0.0, 0.35])
def test_slopes_side_by_side_come_with_the_test_of_whether_they_differ(kind, steeper, tmp_path):
    frame, noise = pd.DataFrame(made_up(300, seed=5)), np.random.default_rng(1).normal(0, 9, 300)
    score = 0.1 * frame["age"] + steeper * (frame["age"] - 45) * (frame["day"] == "Tue") + noise
    frame["score"], frame["high"] = score, np.where(score > score.median(), "y", "n")
    pair = mb.interaction("age", "day")
    fit = either(kind, mb.Study(frame), ["age", "day", "km", pair], ("high", "y"))
    test = fit.terms.set_index("term").loc["age × day"]
    mb.write_fit(fit, tmp_path / "fit.json")
    for made in (fit, mb.read_fit(tmp_path / "fit.json")):
        told = dict(slopes_section(made, "age", "day", None).blocks[1].pairs)["do they differ by day"]
        assert f") = {test['statistic']:.2f}, p " in told
        assert told.endswith(": they do" if test["p"] < 0.05 else ": no clear evidence that they do")
        assert (test["p"] < 0.05) == bool(steeper)
    crossed = mb.interaction("age", "day", "voice")
    made = either(kind, mb.Study(frame), ["age", "day", "voice", crossed], ("high", "y"))
    assert "do they differ" not in str(slopes_section(made, "age", "day", None).blocks)
