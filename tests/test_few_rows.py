"""Hardly any rows: what is left of a fit when one is left out, and nothing undefined among what is shown."""

import re

import numpy as np
import pandas as pd
import pytest

import markbase as mb

pytestmark = pytest.mark.filterwarnings("ignore::markbase.MarkbaseWarning")
UNDEFINED = re.compile(r"\bnan\b|\binf\b|– to|–%|– higher|– lower|\b1 rows\b")
MODELS = [["x"], ["part"], [mb.polynomial("x", 2)], ["x", "part", mb.interaction("x", "part")]]


def few(rows, seed):
    """Return hardly any rows, many of them alike."""
    rng = np.random.default_rng(seed)
    table = {name: rng.normal(size=rows).round(1) for name in ("y", "x")}
    table |= {"part": rng.choice(list("pqr"), rows), "choir": rng.choice(list("klmn"), rows)}
    return pd.DataFrame(table | {"stays": rng.choice(["yes", "no"], rows), "weight": rng.choice([1.0, 2.0], rows)})


@pytest.mark.parametrize("rows", [3, 4, 5, 8])
@pytest.mark.parametrize("options", [{}, {"cluster": "choir"}, {"weights": "weight"}], ids=str)
def test_of_hardly_any_rows_nothing_undefined_is_told(rows, options):
    shown = []
    for seed in (0, 1, 15):
        for terms in MODELS:
            for fit in (lambda t, *o: mb.fit_linear(t, "y", *o, **options), lambda t, *o: mb.fit_logistic(t, "stays", *o, event="yes", **options)):  # fmt: skip
                try:
                    made = fit(few(rows, seed), terms)
                except mb.MarkbaseError:
                    continue
                if hasattr(made, "standardised") and not made.exact:
                    lower = made.strength.residual_sd < made.outcome_sd
                    assert ("does not bring it down" in str(made.guide().steps[2].meaning)) != lower
                shown += [str(made), str(made.guide()), *([] if made.exact else [str(made.checks())])]
    assert shown
    for text in shown:
        assert not UNDEFINED.search(" ".join(text.split()))


@pytest.mark.parametrize("kind", ["linear", "logistic", "linear, clustered"])
def test_a_fit_on_some_of_its_rows_is_that_of_these_rows_with_weights_as_well(kind):
    rng = np.random.default_rng(0)
    data = pd.DataFrame({"x": rng.normal(size=80), "part": rng.choice(["a", "b"], 80), "weight": rng.lognormal(size=80), "choir": np.arange(80) % 9})  # fmt: skip
    data["y"] = data["x"] + rng.normal(size=80)
    data["stays"] = np.where(data["y"] > 0, "yes", "no")
    options = {"weights": "weight"} | ({"cluster": "choir"} if "clustered" in kind else {})

    def figures(told):
        return {name: value for name, value in vars(told).items() if isinstance(value, float)}

    def fit(rows):
        study = mb.Study(rows).as_categorical("choir").mark("part", "a")
        if kind == "logistic":
            return mb.fit_logistic(study, "stays", ["x", "part"], event="yes", **options)
        return mb.fit_linear(study, "y", ["x", "part"], **options)

    used = rng.random(80) < 0.6
    some, own = fit(data).on_rows(used), fit(data[used])
    pd.testing.assert_frame_equal(some.coefficients, own.coefficients, rtol=1e-9)
    assert figures(some.strength) == pytest.approx(figures(own.strength), rel=1e-9)
    blank = data.assign(weight=data["weight"].where(data.index > 4))
    assert fit(blank).rows_for(["x"]) == 75
    assert figures(some.overall) == pytest.approx(figures(own.overall), rel=1e-9)
    data.loc[~used, "extra"] = np.nan  # fits of other rows are compared on those they share
    data.loc[used, "extra"] = rng.normal(size=int(used.sum()))
    study = mb.Study(data).as_categorical("choir").mark("part", "a")
    fits = [mb.fit_logistic(study, "stays", t, event="yes", **options) if kind == "logistic" else mb.fit_linear(study, "y", t, **options) for t in (["x", "part"], ["x", "part", "extra"])]  # fmt: skip
    shared = mb.compare(*fits)
    assert shared.refitted == ("A",)
    assert figures(shared.fits[0].strength) == pytest.approx(figures(own.strength), rel=1e-9)
