"""How often 95% intervals hold the truth, and joint tests find nothing: ``python benchmarks/coverage.py --samples 600 --seed 7``.

Clusters of uneven sizes, and five predictors and an outcome that go together within them and not with one another: all slopes are 0. Each
sample is fitted with the usual clustered errors (CR1) and with those from leaving out one cluster at a time (CR3), and as a logistic
regression of whether the outcome is above 0; with ``--draws 1000`` also in samples of whole clusters (bootstrap, BCa). A joint test should be
clear in 5% of samples. Then ratings of songs by judges, of which rows of either go together, with errors clustered one way and two ways; who asks whom, of which
rows with a member in common go together, with errors of dyads beside these; and one
series in time, with errors of independent rows and such that are robust to serial correlation. Then, of independent rows, how often the interval of a
change of R² holds what a block adds to all people there are, and those of a correlation and of Cronbach's alpha what these are among all people, beside
the intervals that take columns as normal. Then over imputations of a column, combined and with all rows at once; and by replicate weights of two units a stratum.
"""

import warnings

import click
import numpy as np
import pandas as pd
from rich.console import Console
from rich.table import Table
from scipy.special import ndtr
from scipy.stats import f as f_tail

import markbase as mb

NAMES = [f"x{k}" for k in range(5)]
KINDS = {"CR1": ("y", mb.fit_linear), "CR3": ("y", mb.fit_linear), "logistic, CR1": ("high", mb.fit_logistic)}


def drawn(rng: np.random.Generator, clusters: int) -> mb.Study:
    """Return a sample: rows in clusters of 5 rows and more, about 24 on average, of which each has a level of its own in all columns."""
    team = np.repeat(np.arange(clusters), rng.geometric(1 / 20, clusters) + 4)
    columns = {name: rng.normal(size=clusters)[team] + rng.normal(size=len(team)) for name in [*NAMES, "y"]}
    high = (columns["y"] > 0).astype(int)
    return mb.Study(pd.DataFrame({**columns, "high": high, "team": [f"t{k:02d}" for k in team]}))


def dyads(samples: int, rng: np.random.Generator) -> Table:
    """Return how often intervals held slopes of nothing, of who asks whom, by how errors allow for members; and joint tests of three."""
    kinds = {"by who asks": {"cluster": "asks"}, "two ways": {"cluster": ["asks", "asked"]}}
    kinds["dyadic"] = {"cluster": ["asks", "asked"], "errors": "dyadic"}
    slopes = {"x": "of the row", "apart": "of a difference", "v": "of a member"}
    table = Table(title="95% intervals, and a joint test at .05, of who asks whom", title_justify="left")
    heads = [f"{what}, {how}" for what in slopes.values() for how in kinds]
    for head in ("members, alike", *heads, "joint test clear, two ways", "dyadic"):
        table.add_column(head, justify="right")
    for members, alike in ((12, 1), (20, 1), (40, 1), (20, 0)):
        a, b = (own.ravel() for own in np.meshgrid(np.arange(members), np.arange(members), indexing="ij"))
        a, b = a[a != b], b[a != b]
        held, joint = np.zeros((len(slopes), len(kinds))), np.zeros(len(kinds))
        for _ in range(samples):
            there = rng.random(len(a)) < 0.6
            i, j, u, v = a[there], b[there], rng.normal(size=members), rng.normal(size=members)
            own = {"x": rng.normal(size=len(i)), "apart": np.abs(v[i] - v[j]), "v": v[i]}
            received = 0.6 * u + 0.8 * rng.normal(size=members)
            y = alike * (u[i] + received[j] + rng.normal(size=(members, members))[np.minimum(i, j), np.maximum(i, j)])
            named = {"asks": [f"m{k}" for k in i], "asked": [f"m{k}" for k in j]}
            study = mb.Study(pd.DataFrame({**own, **named, "y": y + rng.normal(size=len(i))}))
            for k, how in enumerate(kinds.values()):
                fit = mb.fit_linear(study, "y", list(slopes), **how)
                ends = fit.coefficients.iloc[1:]
                held[:, k] += (ends["low"] <= 0) & (ends["high"] >= 0)
                joint[k] += fit.overall.p < 0.05
        table.add_row(
            f"{members}, {'yes' if alike else 'no'}",
            *(f"{100 * n / samples:.0f}%" for n in (*held.ravel(), *joint[1:])),
        )
    return table


def two_ways(samples: int, rng: np.random.Generator) -> Table:
    """Return how often intervals held slopes of nothing, of ratings of songs by judges, by how errors are clustered; and joint tests of three."""
    kinds = {"by judge": "judge", "by song": "song", "two ways": ["judge", "song"]}
    slopes = {"x": "of the rating", "z": "of the song", "v": "of the judge"}
    table = Table(title="95% intervals, and a joint test at .05, of ratings of songs by judges", title_justify="left")
    heads = [f"{what}, {how}" for what in slopes.values() for how in kinds]
    for head in ("judges, songs", *heads, "joint test clear", "joint test refused"):
        table.add_column(head, justify="right")
    for judges, songs in ((12, 15), (20, 25), (40, 40)):
        j, s = (a.ravel() for a in np.meshgrid(np.arange(judges), np.arange(songs), indexing="ij"))
        held, joint = np.zeros((len(slopes), len(kinds))), np.zeros(2)
        for _ in range(samples):
            own = {"x": rng.normal(size=len(j)), "z": rng.normal(size=songs)[s], "v": rng.normal(size=judges)[j]}
            y = rng.normal(size=judges)[j] + rng.normal(size=songs)[s] + rng.normal(size=len(j))
            named = {"judge": [f"j{k}" for k in j], "song": [f"s{k}" for k in s]}
            study = mb.Study(pd.DataFrame({**own, **named, "y": y}))
            for k, by in enumerate(kinds.values()):
                fit = mb.fit_linear(study, "y", list(slopes), cluster=by)
                ends = fit.coefficients.iloc[1:]
                held[:, k] += (ends["low"] <= 0) & (ends["high"] >= 0)
            joint += [fit.overall.p < 0.05, np.isnan(fit.overall.p)]
        table.add_row(f"{judges}, {songs}", *(f"{100 * n / samples:.0f}%" for n in (*held.ravel(), *joint)))
    return table


def in_time(samples: int, rng: np.random.Generator) -> Table:
    """Return how often slopes of nothing were clear at .05 in one series, what is left going on from time to time: of what began half-way, beside a trend."""
    kinds = ("independent rows", "lags (Newey and West)", "HAC")
    table = Table(
        title="Clear at .05 where there is nothing: what begins half-way in one series, beside a trend",
        title_justify="left",
    )
    goes_on = (0.0, 0.4, 0.7)
    for head in ("times", *(f"{kind}, {rho:g}" for rho in goes_on for kind in kinds)):
        table.add_column(head, justify="right")
    for times in (36, 60, 120, 300):
        at = np.arange(times)
        X = np.column_stack([np.ones(times), at / times, at >= times / 2]).astype(float)
        bread, lags, found = np.linalg.inv(X.T @ X), int(0.75 * times ** (1 / 3)), []
        for rho in goes_on:
            clear = np.zeros(len(kinds))
            for _ in range(samples):
                left = rng.normal(size=times + 50)
                for k in range(1, len(left)):
                    left[k] += rho * left[k - 1]
                frame = pd.DataFrame({"y": left[50:], "trend": at / times, "late": X[:, 2], "month": at})
                fits = [mb.fit_linear(frame, "y", ["trend", "late"], time=by) for by in (None, "month")]
                z = X * fits[0].residuals.to_numpy()[:, None]
                middle = z.T @ z
                for lag in range(1, lags + 1):
                    middle += (1 - lag / (lags + 1)) * (z[lag:].T @ z[:-lag] + z[:-lag].T @ z[lag:])
                plain, robust = (f.coefficients.iloc[2] for f in fits)
                t = plain["estimate"] / np.sqrt((bread @ middle @ bread)[2, 2] * times / (times - 3))
                clear += [plain["p"] < 0.05, f_tail.sf(t**2, 1, times - 3) < 0.05, robust["p"] < 0.05]
            found += [*clear]
        table.add_row(f"{times}", *(f"{100 * n / samples:.0f}%" for n in found))
    return table


SHARES = ((0.1, 0.0), (0.1, 0.02), (0.1, 0.1), (0.3, 0.2), (0.6, 0.2), (0.4, 0.4))
"""What a first block explains, and what a second adds."""


def changes(samples: int, rng: np.random.Generator) -> Table:
    """Return how often the interval of a change of R² held it, of blocks of one column and of six, normal or skewed."""
    table = Table("first block, second adds", title="95% intervals of a change of R²", title_justify="left")
    kinds = [(columns, rows, skewed) for columns in (1, 6) for rows in (60, 200) for skewed in (False, True)]
    for columns, rows, skewed in kinds:
        table.add_column(f"{columns} {'skewed' if skewed else 'normal'}, {rows} rows", justify="right")
    for first, added in SHARES:
        cells = []
        for columns, rows, skewed in kinds:
            held = 0
            for _ in range(samples):
                X = rng.exponential(size=(rows, columns + 1)) - 1 if skewed else rng.normal(size=(rows, columns + 1))
                noise = np.sqrt(1 - first - added) * rng.normal(size=rows)
                y = np.sqrt(first) * X[:, 0] + np.sqrt(added / columns) * X[:, 1:].sum(axis=1) + noise
                frame = pd.DataFrame(X).rename(columns="c{}".format).assign(y=y)
                blocks = {"first": ["c0"], "second": [f"c{k + 1}" for k in range(columns)]}
                step = mb.fit_blocks(mb.Study(frame), "y", blocks).steps.iloc[1]
                held += step["change_low"] <= added <= step["change_high"] or (
                    np.isnan(step["change_low"]) and not added
                )
            cells.append(f"{100 * held / samples:.0f}%")
        table.add_row(f"{first}, {added}", *cells)
    return table


GROWING = "spread that grows"
SHAPES = {
    "normal": lambda z: z,
    "five answers": lambda z: np.digitize(z, [-1.2, -0.4, 0.4, 1.2]).astype(float),
    "five answers, few high": lambda z: np.digitize(z, [0.3, 0.9, 1.4, 1.9]).astype(float),
    "exponential": lambda z: -np.log(ndtr(-z)),
    "lognormal": np.exp,
    GROWING: lambda z: z,
}
"""What becomes of normal columns that share half of their variance; of the last the first spreads the more the larger the second is."""


def associations(samples: int, rng: np.random.Generator) -> Table:
    """Return how often the intervals of a correlation, of one of ranks and of alpha held them."""
    title = "95% intervals of r, of r of ranks and of alpha of six items (by Fisher's z, and by F, alone)"
    table, sizes, kinds = Table(title=title, title_justify="left"), (60, 200, 1000), ("r", "ranks", "alpha")
    for head in ("columns", *(f"{kind}, {rows}" for kind in kinds for rows in sizes)):
        table.add_column(head, justify="right")

    def frame(shape: str, rows: int) -> pd.DataFrame:
        z = np.sqrt(0.5) * (rng.normal(size=(rows, 1)) + rng.normal(size=(rows, 6)))
        if shape == GROWING:
            z[:, 0] = np.exp(z[:, 1]) * rng.normal(size=rows) + z[:, 1]
        return pd.DataFrame(SHAPES[shape](z), columns=list("abcdef"))

    for shape in SHAPES:
        everybody = frame(shape, 1_000_000)
        first = everybody[["a", "b"]]
        truth = {
            "r": first.corr().iloc[0, 1],
            "ranks": first.rank().corr().iloc[0, 1],
            "alpha": mb.reliability(everybody, list("abcdef")).alpha,
        }
        held = {(kind, rows): np.zeros(2) for kind in kinds for rows in sizes}
        for rows in sizes:
            for _ in range(samples):
                own = frame(shape, rows)
                told = {}
                for kind, method in (("r", "pearson"), ("ranks", "spearman")):
                    pair = mb.screen(own, ["b", "c"], "a", method=method).pairs
                    pair = pair[pair["first"] == "b"].iloc[0]
                    alone = np.arctanh(pair["first_outcome"]) + 1.96 / np.sqrt(rows - 3) * np.array([-1, 1])
                    told[kind] = (pair["first_low"], pair["first_high"]), np.tanh(alone)
                scale = mb.reliability(own, list("abcdef"))
                feldt = 1 - (1 - scale.alpha) * f_tail.ppf([0.975, 0.025], rows - 1, 5 * (rows - 1))
                told["alpha"] = scale.interval, feldt
                for kind, ends in told.items():
                    held[kind, rows] += [low <= truth[kind] <= high for low, high in ends]
        table.add_row(shape, *("{:.0f}% ({:.0f}%)".format(*(100 * n / samples)) for n in held.values()))
    return table


def imputed(samples: int, rng: np.random.Generator) -> Table:
    """Return how often intervals held a slope of nothing whose column was imputed, and joint tests of four were clear: combined, and with all rows at once."""
    table = Table(title="95% intervals, and a joint test at .05, over imputations", title_justify="left")
    for head in (
        "rows",
        "imputations",
        "combined",
        "all rows at once",
        "joint test clear, combined",
        "all rows at once",
    ):
        table.add_column(head, justify="right")
    names = ["x", *(f"z{k}" for k in range(3))]
    for rows, many in ((30, 5), (100, 5), (100, 20), (400, 5)):
        held, clear = np.zeros(2), np.zeros(2)
        for _ in range(samples):
            own = pd.DataFrame(rng.normal(size=(rows, 5)), columns=[*names, "y"])
            gaps = rng.random(rows) < 1 / (1 + np.exp(0.8 - own["z0"]))
            X = np.column_stack([np.ones(rows), own.drop(columns="x")])
            seen = X[~gaps]
            b, (rest,) = np.linalg.lstsq(seen, own["x"][~gaps], rcond=None)[:2]
            root, every = np.linalg.cholesky(np.linalg.inv(seen.T @ seen)), []
            for k in range(many):
                sd = np.sqrt(rest / rng.chisquare(len(seen) - 5))
                filled = X @ (b + sd * root @ rng.normal(size=5)) + sd * rng.normal(size=rows)
                every.append(own.assign(x=np.where(gaps, filled, own["x"]), number=k))
            study = mb.Study(pd.concat(every, ignore_index=True))
            fits = mb.fit_imputations(study, "y", names, "number"), mb.fit_linear(study, "y", names)
            for k, fit in enumerate(fits):
                slope = fit.coefficients.iloc[1]
                held[k] += slope["low"] <= 0 <= slope["high"]
                clear[k] += fit.overall.p < 0.05
        table.add_row(f"{rows}", f"{many}", *(f"{100 * n / samples:.1f}%" for n in (*held, *clear)))
    return table


def replicated(samples: int, rng: np.random.Generator) -> Table:
    """Return how often intervals held slopes of nothing in samples of two units a stratum: by replicate weights (JK2), and by weights alone."""
    table = Table(title="95% intervals, and a joint test of three at .05, by replicate weights", title_justify="left")
    heads = ("strata of two units", "of a unit", "of a row", "by weights alone, of a unit", "of a row")
    for head in (*heads, "joint test clear", "by weights alone"):
        table.add_column(head, justify="right")
    for strata in (12, 24, 60):
        unit = np.repeat(np.arange(2 * strata), 15)
        held, clear = np.zeros((2, 2)), np.zeros(2)
        for _ in range(samples):
            of_unit, of_row = rng.normal(size=2 * strata), rng.normal(size=(len(unit), 2))
            y = rng.normal(size=2 * strata)[unit] + rng.normal(size=len(unit))
            w = np.exp(0.4 * rng.normal(size=2 * strata))[unit] * rng.uniform(0.8, 1.2, len(unit))
            out = 2 * np.arange(strata) + rng.integers(0, 2, strata)
            more = {f"rep{h}": np.where(unit == out[h], 0, np.where(unit // 2 == h, 2 * w, w)) for h in range(strata)}
            study = mb.Study(
                pd.DataFrame({"u": of_unit[unit], "r": of_row[:, 0], "s": of_row[:, 1], "y": y, "w": w, **more})
            )
            for k, how in enumerate(({"replicates": "rep*", "replicates_are": "JK2"}, {})):
                fit = mb.fit_linear(study, "y", ["u", "r", "s"], weights="w", **how)
                ends = fit.coefficients.iloc[1:3]
                held[k] += (ends["low"] <= 0) & (ends["high"] >= 0)
                clear[k] += fit.overall.p < 0.05
        counts = (*held.ravel(), *clear)
        table.add_row(f"{strata}", *(f"{100 * n / samples:.1f}%" for n in counts))
    return table


@click.command()
@click.option("--samples", default=600, help="How many of each number of clusters.")
@click.option("--seed", default=7, help="Of the drawing.")
@click.option("--draws", default=0, help="Bootstrap samples of each; 0 for none.")
def main(samples: int, seed: int, draws: int) -> None:
    """Draw samples, and print how often each kind of interval holds a slope, and each joint test is clear."""
    warnings.simplefilter("ignore")
    table = Table(title="95% intervals of one slope, and joint tests of five at .05", title_justify="left")
    drawing = ("bootstrap",) if draws else ()
    for head in ("clusters", *KINDS, *drawing, *(f"joint, {kind}" for kind in KINDS), "joint, F on clusters less one"):
        table.add_column(head, justify="right")
    rng = np.random.default_rng(seed)
    for clusters in (8, 12, 24, 60):
        held, clear, plainly, in_samples = np.zeros(len(KINDS)), np.zeros(len(KINDS)), 0, 0
        for _ in range(samples):
            study = drawn(rng, clusters)
            for k, (kind, (outcome, fit)) in enumerate(KINDS.items()):
                result = fit(study, outcome, NAMES, cluster="team", errors=kind[-3:])
                slope, test = result.coefficients.iloc[1], result.overall
                held[k] += (
                    slope["low"] <= 0 <= slope["high"]
                    if outcome == "y"
                    else slope["odds_low"] <= 1 <= slope["odds_high"]
                )
                clear[k] += test.p < 0.05
                if kind == "CR1" and draws:
                    slope = mb.bootstrap(result, draws).table.iloc[1]
                    in_samples += slope["low"] <= 0 <= slope["high"]
                if kind == "CR1":
                    wald = test.statistic * result.df_rest / test.df_rest  # with nothing said of how few they are
                    plainly += f_tail.sf(wald, test.df, result.df_rest) < 0.05
        counts = (*held, *([in_samples] if draws else []), *clear, plainly)
        table.add_row(f"{clusters}", *(f"{100 * n / samples:.1f}%" for n in counts))
    Console(width=150).print(table)
    Console(width=150).print(two_ways(samples, rng))
    Console(width=170).print(dyads(samples, rng))
    Console(width=150).print(in_time(samples, rng))
    Console(width=150).print(changes(samples // 3, rng))
    Console(width=150).print(associations(samples, rng))
    Console(width=150).print(imputed(samples, rng))
    Console(width=150).print(replicated(samples, rng))


if __name__ == "__main__":
    main()
