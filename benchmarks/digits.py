"""How many digits agree with 50-digit arithmetic: ``python benchmarks/digits.py`` prints the table the README rests on.

The designs are those of the tests, the references are computed on columns laid out in full with mpmath.
"""

import sys
import warnings
from pathlib import Path

import pandas as pd
from rich.console import Console
from rich.table import Table

import markbase as mb

sys.path.insert(0, str(Path(__file__).resolve().parent.parent / "tests"))
from reference import digits, least_squares, logistic, made_up, sandwich, term_of
from test_hard_numbers import hard
from test_interactions import CURVES


def least(fit: mb.LinearFit, wanted: dict, robust: dict) -> list[str]:
    """Return the fewest digits of estimates, standard errors and joint tests."""
    table = fit.coefficients.set_index(["term", "level"])
    joint = fit.terms.set_index("term")["statistic"]
    highest = [t.name for t in fit.model_terms if not any(set(t.names) < set(o.names) for o in fit.model_terms)]
    keys = [k for k in wanted["estimate"] if k[0] != "(intercept)"]
    figures = (
        min(digits(table["estimate"][k], wanted["estimate"][k]) for k in keys),
        min(digits(table["se"][k], robust["se"][k]) for k in keys),
        min(digits(joint[t], robust["joint"][t]) for t in highest),
    )
    return [f"{v:.1f}" for v in figures]


def main() -> None:
    """Print the table."""
    warnings.simplefilter("ignore")
    table = Table(
        "design",
        "errors",
        "estimates",
        "standard errors",
        "joint tests",
        title="Fewest digits that agree with 50-digit arithmetic",
    )
    for name in ("plain0", "near6", "near7", "offset9", "offset14", "degree 7"):
        frame, terms, bases = hard(name)
        wanted = least_squares(frame, "score", terms, bases)
        for kind in ("classical", "HC3", "clustered"):
            robust = (
                wanted
                if kind == "classical"
                else sandwich(frame, "score", terms, bases, kind, "team" if kind == "clustered" else None)
            )
            options = {"cluster": "team"} if kind == "clustered" else {"errors": kind}
            fit = mb.fit_linear(mb.Study(frame).mark("voice", "alto"), "score", terms, **options)
            table.add_row(name, kind, *least(fit, wanted, robust))
    frame = pd.DataFrame(made_up(150))
    study = mb.Study(frame).mark("voice", "alto").mark("day", "Mon")
    for name, terms in CURVES.items():
        bases = {k: v for k, v in {"voice": "alto", "day": "Mon"}.items() if any(k in str(t) for t in terms)}
        wanted = least_squares(frame, "score", terms, bases)
        table.add_row(
            name, "classical", *least(mb.fit_linear(study, "score", [term_of(t) for t in terms]), wanted, wanted)
        )
    frame["high"] = ["y" if v > frame["score"].median() else "n" for v in frame["score"]]
    for penalty in (None, "firth"):
        fit = mb.fit_logistic(
            mb.Study(frame).mark("voice", "alto"), "high", ["voice", "age"], event="y", penalty=penalty
        )
        wanted = logistic(frame, "high", "y", ["voice", "age"], {"voice": "alto"}, firth=bool(penalty))
        held = fit.coefficients.set_index(["term", "level"])
        figures = [min(digits(held[c][k], v) for k, v in wanted[c].items()) for c in ("estimate", "se")]
        table.add_row("logistic", penalty or "classical", *(f"{v:.1f}" for v in figures), "")
    Console(width=110).print(table)


if __name__ == "__main__":
    main()
