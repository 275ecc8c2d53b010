"""Small models chosen so that every rule of wording fires, and the sentences they give.

``python tests/sentence_cases.py`` writes these sentences down anew in ``tests/sentences.txt``; read the whole change before it is kept.
"""

import sys
import warnings
from pathlib import Path

import numpy as np
import pandas as pd

import markbase as mb

BOOK = Path(__file__).parent / "sentences.txt"


def rows(n=240, seed=5, **more):
    """Return a made-up choir: voices, ages, an outcome that rises with both."""
    rng = np.random.default_rng(seed)
    voice = rng.choice(["alto", "bass", "tenor"], n, p=[0.5, 0.3, 0.2])
    age = np.round(rng.uniform(18, 80, n))
    frame = pd.DataFrame({"voice": voice, "age": age, "stays": rng.choice(["no", "yes"], n), "new": rng.integers(0, 2, n)})
    frame["score"] = np.round(50 + 4 * (voice == "tenor") - 3 * (voice == "bass") + 0.1 * age + rng.normal(0, 6, n), 2)
    frame["fee"] = np.round(np.exp(3 + 0.3 * (voice == "tenor") + 0.005 * age + rng.normal(0, 0.4, n)), 2)
    frame["visits"] = rng.poisson(np.exp(0.4 + 0.01 * age))
    frame["here"] = (rng.random(n) < 1 / (1 + np.exp(-(0.04 * (age - 50) + (voice == "tenor"))))).astype(int)
    frame["grade"] = rng.integers(1, 5, n)
    frame["team"] = [f"t{k % 12:02d}" for k in range(n)]
    frame["w"] = rng.uniform(0.5, 2, n)
    return frame.assign(**more)


CODEBOOK = {"columns": {"age": {"kind": "numeric", "unit": ["year", "years"]}, "score": {"kind": "numeric", "unit": ["point", "points"]}}}


def study(frame=None, base="alto", book=CODEBOOK):
    """Return the study, its base chosen."""
    found = mb.Study(rows() if frame is None else frame, codebook=book)
    return found.mark("voice", base) if base else found


def linear(terms, outcome="score", data=None, **more):
    """Fit a linear regression to the choir."""
    return mb.fit_linear(study() if data is None else data, outcome, terms, **more)


def odds(terms, data=None, **more):
    """Fit a logistic regression of who is here."""
    return mb.fit_logistic(study() if data is None else data, "here", terms, event=1, **more)


def one_row():
    """Return a choir with a level of one row."""
    frame = rows()
    frame.loc[0, "voice"] = "solo"
    return study(frame)


def sparse(scheme):
    """Return a choir whose first grade has 12 rows, 2 of them here, and whose other two grades are as large as one another."""
    frame = rows(grade=np.repeat([1, 2, 3], [12, 114, 114]))
    grade = study(frame.assign(here=frame["here"].where(frame.index > 11, frame.index < 2).astype(int))).as_ordinal("grade")
    return grade.code_as("grade", scheme) if scheme != "indicator" else grade.mark("grade", 1)


def shifted(to):
    """Return a choir whose tenors differ from the altos with p beside .05, on the side asked for."""
    frame = rows()
    tenor = (frame["voice"] == "tenor").to_numpy()
    low, high = -6.0, 4.0
    for _ in range(60):  # p rises as the difference goes to 0
        middle = (low + high) / 2
        p = linear(["voice"], data=study(frame.assign(score=frame["score"] + middle * tenor))).between("voice", "none")
        row = p[p["level"].eq("tenor") & p["against"].eq("alto")].iloc[0]
        low, high = (middle, high) if row["difference"] < 0 or row["p"] > to else (low, middle)
    return study(frame.assign(score=frame["score"] + middle * tenor))


def steep():
    """Return a choir in which everything asked about is there: slopes and differences that differ, and a bend."""
    tenor, new = (lambda d: d["voice"].eq("tenor")), (lambda d: d["new"].eq(1))
    more = rows(
        score=lambda d: d["score"] + 0.5 * d["age"] * tenor(d) + 25 * (tenor(d) & new(d)),
        bent=lambda d: d["score"] + 0.02 * (d["age"] - 45) ** 2 + 0.01 * d["age"] * d["fee"],
    )
    pulled = (tenor(more) & (more["age"] > 40)) | (~tenor(more) & (more["age"] < 45) & new(more))
    draws = np.random.default_rng(2).random(len(more))
    return study(more.assign(here=(draws < np.where(pulled, 0.85, 0.25)).astype(int), new=more["new"].map({0: "no", 1: "yes"})))


def crossed(seed):
    """Return a choir in which whoever is new is a group."""
    return study(rows(seed=seed, new=lambda d: d["new"].map({0: "no", 1: "yes"})))


CROSSED = ["voice", "new", mb.interaction("voice", "new")]
CASES = {
    "a slope by group, clear": lambda: linear(["age", "voice", mb.interaction("age", "voice")], data=steep()),
    "two groups crossed, clear": lambda: linear(["voice", "new", mb.interaction("voice", "new")], data=steep()),
    "a curve and a product, clear": lambda: linear([mb.polynomial("age"), "fee", mb.interaction("age", "fee")], "bent", steep()),
    "odds, a slope by group, clear": lambda: odds(["age", "voice", mb.interaction("age", "voice")], steep()),
    "odds, two groups crossed, clear": lambda: odds(["voice", "new", mb.interaction("voice", "new")], steep()),
    "two groups crossed, one row clear alone": lambda: linear(CROSSED, data=crossed(54)),
    "odds, two groups crossed, clear in no row": lambda: odds(CROSSED, crossed(6)),
    "numeric and group, base chosen": lambda: linear(["age", "voice"]),
    "base not chosen": lambda: linear(["voice"], data=study(base=None)),
    "negative and null": lambda: linear(["age", "voice"], data=study(rows(score=lambda d: 90 - d["age"]))),
    "two levels, one verdict": lambda: linear(["stays", "age"]),
    "0 and 1 among the terms": lambda: linear(["new", "age"]),
    "0 and 1 as the outcome": lambda: linear(["age", "voice"], "here"),
    "few whole numbers": lambda: linear(["grade", "voice"]),
    "a logged outcome": lambda: linear(["age", "voice"], "log_fee", study().derive("log_fee", log="fee")),
    "a logged outcome of counts": lambda: linear(["age", "voice"], "lv", study().derive("lv", log1p="visits")),
    "a logged outcome with a slope by group": lambda: linear(
        ["age", "voice", mb.interaction("age", "voice")], "log_fee", study().derive("log_fee", log="fee")
    ),
    "a logged outcome with two groups": lambda: linear(
        ["voice", "stays", mb.interaction("voice", "stays")], "log_fee", study().derive("log_fee", log="fee")
    ),
    "a logged predictor": lambda: linear(["log_fee"], data=study().derive("log_fee", log="fee")),
    "a slope by group": lambda: linear(["age", "voice", mb.interaction("age", "voice")]),
    "two groups crossed": lambda: linear(["voice", "stays", mb.interaction("voice", "stays")]),
    "a product of two": lambda: linear(["age", "fee", mb.interaction("age", "fee")]),
    "three together": lambda: linear(["age", "fee", "voice", mb.interaction("age", "fee", "voice")]),
    "a curve": lambda: linear([mb.polynomial("age"), "voice"]),
    "a square of one's own": lambda: linear(["age", "age_2"], data=study().derive("age_2", square="age")),
    "effect coding": lambda: linear(["voice", "age"], data=study().code_as("voice", "effect")),
    "trend coding": lambda: linear(["grade"], data=study().as_ordinal("grade").code_as("grade", "trend")),
    "adjacent coding": lambda: linear(["grade"], data=study().as_ordinal("grade").code_as("grade", "adjacent")),
    "trends over a thin level": lambda: linear(["grade"], data=sparse("trend")),
    "steps from a thin level": lambda: linear(["grade"], data=sparse("adjacent")),
    "one of two largest as the base": lambda: linear(["grade"], data=sparse("trend").code_as("grade", "indicator")),
    "odds, few events in the base": lambda: odds(["grade"], sparse("indicator")),
    "odds, few events with clusters": lambda: odds(["grade"], sparse("indicator"), cluster="team"),
    "odds, trends over few events": lambda: odds(["grade"], sparse("trend")),
    "a level of one row, robust": lambda: linear(["voice"], data=one_row(), errors="HC3"),
    "clusters": lambda: linear(["age", "voice"], cluster="team"),
    "fixed effects": lambda: linear(["age", "voice"], fixed_effects="team"),
    "sampling weights": lambda: linear(["age"], weights="w"),
    "an exact outcome": lambda: linear(["age", "new"], "sum", study().derive("sum", sum=["age", "new"])),
    "p just above .05": lambda: linear(["voice"], data=shifted(0.0501)),
    "p just below .05": lambda: linear(["voice"], data=shifted(0.0499)),
    "intervals at 90%": lambda: linear(["voice"], level=0.9),
    "odds": lambda: odds(["age", "voice"]),
    "odds, two groups crossed": lambda: odds(["voice", "stays", mb.interaction("voice", "stays")]),
    "odds, a slope by group": lambda: odds(["age", "voice", mb.interaction("age", "voice")]),
    "odds, 0 and 1 among the terms": lambda: odds(["new"]),
    "odds, trend coding": lambda: odds(["grade"], study().as_ordinal("grade").code_as("grade", "trend")),
    "odds, penalised and rare": lambda: odds(["voice"], study(rows(here=(np.arange(240) % 60 == 0).astype(int))), penalty="firth"),
    "odds, a curve": lambda: odds([mb.polynomial("age")]),
    "odds, a product of two": lambda: odds(["age", "fee", mb.interaction("age", "fee")]),
    "odds, three together": lambda: odds(["age", "fee", "stays", mb.interaction("age", "fee", "stays")]),
    "odds, a square of one's own": lambda: odds(["age", "age_2"], study().derive("age_2", square="age")),
    "odds, effect coding": lambda: odds(["voice", "age"], study().code_as("voice", "effect")),
    "odds, adjacent coding": lambda: odds(["grade"], study().as_ordinal("grade").code_as("grade", "adjacent")),
    "odds, two groups and a slope": lambda: odds(
        ["age", mb.interaction("age", "voice"), mb.interaction("voice", "stays")], study().code_as("stays", "effect")
    ),
}


def quietly(make):
    """Make a fit without its remarks."""
    with warnings.catch_warnings():
        warnings.simplefilter("ignore", mb.MarkbaseWarning)
        return make()


def told(name):
    """Return the sentences of a case, a line each."""
    reading = quietly(CASES[name]).reading()
    lines = [f"== {name}"]
    for statement in reading.statements:
        lines += [f"- {statement.text}", *(f"  ! {caution}" for caution in statement.cautions)]
    return "\n".join([*lines, *(f"* {caution}" for caution in reading.cautions)]) + "\n"


def main():
    """Write all of them down."""
    BOOK.write_text("\n".join(told(name) for name in CASES), encoding="utf-8")
    sys.stdout.write(f"{len(CASES)} cases\n")


if __name__ == "__main__":
    main()
