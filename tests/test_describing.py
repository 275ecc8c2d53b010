"""What a sample is like: figures by the definition, tests by exact arithmetic and by the fits they are, in memory and in parts."""

import math
import re
import statistics
from fractions import Fraction

import mpmath as mp
import numpy as np
import pandas as pd
import pytest

import markbase as mb
from command import PLAN, run

rng = np.random.default_rng(12)
N = 700
FRAME = pd.DataFrame({
    "g": rng.choice(["b", "a", "c", None], N, p=[0.4, 0.3, 0.2, 0.1]), "x": rng.normal(50, 9, N).round(2), "far": 1e9 + rng.integers(0, 9, N),
    "k": rng.choice(["no", "yes", "maybe", None], N), "w": rng.uniform(0, 3, N).round(1), "id": np.arange(N) + 1000,
})  # fmt: skip
FRAME.loc[rng.random(N) < 0.1, "x"] = np.nan
FRAME.loc[FRAME["g"] == "a", "x"] += 4


@pytest.mark.filterwarnings("ignore::markbase.MarkbaseWarning")
@pytest.mark.parametrize("weights", [None, "w"])
@pytest.mark.parametrize("by", ["g", None])
def test_every_figure_is_that_of_its_definition(by, weights, tmp_path, small_parts):  # noqa: ARG001
    FRAME.to_parquet(tmp_path / "d.parquet")
    kept = FRAME if by is None else FRAME[FRAME["g"].notna()]
    for study in (mb.Study(FRAME), mb.open_study(tmp_path / "d.parquet", in_parts=True)):
        found = mb.describe(study, ["far", "x", "k"], by=by, weights=weights)
        table = found.table.set_index(["column", "level", "group"])
        for group in ["", *(["a", "b", "c"] if by else [])]:
            own = kept if not group else kept[kept["g"] == group]
            for name in ("x", "far"):
                there = own[own[name].notna()]
                told, values = table.loc[(name, "", group)], [Fraction(v) for v in there[name]]
                heavy = [Fraction(v) for v in there["w"]] if weights else [Fraction(1)] * len(values)
                counted = [(v, w) for v, w in zip(values, heavy, strict=True) if w > 0]
                mean = sum(v * w for v, w in counted) / sum(w for _, w in counted)
                variance = sum(w * (v - mean) ** 2 for v, w in counted) / sum(w for _, w in counted) * Fraction(len(counted), len(counted) - 1)
                assert told[["n", "missing"]].tolist() == [len(there), len(own) - len(there)]
                assert [told["mean"], told["sd"]] == pytest.approx([float(mean), math.sqrt(variance)], rel=1e-14)
                assert [told["low"], told["high"]] == [float(min(values)), float(max(values))]
                repeated = np.repeat(there[name], 1 if weights is None else np.rint(10 * there["w"]).astype(int))  # weights are tenths
                wanted = float(statistics.median(repeated)) if found.medians else math.nan
                assert told["median"] == pytest.approx(wanted, nan_ok=True)
            there = own[own["k"].notna()]
            for level in ("maybe", "no", "yes"):
                told, has = table.loc[("k", level, group)], there["k"] == level
                heavy = there["w"] if weights else pd.Series(1.0, there.index)
                assert (told["count"], told["n"]) == (has.sum(), len(there))
                assert told["share"] == pytest.approx(heavy[has].sum() / heavy.sum(), rel=1e-12)
        assert len(found.differences) == (3 if by and not weights else 0)
        assert found.medians == (not study.in_parts)


def test_differences_are_tested_as_their_definitions_say():
    found = mb.describe(FRAME, ["x", "k"], by="g").differences.set_index("column")
    with mp.workdps(40):
        own = [[mp.mpf(v) for v in FRAME.loc[(FRAME["g"] == g) & FRAME["x"].notna(), "x"]] for g in "abc"]
        n, mean = [len(v) for v in own], [mp.fsum(v) / len(v) for v in own]
        heavy = [k / (mp.fsum((x - m) ** 2 for x in v) / (k - 1)) for v, k, m in zip(own, n, mean, strict=True)]
        middle = mp.fsum(w * m for w, m in zip(heavy, mean, strict=True)) / mp.fsum(heavy)
        off = mp.fsum((1 - w / mp.fsum(heavy)) ** 2 / (k - 1) for w, k in zip(heavy, n, strict=True))
        F = mp.fsum(w * (m - middle) ** 2 for w, m in zip(heavy, mean, strict=True)) / 2 / (1 + mp.mpf(2) / 8 * off)
        rest = 8 / (3 * off)
        p = mp.betainc(rest / 2, 1, 0, rest / (rest + 2 * F), regularized=True)
        whole = [x for v in own for x in v]
        between = mp.fsum(k * (m - mp.fsum(whole) / len(whole)) ** 2 for k, m in zip(n, mean, strict=True))
        size = mp.sqrt(between / mp.fsum((x - mp.fsum(whole) / len(whole)) ** 2 for x in whole))
        told = found.loc["x", ["statistic", "df", "df_rest", "p", "size"]].tolist()
        assert told == pytest.approx([float(F), 2, float(rest), float(p), float(size)], rel=1e-11)
        cells = pd.crosstab(FRAME["g"], FRAME["k"])
        expected = {(g, k): Fraction(int(cells.loc[g].sum() * cells[k].sum()), int(cells.to_numpy().sum())) for g in cells.index for k in cells}
        chi = sum((int(cells.loc[g, k]) - e) ** 2 / e for (g, k), e in expected.items())
        p = mp.gammainc(2, mp.mpf(chi.numerator) / chi.denominator / 2, regularized=True)
        told = found.loc["k", ["statistic", "df", "df_rest", "p", "size", "expected"]].tolist()
        size = math.sqrt(chi / (2 * int(cells.to_numpy().sum())))
        assert told == pytest.approx([float(chi), 4, math.inf, float(p), size, float(min(expected.values()))], rel=1e-11)


@pytest.mark.filterwarnings("ignore::markbase.MarkbaseWarning")
def test_of_two_levels_it_is_the_difference_with_errors_of_its_own():
    study = mb.Study(FRAME).keep({"g": ["a", "b"]})
    found = mb.describe(study, ["x"], by="g").differences.iloc[0]
    fit = mb.fit_linear(study, "x", ["g"], errors="HC2").coefficients
    t = fit.loc[fit["level"] == "a", "t"].iloc[0]
    assert found["statistic"] == pytest.approx(t**2, rel=1e-10)
    plain = mb.fit_linear(study, "x", ["g"])
    assert found["size"] == pytest.approx(math.sqrt(plain.strength.r2), rel=1e-10)
    n, v = (study.frame().groupby("g")["x"].agg(how) for how in ("count", "var"))
    assert found["df_rest"] == pytest.approx((v / n).sum() ** 2 / ((v / n) ** 2 / (n - 1)).sum(), rel=1e-10)  # Satterthwaite's


def test_what_cannot_be_told_is_blank_and_what_is_left_out_is_named():
    frame = FRAME.assign(one="same", all="x", day=[f"2024-01-{k % 28 + 1:02d}" for k in range(N)])
    found = mb.describe(frame, by="g")
    assert ([c.name for c in found.columns], found.left_out) == (["x", "far", "k", "w", "one", "all"], ("id", "day"))
    assert found.differences.set_index("column").loc[["one", "all"], ["statistic", "p", "size"]].isna().all(axis=None)
    thin = mb.describe(pd.DataFrame({"x": [1.0, 2, 3, np.nan], "k": list("abab"), "g": list("yyyz")}), by="g")
    assert thin.differences[["statistic", "p", "size"]].iloc[0].isna().all()
    gone, two = (
        mb.describe(own, ["x"], by="g").differences
        for own in (FRAME.assign(x=FRAME["x"].where(FRAME["g"] != "c")), FRAME[FRAME["g"].isin(["a", "b"])])
    )
    pd.testing.assert_frame_equal(gone, two)  # a level without values is none that differs
    text = " ".join(str(thin).split())
    assert "rows 4 of 4 (100.0%): those with a level of g levels y 3, z 1 missing x 1" in text
    assert "2.0 (1.0) 2.0 (1.0) –" in text
    assert "In k fewer than 5 rows are expected in some cell" in text
    assert "– (–)" not in text
    few = pd.DataFrame(
        {"x": [1.0, 2, 3, 9, 4], "y": [5.0, 5, 1, 2, np.nan], "z": [np.nan] * 5, "k": list("ababr"), "g": [*"yyyz", None], "h": [*"qqppp"]}
    )
    book = {"columns": {"k": {"kind": "categorical", "levels": ["a", "b", "never", "r"]}, "z": {"kind": "numeric"}}}
    by_g, by_h = (mb.describe(mb.Study(few, book), ["x", "y", "z", "k"], by=by) for by in "gh")
    assert by_g.differences["size"].iloc[0] == pytest.approx(np.corrcoef(few["x"][:4], few["g"][:4] == "z")[0, 1])
    assert by_g.differences[["statistic", "size"]].iloc[3].tolist() == pytest.approx([4 / 3, math.sqrt(1 / 3)])  # no row with a g is r
    assert by_g.table[by_g.table["column"] == "k"]["level"].tolist() == list("abr") * 3
    assert (by_g.table[by_g.table["column"] == "z"]["n"] == 0).all()
    assert by_h.differences.iloc[1][["statistic", "p"]].isna().all()  # y does not vary among q
    coded = mb.describe(pd.DataFrame({"year": [1951.0, 1967, 1980, 2001] * 9 + [-99] * 4}))
    assert "`year` is −99 in 4 rows, apart from all other values: a code for a missing answer?" in coded.statements[0]
    assert " 2001" in str(coded)
    with pytest.raises(mb.LevelError, match="1 level of `g` has rows"):
        mb.describe(few.head(3), ["x"], by="g")
    wide = mb.describe(FRAME.assign(g=FRAME["g"].map(lambda g: g and g * 24)), ["x", "k"], by="g")
    assert "median" in str(wide)
    shares = dict(re.findall(r"^ +(?:([abc])\1{23}) +\d+ +([\d.]+%)$", str(wide).split("  maybe")[1].split("  no")[0], re.MULTILINE))
    kept = FRAME[FRAME["k"].notna()]
    assert shares == {g: f"{100 * (kept.loc[kept['g'] == g, 'k'] == 'maybe').mean():.1f}%" for g in "abc"}
    assert "median" not in str(mb.describe(FRAME, ["x", "k"], by="g"))
    assert mb.describe(mb.demo.choirs(), ["age"], weights="weight").unheeded == ("the clusters in `choir`",)
    roles = mb.describe(mb.demo.choirs(), ["age", "voice"])
    assert "Rows count alike: no account is taken of the clusters in choir and the weights in weight (their roles)." in " ".join(str(roles).split())


@pytest.mark.parametrize(("columns", "settings", "told"), [
    (["age", "age"], {}, "`age` is named twice"), (["agee"], {}, "no column `agee`"), ([], {"by": "age"}, "`age` is numeric: a sample is told by the levels"),
    ([], {"by": "choir"}, "24 levels of `choir` have rows, and a sample is told by 2 to 12"), (["voice"], {"by": "voice"}, "is what the sample is told by"),
    ([], {"weights": "voice"}, "`voice` is categorical: weights are numbers"), ([], {"weights": "wt"}, "no column `wt` of weights"),
])  # fmt: skip
def test_what_cannot_be_described_is_refused_in_words(columns, settings, told):
    with pytest.raises(mb.MarkbaseError, match=told):
        mb.describe(mb.demo.choirs(), columns, **settings)


@pytest.mark.filterwarnings("ignore::markbase.MarkbaseWarning")
def test_command_plan_and_manuscript_tell_the_same(tmp_path):
    study = mb.demo.plan().open()
    asked = ["age,belonging,stays", "--by", "voice"]
    page = run("describe", PLAN, *asked, "--manuscript", tmp_path / "t.md").stdout
    found = mb.describe(study, ["age", "belonging", "stays"], by="voice")
    row = found.table.set_index(["column", "level", "group"])
    assert f"{row.loc[('age', '', 'alto'), 'mean']:.1f} ({row.loc[('age', '', 'alto'), 'sd']:.1f})" in page
    assert "no 642 (32.5%) 36.5% 32.0% 28.4% 28.8%" in " ".join(page.split())
    table = (tmp_path / "t.md").read_text()
    assert "| age, M (SD) | 47.8 (15.8) | 47.1 (16.0) | 47.8 (15.2) |" in table
    assert f"| &emsp;no | 642 (32.5%) | {int(row.loc[('stays', 'no', 'soprano'), 'count'])} (36.5%) |" in table
    assert "| all, n = 2,003 | soprano, n = 676 |" in table
    age, home = "Age", "How much at home the singer feels, 0 to 100"
    for command, told in (
        (("describe", PLAN, *asked), ["Table 1. The sample by Voice part", f"| {age}, M (SD) |", f"| {home}, M (SD) |", "those with a level of voice,"]),
        (("fit", PLAN, "--outcome", "belonging", "--terms", "voice", "--polynomial", "age=2"), [f"Table 1. {home}: linear", f"**{age} (quadratic)**", f"&emsp;{age}² |", "**Voice part**", "&emsp;tenor"]),
        (("fit", PLAN, "--kind", "logistic", "--outcome", "stays", "--event", "yes", "--terms", "age,voice", "--interaction", "age,voice"), ["log odds of Stays for the next season = yes:", f"| {age}, per year |", f"**{age} × Voice part**"]),
        (("groups", PLAN, "voice", "--outcome", "belonging", "--terms", "age,voice"), [f"{home}, by Voice part", "| tenor |"]),
        (("screen", PLAN, "--terms", "age,stays"), [f"| 1. {age} |", "| 2. Stays for the next season (1: yes) |"]),
        (("blocks", PLAN, "--outcome", "belonging", "--block", "a: age", "--block", "b: voice"), [f"{home}, block by block", "**Voice part**"]),
        (("compare", PLAN, "--outcome", "belonging", "--variant", "a: age", "--variant", "b: age, voice"), [f"{home}: 2 models", "**Voice part**"]),
        (("dominance", PLAN, "--outcome", "belonging", "--terms", "age,rehearsals"), [f"{home}: what each term", f"| {age} |"]),
    ):  # fmt: skip
        done = run(*command, "--manuscript", tmp_path / "l.md", "--column-labels", "--replace")
        assert done.returncode == 0, done.stderr
        labelled = (tmp_path / "l.md").read_text()
        assert [words for words in told if words not in labelled] == []
    named = {"columns": {"x": {"label": "What"}, "k": {"label": "Which"}}}
    both = mb.Study(FRAME[["x", "k"]].replace({"k": {"no": "x"}}), named)
    mb.write_document((mb.fit_linear(both, "x", ["k"]), "k"), tmp_path / "x.md", labels=True)
    assert re.search(r"\n\| \*?x\*? \| ", (tmp_path / "x.md").read_text())  # a level that is called as a column is
    plan = tmp_path / "p.plan.toml"
    data = "".join(f'{key} = "{mb.demo.path(name)}"\n' for key, name in (("file", "choirs.csv"), ("codebook", "choirs.codebook.toml")))
    plan.write_text(f'[data]\n{data}[[describe]]\nname = "Who sings"\nby = "voice"\ncolumns = ["age", "stays"]\n[output]\nlabels = true\n')
    assert run("run", plan, "--into", tmp_path / "out").returncode == 0
    assert "Who sings" in (tmp_path / "out" / "report.html").read_text()
    assert "Stays for the next season, n (%)" in (tmp_path / "out" / "tables.html").read_text()
    assert len(pd.read_csv(tmp_path / "out" / "tables" / "who-sings.csv")) == 3 * 6
    for wrong, told in (
        ('columns = "age"', "is a list of names"),
        ("by = 3", "`by` is a text"),
        ('by = "voices"', "no column `voices`"),
        ("what = 1", "unknown key `what`"),
    ):
        plan.write_text(f"[data]\n{data}[[describe]]\n{wrong}\n")
        assert told in run("run", plan, "--into", tmp_path / "no").stderr
