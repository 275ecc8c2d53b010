"""Checks of a logistic fit: log odds that bend, cases and clusters that a result hangs on."""

import math

import numpy as np
import pandas as pd
import pytest

import markbase as mb
from markbase.core.checks import logistic_findings
from markbase.core.checks.clusters_left_out import moved_most
from yes_no import choir, study_of

pytestmark = pytest.mark.filterwarnings("ignore::markbase.MarkbaseWarning")


def finding(checks, about):
    return next(f for f in checks.findings if f.about == about)


@pytest.mark.parametrize("options", [{}, {"penalty": "firth"}, {"errors": "HC1"}, {"cluster": "team"}], ids="-".join)
def test_a_line_is_tested_by_its_square(options):
    study = study_of(choir(300))
    fit = mb.fit_logistic(study, "stays", ["voice", "age", "km"], event="yes", **options)
    lines = fit.checks().lines.set_index("term")
    assert list(lines.index) == ["age", "km"]
    for name in lines.index:
        bent = mb.polynomial(name, 2)
        terms = [bent if t == name else t for t in ("voice", "age", "km")]
        more = mb.fit_logistic(study, "stays", terms, event="yes", **options)
        own = more.coefficients.set_index("level").loc[f"{name}²"]
        if options in ({}, {"penalty": "firth"}):
            blocks = mb.fit_blocks(study, "stays", {"a": ["voice", "age", "km"], "b": [bent]}, kind="logistic", event="yes", **options)
            wanted, p = blocks.steps.iloc[1][["statistic", "p"]]
            if not options:
                assert lines.loc[name, "statistic"] == pytest.approx(2 * (more.strength.loglik - fit.strength.loglik), rel=1e-6)
        else:
            wanted, p = own["z" if "z" in own else "t"] ** 2, own["p"]
        assert lines.loc[name, "statistic"] == pytest.approx(wanted, rel=1e-6, abs=1e-9)
        assert lines.loc[name, "p"] == pytest.approx(p, rel=1e-6)
        assert lines.loc[name, "bend"] == ("upward" if own["estimate"] > 0 else "downward")


def test_what_bends_is_said_and_what_has_no_square_or_no_test_is_not_made_up():
    rng = np.random.default_rng(3)
    x = rng.uniform(-2, 2, 600)
    frame = pd.DataFrame({"x": x, "two": rng.integers(0, 2, 600) * 7.0, "w": rng.normal(size=600)})
    frame["y"] = np.where(rng.random(600) < 1 / (1 + np.exp(1.5 - x**2)), "yes", "no")
    study = mb.Study(frame)
    checks = mb.fit_logistic(study, "y", ["x", "two", "w"], event="yes").checks()
    told = finding(checks, "straight lines")
    assert list(checks.lines["term"]) == ["x", "w"]
    assert told.meaning.startswith("the log odds bend along `x` (upward)")
    assert "a square of `x` (centred first)" in told.way_on
    cured = mb.fit_logistic(study, "y", [mb.polynomial("x", 2), "w"], event="yes").checks()
    assert finding(cured, "straight lines").meaning.startswith("no clear evidence that the log odds bend")
    frame["y"] = np.where(np.abs(x) > 1, "yes", "no")  # its square foretells it
    foretold = mb.fit_logistic(mb.Study(frame), "y", ["x"], event="yes").checks()
    assert math.isnan(foretold.lines["statistic"].iloc[0])
    assert "`x` not tested, since with its square the model cannot be estimated" in finding(foretold, "straight lines").figures
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(logistic_findings, "_MOST_WORK", 100)
        much = mb.fit_logistic(study, "y", ["x", "two"], event="yes").checks()
    assert much.lines is None
    assert "straight along `x` and `two`" in finding(much, "straight lines").meaning
    assert not any(f.about == "straight lines" for f in mb.fit_logistic(mb.Study(frame.assign(y=rng.permutation(frame["y"]))), "y", ["two"], event="yes") .checks() .findings)  # fmt: skip


def test_cases_and_clusters_are_those_of_the_fit():
    frame = choir(300)
    frame.loc[0, ["km", "stays"]] = [900.0, "yes"]
    study = study_of(frame).as_role("team", "cluster")
    fit = mb.fit_logistic(study, "stays", ["age", "km"], event="yes", cluster="team")
    checks = fit.checks(most=4)
    pd.testing.assert_frame_equal(checks.cases, fit.cases(4))
    largest = checks.cases["influence"].iloc[0]
    assert ("one case alone moves the fit" in finding(checks, "cases").meaning) == (largest > 1)
    pd.testing.assert_frame_equal(checks.clusters, moved_most(fit.without_clusters()))
    assert " in log odds, and " in finding(checks, "clusters").figures
    alone = mb.fit_logistic(study, "stays", ["age", "km"], event="yes").checks()
    assert finding(alone, "rows together").way_on == "cluster the errors by `team`"
    frame.loc[4, "voice"] = "solo"
    lone = mb.fit_logistic(study_of(frame), "stays", ["age", "voice"], event="yes", penalty="firth").checks()
    assert lone.cases["influence"].max() < 1
    assert finding(lone, "rows alone").figures == "1 row with a leverage of 1"
