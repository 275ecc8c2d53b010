"""Rows in order of time: what puts them in order, whether those that follow one another are alike, what came before and after."""

import math
import warnings

import numpy as np
import pandas as pd
import pytest
import scipy.integrate as si
from scipy.stats import f_oneway

import markbase as mb


def panel(units, times, rho, seed, effect=3.0):
    """Return the rows of some choirs over some years, with what is left over going on from year to year, in no order."""
    rng = np.random.default_rng(seed)
    e = rng.normal(size=(units, times))
    e[:, 0] /= math.sqrt(1 - rho**2)
    for t in range(1, times):
        e[:, t] += rho * e[:, t - 1]
    frame = pd.DataFrame({"choir": np.repeat([f"c{k:03d}" for k in range(units)], times), "year": np.tile(np.arange(times) + 1990, units)})
    frame["x"], frame["g"] = rng.normal(size=len(frame)), rng.choice(["a", "b", "c"], len(frame))
    frame["batch"] = [f"b{k:02d}" for k in rng.integers(0, 40, len(frame))]
    frame["y"] = 40 + e.ravel() + np.repeat(rng.normal(0, effect, units), times) + 0.5 * frame["x"]
    return frame.sample(frac=1, random_state=seed).reset_index(drop=True)


def dense(frame, fixed):
    """Return r, the matrix M of the residuals and A of the neighbours, laid out."""
    X = np.column_stack([np.ones(len(frame)), frame["x"], frame["g"] == "b", frame["g"] == "c", *((frame["choir"] == c) for c in frame["choir"].unique() if fixed)]).astype(float)  # fmt: skip
    M, A = np.eye(len(frame)) - X @ np.linalg.pinv(X), np.zeros((len(frame), len(frame)))
    ordered = frame.dropna(subset=["year"]).sort_values(["choir", "year"] if fixed else ["year"], kind="stable")
    for a, b in zip(ordered.index[:-1], ordered.index[1:], strict=True):
        A[a, b] = A[b, a] = 0.5 * (not fixed or frame["choir"][a] == frame["choir"][b])
    e = M @ frame["y"]
    return float(e @ A @ e / (e @ e)), M, A


def exact_p(r, M, A):
    """Return P of a correlation as far from the middle, both ways, by the characteristic function of e'(A − r)e (Gil-Pelaez)."""
    values, vectors = np.linalg.eigh(M)
    inner = vectors[:, values > 0.5]
    lam = np.linalg.eigvalsh(inner.T @ A @ inner) - r

    def under(u):
        return np.sin(np.arctan(2 * lam * u).sum() / 2) / (u * np.exp(np.log1p(4 * (lam * u) ** 2).sum() / 4))

    above = 0.5 + si.quad(under, 1e-12, 60, limit=2000)[0] / np.pi
    return 2 * min(above, 1 - above)


def order_of(fit, **given):
    return next(f for f in fit.checks(**given).findings if f.about == "order")


@pytest.mark.parametrize("fixed", [True, False])
@pytest.mark.parametrize(("units", "times", "rho", "gaps"), [(12, 5, 0.0, 0), (9, 6, 0.5, 0), (1, 40, 0.3, 6), (30, 2, -0.6, 0), (7, 8, -0.4, 9)])  # fmt: skip
def test_serial_correlation_is_tested_as_of_dense_rows(units, times, rho, gaps, fixed):
    frame = panel(units, times, rho, 4)
    frame["year"] = frame["year"].astype(float)
    frame.loc[: gaps - 1, "year"] = np.nan  # rows without a time follow none
    if units == 1:
        frame["choir"] = np.where(np.arange(times) % 20 < 10, "one", "other")
    study = mb.Study(frame)
    fit = mb.fit_linear(study, "y", ["x", "g"], fixed_effects="choir" if fixed else None)
    if fixed and times == 2:  # the one residual is the opposite of the other
        assert "cannot be looked at" in order_of(fit, order=study["year"]).meaning
        assert "Breusch" not in str(fit)
        assert "nothing shows within levels" in str(fit.checks())
        assert "year" in str(mb.fit_linear(study, "y", ["x", "year"], fixed_effects="choir"))  # whose square does not vary
    elif fixed or gaps or units == 1:
        checks = fit.checks(order=study["year"])
        r, M, A = dense(frame, fixed)
        assert checks.serial[0] == pytest.approx(r, rel=1e-9, abs=1e-12)
        steps = M @ frame["y"] @ (2 * (abs(A) > 0).sum(axis=0)[:, None] * np.eye(len(A)) - 4 * A) @ (M @ frame["y"]) / 2
        assert checks.serial[1] == pytest.approx(steps / (M @ frame["y"] @ (M @ frame["y"])), rel=1e-9)
        expected = np.trace(M @ A) / np.trace(M)
        assert f"({mb.core.formatting.number(expected, 2)} is expected" in order_of(fit, order=study["year"]).figures
        assert checks.serial[2] == pytest.approx(exact_p(r, M, A), abs=0.004)
    else:  # several rows of a year, and no levels: no column tells rows apart by their times
        assert fit.checks().serial is None


@pytest.mark.parametrize(("rho", "options", "said"), [
    (0.6, {"fixed_effects": "choir"}, "follow one another in time (year)"),
    (0.9, {"fixed_effects": "choir", "times": 3}, "follow one another in time (year)"),  # of which r lies below 0
    (0.0, {"fixed_effects": "choir"}, None),
    (0.6, {"fixed_effects": "choir", "cluster": "choir"}, None),
    (0.6, {}, None),  # several rows of a year: that they are of one choir is told
])  # fmt: skip
def test_a_panel_is_told_where_rows_of_one_follow_one_another(rho, options, said):
    options = dict(options)
    study = mb.Study(panel(150, options.pop("times", 6), rho, 3))
    fit = mb.fit_linear(study, "y", ["x", "g"], **options)
    page = " ".join(str(fit).split())
    assert (said in page and "cluster the errors by choir" in page) if said else "follow one another" not in page
    if options:  # and nothing is claimed of independent rows, whose correlation lies below 0
        meaning = order_of(fit).meaning
        assert ("alike in what the model misses" in meaning) == (rho > 0)
        assert "alternate:" not in meaning
        assert ("which the errors of this fit allow for" in meaning) == ("cluster" in options)
        other = mb.fit_linear(study, "y", ["x"], fixed_effects="choir", cluster="batch")
        assert "allow for" not in order_of(other, order=study["year"]).meaning  # rows of one choir are of many clusters


HAC, TWO = "errors robust to serial correlation (HAC, by year), which allow for both", "errors clustered two ways, by choir and by year"


@pytest.mark.parametrize(
    ("times", "options", "dates", "way"),
    [
        (25, {"fixed_effects": "choir"}, False, HAC),
        (25, {"fixed_effects": "choir", "cluster": "choir"}, False, HAC),
        (25, {"cluster": "choir"}, False, HAC),
        (9, {"fixed_effects": "choir"}, False, TWO),
        (9, {"cluster": "choir"}, True, f"{TWO} 3 How much"),
        (25, {"cluster": "choir"}, True, f"{TWO}, or, where what is left goes on from one year to the next, such as are robust to it (HAC, by year)"),
    ],
)
def test_what_all_have_in_common_at_a_time_is_no_matter_of_clusters_of_units(times, options, dates, way):
    frame = panel(31, times, 0.0, 3).assign(term=lambda t: "30.06." + t["year"].astype(str))
    if dates:  # which are a group as well, whose rows may go together
        frame["year"] = frame["term"]
    at = frame["term"].str[-4:].astype(int) - 1990
    shocks, frame = 2 * np.random.default_rng(32).normal(size=times)[at], frame.drop(columns="term")
    frame["law"] = np.where(at < times // 2, "old", "new")  # the same for all choirs of a year
    fit, quiet = (mb.fit_linear(frame.assign(y=frame["y"] + more), "y", ["x", "law"], **options) for more in (shocks, 0.0))
    e = (frame["y"] + shocks - fit.fitted if "cluster" in options and len(options) == 1 else fit.residuals).to_numpy()
    e = e - pd.Series(e).groupby(frame["choir"].to_numpy()).transform("mean").to_numpy()
    rest = len(e) - times - 30
    F = f_oneway(*(e[at == k] for k in range(times)))[0] * rest / (len(e) - times)
    page, figures = " ".join(str(fit).split()), f"F({times - 1}, {rest}) = {F:,.2f}, p < .001"
    assert "do not allow for year, whose rows are alike in what the model misses" in page
    assert figures in page
    assert f"take {way}" in page
    assert "law is the same in all of them" in page or "law, which is the same in all rows of one" in page
    assert any(f.about == "rows together" and figures in f.figures for f in fit.checks().findings)
    assert "do not allow for" not in str(quiet)
    shaken = frame.assign(y=frame["y"] + shocks)
    assert dates or "do not allow for" not in str(mb.fit_linear(shaken, "y", ["x"], **options))  # nothing is the same for all
    with warnings.catch_warnings():
        warnings.simplefilter("ignore")
        assert "do not allow for" not in str(mb.fit_linear(shaken, "y", ["x", "law"], **{**options, "cluster": ["choir", "year"]}))
    if times == 25 and not dates:
        study, at_all_times = (mb.Study(shaken).as_role("choir", "cluster"), "at all times, for which they do not allow: its levels as fixed effects")
        by_time = [" ".join(str(mb.fit_linear(study, "y", ["x"], time="year", **more)).split()) for more in ({}, {"fixed_effects": "choir"})]
        assert [(at_all_times in page, "errors clustered by it" in page) for page in by_time] == [(True, False), (False, False)]


MONTHS = pd.date_range("2015-01-01", periods=84, freq="MS")
WRITTEN = {"iso": "%Y-%m-%d", "points": "%d.%m.%Y", "slashes": "%m/%d/%Y", "month": "%Y-%m", "month behind": "%m/%Y", "words": "%b %Y", "day and word": "%d. %B %Y", "word and day": "%B %d, %Y"}  # fmt: skip

UNKNOWN = {"slashes": "says whether the day or the month stands first"}


def series(form, later="after", step=0.0):
    """Return the rows of some months, which go on from one to the next, with what is written of the month."""
    rng = np.random.default_rng(1)
    e = np.zeros(len(MONTHS))
    for k in range(1, len(e)):
        e[k] = 0.7 * e[k - 1] + rng.normal()
    frame = pd.DataFrame({"when": [m.strftime(WRITTEN[form]) for m in MONTHS], "campaign": np.where(np.arange(len(e)) < 40, "before", later)})  # fmt: skip
    frame["y"] = 100 + e + 0.1 * np.arange(len(e)) + step * (frame["campaign"] == later)
    return frame.sample(frac=1, random_state=2).reset_index(drop=True)


@pytest.mark.parametrize("form", list(WRITTEN))
def test_months_are_in_order_however_they_are_written(form):
    frame = series(form)
    study = mb.Study(frame)
    fit = mb.fit_linear(study, "y", ["campaign"])
    if form in UNKNOWN:
        assert fit.checks().serial is None
        with pytest.raises(mb.ColumnError, match=UNKNOWN[form]):
            fit.checks(order=study["when"])
        return
    e = (frame["y"] - fit.fitted).to_numpy()[np.argsort(pd.to_datetime(frame["when"], format=WRITTEN[form]).to_numpy())]
    assert fit.checks().serial[0] == pytest.approx(float(e[1:] @ e[:-1] / (e @ e)), rel=1e-9)
    page = " ".join(str(fit).split())
    assert "follow one another in time (when)" in page
    assert "put into the model what moves with time" in page
    with pytest.raises(mb.MarkbaseError, match="The order has 3 values"):
        fit.checks(order=[1, 2, 3])
    line = pd.Series(pd.to_datetime(frame["when"], format=WRITTEN[form])).map(lambda d: d.toordinal())
    X = np.column_stack([np.ones(len(frame)), frame["campaign"] == fit.coefficients["level"][2], line - line.mean()]).astype(float)
    slope = abs(np.linalg.lstsq(X, frame["y"], rcond=None)[0][1])
    assert "All rows of after come after those of before (when): whatever else changed in time is in this difference. Beside a straight line over when the coefficient is" in page  # fmt: skip
    told = page.split("the coefficient is ")[1].split(" ")[0].replace("−", "-")
    assert abs(float(told)) == pytest.approx(slope, rel=0.06)
    for gaps in (8, 9):  # of 84 rows
        some = mb.fit_linear(frame.assign(when=frame["when"].where(frame.index >= gaps)), "y", ["campaign"])
        assert (some.checks().serial is None) == (gaps == 9)
        assert "come after those of" not in str(some)
    other = mb.Study(frame.assign(odd=np.where(frame.index % 2, "a", "b")))
    assert "come after those of" not in str(mb.fit_linear(other, "y", ["odd"]))
    months = study.from_date("when", "months", since="2015-01", name="t")
    assert months["t"].values.tolist() == [(d.year - 2015) * 12 + d.month - 1 for d in pd.to_datetime(frame["when"], format=WRITTEN[form])]
    assert study.prepare(study.remarks()["when"][0].mend)["when_months"].values.tolist() == months["t"].values.tolist()
    beside = mb.fit_linear(months, "y", ["campaign", "t"])
    assert "come after those of" not in str(beside)  # the trend stands in the model
