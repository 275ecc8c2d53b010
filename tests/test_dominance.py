"""What terms and blocks add over all orders of entry, held against going through the orders one by one."""

import itertools
import json
import tempfile

import numpy as np
import pandas as pd
import pytest

import markbase as mb
from command import CHOIRS, run
from reference import dense
from surveys import BOOK, DATA
from test_clusters import survey

pytestmark = pytest.mark.filterwarnings("ignore::markbase.MarkbaseWarning")
TERMS = ["voice", "age", "km", "times"]
CURVE = mb.polynomial("age", 2)
CROSSED = ["age", "voice", mb.interaction("age", "voice"), "km"]


def r2_of(frame, terms, weights, fixed):
    """Return R² of columns laid out in full, beyond that of the levels taken out."""
    bases, missed = {name: min(frame[name]) for name in ("voice", "day", "team")}, []
    for own in (fixed, [*fixed, *terms]):
        X = np.array(dense(frame, own, bases)[0], dtype=float).T * np.sqrt(weights)[:, None]
        y = frame["score"].to_numpy() * np.sqrt(weights)
        missed.append(np.sum((y - X @ np.linalg.lstsq(X, y, rcond=None)[0]) ** 2))
    return 1 - missed[1] / missed[0]


def saved(fit):
    """Return what is read of a fit that was written."""
    with tempfile.TemporaryDirectory() as folder:
        mb.write_fit(fit, f"{folder}/fit.json")
        return mb.read_fit(f"{folder}/fit.json")


EACH = {t: [t] for t in TERMS}
CASES = {
    "terms": (TERMS, {}, EACH),
    "weights and clusters": (TERMS, {"weights": "times", "cluster": "team"}, EACH),
    "levels taken out": (TERMS, {"fixed_effects": ["team"]}, EACH),
    "two columns taken out": (TERMS, {"fixed_effects": ["team", "day"]}, EACH),
    "a curve": ([CURVE, "voice", "km"], {}, {CURVE.name: [("age", 2)], "voice": ["voice"], "km": ["km"]}),
    "a square made by hand": (["age", "voice", "square"], {}, {"age, square": ["age", "square"], "voice": ["voice"]}),
    "an interaction": (CROSSED, {}, {"age, voice, age × voice": ["age", "voice", ["age", "voice"]], "km": ["km"]}),
}


@pytest.mark.parametrize("case", CASES)
def test_averages_are_those_of_every_order_and_patterns_those_of_every_set(case):
    terms, more, sets = CASES[case]
    frame, names = survey().assign(square=lambda d: d["age"] ** 2), list(sets)
    weights = frame["times"].to_numpy() if "weights" in more else np.ones(len(frame))
    r2 = {
        frozenset(own): r2_of(frame, [c for n in own for c in sets[n]], weights, more.get("fixed_effects", [])) if own else 0.0
        for size in range(len(names) + 1) for own in itertools.combinations(names, size)
    }  # fmt: skip
    study = mb.Study(frame.drop(columns="square")).mark("voice", "alto").derive("square", square="age")
    found = mb.dominance(saved(mb.fit_linear(study, "score", terms, **more)))
    table = found.table.set_index("term")
    assert table["average"].is_monotonic_decreasing
    assert table["average"].sum() == pytest.approx(found.total, rel=1e-10)
    sized = found.by_size.set_index("term")
    np.testing.assert_array_equal(table[["alone", "last"]], sized.iloc[:, [0, -1]])
    for name in names:
        before = [frozenset(order[: order.index(name)]) for order in itertools.permutations(names)]
        average = np.mean([r2[s | {name}] - r2[s] for s in before])
        assert table.loc[name, "average"] == pytest.approx(average, rel=1e-8)
        assert table.loc[name, "share"] == pytest.approx(average / r2[frozenset(names)], rel=1e-8)
        for size in range(len(names)):
            added = [r2[s | {name}] - r2[s] for s in before if len(s) == size]
            assert sized.loc[name, str(size)] == pytest.approx(np.mean(added), rel=1e-8, abs=1e-12)
    for pair in found.pairs.itertuples():
        others = [s for s in r2 if not {pair.first, pair.second} & s]
        ahead = [r2[s | {pair.first}] - r2[s | {pair.second}] for s in others]
        gaps = sized.loc[pair.first] - sized.loc[pair.second]
        pattern = "complete" if min(ahead) > 0 else "conditional" if min(gaps) > 0 else "general"
        assert (pair.pattern, pair.sets, pair.of) == (pattern, sum(a > 0 for a in ahead), len(others))


def test_a_logistic_model_and_blocks_share_out_the_fits_of_their_sets():
    study = mb.Study(survey()).mark("voice", "alto")
    blocks = {"who": ["age", "voice"], "way": ["km"], "often": ["times"]}
    made = mb.fit_blocks(study, "high", blocks, kind="logistic", event="y", cluster="team")
    table = mb.dominance(made).table.set_index("block")
    for name, own in blocks.items():
        rest = [t for n, terms in blocks.items() if n != name for t in terms]
        alone, without = (mb.fit_logistic(study, "high", t, event="y").strength.mcfadden for t in (own, rest))
        assert table.loc[name, "alone"] == pytest.approx(alone, rel=1e-9)
        assert table.loc[name, "last"] == pytest.approx(made.last.strength.mcfadden - without, rel=1e-9)
    assert table["average"].sum() == pytest.approx(made.last.strength.mcfadden, rel=1e-10)


def test_samples_give_intervals_and_say_how_often_one_adds_more():
    rows = pd.DataFrame({"x": [1.0, 2, 4, 3, 5, 2], "z": [1.0, -1, 1, -1, 2, 0], "y": [2.0, 1, 5, 4, 4, 3]})
    alike = mb.Study(pd.concat([rows.assign(team=t) for t in "pqrs"]))
    found = mb.dominance(mb.fit_linear(alike, "y", ["x", "z"], cluster="team"), draws=100)
    np.testing.assert_allclose(found.table[["low", "high"]], found.table[["average"] * 2], rtol=1e-12)  # all alike
    assert found.pairs["samples"].tolist() == [1.0]
    assert not any("may be chance" in text or "samples tell" in text for text in found.statements)
    assert "100 samples of whole levels of `team`" in found.sampled
    rng = np.random.default_rng(4)
    x, z = rng.normal(size=(2, 300))
    even = mb.Study(pd.DataFrame({"x": x, "z": z, "y": x + z + rng.normal(size=300)}))
    found = mb.dominance(mb.fit_linear(even, "y", ["x", "z"]), draws=400, seed=1)
    (share,), (first, second) = found.pairs["samples"], found.table["term"]
    assert 0.1 < share < 0.95
    told = f"That `{first}` adds more than `{second}` may be chance: on average over all orders it does in {100 * share:.1f}%"
    assert any(text.startswith(told) for text in found.statements)
    assert "samples tell (bootstrap)" in mb.dominance(found.fit).statements[-1]
    assert "samples tell (bootstrap)" not in mb.dominance(saved(found.fit)).statements[-1]
    assert ((found.table["low"] < found.table["average"]) & (found.table["average"] < found.table["high"])).all()
    assert ((found.table["high"] - found.table["low"]) / 2).between(0.05, 0.12).all()  # of about 1/3 in 300 rows


REFUSED = {
    "one term": (lambda s: mb.fit_linear(s, "score", ["age"]), {}, "Between 2 and 12 terms .* not 1"),
    "one with its interaction": (lambda s: mb.fit_linear(s, "score", CROSSED[:3]), {}, "made of, count as one with it"),
    "a curve of another block": (lambda s: mb.fit_blocks(s, "score", {"a": ["age"], "b": [CURVE]}), {}, "`age` of the block `a` is part"),
    "an interaction of two blocks": (lambda s: mb.fit_blocks(s, "score", {"a": ["age", "voice"], "b": CROSSED[2:]}), {}, "put both into one block"),
    "a penalised likelihood": (lambda s: mb.fit_logistic(s, "high", TERMS, event="y", penalty="firth"), {}, "no pseudo-R²"),
    "samples of levels taken out": (lambda s: mb.fit_linear(s, "score", TERMS, fixed_effects="team"), {"draws": 100}, "levels taken out"),
    "too few samples": (lambda s: mb.fit_linear(s, "score", TERMS), {"draws": 5}, "100 or more"),
    "a saved fit without rows": (lambda s: saved(mb.fit_logistic(s, "high", TERMS, event="y")), {}, "every set of terms"),
    "samples of a saved fit": (lambda s: saved(mb.fit_linear(s, "score", TERMS)), {"draws": 100}, "holds no rows"),
    "an exact fit": (lambda s: mb.fit_linear(s.derive("twice", sum=["age", "km"]), "twice", ["age", "km"]), {}, "reproduce the outcome"),
    "nothing to share": (lambda _: mb.fit_linear(mb.Study(pd.DataFrame({"a": [0, 0, 1, 1] * 2, "b": [0, 1] * 4, "y": [1, -1, -1, 1] * 2})), "y", ["a", "b"]), {}, "explain nothing of `y`"),
    "many in samples": (lambda s: mb.fit_logistic(s, "high", [*TERMS, "day", "score_2"], event="y"), {"draws": 100}, "Between 2 and 5 terms"),
}  # fmt: skip


@pytest.mark.parametrize("case", REFUSED)
def test_what_cannot_be_shared_out_is_refused_in_a_sentence(case):
    make, more, said = REFUSED[case]
    frame = survey().assign(score_2=lambda d: np.sin(d["score"]))
    with pytest.raises(mb.MarkbaseError, match=said):
        mb.dominance(make(mb.Study(frame)), **more)


def test_a_plan_and_the_command_tell_the_same(tmp_path):
    fit = mb.fit_linear(study := mb.demo.plan().open(), "belonging", ["age", "voice", "rehearsals"])
    wanted = mb.dominance(fit).table["average"].tolist()
    told = run("dominance", *CHOIRS, "--outcome", "belonging", "--terms", "age,voice,rehearsals", "--json").stdout
    assert [r["average"] for r in json.loads(told)["table"]] == pytest.approx(wanted, rel=1e-10)
    mb.write_plan(tmp_path / "p.toml", study, {"f": fit}, data=DATA, codebook=BOOK)
    text = (tmp_path / "p.toml").read_text(encoding="utf-8").replace('name = "f"', 'name = "f"\ndominance = true')
    (tmp_path / "p.toml").write_text(text, encoding="utf-8")
    run("run", "p.toml", "--into", "out", cwd=tmp_path)
    record = json.loads((tmp_path / "out" / "results.json").read_text(encoding="utf-8"))
    assert [r["average"] for r in record["fits"]["f"]["dominance"]["table"]] == pytest.approx(wanted, rel=1e-10)
    assert "averaged over all orders of entry" in (tmp_path / "out" / "methods.txt").read_text(encoding="utf-8")
    assert "Which adds more than which" in (tmp_path / "out" / "report.html").read_text(encoding="utf-8")
