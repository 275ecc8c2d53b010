"""Make the demo data anew: ``python -m markbase.demo.generate [FOLDER]``.

Everything is invented. The effects are written down here, so that examples can say what the truth
was; the survey's faults (blanks, codes for no answer, a misspelt level, an answer code that is no
numeric column) are put in on purpose.
"""

from __future__ import annotations

import sys
from pathlib import Path
from typing import Any

import numpy as np
import pandas as pd

SEED = 20260
SINGERS = 2003
SEASONS = 8

CHOIRS = [
    "Avenmoss",
    "Birchlow",
    "Corravale",
    "Dunnerel",
    "Eskwater",
    "Fennimore",
    "Garrowby",
    "Hollinsike",
    "Ivelbrook",
    "Jarrowmere",
    "Kelloway",
    "Larchfold",
    "Marrowdale",
    "Nettlecombe",
    "Orrinside",
    "Pellamere",
    "Quarnside",
    "Rushenfold",
    "Stavelow",
    "Tarrowick",
    "Ulverthwaite",
    "Venniford",
    "Wistmoor",
    "Yarrowby",
]
VOICES = {"soprano": 0.34, "alto": 0.36, "tenor": 0.12, "bass": 0.18}
JOINED = {
    "friend": 0.38,
    "family": 0.21,
    "open evening": 0.24,
    "noticeboard": 0.15,
    "workplace": 0.012,
    "festival": 0.008,
}

BELONGING = {
    "start": 38.0,
    "age": 0.12,
    "years_in_choir": 0.45,
    "rehearsals": 0.55,
    "concerts": 1.10,
    "travel_km": -0.35,
    "voice": {"soprano": -2.5, "alto": 0.0, "tenor": 3.0, "bass": 0.0},
    "joined_through": {
        "friend": 3.5,
        "family": 4.5,
        "open evening": 0.0,
        "noticeboard": -2.0,
        "workplace": -4.0,
        "festival": 1.0,
    },
    "rehearsal_day": {1: 0.0, 2: 0.0, 3: 1.5, 4: 0.0, 5: -3.0},
    "choir_sd": 2.0,
    "singer_sd": 11.0,
}
"""The true effects on `belonging`, each with the others held equal; bases have 0."""

STAYS = {"start": -2.4, "belonging": 0.055, "travel_km": -0.045, "age": 0.006}
"""The true effects on the log odds that a singer stays."""


def make_singers(seed: int = SEED) -> pd.DataFrame:
    """Make the survey of singers, a row a singer, as the file holds it: text for blanks and codes."""
    rng = np.random.default_rng(seed)
    n = SINGERS
    choir = rng.choice(len(CHOIRS), n, p=_uneven(rng, len(CHOIRS)))
    voice = rng.choice(list(VOICES), n, p=list(VOICES.values()))
    joined = rng.choice(list(JOINED), n, p=np.array(list(JOINED.values())) / sum(JOINED.values()))
    usual_day = rng.integers(1, 6, len(CHOIRS))
    day = np.where(rng.random(n) < 0.8, usual_day[choir], rng.integers(1, 6, n))
    age = np.clip(np.round(rng.normal(47, 16, n)), 16, 86).astype(int)
    years_singing = np.round(np.clip((age - 12) * rng.beta(2, 3, n), 0, None)).astype(int)
    years_in_choir = np.round(years_singing * rng.beta(5, 1.6, n)).astype(int)
    km = np.round(rng.gamma(1.8, 4.2, n) + 0.3, 1)
    minutes = np.round(4 + 1.9 * km + rng.normal(0, 2.2, n)).clip(2).astype(int)
    rehearsals = rng.binomial(20, rng.beta(6, 2.2, n))
    concerts = rng.binomial(8, np.clip(rehearsals / 24, 0.02, 0.95))

    b: dict[str, Any] = BELONGING
    belonging = (
        b["start"]
        + b["age"] * age
        + b["years_in_choir"] * years_in_choir
        + b["rehearsals"] * rehearsals
        + b["concerts"] * concerts
        + b["travel_km"] * km
        + np.array([b["voice"][v] for v in voice])
        + np.array([b["joined_through"][j] for j in joined])
        + np.array([b["rehearsal_day"][int(d)] for d in day])
        + rng.normal(0, b["choir_sd"], len(CHOIRS))[choir]
        + rng.normal(0, b["singer_sd"], n)
    )
    belonging = np.clip(np.round(belonging, 1), 0, 100)
    satisfaction = np.clip(np.round(1.1 + belonging / 25 + rng.normal(0, 0.7, n)), 1, 5).astype(int)
    practice = np.round(np.exp(-0.5 + 0.012 * belonging + 0.2 * (voice == "tenor") + rng.normal(0, 0.75, n)), 2)
    log_odds = STAYS["start"] + STAYS["belonging"] * belonging + STAYS["travel_km"] * km + STAYS["age"] * age
    stays = np.where(rng.random(n) < 1 / (1 + np.exp(-log_odds)), "yes", "no")
    weight = np.round(rng.gamma(25, 1 / 25, n), 3)

    frame = pd.DataFrame(
        {
            "singer_id": [f"S{k:04d}" for k in rng.permutation(np.arange(1001, 1001 + n))],
            "choir": np.array(CHOIRS)[choir],
            "voice": voice,
            "joined_through": joined,
            "rehearsal_day": day,
            "age": age,
            "years_singing": years_singing,
            "years_in_choir": years_in_choir,
            "travel_km": km,
            "travel_min": minutes,
            "rehearsals": rehearsals,
            "concerts": concerts,
            "events": rehearsals + concerts,
            "satisfaction": satisfaction,
            "belonging": belonging,
            "practice_hours": practice,
            "stays": stays,
            "weight": weight,
        }
    ).astype(object)
    _spoil(frame, rng)
    return frame


def _spoil(frame: pd.DataFrame, rng: np.random.Generator) -> None:
    """Put in what real files have: blanks, codes for no answer, a misspelt level."""
    n = len(frame)

    def some(count: int) -> Any:
        return rng.choice(n, count, replace=False)

    for column, blanks in {
        "age": 31,
        "belonging": 44,
        "travel_min": 60,
        "stays": 25,
        "joined_through": 18,
    }.items():
        frame.loc[some(blanks), column] = ""
    frame.loc[some(52), "practice_hours"] = -9
    frame.loc[some(23), "practice_hours"] = -8
    frame.loc[some(37), "satisfaction"] = -9
    frame.loc[some(12), "age"] = -9
    tenors = np.flatnonzero(frame["voice"] == "tenor")
    frame.loc[rng.choice(tenors, 6, replace=False), "voice"] = "tennor"
    whole = frame["belonging"] != ""
    frame.loc[whole, "belonging"] = [f"{v:.1f}" for v in frame.loc[whole, "belonging"]]


def make_terms(seed: int = SEED) -> pd.DataFrame:
    """Make the second table, a row a choir and season: attendance carries over from one season to the next.

    One season of one choir is missing, so that a lag has a gap.
    """
    rng = np.random.default_rng(seed + 1)
    records = []
    for choir in CHOIRS:
        level, attendance = rng.normal(72, 6), 0.0
        for season in range(1, SEASONS + 1):
            concerts = int(rng.integers(1, 5))
            before = attendance if season > 1 else level
            attendance = float(np.clip(0.4 * level + 0.6 * before + 1.2 * (concerts - 2.5) + rng.normal(0, 3), 20, 100))
            records.append(
                {
                    "choir": choir,
                    "term": season,
                    "attendance": f"{attendance:.1f}",
                    "concerts": concerts,
                    "new_singers": int(rng.poisson(3)),
                }
            )
    frame = pd.DataFrame(records)
    gap = (frame["choir"] == CHOIRS[6]) & (frame["term"] == 4)
    return frame[~gap].reset_index(drop=True)


ITEMS = {"welcome": 0.8, "friends": 0.7, "heard": 0.7, "stranger": -0.75, "part_of_it": 0.9, "would_miss": 0.55}
"""Items of a scale of being at home, 1 to 5, each with what it has of that; one is worded the other way round."""


def make_items(seed: int = SEED, singers: int = 412) -> pd.DataFrame:
    """Make the third table, a row a singer: answers to items that share one thing, some of them blank."""
    rng = np.random.default_rng(seed + 2)
    shared = rng.normal(size=singers)
    frame = pd.DataFrame({"singer_id": np.arange(5001, 5001 + singers)})
    for name, share in ITEMS.items():
        answer = 3.3 * (share > 0) + 2.2 * (share < 0) + 1.1 * (share * shared + rng.normal(0, 0.6, singers))
        frame[name] = np.clip(np.round(answer), 1, 5).astype(int).astype(object)
        frame.loc[rng.choice(singers, 9, replace=False), name] = ""
    return frame


def make_homes(seed: int = SEED) -> pd.DataFrame:
    """Make the fourth table, a row a choir, to be joined to the singers: where it meets, since when, and what it costs.

    One choir of the survey did not answer, one that did has no singer in it, and one did not say what it costs. None of it bears on belonging.
    """
    rng = np.random.default_rng(seed + 8)
    named = [name for name in CHOIRS if name != "Quarnside"] + ["Zellbrook"]
    places = rng.choice(["parish hall", "school", "own house"], len(named), p=[0.5, 0.3, 0.2])
    frame = pd.DataFrame({"choir": named, "meets_in": places, "founded": rng.integers(1871, 2012, len(named))})
    frame["fee"] = 12 * rng.integers(2, 11, len(named))
    frame.loc[frame["choir"] == "Hollinsike", "fee"] = -9
    return frame


def make_imputed(seed: int = SEED, singers: int = 360, imputations: int = 5) -> pd.DataFrame:
    """Make the fifth table: other singers, whose gaps are filled several times, one imputation below another; number 0 is as they answered.

    Older singers left the rehearsals blank more often, some the voice part. Rehearsals are drawn from a regression on all other columns, whose
    coefficients are drawn as well; voice parts from those who feel about as much at home. True effects are those on `belonging`.
    """
    rng = np.random.default_rng(seed + 11)
    voice = rng.choice(list(VOICES), singers, p=list(VOICES.values()))
    age = np.clip(np.round(rng.normal(47, 16, singers)), 16, 86)
    km = np.round(rng.gamma(1.8, 4.2, singers) + 0.3, 1)
    rehearsals = rng.binomial(20, rng.beta(6, 2.2, singers)).astype(float)
    b: dict[str, Any] = BELONGING
    belonging = b["start"] + 8 + b["age"] * age + b["rehearsals"] * rehearsals + b["travel_km"] * km
    belonging = belonging + np.array([b["voice"][v] for v in voice]) + rng.normal(0, b["singer_sd"], singers)
    belonging = np.clip(np.round(belonging, 1), 0, 100)
    blank = rng.random(singers) < 1 / (1 + np.exp(1.6 - (age - 47) / 20))
    unknown = rng.random(singers) < 0.07
    whole = {"age": age.astype(int), "voice": voice, "travel_km": km, "rehearsals": rehearsals, "belonging": belonging}
    frame = pd.DataFrame({"imputation": 0, "singer_id": np.arange(7001, 7001 + singers), **whole}).astype(object)
    tables = [frame.assign(rehearsals=np.where(blank, "", rehearsals.astype(int)), voice=np.where(unknown, "", voice))]
    for number in range(1, imputations + 1):
        parts = voice.copy()
        for k in np.flatnonzero(unknown):
            near = np.argsort(np.where(unknown, np.inf, np.abs(belonging - belonging[k])))[:40]
            parts[k] = voice[rng.choice(near)]
        X = np.column_stack([np.ones(singers), age, km, belonging, *(parts == v for v in list(VOICES)[1:])])
        known = X[~blank]
        estimate, (left,), _, _ = np.linalg.lstsq(known, rehearsals[~blank], rcond=None)
        spread = np.sqrt(left / rng.chisquare(len(known) - X.shape[1]))
        drawn = estimate + spread * np.linalg.cholesky(np.linalg.inv(known.T @ known)) @ rng.normal(size=X.shape[1])
        filled = np.clip(np.round(X @ drawn + rng.normal(0, spread, singers)), 0, 20)
        own = np.where(blank, filled, rehearsals).astype(int)
        tables.append(frame.assign(imputation=number, voice=parts, rehearsals=own))
    return pd.concat(tables, ignore_index=True)


def _uneven(rng: np.random.Generator, parts: int) -> Any:
    shares = rng.gamma(6, 1, parts)
    return shares / shares.sum()


def write(folder: Path, seed: int = SEED) -> None:
    """Write all tables into a folder as CSV; existing files of the same name are replaced."""
    tables = {
        "choirs": make_singers,
        "choir_terms": make_terms,
        "choir_items": make_items,
        "choir_homes": make_homes,
        "choir_imputed": make_imputed,
    }
    for name, frame in ((f"{table}.csv", make(seed)) for table, make in tables.items()):
        (folder / name).write_bytes(frame.to_csv(index=False, lineterminator="\n").encode())


if __name__ == "__main__":
    write(Path(sys.argv[1]) if len(sys.argv) > 1 else Path(__file__).parent / "data")
