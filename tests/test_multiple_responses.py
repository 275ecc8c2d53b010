"""Cells that hold several answers: found, told, and taken apart as by hand."""

import json
import warnings

import numpy as np
import pandas as pd
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

import markbase as mb
from command import run

ANSWERS = ["e-mail", "phone", "letter", "at the door"]


@pytest.mark.filterwarnings("ignore::markbase.MarkbaseWarning")
@given(
    cells=st.lists(st.lists(st.sampled_from(ANSWERS), max_size=3, unique=True), min_size=4, max_size=30),
    between=st.sampled_from([";", "; ", "|", " , "]),
    blank=st.integers(0, 2),
)
@settings(deadline=None)
def test_each_answer_is_a_column_of_who_gives_it(cells, between, blank):
    study = mb.Study(pd.DataFrame({"how": [between.join(cell) or None for cell in cells] + [None] * blank, "y": range(len(cells) + blank)}))
    given_by = {a: [None if not cell else a in cell for cell in cells] + [None] * blank for a in ANSWERS}
    for answer, own in given_by.items():
        told = [v for v in own if v is not None]
        made = lambda a=answer: study.multiple_response("how", a, separator=between.strip(), name="new")  # noqa: E731
        if study["how"].is_categorical and any(told) and not all(told):
            new = made()["new"]
            assert new.values.tolist() == [-1 if v is None else int(v) for v in own]
            assert [level.label for level in new.levels] == ["no", "yes"]
            assert (new.base.level, new.event) == (0, 1)
        else:
            with pytest.raises(mb.MarkbaseError, match=r"No cell|Every cell|is numeric"):
                made()


def test_such_cells_are_told_with_the_steps_that_take_them_apart(tmp_path):
    rng = np.random.default_rng(4)
    cells = [";".join(a for a in ANSWERS if rng.random() < 0.5) for _ in range(200)]
    frame = pd.DataFrame({"how": cells, "y": rng.normal(size=200)})
    study = mb.Study(frame)
    (remark,) = study.remarks()["how"]
    assert remark.text.startswith("cells hold several answers with `;` between them: ")
    assert {step["answer"] for step in remark.mend} == set(ANSWERS)
    with warnings.catch_warnings():
        warnings.simplefilter("ignore")
        apart = study.prepare(remark.mend)
    whole = mb.Study(frame.assign(how="a;b").assign(how=lambda d: np.where(d.index % 2, "a", d["how"])))
    assert not whole.multiple_response("how", "b", name="b").check("b").notes  # no row is blank
    names = [step["name"] for step in remark.mend]
    assert "how_at_the_door" in names
    for step in remark.mend:
        assert apart[step["name"]].counts[1] == sum(step["answer"] in cell.split(";") for cell in cells)
        assert apart[step["name"]].label == f"how: {step['answer']}"
    with pytest.warns(mb.MarkbaseWarning, match=r"`how` holds several answers in a cell .with `;` between them., and every combination"):
        mb.fit_linear(study, "y", ["how"])
    frame.to_csv(tmp_path / "data.csv", index=False)
    options = [part for step in remark.mend for part in ("--prepare", ", ".join(f"{k} = {json.dumps(v)}" for k, v in step.items()))]
    done = run("fit", str(tmp_path / "data.csv"), "--outcome", "y", "--terms", ",".join(names), *options)
    assert done.returncode == 0
    for name in names:
        assert f"base of {name}" in done.stdout
    drafted = run("start", str(tmp_path / "data.csv"), "--outcome", "y")
    assert "could explain `y`: how (several answers in a cell: make a column of each)." in drafted.stderr


@pytest.mark.parametrize(
    "labels",
    [
        ["Smith; John", "Miller; Ann", "Brown; Tom", "White; Eve"],  # each part in one cell
        ["1,5", "2,5", "3,5", "1,0"],  # numbers
        ["yes, often", "yes, rarely", "no, never", "no, not yet"],
        ["a;b", "a", "b", "c", "d"],  # one cell is no habit
        ["a;b", "a", "b"],
        ["Agree; strongly"] * 2 + ["Disagree"] * 2,
        ["low", "middle", "high"],
    ],
)
def test_other_cells_are_not_taken_for_several_answers(labels):
    study = mb.Study(pd.DataFrame({"how": labels * 8, "y": range(8 * len(labels))}))
    assert "several answers" not in " ".join(r.text for r in study.remarks().get("how", []))
