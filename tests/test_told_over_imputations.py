"""Blocks, predictions, slopes, figures and plans over imputations and plausible values."""

import json
import re

import numpy as np
import pandas as pd
import pytest

import markbase as mb
from command import run
from imputed import EACH, FIRST, FRAME, TERMS, WHOLE, M, N, by_rules, mp_quantile, rng, tail_of_f
from markbase.core.comparison.imputation_sentences import imputation_answers
from markbase.show.imputations import imputations_page
from markbase.show.text import to_text

pytestmark = pytest.mark.filterwarnings("ignore::markbase.MarkbaseWarning")


def dense_of(own, names):
    """The columns of a model by hand."""
    known = {"x": own["x"], "x²": own["x"] ** 2, "b": own["g"] == "b", "c": own["g"] == "c", "w": own["w"]}
    return np.column_stack([np.ones(N), *(known[name] for name in names)]).astype(float)


@pytest.mark.parametrize("base", ["a", "b"])
def test_what_blocks_add_is_tested_by_their_coefficients_and_moves_as_the_rules_say(base):
    blocks = {"first": ["x"], "curve": [mb.polynomial("x"), "g"], "last": ["w"]}
    columns = [["x"], ["x", "x²", "b", "c"], ["x", "x²", "b", "c", "w"]]
    found = mb.fit_imputed_blocks(mb.Study(FRAME).mark("g", base), "y", blocks, "imputation")
    before, shares = [], np.zeros((M, 3))
    for k, (names, step) in enumerate(zip(columns, found.steps.to_dict("records"), strict=True)):
        Q, U = [], []
        for i, own in enumerate(EACH):
            X, y = dense_of(own, names), own["y"].to_numpy()
            b, (rest,) = np.linalg.lstsq(X, y, rcond=None)[:2]
            shares[i, k] = 1 - rest / np.sum((y - y.mean()) ** 2)
            Q.append(b)
            U.append(np.linalg.inv(X.T @ X) * rest / (N - len(b)))
        places = [1 + names.index(name) for name in names if name not in before]
        q, W = np.array(Q)[:, places], np.mean(U, axis=0)[np.ix_(places, places)]
        r = 1.2 * np.trace(np.cov(q.T).reshape(W.shape) @ np.linalg.inv(W)) / len(places)
        F = q.mean(0) @ np.linalg.inv(W * (1 + r)) @ q.mean(0) / len(places)
        assert (step["df"], step["statistic"]) == (len(places), pytest.approx(F, rel=1e-8))
        assert step["p"] == pytest.approx(tail_of_f(F, len(places), step["df_rest"]), rel=1e-7)
        r2 = np.tanh(np.arctanh(np.sqrt(shares[:, k])).mean()) ** 2
        assert step["r2"] == pytest.approx(r2, rel=1e-9)
        changes = shares[:, k] - (shares[:, k - 1] if k else 0)
        assert (step["change_lowest"], step["change_highest"]) == pytest.approx((changes.min(), changes.max()), rel=1e-8)
        before = names
    assert found.steps["r2_change"].sum() == pytest.approx(found.steps["r2"].iloc[-1])
    alone = mb.fit_imputations(mb.Study(FRAME).mark("g", base), "y", ["x"], "imputation").overall
    assert found.changes[0].statistic == pytest.approx(alone.statistic, rel=1e-9)
    last = mb.fit_imputations(mb.Study(FRAME).mark("g", base), "y", [mb.polynomial("x"), "g", "w"], "imputation")
    pd.testing.assert_frame_equal(found["last"].coefficients, last.coefficients, rtol=1e-8)
    assert found.changes[2].statistic == pytest.approx(last.terms["statistic"].iloc[-1], rel=1e-9)
    own = last.coefficients["estimate"].tolist()
    assert found.moves["last"].tolist() == pytest.approx([own[0], np.nan, *own[1:]], nan_ok=True)  # x by itself is in the first alone
    each = [mb.fit_blocks(mb.Study(own).mark("g", base), "y", blocks).movements for own in EACH]
    assert len(found.movements) == len(each[0]) == 4  # of x, x² and g, when w enters
    for k, row in found.movements.iterrows():
        wanted = by_rules([t["change"].iloc[k] for t in each], [t["se"].iloc[k] for t in each], N - 6)
        assert row[["change", "se", "df", "p"]].tolist() == pytest.approx(wanted[:4], rel=1e-6)
        assert row["after"] - row["before"] == pytest.approx(row["change"])


def test_blocks_over_imputations_are_told_in_commands_plans_and_manuscripts(tmp_path):
    table = FRAME.assign(yes=np.where(FRAME["y"] > 1.5, "yes", "no"))
    pd.concat([FIRST.assign(yes=FIRST["yes"].where(FIRST["who"] > 103)), table]).to_csv(tmp_path / "t.csv", index=False)
    model = ["--imputation", "imputation", "--base", "g=a", "--kind", "logistic", "--outcome", "yes", "--event", "yes"]
    blocks = ["--block", "one: x, w", "--block", "two: g, interaction(x, g)"]
    page = " ".join(run("imputations", "t.csv", *model, *blocks, cwd=tmp_path).stdout.split())
    found = mb.fit_imputed_blocks(
        mb.Study(table).mark("g", "a"), "yes", {"one": ["x", "w"], "two": ["g", mb.interaction("x", "g")]}, "imputation", kind="logistic", event="yes"
    )
    step = found.steps.iloc[1]
    for words in (
        "log odds of yes = yes: 2 blocks, one after the other, combined over 5 imputations", "is fitted to the same rows of each imputation", "in single ones",
        f"Adding g and x × g (block two) raises McFadden's R² by {step['mcfadden_change']:.3f} to {step['mcfadden']:.3f}".replace("0.", "."), "Karlson, Holm and Breen",
    ):  # fmt: skip
        assert words in page, words
    assert "why both are told" not in page
    (tmp_path / "p.toml").write_text(
        '[data]\nfile = "t.csv"\n[[prepare]]\ndo = "mark"\ncolumn = "g"\nbase = "a"\n[[imputations]]\nname = "b"\noutcome = "y"\nimputation = "imputation"\n'
        'entry = [{name = "one", terms = ["x"]}, {name = "two", terms = ["g"]}]\n'
    )
    assert run("run", "p.toml", "--into", "out", cwd=tmp_path).returncode == 0
    linear = mb.fit_imputed_blocks(mb.Study(FRAME).mark("g", "a"), "y", {"one": ["x"], "two": ["g"]}, "imputation")
    steps = pd.read_csv(tmp_path / "out" / "tables" / "b-steps.csv")
    assert steps["statistic"].tolist() == pytest.approx(linear.steps["statistic"].tolist(), rel=1e-7)
    record = json.loads((tmp_path / "out" / "results.json").read_text("utf-8"))["imputations"]["b"]
    assert [row["r2"] for row in record["steps"]] == pytest.approx(linear.steps["r2"].tolist(), rel=1e-7)
    assert "one (x) and two (g), all on the same rows; what each adds was tested by its coefficients together" in (
        tmp_path / "out" / "methods.txt"
    ).read_text("utf-8")
    told = " ".join(re.sub("<[^>]*>", " ", (tmp_path / "out" / "report.html").read_text("utf-8")).split())
    assert f"F(2, {linear.changes[1].df_rest:.0f}) = {linear.changes[1].statistic:.2f}" in told
    mb.write_document(linear, tmp_path / "d.md")
    lines = (tmp_path / "d.md").read_text("utf-8").replace("\\", "").splitlines()
    assert next(line for line in lines if line.startswith("| F of the change")).endswith(f"| {linear.changes[1].statistic:.2f} |")
    few = mb.fit_imputed_blocks(FRAME.assign(half=FRAME["who"] % 2), "y", {"one": ["x"], "two": ["g"]}, "imputation", cluster="half")
    assert (few.changes[1].df, few.changes[1].untested) == (2, "2 clusters cannot carry a joint test of 2 coefficients")
    assert "not tested: 2 clusters cannot carry a joint test of 2 coefficients" in " ".join(str(few).split())
    for more, words in (
        (["g"], "Levels and slopes are told of a model, not of blocks"),
        (["--terms", "x"], "Give the terms in blocks or with `--terms`, not both"),
    ):
        assert words in run("imputations", "t.csv", *model, *blocks, *more, cwd=tmp_path).stderr
    text = (tmp_path / "p.toml").read_text()
    (tmp_path / "q.toml").write_text(text + 'terms = ["x"]\n')
    assert (
        "line 11: an [[imputations]] has terms, or blocks (`entry`) without groups and slopes, not `entry` and `terms`"
        in run("run", "q.toml", "--into", "no", cwd=tmp_path).stderr
    )


@pytest.mark.parametrize("kind", ["linear", "logistic"])
def test_predictions_are_combined_on_the_scale_of_the_equation(kind, tmp_path):
    outcome, more = ("y", {}) if kind == "linear" else ("yes", {"event": "yes"})
    study = mb.Study(FRAME).mark("g", "a")
    found = mb.fit_imputations(study, outcome, TERMS, "imputation", kind=kind, **more)
    alone = [(mb.fit_linear if kind == "linear" else mb.fit_logistic)(mb.Study(own).mark("g", "a"), outcome, TERMS, **more) for own in EACH]
    profiles = [{"x": 2.0, "g": "b"}, {"g": "c"}, {"x": 0.5}]
    with pytest.warns(mb.MarkbaseWarning, match="outside the data"):
        far = found.predict([*profiles, {"x": 1e3, "g": "a"}, {"x": min(own["x"].min() for own in EACH) + 1e-9, "g": "a"}])
    assert far["caution"].str.contains("lies outside the rows used").tolist() == [False, False, False, True, True]
    assert far["caution"].str.endswith(" of 5 imputations)").tolist() == [False, False, False, False, True]
    table, each = found.predict(profiles), [fit.predict(profiles) for fit in alone]
    eta, df = ("predicted" if kind == "linear" else "log_odds"), min(fit.df_rest for fit in alone)
    for k, row in table.iterrows():
        mean, se, own_df, *_ = by_rules([t[eta].iloc[k] for t in each], [t["se"].iloc[k] for t in each], df)
        assert row[[eta, "se"]].tolist() == pytest.approx([mean, se], rel=1e-9)
        ends = np.array([mean - se * -float(mp_quantile(own_df, 0.025)), mean + se * -float(mp_quantile(own_df, 0.025))])
        if kind == "linear":
            spreads = [
                np.hypot(
                    t["se"].iloc[k], np.sqrt(((t["one_high"] - t["predicted"]).iloc[k] / -float(mp_quantile(df, 0.025))) ** 2 - t["se"].iloc[k] ** 2)
                )
                for t in each
            ]
            one = by_rules([t[eta].iloc[k] for t in each], spreads, df)
            assert row["one_high"] - mean == pytest.approx(one[1] * -float(mp_quantile(one[2], 0.025)), rel=1e-7)
        else:
            ends, mean = 1 / (1 + np.exp(-ends)), 1 / (1 + np.exp(-mean))
        assert row[["low", "high", found.family.predicted]].tolist() == pytest.approx([*ends, mean], rel=1e-8)
    b = found.coefficients.set_index(["term", "level"])["estimate"]
    whole = b["(intercept)", ""] + 2 * b["x", ""] + b["g", "b"] + 2 * b["x × g", "b"]
    assert table[eta][0] == pytest.approx(whole, rel=1e-9)
    rows = found.predict(mb.Study(EACH[2]).mark("g", "a"))
    observed = EACH[2]["y"] if kind == "linear" else EACH[2]["yes"] == "yes"
    assert rows["residual"].tolist() == pytest.approx((observed - rows[found.family.predicted]).tolist())
    FRAME.to_csv(tmp_path / "t.csv", index=False)
    model = [
        "--outcome",
        outcome,
        "--terms",
        "x,g,interaction(x, g)",
        "--base",
        "g=a",
        "--imputation",
        "imputation",
        *(["--kind", "logistic", "--event", "yes"] * (kind != "linear")),
    ]
    record = json.loads(run("predict", "t.csv", *model, "--profile", "x=2, g=b", "--profile", "g=c", "--json", cwd=tmp_path).stdout)
    assert [p["se"] for p in record["predictions"]] == pytest.approx(table["se"].tolist()[:2], rel=1e-7)
    page = run("predict", "t.csv", *model, "--profile", "x=2, g=b", cwd=tmp_path).stdout
    assert "combined over 5 imputations by Rubin's rules" in " ".join(page.split())
    assert "leave --imputation out" in run("predict", "f.json", "--imputation", "imputation", "--profile", "x=2", cwd=tmp_path).stderr


def test_predictions_of_logged_outcomes_and_of_plausible_values(tmp_path):
    logged = mb.Study(FRAME.assign(z=np.exp(FRAME["y"] / 3) + 1)).derive("log_z", log="z")
    found = mb.fit_imputations(logged, "log_z", ["x", "w"], "imputation")
    each = [mb.fit_linear(logged.keep({"imputation": k}), "log_z", ["x", "w"]).predict({"x": 1, "w": 2}, back_transformed=True) for k in range(1, 6)]
    told = found.predict({"x": 1, "w": 2}, back_transformed=True)
    assert told["geometric_mean"][0] == pytest.approx(np.exp(np.mean([t["predicted"][0] for t in each])), rel=1e-9)
    assert told["mean_smeared"][0] == pytest.approx(np.mean([t["mean_smeared"][0] for t in each]), rel=1e-9)
    frame = WHOLE.assign(pv1=WHOLE["y"], pv2=WHOLE["y"] + 40 * rng.normal(size=N))  # of which one says nothing
    values = mb.fit_imputations(frame, ["pv1", "pv2"], ["x"])
    rows = values.predict(frame)
    assert not {"observed", "residual"} & set(rows)
    assert (rows["one_low"] <= rows["low"]).all()
    assert (rows["high"] <= rows["one_high"]).all()
    frame.to_csv(tmp_path / "v.csv", index=False)
    entry = '[[imputations]]\nname = "v"\noutcomes = ["pv1", "pv2"]\nentry = [{name = "one", terms = ["w"]}, {name = "two", terms = ["x"]}]\n'
    (tmp_path / "p.toml").write_text(f'[data]\nfile = "v.csv"\n[[fit]]\nname = "f"\noutcome = "y"\nterms = ["x"]\n{entry}')
    last = mb.fit_imputations(frame, ["pv1", "pv2"], ["w", "x"]).predict({"x": 1})
    for words in (["p.toml", "v"], ["v.csv", "--outcome", "pv1,pv2", "--terms", "w,x"], ["v.csv", "--outcome", "pv*", "--terms", "w,x"]):
        (row,) = json.loads(run("predict", *words, "--profile", "x=1", "--json", cwd=tmp_path).stdout)["predictions"]
        assert [row["predicted"], row["high"]] == pytest.approx([last["predicted"][0], last["high"][0]], rel=1e-8)
    frame.rename(columns={"y": "y, whole", "w": "5*"}).to_csv(tmp_path / "n.csv", index=False)
    for name, own in (("y, whole", "y"), ("5*", "w")):  # one outcome, whatever its name
        (row,) = json.loads(run("predict", "n.csv", "--outcome", name, "--terms", "x", "--profile", "x=1", "--json", cwd=tmp_path).stdout)[
            "predictions"
        ]
        assert row["se"] == pytest.approx(mb.fit_linear(frame, own, ["x"]).predict({"x": 1})["se"][0], rel=1e-8)
    told = run("predict", "v.csv", "--outcome", "pv1,pv2", "--terms", "w,x", "--for", "all", "--in-parts", "--into", "p.csv", cwd=tmp_path)
    assert told.returncode == 0
    whole = mb.fit_imputations(frame, ["pv1", "pv2"], ["w", "x"]).predict(frame)
    assert pd.read_csv(tmp_path / "p.csv")["high"].tolist() == pytest.approx(whole["high"].tolist(), rel=1e-6)
    assert "The plan has" not in run("predict", "p.toml", "f", "--profile", "x=1", cwd=tmp_path).stderr


@pytest.mark.parametrize("kind", ["linear", "logistic"])
def test_figures_and_answers_show_what_is_combined(kind, tmp_path):
    outcome, more = ("y", {}) if kind == "linear" else ("yes", {"event": "yes"})
    study = mb.Study(FRAME).mark("g", "a")
    found = mb.fit_imputations(study, outcome, TERMS, "imputation", kind=kind, **more)
    factor, groups = found.family.factor, found.groups("g")
    ax = mb.draw_groups(found, "g")
    assert sorted(x for line in ax.lines for x in line.get_xdata() if line.get_marker() == "o") == pytest.approx(
        sorted(factor * groups["difference"][1:])
    )
    assert f"a (base), n = {groups['n'][0]:.0f}" in [label.get_text() for label in ax.get_yticklabels()]
    ends = [path.vertices[:, 0].tolist() for path in mb.draw_adjusted(found, "g").collections[0].get_paths()]
    assert ends == [pytest.approx((factor * row[["adjusted_low", "adjusted_high"]]).tolist()) for _, row in groups.iterrows()]
    whole = mb.draw_coefficients(found)
    sd = EACH[0]["x"].std()
    (first,) = whole.lines[1].get_xdata()
    low, high = whole.collections[0].get_paths()[0].vertices[:, 0]
    if kind == "linear":
        own = [fit.simple_slopes("x").iloc[0] for fit in found.fits.values()]
        slope, se, df, *_ = by_rules([s["slope"] for s in own], [s["se"] for s in own], N - 6)
        half = se * -float(mp_quantile(df, 0.025))
        assert (first, low, high) == pytest.approx((sd * slope, sd * (slope - half), sd * (slope + half)), rel=1e-6)
    else:
        row = found.marginal.iloc[0]
        assert (first, low, high) == pytest.approx(tuple(100 * sd * row[["effect", "low", "high"]]), rel=1e-6)
    lines = mb.draw_lines(found, "x", by="g")
    at = next(line for line in lines.lines if line.get_label() == "b")
    x, y = at.get_xdata()[7], at.get_ydata()[7]
    assert y == pytest.approx(factor * found.predict({"x": x, "g": "b"})[found.family.predicted][0])
    mb.report(found, tmp_path / "r.html")
    text = " ".join(re.sub("<[^>]*>", " ", (tmp_path / "r.html").read_text("utf-8")).split())
    unclear = found.terms["p"].iloc[2] >= 0.05
    assert ("Averaged over these rows, per further" in text) == unclear
    noise = mb.Study(
        FRAME.assign(y=np.tile(np.random.default_rng(5).normal(size=N), M), yes=np.tile(np.random.default_rng(6).choice(["yes", "no"], N), M))
    )
    none = imputation_answers(mb.fit_imputations(noise.mark("g", "a"), outcome, ["w", *TERMS], "imputation", kind=kind, **more))
    assert none[-1].text.startswith("For `w` and `x × g` nothing is clear here")  # x and g are told by their interaction
    assert [s.text.split(",")[0] for s in none[1:-1]] == ["Averaged over these rows"] * 2
    blocks = mb.fit_imputed_blocks(study, outcome, {"one": ["x"], "two": ["w"]}, "imputation", kind=kind, **more)
    moved = mb.draw_paths(blocks)
    assert moved.get_lines()[0].get_ydata().tolist() == pytest.approx((blocks.moves.loc[1, ["one", "two"]] / blocks.errors.loc[1, "one"]).tolist())
    if kind == "linear":
        drawn = mb.draw_blocks(blocks)
        assert [text.get_text() for text in drawn.texts][1].endswith(f"= {100 * blocks.steps['r2'][1]:.1f}")
        assert "its range over the imputations, no interval" in drawn.get_title(loc="left")
    FRAME.to_csv(tmp_path / "t.csv", index=False)
    model = [
        "--imputation",
        "imputation",
        "--outcome",
        outcome,
        "--kind",
        kind,
        *(["--event", "yes"] * bool(more)),
        "--base",
        "g=a",
        "--figures",
        "f",
    ]
    for what, names in (
        (["--terms", "x,g"], {"coefficients", "g-differences", "g-adjusted", "x-by-g"}),
        (["--block", "one: x", "--block", "two: w"], {"paths", *(["blocks"] * (not more))}),
    ):
        assert run("imputations", "t.csv", *model, *what, cwd=tmp_path).returncode == 0
        assert {path.stem for path in (tmp_path / "f").iterdir()} >= names


def test_a_plan_that_was_written_gives_the_same_again(tmp_path):
    FRAME.assign(pv1=FRAME["y"], pv2=FRAME["y"] + 0.1).to_csv(tmp_path / "t.csv", index=False)
    study = mb.open_study(tmp_path / "t.csv")  # of whose groups nobody chose the base
    alone = study.keep({"imputation": {"is": 2}})
    results = {
        "clustered": mb.fit_imputations(study, "y", TERMS, "imputation", cluster="t", errors="CR3"),
        "odds": mb.fit_imputations(study, "yes", ["x", "w"], "imputation", kind="logistic", event="yes", level=0.9),
        "in blocks": mb.fit_imputed_blocks(study, "y", {"one": ["x"], "two": [mb.polynomial("x"), "g"]}, "imputation"),
    }
    values = {"values": mb.fit_imputations(alone, ["pv1", "pv2"], ["x", "g"], weights="w")}
    for plan, own, of in (("p.toml", study, results), ("v.toml", alone, values)):
        mb.write_plan(tmp_path / plan, own, of, data=tmp_path / "t.csv")
        for name, result in of.items():
            record = json.loads(run("imputations", plan, name, "--json", cwd=tmp_path).stdout)
            table = record["steps"] if name == "in blocks" else record["coefficients"]
            wanted, column = (result.steps, "statistic") if name == "in blocks" else (result.coefficients, "se")
            assert [row[column] for row in table] == pytest.approx(wanted[column].tolist(), rel=1e-9)
            assert name == "in blocks" or [row["high"] for row in table] == pytest.approx(wanted["high"].tolist(), rel=1e-9)
    for other, words in (
        (study.mark("g", "b"), "which is not its base in the study"),
        (study.keep({"imputation": {"is_not": 2}}), "The study has no imputation `2`"),
        (mb.Study(FRAME.assign(x=FRAME["x"].where(FRAME["imputation"] != 4, 0.0))), "`x` has other values in the study"),
        (mb.Study(FRAME.drop(columns="imputation")), "that `imputation` numbers, which the study does not have"),
    ):  # fmt: skip
        with pytest.raises(mb.MarkbaseError, match=re.escape(words)):
            mb.write_plan(tmp_path / "no.toml", other, {"f": results["clustered"]}, data=tmp_path / "t.csv")
    assert not (tmp_path / "no.toml").exists()


def test_slopes_are_held_at_places_common_to_all_imputations(tmp_path):
    terms = ["g", mb.interaction("w", "x"), mb.interaction("x", "g")]
    for kind, outcome, more in (("linear", "y", {}), ("logistic", "yes", {"event": "yes"})):
        found = mb.fit_imputations(mb.Study(FRAME).mark("g", "a"), outcome, terms, "imputation", kind=kind, **more)
        fits, df = list(found.fits.values()), min(fit.df_rest for fit in found.fits.values())
        table = found.simple_slopes("w", by="x")
        places = np.mean([[own["x"].mean() + k * own["x"].std() for k in (-1, 0, 1)] for own in EACH], axis=0)
        assert table["x"].tolist() == pytest.approx(places.tolist())
        each = [fit.simple_slopes("w", by="x", at={"x": table["x"].tolist()}) for fit in fits]
        for k, row in table.iterrows():
            wanted = by_rules([t["slope"].iloc[k] for t in each], [t["se"].iloc[k] for t in each], df)
            assert row[["slope", "se", "df", "p"]].tolist() == pytest.approx(wanted[:4], rel=1e-7)
            assert kind == "linear" or row["odds_high"] == pytest.approx(np.exp(row["high"]))
        page = " ".join(to_text(imputations_page(found, (), "holm", [("w", "x"), ("x", "g")])).split())
        assert "x at the mean and a standard deviation below and above, inside the rows" in page
        assert "in this model the slope differs by w as well: here it is averaged over the rows" in page
        test = found.terms.set_index("term").loc["x × g"]
        assert f"do they differ by g F(2, {test['df_rest']:.0f}) = {test['statistic']:.2f}" in page
    uneven = FRAME.assign(x=np.where(FRAME["imputation"] == 2, np.where(FRAME["x"] > 3, 1.0, 0.0), FRAME["x"]))
    with pytest.raises(mb.MarkbaseError, match="`x` would be held at other numbers of places in some imputations: say at which values"):
        mb.fit_imputations(uneven, "y", terms, "imputation").simple_slopes("w", by="x")
    curve = mb.fit_imputations(FRAME, "y", [mb.polynomial("x")], "imputation").simple_slopes("x")
    assert curve["slope"].iloc[2] - curve["slope"].iloc[1] == pytest.approx(curve["slope"].iloc[1] - curve["slope"].iloc[0])
    FRAME.to_csv(tmp_path / "t.csv", index=False)
    model = ["--outcome", "y", "--terms", "x,g,interaction(x, g)", "--imputation", "imputation", "--base", "g=a"]
    record = json.loads(run("imputations", "t.csv", "x:g", "g", *model, "--json", cwd=tmp_path).stdout)
    wanted = mb.fit_imputations(mb.Study(FRAME).mark("g", "a"), "y", TERMS, "imputation").simple_slopes("x", by="g")
    assert [row["slope"] for row in record["slopes"]["x:g"]] == pytest.approx(wanted["slope"].tolist(), rel=1e-7)
    assert list(record["groups"]) == ["g"]
    (tmp_path / "p.toml").write_text(
        '[data]\nfile = "t.csv"\n[[imputations]]\nname = "s"\noutcome = "y"\nimputation = "imputation"\nterms = [{interaction = ["x", "w"]}, "g"]\nslopes = ["x:w"]\nat = {w = [1, 2]}\n'
    )
    assert "w = 2" in run("imputations", "p.toml", cwd=tmp_path).stdout
    assert run("run", "p.toml", "--into", "out", cwd=tmp_path).returncode == 0
    assert pd.read_csv(tmp_path / "out" / "tables" / "s-slopes-x-by-w.csv")["w"].tolist() == [1, 2]
    for more, words in (
        (["g", "--at", "x=1"], "--at is for simple slopes; name the numeric column behind the file: age:voice."),
        (["w:g"], "has no numeric column `w`"),
    ):
        assert words in run("imputations", "t.csv", *more, *model, cwd=tmp_path).stderr
