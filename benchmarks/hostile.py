"""Damaged and hostile inputs, many of them: ``python benchmarks/hostile.py --inputs 500 --seed 3``.

Data files of every kind, a codebook, a plan and a saved fit are damaged at random (bytes turned, cut and doubled, cells
and values replaced by hostile ones), and the commands that read them are run. What is printed: how each kind ended, and
every input that ended otherwise than with an answer or with one sentence, took over the limit, or left something behind.
"""

import io
import json
import sys
import tempfile
import time
import zipfile
from collections import Counter
from pathlib import Path
from typing import Any

import click
import numpy as np
import tomlkit
from rich.console import Console
from rich.table import Table

import markbase as mb
from markbase.files.fit_files import _digest as digest_of  # a forged file has a digest that fits

sys.path.insert(0, str(Path(__file__).resolve().parent.parent / "tests"))
from command import run

HOSTILE = [
    *("", " ", "nan", "-inf", "1e308", "-1e-310", "9" * 400, "1,5", "0x1f", "=1+1", "\x00", "\u202e", "\ud800", "a\tb"),
    *('"', "'", "[[", "]]", "{", "}", "\\", "\r", "\n", "#", "`", "<b>", "true", "1979-05-27", "-9", "0", "x" * 5000),
]
ROWS = 120
JOINED = ("choir_homes.csv", "choir_homes.codebook.toml")
MAKING = """[data]
file = "choirs.csv"
[[prepare]]
do = "rename"
columns = {belonging = "home", travel_km = "way to go"}
[[prepare]]
do = "calculate"
name = "effort"
expression = "log(1 + 'way to go' * rehearsals / 10) - max(age - 50, 0)^2 / (concerts + 1)"
[[prepare]]
do = "classify"
name = "stage"
levels = {old = {years_in_choir = {at_least = 10}}, late = [{age = {above = 50}}, {voice = "alto"}]}
otherwise = "rest"
[[prepare]]
do = "cut"
column = "effort"
quantiles = 3
name = "thirds"
[[prepare]]
do = "derive"
name = "mean_age"
level_mean = "age"
within = "choir"
[[describe]]
by = "stage"
columns = ["effort", "thirds", "home"]
[output]
labels = true
"""
"""A plan that makes columns, and describes them."""
JOINING = """
[data]
file = "choirs.csv"
codebook = "choirs.codebook.toml"

[[prepare]]
do = "join"
file = "choir_homes.csv"
codebook = "choir_homes.codebook.toml"
prepare = [{do = "mark", column = "meets_in", base = "school"}]
by = {choir = "choir"}
columns = {hall = "meets_in", fee = "fee"}
loosely = true

[[prepare]]
do = "aggregate"
by = ["choir"]
columns = {n = "rows", age = {mean = "age"}, altos = {share = "voice", of = ["alto"]}, fees = {sd = "fee"}}
reason = "a row a choir"
"""


def originals(folder: Path) -> dict[str, tuple[bytes, list[list[str]]]]:
    """Return good files by name, each with the commands that read it."""
    study = mb.demo.choirs()
    frame = study.frame().head(ROWS)
    made = study.merge_levels("voice", {"tenor": ["tennor"]}).calculate("past_50", "max(age - 50, 0)")
    fit = mb.fit_linear(made, "belonging", ["age", "past_50", "voice"])
    mb.write_fit(fit, folder / "fit.json")
    for name in mb.demo.FILES[:3]:
        (folder / name).write_bytes(mb.demo.path(name).read_bytes())
    tables: dict[str, bytes] = {"t.csv": frame.to_csv(index=False).encode()}
    tables["t.tsv"] = frame.to_csv(index=False, sep="\t").encode()
    for kind, write in (("xlsx", frame.to_excel), ("ods", frame.to_excel), ("parquet", frame.to_parquet)):
        buffer = io.BytesIO()
        write(buffer, index=False, **({"engine": "odf"} if kind == "ods" else {}))
        tables[f"t.{kind}"] = buffer.getvalue()
    of = ["--outcome", "belonging", "--terms", "age,voice"]
    found = {name: (raw, [["look", name], ["fit", name, *of]]) for name, raw in tables.items()}
    codebook, plan = (folder / mb.demo.FILES[1]).read_bytes(), (folder / mb.demo.FILES[2]).read_bytes()
    found["c.toml"] = (codebook, [["look", mb.demo.FILES[0], "--codebook", "c.toml"]])
    for name in ("c.xml", "c.json", "c-metadata.json", "c.csv"):
        mb.write_codebook(study, folder / name)
        found[name] = ((folder / name).read_bytes(), [["look", mb.demo.FILES[0], "--codebook", name]])
    found["p.plan.toml"] = (plan, [["fit", "p.plan.toml", *of], ["screen", "p.plan.toml", *of]])
    for name in JOINED:
        (folder / name).write_bytes(mb.demo.path(name).read_bytes())
    found["h.csv"] = (mb.demo.path(JOINED[0]).read_bytes(), [["prepare", mb.demo.FILES[0], "--join", "h.csv: choir"]])
    found["j.plan.toml"] = (JOINING.encode(), [["prepare", "j.plan.toml"]])
    found["m.plan.toml"] = (MAKING.encode(), [["prepare", "m.plan.toml"], ["describe", "m.plan.toml", "--by", "stage"]])
    (folder / "two_a.csv").write_bytes(tables["t.csv"])
    found["two_b.csv"] = (tables["t.csv"], [["look", "two_*.csv", "--file-column", "part"]])
    saved = (folder / "fit.json").read_bytes()
    asked = [["predict", "f.json", "--profile", "voice=tenor, age=30"], ["groups", "f.json"], ["fit", "f.json"]]
    found["f.json"] = (saved, asked)
    return found


def damaged(raw: bytes, is_text: bool, rng: np.random.Generator) -> bytes:
    """Return a file with one or two damages."""
    for _ in range(int(rng.integers(1, 3))):
        place = int(rng.integers(0, len(raw) + 1))
        how = int(rng.integers(0, 6 if is_text else 4))
        if how == 0:
            raw = raw[:place] + bytes(rng.integers(0, 256, int(rng.integers(1, 9)), dtype=np.uint8)) + raw[place + 4 :]
        elif how == 1:
            raw = raw[:place]
        elif how == 2:
            raw = raw[:place] + raw[max(0, place - int(rng.integers(1, 400))) :]
        elif how == 3:
            raw = raw[:place] + raw[place + int(rng.integers(1, 400)) :]
        else:
            wanted = str(HOSTILE[int(rng.integers(len(HOSTILE)))]).encode("utf-8", "surrogatepass")
            ends = [k for k in (raw.find(c, place) for c in (b",", b"\t", b"\n", b'"', b"]")) if k >= 0]
            raw = raw[:place] + wanted + raw[min(ends, default=len(raw)) :]
    return raw


def inside(raw: bytes, rng: np.random.Generator) -> bytes:
    """Return a spreadsheet with a damage in one of the parts it is packed of."""
    buffer = io.BytesIO()
    with zipfile.ZipFile(io.BytesIO(raw)) as packed, zipfile.ZipFile(buffer, "w") as anew:
        parts = packed.infolist()
        chosen = parts[int(rng.integers(len(parts)))]
        for part in parts:
            content = packed.read(part)
            anew.writestr(part, damaged(content, True, rng) if part is chosen else content)
    return buffer.getvalue()


def otherwise(raw: bytes, name: str, rng: np.random.Generator) -> bytes:
    """Return a plan, a codebook or a saved fit that is well written, with one value that nobody would mean."""
    tree = json.loads(raw) if name.endswith("json") else tomlkit.parse(raw.decode()).unwrap()
    wrong = [*HOSTILE[:9], 0, -1, 1e300, True, [], [[1]], {}, {"x": "y"}, ["a", 1], 10**18]
    found: list[tuple[Any, Any]] = []

    def walk(value: Any) -> None:
        for key in list(value) if isinstance(value, dict) else range(len(value)) if isinstance(value, list) else ():
            found.append((value, key))
            walk(value[key])

    walk(tree)
    place, key = found[int(rng.integers(len(found)))]
    place[key] = wrong[int(rng.integers(len(wrong)))]
    if not name.endswith("json"):
        return tomlkit.dumps(tree).encode("utf-8", "surrogatepass")
    if "digest" in tree:
        tree["digest"] = digest_of(tree)
    return json.dumps(tree).encode()


@click.command()
@click.option("--inputs", default=300, show_default=True, help="How many damaged files.")
@click.option("--seed", default=1, show_default=True)
@click.option("--limit", default=10.0, show_default=True, help="Seconds that a command may take.")
def main(inputs: int, seed: int, limit: float) -> None:
    """Damage files, run commands on them, and print what did not end as it should."""
    rng = np.random.default_rng(seed)
    counts: dict[str, Counter[str]] = {}
    wrong: list[str] = []
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        files = originals(folder)
        names = list(files)
        for good, (raw, commands) in files.items():
            (folder / good).write_bytes(raw)
            for command in commands:
                if (done := run(*command, cwd=folder)).returncode:
                    raise SystemExit(f"{' '.join(command)} fails on a good file: {done.stderr}")
        for number in range(inputs):
            chosen = names[number % len(names)]
            raw, commands = files[chosen]
            if chosen.endswith(("xlsx", "ods")) and rng.random() < 0.7:
                content = inside(raw, rng)
            elif chosen.endswith(("toml", "json")) and rng.random() < 0.7:
                content = otherwise(raw, chosen, rng)
            else:
                content = damaged(raw, not chosen.endswith(("xlsx", "ods", "parquet")), rng)
            (folder / chosen).write_bytes(content)
            before = sorted(p.name for p in folder.iterdir())
            for command in commands:
                started = time.monotonic()
                done = run(*command, cwd=folder)
                took = time.monotonic() - started
                last = done.stderr.strip().splitlines()[-1:] or [""]
                counts.setdefault(chosen, Counter())[f"exit {done.returncode}"] += 1
                refused = done.returncode == 2 and last[0].startswith("markbase: ")
                left = sorted(p.name for p in folder.iterdir()) != before
                if (done.returncode and not refused) or took > limit or left or "Traceback" in done.stderr:
                    kept = Path(tempfile.gettempdir()) / f"hostile-{seed}-{number}-{chosen}"
                    kept.write_bytes(content)
                    wrong.append(f"{kept}: {' '.join(command)}: exit {done.returncode}, {took:.1f} s: {last[0][:200]}")
    exits = sorted({key for found in counts.values() for key in found})
    table = Table("file", *exits, title=f"{inputs} damaged files, seed {seed}")
    for name, found in counts.items():
        table.add_row(name, *(str(found[key]) for key in exits))
    console = Console(width=110)
    console.print(table)
    for line in wrong:
        console.print(line, markup=False)
    sys.exit(bool(wrong))


if __name__ == "__main__":
    main()
