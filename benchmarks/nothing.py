"""How often tests find something where there is nothing: ``python benchmarks/nothing.py --samples 500 --seed 1``.

An outcome, two groups and two numeric columns are drawn that have nothing to do with one another, levels unevenly many, and a model with
interactions is fitted with errors of several kinds. Every test should be clear in 5% of samples, and of corrected ones the largest in 5%. Joint
tests that robust errors overstate are told as such: “as judged” counts those that sentences call clear.
"""

import warnings
from collections import defaultdict
from collections.abc import Iterator
from typing import Any

import click
import numpy as np
import pandas as pd
from rich.console import Console
from rich.table import Table

import markbase as mb

TERMS = ["g", "h", "x", "z", mb.interaction("g", "x"), mb.interaction("g", "h")]
SETTINGS: dict[str, dict[str, Any]] = {
    "classical": {},
    "HC3": {"errors": "HC3"},
    "sampling weights": {"weights": "w"},
    "clusters, CR3": {"cluster": "team", "errors": "CR3"},
}
CLUSTERS = 24


def drawn(rng: np.random.Generator, rows: int, setting: str) -> mb.Study:
    """Return a sample; the spread of the outcome is uneven for HC3, and columns go together within clusters for CR3."""
    team = np.sort(rng.integers(0, CLUSTERS, rows))
    columns: dict[str, Any] = {name: rng.normal(size=rows) for name in "xy"} | {"z": rng.exponential(size=rows)}
    columns["g"] = rng.choice(list("abcdef"), rows, p=[0.35, 0.25, 0.15, 0.1, 0.1, 0.05])
    columns["h"], columns["w"] = rng.choice(["u", "v"], rows, p=[0.6, 0.4]), rng.gamma(2, 1, rows)
    if setting == "HC3":
        columns["y"] *= (1 + np.abs(columns["x"])) * np.where(columns["g"] == "d", 2, 1)
    if setting == "clusters, CR3":
        for name in "xyz":
            columns[name] += rng.normal(size=CLUSTERS)[team]
    return mb.Study(pd.DataFrame({**columns, "team": [f"t{k:02d}" for k in team]}))


def clear(fit: mb.LinearFit) -> Iterator[tuple[str, float]]:
    """Yield each kind of test of a fit and the share that is clear at .05."""
    overall, terms = fit.overall.p, dict(zip(fit.terms["term"], fit.terms["p"], strict=True))
    yield "coefficients", float((fit.coefficients["p"].dropna().iloc[1:] < 0.05).mean())
    yield "terms", float(np.mean([p < 0.05 for p in terms.values()]))
    yield "terms, as judged", float(np.mean([fit._judged(name, p) < 0.05 for name, p in terms.items()]))
    yield "all terms", float(overall < 0.05)
    yield "all terms, as judged", float(fit._judged("", overall) < 0.05)
    yield "slopes differ", float(fit.equal_slopes("x", by="g").p < 0.05)
    checks = fit.checks()
    yield "bends", float((checks.lines["p"] < 0.05).mean())
    if setting_is_even(fit):
        yield "uneven spread", float(checks.spread_p < 0.05)
    if not fit.not_averaged("g"):
        yield "pairs, after Holm", float((fit.between("g")["p_corrected"] < 0.05).any())


def setting_is_even(fit: mb.LinearFit) -> bool:
    """Return whether residuals spread alike in the samples of a fit: not in those for robust errors alone."""
    return fit.errors.kind != "HC3" or fit.weights is not None


def panel(rng: np.random.Generator, persons: int, waves: int) -> mb.Study:
    """Return persons seen in several waves, whose rows are independent but for what is each person's own; x goes with y within persons as between them."""
    rows = persons * waves
    columns = {
        "who": np.repeat([f"p{k:03d}" for k in range(persons)], waves),
        "year": np.tile(np.arange(waves) + 2001, persons),
    }
    x = rng.normal(size=rows) + np.repeat(rng.normal(size=persons), waves)
    y = x / 2 + rng.normal(size=rows) + np.repeat(rng.normal(size=persons), waves)
    return mb.Study(pd.DataFrame(columns | {"x": x, "y": y}))


def of_panels(rng: np.random.Generator, samples: int) -> Iterator[tuple[str, list[float]]]:
    """Yield what is found in panels of so many waves, in percent of samples: by the test of serial correlation, and unasked by pages."""
    for waves in (3, 8):
        found = []
        for _ in range(samples):
            study = panel(rng, 60, waves)
            within = mb.fit_linear(study, "y", ["x", "year"], fixed_effects="who")
            pooled = mb.fit_linear(study, "y", ["x", "year"], cluster="who").reading()
            serial = within.checks(order=study["year"]).serial
            mixed = any("mixes two things" in c for s in pooled.statements for c in s.cautions)
            found.append([serial is not None and serial[2] < 0.05, "follow one another" in str(within), mixed])
        yield f"{waves} waves of 60 persons", (100 * np.mean(found, axis=0)).tolist()


@click.command()
@click.option("--samples", default=500, help="How many of each kind of errors and number of rows.")
@click.option("--seed", default=1, help="Of the drawing.")
def main(samples: int, seed: int) -> None:
    """Draw samples, and print how many percent of the tests are clear."""
    warnings.simplefilter("ignore")
    rng, told = np.random.default_rng(seed), defaultdict[str, dict[str, float]](dict)
    for setting, options in SETTINGS.items():
        for rows in (150, 500):
            found = defaultdict[str, list[float]](list)
            for _ in range(samples):
                try:
                    fit = mb.fit_linear(drawn(rng, rows, setting), "y", TERMS, **options)
                except mb.MarkbaseError:
                    continue  # a combination has too few rows for a slope
                for test, share in clear(fit):
                    found[test].append(share)
            for test, shares in found.items():
                told[test][f"{setting}, {rows}"] = float(np.nanmean(shares))
    heads = list(next(iter(told.values())))
    table = Table("clear in % of samples", *heads, title="Where there is nothing", title_justify="left")
    for test, shown in told.items():
        table.add_row(test, *(f"{100 * shown[head]:.1f}" if head in shown else "" for head in heads))
    console = Console(width=180)
    console.print(table)
    heads = ["serial correlation at .05", "told unasked", "within and between, told unasked"]
    table = Table("in % of samples", *heads, title="Independent rows of persons", title_justify="left")
    for what, shares in of_panels(rng, samples):
        table.add_row(what, *(f"{share:.1f}" for share in shares))
    console.print(table)


if __name__ == "__main__":
    main()
