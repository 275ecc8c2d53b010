"""Reports: what they answer, the same told from every base, figures that lie where the data are."""

import io
import itertools
import re
from urllib.parse import unquote

import lxml.html
import numpy as np
import pandas as pd
import pytest
from hypothesis import given
from hypothesis import strategies as st

import markbase as mb
from command import run
from markbase.core.comparison.answers import answers
from markbase.core.reading.averages import averages_of
from markbase.reports.figure_sets import figures_of, figures_of_fit
from markbase.reports.inline import inline
from markbase.reports.parts import Wanted, analysis_part
from markbase.show.figures import drawn_as
from markbase.show.html import to_html
from markbase.show.page import Drawing
from markbase.show.versions import merged
from reference import made_up
from seen import seen, words

_NUMBER = r"\d*[.,]?\d+"

pytestmark = pytest.mark.filterwarnings("ignore::markbase.MarkbaseWarning")


def choir(rows=300):
    frame = pd.DataFrame(made_up(rows, seed=4))
    frame["high"] = np.where(frame["score"] + 5 * np.random.default_rng(1).normal(size=rows) > 38, "y", "n")
    return mb.Study(frame, name="choir").mark("voice", "alto").mark("day", "Mon")


MADE = {
    "linear": lambda s: mb.fit_linear(s, "score", ["voice", "day", "age", "km"]),
    "crossed": lambda s: mb.fit_linear(s, "score", ["voice", "age", mb.interaction("voice", "age")]),
    "logistic": lambda s: mb.fit_logistic(s, "high", ["voice", "age"], event="y"),
    "blocks": lambda s: mb.fit_blocks(s, "score", {"who": ["voice", "age"], "where": ["day", "km"]}),
    "logistic blocks": lambda s: mb.fit_blocks(s, "high", {"who": ["voice"], "where": ["day", "km"]}, kind="logistic", event="y"),
}


@given(st.dictionaries(st.sampled_from("abcde"), st.lists(st.integers(0, 4), max_size=7), min_size=1))
def test_versions_laid_over_one_another_are_each_read_as_they_were(versions):
    entries = merged(versions)
    for key, sequence in versions.items():
        assert [e.what for e in entries if not e.versions or key in e.versions.split()] == sequence


def test_a_report_says_what_several_analyses_do_not_say_together(tmp_path):
    rng = np.random.default_rng(8)
    frame = pd.DataFrame({"training": rng.choice(["none", "some"], 240), "age": rng.normal(45, 12, 240).round(), "sex": rng.choice(["f", "m"], 240)})  # fmt: skip
    for k, more in enumerate((3.2, 0, 0, 8, 0, 0)):
        frame[f"mood {k}"] = (rng.normal(50, 10, 240) + 0.2 * frame["age"] + more * (frame["training"] == "some")).round(1)
    study = mb.Study(frame.assign(noise=rng.normal(size=240) + frame["mood 0"] / 150)).mark("training", "none")
    fits = {f"Mood {k}": mb.fit_linear(study, f"mood {k}", ["training", "age"]) for k in range(6)}
    halves = {s: mb.fit_linear(study.keep({"sex": s}), "mood 0", ["training", "age"]) for s in "fm"}
    p = {name: fit.terms["p"][0] for name, fit in fits.items()}
    holm, most = {}, 0.0
    for place, name in enumerate(sorted(p, key=p.get)):
        most = max(most, (len(p) - place) * p[name])
        holm[name] = most
    assert [n for n in p if p[n] < 0.05] == ["Mood 0", "Mood 3"]
    assert [n for n in p if holm[n] < 0.05] == ["Mood 3"]

    def told(results):
        mb.report(results, tmp_path / "all.html", figures=False, replace=True)
        return cautions(tmp_path / "all.html")

    def cautions(file):
        texts = [e.text_content() for e in lxml.html.parse(file).xpath("//*[@id='answers']//p[@class='mb-caution']")]
        return [" ".join(text.split()) for text in texts]

    among = (
        f"▲ training is tested in 6 analyses, of 6 outcomes, and clear by itself in Mood 0 (p = .0{p['Mood 0'] * 1000:.0f}) and Mood 3 (p < .001). Among these 6 tests "
        f"(corrected after Holm) it stays clear in Mood 3 (p < .001), but not in Mood 0 (p = .0{holm['Mood 0'] * 1000:.0f}): where there is nothing, at least one of 6 tests is clear in up to 30% of samples."
    )
    assert told(fits) == [among]
    assert among[2:] in " ".join(str(mb.compare(*fits.values(), names=list(fits))).split())
    fit = lambda outcome, terms, **rows: mb.fit_linear(study.keep(rows) if rows else study, outcome, terms)  # noqa: E731
    one_mood = {str(k): fits["Mood 0"] for k in range(5)}
    all_clear = {n: fits[n] for n in ("Mood 0", "Mood 1", "Mood 3")} | {"again": fits["Mood 3"]}
    assert [told(some) for some in (one_mood, one_mood | {"two": fits["Mood 1"]}, all_clear)] == [[], [], []]
    alone, beside = ({n: fit(n, ["training", *more]) for n in frame if n.startswith("mood")} for more in ([], ["noise"]))
    assert [text.split(" is ")[0] for text in told(alone)] == ["▲ training"]
    assert [text.split(" tested ")[0] for text in told(beside)] == ["▲ All terms together are", "▲ training is"]
    assert [h.terms["p"][0] < 0.05 for h in halves.values()] == [False, True]
    [apart] = told(halves | {"all": fits["Mood 0"]})  # of a part and the whole nothing is said
    assert "training is clear in m (p = .006), not in f (p = .409); age is" in apart
    assert "in one fit to all these rows, with an interaction" in apart
    for other in (fit("mood 0", ["training"], sex="f"), fit("mood 1", ["training", "age"], sex="f")):
        assert told({"m": halves["m"], "other": other}) == []  # no two of one model
    assert not any("training is" in t for t in told({s: fit("mood 3", ["training", "age"], sex=s) for s in "fm"}))
    frame.to_csv(tmp_path / "moods.csv", index=False)
    entries = [f'[[fit]]\nname = "{n}"\noutcome = "{f.outcome.name}"\nterms = ["training", "age"]' for n, f in fits.items()]
    (tmp_path / "moods.plan.toml").write_text("\n".join(['[data]\nfile = "moods.csv"', *entries, "[output]\nfigures = false"]))
    done = run("run", "moods.plan.toml", "--into", "results", cwd=tmp_path)
    assert done.returncode == 0, done.stderr
    assert among[2:] in " ".join(done.stderr.replace("`", "").split())
    assert cautions(tmp_path / "results" / "report.html") == [among]


@pytest.mark.parametrize("kind", MADE)
def test_each_base_shows_the_page_of_the_fit_told_from_it(kind):
    made = MADE[kind](choir())
    page = made._repr_html_()
    chosen = {i.get("value"): words(i.getparent()) for i in lxml.html.fromstring(page).xpath("//input")}
    fit = made.last if "blocks" in kind else made
    groups = [v for v in fit.variables if v.is_categorical]
    wanted = [(v.name, label) for v in groups for label in v.labels if label != v.base_label]
    assert [label for key, label in chosen.items() if key != "own"] == [label for _, label in wanted]
    for key, (group, base) in zip(list(chosen)[1:], wanted, strict=True):
        alone = lxml.html.fromstring(to_html(_page(made.rebase(group, base)), folds=True))
        alone.xpath("//style")[0].drop_tree()
        tree = seen(page, key)
        tree.xpath("//fieldset")[0].drop_tree()
        assert words(tree) == words(alone)


def _page(made):
    from markbase.show.renderer import page_of

    return page_of(made)


def test_blocks_told_from_another_base_are_the_blocks_entered_with_it():
    study = choir()
    told = MADE["blocks"](study).rebase("voice", "tenor")
    fresh = MADE["blocks"](study.mark("voice", "tenor"))
    np.testing.assert_allclose(told.steps["r2"], fresh.steps["r2"], rtol=1e-12)
    numbers = told.moves.select_dtypes("number").columns
    np.testing.assert_allclose(told.moves[numbers], fresh.moves[numbers], rtol=1e-8, atol=1e-10)
    assert told.moves["level"].tolist() == fresh.moves["level"].tolist()
    with pytest.raises(mb.ColumnError, match="no group `choir`"):
        told.rebase("choir", "x")


@pytest.mark.parametrize("kind", MADE)
def test_answers_are_few_and_every_number_in_them_is_one_of_the_page(kind):
    made = MADE[kind](choir())
    told = answers(made, ("voice",))
    assert 2 <= len(told) <= 7
    fit = made.last if "blocks" in kind else made
    page = str(made) + str(made.reading()) + str(fit)
    share = fit.strength.r2 if isinstance(fit, mb.LinearFit) else fit.strength.tjur
    known = set(re.findall(_NUMBER, page)) | {"95", ".05", f"{100 * share:.1f}"}
    if kind == "crossed":
        averaged = fit.group_test("voice")
        (slope,) = fit.simple_slopes("age")[["slope", "low", "high", "p"]].to_numpy()
        known |= {f"{averaged.statistic:.2f}", *(f"{p:.3f}"[1:] for p in (averaged.p, slope[3]))}
        known |= {f"{abs(v):.3f}" for v in slope[:3]}
    for statement in told:
        assert set(re.findall(_NUMBER, statement.text)) <= known, statement.text
    named = re.findall(r"`([^`]*)`", told[-1].text) if "nothing is clear" in told[-1].text else []
    p = fit.terms.set_index("term")["p"]
    assert all(p[name] >= 0.05 for name in named)
    levels = fit.coefficients[lambda t: (t["term"] == "voice") & ~t["base"]].sort_values("p")
    strongest = levels["level"][:1].tolist() if kind != "crossed" and 3 * levels["p"].min() < 0.05 else []
    assert [s.level for s in told if s.term == "voice" and s.level] == strongest


def test_what_is_clear_and_has_no_room_is_named_but_not_within_an_interaction():
    rng = np.random.default_rng(5)
    frame = pd.DataFrame(rng.normal(size=(400, 8)), columns=list("abcdefgh"))
    frame["y"] = frame.sum(axis=1) + frame["a"] * frame["b"] + rng.normal(size=400)
    fit = mb.fit_linear(frame, "y", [*"abcdefgh", mb.interaction("a", "b")])
    told = answers(fit)
    (rest,) = [s.text for s in told if s.text.startswith("Clear as well")]
    named = re.findall(r"`([^`]*)`", rest)
    assert {*named, *(s.term for s in told if s.term)} - {"a", "b"} == {*"cdefgh", "a × b"}
    assert not {s.term for s in told} & set(named)
    assert not {"a", "b"} & set(named)
    assert not any(s.text.startswith("Clear as well") for s in answers(mb.fit_linear(frame, "y", ["a", "c"])))


@pytest.mark.filterwarnings("ignore::markbase.MarkbaseWarning")
@pytest.mark.parametrize("kind", ["linear", "logistic", "blocks"])
def test_a_slope_within_an_interaction_that_is_not_clear_is_told_as_it_is_on_average(kind):
    rng = np.random.default_rng(7)
    frame = pd.DataFrame(rng.normal(size=(500, 7)) + 5, columns=list("abcdefh")).assign(g=rng.choice(["u", "v"], 500))
    y = frame["a"] - frame["c"] + frame[list("defh")].sum(axis=1) / 2 + (frame["g"] == "v") + rng.normal(size=500)
    frame = frame.assign(y=np.where(y > y.median(), "yes", "no") if kind == "logistic" else y)
    first, then = [*"abcgdefh"], [mb.interaction("a", "b"), mb.interaction("c", "g")]
    made = {
        "linear": lambda: mb.fit_linear(frame, "y", [*first, *then]),
        "logistic": lambda: mb.fit_logistic(frame, "y", [*first, *then], event="yes"),
        "blocks": lambda: mb.fit_blocks(frame, "y", {"first": first, "then": then}),
    }[kind]()
    fit = made.last if kind == "blocks" else made
    told, averages = [s.text for s in answers(made)], averages_of(fit)
    assert [a.p for a in averages] == sorted(a.p for a in averages)
    wanted = [a.text for a in averages[: 1 if kind == "blocks" else 2]]  # however many others are clear
    assert [t for t in told if t.startswith("Averaged over")] == wanted
    averaged = [t for t in told if t.startswith("Averaged over these rows, per further unit of")]
    names = [re.search("unit of `(.)`", t)[1] for t in averaged]
    rest = " ".join(t for t in told if t.startswith(("Clear as well", "Averaged over these rows, the ")))
    assert names
    assert {*names, *re.findall("`(.)`", rest)} >= {"a", "c", "g"}  # of `b` nothing is clear
    assert not any(t.startswith(("Per further unit of `a`", "Per further unit of `c`")) for t in told)
    for name, text in zip(names, averaged, strict=True):
        if kind == "logistic":
            (wanted,) = fit.marginal.set_index("term").loc[[name], ["effect", "low", "high"]].to_numpy() * 100
        else:  # the rows put into the equation, and once more with one unit more
            up, here = (fit.predict(frame.assign(**{name: frame[name] + k}))["predicted"].mean() for k in (1, 0))
            wanted = np.array([up - here])
        found = [float(v) for v in re.findall(_NUMBER, text.replace("95% CI", "").replace(",", ""))]
        wanted = [abs(wanted[0]), *sorted(np.abs(wanted[1:]))]
        assert found[: len(wanted)] == pytest.approx(wanted, abs=0.051 if kind == "logistic" else 0.0051)
        assert ("lower" if name == "c" else "higher") in text
    terms = next(step for step in fit.guide().steps if step.question == "Which terms?")
    assert [set(re.findall("`([^`]*)`", part)) for part in terms.answer.split("; not clear: ")] == [set("acdefgh"), {"b", "a × b", "c × g"}]
    assert "in an interaction that is not clear, are tested as averaged over the rows" in terms.meaning
    assert len(told) <= 7
    for how in ({"square": "a"}, {"sum": ["a", "b"]}) if kind == "linear" else ():  # neither is held while the other moves
        study = mb.Study(frame).derive("made", **how)
        both = mb.fit_linear(study, "y", ["a", "made", "g", mb.interaction("a", "g"), mb.interaction("made", "g")])
        assert [a.name for a in averages_of(both)] == ["g"]


def test_what_a_column_of_two_values_adds_to_a_probability_is_the_difference_of_the_two():
    rng = np.random.default_rng(1)
    frame = pd.DataFrame({"on": rng.integers(0, 2, 600), "x": rng.normal(size=600)})
    frame["y"] = np.where(rng.random(600) < 1 / (1 + np.exp(2 - 2.5 * frame["on"] - 0.8 * frame["x"])), "yes", "no")
    terms = ["on", "x", mb.interaction("on", "x")]
    fit = mb.fit_logistic(frame, "y", terms, event="yes")
    both = [fit.predict(frame.assign(on=on))["probability"].mean() for on in (0, 1)]
    own = fit.marginal.set_index("term").loc["on"]
    assert own["effect"] == pytest.approx(both[1] - both[0], rel=1e-9)
    of_levels = mb.Study(frame).as_categorical("on").mark("on", 0)  # the same column
    level = mb.fit_logistic(of_levels, "y", terms, event="yes").groups("on").iloc[1].rename({"difference": "effect"})
    wide = mb.fit_logistic(frame.assign(on=7 * frame["on"]), "y", terms, event="yes").marginal.iloc[0]
    for other, times in ((level, 1), (wide, 7)):
        assert [times * other[k] for k in ("effect", "se", "low")] == pytest.approx(own[["effect", "se", "low"]].tolist(), rel=1e-6)
    assert "on, 1 against 0" in str(fit)
    higher = f"the probability is {100 * own['effect']:.1f} percentage points higher ("
    assert higher in next(s.text for s in fit.reading().statements if s.term == "on")
    (told,) = [a.text for a in averages_of(fit) if a.name == "on"]
    assert told.startswith("Averaged over these rows, for `on` = 1, compared with 0, the probability")


def test_a_term_within_an_interaction_is_not_called_unclear_by_itself():
    rng = np.random.default_rng(3)
    group, x = rng.choice(["a", "b"], 400), rng.normal(size=400)
    frame = pd.DataFrame({"g": group, "x": x, "y": np.where(group == "a", -x, x) + rng.normal(size=400)})
    fit = mb.fit_linear(mb.Study(frame).mark("g", "a"), "y", ["g", "x", mb.interaction("g", "x")])
    assert fit.terms.set_index("term")["p"]["g"] > 0.05
    assert not any("nothing is clear" in s.text for s in answers(fit))
    terms = next(step for step in fit.guide().steps if step.question == "Which terms?")
    assert (terms.answer, terms.meaning.partition(". ")[2]) == (
        "clear: `g × x`; not clear: none",
        "What `g` and `x` go with depends on other columns: read the interaction, its slopes or its combinations.",
    )
    frame = frame.assign(x=rng.normal(size=400), z=frame["y"] + x)
    fits = [mb.fit_linear(frame, "y", ["x", "z"], level=level) for level in (0.98, 0.999)]
    assert [re.findall(r"p of (\S+) or more", answers(f)[-1].text) for f in fits] == [[".02"], [".001"]]


@pytest.mark.parametrize(
    ("terms", "drawn"),
    [
        (["age", "km", "voice", "day"], {"age-by-voice"}),  # parallel, so one of them will do
        (["age", "km", "big", "voice", "day", mb.interaction("big", "day")], {"big-by-day", "age-by-day", "km-by-day"}),
        (["age", mb.polynomial("km"), "voice", "day"], {"km-by-voice"}),
        (["day", "voice", "age", mb.interaction("day", "voice")], {"voice-and-day", "age-by-day"}),
    ],
)
def test_lines_and_crossed_groups_are_drawn_where_a_figure_tells_more_than_a_number(terms, drawn):
    study = mb.Study(pd.DataFrame(made_up(300, seed=4)).assign(big=lambda d: d["age"] * d["km"]))
    figures = figures_of(mb.fit_linear(study, "score", terms))
    assert {name for name in figures if "-by-" in name or "-and-" in name} == drawn


@pytest.mark.parametrize(
    ("asked", "drawn"),
    [
        ((), {"age-slope_by_km", "big-slope_by_team"}),
        ((("km", "age"), ("age", "voice")), {"km-slope_by_age", "big-slope_by_team"}),
        ((("km", "age"), ("age", "km")), {"age-slope_by_km", "km-slope_by_age", "big-slope_by_team"}),
    ],
)
def test_slopes_are_drawn_as_they_are_asked_for_and_by_a_group_of_more_levels_than_lines_can_tell(asked, drawn):
    frame = pd.DataFrame(made_up(300, seed=4))
    frame["big"], frame["team"] = frame["age"] ** 2, [f"t{k % 8}" for k in range(300)]
    products = [mb.interaction("age", "km"), mb.interaction("km", "voice"), mb.interaction("big", "team")]
    fit = mb.fit_linear(mb.Study(frame), "score", ["age", "km", "big", "voice", "team", *products])
    assert {name for name in figures_of_fit(fit, asked) if "-slope" in name} == drawn


def test_figures_stand_beside_the_group_they_show_whatever_its_name_and_for_every_base():
    frame = pd.DataFrame(made_up(300, seed=4)).rename(columns={"voice": "voice part", "day": "voice"})
    fit = mb.fit_linear(mb.Study(frame).mark("voice part", "alto").mark("voice", "Mon"), "score", ["voice part", "voice"])
    part = analysis_part(fit, "fit", wanted=Wanted(("voice", "voice part")), figures=figures_of(fit))
    blocks = mb.fit_blocks(frame, "score", {"one": ["age"], "two": ["voice"]})
    leads = [p.lead.caption for p in (part, analysis_part(blocks, "blocks", figures=figures_of(blocks)))]
    assert leads == ["score: every level against its base, numeric columns per standard deviation", "What each block adds to R²"]
    told = {version.level: version.pages for version in part.versions.others} | {"alto": part.pages}
    for base in ("alto", "bass", "tenor"):
        (page,) = (page for page in told[base] if page.title == "score, by voice part")
        captions = [p.caption for s in page.sections for b in s.blocks if isinstance(b, Drawing) for p in b.pictures]
        assert captions[0] == f"Differences of the levels of voice part from {base}"
        assert [re.search("voice part|voice", caption)[0] for caption in captions] == ["voice part"] * 2


def test_what_is_written_in_a_figure_of_a_report_is_what_its_file_says():
    from matplotlib.figure import Figure

    figure = Figure(figsize=(4, 3))
    axes = figure.add_subplot()
    axes.plot([0, 0.004], [1.23456, 1.23556])
    axes.set_title(r"3.14159 \d <b> url(#m0123456789) \1")
    file = drawn_as(figure, "svg")
    shown = inline(file, "plot", r"c\d \1 <b>").svg
    told, wanted = (["".join(t.itertext()) for t in lxml.html.fromstring(s).iter("text")] for s in (shown, file))
    assert told == wanted
    assert {"0.001", "1.2346", r"3.14159 \d <b> url(#m0123456789) \1"} <= set(told)
    assert lxml.html.fromstring(shown).get("aria-label") == r"c\d \1 <b>"
    names = [set(re.findall(r' id="(\w+)"', inline(file, name, "").svg)) for name in ("one", "other")]
    assert names[0]
    assert not names[0] & names[1]
    for svg in (shown, inline(file, "other", "").svg):
        assert set(re.findall(r"#(\w{9,})", re.sub(r">[^<]*<", "><", svg))) <= set(re.findall(r' id="(\w+)"', svg))


def test_a_cloud_lies_where_its_marks_were():
    from matplotlib.figure import Figure

    rng = np.random.default_rng(5)
    x, y = rng.normal(size=(2, 200))
    for marker in "os":
        figure = Figure(figsize=(4, 3))
        axes = figure.add_subplot()
        axes.scatter(x, y, marker=marker, s=12, linewidth=0)
        drawn = inline(drawn_as(figure, "svg"), "cloud", "A <cloud>")
        wanted = axes.transData.transform(np.column_stack([x, y])) * 72 / figure.dpi
        wanted[:, 1] = 72 * 3 - wanted[:, 1]
        tree = lxml.html.fromstring(drawn.svg)
        assert tree.get("aria-label") == "A <cloud>"
        found = []
        for path in tree.xpath("//g[@transform='scale(.1)']/path/@d"):
            at = np.zeros(2)
            for step in re.findall(r"m(-?\d+) ?(-?\d+)", path):
                at = at + np.array(step, dtype=float)
                found.append(at / 10)
        found = np.array(sorted(map(tuple, found)))
        half = 0.0 if marker == "o" else np.sqrt(12) / 2  # a square is drawn from its corner
        corner = np.array(sorted(map(tuple, wanted + np.array([-half, half]))))
        assert len(found) == 200
        if marker == "s":
            (stamp,) = {s for path in tree.xpath("//path/@d") for s in re.findall(r"m-?\d+ ?-?\d+([hv][^m]*)", path)}
            assert [int(v) for v in re.findall(r"-?\d+", stamp)] == pytest.approx([20 * half, -20 * half, -20 * half], abs=1)
            assert re.sub(r"-?\d+", "", stamp) == "hvhz"
        nearest = np.abs(found[:, None, :] - corner[None, :, :]).max(axis=2).min(axis=0)
        assert nearest.max() < 0.11


def test_a_fit_of_fewer_rows_than_are_held_out_by_itself_is_reported(tmp_path):
    cells = pd.DataFrame({"a": ["p", "q"] * 4, "stays": ["y", "y", "n", "n"] * 2, "n": [5, 9, 4, 7, 8, 3, 6, 2]})
    for k, more in enumerate(({"weights": "n", "weights_are": "frequency"}, {})):
        mb.report(mb.fit_logistic(cells, "stays", ["a"], event="y", **more), tmp_path / f"{k}.html")
        assert "held out" in words(seen((tmp_path / f"{k}.html").read_text(encoding="utf-8")))


def test_a_report_from_python_tells_fits_with_their_other_bases(tmp_path):
    study, path = choir(), tmp_path / "page.html"
    fit, entry = MADE["linear"](study), MADE["blocks"](study)
    screened = mb.screen(study, ["age", "km"], "score")
    several = {"Who <scores>": fit, "Step by step": entry, "Before": screened, "Any order": mb.dominance(fit)}
    mb.report(several, path, title="Choir & score", margin={"score": 2})
    page = path.read_text(encoding="utf-8")
    tree = seen(page)
    assert "beside this page" not in words(tree)
    assert [words(h) for h in tree.xpath("//h2")] == ["In short", *several, "Methods"]
    captions = [words(c) for c in tree.xpath("//figcaption")]
    assert {c.partition(":")[0] for c in captions} >= {"Correlations", "What each term adds over all orders of entry"}
    verdicts = fit.between("voice", margin=2)["verdict"].tolist()
    told = next(t for t in tree.xpath("//table") if words(t.xpath(".//thead")[0]).endswith("p smaller p larger says"))
    assert [words(r.xpath("td")[-1]).partition(",")[0] for r in told.xpath(".//tbody/tr")] == verdicts
    assert re.search("smaller than 2 .*in either direction, was tested", words(tree))
    levels = [int(h.tag[1]) for h in tree.xpath("//h1|//h2|//h3|//h4")]
    assert levels[0] == 1
    assert all(after - before <= 1 for before, after in itertools.pairwise(levels))
    assert not re.search(r"<script|<(?:img|link)|(?:src|href)=\"(?!data:|#)", page)
    grid = next(t for t in tree.xpath("//table") if words(t.xpath(".//thead")[0]) == "voice alto bass soprano tenor")
    pairs = fit.between("voice").set_index(["level", "against"])
    cells = {r.xpath("th")[0].text: [c.get("title") for c in r.xpath("td")] for r in grid.xpath(".//tbody/tr")}
    assert float(cells["tenor"][1].replace("−", "-")) == pairs.loc[("tenor", "bass"), "difference"]
    assert float(cells["bass"][3]) == pairs.loc[("tenor", "bass"), "p_corrected"]
    links = [unquote(a.get("href")).partition(",")[2] for a in tree.xpath("//a[@download]")]
    table = pd.read_csv(io.StringIO(next(link for link in links if "estimate" in link.split("\n")[0])))
    told = dict(zip(table.iloc[:, 0].str.strip(), table["estimate"], strict=True))
    for r in fit.coefficients.itertuples():
        if r.term == "voice" and not r.base:
            assert float(told[r.level]) == r.estimate
    mb.report([fit, fit], tmp_path / "twice.html", figures=False)
    headings = [words(h) for h in seen((tmp_path / "twice.html").read_text(encoding="utf-8")).xpath("//h2")]
    assert len(set(headings)) == len(headings) == 4
    before = path.read_bytes()
    out, both = tmp_path / "b.html", [fit, MADE["logistic"](study)]
    for wanted, kind, said in [
        (lambda: mb.report(fit, path), mb.FileError, "is there already"),
        (lambda: mb.report(fit, tmp_path / "page.docx"), mb.FileError, r"does not end in \.html"),
        (lambda: mb.report([], out), mb.MarkbaseError, "at least one"),
        (lambda: mb.report([3], out), mb.MarkbaseError, "a screening or a study; not of 3"),
        (lambda: mb.report(fit, out, groups="voice"), mb.MarkbaseError, "`groups` of `report` is a list"),
        (lambda: mb.report(fit, out, groups=["choir"]), mb.ColumnError, "choir"),
        (lambda: mb.report(fit, out, margin={"scor": 2}), mb.ColumnError, "Did you mean `score`"),
        (lambda: mb.report(both, out, margin=2), mb.MarkbaseError, "{'score': 2, …}"),
        (lambda: mb.report(fit, out, margin=0), mb.MarkbaseError, "a positive number"),
    ]:
        with pytest.raises(kind, match=said):
            wanted()
    assert path.read_bytes() == before
    assert not out.exists()
    mb.report(screened, path, title="Choir & score", replace=True)
    assert path.read_bytes() != before
