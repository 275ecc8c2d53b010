"""Numbers and dates as people write them: read exactly, in one way only, and said."""

import calendar
import datetime
import json
import warnings

import numpy as np
import pandas as pd
import pytest
from hypothesis import given
from hypothesis import strategies as st

import markbase as mb

SIGNS = {"": None, "$": "dollars", "€": "euros", "%": "percent", "₺": "₺"}
UNITS = {"cm": "cm", "KM": "km", "h": "hours", "Min.": "minutes", "°C": "°C"}


def column(texts, **spec):
    return mb.Study(pd.DataFrame({"c": texts}), codebook={"columns": {"c": spec}})["c"]


def written(cents, decimal, apart, sign, before):
    """Write hundredths as people do."""
    whole, rest = divmod(abs(cents), 100)
    text = f"{whole:,}".replace(",", apart) + f"{decimal}{rest:02d}"
    text = f"{sign}{text}" if before else f"{text} {sign}".rstrip()
    return f"-{text}" if cents < 0 else text


@given(
    cents=st.lists(st.integers(-(10**9), 10**9), min_size=1, max_size=30),
    marks=st.sampled_from([(".", ","), (",", "."), (".", ""), (",", ""), (".", "'"), (",", "\u00a0"), (",", " "), (".", "’")]),
    sign=st.sampled_from([*SIGNS, *UNITS]),
    before=st.booleans(),
    minus=st.sampled_from("-\u2212"),
)
def test_numbers_are_what_was_written_however_it_was_written(cents, marks, sign, before, minus):
    texts = [written(c, *marks, sign, before and sign in "$€₺").replace("-", minus) for c in cents]
    found = column(texts)
    assert found.kind == "numeric"
    assert found.values.tolist() == [c / 100 for c in cents]  # both correctly rounded
    assert found.unit_many == ((SIGNS | UNITS)[sign] or "units")
    notes = "; ".join(found.notes)
    assert ("signs read away" in notes) == bool(sign in SIGNS and sign)
    assert ("written behind the numbers read away" in notes) == (sign in UNITS)
    apart = bool(marks[1]) and any(abs(c) >= 100_000 for c in cents)
    assert ("thousands separators read away" in notes) == apart
    assert ("decimal commas" in notes) == (marks[0] == ",")
    assert ("minus signs" in notes) == (minus == "\u2212" and min(cents) < 0)


def test_whole_amounts_can_be_read_in_one_way_only():
    assert column(["$12", "$750", "-$3", "$-4", "- 5 $"] * 5).values.tolist() == [12, 750, -3, -4, -5] * 5
    found = column(["(120.5)", "340.0", "($15.0)", "80"] * 5)
    assert found.kind == "categorical"  # a sign in some alone
    found = column(["($1,120.50)", "$340.00", "($15.00)", "$80.25"] * 5)
    assert (found.values.tolist(), found.unit_many) == ([-1120.5, 340, -15, 80.25] * 5, "dollars")
    assert "numbers in brackets read as below 0" in found.notes
    found = column(["1 hour", "2.5 hrs", "-3h", "4 hours"] * 5)
    assert (found.values.tolist(), found.unit_one) == ([1, 2.5, -3, 4] * 5, "hour")


@pytest.mark.parametrize(
    ("texts", "wanted"),
    [
        (["1.580", "7.582", "953"], [1580, 7582, 953]),  # decimals left away would be 1.58, decimals kept 953.000
        (["1,580", "7,582", "953"], [1580, 7582, 953]),
        (["-1.580", "1.007.582", "-953"], [-1580, 1007582, -953]),
        (["1.58", "7.582", "953"], [1.58, 7.582, 953]),
        (["1.583", "7.582", "953"], [1.583, 7.582, 953]),
        (["1.580", "7.582", "95"], [1.58, 7.582, 95]),
        (["1.580", "7.582", "9.530"], [1.58, 7.582, 9.53]),
        (["0.580", "7.582", "953"], [0.58, 7.582, 953]),
        (["1.580", "7.5820", "953"], [1.58, 7.582, 953]),
        (["1.580", "7582", "953"], [1.58, 7582, 953]),
    ],
)
@pytest.mark.parametrize("in_parts", [False, True])
@pytest.mark.parametrize("declared", [{}, {"kind": "numeric"}])
def test_points_are_those_of_thousands_only_where_they_cannot_be_those_of_decimals(tmp_path, texts, wanted, in_parts, declared):
    (tmp_path / "t.tsv").write_text("c\td\n" + "".join(f"{text}\t1\n" for text in texts))
    found = mb.open_study(tmp_path / "t.tsv", codebook={"columns": {"c": declared}}, in_parts=in_parts)["c"]
    values = found.values.at(np.arange(3)) if in_parts else found.values
    assert (found.kind, found.fault, values.tolist()) == ("numeric", "", wanted)
    assert ("thousands" in "".join(found.notes)) == (wanted[0] == round(wanted[0]))


UNREAD = {  # texts, and what is said of them
    "two ways": (["1,500", "2,500", "75"] * 20, "nothing says whether `1,500` holds thousands or decimals"),
    "two ways, with a sign": (["$1.500", "$2.500"] * 20, "nothing says whether `$1.500` holds thousands or decimals"),
    "two decimal marks": (["1.5", "2,5", "3.5"] * 20, "mostly numbers, but text in 20 rows (`2,5`"),
    "two signs": (["$1.50", "€2.50"] * 20, ""),
    "some without a sign": (["$1.50", "2.50", "3.50"] * 20, ""),
    "amounts and a word": (["1,234.5", "2,345.5", "none"] * 20, "mostly numbers, but text in 20 rows (`none`"),
    "groups of two": (["1,23,456.5", "2,34,567.5"] * 20, ""),
    "a zero before": (["030 123 456", "040 123 456"] * 20, ""),
    "ranges": (["10-20", "20-30"] * 20, ""),
    "sign twice": (["$1$", "$2$"] * 20, ""),
    "percent before": (["%5", "%6"] * 20, ""),
    "all in brackets": (["(1)", "(2)", "(3)"] * 20, ""),
    "two units": (["158 cm", "1.6 m"] * 20, ""),
    "bounds": (["<5", "8", "≥ 100", "12"] * 15, "but a bound in 30 rows (`<5` and `≥ 100`; first in row 1), which is no missing"),
    "some without a unit": (["158 cm", "160", "170"] * 20, "mostly numbers, but text in 20 rows (`158 cm`"),
    "no unit of ours": (["1 child", "2 children"] * 20, ""),
    "millions": (["5M", "7M"] * 20, ""),
    "two ways, with a unit": (["1,500 km", "2,500 km"] * 20, "nothing says whether `1,500 km` holds thousands or decimals"),
}


@pytest.mark.parametrize("case", UNREAD)
def test_what_can_be_read_in_two_ways_or_in_none_stays_a_group(case):
    texts, said = UNREAD[case]
    study = mb.Study(pd.DataFrame({"c": texts}))
    assert study["c"].kind == "categorical"
    remarks = study.overview()["remarks"].iloc[0]
    assert (said in remarks) if said else "numbers" not in remarks
    if case == "bounds":
        assert study.prepare(study.remarks()["c"][0].mend)["c"].values[:4].tolist() == [5, 8, 100, 12]


def test_the_analyst_says_which_mark_stands_before_decimals():
    study = mb.Study(pd.DataFrame({"c": ["1,500", "2,250", "75"], "d": ["1.234,5", "n/a", "7"]}))
    assert "nothing in it says whether `1,500` holds thousands" in column(["1,500", "75"], kind="numeric").fault
    with pytest.raises(mb.ColumnError, match="nothing says whether `1,500` holds thousands or decimals"):
        study.as_numeric("c")
    assert study.as_numeric("c", decimal=".")["c"].values.tolist() == [1500, 2250, 75]
    assert study.as_numeric("c", decimal=",")["c"].values.tolist() == [1.5, 2.25, 75]
    (remark,) = study.remarks()["d"]  # and its steps do what they say
    assert study.prepare(remark.mend)["d"].values.tolist()[::2] == [1234.5, 7]
    (remark,) = study.remarks()["c"]
    assert study.prepare(remark.mend)["c"].values.tolist() == [1500, 2250, 75]
    for wrong, said in (
        ({"decimal": ";"}, "is `.` or `,`"),
        ({"decimal": ".", "scores": {"75": 1}}, "not both"),
        ({"decimal": ","}, "was read as numbers already"),
    ):
        with pytest.raises(mb.ColumnError, match=said):
            (study.as_numeric("c", decimal=".") if said.startswith("was") else study).as_numeric("c", **wrong)


FORMS = {"ISO": "%Y-%m-%d", "points": "%d.%m.%Y", "day": "%d/%m/%Y", "month": "%m/%d/%Y", "slashes": "%Y/%m/%d"}
FORMS["time"] = "%Y-%m-%dT%H:%M:%S"
days = st.dates(datetime.date(1000, 1, 1), datetime.date(9998, 12, 31))


@given(born=st.lists(days, min_size=1, max_size=11), form=st.sampled_from(list(FORMS)), seen=days)
def test_numbers_of_dates_are_those_of_the_calendar(born, form, seen):
    told = [*born, datetime.date(2001, 12, 31)]  # whose day is no month
    study = mb.Study(pd.DataFrame({"born": [d.strftime(FORMS[form]) if d.year else "" for d in told], "seen": str(seen)}))
    with warnings.catch_warnings():
        warnings.simplefilter("ignore")  # of those below 0
        made = (
            study.from_date("born", "year", name="year")
            .from_date("born", "month", name="month")
            .from_date("born", "weekday", name="weekday")
            .from_date("born", "days", until=seen, name="lived")
            .from_date("born", "years", since="seen", name="later")
            .from_date("born", "years", until=seen, name="age")
            .from_date("born", "months", since="seen", name="months")
        )
    assert made["months"].values.tolist() == [12 * (d.year - seen.year) + d.month - seen.month for d in told]
    assert made["year"].values.tolist() == [d.year for d in told]
    assert made["month"].values.tolist() == [d.month for d in told]
    weekdays = [calendar.day_name[d.weekday()] for d in told]
    assert made.frame()["weekday"].tolist() == weekdays
    assert made["weekday"].labels == [day for day in calendar.day_name if day in weekdays]
    assert made.check("weekday").table["rows"].sum() == len(told)
    assert made["lived"].values.tolist() == [(seen - d).days for d in told]
    assert made["later"].values.tolist() == [(d - seen).days / 365.2425 for d in told]
    assert made["age"].values.tolist() == [(seen - d).days / 365.2425 for d in told]
    assert all(step.check.passed for step in made.trail.steps[-7:])
    texts = [step.text for step in made.trail.steps[-4:-1]]
    assert f"the days from `born` to {seen}" in texts[0]
    assert "the years from `seen` to `born`" in texts[1]
    assert made.check("year").table["rows"].sum() == len(told)
    with warnings.catch_warnings():
        warnings.simplefilter("ignore")
        again = study.prepare(json.loads(json.dumps(made.trail.record())))
    pd.testing.assert_frame_equal(again.frame(), made.frame())


@pytest.mark.parametrize(
    ("texts", "months", "given"),
    [
        (["1.2.2020", "3.4.2021"], [2, 4], None),  # points stand behind days
        (["1.2.2020", "3.4.2021"], [1, 3], False),
        (["1.13.2020", "3.4.2021"], [1, 3], None),
        (["1/13/2020", "3/4/2021"], [1, 3], None),  # the thirteenth is a day
        (["13/1/2020", "3/4/2021"], [1, 4], None),
        (["1/2/2020", "3/4/2021"], [2, 4], True),
        (["1/2/2020", "3/4/2021"], [1, 3], False),
        (["2020-11", "2021-02"], [11, 2], None),
        (["2/2020", "11/2021"], [2, 11], None),
        (["2020 Q3", "2021-q1"], [7, 1], None),
        (["Q4/2020", "Q2 2021"], [10, 4], None),
    ],
)
@pytest.mark.filterwarnings("ignore::markbase.MarkbaseWarning")
def test_the_order_of_day_and_month_is_told_by_the_dates_or_given(texts, months, given):
    study = mb.Study(pd.DataFrame({"c": texts, "d": "2021-01-01"})).from_date("c", "month", day_first=given, name="n")
    assert study["n"].values.tolist() == months
    words = {None: "", True: "day first as given", False: "month first as given"}[given]
    study = study.from_date("d", "days", until="c", day_first=given, name="m")
    for text in (step.text for step in study.trail.steps[-2:]):
        assert (words in text) if words else "as given" not in text


@given(
    times=st.lists(st.tuples(st.integers(0, 120), st.integers(0, 59), st.integers(0, 59)), min_size=1, max_size=20),
    form=st.sampled_from(["h:m:s", "h:m", "m:s", "am", "2024-02-29 ", "4 March 2018 ", "30.06.2020T", "zoned"]),
    take=st.sampled_from(["hours", "minutes", "seconds"]),
)
def test_numbers_of_times_are_those_of_the_clock(times, form, take):
    texts, seconds = [], []
    for h, m, s in times:
        of_day = datetime.time(h % 24, m, s)
        text, size = {
            "zoned": (f"2024-02-29T{of_day}.000+01:00", 3600 * (h % 24) + 60 * m + s),
            "h:m:s": (f"{h}:{m:02d}:{s:02d}", 3600 * h + 60 * m + s),
            "h:m": (f"{h}:{m:02d}", 3600 * h + 60 * m),
            "m:s": (f"{h}:{s:02d}", 60 * h + s),
            "am": (of_day.strftime("%I:%M %p"), 3600 * (h % 24) + 60 * m),
        }.get(form, (f"{form}{of_day}", 3600 * (h % 24) + 60 * m + s))
        texts.append(text)
        seconds.append(size)
    study = mb.Study(pd.DataFrame({"c": [*texts, None]}))
    with warnings.catch_warnings(record=True) as told:
        warnings.simplefilter("always")
        made = study.from_clock("c", take, first="minutes" if form == "m:s" else None, name="n")
    per = {"hours": 3600, "minutes": 60, "seconds": 1}[take]
    np.testing.assert_array_equal(made["n"].values, np.append(np.array(seconds) / per, np.nan))
    assert made["n"].unit_many == take
    near = max(seconds) < 86400 and max(seconds) >= 75600 and min(seconds) < 10800
    assert any("midnight" in str(w.message) for w in told) == near
    assert made.check("n").passed


@pytest.mark.filterwarnings("ignore::markbase.MarkbaseWarning")
@pytest.mark.parametrize(
    ("texts", "near"), [(["21:00", "2:59"], True), (["20:59", "2:59"], False), (["21:00", "3:00"], False), (["24:00", "2:59"], False)]
)
def test_times_on_both_sides_of_midnight_are_remarked_on(texts, near):
    check = mb.Study(pd.DataFrame({"c": texts})).from_clock("c", "hours", name="n").check("n")
    assert any("midnight" in note for note in check.notes) == near


@pytest.mark.parametrize(
    ("texts", "settings", "said"),
    [
        (["1:30", "0:01:30"], {"take": "hours"}, "holds `1:30` and `0:01:30`, and nothing says whether the first"),
        (["1:30", "1:75"], {"take": "hours"}, r"holds `1:75` \(1 row\), which is no time"),
        ([1.5, 2.5], {"take": "hours"}, "is numeric, and holds no times"),
        (["1:30", "2:30"], {"take": "days"}, "`days` is nothing to count a time in"),
        (["1:30", "2:30"], {"take": "hours", "first": "days"}, "counts `hours` or `minutes`, not 'days'"),
    ],
)
def test_what_gives_no_number_of_a_time_is_refused_in_a_sentence(texts, settings, said):
    with pytest.raises(mb.MarkbaseError, match=said):
        mb.Study(pd.DataFrame({"c": texts})).from_clock("c", **settings, name="n")


@pytest.mark.parametrize("count", [12, 13])
def test_of_many_dates_the_first_and_the_last_are_shown(count):
    study = mb.Study(pd.DataFrame({"c": [f"{1990 + k}-05-01" for k in range(count)][::-1]})).from_date("c", "year", name="n")
    check = study.check("n")
    assert check.table["old"].tolist() == [f"{1990 + k}-05-01" for k in range(count) if k < 6 or k >= count - 6]
    assert check.notes == (("1 date between them not shown",) if count == 13 else ())


NO_NUMBER = [
    ({"take": "year", "name": "n"}, ["1/2/2020", "3/4/2021"], "whether `1/2/2020` has the day or the month first"),
    ({"take": "year", "name": "n"}, ["2020-02-30", "2020-02-28"], r"`2020-02-30` \(1 row\) of `c` is no date"),
    ({"take": "year", "name": "n"}, ["13/13/2020", "1/1/2020"], "`13/13/2020` .* is no date"),
    ({"take": "year", "name": "n"}, ["2020-01-01", "soon"], r"`soon` \(1 row\) of `c` is no date"),
    ({"take": "year", "name": "n"}, [2020.5, 2021.5], "`c` is numeric, and holds no dates"),
    ({"take": "year", "name": "n"}, ["31.12.99", "1.1.2001"], "`31.12.99` of `c` has a year of two digits"),
    ({"take": "year", "day_first": True, "name": "n"}, ["1/13/2020", "1/1/2001"], "of `c` have the month first: a number above 12"),
    ({"take": "year", "day_first": False, "name": "n"}, ["13.1.2020", "1.1.2001"], "of `c` have the day first: a number above 12"),
    ({"take": "months", "since": "2020-13", "name": "n"}, ["2020-01-01", "2020-02"], "`2020-13` is neither a column nor a date"),
    ({"take": "week", "name": "n"}, ["2020-01-01", "2020-01-02"], "`week` is nothing to take of a date"),
    ({"take": "days", "name": "n"}, ["2020-01-01", "2020-01-02"], "give one of the two, not none"),
    ({"take": "year", "since": "2020-01-01", "name": "n"}, ["2020-01-01", "2020-01-02"], "is that of the calendar"),
    ({"take": "days", "since": "01.01.2020", "name": "n"}, ["2020-01-01", "2020-01-02"], "`01.01.2020` is neither a column nor a date"),
]


@pytest.mark.parametrize(("settings", "texts", "said"), NO_NUMBER)
def test_what_gives_no_number_of_a_date_is_refused_in_a_sentence(settings, texts, said):
    with pytest.raises(mb.MarkbaseError, match=said):
        mb.Study(pd.DataFrame({"c": texts})).from_date("c", **settings)


def test_dates_are_told_as_such_with_the_step_that_makes_a_number_of_them():
    rows = pd.date_range("1998-01-05", periods=40, freq="37D")
    frame = pd.DataFrame({"us": [f"{d.month}/{d.day}/{d.year}" for d in rows], "either": [f"{d.month}/{d.day % 12 + 1}/{d.year}" for d in rows]})  # fmt: skip
    frame["at"] = [f"{k % 12:02d}:{k:02d}" for k in range(40)]
    frame["short"] = [d.strftime("%d.%m.%y") for d in rows]
    frame["y"] = np.arange(40) % 7 + 0.5
    study = mb.Study(frame)
    told = study.remarks()
    assert f"40 dates: {frame['us'].iloc[0]} – {frame['us'].iloc[-1]}" in str(study)
    assert "dates:" not in str(mb.Study(frame[["either", "at"]]))
    assert study.prepare(told["us"][0].mend)["us_year"].values.tolist() == rows.year.tolist()
    assert "whether the day or the month stands first" in told["either"][0].text
    assert study.prepare(told["either"][0].mend)["either_year"].valid == 40
    assert "years of two digits do not say their century" in told["short"][0].text
    assert told["short"][0].mend == ()
    codes = [f"{k % 60 + 1:02d}.{k % 7 + 1:02d}.{k % 90 + 10}" for k in range(40)]  # of a classification
    assert "dates" not in mb.Study(pd.DataFrame({"c": codes})).overview()["remarks"].iloc[0]
    assert "times of a clock, 40 of them" in told["at"][0].text
    assert study.prepare(told["at"][0].mend)["at_hours"].valid == 40
    with (
        pytest.warns(mb.MarkbaseWarning, match=r"`at` holds times of a clock, which were taken for a group of 40 levels"),
        pytest.raises(mb.FitError),
    ):
        mb.fit_linear(study, "y", ["at"])
    with pytest.warns(mb.MarkbaseWarning, match=r"`us` holds dates, which were taken for a group of 40 levels"), pytest.raises(mb.FitError):
        mb.fit_linear(study, "y", ["us"])
    with pytest.warns(mb.MarkbaseWarning, match="39 rows below 0, after 1998-01-05"):
        study.from_date("us", "days", until="1998-01-05", name="n")  # the first of them, which is at 0


def test_in_parts_they_are_read_as_in_memory(tmp_path):
    lines = [
        f"{k % 28 + 1}.{k % 12 + 1}.19{k % 70 + 30};{'' if k == 5 else f'{k % 5 + 2019}-01-0{k % 9 + 1}'};{k % 8 + 1}.{k:03d},{k % 100:02d} €;{k % 7 + 1},{k:03d};{k % 24}:{k % 60:02d}"
        for k in range(1, 600)
    ]
    (tmp_path / "t.csv").write_text("born;joined;fee;share;at\n" + "\n".join(lines) + "\n", encoding="utf-8")
    found = []
    for in_parts in (False, True):
        study = mb.open_study(tmp_path / "t.csv", in_parts=in_parts)
        fee = study["fee"]
        assert (fee.kind, fee.unit_many, study["born"].kind) == ("numeric", "euros", "categorical")
        made = study.from_date("joined", "years", since="born", name="age").from_date("born", "month", name="month")
        made = made.as_numeric("share", decimal=",")
        with pytest.warns(mb.MarkbaseWarning, match="midnight"):
            made = made.from_clock("at", "minutes", name="minutes")
        assert made["age"].missing_counts() == [("blank", 1)]
        values = {n: np.concatenate([part[n].values for part in made.parts()]) for n in ("fee", "age", "month", "share", "minutes")}
        found.append((pd.DataFrame(values), fee.notes, [step.text for step in made.trail.steps[1:]]))
    pd.testing.assert_frame_equal(found[0][0], found[1][0])
    assert found[0][1:] == found[1][1:]
    assert found[0][0]["fee"].tolist() == [float(f"{k % 8 + 1}{k:03d}.{k % 100:02d}") for k in range(1, 600)]
    assert found[0][0]["share"].tolist() == [float(f"{k % 7 + 1}.{k:03d}") for k in range(1, 600)]


def test_a_fit_says_how_thousands_were_read():
    study = mb.Study(pd.DataFrame({"pay": ["1.580", "7.582", "953", "2.040"] * 5, "y": np.arange(20) % 7 + 0.5}))
    page = " ".join(str(mb.fit_linear(study, "y", ["pay"])).split())
    assert "pay numeric (thousands separators read away: 1.580 is 1580)" in page


@pytest.mark.filterwarnings("ignore::markbase.MarkbaseWarning")
def test_texts_of_another_table_are_read_as_those_of_a_study():
    rng = np.random.default_rng(3)
    study = mb.Study(pd.DataFrame({"pay": rng.uniform(500, 5000, 60), "share": rng.uniform(0, 50, 60), "y": rng.normal(size=60)}))
    fit = mb.fit_linear(study, "y", ["pay", "share"])
    wanted = fit.predict(pd.DataFrame({"pay": [1580.5, 953.0, np.nan], "share": [12.5, 7.0, 3.0]}))
    texts = pd.DataFrame({"pay": ["€1,580.50", "€953.00", "none"], "share": ["12,5%", "7%", "3%"]})
    told = fit.predict(texts)
    np.testing.assert_array_equal(told["predicted"], wanted["predicted"])
    assert told["caution"].tolist() == ["", "", "`pay` is missing or no number"]


def test_codes_of_groups_stay_as_they_are_written_and_texts_for_gaps_hinder_no_number():
    group = column(["1,5", "2,5", "10"] * 4, kind="categorical", levels={"1,5": "low", "2,5": "middle", "10": "high"})
    assert ([level.label for level in group.levels], group.counts.tolist()) == (["low", "middle", "high"], [4, 4, 4])
    assert group.notes == ()
    share = column(["1,5", "2", "n/a", "$"] * 3, missing=["n/a", "$"])
    assert share.values[:2].tolist() == [1.5, 2.0]
    assert (share.valid, share.notes) == (6, ("decimal commas read as decimal points",))


@pytest.mark.parametrize(
    ("cells", "wanted"),
    [
        ([1.5, "2,5", 3, "1,25"], [1.5, 2.5, 3, 1.25]),
        ([1234.5, "1.000,5", "2", None], [1234.5, 1000.5, 2, np.nan]),
        ([0.12, "12%", 0.5, "7%"], None),  # 12, or 0.12?
        ([170, "172 cm", 1.8, "168 cm"], None),
        ([1.5, "1,500", 2.5, "2,500"], None),  # thousands, or decimals?
    ],
)
def test_numbers_of_a_spreadsheet_stay_beside_numbers_in_texts(cells, wanted, tmp_path):
    pd.DataFrame({"c": pd.Series(cells * 10, dtype=object), "y": range(40)}).to_excel(tmp_path / "c.xlsx", index=False)
    column = mb.open_study(tmp_path / "c.xlsx")["c"]
    assert column.kind == ("categorical" if wanted is None else "numeric")
    if wanted is not None:
        np.testing.assert_array_equal(column.values, wanted * 10)
        assert "decimal commas read as decimal points" in column.notes
