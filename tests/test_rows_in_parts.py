"""Rows that come in parts: every result is that of the same rows in memory, and what cannot be done so is refused in words."""

import itertools
import math
import os
import re
import subprocess
import sys
from fractions import Fraction

import numpy as np
import pandas as pd
import pyarrow as pa
import pyarrow.parquet as pq
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

import markbase as mb
from markbase.core.rows.facts import NumberFacts, merged_facts
from markbase.core.rows.sums import total_of
from markbase.core.rows.table import KeptRows
from markbase.files.parts import table_files, text_blocks
from markbase.files.parts.files_in_parts import FilesInParts
from surveys import BOOK, DATA, PLAIN, TERMS, listed, same

pytestmark = [pytest.mark.filterwarnings("ignore::markbase.MarkbaseWarning"), pytest.mark.usefixtures("small_parts")]


OF_ANY_FIT = {
    "coefficients": lambda f: f.coefficients,
    "covariance": lambda f: f.covariance,
    "terms": lambda f: f.terms,
    "overall": lambda f: vars(f.overall),
    "strength": lambda f: sorted((k, float(v)) for k, v in vars(f.strength).items() if v is not None),
    "lost": lambda f: f.sample.lost,
    "groups": lambda f: f.groups("voice"),
    "groups at": lambda f: f.groups("voice", at={"age": 30}),
    "between": lambda f: f.between("voice", "dunnett"),
    "effects": lambda f: f.simple_effects("voice", by="joined_through"),
    "another base": lambda f: f.rebase("voice", "bass").coefficients,
    "slopes": lambda f: f.simple_slopes("rehearsals", by="joined_through"),
    "turning point": lambda f: str(f.turning_point("age")),
    "profiles": lambda f: f.predict([{"voice": "alto", "age": 40}, {"age": 20, "log_km": 1.0}]),
    "reading": lambda f: str(f.reading()),
    "guide": lambda f: str(f.guide()),
    "text": str,
    "without": lambda f: f.without("log_km").coefficients,
    "without clusters": lambda f: f.without_clusters() if f.cluster else [],
}

OFTEN = {"weights": "concerts", "weights_are": "frequency", "errors": "HC3"}
OF_LINEAR = {"standardised": lambda f: f.standardised, "checks": lambda f: str(f.checks()), "cases": lambda f: f.checks().cases, "screening of the fit": lambda f: mb.screen_fit(f).vif}  # fmt: skip

OF_LOGISTIC = {
    "marginal": lambda f: f.marginal,
    "cases": lambda f: f.cases(7, by="residual"),
    "classification": lambda f: f.classification(0.6).table,
    "wide": lambda f: f.classification().area_within < 0.002,
}


@pytest.mark.parametrize("what", [*OF_ANY_FIT, *OF_LINEAR])
@pytest.mark.parametrize(
    "options",
    [{}, OFTEN, {"cluster": "choir", "errors": "CR3"}, {"weights": "weight"}, {"fixed_effects": "choir"}],
    ids=lambda o: "-".join(o) or "plain",
)
def test_every_result_of_a_linear_fit_is_that_of_rows_in_memory(fits, what, options):
    if options.get("fixed_effects") and what == "turning point":
        pytest.skip("told once is enough")
    whole, parts = fits("linear", **options)
    ask = (OF_ANY_FIT | OF_LINEAR)[what]
    try:
        wanted = ask(whole)
    except mb.MarkbaseError as refused:
        with pytest.raises(type(refused), match=re.escape(str(refused))):
            ask(parts)
        return
    same(list(wanted.items()) if isinstance(wanted, dict) else wanted, listed(ask(parts)))


@pytest.mark.parametrize("what", [*OF_ANY_FIT, *OF_LOGISTIC])
@pytest.mark.parametrize("options", [{}, OFTEN, {"weights": "weight"}, {"cluster": "choir", "errors": "CR3"}], ids=lambda o: "-".join(o) or "plain")
def test_every_result_of_a_logistic_fit_is_that_of_rows_in_memory(fits, what, options):
    whole, parts = fits("logistic", **options)
    ask = (OF_ANY_FIT | OF_LOGISTIC)[what]
    wanted, found = ask(whole), ask(parts)
    if what == "text":  # of rows in parts the area is told with how far it may be off
        wanted, found = (re.sub(r"(?s)area under.*?coin", "", text) for text in (wanted, found))
    same(listed(wanted), listed(found), 1e-9)


def test_the_area_under_the_curve_of_rows_in_parts_is_off_by_no_more_than_it_says(fits):
    kinds = {}, {"weights": "weight"}, {"cluster": "choir", "errors": "CR3"}, {"strata": "choir"}
    for whole, parts in ([f.classification() for f in fits("logistic", **o)] for o in kinds):
        assert 0 < parts.area_within < 0.002
        assert abs(parts.area - whole.area) <= parts.area_within
        assert parts.area_low == pytest.approx(whole.area_low, abs=2 * parts.area_within)
        assert parts.allows_for == whole.allows_for


@pytest.mark.parametrize("how", ["product", "ratio"])
def test_what_was_derived_of_two_columns_is_read_at_places_of_the_one_in_parts_too(studies, how):
    made = [s.derive("both", **{how: ["rehearsals", "age"]}) for s in studies]
    terms = ["age", "rehearsals", "both", mb.interaction("both", "voice")]
    linear = [mb.fit_linear(study, "belonging", terms) for study in made]
    for whole, parts in (linear, [mb.fit_logistic(study, "stays", terms, event="yes") for study in made]):
        assert str(whole.reading()) == str(parts.reading())
        same(whole.groups("voice", at={"age": 30}), parts.groups("voice", at={"age": 30}), 1e-9)
        same(whole.predict({"age": 30}), parts.predict({"age": 30}), 1e-9)


@pytest.mark.parametrize("kind", ["linear", "logistic"])
def test_a_report_and_its_lines_go_over_the_rows_a_few_times(studies, kind, monkeypatch, tmp_path):
    terms = ["age", "rehearsals", mb.interaction("age", "voice"), mb.interaction("rehearsals", "voice")]
    whole, fit = (mb.fit_linear(s, "belonging", terms) if kind == "linear" else mb.fit_logistic(s, "stays", terms, event="yes") for s in studies)
    passes, run = [], FilesInParts.run
    monkeypatch.setattr(FilesInParts, "run", lambda *a, **k: passes.append(1) or run(*a, **k))
    lines = mb.draw_lines(fit, "age", by="voice").lines
    assert len(passes) < 25  # 160 places
    own = {line.get_label(): line for line in mb.draw_lines(whole, "age", by="voice").lines}
    for line in (line for line in lines if not line.get_label().startswith("_")):
        assert line.get_ydata() == pytest.approx(own[line.get_label()].get_ydata(), rel=1e-8)
    passes.clear()
    mb.report(fit, tmp_path / "r.html")  # with the pages from every other base
    assert len(passes) < (60 if kind == "linear" else 140)


def test_places_of_curves_of_any_form_are_found_in_a_few_passes(studies, monkeypatch):
    curve = "(age - 45) ^ 2 / (rehearsals + 5)"
    made = [s.calculate("r", curve).calculate("y", f"belonging / 20 + {curve}") for s in studies]
    whole, parts = (mb.fit_linear(study, "y", ["age", "r", "rehearsals", mb.interaction("r", "rehearsals")]) for study in made)
    passes, run = [], FilesInParts.run
    monkeypatch.setattr(FilesInParts, "run", lambda *a, **k: passes.append(1) or run(*a, **k))
    for told in (
        lambda f: f.turning_points("age"),
        lambda f: f.clear_region("rehearsals", "age"),
        lambda f: f.simple_slopes("age", at={"age": [20, 30, 40]}),
    ):
        wanted = told(whole)
        passes.clear()
        same(wanted, told(parts), 1e-6)
        assert len(passes) < 80  # of over 200 places, and those between two of them
    assert len(whole.turning_points("age"))


def test_the_farthest_linear_predictor_is_that_of_all_rows(studies):
    for study in studies:
        fit = mb.fit_logistic(study, "stays", ["travel_km", "voice"], event="yes")
        told = fit.predict(studies[0])["log_odds"].abs()
        assert fit.at_end.farthest == pytest.approx(told[studies[0]["stays"].present].max(), rel=1e-9)


def test_a_penalised_fit_and_its_profiles_are_those_of_rows_in_memory(studies):
    whole, parts = (mb.fit_logistic(s, "stays", ["age"], event="yes", penalty="firth") for s in studies)
    same(whole.coefficients, parts.coefficients, 1e-8)


@pytest.mark.parametrize("options", [{}, {"weights": "weight"}, {"cluster": "choir", "errors": "CR3"}], ids="-".join)
def test_calibration_of_rows_in_parts_has_about_the_same_parts_and_counts_them_exactly(fits, options):
    whole, parts = (f.calibration() for f in fits("logistic", **options))
    assert parts["n"].sum() == whole["n"].sum()
    assert np.abs(parts["n"] - whole["n"]).max() <= 4
    assert np.average(parts["observed"], weights=parts["n"]) == pytest.approx(np.average(whole["observed"], weights=whole["n"]), rel=1e-3 if "weights" in options else 1e-12)  # fmt: skip
    np.testing.assert_allclose(parts["high"] - parts["low"], whole["high"] - whole["low"], rtol=0.03)


STEPS = {
    "blank": lambda s: s.blank("rehearsals", [20], ranges=[(0, 3)]).values("rehearsals"),
    "keep levels": lambda s: s.keep_levels("voice", ["alto", "bass"]).levels("voice"),
    "thin levels": lambda s: s.merge_levels("joined_through", below=30).levels("joined_through"),
    "against the rest": lambda s: s.against_rest("voice", "alto", name="alto?").levels("alto?"),
    "quarters": lambda s: s.cut("age", quantiles=4, name="band").check("band").table,
    "cut": lambda s: s.cut("age", edges=[30, 50], name="band").check("band").table,
    "event": lambda s: s.event("satisfaction", [4, 5], name="glad", labels=["no", "yes"]).levels("glad"),
    "indicators": lambda s: pd.concat([own for _, own in s.indicator_parts(["voice", "stays"])], ignore_index=True),
    "filled from above": lambda s: s.fill_down("age").values("age"),
    "a group filled from above": lambda s: s.fill_down("joined_through").levels("joined_through"),
    "blanks filled": lambda s: s.fill_blank("age", 0).values("age"),
    "blanks of a group filled": lambda s: s.fill_blank("joined_through", "unasked").levels("joined_through"),
    "an answer of several": lambda s: s.multiple_response("joined_through", "open", separator=" ", name="n").levels("n"),
    "groups combined": lambda s: s.mark("stays", "no").combine_groups(["voice", "stays"], name="n").levels("n"),
    "z": lambda s: s.derive(name="new", z="age").values("new"),
    "means of levels": lambda s: s.derive(name="new", level_mean="age", within="joined_through").values("new"),
    "z within": lambda s: s.derive(name="new", z="age", within="voice").values("new"),
    "range within": lambda s: s.derive(name="new", unit_range="age", within="voice").values("new"),
    "mean of items": lambda s: s.derive(name="new", mean=["rehearsals", "age"], least=1).values("new"),
    "ratio": lambda s: s.derive(name="new", ratio=["rehearsals", "concerts"]).values("new"),
    "declared categorical": lambda s: s.as_categorical("rehearsals").levels("rehearsals"),
    "scored": lambda s: s.as_numeric("voice", scores={"soprano": 4, "alto": 3, "tenor": 2, "bass": 1}).values("voice"),
    "declared numeric": lambda s: s.as_numeric("rehearsal_day").values("rehearsal_day"),
    "base by another column": lambda s: s.mark("voice", by="lowest_mean", of="belonging").levels("voice"),
    "rows kept": lambda s: s.keep({"age": {"at_least": 30}, "voice": ["alto", "bass"]}).levels("voice"),
    "a fit to rows kept": lambda s: mb.fit_linear(s.keep({"age": {"below": 60}}), "belonging", PLAIN).coefficients,
    "trail": lambda s: [step.text.replace("(2,003", "(2,003") for step in s.trail],
    "coding": lambda s: s.coding("voice").check,
    "parts": lambda s: sum(part.frame()["age"].sum() for part in s.parts()),
    "overview": lambda s: s.overview().drop(columns=["median", "remarks", "levels"]),
    "remarks": lambda s: list(s.remarks()),
    "screening": lambda s: mb.screen(s, [*PLAIN, "events"], "belonging").correlations,
    "reliability": lambda s: mb.reliability(s, ["rehearsals", "concerts", "age"]).table,
    "weighted screening": lambda s: mb.screen(s, PLAIN, "belonging", weights="weight", rows="pairwise").correlations,
    "pruning": lambda s: mb.screen(s, [*PLAIN, "events"], "belonging").prune(keep=["age"]).steps,
    "page of a screening": lambda s: str(mb.screen(s, PLAIN, "belonging")),
    "blocks": lambda s: str(mb.fit_blocks(s, "belonging", {"first": ["age", "voice"], "then": ["rehearsals"]})),
    "comparison": lambda s: (mb.compare(mb.fit_linear(s, "belonging", PLAIN), mb.fit_linear(s, "belonging", ["age", "travel_min"])).estimates),
    "specifications": lambda s: str(mb.specifications(mb.fit_linear(s, "belonging", PLAIN), focus="age")),
    "elimination": lambda s: mb.backward_elimination(mb.fit_linear(s, "belonging", PLAIN)).steps,
}  # fmt: skip


@pytest.mark.parametrize("what", STEPS)
def test_steps_and_what_is_made_of_studies_are_those_of_rows_in_memory(studies, what):
    whole, parts = studies
    same(STEPS[what](whole), STEPS[what](parts), 1e-9)


def test_values_are_counted_where_they_occur_if_they_could_be_very_many(studies, monkeypatch):
    wanted = [STEPS["cut"](studies[0]), studies[0].merge_levels("choir", below=70).trail.steps[-1].check.table]
    monkeypatch.setattr("markbase.core.rows.row_functions._MOST_COUNTED", 3)
    for study in studies:
        same([STEPS["cut"](study), study.merge_levels("choir", below=70).trail.steps[-1].check.table], wanted)


REFUSED = {
    "Spearman's correlation": lambda s: mb.screen(s, ["age", "rehearsals"], "belonging", method="spearman"),
    "a lag over rows that are not sorted by `choir` and, within it, `rehearsals`,": lambda s: s.lag("age", by=1, order="rehearsals", within="choir", name="before"),
    "drawing single rows again": lambda s: mb.fit_blocks(s, "belonging", {"all": PLAIN}).bootstrap(100),
    "drawing samples for a logistic fit": lambda s: mb.fit_blocks(s, "stays", {"all": PLAIN}, kind="logistic", event="yes", cluster="choir").bootstrap(100),
    "one table of them": lambda s: s.frame(),
    "a residual of each": lambda s: mb.fit_linear(s, "belonging", PLAIN).residuals,
    "one table of predictions": lambda s: mb.fit_linear(s, "belonging", PLAIN).predict(s),
    "finding rows that are the same as others": lambda s: s.leave_out_repeats(),
    "one table of indicators": lambda s: s.indicators(["voice"]),
}  # fmt: skip


@pytest.mark.parametrize("what", REFUSED)
def test_what_needs_all_rows_is_refused_with_the_way_out(studies, what):
    with pytest.raises(mb.MarkbaseError, match=f"read in parts, and {re.escape(what)}.*; [a-z]"):
        REFUSED[what](studies[1])


def test_the_same_terms_are_refused_in_the_same_words(studies):
    said, raw_studies = [], (mb.demo.choirs(), mb.open_study(DATA, codebook=BOOK, in_parts=True))
    for study, raw in zip(studies, raw_studies, strict=True):
        with pytest.raises(mb.CollinearityError) as collinear:
            mb.fit_linear(study, "belonging", ["rehearsals", "concerts", "events"])
        with pytest.raises(mb.SeparationError) as separated:
            mb.fit_logistic(raw, "stays", ["age", mb.interaction("rehearsals", "voice"), "choir"], event="yes")
        said.append((str(collinear.value), str(separated.value)))
    assert said[0] == said[1]
    assert "`events` equals `rehearsals` + `concerts` in every row used" in said[0][0]


COLUMN = st.lists(st.tuples(st.sampled_from(["a", "b", "c", None]), st.one_of(st.none(), st.integers(-50, 50)),
    st.floats(-5, 5, allow_nan=False, width=32)), min_size=40, max_size=90)  # fmt: skip


@settings(max_examples=25, deadline=None)
@given(rows=COLUMN, cuts=st.lists(st.integers(0, 90), max_size=6), offset=st.sampled_from([0.0, 1e9]))
def test_no_cut_into_files_shows_in_the_digits(tmp_path_factory, rows, cuts, offset):
    table = pd.DataFrame(rows, columns=["part", "x", "noise"])
    table["x"] = table["x"].astype(float) + offset
    table["y"] = 0.3 * (table["x"].fillna(0) - offset) + table["noise"] + table.index % 7
    home = tmp_path_factory.mktemp("cuts")
    edges = [0, *sorted(min(c, len(table)) for c in cuts), len(table)]
    schema = pa.Schema.from_pandas(table, preserve_index=False)
    for k, (start, stop) in enumerate(itertools.pairwise(edges)):  # some empty, some with gaps or one level only
        pq.write_table(pa.Table.from_pandas(table[start:stop], schema, preserve_index=False), home / f"{k:02d}.parquet")
    try:
        wanted = mb.fit_linear(mb.Study(table), "y", ["part", "x"])
    except mb.MarkbaseError as refused:
        with pytest.raises(type(refused)):
            mb.fit_linear(mb.open_study(home, in_parts=True), "y", ["part", "x"])
        return
    found = mb.fit_linear(mb.open_study(home, in_parts=True), "y", ["part", "x"])
    scale = wanted.coefficients["se"].max()
    pd.testing.assert_frame_equal(found.coefficients, wanted.coefficients, rtol=1e-10, atol=1e-11 * scale)
    same(found.sample.lost, wanted.sample.lost)
    with pytest.MonkeyPatch.context() as patch:  # several parts at the same time
        patch.setattr("markbase.files.parts.files_in_parts._FEW_ROWS", 0)
        pd.testing.assert_frame_equal(mb.fit_linear(mb.open_study(home, in_parts=True), "y", ["part", "x"]).coefficients, found.coefficients)  # fmt: skip


@given(st.lists(st.floats(-1e12, 1e12, allow_nan=False), min_size=1, max_size=40), st.randoms())
def test_totals_do_not_depend_on_the_order_of_the_parts(values, order):
    shuffled = values.copy()
    order.shuffle(shuffled)
    exact = float(sum(map(Fraction, values), Fraction(0)))
    size = sum(map(abs, values))
    for some in (values, shuffled):
        found = float(total_of(np.array([v]) for v in some)[0])
        assert abs(Fraction(found) - sum(map(Fraction, values), Fraction(0))) <= 2.3e-16 * abs(exact) + 1e-27 * size


def test_tests_of_terms_are_those_of_careful_climbs_where_rows_are_many(studies, monkeypatch):
    wanted = mb.fit_logistic(studies[0], "stays", TERMS, event="yes").terms
    monkeypatch.setattr("markbase.core.estimation.newton._MANY_ROWS", 100)
    for study in studies:
        same(mb.fit_logistic(study, "stays", TERMS, event="yes").terms, wanted, 1e-9)


@given(st.lists(st.lists(st.one_of(st.none(), st.integers(-1000, 1000)), max_size=12), min_size=1, max_size=6), st.sampled_from([0.0, 1e9, 2.0**52]))
def test_facts_of_parts_are_those_of_all_rows(parts, offset):
    arrays = [np.array([math.nan if v is None else v + offset for v in p], dtype=float) for p in parts]
    found = merged_facts(NumberFacts.of(a) for a in arrays)
    values = [v for p in parts for v in p if v is not None]
    assert (found.rows, found.valid) == (sum(map(len, parts)), len(values))
    if not values:
        return
    n, mean = len(values), Fraction(sum(values), len(values))
    assert (found.low, found.high) == (min(values) + offset, max(values) + offset)
    assert found.mean == pytest.approx(float(mean + Fraction(offset)), rel=2.3e-16, abs=1e-12)  # within one unit in the last place
    assert found.second == pytest.approx(float(sum((v - mean) ** 2 for v in values)), rel=1e-12)
    assert found.third == pytest.approx(float(sum((v - mean) ** 3 for v in values)), rel=1e-9, abs=1e-6 * n)
    assert found.rising == all(b > a for a, b in itertools.pairwise(values))
    assert found.distinct[1] == tuple(values.count(v) for v in sorted(set(values)))


@pytest.mark.parametrize("options", [{}, {"errors": "HC3"}, {"cluster": "choir"}, {"weights": "weight"}], ids=str)
def test_many_rows_in_memory_are_worked_on_in_shares_with_the_same_results(studies, monkeypatch, options):
    whole = studies[0]

    def told():
        linear = mb.fit_linear(whole, "belonging", TERMS, **options)
        stays = mb.fit_logistic(whole, "stays", TERMS, event="yes", **options)
        made = [linear.coefficients, linear.terms, linear.checks().cases, stays.coefficients, stays.terms]
        return [*made, stays.marginal, stays.groups("voice"), stays.cases(5), whole.coding("voice").check]

    wanted = told()
    chunks = {
        "estimation.likelihood": ("PASS_ROWS", "_LEAST_ROWS"),
        "estimation.event_rows": ("PASS_ROWS",),
        "estimation.shifted_rows": ("PASS_ROWS",),
        "estimation.whitening": ("_MOST_ROWS", "_LEAST_ROWS"),
    }
    chunks |= {
        "inference.marginal_effects": ("_CHUNK_ROWS",),
        "design.cross_products": ("GATHERED_ROWS",),
        "design.gathering": ("GATHERED_ROWS", "_WEIGHTED_ROWS", "_PRODUCT_ROWS"),
        "estimation.fixed_effects": ("CHUNK_ROWS",),
    }
    for home, names in chunks.items():
        for name in names:
            monkeypatch.setattr(f"markbase.core.{home}.{name}", 31)
    monkeypatch.setattr("markbase.core.estimation.shifted_rows._SHIFTS_AT_ONCE", 3)
    monkeypatch.setattr("markbase.core.design.gathering._PRODUCT_ROWS", 7)
    same(told(), wanted, 1e-9)
    monkeypatch.setattr("markbase.core.rows.parts.MANY_ROWS", 500)
    monkeypatch.setattr("markbase.core.rows.parts.PART_ROWS", 97)
    same(told(), wanted, 1e-9)


def test_threads_of_matrix_products_are_given_back_when_parts_are_done(monkeypatch):
    from threadpoolctl import threadpool_info, threadpool_limits

    from markbase.core.rows import processors

    monkeypatch.setattr(processors, "PROCESSORS", 2)

    def threads(_):
        return {pool["num_threads"] for pool in threadpool_info() if pool["user_api"] == "blas"}

    with threadpool_limits(2, user_api="blas"):
        before = threads(0)
        inside = list(processors.in_order(lambda _: list(processors.in_order(threads, range(3))), range(4)))
        assert inside == [[{1}] * 3] * 4
        assert threads(0) == before


def test_pools_of_threads_that_are_loaded_later_are_found():
    code = """if True:
        from markbase.core.rows.processors import ONE_THREAD_EACH
        from threadpoolctl import threadpool_info
        with ONE_THREAD_EACH:
            pass
        import scipy.linalg
        with ONE_THREAD_EACH:
            print({pool["num_threads"] for pool in threadpool_info() if pool["user_api"] == "blas"})"""
    told = {**os.environ, "OPENBLAS_NUM_THREADS": "2"}
    assert subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, env=told).stdout == "{1}\n"


@settings(max_examples=30)
@given(st.lists(st.integers(0, 400), max_size=8), st.integers(1, 300))
def test_no_cut_into_pieces_shows_in_the_rows_kept(sizes, most):
    fresh = KeptRows()
    fresh.most = most

    def kept(cut):
        found, start = fresh.emptied, 0
        for size in cut:
            piece = fresh.emptied  # it began before others were done
            piece.take(0, {"x": np.arange(start, start + size)}, size, start)
            found.merge(piece, piece.columns, start)
            start += size
        return found.rows.tolist(), found.columns.get("x", np.zeros(0)).tolist()

    assert kept(sizes) == kept([sum(sizes)])
    assert kept(sizes)[0] == kept(sizes)[1]


def test_the_rows_kept_are_the_same_whether_pieces_are_read_together_or_one_after_the_other(studies, tmp_path, monkeypatch):
    table = pa.Table.from_pandas(studies[0].frame(), preserve_index=False)
    pq.write_table(table, tmp_path / "t.parquet", row_group_size=97)
    together = mb.open_study(tmp_path / "t.parquet", in_parts=True)["age"].values.source
    assert len(together.kept.places) == together.kept.rows > 100
    assert len(np.unique(together.kept.places % 97)) > 60  # not the same places of every piece
    monkeypatch.setattr("markbase.files.parts.first_look.pieces_at_once", lambda _: [])
    alone = mb.open_study(tmp_path / "t.parquet", in_parts=True)["age"].values.source
    assert together.kept.places.tolist() == alone.kept.places.tolist()
    same(list(together.kept.columns["age"]), list(alone.kept.columns["age"]))
    lines = "".join(f"{k:05d},{k % 7}\n" for k in range(2000))
    (tmp_path / "t.csv").write_text("number,x\n" + lines)
    for home in (table_files, text_blocks):
        monkeypatch.setattr(home, "_BLOCK_BYTES", 800)  # 100 rows
    kept = mb.open_study(tmp_path / "t.csv", in_parts=True)["number"].values.source.kept
    assert kept.places.tolist() == kept.columns["number"].tolist()
    assert len(np.unique(kept.places % 100)) > 60
