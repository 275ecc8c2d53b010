"""Many columns, or few rows for them: what chance shows, what is told together, and what is left to tables."""

import itertools
import re

import numpy as np
import pandas as pd
import pytest

import markbase as mb
from markbase.core.screening.few_rows import inflation_by_chance, most_by_chance
from markbase.show.group_tables import margin_section, pairs_section
from markbase.show.page import Page
from markbase.show.text import to_text

pytestmark = pytest.mark.filterwarnings("ignore::markbase.MarkbaseWarning")


def test_what_each_term_carries_is_what_the_inflation_is_without_it():
    rng = np.random.default_rng(5)
    frame = pd.DataFrame(rng.normal(size=(90, 4)), columns=list("abcd")).assign(
        near=lambda t: t["a"] + 1e-5 * rng.normal(size=90),
        voice=lambda t: pd.cut(t["b"] + rng.normal(size=90) / 2, 4, labels=list("stab")).astype(str),
        day=rng.choice(["Mon", "Tue", "Wed"], 90),
    )
    names = [*"abcd", "near", "voice", "day"]
    screen = mb.screen(frame, names)
    for term in names:
        told = screen.auxiliary(term).set_index("term")
        assert told["carried"].is_monotonic_decreasing
        whole = screen.terms.set_index("term")["gvif"][term]
        for other in set(names) - {term}:
            without = mb.screen(frame, [n for n in names if n != other]).terms.set_index("term")["gvif"][term]
            np.testing.assert_allclose(told.loc[other, "gvif_without"], without, rtol=1e-9)
            np.testing.assert_allclose(told.loc[other, "carried"], whole / without, rtol=1e-9)


def test_inflation_by_chance_is_that_of_samples():
    rng = np.random.default_rng(2)
    vif = np.array([np.diag(np.linalg.inv(np.corrcoef(rng.normal(size=(12, 30))))) for _ in range(4000)])
    assert vif.mean() == pytest.approx(inflation_by_chance(29, 12), rel=0.01)
    assert 0.03 < (vif.max(axis=1) > most_by_chance(29, 12)).mean() < 0.06
    # of two columns it is that of r, which is t on n − 2
    r2 = 1 - 1 / most_by_chance(9, 2)
    assert np.sqrt(8 * r2 / (1 - r2)) == pytest.approx(2.7515236, rel=1e-7)  # 98.75% of t on 8
    assert (inflation_by_chance(3, 2), most_by_chance(5, 1)) == (np.inf, 1.0)


@pytest.mark.parametrize(("rows", "columns", "told"), [(40, 20, 1), (400, 20, 0), (26, 20, 1), (22, 20, 1), (21, 20, 2)])
def test_few_rows_for_many_columns_are_told(rows, columns, told):
    rng = np.random.default_rng(rows)
    frame = pd.DataFrame(rng.normal(size=(rows, columns))).rename(columns="x{}".format)
    few = [a.text for a in mb.screen(frame, list(frame)).advice if a.kind == "few"]
    assert len(few) == min(told, 1)
    if told:
        average = f"show a variance inflation of {(rows - 3) / (rows - columns - 2):.3g} on average" if rows > 22 else "of any size."
        assert few[0].startswith(f"{rows} rows are {'few for' if rows > 22 else 'hardly enough to tell'} 20 columns")
        assert average in few[0]
        vif = mb.screen(frame, list(frame)).vif["vif"]
        assert (f", and {(vif >= 5).sum()} columns at 5 or more show no more than chance" in few[0]) == (rows == 26)
    named = {name for a in mb.screen(frame, list(frame)).advice if a.kind == "hidden" for name in a.terms}
    assert not named  # it is no more than chance makes


def test_more_columns_than_rows_can_tell_apart_are_told_as_that_and_nothing_else():
    rng = np.random.default_rng(1)
    frame = pd.DataFrame(rng.normal(size=(60, 30))).rename(columns="x{}".format)
    frame.loc[25:, "x7"] = np.nan
    frame.loc[:3, "x9"] = np.nan
    screen = mb.screen(frame, list(frame))
    assert np.isinf(screen.vif["vif"]).all()
    assert np.isinf(screen.terms["comparable"]).all()
    (told,) = screen.advice
    assert told.text.startswith("21 rows cannot tell 30 columns apart, so that each follows from others")
    assert told.text.endswith("Most rows are left out because of `x7` (35 of 60).")
    assert "Variance inflation of each" not in str(screen)
    assert [len(mb.screen(frame.iloc[:3, :k], [*frame.iloc[:, :k]]).advice) for k in (3, 4)] == [2, 2]
    two = mb.screen(frame.iloc[10:12, :5], [*frame.iloc[:, :5]]).advice
    assert two[1].text == "Of 2 rows every correlation is 1 or −1, whatever the columns measure."
    r = [a.text for a in mb.screen(frame.iloc[10:17, :2], ["x0", "x1"]).advice if "no clear sign" in a.text]
    assert r == ["Of 7 rows, r = 0.7 is no clear sign that two columns go together (p = .080): chance alone makes such pairs."]
    assert ["(p = .506)" in mb.screen(frame.iloc[10:13, :2], ["x0", "x1"]).advice[k].text for k in (0, 1)] == [False, True]
    assert "variance inflation of 2 on average" in mb.screen(frame.iloc[10:15, :2], ["x0", "x1"]).advice[0].text
    frame = frame.assign(y=rng.normal(size=60), g=np.repeat(np.arange(20), 3).astype(str)).drop(columns=["x7", "x9"])
    fits = [mb.fit_linear(frame, "y", [*frame.iloc[:, :15]], fixed_effects=levels) for levels in (None, "g")]
    assert ["inflation of 1.58 on" in mb.screen_fit(fit).advice[0].text for fit in fits] == [False, True]
    counted, repeated = frame.iloc[:9, :5].assign(times=20), frame.iloc[:9, :5].loc[lambda f: f.index.repeat(20)]
    weighed = mb.screen(counted, [*counted.iloc[:, :5]], weights="times", weights_are="frequency")
    assert [a.text for a in weighed.advice] == [a.text for a in mb.screen(repeated, [*repeated]).advice]
    enough = mb.screen(frame.iloc[:8, 10:17], [*frame.iloc[:, 10:17]])
    assert np.isfinite(enough.vif["vif"]).all()  # as many rows as coefficients


def test_columns_that_all_go_together_are_one_finding():
    rng = np.random.default_rng(3)
    shared = rng.normal(size=(300, 3))
    frame = pd.DataFrame({f"{'abc'[k]}{j}": shared[:, k] + rng.normal(size=300) / 3 for k in range(3) for j in range(5)})
    frame["b5"] = shared[:, 1] + rng.normal(size=300) / 3
    frame["a2"] *= -1
    frame["bridge"] = frame["c0"] + rng.normal(size=300)  # goes with the first of a set and not with all
    frame["alone"] = rng.normal(size=300)
    screen = mb.screen(frame, list(frame))
    sets = [a for a in screen.advice if a.kind == "set"]
    assert [a.terms for a in sets] == [tuple(f"{k}{j}" for j in range(n)) for k, n in (("b", 6), ("a", 5))] + [()]
    assert ["some the other way round" in a.text for a in sets] == [False, True, False]
    r = frame[[f"b{j}" for j in range(6)]].corr().to_numpy()[np.triu_indices(6, 1)]
    assert f"(|r| {min(r):.2f} to {max(r):.2f})".replace("0.", ".") in sets[0].text
    pairs = [a.terms for a in screen.advice if a.kind == "pair"]
    flagged = {(p.first, p.second) for p in screen.pairs.itertuples() if p.flag}
    own = {pair for a in sets for pair in itertools.combinations(a.terms, 2)}
    assert set(pairs) == {pair for pair in flagged if not {pair, pair[::-1]} & own}
    assert len(pairs) == len(flagged) - 25
    (text,) = [a.text for a in screen.advice if a.terms == ("c0", "bridge")]
    for gone, stays in (("bridge", "c0"), ("c0", "bridge")):  # though others carry more of the one
        after = mb.screen(frame, [n for n in frame if n != gone]).vif.set_index("term")["vif"][stays]
        assert f"ithout `{gone}` the standard error of `{stays}` is {after**0.5:.2f} times" in text
    made = mb.Study(pd.DataFrame({"x": rng.normal(9, 2, 200)})).derive("log", log="x").derive("root", sqrt="x").derive("square", square="x")
    level = rng.choice(list("abc"), 200)
    groups = pd.DataFrame({f"g{k}": np.where(rng.random(200) < 0.05, "c", level) for k in range(4)})
    assert not any(a.kind == "set" for study in (made, groups) for a in mb.screen(study, [*study.columns]).advice)


def test_of_very_many_findings_a_dozen_are_told_and_the_others_counted():
    rng = np.random.default_rng(4)
    first = rng.normal(size=(400, 1))
    frame = pd.DataFrame(np.cumsum(np.hstack([first, rng.normal(size=(400, 89)) / 2]), axis=1))
    frame = frame.rename(columns="x{}".format)
    screen = mb.screen(frame, list(frame))
    told = [a for a in screen.advice if a.kind == "pair"]
    (more,) = [a.text for a in screen.advice if a.kind == "more"]
    flagged = int(screen.pairs["flag"].sum())
    assert flagged > 200
    assert (len(told), more) == (12, f"{flagged - 12:,} more pairs at or above the limit: the table of pairs has them.")
    assert [a.terms for a in told] == [(p.first, p.second) for p in screen.pairs.head(12).itertuples()]
    page = str(screen)
    assert len(re.findall(r"^  x\d+ – x\d+ ", page, re.M)) == 40
    largest = screen.terms.sort_values("comparable", ascending=False)["term"].head(40)
    assert re.findall(r"^  (x\d+) +1 ", page, re.M) == largest.tolist()
    assert f"the 40 strongest of {flagged:,}" in " ".join(page.split())
    assert len(page.splitlines()) < 260
    # what no pair shows: each of many columns beside the sum of them all
    wide = pd.DataFrame(rng.normal(size=(500, 30))).rename(columns="z{}".format)
    wide["sum"] = wide.sum(axis=1) + rng.normal(size=500) / 5
    screen = mb.screen(wide, list(wide))
    hidden = [a for a in screen.advice if a.kind == "hidden" and "standard error" in a.text]
    over = screen.terms[screen.terms["comparable"] >= 5**0.5].sort_values("comparable", ascending=False)["term"]
    assert [a.terms[0] for a in hidden] == over[:12].tolist()
    assert any(a.text.startswith(f"{len(over) - 12} more terms whose standard error is 2.24 times") for a in screen.advice)


@pytest.mark.parametrize("kind", ["linear", "logistic"])
def test_among_many_terms_those_that_are_clear_by_chance_are_counted(kind):
    rng = np.random.default_rng(6)
    frame = pd.DataFrame(rng.normal(size=(500, 40))).rename(columns="x{}".format)
    y = frame["x3"] + frame["x8"] + 1.5 * rng.normal(size=500)
    frame["y"] = np.where(y > 0, "yes", "no") if kind == "logistic" else y

    def told(columns):
        fit = mb.fit_logistic(frame, "y", columns, event="yes") if kind == "logistic" else mb.fit_linear(frame, "y", columns)
        texts = [c for c in fit.reading().cautions if "none of them went" in c]
        terms = next(step.meaning for step in fit.guide().steps if step.question == "Which terms?")
        assert all(text in terms for text in texts)
        return texts, fit.terms.set_index("term")["p"]

    (text,), p = told([f"x{k}" for k in range(40)])
    clear = int((p < 0.05).sum())
    assert clear > 2
    assert text == (f"Of 40 terms {clear} have p below .05; if none of them went with the outcome, 2 would on average. Corrected for all these tests " f"(Holm) `x3` and `x8` stay clear.")  # fmt: skip
    assert (p.drop(["x3", "x8"]).min() * 38 > 0.05) & (p[["x3", "x8"]].max() * 39 < 0.05)
    assert told([*(f"x{k}" for k in range(40)), mb.interaction("x3", "x8")])[0][0].startswith("Of 39 terms ")
    assert told([f"x{k}" for k in range(19)])[0] == []  # fewer than one by chance
    assert told([*p[p > 0.2].index[:20], "x3"])[0] == []  # all that is clear stays so
    assert told(list(p.drop(["x3", "x8"]).index))[0] == []  # nothing at all is told elsewhere


def test_very_many_columns_are_named_in_part():
    rng = np.random.default_rng(7)
    frame = pd.DataFrame(rng.normal(size=(60, 40))).rename(columns="x{}".format).assign(y=list("ny") * 30)
    names = [f"x{k}" for k in range(40)]
    with pytest.raises(mb.SeparationError, match=r"^(`x\d+`, ){6}`x\d+` and 33 more together foretell"):
        mb.fit_logistic(frame, "y", names, event="y")
    fit = mb.fit_linear(frame.assign(y=rng.normal(size=60), g=list("abc") * 20), "y", [*names, "g"])
    assert "41 numeric columns, 1 categorical column: no codebook" in " ".join(str(fit).split())
    answer = next(step.answer for step in fit.guide().steps if step.question == "Which terms?")
    assert re.search(r"not clear: (`x\d+`, ){10}`x\d+` and \d+ more$", answer)


def test_figures_of_many_columns_stay_readable_and_answers_are_drawn_by_how_many_there_are():
    rng = np.random.default_rng(8)
    frame = pd.DataFrame({f"q{k}": np.clip(np.round(4 + rng.normal(size=400)), 1, 7) for k in range(100)})
    study, names = mb.Study(frame.assign(x=rng.normal(size=400))), [*frame]
    sizes = []
    for count in (20, 40, 100):
        screen = mb.screen(study, names[:count])
        ax = mb.draw_correlations(screen)
        sizes.append(ax.figure.get_size_inches().tolist())
        assert len(ax.texts) == (190 if count == 20 else 0)
        assert [t.get_text() for t in ax.get_yticklabels()] == names[1:count]
    assert sizes[1:] == [pytest.approx([2.2 + 0.62 * 30, 1.6 + 0.5 * 30])] * 2
    largest = screen.terms.sort_values("comparable", ascending=False)["term"].head(40)
    ax = mb.draw_vif(screen)
    assert [t.get_text() for t in ax.get_yticklabels()][::-1] == largest.tolist()
    assert ax.get_title("left").endswith("the 40 largest of 100")
    figure = mb.draw_pairs(study, mb.screen(study, ["x", *names[:12]]))
    assert "the first 10 of 13 numeric columns" in figure.get_suptitle()
    grid = np.array(figure.axes).reshape(10, 10)
    (discs,) = grid[2, 1].collections  # the second answer over the first
    counts = frame.groupby(["q0", "q1"]).size()
    assert discs.get_offsets().tolist() == [list(place) for place in counts.index]
    np.testing.assert_allclose(discs.get_sizes(), np.maximum(40 * counts / counts.max(), 0.6))  # and the rarest are seen
    assert (len(grid[1, 0].collections), len(grid[1, 0].lines[0].get_xdata())) == (0, 400)  # x has no two alike
    assert grid[1, 0].get_xlim() == grid[2, 0].get_xlim()


def test_of_very_many_pairs_of_levels_a_page_lists_the_clearest():
    rng = np.random.default_rng(9)
    frame = pd.DataFrame({"town": [f"t{k % 45:02d}" for k in range(900)], "x": rng.normal(size=900)})
    frame["y"] = frame["x"] + frame["town"].str[1:].astype(int) / 20 + rng.normal(size=900)
    pair = re.compile(r"^  (t\d\d) against (t\d\d) ", re.M)
    for levels in (16, 17):  # 120 pairs, and 136
        fit = mb.fit_linear(frame[frame["town"] < f"t{levels}"], "y", ["x", "town"])
        table = fit.between("town", margin=0.3)
        for section in (pairs_section(fit, "town"), margin_section(fit, "town", 0.3)):
            page = to_text(Page("", sections=(section,)), width=110)
            shown = table if levels == 16 else table.sort_values("p", kind="stable").head(40)
            assert pair.findall(page) == list(zip(shown["level"], shown["against"], strict=True))
            assert ("; the 40 clearest of 136, the table of pairs" in " ".join(page.split())) == (levels == 17)
    counts = table["verdict"].value_counts()
    assert "of all 136 " + " and ".join(f"{n} {verdict}" for verdict, n in counts.items()) in " ".join(page.split())
    lines = str(mb.fit_linear(frame, "y", ["x", "town"]).equation(by="town"))
    assert (lines.count("town: t"), "5 more levels" in lines) == (40, True)


@pytest.mark.parametrize("kind", ["linear", "logistic", "slopes", "cells"])
def test_of_very_many_levels_the_clearest_are_told_with_what_chance_makes_of_them(kind, tmp_path):
    rng, n, levels = np.random.default_rng(8), 4000, 18 if kind == "cells" else 260
    town, day = rng.integers(0, levels, n), rng.choice(list("abcdefghijklmnop"), n)
    frame = pd.DataFrame({"town": [f"t{k:03d}" for k in town], "day": day, "x": rng.normal(size=n)})
    frame["y"] = frame["x"] + (town < 3) * 2.0 * (1 + frame["x"] * (kind == "slopes")) + rng.normal(size=n)
    frame["up"] = np.where(frame["y"] > 0, "yes", "no")
    study = mb.Study(frame).mark("town", "t009").mark("day", "a")
    terms = {"slopes": ["x", "town", mb.interaction("x", "town")], "cells": ["town", "day", mb.interaction("town", "day")]}.get(kind, ["x", "town"])  # fmt: skip
    fit = mb.fit_logistic(study, "up", terms, event="yes") if kind == "logistic" else mb.fit_linear(study, "y", terms)
    name = {"slopes": "x × town", "cells": "town × day"}.get(kind, "town")
    table = fit.coefficients.query("term == @name and not base")
    whole, *told = (s for s in fit.reading().statements if s.term == name)
    assert {s.level for s in told} == set(table.nsmallest(12, "p")["level"])
    clear, m = int((table["p"] < 0.05).sum()), len(table)
    ranked = np.sort(table["p"].to_numpy())
    still = int(np.argmax(np.append(ranked * (m - np.arange(m)) >= 0.05, True)))  # step down until one is not clear
    (words,) = [c for c in whole.cautions if "coefficients" in c and "p below .05" in c]
    assert words.startswith(f"Of its {m} coefficients {clear} have p below .05; if nothing differed {0.05 * m:.2g} would on average")
    assert f"(Holm) {still or 'none'} {'stays' if still < 2 else 'stay'} clear" in words
    assert ("share the base" in words) == (kind != "cells")
    (thin,) = [c for c in whole.cautions if "fewer than 30 rows" in c]
    fewest = table.loc[table["n"].idxmin()]
    assert thin == f"{(table['n'] < 30).sum()} of its coefficients are about fewer than 30 rows, `{fewest['level']}` about the fewest ({fewest['n']})."  # fmt: skip
    page = str(fit)
    assert page.count(f"… {m - 40:,} of higher p") == {"logistic": 2, "slopes": 2}.get(kind, 1)
    assert f"+ [{name}]" in page
    assert f"{m} summands, not laid out here" in page
    assert "equation, complete" not in page
    assert page.count("\n") < (700 if kind == "slopes" else 400)
    assert fit.equation().text.count("[town: t") == len(fit.coefficients.query("term.str.contains('town') and not base"))
    mb.report(fit, path := tmp_path / "fit.html", figures=False)
    beside = f"{clear} of the {m} coefficients of <b>{name}</b> have p below .05: weak evidence"
    assert (beside in path.read_text(encoding="utf-8")) == bool(fit.terms.set_index("term").loc[name, "p"] >= 0.05)
    few = mb.fit_linear(study.keep({"town": [f"t{k:03d}" for k in range(9, 18)]}), "y", ["x", "town"])
    assert len([s for s in few.reading().statements if s.term == "town"]) == 9  # the joint test, and all of few are told


def test_of_many_blocks_it_is_said_how_many_chance_makes_clear():
    rng = np.random.default_rng(3)
    frame = pd.DataFrame(rng.normal(size=(300, 25)), columns=[f"x{k}" for k in range(25)])
    frame["y"] = rng.normal(size=300) + 0.5 * frame["x3"]
    blocks = mb.fit_blocks(frame, "y", {f"b{k}": [f"x{k}"] for k in range(25)})
    p = blocks.steps["p"].sort_values()
    holm = (p * np.arange(25, 0, -1)).cummax()
    (told,) = [text for text in blocks.reading().cautions if "these tests (Holm)" in text]
    assert told.startswith(f"Of 25 blocks {(p < 0.05).sum()} have p below .05; if no block added anything, 1.3 would")
    assert [f"`{name}`" in told for name in blocks.steps["block"]] == (holm.sort_index() < 0.05).tolist()
