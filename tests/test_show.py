"""What is printed: the same in text and HTML, escaped, and true for every shape of estimate."""

import re

import numpy as np
import pandas as pd
import pytest

import markbase as mb
from command import run
from markbase.core.formatting import number, p_phrase, plain, points, short, without_zero
from markbase.show.fit import fit_page
from markbase.show.page import Strip
from markbase.show.text import draw, headed, to_text
from seen import seen, words

NASTY = ["<b>bold</b>", "[red]x[/red]", '"quoted"', "=cmd()", "a`b", "two\nlines", "\x1b[31mred"]


def nasty_fit():
    rng = np.random.default_rng(1)
    n = 350
    group = np.array(NASTY)[np.arange(n) % len(NASTY)]
    frame = pd.DataFrame({"<i>g</i>": group, "[bold]x": rng.normal(size=n)})
    frame["y & z"] = rng.normal(size=n)
    return mb.fit_linear(mb.Study(frame, name="<data>").mark("<i>g</i>", "=cmd()"), "y & z", ["<i>g</i>", "[bold]x"])


def test_every_label_is_escaped_in_html_and_literal_in_text():
    fit = nasty_fit()
    text, page = str(fit), fit._repr_html_()
    for label in ("<b>bold</b>", "[red]x[/red]", '"quoted"', "=cmd()", "[bold]x", "<i>g</i>"):
        assert label in text
    assert "\x1b" not in text
    assert "<b>bold</b>" not in page
    assert "<i>g</i>" not in page
    assert "&lt;b&gt;bold&lt;/b&gt;" in page
    assert "<script" not in page
    assert page == fit._repr_html_()


def test_weight_and_colour_say_nothing_that_the_words_do_not_and_names_are_bold():
    fit = mb.fit_linear(mb.demo.choirs().mark("voice", "alto"), "belonging", ["age", "voice"])
    plain_text, page = to_text(fit_page(fit), 400), to_text(fit_page(fit), 400, colour=True)
    assert [re.sub(r"\x1b\[[\d;]*m", "", line).rstrip() for line in page.splitlines()] == plain_text.splitlines()
    told = [line.replace("·", "").strip() for line in page.splitlines() if "\x1b[1m" in line]
    for statement in fit.reading().statements:
        assert re.sub("`([^`]*)`", "\x1b[1m\\1\x1b[0m", statement.text) in told


@pytest.mark.parametrize("result", ["fit", "study", "trail", "reading", "equation", "lines", "guide", "odds", "classification", "odds reading"])
def test_html_and_text_show_the_same_numbers(result, monkeypatch):
    monkeypatch.setenv("COLUMNS", "112")  # so wide that there is room for every drawing
    study = mb.demo.choirs().mark("voice", "alto")
    fit = mb.fit_linear(study, "belonging", ["age", "voice", "travel_km"])
    shown = {"fit": fit, "study": study, "trail": study.trail, "reading": fit.reading(), "equation": fit.equation()}
    if result not in shown:
        merged = study.merge_levels("voice", {"tenor": ["tennor"]})
        logistic = mb.fit_logistic(merged, "stays", ["age", "voice"], event="yes")
        shown |= {"lines": fit.equation(by="voice"), "guide": fit.guide(), "odds": logistic, "classification": logistic.classification()}
        shown["odds reading"] = logistic.reading()
    shown = shown[result]
    tree = seen(shown._repr_html_())
    for element in tree.xpath("//fieldset | //svg"):
        element.drop_tree()
    numbers = [sorted(re.findall(r"\d[\d,.]*\d|\d", text)) for text in (words(tree), str(shown))]
    assert numbers[0] == numbers[1]
    assert repr(shown).startswith(f"<{type(shown).__name__}")
    assert len(repr(shown)) < 120


def fitted(effect, rows=400, noise=1.0, share=0.5, seed=2):
    rng = np.random.default_rng(seed)
    here = np.arange(rows) < share * rows
    frame = pd.DataFrame({"g": np.where(here, "new", "old"), "x": rng.normal(size=rows)})
    frame["y"] = effect * here + rng.normal(0, noise, rows)
    return mb.fit_linear(mb.Study(frame).mark("g", "old"), "y", ["g", "x"])


SENTENCES = [
    ({"effect": 3.0}, r"on average [23]\.\d+ units higher \(95% CI 2\.\d+ to 3\.\d+ higher, p < \.001\)", ""),
    ({"effect": -3.0}, r"on average \d\.\d+ units lower \(95% CI 2\.\d+ to 3\.\d+ lower, p < \.001\)", ""),
    ({"effect": 0.0}, r"estimated .* lower to .* higher, p = .*: no clear evidence of a difference", ""),
    ({"effect": 0.0, "noise": 5, "share": 0.02}, "no clear evidence of a difference", "Only 8 rows used have `g`"),
    ({"effect": 1e-7, "noise": 1e-8}, r"on average 0\.0000001\d+ units higher|e−8|e−7", ""),
    ({"effect": 4e9, "noise": 1e8}, r"on average 3,9\d\d,\d\d\d,\d\d\d units higher", ""),
]


@pytest.mark.filterwarnings("ignore:.*(overlap|order of):markbase.MarkbaseWarning")
@pytest.mark.parametrize(("made", "told", "caution"), SENTENCES)
def test_sentences_fit_the_numbers(made, told, caution):
    statement = next(s for s in fitted(**made).reading().statements if s.level == "new")
    assert re.search(told, statement.text)
    assert "compared with the base `old`" in statement.text
    assert "other terms held equal" in statement.text
    assert "no difference" not in statement.text
    assert caution in " ".join(statement.cautions)


def odds(effect, rows=2000, rate=0.0, share=0.5, seed=2, **more):
    rng = np.random.default_rng(seed)
    here = np.arange(rows) < share * rows
    frame = pd.DataFrame({"g": np.where(here, "new", "old"), "x": rng.normal(size=rows)})
    frame["y"] = np.where(rng.random(rows) < 1 / (1 + np.exp(-(rate + effect * here))), "on", "off")
    return mb.fit_logistic(mb.Study(frame).mark("g", "old"), "y", ["g", "x"], event="on", **more)


ODDS_SENTENCES = [
    ({"effect": 0.9}, r"odds of `y` = `on` are 2\.\d+ times as high \(odds ratio 2\.\d+, 95% CI .* p < \.001\)", ""),
    ({"effect": -0.5}, r"are (3|4)\d% lower \(odds ratio 0\.\d{3}, .* percentage points lower", ""),
    ({"effect": 0.0}, r"are estimated .*: no clear evidence of a difference, in either direction\. In probability", ""),
    ({"effect": 0.0, "share": 0.01}, "no clear evidence of a difference", "Only 20 rows used have `g` `new`"),
    ({"effect": 0.3, "rate": -5.0, "share": 0.1, "penalty": "firth"}, "odds ratio", "what is told of it rests on"),
    ({"effect": 6.0, "rate": -4.0}, r"(1|2|3|4|5|6|7|8|9)\d\d(\.\d)? times as high", ""),
]


@pytest.mark.filterwarnings("ignore::markbase.MarkbaseWarning")
@pytest.mark.parametrize(("made", "told", "caution"), ODDS_SENTENCES)
def test_sentences_of_odds_fit_the_numbers_and_never_call_them_chances(made, told, caution):
    reading = odds(**made).reading()
    statement = next(s for s in reading.statements if s.level == "new")
    assert re.search(told, statement.text)
    assert "compared with the base `old`" in statement.text
    assert "averaged over these rows" in statement.text
    assert caution in " ".join(statement.cautions)
    every = " ".join([s.text for s in reading.statements] + list(reading.cautions))
    assert not re.search(r"likel(y|ier)\b|chances|no difference|because|leads to|causes|p = \.000", every)
    if made.get("rate", 0) < -4.5:
        assert "small differences in probability can be large odds ratios" in every


def test_the_convention_for_p_is_a_setting_with_the_exact_p_beside_it():
    fits = (fitted(0.17, seed=seed) for seed in range(99))
    fit = next(f for f in fits if 0.05 < f.coefficients.iloc[1]["p"] < 0.1)
    row = fit.coefficients.iloc[1]
    strict, loose = (next(s.text for s in fit.reading(alpha).statements if s.level == "new") for alpha in (None, 0.1))
    assert "no clear evidence" in strict
    assert "on average" in loose
    assert p_phrase(row["p"]) in loose
    assert "p below 0.1 counts" in fit.reading(alpha=0.1).cautions[-1]
    with pytest.raises(mb.MarkbaseError, match="The convention for p is 5"):
        fit.reading(alpha=5)


def test_a_difference_that_does_not_survive_the_correction_says_so():
    noise = np.tile([-1.0, 1.0], 150)  # means are exact, so differences are what they are made
    frame = pd.DataFrame({"g": np.repeat(list("abcdef"), 50), "y": noise})
    frame["y"] += frame["g"].map({"a": 0.0, "b": 0.45, "c": 0.9, "d": 0.1, "e": 0.0, "f": -0.1})
    fit = mb.fit_linear(mb.Study(frame).mark("g", "a"), "y", ["g"])
    rows = fit.coefficients.iloc[2:]
    corrected = fit.corrected_p(rows["p"].tolist())
    told = {s.level: " ".join(s.cautions) for s in fit.reading().statements}
    weak = [v for v, p, q in zip(rows["level"], rows["p"], corrected, strict=True) if p < 0.05 <= q]
    assert weak == ["b"]
    assert all(("comparisons of `g` together it is not clear" in told[v]) == (v in weak) for v in rows["level"])


def test_cautions_stand_by_the_number_they_concern():
    study = mb.demo.choirs()
    fit = mb.fit_linear(study, "belonging", ["voice", "age"])
    told = {(s.term, s.level): " ".join(s.cautions) for s in fit.reading().statements}
    assert "was not chosen" in told["voice", ""]
    assert "not a level of the codebook" in told["voice", "tennor"]
    assert "`age` runs from 16 to 86" in told["(intercept)", ""]
    assert "base, not chosen" in str(fit)
    coded = mb.fit_linear(mb.open_study(mb.demo.path("choirs.csv")), "belonging", ["rehearsal_day"])
    assert "if they are codes, this slope means nothing" in " ".join(str(coded.reading()).split())
    assert "with no other term in the model" in coded.reading().statements[1].text


def test_the_equation_is_complete_and_predicts_what_the_fit_gives():
    study = mb.demo.choirs().mark("voice", "tenor")
    fit = mb.fit_linear(study, "belonging", ["age", "voice", "travel_km"])
    equation = fit.equation()
    assert equation.bases == (("voice", "tenor"),)
    row = int(np.flatnonzero(~np.isnan(fit.fitted))[3])
    voice = study["voice"].levels[study["voice"].values[row]].label
    value = 0.0
    for sign, size, factor in re.findall(r"([=+−]) (−?[\d.]+)(?:·(\[[^\]]+\]|\w+))?", equation.text):
        level = re.match(r"\[voice: (\w+)\]", factor)
        x = 1.0 if not factor else float(level[1] == voice) if level else study[factor].values[row]
        value += (-1 if sign == "−" else 1) * float(size.replace("−", "-")) * x
    assert value == pytest.approx(fit.fitted[row], abs=0.01)
    assert equation.text.count("[voice:") == 4


@pytest.mark.parametrize("width", [60, 80, 112])
def test_text_keeps_to_its_width(width):
    from markbase.show.renderer import page_of
    from markbase.show.text import to_text

    fit = mb.fit_linear(mb.demo.choirs().mark("voice", "alto"), "belonging", ["age", "voice"])
    lines = to_text(page_of(fit), width).splitlines()
    assert max(map(len, lines)) <= width
    assert ("◇" in "".join(lines)) == (width > 60)
    base = [k for k, line in enumerate(lines) if line.split()[-1:] == ["alto"] or line.split()[:1] == ["alto"]]
    below = 1 if width > 60 else 7  # where rows are stacked
    assert any("base" in " ".join(lines[k : k + below]) for k in base)


def test_an_interval_clear_of_zero_is_drawn_clear_of_it():
    for width in (9, 15, 31):
        line = draw(Strip(0.01, 5, 10, -0.8, 10.8), width)
        assert line.index("┊") < line.index("├")
        assert "┼" in draw(Strip(-0.01, 5, 10, -0.8, 10.8), width)
        assert "┼" in draw(Strip(-3, 1, 10, -4, 11), width)
    assert draw(Strip(0, 0, 0, -1, 1, is_base=True), 9) == "    ◇"


@pytest.mark.parametrize(("left", "right", "words"), [(-10, 10, ("lower", "higher")), (-0.8, 10.8, ("higher",)), (-10.8, 0.8, ("lower",))])
def test_the_heading_of_drawings_stands_at_their_mark(left, right, words):
    strips = [Strip(a, (a + b) / 2, b, left, right) for a, b in [(left, left / 2), (right / 2, right)]]
    head = headed("lower ┊ higher", strips, 31)
    for strip in strips:
        assert head.index("┊") == draw(strip, 31).ljust(31).index("┊")
    assert [w for w in ("lower", "higher") if w in head] == list(words)
    apart = [*strips, Strip(1, 2, 3, left - 30, right)]
    assert headed("lower ┊ higher", apart, 31) == "lower ┊ higher"
    assert headed("lower ┊ higher", apart, 9) == ""


NUMBERS = [
    (number, (-0.004, 2), "0.00"), (number, (-1234.5, 1), "−1,234.5"), (number, (float("nan"),), "–"),
    (p_phrase, (0.0004,), "p < .001"), (p_phrase, (0.0496,), "p = .0496"), (p_phrase, (0.0506,), "p = .051"),
    (p_phrase, (0.9999,), "p > .999"), (short, (0.00123456,), "0.00123"), (short, (1200.0,), "1,200"),
    (short, (1084445863502.3,), "1.0844e12"), (short, (123456.78, 6), "123,457"), (plain, (2010.0,), "2010"),
    (plain, (12040.0,), "12,040"), (points, (0.00027,), "0.03"), (points, (-0.255,), "25.5"),
    (without_zero, (0.1976,), ".198"), (without_zero, (-0.0042,), "−.004"), (without_zero, (1.0,), "1.000"),
]  # fmt: skip


@pytest.mark.parametrize(("write", "value", "text"), NUMBERS)
def test_numbers_are_written_as_the_field_does(write, value, text):
    assert write(*value) == text


@pytest.mark.parametrize("width", [40, 60, 80, 112])
def test_no_number_and_no_name_is_cut_at_any_width(width, monkeypatch):
    monkeypatch.setenv("COLUMNS", str(width))
    fit = mb.fit_linear(mb.demo.choirs().mark("voice", "alto"), "belonging", ["age", "voice"])
    text = str(fit)
    assert max(map(len, text.splitlines())) <= width
    words = " ".join(text.split())
    for row in fit.coefficients.itertuples():
        assert (row.level or row.term) in words
    monkeypatch.setenv("COLUMNS", "112")
    assert ("┊ is 0" in text) == ("◇" in text)  # a scale is spoken of where it is drawn
    wide = set(re.findall(r"[−\d][\d,]*\.\d+", str(fit)))
    assert wide == set(re.findall(r"[−\d][\d,]*\.\d+", words))


def test_long_names_are_folded_and_what_is_beside_them_stays_whole():
    question = "Thinking of the last twelve months, how often did you sing with others outside of the rehearsals of your choir?"
    level = "Less often than every other week, but more often than once in each of the months of the year"
    rng = np.random.default_rng(3)
    data = pd.DataFrame({question: np.where(rng.random(80) < 0.5, level, "never"), "y": rng.normal(size=80)})
    fit = mb.fit_linear(mb.Study(data).mark(question, level), "y", [question])
    for width in (100, 130, 160):
        lines = to_text(fit_page(fit), width).splitlines()
        assert max(map(len, lines)) <= width
        first = next(k for k, line in enumerate(lines) if "is 1 for rows of that level" in line)
        beside = " ".join(line[lines[first].index("is 1 for") :].strip() for line in lines[first:])
        assert f"{level} (no summand of its own: it is part of the first number)" in beside
        label = " ".join(line[: lines[first].index("is 1 for")].strip() for line in lines[first:])
        assert f"base of {question}" in label
        begun = next(k for k, line in enumerate(lines) if line.startswith("    Less often"))
        cells = re.split(r" {2,}", lines[begun].strip())
        more = [line.strip() for line in lines[begun + 1 : begun + 3] if line.startswith(" " * 8)]
        assert level in " ".join([cells[0], *more])
        assert cells[-1] == "◇" or cells[-1] == "base"


def test_what_is_rare_or_small_is_never_told_as_nothing(tmp_path):
    left = np.zeros(20000)
    left[[*range(0, 8, 2), *range(1, 13, 2)]] = 1  # 4 of 10,000 and 6 of 10,000
    part = np.arange(20000) % 2
    frame = pd.DataFrame({"left": np.where(left > 0, "yes", "no"), "part": np.where(part, "south", "north")})
    frame["rate"] = 2e-4 + 1e-4 * part + 1e-4 * np.sin(np.arange(20000.0))
    frame["budget"] = (6e11 + 1e11 * part + 1e11 * np.cos(np.arange(20000.0))).round()
    frame.to_csv(tmp_path / "rare.csv", index=False)
    rare = ["rare.csv", "--kind", "logistic", "--outcome", "left", "--event", "yes", "--terms", "part"]
    told = " ".join(run("fit", *rare, cwd=tmp_path).stdout.split())
    for pattern in (
        r"in 10 of 20,000 rows used \(0\.050%\)",
        r"99\.950% of rows are classified correctly, no more than always guessing no \(99\.950%\)",
        r"Tjur \.0{4,5}\d",
        r"south +0\.060% +0\.020 +−0\.042 to 0\.082",
        r"0\.060% against 0\.040%, 0\.020 percentage points higher",
    ):
        assert re.search(pattern, told), pattern
    told = run("groups", rare[0], "part", *rare[1:], cwd=tmp_path).stdout
    assert re.search(r"south +10,000 +0\.060 +0\.060 +0\.020", told)
    told = run("predict", *rare, "--profile", "part=north", cwd=tmp_path).stdout
    assert re.search(r"part north +0\.040% +0\.015% to 0\.11%", told)
    assert re.search(r"Brier score +\.0005 +\.0005", run("validate", *rare, cwd=tmp_path).stdout)
    large = ["--outcome", "budget", "--terms", "part"]
    told = " ".join(run("groups", rare[0], "part", *large, cwd=tmp_path).stdout.split())
    row = r"south.* rows 10,000 mean 700,003,500,000 adjusted 700,003,500,000 difference 100,000,700,000"
    assert re.search(row, told)
    told = " ".join(run("predict", rare[0], *large, "--profile", "part=south", cwd=tmp_path).stdout.split())
    assert not re.search(r"\d,\d{3},\d{3},(?!000)\d{3}", told)
    small = ["rare.csv", "--outcome", "rate", "--terms", "part"]
    assert re.search(r"root mean squared error +0\.00007071", run("validate", *small, cwd=tmp_path).stdout)
