"""What a blank means: a box that was not ticked, or the same as above."""

import numpy as np
import pandas as pd
import pytest

import markbase as mb


@pytest.mark.parametrize(("value", "no"), [(1, 0), ("yes", "no"), ("Yes", "No"), ("TRUE", "FALSE"), ("e-mail", "no"), (0, None), ("no", None)])
def test_a_column_of_one_value_and_blanks_may_be_a_box_to_tick(value, no):
    study = mb.Study(pd.DataFrame({"box": [value, None, value, None] * 20, "all": "x", "y": np.arange(80) % 7}))
    assert "box to tick" not in study.remarks()["all"][0].text
    told = [r for r in study.remarks()["box"] if "a box to tick" in r.text]
    assert [r.mend for r in told] == ([] if no is None else [({"do": "fill_blank", "column": "box", "value": no},)])
    with pytest.raises(mb.FitError, match="or fill its blanks first, if a blank is a box that was not ticked"):
        mb.fit_linear(study, "y", ["box"])
    if no is not None:
        filled = study.prepare(told[0].mend)
        assert mb.fit_linear(filled, "y", ["box"]).sample.used == 80
        assert "blank counts as" in filled.check("box").notes[0]


NAMED_ONCE = {
    "names": (["Aspen", None, None, "Birch", None, None, "Cedar", None, None], True),
    "rising numbers": ([1, None, 2, None, None, 3, None, None, None], True),
    "numbers that measure": ([3, None, 2, None, None, 1, None, None, None], False),
    "a name twice": (["Aspen", None, None, "Birch", None, None, "Aspen", None, None], False),
    "blank at the top": ([None, "Aspen", None, "Birch", None, None, "Cedar", None, None], False),
    "few blanks": (["Aspen", "Birch", None, "Cedar", "Dale", "Elder", None, "Fern", None], False),
    "side by side": (["Aspen", "Birch", "Cedar", None, None, None, None, None, None], False),
    "remarks": (["x" * 41, None, None, "Birch", None, None, "Cedar", None, None], False),
    "two": (["Aspen", None, None, None, "Birch", None, None, None, None], False),
}


@pytest.mark.parametrize("case", NAMED_ONCE)
def test_names_that_stand_in_the_first_row_of_several_are_told_with_the_step_that_fills_them_down(case):
    values, told = NAMED_ONCE[case]
    study = mb.Study(pd.DataFrame({"who": values, "y": range(9)}))
    steps = [r.mend for r in study.remarks().get("who", []) if "every value once" in r.text]
    assert steps == [({"do": "fill_down", "column": "who"},)] * told
    filled = study.fill_down("who")
    assert filled.check("who").passed
    assert filled["who"].missing_counts() == ([("blank", 1)] if values[0] is None else [])
    assert ("1 blank row at the top" in str(filled.check("who").notes)) == (values[0] is None)
    with pytest.raises(mb.ColumnError, match="blank in every row"):
        mb.Study(pd.DataFrame({"none": [None, None], "y": [1, 2]})).fill_down("none")
    with pytest.raises(mb.ColumnError, match="all stand above its first value"):
        mb.Study(pd.DataFrame({"top": [None, None, "a"], "y": [1, 2, 3]})).fill_down("top")
