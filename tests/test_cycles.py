"""Numbers that count round: the hour, the weekday, the month."""

import numpy as np
import pandas as pd
import pytest
from hypothesis import given
from hypothesis import strategies as st

import markbase as mb
from command import run

ROWS = np.arange(600)
WHOLE = {"month": 12, "weekday": 7, "day_of_week": 7, "quarter": 4, "Monat": 12, "start_hour": 24}
NONE = {  # how long, not when; half a year; of a working day; no whole numbers, or not all of them
    "months": ROWS % 12 + 1, "monthly": ROWS % 12 + 1, "month_of_birth": ROWS % 6 + 1, "hour": 8 + ROWS % 10, "weekday": ROWS % 7 * 2.0,
    "month": ROWS % 11 + 1.5, "time_of_day": ROWS % 25 - 1, "bed_hour": ROWS % 12, "quarter": ROWS % 9, "direction": ROWS % 3 - 1, "z": ROWS % 12 + 1,
}  # fmt: skip


def told(column, values):
    return " ".join(r.text for r in mb.Study(pd.DataFrame({column: values, "y": ROWS})).remarks().get(column, []))


@pytest.mark.parametrize("name", WHOLE)
def test_ends_that_are_neighbours_are_told_in_the_columns_the_fit_and_the_description(name):
    values = ROWS % WHOLE[name] + (name != "start_hour")
    low, high = int(values.min()), int(values.max())
    apart = f"{high} and {low} are neighbours and stand {high - low} apart"
    assert apart in told(name, values)
    study = mb.Study(pd.DataFrame({"y": ROWS * 37 % 101, name: values}))
    grouped = study.prepare(study.remarks()[name][0].mend)
    assert grouped[name].is_categorical
    with pytest.warns(mb.MarkbaseWarning, match=f"If `{name}` holds .* of the .*, {apart} here"):
        fit = mb.fit_linear(study, "y", [name])
    page = " ".join(str(fit).split())
    assert f"{apart} here, for a mean and for a slope: declared categorical, each stands by itself" in page
    assert "if they are codes" not in page
    assert apart in " ".join(str(mb.describe(study)).split())
    assert "neighbours" not in str(mb.fit_linear(grouped, "y", [name]))


@pytest.mark.parametrize("name", NONE)
def test_columns_that_do_not_go_round_are_left_in_peace(name):
    assert "neighbours" not in told(name, NONE[name])
    assert "or cut them into groups" in told("hour", ROWS % 10 * 2.5)
    for label, seen in (("Month of the interview", True), ("Household income per month, in classes", False)):
        study = mb.Study(pd.DataFrame({"v12": ROWS % 12 + 1}), {"columns": {"v12": {"label": label}}})
        assert any("neighbours" in r.text for r in study.remarks()["v12"]) == seen


@given(first=st.floats(15, 23), hours=st.floats(10, 18), steps=st.integers(40, 200))
def test_counted_from_where_no_value_is_neighbours_stand_together(first, hours, steps):
    along = np.append(np.linspace(0, hours, steps), [23.99 - first, 24.01 - first])
    study = mb.Study(pd.DataFrame({"bed_time": (first + along) % 24, "y": along}))
    (remark,) = [r for r in study.remarks()["bed_time"] if "neighbours" in r.text]
    new = study.prepare(remark.mend)[remark.mend[0]["name"]].values
    np.testing.assert_allclose(np.subtract.outer(new, new), np.subtract.outer(along, along), atol=1e-9)
    assert "skewed" not in told("bed_time", np.resize((first + along) % 24, 600))


def test_times_of_a_clock_on_both_sides_of_midnight_are_told_in_the_fit_too():
    clock = [f"{(21 + k % 6) % 24}:{k % 60:02d}" for k in ROWS]
    with pytest.warns(mb.MarkbaseWarning, match="midnight"):
        study = mb.Study(pd.DataFrame({"y": ROWS % 7, "off": clock})).from_clock("off", "minutes", name="m")
    with pytest.warns(mb.MarkbaseWarning, match="If `m` holds times of the day, 1436 and 3 .* a slope: count them"):
        mb.fit_linear(study, "y", ["m"])


def test_a_logarithm_that_is_made_and_left_out_of_the_model_is_told(tmp_path):
    (tmp_path / "t.csv").write_text("y,x\n" + "\n".join(f"{k % 5 + k},{k * k % 13 + 1}" for k in range(1, 40)))
    words = "`log_y`, its logarithm, was made and is nowhere in it"
    for command, terms, seen in (("fit", "x", True), ("screen", "x", True), ("fit", "log_y", False), ("fit", "x,log_y", False)):
        told = run(command, tmp_path / "t.csv", "--outcome", "y", "--terms", terms, "--log", "y")
        assert (words in told.stderr) == seen, (command, terms)
