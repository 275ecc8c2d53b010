"""What misleads in comparisons, counted on the rows, and told where it is so alone: no overlap, reversals, ends of the outcome."""

import itertools
import re
import warnings

import numpy as np
import pandas as pd
import pytest
from scipy.stats import f_oneway

import markbase as mb
from command import run
from test_linear import _quietly as quietly
from yes_no import either

pytestmark = pytest.mark.filterwarnings("ignore::markbase.MarkbaseWarning")
MODEL = "with it held equal, their difference rests on the form of the model alone (no overlap)."


def trial(rows=120):
    """Arms of which one has no session, a dose that follows the third, and towns of which the first two arms share none."""
    rng = np.random.default_rng(5)
    arm, y = np.arange(rows) % 3, rng.normal(size=rows)
    return pd.DataFrame({
        "tone": y, "passed": np.where(y > 0, "yes", "no"), "arm": np.array(["usual", "breath", "mirror"])[arm],
        "sessions": np.where(arm == 0, 0, rng.integers(1, 9, rows)), "age": rng.integers(20, 60, rows),
        "town": np.where(arm == 2, rng.choice(["A", "B"], rows), np.array(["A", "B", ""])[arm]),
        "both": np.where(arm == 0, 0, 1), "twice": np.where(arm == 0, rng.random(rows), 2 + rng.random(rows)),
    })  # fmt: skip


def told(fit):
    cautions = [c for s in fit.reading().statements for c in s.cautions]
    return [c for c in cautions if "no overlap" in c or "in common" in c]


NONE = f"In `sessions` no row of `usual` (0) is like one of `breath` (1 to 8) or `mirror` (1 to 8): {MODEL}"
FEW = f"In `sessions` no row of `breath` (1 to 8) is like one of `usual` (0): {MODEL}"
TOWNS = "Rows of `usual` and `breath` have no level of `town` in common: with it held equal they are compared through other levels only, as if no difference depended on it."
CASES = [
    (["arm", "age"], "usual", []),
    (["arm", "age", "sessions"], "usual", [NONE]),
    (["arm", mb.polynomial("sessions", 2)], "usual", [NONE]),
    (["arm", "sessions"], "breath", [FEW]),
    (["arm", "twice", mb.interaction("arm", "twice")], "usual", []),
    (["arm", "town"], "usual", [TOWNS]),
    (["arm", "town"], "mirror", []),
    (["three", "age"], "usual", []),
    (["both", "sessions"], "usual", [f"In `sessions` no row of `both` = 0 (0) is like one of `both` = 1 (1 to 8): {MODEL}"] ),
]  # fmt: skip


@pytest.mark.parametrize("kind", ["linear", "logistic", "parts", "many rows"])
@pytest.mark.parametrize(("terms", "base", "wanted"), CASES)
def test_comparisons_that_no_two_rows_make_are_told(terms, base, wanted, kind, tmp_path):
    frame = trial(210_000 if kind == "many rows" else 120)
    study = mb.Study(frame)
    if kind == "parts":
        frame.to_csv(tmp_path / "trial.csv", index=False)
        study = mb.open_study(tmp_path / "trial.csv", in_parts=True)
    study = study.mark("arm", base).cut("age", [30, 45], name="three")
    logistic = {"outcome": "passed", "event": "yes"} if kind == "logistic" else None
    fit = mb.fit_logistic(study, terms=terms, **logistic) if logistic else mb.fit_linear(study, "tone", terms)
    assert told(fit) == wanted
    assert all(w.replace("`", "") in " ".join(str(fit).replace("▲ ", "").split()) for w in wanted)


ENDS = [((-4, 8), ""), ((0.8, 9), ""), ((0.9, 9), "outside"), ((8, 9), "outside"), ((8.2, 9), "apart")]


@pytest.mark.parametrize("kind", ["linear", "logistic", "parts", "many rows", "0 and 1"])
@pytest.mark.parametrize(("ends", "wanted"), ENDS)
def test_lines_that_go_on_beyond_the_rows_of_a_level_are_told_where_it_is_compared(ends, wanted, kind, tmp_path):
    rows = 210_000 if kind == "many rows" else 300
    rng, late = np.random.default_rng(4), np.arange(rows) % 3 == 0
    x, y = np.where(late, rng.uniform(*ends, rows), rng.uniform(-8, 8, rows)), rng.normal(size=rows)
    x[:6] = ends[0], -8, 8, ends[1], -8, 8
    frame = pd.DataFrame(
        {"y": y, "x": x, "new": late * 1 if kind == "0 and 1" else np.where(late, "new", "old"), "yes": np.where(y > 0, "yes", "no")}
    )
    frame.to_csv(tmp_path / "t.csv", index=False)
    data, terms = mb.open_study(tmp_path / "t.csv", in_parts=kind == "parts"), ["x", "new", mb.interaction("x", "new")]
    fit = mb.fit_logistic(data, "yes", terms, event="yes") if kind == "logistic" else mb.fit_linear(data, "y", terms)
    told = [c for s in fit.reading().statements for c in s.cautions if "(extrapolation)" in c]
    assert len(told) == bool(wanted)
    assert "(extrapolation)" not in str(mb.fit_linear(data, "y", terms[:2]))
    assert not told or f"outside the rows of `new`{' = 1' * (kind == '0 and 1')} ({ends[0]} to {ends[1]}): there its line" in told[0]
    assert not told or told[0].endswith("(no overlap).") == (wanted == "apart")
    if kind == "linear":
        page = run("groups", "t.csv", "new", "--outcome=y", "--terms=x", "--interaction=x,new", "--at=x=-6", cwd=tmp_path).stdout
        assert "x = −6, where levels of new are compared, lies outside the rows of new" in " ".join(page.split())


def test_every_coding_tells_of_the_comparisons_it_makes():
    study = mb.Study(trial()).as_ordinal("arm", ["breath", "mirror", "usual"])
    for scheme, wanted in {"indicator": ["breath", "usual"], "adjacent": ["mirror", "usual"], "effect": []}.items():
        fit = mb.fit_linear(study.code_as("arm", scheme), "tone", ["arm", "sessions"])
        assert re.findall(r"`(\w+)` \(", " ".join(told(fit))) == wanted


def test_the_page_of_a_group_tells_of_every_pair(tmp_path):
    trial().to_csv(tmp_path / "t.csv", index=False)
    page = run("groups", "t.csv", "arm", "--outcome=tone", "--terms=arm,sessions", "--base=arm=mirror", cwd=tmp_path)
    assert NONE.replace("`", "") in " ".join(page.stdout.split())


@pytest.mark.parametrize("kind", ["linear", "0 and 1", "logistic"])
@pytest.mark.parametrize(("shift", "clear"), [(1.5, True), (1.05, False), (0.4, False), (-1.0, False)])
def test_a_difference_that_turns_round_is_told_with_the_means_as_they_are(shift, clear, kind):
    rng = np.random.default_rng(2)
    group, rows = np.repeat(["a", "b", "c"], [400, 300, 300]), 1000
    x = rng.normal(size=rows) + np.where(group == "b", shift, 0)
    y = 2 * x - 2 * (group == "b") + rng.normal(size=rows)
    if kind != "linear":
        y = (y + rng.logistic(size=rows) > 0) * 1
    frame = pd.DataFrame({"y": y, "group": group, "x": x, "yes": np.where(y > 0, "yes", "no")})
    study = mb.Study(frame).mark("group", "a")
    fits = {"logistic": lambda t: mb.fit_logistic(study, "yes", t, event="yes")}
    fit = fits.get(kind, lambda t: mb.fit_linear(study, "y", t))
    means = frame.groupby("group")["y"].mean()
    own = [c for s in fit(["group", "x"]).reading().statements if s.level for c in s.cautions if "Simpson" in c]
    assert len(own) == clear
    if clear:
        b, a = re.search(r"have a higher (?:mean|share) than those of the base \((\S+) against ([^)]+)\)", own[0].replace("−", "-")).groups()  # fmt: skip
        assert [float(v.strip("%")) for v in (b, a)] == pytest.approx(means[["b", "a"]] * (100 if kind != "linear" else 1), abs=0.06)
    for terms in (["group"], ["group", "x", mb.interaction("group", "x")]):
        assert "Simpson" not in str(fit(terms).reading())


@pytest.mark.parametrize("parts", [False, True])
@pytest.mark.parametrize(("share", "end", "least"), [(0.15, 20, 0), (0.145, 20, 0), (0.6, 0, 0), (0.6, 7, 7)])
def test_many_rows_at_an_end_of_the_outcome_are_told(share, end, least, parts, tmp_path):
    y = np.linspace(least + 0.5, 19.5, 200)
    y[: round(share * 200)] = end
    frame = pd.DataFrame({"y": y, "x": np.arange(200.0) ** 2, "times": np.where(y == end, 1, 2)})
    frame.to_csv(tmp_path / "t.csv", index=False)
    study = mb.open_study(tmp_path / "t.csv", in_parts=parts)
    told = [c for c in mb.fit_linear(study, "y", ["x"]).reading().cautions if " effect)" in c]
    which = "highest" if end == 20 else "lowest"
    assert [c.split(" (a")[0] for c in told] == [f"{share:.1%} of the rows have the {which} value of `y`, {end}"] * (share >= 0.15)
    assert all(("two questions" in c) == (end == 0) for c in told)
    often = mb.fit_linear(study, "y", ["x"], weights="times", weights_are="frequency").reading().cautions
    assert any("42.9% of the rows" in c for c in often) == (share == 0.6)
    few = mb.fit_linear(frame.assign(y=np.minimum(y // 2, 8)), "y", ["x"]).reading().cautions
    assert not any(" effect)" in c for c in few)


def test_levels_that_are_lost_with_the_rows_left_out_are_told():
    frame = trial(300)
    gone = (frame["arm"] == "usual") | (frame["arm"] == "breath") & (np.arange(300) % 2 == 1)
    text = {"all": frame.assign(tone=frame["tone"].mask(frame["arm"] == "usual")), "half": frame.assign(tone=frame["tone"].mask(gone & (frame["arm"] == "breath")))}  # fmt: skip
    text = {k: " ".join(str(mb.fit_linear(mb.Study(f), "tone", ["arm", "age"])).split()) for k, f in text.items()}
    assert text["all"].count("one of the 100 rows with usual of arm is among the rows used: nothing is told of it") == 2
    assert "rows left out 50.0% of those with breath of arm, and 0.0% of those with mirror" in text["half"]
    assert "rows left out" not in " ".join(str(mb.fit_linear(mb.Study(frame), "tone", ["arm"])).split())


@pytest.mark.parametrize(
    ("rows", "lost", "shift", "arms", "age"),
    [(10000, (300, 0), 0, False, False), (60, (5, 0), 0, False, False), (400, (40, 0), 0, True, False), (60, (13, 0), 0, True, False), (29, (20, 0), 0, False, False),
     (4000, (1000, 1000), 0.22, False, False), (100, (16, 16), 0.3, False, False), (100, (14, 14), 5, False, False), (400, (50, 50), 0.9, False, True)],
)  # fmt: skip
def test_rows_left_out_are_told_to_differ_where_that_is_both_large_and_clear(rows, lost, shift, arms, age):
    spread = np.sin(np.arange(rows)) * np.sqrt(2)
    ages = np.concatenate([spread + np.where(np.arange(rows) < own, shift, 0) for own in lost])
    gone = np.concatenate([np.arange(rows) < own for own in lost])
    frame = pd.DataFrame({"arm": np.repeat(["one", "two"], rows), "age": ages, "y": np.where(gone, np.nan, np.cos(np.arange(2 * rows)))})
    page = " ".join(str(quietly(mb.fit_linear, frame, "y", ["arm", "age"])).split())
    assert (f"of those with one of arm, and {lost[1] / rows:.1%}" in page, "age is on average" in page) == (arms, age)


def test_rows_left_out_that_differ_in_the_terms_are_told_and_those_lost_by_chance_are_not(tmp_path):
    def told(frame, **more):
        frame.to_csv(tmp_path / "t.csv", index=False)
        pages = [str(quietly(mb.fit_linear, mb.open_study(tmp_path / "t.csv", in_parts=p), "y", ["arm", "age", "z"], **more)) for p in (False, True)]
        assert pages[0].splitlines()[3:] == pages[1].splitlines()[3:]
        return " ".join(pages[0].partition("2  Does")[0].partition("rows left out")[2].split())

    rng = np.random.default_rng(8)
    frame = pd.DataFrame(rng.normal(size=(800, 2)), columns=["y", "z"])
    frame = frame.assign(arm=np.repeat(["letter", "none"], 400), age=rng.normal(1e9, 8, 800), place=np.arange(800) % 40)
    late, older = (frame["arm"] == "none") & (rng.random(800) < 0.1), rng.random(800) < 1 / (1 + np.exp(-(frame["age"] - 1e9 - 16) / 4))
    gaps = {"": rng.random(800) < 0.1, f"{late[400:].mean():.1%} of those with none of arm, and 0.0% of those with letter": late}
    size = frame["age"][older].mean() - frame["age"][~older].mean()
    gaps[f"in the {older.sum()} of them with a value, age is on average {size:.3g} units higher than in the rows used"] = older
    assert [told(frame.assign(y=frame["y"].mask(gone))) for gone in gaps.values()] == list(gaps)
    assert [told(frame.assign(y=frame["y"].mask(gone)), cluster="place") for gone in gaps.values()] == list(gaps)
    school = (frame["place"] % 8 == 5) & (frame["arm"] == "none")  # most of one school that is in the one arm alone
    frame = frame.assign(school=np.where(frame["arm"] == "none", 8, 0) + frame["place"] % 8, y=frame["y"].mask(school & (rng.random(800) < 0.8)))
    assert "of those with none of arm, and 0.0%" in told(frame)
    assert told(frame, cluster="school") == ""


@pytest.mark.parametrize(("values", "told"), [
    ([0] * 297 + [1] * 3, "Only 3 rows used have `x` = 1."), ([0] * 1 + [1] * 299, "Only 1 row used has `x` = 0."), ([0] * 270 + [1] * 30, ""),
    ([2.5] * 295 + [1, 3, 4, 5, 6], "`x` is 2.5 in all but 5 rows used: its slope rests on these."), ([0] * 270 + [*range(1, 31)], ""), ([*range(29)] * 10, ""), ([*range(25)], ""),
])  # fmt: skip
def test_numbers_that_are_the_same_in_nearly_all_rows_are_told_with_how_many_are_not(values, told):
    y = np.random.default_rng(1).normal(size=len(values))
    frame = pd.DataFrame({"y": y, "x": values, "yes": np.where(y > 0, "yes", "no"), "times": 2})
    for fit in (mb.fit_linear(frame, "y", ["x"]), mb.fit_logistic(frame, "yes", ["x"], event="yes", penalty="firth")):
        cautions = fit.reading().statements[1].cautions
        assert [c for c in cautions if c.startswith("Only") or "in all but" in c] == [told] * bool(told)
    often = mb.fit_linear(frame, "y", ["x"], weights="times", weights_are="frequency").reading().statements[1].cautions
    assert not any("3 rows used" in c for c in often)


def test_sampling_weights_tell_how_many_rows_of_equal_weight_tell_as_much():
    frame = trial(200).assign(weight=np.r_[40.0, np.linspace(0.5, 3, 199)])
    fit = mb.fit_linear(frame, "tone", ["age"], weights="weight")
    w = frame["weight"]
    as_equal = w.sum() ** 2 / (w**2).sum()
    words = f"they tell about as much as {as_equal:.0f} rows of equal weight (effective sample size, Kish), and one row has {w[0] / w.sum():.1%} of all weight"
    assert words in " ".join(str(fit).split())


def waves(levels=60, alike=1.0):
    """Singers measured four times each, alike or not in what no term tells."""
    rng = np.random.default_rng(9)
    singer, x = np.repeat(np.arange(levels), 4), rng.normal(size=4 * levels)
    y = x + alike * rng.normal(size=levels)[singer] + rng.normal(size=4 * levels)
    yes = np.where(y + rng.logistic(size=len(y)) > 0, "yes", "no")
    return pd.DataFrame({"y": y, "yes": yes, "x": x, "singer": [f"S{k:03d}" for k in singer], "w": 1.0 + (x > 0), "choir": singer % 6})


@pytest.mark.parametrize("kind", ["linear", "logistic"])
def test_rows_that_go_together_by_a_column_nobody_named_are_told(kind):
    def fit(frame, **options):
        study = frame if isinstance(frame, mb.Study) else mb.Study(frame)
        if kind == "logistic":
            return mb.fit_logistic(study, "yes", ["x"], event="yes", **options)
        return mb.fit_linear(study, "y", ["x"], **options)

    def said(fit):
        return " ".join(str(fit).split()), [f for f in fit.checks().findings if f.about == "rows together"]

    frame = waves(alike=3.0 if kind == "logistic" else 1.0)
    text, (finding,) = said(fit(frame))
    if kind == "logistic":
        p = fit(frame).fitted
        pearson = ((frame["yes"] == "yes") - p) / np.sqrt(p * (1 - p))
        F, tail = f_oneway(*(pearson[frame["singer"] == s] for s in frame["singer"].unique()))
        figures = f"F(59, 180) = {F:.2f}, p < .001"
        assert f"correlation {(F - 1) / (F + 3):.2f}" in text
        assert tail < 0.001
    else:
        named = fit(mb.Study(frame).as_role("singer", "cluster")).checks().intraclass
        figures = f"F({named.df}, {named.df_rest}) = {named.statistic:.2f}, p < .001"
    assert "They take rows of one singer as independent, which are alike in what the model misses (intraclass correlation 0." in text
    assert figures in text
    assert figures in finding.figures
    assert finding.way_on.startswith("cluster the errors by `singer`")
    numbers = frame["singer"].str[1:].astype(int)  # nothing says that they are persons but how they stand
    for numbered in (numbers + 1, 7 * numbers + 1001):
        assert said(fit(frame.assign(singer=numbered)))[0] == text
    assert mb.cross_validate(fit(frame), repeats=1).possible_cluster == "singer"
    named = fit(mb.Study(frame).as_role("singer", "cluster"))  # which is told no less
    assert (said(named)[0], len(said(named)[1])) == (text, 1)
    quiet = [fit(waves(alike=0.0)), fit(frame, cluster="singer"), fit(frame, weights="w")]
    assert not any("as independent" in said(other)[0] for other in quiet)
    few = frame.assign(day=[f"D{k}" for k in range(8)] * 30, y=lambda f: f["y"] + np.arange(240) % 8, singer="s", choir=1)
    few["yes"] = np.where(few["y"] > few["y"].median(), "yes", "no")
    assert not mb.cross_validate(fit(few.drop(columns=["singer", "choir"])), repeats=1).possible_cluster
    assert "put day into the model; its 8 levels are too few to cluster by" in said(fit(few.drop(columns=["singer", "choir"])))[0]
    rng, at = (np.random.default_rng(3), np.arange(3000) % 9)  # alike by .03, which is much for what is the same in all rows of one
    of_one = pd.DataFrame({"land": [f"L{k}" for k in at], "x": at / 2, "z": rng.normal(size=3000), "y": rng.normal(size=3000) + 0.2 * (at % 3)})  # fmt: skip
    of_one["yes"] = np.where(of_one["y"] + rng.logistic(size=3000) * (kind == "logistic") / 3 > 0, "yes", "no")
    assert "x, which is the same in all rows of one, rests on 9 of them" in said(fit(of_one))[0]
    assert "as independent" not in said(fit(of_one.assign(x=of_one["z"])))[0]


@pytest.mark.parametrize("kind", ["linear", "logistic"])
@pytest.mark.parametrize("nested", [True, False])
def test_rows_that_go_together_beyond_the_clusters_are_told(nested, kind):
    def fit(frame, **options):
        options = {"cluster": "singer", **options}
        return mb.fit_logistic(frame, "yes", ["x"], event="yes", **options) if kind == "logistic" else mb.fit_linear(frame, "y", ["x"], **options)  # fmt: skip

    frame, rng = waves(levels=150), np.random.default_rng(5)
    of = frame["singer"].str[1:].astype(int) // 5 if nested else pd.Series(rng.permutation(np.arange(600) % 30))
    frame["song"], frame["half"] = [f"C{k}" for k in of], rng.permutation(np.arange(600) % 2)
    quiet = fit(frame.assign(yes=np.where(frame["y"] > 0, "yes", "no")))
    frame["y"] += 3 * rng.normal(size=30)[of]
    frame["yes"] = np.where(frame["y"] > 0, "yes", "no")
    found = fit(frame)
    e = found.residuals if kind == "linear" else found.residuals / np.sqrt(found.fitted * (1 - found.fitted))
    by = frame.assign(e=e if nested else e - e.groupby(frame["singer"]).transform("mean"))
    by = by.groupby(["song", "singer"], as_index=False)["e"].mean() if nested else by
    F, taken = f_oneway(*(own["e"] for _, own in by.groupby("song")))[0], 0 if nested else 149
    rest = len(by) - 30 - taken
    figures = f"F(29, {rest}) = {F * rest / (len(by) - 30):.2f}, p < .001"
    way = "cluster the errors by song" if nested else f"{'take its levels out as fixed effects, or ' if kind == 'linear' else ''}take errors clustered two ways, by singer and by song"  # fmt: skip
    text, (*_, finding) = (" ".join(str(found).split()), [f for f in found.checks().findings if f.about == "rows together"])
    assert f"do not allow for song, {'in one of which each singer lies, and ' if nested else ''}whose rows" in text
    assert figures in text
    assert f"): {way} " in text
    assert figures in finding.figures
    rests = fit(frame.assign(x=of % 3 + 0.0))
    assert nested or "rests on 30 of them: take errors clustered two ways, by singer and by song 3 How much" in " ".join(str(rests).split())
    for other in (quiet, fit(frame, weights="w"), fit(frame, cluster="song" if nested else ["song", "singer"])):
        assert "do not allow for" not in str(other)


def test_a_change_explained_by_what_it_began_from_is_told_and_nothing_else_of_the_kind():
    rng = np.random.default_rng(5)
    frame = pd.DataFrame({"pre": rng.normal(50, 10, 200).round(1), "arm": ["a", "b"] * 100})
    frame["post"] = (frame["pre"] * 0.6 + 22 + 6 * rng.normal(size=200)).round(1)
    frame = frame.assign(gain=frame["post"] - frame["pre"], loss=frame["pre"] - frame["post"], part=frame["pre"].abs() + 1)
    frame["whole"] = frame["part"] + frame["post"]
    frame.loc[[3, 7], ["post", "gain", "loss"]] = np.nan
    told = {}
    for outcome, term in (("gain", "pre"), ("loss", "pre"), ("post", "pre"), ("pre", "post"), ("part", "post"), ("gain", "part")):
        study = mb.Study(frame.drop(columns={"gain": "loss", "loss": "gain"}.get(outcome, "arm")))
        with warnings.catch_warnings(record=True) as caught:
            warnings.simplefilter("always")
            fits = [mb.fit_linear(study, y, [term, *(["arm"] if "arm" in study else [])]) for y in (outcome, "post" if term != "post" else "pre")]  # fmt: skip
        told[outcome, term] = [str(w.message) for w in caught if "regression to the mean" in str(w.message)]
        if told[outcome, term]:
            one, other = (f.coefficients.set_index("level").loc["b", "estimate"] for f in fits)
            assert one == pytest.approx(-other if "of the other sign" in told[outcome, term][0] else other, rel=1e-9)
    assert {k: [m.split(" in every")[0] for m in v] for k, v in told.items() if v} == {("gain", "pre"): ["`gain` is `post` − `pre`"], ("loss", "pre"): ["`loss` is `pre` − `post`"]}  # fmt: skip


def test_of_many_pairs_without_overlap_the_first_are_named_and_the_others_counted(tmp_path):
    rng = np.random.default_rng(4)
    k = np.repeat(np.arange(8), 12)
    x = np.r_[k[:72], rng.integers(6, 8, 24)] + rng.uniform(0, 0.4, 96)
    pd.DataFrame({"y": rng.normal(size=96), "g": [f"l{v}" for v in k], "x": x.round(2)}).to_csv(tmp_path / "t.csv", index=False)
    page = " ".join(run("groups", "t.csv", "g", "--outcome=y", "--terms=g,x", "--base=g=l0", cwd=tmp_path).stdout.split())
    told = re.search(r"In x no row of l0 \(0.*?\) is like one of l1 (.*?), nor one of l1 (.*?) like one of l2 (.*?) \(and so for 6 more levels\)", page)  # fmt: skip
    assert [group.count("l") for group in told.groups()] == [5, 0, 5]
    assert "or 3 more levels" in told[1]


def test_the_answers_of_a_report_say_what_takes_a_part_of_them_back(tmp_path):
    frame = trial(240).assign(singer=[f"S{k // 4}" for k in range(240)], tone=lambda f: np.repeat(f["tone"][:60].to_numpy(), 4) + f["tone"])
    fits = {"all": mb.fit_linear(frame, "tone", ["arm", "sessions"]), "some": mb.fit_linear(frame.assign(tone=frame["tone"].mask(frame["arm"] == "usual")), "tone", ["arm"])}  # fmt: skip
    mb.report(fits, tmp_path / "r.html")
    text = re.sub(r"<[^>]+>", "", (tmp_path / "r.html").read_text("utf-8"))
    short = " ".join(text[text.index("In short") : text.index("they do not say what would happen")].split())
    assert short.count("The errors take rows of one singer as independent") == 2
    assert "no row of breath (1 to 8) is like one of usual (0)" in short
    assert "None of the 80 rows with usual of arm is among the rows used: nothing is told of it." in short


@pytest.mark.parametrize("kind", ["linear", "logistic"])
@pytest.mark.parametrize("how", [{}, {"cluster": "team"}, {"weights": "times", "weights_are": "frequency"}])
def test_a_line_that_bends_is_told_beside_its_slope_where_that_matters(kind, how, tmp_path):
    rng, n = np.random.default_rng(4), 1500
    table = pd.DataFrame(rng.normal(size=(n, 3)), columns=["x", "little", "straight"])
    table["team"], table["times"] = [f"t{k % 60:02d}" for k in range(n)], rng.integers(1, 3, n)
    table["y"] = table["x"] ** 2 + 0.14 * table["little"] ** 2 + table["straight"] + 1.2 * rng.normal(size=n)
    table["high"] = np.where(table["y"] + 0.5 * rng.logistic(size=n) > 1, "yes", "no")
    terms, made, outcome = ["x", "little", "straight"], mb.fit_linear, "y"
    if kind == "logistic":
        made, outcome, how = mb.fit_logistic, "high", {"event": "yes"} | how
    fit = made(mb.Study(table), outcome, terms, **how)
    lines = fit.checks().lines.set_index("term")
    assert lines.loc["little", "p"] < 0.01 or kind == "logistic"  # clear, and next to nothing
    study = mb.Study(table).derive("off", centre="x").derive("squared", square="off")
    with_it = made(study, outcome, [*terms, "squared"], **how)
    left = [f.strength.residual_ss if kind == "linear" else f.strength.deviance for f in (fit, with_it)]
    assert lines.loc["x", "explains"] == pytest.approx(1 - left[1] / left[0], rel=1e-8)
    assert lines.loc["little", "explains"] < 0.02
    told = {s.term: " ".join(s.cautions) for s in fit.reading().statements}
    assert [name for name in terms if "bend" in told[name]] == ["x"]
    words = f"explains {100 * (1 - left[1] / left[0]):.1f}% of what the model leaves): one "
    assert words in told["x"]
    assert ("does not mean that nothing is there" in told["x"]) == (fit.coefficients["p"][1] >= 0.05)
    assert not re.search("(line of|Along) x ", str(with_it.reading()))
    mb.report(fit, tmp_path / "r.html", figures=False)
    text = " ".join(re.sub(r"<[^>]+>", "", (tmp_path / "r.html").read_text("utf-8")).split())
    assert words.rpartition(")")[0] in text[text.index("In short") : text.index("they do not say what would happen")]


def test_spread_that_grows_is_no_bend():
    clear, told = 0, 0
    for seed in range(40):
        rng = np.random.default_rng(seed)
        x = rng.normal(size=200)
        fit = mb.fit_linear(pd.DataFrame({"x": x, "y": x + np.abs(x) * rng.normal(size=200)}), "y", ["x"])
        line = fit.checks().lines.iloc[0]
        clear += line["p"] < 0.001 and line["explains"] > 0.02
        told += "bends" in str(fit.reading())
    assert clear > 2
    assert told == 0


@pytest.mark.parametrize("kind", ["linear", "logistic"])
@pytest.mark.parametrize("how", [{}, {"cluster": "team"}, {"weights": "w"}, {"weights": "times", "weights_are": "frequency"}])
def test_one_row_that_decides_a_verdict_is_named_with_what_is_told_without_it(kind, how):
    rng, n = np.random.default_rng(11), 240
    table = pd.DataFrame({"x": rng.normal(50, 10, n).round(1), "arm": np.where(np.arange(n) % 3 > 0, "new", "old")})
    table["team"], table["times"], table["w"] = [f"t{k % 30}" for k in range(n)], 1, rng.uniform(0.5, 2, n)
    table["y"] = (0.08 * (table["x"] - 50 if kind == "logistic" else 0) + rng.normal(size=n)).round(4)
    table["who"], table.loc[7, "x"], table.loc[7, "y"] = ([f"p{k}" for k in range(n)], 480 if kind == "linear" else -900, 40)
    table["passed"] = np.where(table["y"] > 0, "yes", "no")
    made, outcome = (mb.fit_linear, "y") if kind == "linear" else (mb.fit_logistic, "passed")
    how = how | ({"event": "yes"} if kind == "logistic" else {})
    book = {"columns": {"who": {"role": "identifier"}}}
    fit, without = (made(mb.Study(t, codebook=book), outcome, ["x", "arm"], **how) for t in (table, table.drop(index=7)))
    (told,) = [s.cautions for s in fit.reading().statements if s.term == "x"]
    found = [c for c in told if c.startswith("One row")]
    if "weights_are" in how:  # a row is several people
        assert not found
        return
    before, after = (f.coefficients.iloc[1] for f in (fit, without))
    flips = (before["p"] < 0.05) != (after["p"] < 0.05)
    assert flips or (kind, *how) == ("linear", "weights")
    does = "decides what is told of it" if flips else f"moves it by {abs(after['estimate'] - before['estimate']) / before['se']:.1f} standard errors"  # fmt: skip
    names = ["estimate", "low", "high"] if kind == "linear" else ["odds_ratio", "odds_low", "odds_high"]
    numbers = [float(v.replace("−", "-")) for v in re.findall(r"[−\d][\d.]*", found[0].partition("without it, it is ")[2])]
    assert [numbers[k] for k in (0, 2, 3)] == pytest.approx(after[names].tolist(), abs=0.006)
    assert f"One row {does}, who p7 (" in found[0]
    distance = fit.checks().cases["influence"].iloc[0]
    assert float(re.search(r"distance ([\d.,]+)\)", found[0])[1].replace(",", "")) == pytest.approx(distance, rel=0.01)
    assert not [c for s in without.reading().statements for c in s.cautions if c.startswith("One row")]


def test_a_row_that_decides_a_curve_is_named_as_well():
    rng = np.random.default_rng(3)
    table = pd.DataFrame({"x": rng.normal(50, 10, 200), "y": rng.normal(size=200)})
    table.loc[7] = [300.0, 40.0]
    curve = [mb.polynomial("x", 2)]
    fit, without = (mb.fit_linear(t, "y", curve) for t in (table, table.drop(index=7)))
    told = [c for c in fit.reading().cautions if "one row decides what is told of it, row 8" in c]
    verdicts = [[*(f.coefficients["p"] < 0.05)][1:] for f in (fit, without)]
    assert len(told) == sum(a != b for a, b in zip(*verdicts, strict=True)) > 0
    assert told[-1].startswith("Of `x (quadratic): x²`: one row")
    assert f"p = {without.coefficients['p'][2]:.3f}".replace("0.", ".") in told[-1]


@pytest.mark.parametrize("kind", ["linear", "logistic"])
@pytest.mark.parametrize("crossed", [("ab",), ("ab", "ac"), ("ab", "ac", "bc", "abc")])
def test_the_rarest_combination_that_a_coefficient_compares_is_told_and_a_page_that_its_differences_are_averages(crossed, kind, tmp_path):
    rng, n = np.random.default_rng(len(crossed)), 360
    table = pd.DataFrame({k: rng.choice(list("xyz"[-len(p) :]), n, p=p) for k, p in (("a", [0.2, 0.3, 0.5]), ("b", [0.4, 0.6]), ("c", [0.6, 0.4]))})  # fmt: skip
    table["v"] = np.where((table["a"] == "y") & (table["b"] == "y"), 2, 0) + rng.normal(size=n)
    table["ok"] = np.where(table["v"] + rng.normal(size=n) > 0.5, "yes", "no")
    study = mb.Study(table).mark("a", "z").mark("b", "z").mark("c", "y")
    base, sets = {"a": "z", "b": "z", "c": "y"}, [set(c) for c in ("a", "b", "c", *crossed)]
    terms = ["a", "b", "c", *(mb.interaction(*c) for c in crossed)]
    fit = mb.fit_linear(study, "v", terms) if kind == "linear" else mb.fit_logistic(study, "ok", terms, event="yes")
    joint, single = fit.terms.set_index("term")["p"], fit.coefficients[~fit.coefficients["base"]].groupby("term")["p"]
    for s in fit.reading().statements:
        if not s.level and s.term in joint:
            p = single.get_group(s.term)
            apart = len(p) > 1 and (joint[s.term] < 0.05) != (p < 0.05).any()
            assert apart == any("no single row below" in c or "weak evidence while" in c for c in s.cautions)
        if s.term == "(intercept)" or not s.level:
            continue
        levels = dict(zip(s.term.split(" × "), s.level.split(" × "), strict=True))
        cells = [{**base, **dict(zip(levels, pick, strict=True))} for pick in itertools.product(*[(v, base[g]) for g, v in levels.items()])]
        rows = [table[list(over)].eq({g: cell[g] for g in over}).all(axis=1).sum() for over in sets if set(levels) <= over and len(over) > 1 for cell in cells]  # fmt: skip
        rows.append(table[list(levels)].eq(levels).all(axis=1).sum())
        told = [int(re.findall(r"Only (\d+) rows? used", c)[0]) for c in s.cautions if "rows used ha" in c]
        assert told == [min(rows)] * int(min(rows) < 30), (s, rows)
    table.to_csv(tmp_path / "t.csv", index=False)
    model = ["--terms", "a,b,c", *itertools.chain(*(("--interaction", ",".join(c)) for c in crossed)), "--outcome", "v" if kind == "linear" else "ok"]  # fmt: skip
    more = [] if kind == "linear" else ["--kind", "logistic", "--event", "yes"]
    page = run("groups", "t.csv", "a", *model, *more, *(f"--base={g}={v}" for g, v in base.items()), cwd=tmp_path).stdout
    clear = [sorted(set(c) - {"a"}) for c in crossed if "a" in c and joint[" × ".join(c)] < 0.05]
    assert clear or "abc" in crossed
    told = re.findall(r"averages over the rows, and not the same at every (.+?) (?=mind|Every)", " ".join(page.split()))
    assert [t.split(" and ") for t in told] == clear
    mb.write_document((fit, "a"), tmp_path / "t.md")
    assert (tmp_path / "t.md").read_text().count("averages over the rows, and not the same at every") == len(clear)
    others = [c for c in ("b", "c") if any({"a", c} <= set(k) for k in crossed)]
    lines = " ".join(str(fit.equation(by="a")).split())
    assert f"interaction the summands of {' and '.join(f'{c}' for c in others)} are each line's own" in lines


@pytest.mark.parametrize("kind", ["linear", "logistic"])
def test_clear_terms_are_weak_evidence_where_all_together_are_not(kind):
    rng, seen = np.random.default_rng(4), set()
    for _ in range(40):
        frame = pd.DataFrame(rng.normal(size=(60, 6)), columns=["score", *"abcde"])
        study = mb.Study(frame.assign(score=lambda f: f["score"] + f["a"] / 4, high=lambda f: np.where(f["score"] > 0, "y", "n")))
        fit = either(kind, study, list("abcde"), ("high", "y"))
        clear, unsure = int((fit.terms["p"] < 0.05).sum()), bool(fit.overall.p >= 0.05)
        told = [c for c in fit.reading().cautions if "among 5 is weak evidence while that is so" in c]
        assert [int(re.search(r"(\d) clear terms? among", c)[1]) for c in told] == [clear] * (clear > 0 and unsure)
        seen.add((clear > 0, unsure))
    assert seen >= {(True, True), (True, False), (False, True)}


def test_each_coefficient_names_the_row_that_decides_it_where_several_do():
    rng = np.random.default_rng(12)
    table = pd.DataFrame({"x": rng.normal(50, 10, 200), "z": rng.normal(5, 1, 200), "q": rng.normal(size=200)})
    table["y"] = (0.1 * table["x"] + table["z"] + rng.normal(size=200)).round(3)
    table.loc[[7, 90], ["x", "z"]] = [[700, 5], [50, 80]]
    told = {s.term: [c for c in s.cautions if "ow " in c and "Cook" in c] for s in mb.fit_linear(table, "y", ["x", "z", "q"]).reading().statements}  # fmt: skip
    for term, place in (("x", 7), ("z", 90)):
        (words,), other = told[term], mb.fit_linear(table.drop(index=place), "y", ["x", "z", "q"]).coefficients.set_index("term")
        assert f"row {place + 1} (" in words
        assert float(re.search(r"it is ([\d.]+) ", words)[1]) == pytest.approx(other.loc[term, "estimate"], abs=0.006)
    assert not told["q"]


@pytest.mark.parametrize(("outcome", "how"), [("y", "log"), ("y", "log1p"), ("log_y", "log"), ("yes", "log")])
def test_a_logged_column_is_told_for_twice_its_source(outcome, how):
    rng = np.random.default_rng(3)
    km = rng.lognormal(2, 1, 300).round(1) + 0.1
    frame = pd.DataFrame({"km": km, "y": (3 * km**0.7 * np.exp(rng.normal(0, 0.5, 300))).round(2)})
    study = mb.Study(frame.assign(yes=np.where(frame["y"] > 12, "yes", "no"))).derive("x", **{how: "km"}).derive("log_y", log="y")
    fit = (mb.fit_logistic(study, "yes", ["x"], event="yes") if outcome == "yes" else mb.fit_linear(study, outcome, ["x"]))  # fmt: skip
    b, low, high = np.log(2) * fit.coefficients.loc[1, ["estimate", "low", "high"]].to_numpy(float)
    words = " ".join(str(fit.reading().statements[1].text).split())
    start = f"With {'1 + ' if how == 'log1p' else ''}`km` twice as large"
    wanted = np.exp([b, b, low, high]) if outcome == "yes" else 100 * np.expm1([b, low, high]) if outcome == "log_y" else [b, low, high]
    found = [float(v) for v in re.findall(r"\d[\d.]*\d", words.partition(start)[2].partition("95%")[0] + words.partition(start)[2].partition("CI")[2])]  # fmt: skip
    assert found[: len(wanted)] == pytest.approx(list(wanted), rel=0.02)
    assert ("The elasticity is" in words) == (outcome == "log_y")
    if outcome == "log_y":
        assert found[3] == pytest.approx(b / np.log(2), abs=0.006)


@pytest.mark.parametrize(("errors", "told"), [("classical", "by itself: use robust errors"), ("HC3", "by itself, which these errors allow for")])  # fmt: skip
def test_an_outcome_of_0_and_1_is_told_with_what_its_errors_allow_for(errors, told):
    fit = mb.fit_linear(trial(200).assign(y=np.arange(200) % 3 > 0).astype({"y": int}), "y", ["age"], errors=errors)
    assert told in " ".join(fit.reading().cautions)
