"""One coefficient that mixes what goes with the outcome within clusters and between them."""

import re

import numpy as np
import pandas as pd
import pytest
import scipy.optimize as so
import scipy.special as sp

import markbase as mb

pytestmark = pytest.mark.filterwarnings("ignore::markbase.MarkbaseWarning")
SCHOOLS, PUPILS = 40, 15


def pupils(turned, seed=1):
    """Return pupils of schools: more homework goes with more within one, and, if turned, with less between them."""
    rng = np.random.default_rng(seed)
    mean = rng.normal(size=SCHOOLS)
    every = lambda v: np.repeat(v, PUPILS)  # noqa: E731
    frame = pd.DataFrame({"school": [f"s{k:02d}" for k in every(np.arange(SCHOOLS))], "size": every(rng.integers(100, 900, SCHOOLS))})
    frame["homework"] = 5 + 2 * every(mean) + rng.normal(0, 1.5, len(frame))
    share = sp.expit(every(mean))
    frame["girl"], frame["w"] = np.where(rng.random(len(frame)) < share, "yes", "no"), rng.uniform(0.5, 2, len(frame))
    frame["mark"] = 60 + 0.8 * frame["homework"] + (frame["girl"] == "yes") + rng.normal(0, 3, len(frame)) + every(rng.normal(0, 1, SCHOOLS)) - turned * 3 * every(mean)  # fmt: skip
    frame["passed"] = np.where(frame["mark"] + rng.normal(0, 2, len(frame)) > frame["mark"].median(), "yes", "no")
    return frame


def wanted(frame, term, kind, weights=None):
    """Return the coefficients within and between, of columns laid out with the mean by school beside them."""
    own = (frame[term] == "yes") * 1.0 if term == "girl" else frame[term]
    other = frame["homework"] if term == "girl" else (frame["girl"] == "yes") * 1.0
    w = frame["w"] if weights else frame["w"] * 0 + 1
    mean = (own * w).groupby(frame["school"]).transform("sum") / w.groupby(frame["school"]).transform("sum")
    X = np.column_stack([np.ones(len(frame)), own, other, mean])
    if kind == "logistic":
        sign = np.where(frame["passed"] == "yes", 1.0, -1.0)
        b = so.minimize(lambda b: np.logaddexp(0, -sign * (X @ b)).sum(), np.zeros(4), tol=1e-10).x
        return np.exp([b[1], b[1] + b[3]])
    b = np.linalg.lstsq(X * np.sqrt(w.to_numpy())[:, None], frame["mark"] * np.sqrt(w), rcond=None)[0]
    return np.array([b[1], b[1] + b[3]])


def told(fit):
    """Return what is said of terms that mix two things: the numbers within and between, by the name of the cluster and the term."""
    said = {}
    for statement in fit.reading().statements:
        for caution in statement.cautions:
            if match := re.search(r"within one `(\w+)` the (?:coefficient|odds ratio) is (\S+), between them, by \D+, (\S+); the two differ", caution):  # fmt: skip
                said[statement.term] = (match[1], *(float(v.replace("−", "-")) for v in match.group(2, 3)))
    return said


@pytest.mark.parametrize(("kind", "how"), [(k, h) for k in ("linear", "logistic") for h in ("clustered", "role", "hidden", "weights") if (k, h) != ("logistic", "weights")])  # fmt: skip
def test_a_slope_that_turns_round_between_clusters_is_told_with_both(kind, how):
    frame = pupils(turned=1)
    study = mb.Study(frame).mark("girl", "no", reason="asked about girls")
    study = study.as_role("school", "cluster") if how == "role" else study
    more = {"clustered": {"cluster": "school"}, "weights": {"cluster": "school", "weights": "w"}}.get(how, {})

    def make(data, **o):
        terms = ["homework", "girl"]
        return mb.fit_linear(data, "mark", terms, **o) if kind == "linear" else mb.fit_logistic(data, "passed", terms, event="yes", **o)

    said = told(make(study, **more))
    cluster, *numbers = said["homework"]
    assert cluster == "school"
    np.testing.assert_allclose(numbers, wanted(frame, "homework", kind, more.get("weights")), rtol=0.01)
    if "girl" in said:
        np.testing.assert_allclose(said["girl"][1:], wanted(frame, "girl", kind, more.get("weights")), rtol=0.01)
    assert told(make(mb.Study(pupils(turned=0)).as_role("school", "cluster"), **more)) == {}
    if kind == "linear":
        centred = study.derive("own", centre="homework", within="school")
        alone = mb.fit_linear(centred, "mark", ["own", "girl"], **more)
        assert "homework" not in told(alone)
        taken_out = mb.fit_linear(study, "mark", ["homework", "girl"], fixed_effects="school")
        assert told(taken_out) == {}
        plain = mb.fit_linear(study, "mark", ["homework", "size"], **more)
        assert set(told(plain)) == {"homework"}  # the other is the same in all rows of a school


def test_fewer_clusters_than_twenty_and_terms_of_interactions_are_not_asked():
    frame = pupils(turned=1)
    few = frame[frame["school"] < "s19"]
    assert told(mb.fit_linear(few, "mark", ["homework", "girl"], cluster="school")) == {}
    crossed = ["homework", "girl", mb.interaction("homework", "girl")]
    assert told(mb.fit_linear(frame, "mark", crossed, cluster="school")) == {}


def test_a_group_of_several_levels_is_told_with_the_test_of_its_shares_by_dense_columns():
    frame = pupils(turned=1)
    frame["ses"] = pd.cut(frame["homework"], [-99, 4, 6, 99], labels=["low", "mid", "top"]).astype(str)
    flags = np.column_stack([(frame["ses"] == level).to_numpy(float) for level in ("low", "top")])
    of = pd.Categorical(frame["school"]).codes
    shares = np.column_stack([np.bincount(of, weights=own) for own in flags.T])[of] / PUPILS
    X = np.column_stack([np.ones(len(frame)), flags, frame["w"], shares])
    bread, G = np.linalg.inv(X.T @ X), SCHOOLS
    b = bread @ X.T @ frame["mark"]
    scores = np.array([(X[of == g] * (frame["mark"] - X @ b)[of == g].to_numpy()[:, None]).sum(axis=0) for g in range(G)])
    V = bread @ scores.T @ scores @ bread * G / (G - 1) * (len(frame) - 1) / (len(frame) - X.shape[1])
    F = b[4:] @ np.linalg.solve(V[4:, 4:], b[4:]) / 2 * (G - 2) / (G - 1)
    study = mb.Study(frame).mark("ses", "mid")
    fit = mb.fit_linear(study, "mark", ["ses", "w"], cluster="school")
    words = f"It mixes two things: within one `school` its levels go with the outcome otherwise than, between them, their shares do (F(2, 38) = {F:.2f}, p < .001)"  # fmt: skip
    assert sum(words in c for s in fit.reading().statements for c in s.cautions) == 1
    quiet = pupils(turned=0).assign(ses=frame["ses"].to_numpy())
    beside = mb.fit_linear(frame.assign(low=shares[:, 0]), "mark", ["ses", "low"], cluster="school")  # which its shares are made of
    for other in (mb.fit_linear(quiet, "mark", ["homework", "ses"], cluster="school"), mb.fit_linear(study, "mark", ["ses"], fixed_effects="school"), beside):  # fmt: skip
        assert "its levels go with" not in str(other)


@pytest.mark.parametrize("starts", [(4, 4, 99), (3, 6, 99), (2, 4, 7)])
def test_rows_that_count_with_a_negative_weight_are_told_with_what_dense_columns_give(starts):
    rng = np.random.default_rng(7)
    place, wave = np.repeat(np.arange(24), 8), np.tile(np.arange(1, 9), 24)
    frame = pd.DataFrame({"place": [f"p{k}" for k in place], "wave": [f"w{k}" for k in wave], "on": (wave >= np.array(starts)[place % 3]) * 1})  # fmt: skip
    frame["y"], frame["w"] = frame["on"] + rng.normal(size=192), rng.integers(1, 4, 192)
    frame = frame[rng.random(192) > 0.1] if starts[0] == 2 else frame
    frame["does"] = np.where(frame["on"] == 1, "yes", "no")
    cases = [(t, o) for t in ("does", "on") for o in ({}, {"weights": "w", "weights_are": "frequency"})]
    for term, options in cases:
        w = frame["w"].to_numpy(float) if options else np.ones(len(frame))
        others, root = pd.get_dummies(frame[["place", "wave"]]).to_numpy(float), np.sqrt(w)
        D = frame["on"].to_numpy(float)
        left = w * (D - others @ np.linalg.lstsq(others * root[:, None], D * root, rcond=None)[0])
        of = left[D == 1] / left[D == 1].sum()
        words = f"{(of < -1e-9).mean():.1%} of the rows with `{term}` {'' if term == 'does' else '= '}`{'yes' if term == 'does' else 1}` count in it with a negative weight ({of[of < 0].sum():.2f} together".replace("-", "−")  # fmt: skip
        for fixed, terms in ((["place", "wave"], [term]), ("place", [term, "wave"])):
            fit = mb.fit_linear(frame, "y", terms, fixed_effects=fixed, **options)
            told = [c for s in fit.reading().statements for c in s.cautions if "negative weight" in c]
            assert all(c.startswith(words) for c in told)
            assert len(told) == (starts != (4, 4, 99))
