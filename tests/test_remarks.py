"""What a look at a column remarks on, and the steps it proposes."""

import shlex
import warnings

import numpy as np
import pandas as pd
import pytest

import markbase as mb
from command import run
from markbase.show.study import as_option


def remarks(study, column):
    return study.overview().set_index("column").loc[column, "remarks"]


GUESSES = [
    ([1, 2, 3, 4, 5] * 20, "numeric", "digits that look like codes: 5 whole numbers"),
    ([np.nan] + [0] * 79 + [1] * 12 + [2] * 8, "numeric", "digits that look like codes: 3 whole numbers"),
    (list(range(1001, 1101)), "numeric", "looks like an identifier"),
    ([f"P{k}" for k in range(100)], "categorical", "looks like an identifier"),
    ([f"P{k // 2}" for k in range(100)], "categorical", "50 levels, of 2 rows on average: persons measured more than once"),
    ([907 + k // 2 for k in range(100)], "numeric", "50 whole numbers, of 2 rows on average: persons measured"),
    ([*range(907, 962), *range(909, 954)], "numeric", "55 whole numbers, of 1.8 rows on average: persons measured"),
    (["a", "b"] * 50, "categorical", ""),
    (["1.5", "2,5", "n/a"] + ["3.5"] * 97, "categorical", "mostly numbers, but text in 2 rows"),
    (["1,5", "2"] * 50, "numeric", "decimal commas"),
    (["12.5%", "7 %", "", "3%"] * 25, "numeric", "percent signs read away"),
    (["12,5%", "70%"] * 50, "numeric", "decimal commas"),
    (["10%", "20"] * 50, "categorical", ""),
    (["1,500", "2,500"] * 50, "categorical", ""),
    ([7] * 100, "numeric", "constant"),
    ([True, False] * 50, "categorical", ""),
    (["a"] * 100, "categorical", "constant: every row is `a`"),
    (["a ", "a", " b", "b"] * 25, "categorical", "blanks around the text read away in 50 rows"),
    ([None] * 100, "numeric", "every row is missing"),
    ([1.0, np.inf] * 50, "numeric", "infinite in 50 rows"),
    (["1_000"] * 50 + ["x"] * 50, "categorical", ""),
    (["Agree", "Disagree", "Neutral", "n/a"] * 25, "categorical", "a scale by its words, which stand from low to high"),
    (["tertiary", "Basic", "refused", "secondary"] * 25, "categorical", "a scale by its words, which stand from low to high"),
    (["Agree", "Disagree", "Neutral", "n/a"] * 25, "categorical", "`n/a` (25) reads like a missing answer"),
    (["east", "N/A", "Refused", "west"] * 25, "categorical", "`N/A` (25) and `Refused` (25) read like missing answers"),
    (["DE", "NA", "ZA", "FR"] * 25, "categorical", ""),
    (["North", "South", "North total", "Total"] * 25, "categorical", "`Total` (25) read like totals of other rows"),
    (["women", "men", "Gesamt:", "men"] * 25, "categorical", "`Gesamt:` (25) reads like the total of other rows"),
    (["partial", "total", "partial", "total"] * 25, "categorical", ""),
    (["half", "sum total", "none", "none"] * 25, "categorical", ""),
    (["Female", "Male", "female ", "Male"] * 25, "categorical", "differ only by case"),
    (["Male", "Male\u200b", "Female", "Female"] * 25, "categorical", "accents or signs that are not seen"),
    (["alto", "\u0430lto", "bass", "bass"] * 25, "categorical", "quotes of other alphabets that look the same"),
    (["d\u2019alto", "d'alto", "bass", "bass"] * 25, "categorical", "quotes of other alphabets that look the same"),
    (["part-1", "part 1", "bass", "bass"] * 25, "categorical", "differ only by case"),
    (["1.5 km", "15 km", "1 5 km", "-15 km"] * 25, "categorical", ""),
    (["1-2 hours", "12 hours", "A.1", "A.2"] * 25, "categorical", ""),
    ([f"2024-01-{k % 28 + 1:02d} 1{k % 10}:00:00" for k in range(100)], "categorical", "a number made of them"),
    (list(range(1, 21)) * 5, "numeric", "whole numbers from 1 to 20, each in about as many rows: numbers of groups?"),
    ([k / 4 for k in range(98)] + [61.5, 700.25], "numeric", "`61.5` and `700.25` lie further from all others (0 to 24.25) than these"),
    ([k / 4 for k in range(99)] + [-80.25], "numeric", "`−80.25` lies further from all others (0 to 24.5) than these lie apart"),
    ([0.5] + [k / 4 for k in range(98)] + [48.25], "numeric", ""),  # no wider than these lie apart
    ([k / 4 for k in range(96)] + [400.5] * 2 + [700.25] * 2, "numeric", "strongly skewed"),  # none of them alone
    ([*np.exp(np.linspace(-2, 2, 98)), 15.5, 16.5], "numeric", "strongly skewed"),  # the end of a long tail
]


AMOUNTS = {  # whole numbers none of which occurs twice, but amounts, or counts, or of a unit
    "long tail": (np.exp(np.linspace(2, 12, 100)).round(), {}),
    "below 0": (np.arange(-50, 50), {}),
    "of a unit": (np.arange(1001, 1101), {"unit": "euro"}),
    "from 0": (np.arange(100) % 20, {}),
    "few in the last": (np.r_[np.arange(99) % 14 + 1, 15], {}),
    "ages": (np.random.default_rng(1).integers(18, 70, 100), {}),
    "sorted twice": (np.tile(np.sort(np.random.default_rng(2).integers(18, 70, 50)), 2), {}),
    "days": (np.arange(100) % 50 + 1.5, {}),
    "declared": (np.arange(100) // 2, {"kind": "numeric"}),
}


@pytest.mark.parametrize("case", AMOUNTS)
def test_what_measures_is_taken_neither_for_an_identifier_nor_for_numbers_of_groups(case):
    values, spec = AMOUNTS[case]
    study = mb.Study(pd.DataFrame({"c": values}), codebook={"columns": {"c": spec}})
    told = study.overview()["remarks"].iloc[0]
    assert "identifier" not in told
    assert "numbers of groups" not in told
    assert "more than once" not in told


@pytest.mark.parametrize(
    ("levels", "numbers"),
    [
        (["1 - never", "2 - rarely", "3", "4 - often"], [1, 2, 3, 4]),
        (["Strongly disagree (1)", "Neutral (2)", "Strongly agree (3)"], [1, 2, 3]),
        (["[7] a lot", "[0] not at all", "[3] some", "Refused"], [7, 0, 3, None]),
        (["1=low", "2=middle", "3=high"], [1, 2, 3]),
        (["1 - north", "2 - south"], None),  # two levels are no scale
        (["1 - never", "1 - rarely", "2 - often"], None),
        (["1a", "1b", "2a"], None),
        (["1 - east", "25 - west", "99 - north"], None),
        (["18-24", "25-34", "35-44"], None),
        (["1", "2", "3 - high"], None),
    ],
)
def test_levels_that_carry_numbers_are_told_with_the_steps_that_make_a_scale_of_them(levels, numbers):
    study = mb.Study(pd.DataFrame({"c": levels * 40}))
    told = [r for r in study.remarks().get("c", []) if "carry numbers" in r.text]
    assert bool(told) == (numbers is not None)
    if numbers is not None:
        ordinal, numeric = told[0].mend
        low_to_high = [t for n, t in sorted((n, t) for n, t in zip(numbers, levels, strict=True) if n is not None)]
        assert ordinal["order"] == low_to_high
        blanked = study.blank("c", [t for n, t in zip(numbers, levels, strict=True) if n is None]) if None in numbers else study
        assert [level.label for level in blanked.prepare([ordinal])["c"].levels] == low_to_high
        wanted = np.array([np.nan if n is None else n for n in numbers])
        np.testing.assert_array_equal(blanked.prepare([numeric])["c"].values[: len(levels)], wanted)


@pytest.mark.parametrize("scale", [["1 none", "2 basic", "3 degree"], ["disagree", "neutral", "agree"]])
def test_thin_levels_of_an_order_are_merged_with_no_other_end_and_no_answer_is_none_of_it(scale):
    study = mb.Study(pd.DataFrame({"c": np.repeat([*scale, "k.A."], [12, 60, 12, 40])}))
    told = study.remarks()["c"]
    mends = [mend for remark in told for mend in remark.mend]
    assert [mend["do"] for mend in mends if mend["do"] != "as_numeric"] == ["blank", "as_ordinal"]
    assert any("one goes together with its neighbour" in remark.text for remark in told)
    assert [level.label for level in study.prepare(mends[:2])["c"].levels] == scale
    with pytest.warns(mb.MarkbaseWarning, match="`k.A.` is not in the order, and stands behind it as the highest level"):
        study.prepare(mends[1:2])


def test_dates_of_one_year_become_days_and_are_no_slips_of_one_another():
    dates = [f"{k % 28 + 1}.{k % 2 + 1}.2024" for k in range(97)]
    study = mb.Study(pd.DataFrame({"c": [*dates, "k.A.", "k.A.", "16.2.2024"], "t": ["team 11"] * 97 + ["team 12"] * 3}))
    blank, days = (mend for remark in study.remarks()["c"] for mend in remark.mend)
    made = study.prepare([blank, days])["c_days"].values
    assert (np.nanmin(made), np.nanmax(made), np.isnan(made).sum()) == (0, 58, 2)
    assert [remark.text for remark in study.remarks()["t"]] == ["thin level: `team 12` (3)"]


def test_a_level_that_reads_like_no_answer_is_told_at_the_fit_and_mended_as_proposed():
    frame = pd.DataFrame({"place": ["east", "N/A", "west", "east"] * 20, "y": np.arange(80.0) % 7})
    with pytest.warns(mb.MarkbaseWarning, match="`place`: `N/A` reads like a missing answer"):
        mb.fit_linear(frame, "y", ["place"])
    study = mb.Study(frame)
    (mend,) = study.remarks()["place"][0].mend
    assert mb.fit_linear(study.prepare([mend]), "y", ["place"]).sample.used == 60
    levels = {"east": "East", "west": "West", "N/A": "North Atlantic"}
    book = {"columns": {"place": {"kind": "categorical", "levels": levels}}}
    mb.fit_linear(mb.Study(frame, codebook=book).mark("place", "East"), "y", ["place"])  # warnings are errors here


def test_a_step_that_is_proposed_can_be_typed_whatever_the_name_of_the_column(tmp_path):
    pd.DataFrame({"sex (1=m, 2=f)": [1, 2] * 30, "y": np.arange(60.0)}).to_csv(tmp_path / "c.csv", index=False)
    (mend,) = mb.open_study(tmp_path / "c.csv").remarks()["sex (1=m, 2=f)"][0].mend
    option, name = shlex.split(as_option(mend))
    assert (option, name) == ("--categorical", '"sex (1=m, 2=f)"')
    assert "sex (1=m, 2=f)  categorical " in run("look", "c.csv", option, name, cwd=tmp_path).stdout


def test_a_column_named_like_a_weight_is_asked_about():
    frame = pd.DataFrame(
        {name: np.linspace(0.5, 2, 50) for name in ("weight", "survey_weight", "birth_weight_kg", "wgt", "dweight", "raking_weight", "PERWT", "newt")}
    )
    told = mb.Study(frame).overview().set_index("column")["remarks"].str.contains("a weight of the rows, by its name")
    assert told.to_dict() == {
        "weight": True,
        "survey_weight": True,
        "birth_weight_kg": False,
        "wgt": True,
        "dweight": True,
        "raking_weight": True,
        "PERWT": True,
        "newt": False,
    }
    assert "by its name" not in mb.Study(frame).as_role("weight", "weight").overview()["remarks"].iloc[0]


@pytest.mark.parametrize(("values", "kind", "remark"), GUESSES)
def test_kinds_are_guessed_and_said_to_be(values, kind, remark):
    study = mb.Study(pd.DataFrame({"c": values, "other": np.arange(100) % 7}))
    row = study.overview().set_index("column").loc["c"]
    assert (row["kind"], row["guessed"]) == (kind, True)
    assert remark in row["remarks"]
    for words in ("of other rows", "further from all others"):
        assert (words in remark) == (words in row["remarks"])
    assert "NA" not in values or "missing answer" not in row["remarks"]
    assert "codes" not in remark or "skewed" not in row["remarks"]
    assert "c?" in str(study) or f"{kind}?" in str(study)


def survey(rows, items=0):
    """A made-up survey; its items have four answers each."""
    rng = np.random.default_rng(rows)
    frame = {"age": rng.integers(18, 80, rows), "km": rng.gamma(2, 5, rows).round(1), "voice": rng.choice(["alto", "bass", "tenor"], rows)}
    answers = {f"item_{k}": rng.integers(1, 5, rows) for k in range(items)}
    return pd.DataFrame(answers or frame)


def alike(rows, items):
    """A survey whose items share most of what they measure."""
    rng = np.random.default_rng(3)
    shared = rng.normal(size=rows)
    return pd.DataFrame({f"item_{k}": np.digitize(1.6 * shared + rng.normal(size=rows), [-1, 0, 1]) for k in range(items)})


def pupils(rows, seed=0):
    """Pupils of classes, which lie within schools, and these within districts."""
    rng = np.random.default_rng(seed)
    school = rng.integers(0, 12, rows)
    frame = pd.DataFrame({"school": np.char.add("s", school.astype(str)), "district": np.char.add("d", (school % 3).astype(str))})
    frame["class"] = frame["school"] + rng.choice(["-a", "-b", "-c"], rows)
    frame["mark"], frame["age"], frame["girl"] = rng.integers(1, 7, rows), rng.integers(10, 16, rows), rng.choice(["yes", "no"], rows)
    return frame[["mark", "age", "girl", "class", "school", "district"]]


@pytest.mark.parametrize(("frame", "again"), [
    *((pupils(400 + 200 * seed, seed), 0) for seed in range(6)), (pupils(400), 200),
    (survey(500), 0), (survey(500), 40), (survey(500), 500), (survey(500, items=3), 0), (survey(300, items=12), 4), (survey(300, items=20), 1),
    (survey(500).assign(metres=lambda f: f["km"] * 1000), 0), (alike(300, items=8), 0),
])  # fmt: skip
def test_rows_that_repeat_others_are_told_where_chance_hardly_makes_them(frame, again):
    whole = pd.concat([frame, frame.iloc[:again]], ignore_index=True)
    whole.loc[[3, len(frame) + 3][: 1 + (again > 3)], whole.columns[0]] = np.nan
    rows = [str(row) for row in whole.to_numpy().tolist()]
    firsts = [k for k, row in enumerate(rows) if row not in rows[:k]]
    repeats = len(rows) - len(firsts)
    study = mb.Study(whole)
    told = study.remarks().get("", [])
    assert len(told) == (again > 0)
    if not again:
        return
    assert told[0].text.startswith(f"{repeats} {'row is' if repeats == 1 else 'rows are'} the same in all {len(whole.columns)} columns as a row before")  # fmt: skip
    second = next(k for k in range(len(rows)) if k not in firsts)
    assert f"row {second + 1}, {'which is ' * (repeats > 1)}row {rows.index(rows[second]) + 1} again" in told[0].text
    with pytest.warns(mb.MarkbaseWarning, match="Each counts as a case of its own here"):
        mb.fit_linear(study, whole.columns[0], [whole.columns[1]])
    kept = study.prepare(told[0].mend, source="")
    assert kept.index.tolist() == firsts
    assert not kept.remarks().get("")
    often = pd.Series(rows).value_counts().value_counts().to_dict()
    assert kept.trail.steps[-1].check.table.set_index("times")["rows"].to_dict() == often


@pytest.mark.parametrize("texts", ["uvwxy", "", "uwy"])
def test_rows_that_repeat_others_are_those_that_are_the_same_in_every_column(texts):
    for seed in range(20):
        rng = np.random.default_rng(seed)
        frame = pd.DataFrame(rng.integers(0, 4, (300, 5)), columns=list("uvwxy"))
        frame = frame.assign(**{c: frame[c].map(dict(enumerate("abcd"))) for c in texts}).mask(rng.random((300, 5)) < 0.1)
        assert mb.Study(frame).leave_out_repeats().index.tolist() == frame.drop_duplicates().index.tolist()


COUNTED = pd.DataFrame([(a, b, c) for a in ("alto", "bass", "tenor") for b in ("no", "yes") for c in ("stay", "go")], columns=["voice", "new", "plan"])  # fmt: skip
TABLES = {
    "a table of counts": (COUNTED.assign(n=range(3, 15)), True),
    "groups told by numbers": (COUNTED.assign(n=range(3, 15), new=[0, 0, 1, 1] * 3), True),
    "a combination twice": (COUNTED.assign(n=range(3, 15)).iloc[[*range(12), 0]], False),
    "no whole numbers": (COUNTED.assign(n=np.arange(12) + 0.5), False),
    "two columns of numbers": (COUNTED.assign(n=range(3, 15), m=range(7, 19)), False),
    "a name a row": (COUNTED.assign(n=range(3, 15), who=[f"s{k}" for k in range(12)]), False),
    "below 0": (COUNTED.assign(n=range(-3, 9)), False),
}


@pytest.mark.parametrize("case", TABLES)
def test_a_table_of_counts_is_noticed_by_look_fits_and_drafts(case, tmp_path):
    frame, wanted = TABLES[case]
    frame.to_csv(tmp_path / "t.csv", index=False)
    looked = " ".join(run("look", "t.csv", cwd=tmp_path).stdout.split())
    assert ("a table of counts?" in looked, "thin level" in looked) == (wanted, not wanted)
    of = ["--kind", "logistic", "--outcome", "plan", "--event", "stay", "--terms", "voice"]
    assert ("if this is a table of counts" in run("fit", "t.csv", *of, cwd=tmp_path).stderr) == wanted
    sampled = run("fit", "t.csv", *of, "--weights", "n", cwd=tmp_path)
    assert (f"`n` is taken as sampling weights, so that {len(frame)} rows are as many cases" in sampled.stderr) == wanted
    weighed = run("fit", "t.csv", *of, "--weights", "n", "--weights-are", "frequency", cwd=tmp_path)
    counted = run("fit", "t.csv", "--outcome", "n", "--terms", "voice", cwd=tmp_path)
    assert "table of counts" not in weighed.stderr + counted.stderr
    run("start", "t.csv", "--outcome", "plan", "--into", "p.toml", cwd=tmp_path)
    assert ('\nweights = "n"   # GUESS' in (tmp_path / "p.toml").read_text(encoding="utf-8")) == wanted


def test_two_units_in_one_column_are_told_and_no_long_tail_is_taken_for_them():
    rng = np.random.default_rng(1)
    mixed = {
        "cm": (rng.normal(172, 9, 370).round(), rng.normal(1.72, 0.09, 30).round(2), "the ones about 100 times the others: two units"),
        "felt": (np.repeat([15, 30, 40, 50, 60, 70, 85, 100, 997, 998, 999], 35), np.zeros(15), ""),
        "share": (rng.uniform(0.1, 0.9, 360).round(2), rng.uniform(11, 89, 40).round(), "the ones about 100 times the others: two units"),
        "mm": (rng.uniform(14, 20, 200).round(1), rng.uniform(140, 199, 200).round(), "the ones about 10 times the others: two units"),
        "paid": (rng.uniform(1200, 4800, 300).round(), rng.uniform(1.2, 4.8, 100).round(1), "the ones about 1000 times the others: two units"),
        "age": (rng.integers(18, 80, 380), 2025.0 - rng.integers(18, 80, 20), "ages and years in one column?"),
        "few": (rng.normal(172, 9, 397).round(), np.array([1.6, 1.7, 1.8]), ""),
        "code": (rng.normal(45, 5, 380).round(), np.full(20, 4500.0), ""),
        "other": (rng.uniform(14, 20, 200), rng.uniform(400, 900, 200), ""),
    }  # fmt: skip
    for name, (most, others, told) in mixed.items():
        values = rng.permutation(np.r_[most, others])
        study = mb.Study(pd.DataFrame({name: values, "y": rng.normal(size=400)}))
        texts = [remark.text for remark in study.remarks().get(name, ())]
        assert sum("in one column?" in text for text in texts) == bool(told), (name, texts)
        assert not told or not any("skewed" in text for text in texts)
        bunches = [f"{v.min():g} to {v.max():g} ({len(v)} rows)" for v in sorted([most, others], key=np.median)]
        assert not told or any(f"values of {bunches[0]} and of {bunches[1]}" in x and told in x for x in texts), texts
        with warnings.catch_warnings(record=True) as caught:
            warnings.simplefilter("always")
            fits = mb.fit_linear(study, "y", [name]), mb.fit_linear(study, name, ["y"])
        assert sum("They count as they stand here" in str(w.message) for w in caught) == 2 * bool(told)
        for fit in fits:
            assert ("They count as they stand here" in " ".join(str(fit.reading()).split())) == bool(told)
    for draw in (lambda: rng.lognormal(5, 2, 60), lambda: rng.pareto(1, 300) + 0.01, lambda: rng.gamma(0.3, 10, 60), lambda: rng.poisson(3, 200) * 1.0):  # fmt: skip
        for _ in range(25):
            study = mb.Study(pd.DataFrame({"v": draw()}))
            assert not any("in one column?" in remark.text for remark in study.remarks().get("v", ()))


def test_among_very_many_dates_one_that_reads_like_a_missing_answer_is_found():
    days = pd.date_range("1980-01-01", periods=12_000).strftime("%Y-%m-%d").tolist()
    told = [r.text for r in mb.Study(pd.DataFrame({"day": [*days[:700], "n/a", *days[700:]]})).remarks()["day"]]
    assert [text.split(",")[0] for text in told] == ["`n/a` (1) reads like a missing answer and counts as a level", "dates"]


def test_values_on_both_sides_of_0_are_no_codes_and_codes_below_it_are_told_as_what_they_are():
    rng, below, apart = np.random.default_rng(4), "below 0, as no other value is", "far from all other values"
    draws = {"scale": rng.integers(-2, 3, 400), "diff": rng.normal(0, 2, 400).round(), "since": rng.integers(-8, 8, 400)}
    few = {"asked": [0.3, 0.03, 0.3, 0.27, 0.1], "rare": [0.02, 0.03, 0.45, 0.3, 0.2], "steep": [0.4, 0.15, 0.2, 0.15, 0.1]}
    coded = {name: rng.choice([-2, -1, 0, 1, 2], 400, p=p) for name, p in few.items()}
    coded |= {"hours": rng.choice([-8, -5, -2, -1, *range(40)], 400), "gain": rng.integers(-2, 5, 400), "step": rng.choice([-1, *range(9)], 400)}
    far = {"age": rng.choice([-99, -9, *range(18, 60)], 400), "score": rng.choice([1, 2, 3, 99], 400)}
    odds = [0.2, 0.3, 0.3, 0.1, 0.04, 0.03, 0.03], [0.4, 0.3, 0.2, 0.05, 0.03, 0.01, 0.01]
    far |= {"voted": rng.choice([0, 1, 9], 400, p=[0.3, 0.65, 0.05]), "interest": rng.choice([1, 2, 3, 4, 7, 8, 9], 400, p=odds[0])}
    draws |= {"children": rng.choice([0, 1, 2, 3, 4, 8, 9], 400, p=odds[1]), "once": [0, 1, 1, 0] * 99 + [1, 0, 1, 9]}
    levels = {"level": [1, 2, 3, 7, 8, 9], "seven": [*range(1, 8), 9], "parts": [0, 4, 8], "late": [2, 3, 9]}
    draws |= {name: rng.choice(own, 400) for name, own in levels.items()}
    study = mb.Study(pd.DataFrame(draws | coded | far))
    with pytest.warns(mb.MarkbaseWarning, match="sensitive at −1"):
        assert study.cut("diff", [-1, 1], name="d")["d"].level_at("-1 to below 1") == 1  # a minus as keyboards have it
    found = {name: [r.text for r in study.remarks().get(name, ()) if "missing answer" in r.text] for name in draws | coded | far}
    with pytest.raises(mb.ColumnError, match="needs two: blank `9`, if it is a code for a missing answer; or make a yes/no"):
        mb.fit_logistic(study, "voted", ["score"])
    with pytest.warns(mb.MarkbaseWarning, match="`interest` is 7 in [0-9]+ rows, 8 in [0-9]+ rows and 9 in"):
        mb.fit_linear(study, "interest", ["diff"])
    assert {name: [below in own[0], apart in own[0]] for name, own in found.items() if own} == {
        **{name: [True, False] for name in coded}, **{name: [False, True] for name in far},
    }  # fmt: skip
