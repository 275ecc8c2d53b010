"""What a result hands out is the analyst's own: nothing done to it changes a later print."""

import warnings

import pandas as pd
import pytest

import markbase as mb

pytestmark = pytest.mark.filterwarnings("ignore::markbase.MarkbaseWarning")


def results():
    """Make one result of every kind."""
    study = mb.demo.plan().open()
    linear = mb.fit_linear(study, "belonging", ["age", "voice", "rehearsals"])
    odds = mb.fit_logistic(study, "stays", ["age", "voice"], event="yes")
    blocks = mb.fit_blocks(study, "belonging", {"a": ["age"], "b": ["voice"]})
    kept, test = study.hold_out(share=0.25, seed=1)
    return {
        "linear": linear,
        "logistic": odds,
        "blocks": blocks,
        "screen": mb.screen(study, ["age", "voice", "rehearsals"], "belonging"),
        "pruned": mb.screen(study, ["age", "rehearsals", "concerts"]).prune(limit=1.001),
        "compared": mb.compare(linear, mb.fit_linear(study, "belonging", ["age"])),
        "eliminated": mb.backward_elimination(mb.fit_linear(study, "belonging", ["age", "travel_km", "travel_min"])),
        "bootstrap": mb.bootstrap(linear, 100),
        "dominance": mb.dominance(linear),
        "specifications": mb.specifications(linear, "age"),
        "score": mb.score(mb.fit_linear(kept, "belonging", ["age"]), test),
        "cross-validated": mb.cross_validate(linear, folds=3),
        "checks": linear.checks(),
        "classification": odds.classification(),
        "check": study.check("voice"),
        "coding": study.coding("voice"),
    }


KINDS = (
    "linear", "logistic", "blocks", "screen", "pruned", "compared", "eliminated", "bootstrap", "dominance", "specifications", "score", "cross-validated", "checks",
    "classification", "check", "coding",
)  # fmt: skip


@pytest.fixture(scope="module")
def made():
    with warnings.catch_warnings():
        warnings.simplefilter("ignore", mb.MarkbaseWarning)
        return results()


@pytest.mark.parametrize("name", KINDS)
def test_a_table_that_was_changed_changes_nothing_else(name, made):
    result = made[name]
    before, page = str(result), result._repr_html_()
    tables = 0
    for attribute in dir(type(result)) + list(vars(result)):
        if attribute.startswith("_") or callable(getattr(type(result), attribute, None)):
            continue
        table = getattr(result, attribute)
        if isinstance(table, (pd.DataFrame, pd.Series)) and len(table):
            tables += 1
            if isinstance(table, pd.DataFrame):
                table[table.columns[-1]] = 0
                del table[table.columns[0]]
            else:
                table.iloc[:] = table.iloc[0]
    assert tables
    assert str(result) == before
    assert result._repr_html_() == page
    if name in ("linear", "logistic"):
        with pytest.raises(AttributeError):
            result.coefficients = None
