"""A table with gaps that were filled several times over, and what is combined of it at 50 digits."""

import mpmath as mp
import numpy as np
import pandas as pd

import markbase as mb

rng = np.random.default_rng(12)
N, M = 160, 5
WHOLE = pd.DataFrame({
    "who": rng.permutation(N) + 100, "x": rng.normal(3, 2, N), "g": rng.choice(["a", "b", "c"], N, p=[0.5, 0.3, 0.2]), "t": rng.choice([f"t{j}" for j in range(20)], N),
    "w": rng.uniform(0.5, 3, N),
})  # fmt: skip
WHOLE["y"] = 0.5 * WHOLE["x"] + (WHOLE["g"] == "b") + rng.normal(size=N)
WHOLE["yes"] = np.where(WHOLE["y"] + rng.normal(size=N) > 1.5, "yes", "no")
GAPS, UNKNOWN = rng.random(N) < 0.3, rng.random(N) < 0.1


def filled(number):
    """An imputation: gaps of x and g are filled by draws."""
    draws = np.random.default_rng(number)
    x = np.where(GAPS, 2 + 0.7 * WHOLE["y"] + draws.normal(0, 1.5, N), WHOLE["x"])
    return WHOLE.assign(x=x, g=np.where(UNKNOWN, draws.choice(["a", "b", "c"], N), WHOLE["g"]), imputation=number)


EACH = [filled(number) for number in range(1, M + 1)]
FRAME = pd.concat(EACH, ignore_index=True)
FIRST = WHOLE.assign(x=WHOLE["x"].where(~GAPS), g=WHOLE["g"].where(~UNKNOWN), imputation=0)
TERMS = ["x", "g", mb.interaction("x", "g")]


def by_rules(estimates, errors, df):
    """Rubin's rules with the degrees of freedom of Barnard and Rubin, at 50 digits: estimate, se, df, p, missing information, simulation error."""
    with mp.workdps(50):
        Q, U, m = [mp.mpf(q) for q in estimates], [mp.mpf(u) ** 2 for u in errors], len(estimates)
        mean, within = mp.fsum(Q) / m, mp.fsum(U) / m
        between = mp.fsum((q - mean) ** 2 for q in Q) / (m - 1)
        total = within + (1 + mp.mpf(1) / m) * between
        r = (1 + mp.mpf(1) / m) * between / within
        nu = (m - 1) * (1 + 1 / r) ** 2
        if np.isfinite(df):
            seen = mp.mpf(df + 1) / (df + 3) * df * within / total
            nu = 1 / (1 / nu + 1 / seen)
        t = mean / mp.sqrt(total)
        p = mp.betainc(nu / 2, mp.mpf(1) / 2, 0, nu / (nu + t**2), regularized=True)
        return [float(v) for v in (mean, mp.sqrt(total), nu, p, (r + 2 / (nu + 3)) / (1 + r), mp.sqrt(between / m))]


def mp_quantile(df, tail):
    """The quantile of t below which a tail lies, by a root at 30 digits."""
    with mp.workdps(30):

        def below(t):
            return mp.betainc(mp.mpf(df) / 2, mp.mpf(1) / 2, 0, df / (df + t**2), regularized=True) / 2 - tail

        return -mp.findroot(below, 2.0)


def tail_of_f(F, df, rest):
    """The upper tail of F by integrating its density."""
    with mp.workdps(30):
        a, b = mp.mpf(df) / 2, mp.mpf(rest) / 2
        return float(mp.betainc(a, b, df * mp.mpf(F) / (df * mp.mpf(F) + rest), 1, regularized=True))
