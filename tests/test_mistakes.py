"""Every mistake on the command line: one line, exit 2, and nothing written."""

import pytest

from command import BOOK, CHOIRS, DATA, FIT, PLAN, STAYS, run

FILES = {
    "empty.csv": b"",
    "header.csv": b"y,x\n",
    "twice.csv": b"y,x,y\n1,2,3\n",
    "noname.csv": b"survey,,\ny,z,x\n1,2,3\n",
    "long.csv": b"y,x\n1,2\n1,2,3\n",
    "short.csv": b"y,x\n1,2\n1\n3,4\n",
    "quote.csv": b'y,x\n"1,2\n3,4\n',
    "bytes.csv": b"y,x\n1,J\xf6rg\n",
    "zeros.csv": b"y,x\n1,\x00\n",
    "text.csv": b"y,x,w\n1,2,1\n3,abc,4\n5,4,2\n7,9,9\n",
    "inf.csv": b"y,x\n1,2\n3,inf\n5,4\n7,9\n",
    "start.csv": b"y,(intercept)\n1,1\n3,2\n5,1\n7,3\n",
    "same.csv": b"y,x\n3,2\n3,1\n3,4\n3,9\n",
    "fixed.csv": b"y,x\n3,2\n4,2\n3,2\n5,2\n",
    "one.csv": b"y,x\n1,a\n3,a\n5,a\n7,a\n",
    "gaps.csv": b"y,x\n1,\n,4\n5,\n",
    "flags.csv": "\n".join(["y,x", *(f"{k}*,{k}" for k in range(20))]).encode(),
    "few.csv": b"y,x\n1,2\n2,3\n4,\n",
    "letter.doc": b"text",
    "bad.toml": b"[columns.x\n",
    "numeric column.toml": b'[columns.x]\nkind = "numeric"\n',
}
XY = ["--outcome", "y", "--terms", "x"]
MISTAKES = [
    (["look", "nofile.csv"], "There is no file `nofile.csv`"),
    (["look", "hedaer.csv"], "Did you mean `header.csv`"),
    (["look", "empty.csv"], "`empty.csv` is empty"),
    (["look", "header.csv"], "column names but no rows"),
    (["look", "twice.csv", "--in-parts"], "`y` occurs more than once"),
    (["look", "noname.csv"], "columns 2 and 3 have no name in the header"),
    (["look", "long.csv"], "line 3: 3 cells where the first line names 2 columns"),
    (["look", "short.csv"], "line 3: 1 cell where the first line names 2 columns"),
    (["look", "quote.csv"], "line 2: a quotation mark is opened and never closed"),
    (["look", "bytes.csv"], "byte 0xf6 in line 2"),
    (["look", "bytes.csv", "--encoding", "utf9"], "no encoding `utf9`"),
    (["look", "zeros.csv"], "holds zero bytes"),
    (["look", "letter.doc"], "ends in `.doc`"),
    (["look", "text.csv", "--codebook", "bad.toml"], "`bad.toml` is not TOML"),
    (["look", "text.csv", "--as", "x=number"], "cannot be `number`; it can be `categorical`, `identifier`, `num"),
    (["fit", "text.csv", *XY, "--codebook", "numeric column.toml"], "`abc`; first in row 2"),
    (["fit", "text.csv", "--outcome", "x", "--terms", "y"], "cannot be taken as a numeric column: mostly numbers"),
    (["fit", "inf.csv", *XY], "`x` is infinite in 1 of 4 rows (first in row 2)"),
    (["fit", "start.csv", "--outcome", "y", "--terms", "(intercept)"], "called `(intercept)`, as the number that every equation starts from"),
    (["fit", "same.csv", *XY], "outcome `y` is 3 in every row used"),
    (["fit", "fixed.csv", *XY], "`x` is 2 in every row used"),
    (["fit", "one.csv", *XY], "one level in the rows used (`a`)"),
    (["fit", "flags.csv", *XY], "`y` holds numbers with marks beside them (`*`)"),
    (["start", "flags.csv", "--outcome", "y"], """Add --prepare 'do = "as_numeric", column = "y", without = ["*"]'"""),
    (["fit", "gaps.csv", *XY], "no row of 3 has the outcome and every term"),
    (["fit", "few.csv", *XY], "cannot carry 2 coefficients (the intercept among them): at least 3 are needed"),
    (["fit", "few.csv", *XY], "Leave terms out or merge levels. `x` alone lacks a value in 1 row (blank)."),
    (
        ["fit", DATA, "--codebook", BOOK, "--outcome", "stays", "--terms", "age"],
        "`stays` is categorical of 2 levels, and a linear regression needs a numeric column; one of two levels is for a logistic regression, of the event `no` or `yes`.",
    ),
    ([*FIT[:-1], "age voice"], "`age voice` is no column: give `age` and `voice` as terms of their own"),
    ([*FIT[:-1], "C(voice)"], "`voice` is categorical as it is"),
    (["fit", DATA, "belonging", "age"], "only a plan has fits to name; say what to explain, and with what: --outcome"),
    (["fit", DATA, "--outcome", "choir", "--terms", "age"], "of 24 levels, and a linear regression needs a numeric column; answers in an order"),
    (["fit", DATA, "--codebook", BOOK, "--outcome", "belonging", "--terms", "singer_id"], "Only identifiers"),
    ([*FIT[:-1], "age,voise"], "no column `voise`. Did you mean `voice`"),
    ([*FIT[:-1], "rehearsals,concerts,events"], "`events` equals `rehearsals` + `concerts`"),
    ([*FIT, "--base", "voice=altos"], "no level `altos`. Did you mean `alto`"),
    ([*FIT, "--base", "age=40"], "`age` is numeric and has no levels"),
    ([*FIT, "--base", "voice"], "should read `--base COLUMN=VALUE`"),
    ([*FIT, "--level", "95"], "must lie between 0 and 1"),
    (["fit", DATA, "--outcome", "belonging"], "Say what to explain it with: --terms"),
    (["fit", DATA, "--terms", "age"], "Say what to explain, and with what: --outcome"),
    (["fit", *CHOIRS, "--kind", "logistic", "--outcome", "stays", "--terms", "age"], "is the event whose odds"),
    (["fit", *CHOIRS, *STAYS, "--event", "maybe"], "no level `maybe`"),
    (["fit", *CHOIRS, *STAYS, "--kind", "logit"], "'logit' is not one of 'linear', 'logistic'"),
    (["fit", *CHOIRS, *STAYS, "--fixed-effects", "choir"], "`--fixed-effects` is for a linear regression"),
    ([*FIT, "--event", "yes"], "`--event` is for a logistic regression; add `--kind logistic`"),
    (["groups", *FIT[1:], "--correction", "sidak"], "'sidak' is not one of 'benjamini-hochberg', 'bonferroni'"),
    (["check", *FIT[1:], "--cut", "0.4"], "--cut is for a logistic regression, and this one is linear"),
    (["groups", DATA, "stays", *FIT[2:]], "The model has no group `stays`"),
    (["groups", *FIT[1:], "--contrast", "alto"], "--contrast is for one group; name it behind the file"),
    (["groups", DATA, "voice", *FIT[2:], "--contrast", "a: alto=1, bass"], "should read 'NAME: LEVEL=WEIGHT"),
    (["groups", DATA, "voice", *FIT[2:], "--at", "age"], "should read `--at COLUMN=VALUE`"),
    (["slopes", *FIT[1:]], "The model lets no slope differ"),
    (["slopes", DATA, "age", "voice", *FIT[2:]], "to tell one by it, write it behind a colon: 'age:voice'"),
    (["blocks", *FIT[1:], "--block", "a: age"], "in blocks or with `--terms`, not both"),
    (["blocks", *FIT[1:]], "Say which terms enter with which block"),
    (["compare", *FIT[1:]], "Say which models to compare"),
    (["compare", PLAN, "Who stays"], "A comparison needs two models or more, and there is `Who stays`"),
    (["validate", *FIT[1:], "--hold-out", "0.2", "--folds", "3"], "leave --folds and --repeats out"),
    (["validate", *FIT[1:], "--folds", "0"], "in 2 parts or more"),
    (["validate", *FIT[1:], "--repeats", "0"], "once or more, at most 10,000 times, not 0"),
    (["validate", *FIT[1:], "--repeats", "99999999999"], "once or more, at most 10,000 times, not 99999999999"),
    (["fit", PLAN, "Voice parts compare"], "Did you mean `Voice parts compared`?"),
    (["fit", PLAN, "Who stays", "voice"], "There is nothing to do with `voice`"),
    (["indicators", DATA, "age"], "`age` is numeric"),
    ([*FIT, "--label", "voice: 1=, 2=bass"], "should read `--label 'COLUMN: CODE=LABEL, CODE=LABEL'`"),
    ([*FIT, "--label", "voice"], "should read `--label 'COLUMN: CODE=LABEL, CODE=LABEL'`"),
    (["prepare", DATA, "--codes"], "--codes says how --into puts groups down"),
    (["fit", *CHOIRS, *STAYS, "--outcome", "choir"], "The outcome `choir` has 24 levels"),
    (["fit", *CHOIRS, *STAYS, "--outcome", "age"], "The outcome `age` has more than 6 values"),
    (["fit", *CHOIRS, *STAYS[:-1], "stays"], "`stays` is the outcome and cannot be a term"),
    (["predict", *CHOIRS, *STAYS], "Say for whom, in one way: --profile"),
    (["predict", *CHOIRS, *STAYS, "--profile", "voice=baritone"], "no level `baritone`"),
    (["predict", *CHOIRS, *STAYS, "--profile", "voice"], "should read `--profile COLUMN=VALUE`"),
    (["predict", *CHOIRS, *STAYS, "--profile", "height=3"], "The model has no column `height`"),
    (["predict", *CHOIRS, *STAYS, "--profiles", "nobody.csv"], "There is no file `nobody.csv`"),
    (["fits"], "There is no command `fits`. Did you mean `fit`"),
    (["Cross-Validation", "f.csv"], "There is no command `Cross-Validation`. That is done by `validate`."),
]  # fmt: skip


@pytest.fixture(scope="module")
def folder(tmp_path_factory):
    path = tmp_path_factory.mktemp("files")
    for name, content in FILES.items():
        (path / name).write_bytes(content)
    return path


@pytest.mark.parametrize(("arguments", "told"), MISTAKES, ids=[told for _, told in MISTAKES])
def test_a_mistake_is_one_line_on_stderr_and_exit_2(folder, arguments, told):
    done = run(*arguments, cwd=folder)
    assert done.returncode == 2
    assert done.stdout == ""
    complaints = [line for line in done.stderr.splitlines() if not line.startswith("remark: ")]
    assert len(complaints) == 1
    assert complaints[0].startswith("markbase: ")
    assert told in complaints[0]
    assert sorted(p.name for p in folder.iterdir()) == sorted(FILES)
