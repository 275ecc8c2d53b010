"""A made-up yes/no outcome, and its probabilities at 50 digits."""

import mpmath as mp
import numpy as np
import pandas as pd

import markbase as mb
from reference import made_up


def choir(rows=140, seed=3):
    """Return the made-up table with a yes/no outcome, and weights."""
    frame = pd.DataFrame(made_up(rows, seed))
    rng = np.random.default_rng(seed + 1)
    eta = 0.6 * (frame["voice"] == "tenor") - 0.9 * (frame["voice"] == "bass") + 0.03 * (frame["age"] - 45)
    eta = eta - 0.1 * frame["km"] + 0.8
    frame["stays"] = np.where(rng.random(rows) < 1 / (1 + np.exp(-eta)), "yes", "no")
    frame["times"] = rng.integers(1, 4, rows).astype(float)
    frame["team"] = np.char.add("t", (np.arange(rows) % 31).astype(str))
    return frame


def study_of(frame, base="alto"):
    return mb.Study(frame).mark("voice", base)


def either(kind, study, terms, yes_no=("stays", "yes"), **options):
    """Return a linear fit of the score, or a logistic one of a yes/no outcome."""
    if kind == "linear":
        return mb.fit_linear(study, "score", terms, **options)
    return mb.fit_logistic(study, yes_no[0], terms, event=yes_no[1], **options)


def exactly(values):
    """1 / (1 + exp(−v)) of every value, with 50 digits on the way."""
    with mp.workdps(50):
        return np.array([float(1 / (1 + mp.exp(-mp.mpf(float(v))))) for v in values])
