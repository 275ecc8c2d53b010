"""Sentences: a corpus that is read in full when it changes, and what must hold of every sentence whatever the numbers."""

import re

import numpy as np
import pandas as pd
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

import markbase as mb
import sentence_cases
from sentence_cases import BOOK, CASES, quietly, told

KEPT = dict(zip(CASES, re.split(r"\n(?==)", BOOK.read_text(encoding="utf-8")), strict=True))
BANNED = r"\b(because|causes?d?|leads? to|due to|effect of|impact|influences?|chances?|likely|likelier|risk|proves?|significant(ly)?)\b"


@pytest.mark.parametrize("name", CASES)
def test_the_sentences_of_a_case_are_those_that_were_read(name):
    assert told(name).rstrip("\n") == KEPT[name].rstrip("\n")


def sentences(fit):
    """Return every statement and caution of a fit."""
    reading = quietly(fit.reading)
    return reading, [*(s.text for s in reading.statements), *(c for s in reading.statements for c in s.cautions), *reading.cautions]


@settings(max_examples=25, deadline=None)
@given(
    seed=st.integers(0, 10**6),
    size=st.sampled_from([0.0, 0.3, -0.6, 4.0]),
    scale=st.sampled_from([1e-4, 1.0, 1e6]),
    terms=st.sampled_from([["age", "voice"], ["voice", "stays"], ["new", "voice"], ["age", "stays", mb.interaction("age", "stays")]]),
    outcome=st.sampled_from(["score", "log_fee", "here"]),
    kind=st.sampled_from(["linear", "logistic"]),
    level=st.sampled_from([0.95, 0.9]),
    base=st.sampled_from(["alto", "tenor"]),
)
def test_whatever_the_numbers_direction_interval_and_verdict_agree(seed, size, scale, terms, outcome, kind, level, base):
    frame = sentence_cases.rows(150, seed)
    frame["score"] = scale * (frame["score"] + size * 6 * (frame["voice"] == "bass"))
    study = quietly(lambda: mb.Study(frame).mark("voice", base).derive("log_fee", log="fee"))
    if kind == "linear":
        fit = quietly(lambda: mb.fit_linear(study, outcome, terms, level=level))
    else:
        fit = quietly(lambda: mb.fit_logistic(study, "here", terms, event=1, level=level, penalty="firth"))
    reading, every = sentences(fit)
    for text in every:
        assert not re.search(BANNED, text), text
        assert not re.search(r"  |\(\)|None|nan|[a-z]\.[A-Z]", text), text
        assert text[0].isupper() or text[0].isdigit() or text[0] == "`", text
    rows = fit.coefficients.set_index(["term", "level"])
    verdicts = {}
    for statement in reading.statements:
        key = (statement.term, statement.level)
        assert key not in verdicts, key  # one verdict a contrast
        verdicts[key] = statement
        alone = [k for k in rows.index if k[0] == statement.term and not rows.loc[[k], "base"].iloc[0]]
        if statement.level == "" and len(alone) == 1 and alone[0][1]:
            raise AssertionError(f"two verdicts on one difference: {statement.text}")
        if key not in rows.index or key[0] == "(intercept)":
            continue
        row = rows.loc[[key]].iloc[0]
        first = statement.text.partition(" (")[0]
        unclear = "no clear evidence" in statement.text
        assert unclear == (row["p"] >= 1 - level)
        if kind == "linear":
            assert ("lower" in first, "higher" in first) == (row["estimate"] < 0, row["estimate"] > 0) or "times as high" in first
        elif "times as" not in first:
            assert ("lower" in first, "higher" in first) == (row["estimate"] < 0, row["estimate"] > 0)
        shown = re.search(r"\(.*?CI (.*?), p [=<>]", statement.text).group(1)
        if kind == "linear":
            assert ("lower to" in shown) == (row["low"] < 0 < row["high"]) or "times" in shown
            ends = [abs(float(v.replace(",", ""))) for v in re.findall(r"\d[\d,]*\.?\d*(?:e−?\d+)?", shown.replace("%", ""))]
            want = [row["low"], row["high"]]
            if outcome == "log_fee":
                want = [np.expm1(v) * 100 if "times" not in shown else np.exp(v) for v in want]
            if outcome == "here":
                want = [100 * v for v in want]
            width = abs(want[1] - want[0])
            assert sorted(ends) == pytest.approx(sorted(map(abs, want)), abs=0.05 * width)
        else:
            low, high = (float(v.replace(",", "")) for v in re.findall(r"\d[\d,]*\.?\d*", shown)[:2])
            assert (low < 1 < high) == (row["odds_low"] < 1 < row["odds_high"])
    page = str(fit)
    for text in (s.text for s in reading.statements):
        assert " ".join(text.replace("`", "").split()[:8]) in " ".join(page.split())


def test_the_line_for_clear_evidence_is_shown_wherever_two_p_lie_beside_it():
    for p in (0.04999, 0.049999, 0.0499999, 0.05001, 0.0500001):
        from markbase.core.formatting import p_value

        shown = p_value(p)
        assert (float(shown) < 0.05) == (p < 0.05)
    assert [p_value(v) for v in (0.0304, 0.05, 0.0004, 0.9996)] == [".030", ".050", "< .001", "> .999"]


@pytest.mark.filterwarnings("ignore::markbase.MarkbaseWarning")
def test_methods_say_what_happened_and_nothing_else():
    from markbase.core.reading.methods import Procedure, methods_paragraph

    study = mb.demo.plan().open().derive("hours", log1p="practice_hours")
    plain = methods_paragraph(mb.fit_linear(study, "travel_km", ["concerts"]), "1")
    for word in ("Weight", "weight", "block", "Holm", "cross", "held out", "fixed", "indicators", "Merged"):
        assert word not in plain
    fit = mb.fit_linear(study, "hours", ["voice", "age"], weights="weight")
    entry = mb.fit_blocks(study, "hours", {"a": ["age"], "b": ["voice"]})
    blocks = (("a", ("age",)), ("b", ("voice",)))
    did = Procedure(study.trail, blocks, entry.changes[-1].kind, 500, 3, ("voice",), "holm", 10, 0.25, 0.5)
    rich = methods_paragraph(fit, "1", did)
    for word in (
        "Rows were weighted by `weight`, as sampling weights",
        "Merged `tennor` into `tenor` in `voice`",
        "(a slip of the pen).",
        "Made `hours`, the natural logarithm of 1 + x of `practice_hours`",
        "Terms entered in 2 blocks, `a` (age) and `b` (voice)",
        "500 bootstrap samples (seed 3)",
        "were corrected after Holm",
        "each of 10 parts",
        "differences are smaller than 0.5 log units",
        "25% of the rows were held out",
        "`age` no answer (-9) in 12",
    ):
        assert word in rich, word
    assert "joined_through" not in rich  # what was done to other columns is not this model's business
    assert pd.Series(rich.split(". ")).str.len().gt(0).all()


def test_a_step_that_no_rows_show_is_said_to_be_none():
    rng = np.random.default_rng(3)
    data = pd.DataFrame({"share": rng.uniform(0.2, 0.7, 900), "far": rng.normal(0, 0.2, 900)})
    data["y"] = 3 * data["share"] + rng.normal(size=900)
    data["yes"] = rng.random(900) < 1 / (1 + np.exp(-9 * data["far"]))
    study = mb.Study(data).as_categorical("yes")
    linear = " ".join(sentences(quietly(lambda: mb.fit_linear(study, "y", ["share", "far"])))[1])
    assert "A whole unit is more than `share` spans in these rows (0.20" in linear
    assert "than `far` spans" not in linear
    fit = quietly(lambda: mb.fit_logistic(study, "yes", ["share", "far"], event=True))
    effect, sd = fit.marginal["effect"].iloc[1], data["far"].std()
    assert effect > 1
    told = [s.cautions for s in fit.reading().statements]
    assert re.search(r"more than 100 percentage points apart.* ([\d.]+) points over one", str(told[2])).group(1) == f"{100 * effect * sd:.3g}"  # fmt: skip
    assert "100 percentage points" not in str(told[1])


def test_a_difference_of_just_one_has_a_unit_of_one_where_it_is_told_without_decimals():
    book = {"columns": {"y": {"kind": "numeric", "unit": ["year", "years"]}}}
    for spread, words in ((1.0, "1.00 years higher"), (0.0, "1 year higher")):
        data = pd.DataFrame({"part": list("aabb") * 20, "y": np.tile([5 - spread, 5 + spread, 6 - spread, 6 + spread], 20)})
        told = quietly(lambda d=data: mb.fit_linear(mb.Study(d, book).mark("part", "a"), "y", ["part"])).reading()
        assert words in told.statements[-1].text
