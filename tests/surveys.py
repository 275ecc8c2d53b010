"""The survey in memory and in parts, and how two results are held against each other."""

import pandas as pd
import pytest

import markbase as mb

DATA, BOOK = mb.demo.path("choirs.csv"), mb.demo.path("choirs.codebook.toml")
TERMS = ["voice", mb.polynomial("age", 2), "joined_through", mb.interaction("rehearsals", "joined_through"), "log_km"]
PLAIN = ["age", "voice", "rehearsals", "concerts"]


def prepared(study):
    """Steps of several kinds, as an analyst takes them."""
    study = study.merge_levels("voice", {"tenor": ["tennor"]}).mark("voice", "alto").derive("log_km", log="travel_km")
    return study.split_at("satisfaction", above=3, labels=("low", "high"), name="content")


def same(one, other, tolerance=1e-10):
    """Hold two results against each other: tables and numbers to 10 digits, texts letter by letter."""
    if isinstance(one, pd.DataFrame):
        pd.testing.assert_frame_equal(one, other, rtol=tolerance, atol=1e-13)
    elif isinstance(one, (list, tuple)):
        assert len(one) == len(other)
        for a, b in zip(one, other, strict=True):
            same(a, b, tolerance)
    elif isinstance(one, float):
        assert other == pytest.approx(one, rel=tolerance, nan_ok=True)
    elif isinstance(one, str):
        assert one == other.replace("choirs.parquet", "choirs.csv")
    else:
        assert one == other


def listed(found):
    return list(found.items()) if isinstance(found, dict) else found
