"""Random designs against exact references: ``python benchmarks/campaign.py --designs 200 --seed 7``.

Every design is drawn anew: few rows, uneven groups, columns that nearly repeat another, columns far from 0, errors of
every kind, frequency weights, three codings. What is printed: the fewest digits that agree with 50-digit arithmetic for
each kind, and each claim (exact collinearity, separation) that the rows contradict.
"""

import sys
import warnings
from collections import defaultdict
from pathlib import Path

import click
import numpy as np
import pandas as pd
from rich.console import Console
from rich.table import Table

import markbase as mb

sys.path.insert(0, str(Path(__file__).resolve().parent.parent / "tests"))
from reference import digits, least_squares, sandwich, term_of
from test_hard_numbers import separated_by_programme

KINDS = ("classical", "HC0", "HC1", "HC2", "HC3", "clustered")
CODINGS = ("indicator", "effect", "adjacent")


def drawn(rng: np.random.Generator) -> tuple[pd.DataFrame, list, dict[str, float]]:
    """Return a table, its terms, and how near and how far its columns are (as powers of 10)."""
    n = int(rng.integers(24, 49))
    near, far = int(rng.integers(0, 8)), int(rng.integers(0, 13))
    frame = pd.DataFrame(
        {
            "voice": rng.permutation(np.resize(["alto", "bass", "tenor", "alto", "bass"], n)),
            "age": 10.0**far + np.round(rng.normal(0, 9, n), 1),
            "team": rng.permutation(np.resize([f"t{k}" for k in range(int(rng.integers(9, 14)))], n)),
            "km": rng.exponential(6, n),
        }
    )
    frame["near"] = frame["km"] + 10.0**-near * rng.normal(size=n)
    frame["score"] = 40 + rng.normal(0, 4, n) + 3 * (frame["voice"] == "bass") + 0.3 * frame["km"]
    terms = [["voice", "age"], ["voice", "km", "near"], ["age", "km", "near"], ["voice", "age", ["age", "voice"]]]
    return frame, terms[int(rng.integers(len(terms)))], {"near": near, "far": far}


def linear(rng: np.random.Generator, least: dict[tuple[str, str], list[float]], wrong: list[str]) -> None:
    """Fit one linear design, and hold its digits against what 50 digits say."""
    frame, terms, made = drawn(rng)
    kind, coding = KINDS[int(rng.integers(len(KINDS)))], CODINGS[int(rng.integers(len(CODINGS)))]
    bases = {"voice": "alto"} if "voice" in terms else {}
    repeated = frame
    if rng.random() < 0.3:
        frame["times"] = rng.integers(1, 4, len(frame))
        repeated = frame.loc[frame.index.repeat(frame["times"])].reset_index(drop=True)
    wanted = least_squares(repeated, "score", terms, bases)
    robust = wanted
    if kind != "classical":
        robust = sandwich(repeated, "score", terms, bases, kind, "team" if kind == "clustered" else None)
    study = (
        mb.Study(frame)
        .as_ordinal("voice", order=["alto", "bass", "tenor"])
        .mark("voice", "alto")
        .code_as("voice", coding)
    )
    options = {"cluster": "team"} if kind == "clustered" else {"errors": kind}
    if "times" in frame:
        options |= {"weights": "times", "weights_are": "frequency"}
    try:
        fit = mb.fit_linear(study, "score", [term_of(t) for t in terms], **options)
    except mb.MarkbaseError as error:
        wrong.append(f"{terms} {made} {kind} {coding}: {error}")
        return
    joint = fit.terms.set_index("term")["statistic"]
    table = fit.coefficients.set_index(["term", "level"])
    highest = [term_of(t).name if isinstance(t, list) else t for t in terms]
    highest = [t for t in highest if not ("age × voice" in joint.index and t in ("age", "voice"))]
    least[kind, "joint tests"].append(min(digits(joint[t], robust["joint"][t]) for t in highest))
    least[kind, "residual sd"].append(digits(fit.strength.residual_sd, wanted["residual_sd"]))
    if coding == "indicator":
        keys = [k for k in wanted["estimate"] if k[0] in highest]
        least[kind, "estimates"].append(min(digits(table["estimate"][k], wanted["estimate"][k]) for k in keys))
        least[kind, "standard errors"].append(min(digits(table["se"][k], robust["se"][k]) for k in keys))


def separated(rng: np.random.Generator, counts: dict[str, int], wrong: list[str]) -> None:
    """Fit one logistic design of heavy tails, and hold what is claimed of separation against a linear programme."""
    n = int(rng.integers(20, 90))
    x = np.round(10 ** rng.uniform(0, rng.uniform(1, 6), n))
    z = rng.normal(size=n)
    cut, width = np.median(x), 10 ** rng.uniform(-3, 1) * np.median(x)
    y = rng.uniform(size=n) < 1 / (1 + np.exp(-np.clip((x - cut) / width, -500, 500)))
    if y.all() or not y.any():
        return
    X = np.column_stack([np.ones(n), (x - x.mean()) / x.std(), z])
    exists = separated_by_programme(X, y)[0]
    frame = pd.DataFrame({"x": x, "z": z, "y": np.where(y, "yes", "no")})
    try:
        mb.fit_logistic(mb.Study(frame), "y", ["x", "z"], event="yes")
    except mb.SeparationError as error:
        counts["claimed"] += 1
        if not exists:
            wrong.append(f"separation claimed, none exists: {error}")
        return
    counts["fitted"] += 1
    if exists:
        wrong.append(f"separated, and fitted: {n} rows")


@click.command()
@click.option("--designs", default=200, show_default=True, help="How many linear designs, and as many logistic ones.")
@click.option("--seed", default=1, show_default=True)
def main(designs: int, seed: int) -> None:
    """Draw designs, fit them, and print the fewest digits and every wrong claim."""
    warnings.simplefilter("ignore")
    rng = np.random.default_rng(seed)
    least: dict[tuple[str, str], list[float]] = defaultdict(list)
    counts: dict[str, int] = defaultdict(int)
    wrong: list[str] = []
    for _ in range(designs):
        linear(rng, least, wrong)
        separated(rng, counts, wrong)
    columns = ("estimates", "standard errors", "joint tests", "residual sd")
    table = Table("errors", *columns, title=f"Fewest digits over {designs} designs, seed {seed}")
    for kind in KINDS:
        table.add_row(kind, *(f"{min(least[kind, c]):.1f}" if least[kind, c] else "" for c in columns))
    console = Console(width=110)
    console.print(table)
    console.print(f"logistic: {counts['fitted']} fitted, {counts['claimed']} refused as separated", markup=False)
    for line in wrong:
        console.print(line, markup=False)
    sys.exit(bool(wrong))


if __name__ == "__main__":
    main()
