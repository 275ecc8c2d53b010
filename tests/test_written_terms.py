"""Terms written as on paper, or as text: what is asked for, and what is told of others."""

import pandas as pd
import pytest

import markbase as mb
from reference import made_up


@pytest.mark.parametrize(
    ("term", "told"),
    [
        ("age*voice", "a product of `age` and `voice` is an interaction, a term of its own: interaction\\(age, voice\\)\\.$"),
        ("age:voice", "a product of `age` and `voice` is an interaction"),
        ("age x voice", "a product of `age` and `voice` is an interaction"),
        ("age × voice·km", "of `age`, `voice` and `km` is an interaction, .*: interaction\\(age, voice, km\\)\\.$"),
        ("age^2", "powers of `age` are a polynomial, a term of its own: polynomial\\(age, 2\\)\\.$"),
        ("age ³", "powers of `age` are a polynomial, .*: polynomial\\(age, 3\\)\\.$"),
        ("polynomial(age, 4)", "degree 2 or 3, not 4"),
        ("log( age )", "make a column of `age` first"),
        ("age*voices", "has no column `age.voices`"),
        ("age^4", "has no column `age.4`"),
        ("log(ages)", "has no column `log.ages.`"),
    ],
)
def test_a_term_written_as_on_paper_is_told_what_asks_for_it(term, told):
    with pytest.raises(mb.MarkbaseError, match=told):
        mb.fit_linear(mb.Study(pd.DataFrame(made_up(60))), "score", ["age", term])


@pytest.mark.parametrize("name", ["age*voice", "interaction(age, voice)"])
def test_a_column_may_be_called_like_a_product(name):
    frame = pd.DataFrame(made_up(200)).rename(columns={"km": name})
    fit = mb.fit_linear(mb.Study(frame), "score", ["age", name])
    assert fit.coefficients["term"].tolist() == ["(intercept)", "age", name]


@pytest.mark.filterwarnings("ignore::markbase.MarkbaseWarning")
@pytest.mark.parametrize("name", ["voice", "voice, part"])
def test_terms_of_a_list_may_be_written_as_text_as_they_are_proposed(name):
    study = mb.Study(pd.DataFrame(made_up(200)).rename(columns={"voice": name}))
    with pytest.raises(mb.ColumnError) as problem:
        mb.fit_linear(study, "score", [f"age*{name}"])
    text = str(problem.value).rpartition(": ")[2].rstrip(".")
    first = ["age", name]
    for texts, made in (([text], [mb.interaction("age", name)]), (["polynomial(age, 3)"], [mb.polynomial("age", 3)])):
        told = [mb.fit_blocks(study, "score", {"first": first, "then": terms}).steps for terms in (texts, made)]
        pd.testing.assert_frame_equal(*told)
    with pytest.raises(mb.FitError, match="is no single column"):
        mb.screen(study, [*first, text])
