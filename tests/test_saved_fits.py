"""Saved fits: what they tell, what they refuse, how they are judged on other rows, and files that were changed."""

import dataclasses
import hashlib
import inspect
import json
import re
import warnings

import numpy as np
import pandas as pd
import pytest

import markbase as mb
from command import run
from markbase import demo
from markbase.core.results.fit_statistics import OverallTest
from markbase.show.fit import what_is_read
from reference import made_up
from surveys import same
from test_predictions import choir, study_of
from yes_no import either

pytestmark = pytest.mark.filterwarnings("ignore::markbase.MarkbaseWarning")


ASKED = {
    "bend_test": ("age",), "between": ("voice",), "between_grid": ("voice",), "cell_means": ("voice", "day"),
    "clear_region": ("km", "age"), "coefficients_at": ({"km": 2.0},), "corrected_p": ([0.01, 0.04],),
    "equal_slopes": ("age", {"by": "voice"}), "equation": ({"by": "voice"},), "events_by_level": ("day",),
    "expected": (None,), "fall": None, "group_test": ("voice",), "groups": ("voice",), "identified": None,
    "moves_with": ("age",), "not_averaged": ("voice",), "observed": (None,), "on_rows": (np.arange(250) < 200,), "only": (["voice"],),
    "planned": ("voice", ["tenor"]), "predict": ({"age": 40.0, "km": 3.0, "voice": "tenor", "day": "Mon"},),
    "rebase": ("voice", "tenor"), "rows_for": (["voice"],), "simple_effects": ("voice", "day"), "simple_slopes": ("age", {"by": "km"}),
    "slope_at": ("age", {"at": {"km": 2.0}}), "slope_depends_on": ("age",), "turning_point": ("age",),
    "turning_points": ("age",), "variable": None, "without": ("day",),
}  # fmt: skip


def asked(fit, name):
    """Return what a public method or property says, or the sentence with which it is refused."""
    try:
        found = getattr(fit, name)
        if inspect.ismethod(found):
            arguments = list(ASKED.get(name, ()))
            named = arguments.pop() if arguments and isinstance(arguments[-1], dict) and name not in ("predict", "coefficients_at") else {}
            found = found(*arguments, **named)
    except (AttributeError, mb.MarkbaseError) as problem:
        return problem
    return found.coefficients if hasattr(found, "coefficients") and hasattr(found, "terms") else found


@pytest.mark.parametrize("kind", ["linear", "logistic"])
@pytest.mark.parametrize("options", [
    {}, {"errors": "HC3"}, {"weights": "times", "weights_are": "frequency"}, {"weights": "heavy", "weights_are": "sampling"},
    {"cluster": "team"}, {"cluster": "team", "errors": "CR3"},
], ids=str)  # fmt: skip
def test_a_saved_fit_says_what_the_fit_says_or_that_it_has_no_rows(kind, options, tmp_path):
    frame = choir().assign(high=lambda d: np.where(d["score"] > 38, "y", "n"), team=[f"t{k % 40}" for k in range(250)])
    frame = frame.assign(times=1 + np.arange(250) % 3, heavy=0.5 + (np.arange(250) % 7) / 3, km=5e6 - frame["km"] ** 4)
    terms = ["voice", "day", mb.polynomial("age"), mb.interaction("age", "km"), mb.interaction("age", "voice")]
    fit = either(kind, study_of(frame), terms, ("high", "y"), **options)
    own = (fit.strength.r2, "R²") if kind == "linear" else (fit.strength.brier, "Brier score")
    assert fit.own_measures[own[1]] == pytest.approx(own[0], rel=1e-10)
    mb.write_fit(fit, tmp_path / "fit.json")
    saved, told = mb.read_fit(tmp_path / "fit.json"), 0
    for name in (n for n in dir(fit) if not n.startswith("_") and ASKED.get(n, ()) is not None):
        own, other = asked(fit, name), asked(saved, name)
        if isinstance(other, AttributeError | mb.MarkbaseError):
            assert str(other) == str(own) or str(other).startswith("A saved fit holds no rows of the data"), name
        elif name == "clear_region":
            assert other.pop("rows").isna().all()
            assert own.pop("rows").sum() == fit.rows_used.counted
            pd.testing.assert_frame_equal(other, own, rtol=1e-9)
        elif isinstance(own, pd.DataFrame):
            lacking = [c for c in own if c not in other]
            assert all(c.startswith("probability_") for c in lacking), name
            pd.testing.assert_frame_equal(other, own.drop(columns=lacking), rtol=1e-9)
        elif isinstance(own, OverallTest):
            numbers, words = dataclasses.astuple(own)[:4], dataclasses.astuple(own)[4:]
            assert dataclasses.astuple(other)[:4] == pytest.approx(numbers, rel=1e-9, nan_ok=True), name
            assert dataclasses.astuple(other)[4:] == words
        elif isinstance(own, dict | float | int) or name == "slope_at":
            assert (other, type(other)) == (pytest.approx(own, rel=1e-9), type(own)), name
        elif isinstance(own, tuple) and name == "cell_means":
            for one, table in zip(other, own, strict=True):
                pd.testing.assert_frame_equal(one, table, rtol=1e-9)
        elif name in ("equation", "turning_point"):
            assert str(other) == str(own)
        else:
            continue
        told += 1
    assert told > 44
    assert "adjusted" in asked(saved, "groups")
    own, other = (f.rebase("voice", "tenor") for f in (fit, saved))
    assert own.retold == other.retold
    assert "but for those of `age (quadratic)`, which hold at the base" in own.retold
    lacking = other.terms["statistic"].isna()  # a likelihood ratio needs rows; what is tested at the base is one
    assert other.terms["term"][lacking].tolist() == ["age (quadratic)"] * (own.overall.kind == "likelihood ratio")
    pd.testing.assert_frame_equal(other.terms[~lacking], own.terms[~lacking], rtol=1e-8)
    walds = [c for c in own.terms if c.startswith("wald")]
    pd.testing.assert_frame_equal(other.terms[[*walds, "df"]], own.terms[[*walds, "df"]], rtol=1e-8)


@pytest.mark.parametrize("kind", ["linear", "logistic"])
def test_a_saved_fit_predicts_other_rows_and_is_refused_where_it_was_changed(kind, tmp_path):
    frame = choir(300).assign(high=lambda d: np.where(d["score"] > 38, "y", "n"))
    terms = ["voice", "day", "km_log", mb.polynomial("age_z"), mb.interaction("voice", "km_log")]
    fit = either(kind, study_of(frame), terms, ("high", "y"))
    mb.write_fit(fit, tmp_path / "fit.json")
    saved, new = mb.read_fit(tmp_path / "fit.json"), choir(100, seed=3)
    pd.testing.assert_frame_equal(saved.predict(new), fit.predict(new))
    pd.testing.assert_frame_equal(saved.between("day", at={"age_z": 1.0}), fit.between("day", at={"age_z": 1.0}))
    text = (tmp_path / "fit.json").read_text()
    assert "s0007" not in text  # no row of the data
    assert "holds no rows" in _said(lambda: saved.without("day"))
    assert "saved fit" in str(saved)
    for change, told in (
        (lambda t: t.replace('"version": 1', '"version": 2'), "was written by a newer version"),
        (lambda t: t.replace('"format": "markbase fit"', '"format": "other"'), "is no saved fit"),
        (lambda t: t.replace('"solution"', '"solutions"'), "is not as it was written"),
        (lambda t: t[:500], "is not JSON"),
        (lambda t: t.replace('"used": ', '"used": 1'), "is not as it was written"),
        (lambda t: re.sub(r'"digest": ".', '"digest": "', t), "is not as it was written"),
        (lambda t: "[" * len(t), "is not JSON"),
    ):
        (tmp_path / "bad.json").write_text(change(text))
        with pytest.raises(mb.FileError, match=told):
            mb.read_fit(tmp_path / "bad.json")
    with pytest.raises(mb.FileError, match="is there already"):
        mb.write_fit(fit, tmp_path / "fit.json")
    told = pd.DataFrame({"g": ["a", "b"] * 20, "y": [0, 1] * 20})  # foretold, so that no slope of calibration is finite
    firth = mb.fit_logistic(told, "y", ["g"], penalty="firth")
    mb.write_fit(firth, tmp_path / "told.json")
    saved = mb.read_fit(tmp_path / "told.json")
    assert np.isnan(saved.own_measures["calibration slope"])
    for each in (lambda f: f.coefficients, lambda f: f.rebase("g", "b").coefficients.iloc[1:], lambda f: f.between("g")):
        pd.testing.assert_frame_equal(each(saved), each(firth), rtol=1e-6)
    assert all(what_is_read(f).endswith("penalised likelihood (Firth)") for f in (saved, firth))
    assert "its own, but for (intercept), whose are Wald's" in " ".join(str(saved.rebase("g", "b")).split())


@pytest.mark.parametrize("outcome", ["belonging", "stays"])
def test_a_fit_is_judged_on_another_file_saved_or_not_in_memory_or_in_parts(outcome, tmp_path):
    data, book = (demo.path(name) for name in demo.FILES[:2])
    later = pd.read_csv(data).tail(300).copy()
    later.iloc[:3, later.columns.get_loc("age")] = -9  # no answer, by the codebook
    later.iloc[3, later.columns.get_loc("voice")] = "descant"
    later.to_csv(tmp_path / "later.csv", index=False)
    model = [data, "--codebook", book, "--outcome", outcome, "--terms", "age,voice,rehearsals"]
    model += [] if outcome == "belonging" else ["--kind", "logistic", "--event", "yes"]
    run("fit", *model, "--save", "fit.json", cwd=tmp_path)
    fit = mb.read_fit(tmp_path / "fit.json")
    rows = later[(later["age"] > 0) & (later["voice"] != "descant")].dropna(subset=[outcome, "age", "voice", "rehearsals"])
    y = (rows[outcome] == "yes").to_numpy(float) if outcome == "stays" else rows[outcome].to_numpy()
    error = y - fit.predict(rows).iloc[:, -7 if outcome == "stays" else -8].to_numpy()
    name, wanted = ("Brier score", (error**2).mean()) if outcome == "stays" else ("root mean squared error", np.sqrt((error**2).mean()))
    found = []
    for who in (["fit.json"], model):
        for more in ([], ["--in-parts"]):
            done = run("validate", *who, "--for", "later.csv", "--json", *more, cwd=tmp_path)
            assert done.returncode == 0, done.stderr
            found.append({r["figure"]: r for r in json.loads(done.stdout)["figures"]})
            assert json.loads(done.stdout)["rows"] == len(rows)
    assert found[0][name]["held_out"] == pytest.approx(wanted, rel=1e-9)
    for other in found[1:]:  # in parts the area is of cells of nearly equal log odds
        for figure, told in found[0].items():
            near = 5e-4 if figure == "area under the curve" else 1e-9
            values = [[v for k, v in row.items() if k != "figure" and v is not None] for row in (other[figure], told)]
            assert values[0] == pytest.approx(values[1], rel=near)
    page = run("validate", "fit.json", "--for", "later.csv", cwd=tmp_path)
    wanted = rf"rows of later\.csv +no terms at all.*scored +{len(rows)} rows of later\.csv"
    assert re.search(wanted, page.stdout, re.DOTALL)
    assert "one split" not in page.stdout
    assert "descant of voice occurs in no row the model was fitted to" in page.stdout
    for arguments, words in (
        (["fit.json"], "name a file: --for FILE"),
        (["fit.json", "--for", "later.csv", "--folds", 3], "leave --hold-out, --folds"),
        (["fit.json", "--for", "later.csv", "--terms", "age"], "as it was saved"),
        (["fit.json", "--for", "none.csv"], "no file `none.csv`"),
    ):
        refused = run("validate", *arguments, cwd=tmp_path)
        assert (refused.returncode, words in refused.stderr) == (2, True)


def test_codes_for_missing_answers_are_gaps_in_other_rows_too(tmp_path):
    frame = choir(120)
    spec = {"voice": {"kind": "categorical", "missing": {"??": "illegible"}}, "km": {"missing": {"-9": "no answer"}}}
    study = mb.Study(frame, codebook={"columns": spec | {"score": {"missing": {"-1": "refused"}}}}).mark("voice", "alto")
    study = study.derive("age_c", centre="age").blank("day", codes=["Mon"])
    mb.write_fit(mb.fit_linear(study, "score", ["voice", "km", "age_c"]), tmp_path / "fit.json")
    fit = mb.read_fit(tmp_path / "fit.json")
    new = pd.DataFrame({"voice": ["alto", "??", "bass"], "km": [-9, 3.0, 4.0], "age_c": [1.0, 2.0, -9.0], "score": [30.0, 31.0, -1.0]})
    for rows in (new, mb.Study(new)):
        told = fit.predict(rows)
        assert told["caution"].tolist()[:2] == ["`km` is missing or no number", "`voice` is missing"]
        assert told["predicted"].isna().tolist() == [True, True, False]  # of a derived column -9 is a value
        assert np.isnan(told["observed"].iloc[2])
    with pytest.warns(mb.MarkbaseWarning, match="1 row cannot"):
        assert mb.score(fit, new.assign(score=[30.0, 31.0, 32.0], km=3.0)).rows == 2


def test_rows_in_parts_are_judged_by_label_or_code_as_in_memory(tmp_path):
    rng = np.random.default_rng(12)
    frame = pd.DataFrame({"day": rng.integers(1, 4, 400), "left": rng.integers(0, 2, 400), "age": rng.normal(40, 9, 400)})
    day = {"kind": "categorical", "levels": {"1": "Mon", "2": "Tue", "3": "Wed"}}
    left = {"kind": "categorical", "levels": {"0": "stays", "1": "leaves"}}
    book = {"columns": {"day": day, "left": left, "age": {"missing": {"-9": "no answer"}}}}
    fit = mb.fit_logistic(mb.Study(frame, codebook=book).mark("day", "Mon"), "left", ["day", "age"], event="leaves")
    other = frame.head(150).assign(day=lambda d: d["day"].replace(3, 4), age=lambda d: d["age"].where(d.index > 7, -9.0))
    other.to_csv(tmp_path / "other.csv", index=False)
    whole = mb.score(fit, other)
    for left in ({}, {"left": {"kind": "categorical"}}):  # numbers, and groups told by their codes
        levels = {"levels": {k: k for k in "1247"}} if left else {}
        declared = {"columns": {"day": {"kind": "categorical"} | levels} | left}
        parts = mb.score(fit, mb.open_study(tmp_path / "other.csv", declared, in_parts=True))
        np.testing.assert_allclose(parts.table.iloc[:, 1:], whole.table.iloc[:, 1:], atol=1e-3)
        known = int(((other["day"] < 3) & (other["age"] > 0)).sum())
        assert (parts.rows, parts.left_out) == (whole.rows, whole.left_out) == (known, 150 - known)
        unseen = {"no row scored has `day` `Wed`", "`4` of `day` occurs in no row the model was fitted to"}
        assert set(parts.unseen) == set(whole.unseen) == unseen


def places(record, path=()):
    """Return the path of every value in a record, of lists their first two."""
    found = [path] if path else []
    within = record.items() if isinstance(record, dict) else enumerate(record[:2]) if isinstance(record, list) else ()
    for key, value in within:
        found += places(value, (*path, key))
    return found


@pytest.mark.parametrize("damage", ["drop", None, "x", -1, [], 1e-3])
def test_a_saved_fit_that_was_changed_anywhere_is_refused(damage, tmp_path):
    study, file = mb.Study(pd.DataFrame(made_up(60))).mark("voice", "alto"), tmp_path / "fit.json"
    mb.write_fit(mb.fit_linear(study, "score", ["voice", mb.polynomial("age", 2)]), file)
    written = file.read_text()
    whole = json.loads(written)
    assert len(places(whole)) > 150
    for path in places(whole):
        record = json.loads(written)
        at = record
        for key in path[:-1]:
            at = at[key]
        if damage == "drop":
            del at[path[-1]]
        elif at[path[-1]] == damage and type(at[path[-1]]) is type(damage):
            continue
        else:
            at[path[-1]] = damage
        if damage in ("drop", "x"):  # whatever the change, it is the digest that tells
            file.write_text(json.dumps(record))
            with pytest.raises(mb.FileError, match=r"is not as it was written|is no saved fit|by a newer version"):
                mb.read_fit(file)
        if "digest" not in path:  # forged: what it holds either goes together, or is refused
            rest = {k: v for k, v in record.items() if k != "digest"}
            text = json.dumps(rest, sort_keys=True, separators=(",", ":"))
            file.write_text(json.dumps(rest | {"digest": hashlib.sha256(text.encode()).hexdigest()}))
            try:
                mb.read_fit(file).predict({"voice": "bass", "age": 30})
                assert path[:2] not in [("solution", "coefficients"), ("coefficients", "estimate")], path
            except mb.MarkbaseError as problem:
                assert "\n" not in str(problem)  # noqa: PT017
    file.write_text(json.dumps(whole, indent=3, sort_keys=True))  # another layout of the same content is the same fit
    again = mb.read_fit(file)
    assert again.data_name == whole["data"]
    other = again.rebase("voice", "bass")
    mb.write_fit(other, file, replace=True)
    assert mb.read_fit(file).retold == other.retold
    assert "from the base `bass` of `voice` instead of `alto`" in other.retold


def _said(call):
    try:
        call()
    except mb.MarkbaseError as problem:
        return str(problem)
    return ""


@pytest.mark.parametrize("kind", ["linear", "logistic"])
def test_the_command_tells_of_a_saved_fit_what_it_tells_of_the_data(kind, tmp_path):
    outcome = {"linear": ["belonging"], "logistic": ["stays", "--event", "yes", "--kind", "logistic"]}[kind]
    model = [str(demo.path("choirs.plan.toml")), "--outcome", *outcome, "--terms", "age,voice", "--interaction", "age,voice"]
    run("fit", *model, "--save", "fit.json", "--quiet", cwd=tmp_path)
    other = ["--base", "voice=tenor", "--quiet"]
    asked = (["fit", *args, *other, "--json"] for args in (model, ["fit.json"]))
    own, saved = (json.loads(run(*args, cwd=tmp_path).stdout) for args in asked)
    if kind == "logistic":  # the likelihood ratio of age holds at the base
        assert saved["terms"][0].pop("statistic") is saved["terms"][0].pop("p") is None
        del own["terms"][0]["statistic"], own["terms"][0]["p"]
    for name in ("terms", "coefficients"):
        for ours, theirs in zip(own[name], saved[name], strict=True):
            same([*ours.items()], [*theirs.items()], 1e-8)
    assert [own[k] for k in ("kind", "outcome", "overall", "errors", "equation")] == [saved[k] for k in ("kind", "outcome", "overall", "errors", "equation")]  # fmt: skip
    for asked, first, last in (
        (["fit", *other], "against which base", "\n\n"),
        (["groups", "voice", *other], "The levels of", "equal slopes"),
        (["slopes", "age:voice", "--quiet"], "Simple slopes", "do they differ"),
    ):
        pages = (run(asked[0], *args, *asked[1:], cwd=tmp_path).stdout for args in (model, ["fit.json"]))
        ours, theirs = (" ".join(page.partition(first)[2].partition(last)[0].split()) for page in pages)
        assert ours == theirs
        assert len(ours) > 300
    for asked, told in (
        (["fit", "fit.json", "--guide", "--figures", "f"], "--guide and --figures need them: leave them out"),
        (["groups", "fit.json", "--manuscript", "m.docx"], "--manuscript needs them: leave it out"),
        (["groups", "fit.json", "--errors", "HC3"], "as it was saved: leave the options of the model out"),
        (["slopes", "fit.json", "--base-by", "voice=first"], "leave the options of the data, and --base-by, out"),
        (["check", "fit.json"], "can only be a saved fit, which holds no rows of the data"),
        (["fit", "fit.json", "--base", "voice=treble"], "no level `treble`"),
    ):
        done = run(*asked, cwd=tmp_path)
        assert (done.returncode, told in done.stderr) == (2, True), (asked, done.stderr)
    assert [path.name for path in tmp_path.iterdir()] == ["fit.json"]


@pytest.mark.parametrize("kind", ["linear", "logistic"])
@pytest.mark.parametrize("again", [0, 60, 200])
def test_rows_of_the_fit_that_are_scored_again_are_counted_and_told(kind, again, tmp_path):
    frame = choir(700, seed=3).assign(high=lambda d: np.where(d["score"] > 38, "y", "n")).reset_index(drop=True)
    of, scored = frame[:200], pd.concat([frame[:again], frame[200 : 400 - again]])
    fit = either(kind, mb.Study(of), ["voice", "age", "km"], ("high", "y"))
    saved = tmp_path / "fit.json"
    mb.write_fit(fit, saved)
    for one, wanted in ((fit, again), (mb.read_fit(saved), again * (again == 200))):  # a saved fit has its figures alone
        with warnings.catch_warnings(record=True) as told:
            warnings.simplefilter("always")
            found = mb.score(one, scored)
        assert found.seen == wanted
        assert ("rows that the fit was made of" in "".join(str(w.message) for w in told)) == (wanted > 0)
        assert ("expect the figures held out" in str(found)) == (wanted == 0)
    assert mb.score(either("logistic", mb.Study(of), ["day"], ("high", "y")), frame[400:]).seen == 0  # the same by chance
