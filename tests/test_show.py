"""What is printed: the same in text and HTML, escaped, and true for every shape of estimate."""

import html
import re

import numpy as np
import pandas as pd
import pytest

import markbase as mb
from markbase.core.wording import number, p_phrase, short, without_zero
from markbase.show.page import Strip
from markbase.show.text import draw

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


@pytest.mark.parametrize("result", ["fit", "study", "trail", "reading", "equation"])
def test_html_and_text_show_the_same_numbers(result):
    study = mb.demo.choirs().mark("voice", "alto")
    fit = mb.fit_linear(study, "belonging", ["age", "voice", "travel_km"])
    shown = {"fit": fit, "study": study, "trail": study.trail, "reading": fit.reading(), "equation": fit.equation()}[
        result
    ]
    page = re.sub(r"<style>.*?</style>|<svg.*?</svg>", "", shown._repr_html_(), flags=re.S)
    plain = html.unescape(re.sub(r"<[^>]+>", " ", page))
    numbers = [sorted(re.findall(r"\d[\d,.]*\d|\d", text)) for text in (plain, str(shown))]
    assert numbers[0] == numbers[1]
    assert repr(shown) == str(shown)


def fitted(effect, rows=400, noise=1.0, share=0.5, seed=2):
    rng = np.random.default_rng(seed)
    here = np.arange(rows) < share * rows
    frame = pd.DataFrame({"g": np.where(here, "new", "old"), "x": rng.normal(size=rows)})
    frame["y"] = effect * here + rng.normal(0, noise, rows)
    return mb.fit_linear(mb.Study(frame).mark("g", "old"), "y", ["g", "x"])


SENTENCES = [
    ({"effect": 3.0}, r"on average [23]\.\d+ units higher \(95% interval 2\.\d+ to 3\.\d+ higher, p < \.001\)", ""),
    ({"effect": -3.0}, r"on average \d\.\d+ units lower \(95% interval 2\.\d+ to 3\.\d+ lower, p < \.001\)", ""),
    ({"effect": 0.0}, r"estimated .* lower to .* higher, p = .*: no clear evidence of a difference", ""),
    ({"effect": 0.0, "noise": 5, "share": 0.02}, "no clear evidence of a difference", "Only 8 rows used are `new`"),
    ({"effect": 1e-7, "noise": 1e-8}, r"on average 0\.0000001\d+ units higher|e−8|e−7", ""),
    ({"effect": 4e9, "noise": 1e8}, r"on average [\d.]+e9 units higher", ""),
]


@pytest.mark.parametrize(("made", "told", "caution"), SENTENCES)
def test_sentences_fit_the_numbers(made, told, caution):
    statement = next(s for s in fitted(**made).reading().statements if s.level == "new")
    assert re.search(told, statement.text)
    assert "compared with the base `old`" in statement.text
    assert "other terms held equal" in statement.text
    assert "no difference" not in statement.text
    assert caution in " ".join(statement.cautions)


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
    assert any(line.split()[:1] == ["alto"] and "base" in line for line in lines)


def test_an_interval_clear_of_zero_is_drawn_clear_of_it():
    for width in (9, 15, 31):
        line = draw(Strip(0.01, 5, 10, -0.8, 10.8), width)
        assert line.index("┊") < line.index("├")
        assert "┼" in draw(Strip(-3, 1, 10, -4, 11), width)
    assert draw(Strip(0, 0, 0, -1, 1, is_base=True), 9) == "    ◇"


NUMBERS = [
    (number, (-0.004, 2), "0.00"),
    (number, (-1234.5, 1), "−1,234.5"),
    (number, (float("nan"),), "–"),
    (p_phrase, (0.0004,), "p < .001"),
    (p_phrase, (0.0496,), "p = .0496"),
    (p_phrase, (0.0506,), "p = .051"),
    (p_phrase, (0.9999,), "p > .999"),
    (short, (0.00123456,), "0.00123"),
    (short, (1200.0,), "1,200"),
    (without_zero, (0.1976,), ".198"),
    (without_zero, (-0.0042,), "−.004"),
    (without_zero, (1.0,), "1.000"),
]


@pytest.mark.parametrize(("write", "value", "text"), NUMBERS)
def test_numbers_are_written_as_the_field_does(write, value, text):
    assert write(*value) == text
