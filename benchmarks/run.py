"""Speed and memory as ratios, measured in one run: ``python benchmarks/run.py [--quick]``.

Everything is compared with what an analyst would write by hand with NumPy: columns of zeros and
ones for every level but one, then `numpy.linalg.lstsq`, or the normal equations. The study is made
beforehand, as the arrays of the rivals are; making the columns belongs to the rivals' time. Each
figure is the best of several runs.
"""

import argparse
import compileall
import gc
import itertools
import resource
import subprocess
import sys
import time
import tracemalloc
from functools import partial
from pathlib import Path

import numpy as np
import pandas as pd
from rich.console import Console
from rich.table import Table

import markbase as mb

LEVELS = (4, 6, 12, 30)
AMOUNTS = 8


def make(rows: int, levels: tuple[int, ...] = LEVELS, numerics: int = AMOUNTS) -> tuple[mb.Study, dict, list[str]]:
    """Make a study with numeric columns and groups, and the arrays it is made of."""
    rng = np.random.default_rng(rows)
    arrays = {f"x{k}": rng.normal(k, 1 + k, rows) for k in range(numerics)}
    codes = {f"g{size}": rng.integers(0, size, rows) for size in levels}
    arrays["y"] = sum(0.1 * arrays[f"x{k}"] for k in range(numerics)) + rng.normal(size=rows)
    for values in codes.values():
        arrays["y"] = arrays["y"] + 0.2 * (values % 3)
    frame = pd.DataFrame(arrays)
    for name, values in codes.items():
        frame[name] = pd.Categorical.from_codes(values, [f"level {k:06d}" for k in range(int(values.max()) + 1)])
    terms = [*(f"x{k}" for k in range(numerics)), *codes]
    return mb.Study(frame), arrays | codes, terms


def yes_no(arrays: dict, terms: list[str]) -> tuple[mb.Study, dict]:
    """Make a study with a yes/no outcome whose odds rise with the numeric column that was explained, and its arrays."""
    rng = np.random.default_rng(1)
    scaled = (arrays["y"] - arrays["y"].mean()) / arrays["y"].std()
    arrays = arrays | {"stays": (rng.random(len(scaled)) < 1 / (1 + np.exp(-scaled))).astype(float)}
    frame = pd.DataFrame({name: arrays[name] for name in ("stays", *terms) if not name.startswith("g")})
    for name in (t for t in terms if t.startswith("g")):
        labels = [f"level {k:06d}" for k in range(int(arrays[name].max()) + 1)]
        frame[name] = pd.Categorical.from_codes(arrays[name], labels)
    return mb.Study(frame), arrays


def fit(study: mb.Study, terms: list[str], fixed_effects: str | None = None) -> mb.LinearFit:
    """Fit, with all tables."""
    result = mb.fit_linear(study, "y", terms, fixed_effects=fixed_effects)
    _ = result.sample.lost, result.overall, result.strength, result.terms, result.coefficients
    return result


def dense(arrays: dict, terms: list[str]) -> np.ndarray:
    """Lay the columns out."""
    rows = len(arrays["y"])
    width = 1 + sum(1 if t.startswith("x") else int(arrays[t].max()) for t in terms)
    X = np.empty((rows, width), order="F")  # the faster way to fill and to multiply
    X[:, 0] = 1
    at = 1
    for term in terms:
        values = arrays[term]
        for level in [None] if term.startswith("x") else range(1, int(values.max()) + 1):
            X[:, at] = values if level is None else values == level
            at += 1
    return X


def by_lstsq(arrays: dict, terms: list[str]) -> np.ndarray:
    """Solve by hand: dense columns, then lstsq."""
    return np.linalg.lstsq(dense(arrays, terms), arrays["y"], rcond=None)[0]


def by_normal_equations(arrays: dict, terms: list[str]) -> np.ndarray:
    """Solve by hand: dense columns, then the normal equations."""
    X = dense(arrays, terms)
    return np.linalg.solve(X.T @ X, X.T @ arrays["y"])


def by_newton(arrays: dict, terms: list[str]) -> np.ndarray:
    """Fit a logistic regression by hand: dense columns, then Newton steps."""
    X = dense(arrays | {"y": arrays["stays"]}, terms)
    b = np.zeros(X.shape[1])
    for _ in range(25):
        p = 1 / (1 + np.exp(-(X @ b)))
        step = np.linalg.solve(X.T @ (X * (p * (1 - p))[:, None]), X.T @ (arrays["stays"] - p))
        b += step
        if np.abs(step).max() < 1e-10:
            break
    return b


def fit_stays(study: mb.Study, terms: list[str]) -> mb.LogisticFit:
    """Fit a logistic regression, with its table of coefficients, its test and its strength."""
    result = mb.fit_logistic(study, "stays", terms)
    _ = result.sample.lost, result.overall, result.strength, result.coefficients
    return result


def best(call, runs: int) -> float:
    """Return the shortest time of several runs, in seconds."""
    times = []
    for _ in range(runs):
        gc.collect()
        start = time.perf_counter()
        call()
        times.append(time.perf_counter() - start)
    return min(times)


def peak(call) -> int:
    """Return the bytes a call takes at its peak, beyond what was there before."""
    tracemalloc.start()
    call()
    most = tracemalloc.get_traced_memory()[1]
    tracemalloc.stop()
    return most


def command_time(code: str, runs: int) -> float:
    """Return the shortest time of a fresh Python that runs some code, from byte code, as after an installation or a first run."""
    compileall.compile_dir(Path(mb.__file__).parent, quiet=1)
    return best(lambda: subprocess.run([sys.executable, "-c", code], check=True, capture_output=True), runs)


def of_two_tables(rows: int, keys: int = 1_000) -> list[tuple[str, float, float]]:
    """Time joining a table by a key, and one row for each key, verified, against the same with pandas, which verifies nothing."""
    rng = np.random.default_rng(2)
    labels = [f"key {k:06d}" for k in range(keys)]
    frame = pd.DataFrame(
        {"x": rng.normal(size=rows), "key": pd.Categorical.from_codes(rng.integers(0, keys, rows), labels)}
    )
    other = pd.DataFrame(
        {"key": pd.Categorical(labels), "size": rng.normal(size=keys), "kind": rng.choice(["a", "b"], keys)}
    )
    study, there = mb.Study(frame), mb.Study(other)
    joined = best(lambda: study.join(there, "key"), 5)
    merged = best(lambda: frame.merge(other, on="key", how="left"), 5)
    measures = {"n": "rows", "mean": {"mean": "x"}, "sd": {"sd": "x"}}
    aggregated = best(lambda: study.aggregate("key", measures), 5)
    grouped = best(lambda: frame.groupby("key", observed=True)["x"].agg(["size", "mean", "std"]), 5)
    four = frame.assign(four=pd.Categorical(rng.choice(list("abcd"), len(frame))))
    sample, figures = mb.Study(four), ["mean", "std", "min", "max", "median"]
    described = best(lambda: mb.describe(sample, ["x"], by="four"), 5)
    told = best(lambda: four.groupby("four", observed=True)["x"].agg(figures), 5)
    return [
        ("a column described by 4 levels, and tested / the figures by pandas.groupby", described, told),
        (f"two columns of {keys:,} keys joined, and verified / pandas.merge", joined, merged),
        (f"one row for each of {keys:,} keys, and verified / pandas.groupby", aggregated, grouped),
    ]


def main() -> None:
    """Measure, and print a table of ratios."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--quick", action="store_true", help="100,000 rows instead of 1,000,000, and no 10,000,000")
    quick = parser.parse_args().quick
    rows = 100_000 if quick else 1_000_000
    table = Table(
        title=f"Ratios, {rows:,} rows, {AMOUNTS} numeric columns, groups of {', '.join(map(str, LEVELS))} levels",
        title_justify="left",
    )
    for head in ("what", "Mark Base", "against", "ratio"):
        table.add_column(head, justify="left" if head == "what" else "right")

    study, arrays, terms = make(rows)
    own = best(lambda: fit(study, terms), 5)
    hand = best(lambda: by_lstsq(arrays, terms), 2)
    normal = best(lambda: by_normal_equations(arrays, terms), 3)
    table.add_row(
        "whole fit with all tables / dense columns and lstsq",
        f"{own:.3f} s",
        f"{hand:.2f} s",
        f"{hand / own:.1f} times faster",
    )
    table.add_row(
        "… / dense columns and normal equations", f"{own:.3f} s", f"{normal:.2f} s", f"{normal / own:.1f} times faster"
    )
    size = 8 * rows * (1 + AMOUNTS + sum(n - 1 for n in LEVELS))
    used = peak(lambda: fit(study, terms))
    table.add_row(
        "extra memory / the dense matrix", f"{used / 1e6:.0f} MB", f"{size / 1e6:.0f} MB", f"{100 * used / size:.1f}%"
    )
    result = fit(study, terms)

    def screened() -> None:
        screen = mb.screen_fit(result)
        _ = screen.correlations, screen.vif, screen.terms

    extra = best(screened, 5)
    table.add_row(
        "all correlations and inflation factors on top of the fit",
        f"{extra:.4f} s",
        f"{own:.3f} s",
        f"{100 * extra / own:.1f}%",
    )

    ahead = best(lambda: result.predict(study), 3)
    table.add_row(
        "a prediction with its intervals for every row / the fit",
        f"{ahead:.3f} s",
        f"{own:.3f} s",
        f"{ahead / own:.1f} times",
    )

    names, ends = ("first", "second", "third", "fourth"), (0, 3, 6, 9, len(terms))
    added = tuple(tuple(terms[a:b]) for a, b in itertools.pairwise(ends))

    def laddered() -> None:
        fits = (*(result.only(terms[:end]) for end in ends[1:-1]), result)
        hierarchy = mb.Blocks(
            names, added, fits, tuple(fit.rows_for(terms[:end]) for fit, end in zip(fits, ends[1:], strict=True))
        )
        _ = hierarchy.steps, hierarchy.moves

    extra = best(laddered, 5)
    table.add_row(
        "a four-block entry on top of the fit, with its tables",
        f"{extra:.4f} s",
        f"{own:.3f} s",
        f"{100 * extra / own:.1f}%",
    )

    stays, with_stays = yes_no(arrays, terms)
    own_stays = best(lambda: fit_stays(stays, terms), 5)
    newton = best(lambda: by_newton(with_stays, terms), 2)
    table.add_row(
        "whole logistic fit / dense columns and Newton steps",
        f"{own_stays:.3f} s",
        f"{newton:.2f} s",
        f"{newton / own_stays:.1f} times faster",
    )
    told = best(lambda: str(fit_stays(stays, terms)), 3) - own_stays  # a fit keeps what it has told
    table.add_row(
        "printing it with all its sentences / the fit",
        f"{told:.3f} s",
        f"{own_stays:.3f} s",
        f"{told / own_stays:.1f} times",
    )
    used = peak(lambda: fit_stays(stays, terms))
    table.add_row(
        "extra memory of it / the dense matrix",
        f"{used / 1e6:.0f} MB",
        f"{size / 1e6:.0f} MB",
        f"{100 * used / size:.1f}%",
    )

    small, little, ten = make(2_000, (4, 6))
    X, y = dense(little, ten), little["y"]
    own_small = best(lambda: [fit(small, ten) for _ in range(20)], 7) / 20
    bare = best(lambda: [np.linalg.lstsq(X, y, rcond=None) for _ in range(20)], 7) / 20
    table.add_row(
        "2,000 rows, 10 terms: whole fit / one bare lstsq",
        f"{1e3 * own_small:.2f} ms",
        f"{1e3 * bare:.2f} ms",
        f"{own_small / bare:.1f} times",
    )

    many, _, more = make(rows, (*LEVELS, 1000))
    wide = best(lambda: fit(many, more), 3)
    table.add_row(
        "with a group of 1,000 levels more / without", f"{wide:.3f} s", f"{own:.3f} s", f"{wide / own:.1f} times"
    )
    panel, _, _ = make(rows, (*LEVELS, rows // 10))
    within = best(lambda: fit(panel, terms, f"g{rows // 10}"), 3)
    table.add_row(
        f"with fixed effects of {rows // 10:,} levels / without",
        f"{within:.3f} s",
        f"{own:.3f} s",
        f"{within / own:.1f} times",
    )

    for what, own_time, theirs in of_two_tables(rows):
        table.add_row(what, f"{own_time:.3f} s", f"{theirs:.3f} s", f"{own_time / theirs:.1f} times")

    demo = Path(mb.__file__).parent / "demo" / "data"
    data, plan = (
        [str(demo / "choirs.csv"), "--codebook", str(demo / "choirs.codebook.toml")],
        str(demo / "choirs.plan.toml"),
    )
    for words, arguments, package in (
        ("--help", ["--help"], "numpy"),
        ("look, of the demo", ["look", *data], "pandas"),
        (
            "fit, of the demo",
            ["fit", plan, "--outcome", "belonging", "--terms", "age,voice,joined_through,travel_km"],
            "pandas",
        ),
    ):
        package_time = command_time(f"import {package}", 5)
        own_time = command_time(f"from markbase.cli.main import main; main({arguments!r})", 5)
        table.add_row(
            f"markbase {words} / import {package}",
            f"{own_time:.2f} s",
            f"{package_time:.2f} s",
            f"{own_time / package_time:.1f} times",
        )
    console = Console(width=118)
    console.print(table)

    growth = Table(title="Growth with rows", title_justify="left")
    for head in ("rows", "whole fit", "per million rows"):
        growth.add_column(head, justify="right")
    for count in (10_000, 100_000, *(() if quick else (1_000_000, 10_000_000))):
        bigger, _, names = make(count)
        seconds = best(partial(fit, bigger, names), 3)
        growth.add_row(f"{count:,}", f"{seconds:.3f} s", f"{seconds / count * 1e6:.3f} s")
    console.print(growth)
    console.print(f"Peak memory of the whole run: {resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1e6:.1f} GB")


if __name__ == "__main__":
    main()
