"""What was typed, taken apart: names by commas, names with a value. A name that holds such a mark stands between double quotes."""

from __future__ import annotations

import functools
import re
from collections.abc import Sequence

import click

from markbase.core.design.requested_terms import split_outside, unquoted
from markbase.core.errors import MarkbaseError

_EXAMPLES = {
    "--polynomial": "age=2",
    "--at": "age=30,50,70",
    "--as": "rehearsal_day=categorical",
    "--base": "voice=alto",
    "--rename": "v23=age",
    "--profile": "voice=alto",
    "--base-by": "voice=largest",
}


def split(texts: Sequence[str], known: Sequence[str] = ()) -> list[str]:
    """Take texts apart at commas, but for those that are names as they stand."""
    return [part for text in texts for part in names_in(text, known, brackets=False)]


def names_in(text: str, known: Sequence[str], brackets: bool = True) -> list[str]:
    """Take a text apart at its commas, but for those within names that are known, unless what is between them is known as well."""
    if text in known:
        return [text]
    for name in sorted((n for n in known if "," in n), key=len, reverse=True):
        if not set(split_outside(name, brackets=False)) <= set(known):
            there = rf"(^|,)\s*{re.escape(name)}(?=\s*(?:,|$))"
            text = re.sub(there, functools.partial(_quoted, name), text)
    return split_outside(text, brackets)


def _quoted(name: str, found: re.Match[str]) -> str:
    return f'{found[1]}"{name}"'


def parted(text: str, mark: str) -> tuple[str, str, str]:
    """Take a text apart at the first mark behind a name: the name, the mark if it is there, and what follows."""
    quoted = re.match(rf'\s*"([^"]*)"\s*(?:({mark})(.*))?$', text, re.DOTALL)
    name, found, rest = quoted.groups("") if quoted else text.partition(mark)
    return name.strip(), found, rest.strip()


def pair(text: str, option: str) -> tuple[str, str]:
    """Take a ``name=value`` text apart."""
    name, mark, value = parted(text, "=")
    if not mark or not name or not value:
        raise MarkbaseError(
            f"`{option} {text}` should read `{option} COLUMN=VALUE`, for instance `{option} {_EXAMPLES[option]}`."
        )
    return name, unquoted(value)


def calculation(text: str) -> dict[str, object]:
    """Return the step that ``name = expression`` stands for."""
    name, mark, expression = parted(text, "=")
    if not mark or not name or not expression:
        raise MarkbaseError(
            f"`--calculate {text}` should read `--calculate 'NAME = EXPRESSION'`, for instance `--calculate 'bmi = weight / (height / 100)^2'`."
        )
    return {"do": "calculate", "name": name, "expression": expression}


def values_of(text: str) -> dict[str, str]:
    """Take ``voice=tenor, age=30`` apart."""
    return dict(pair(part, "--profile") for part in split_outside(text, brackets=False))


def places_of(texts: Sequence[str]) -> dict[str, list[float]]:
    """Read ``age=30,50,70`` texts."""
    found: dict[str, list[float]] = {}
    for text in texts:
        name, values = pair(text, "--at")
        try:
            found[name] = [float(v) for v in values.split(",")]
        except ValueError:
            raise click.UsageError(
                f"--at {text}: the values are numbers by commas, for instance age=30,50,70."
            ) from None
    return found


def labelling(text: str) -> dict[str, object]:
    """Read ``sex: 1=man, 2=woman`` as the preparing step it stands for."""
    column, mark, codes = parted(text, ":")
    pairs = [parted(part, "=") for part in split_outside(codes, brackets=False)]
    if not mark or not column or not pairs or not all(code and label for code, _, label in pairs):
        raise MarkbaseError(
            f"`--label {text}` should read `--label 'COLUMN: CODE=LABEL, CODE=LABEL'`, for instance 'sex: 1=man, 2=woman'."
        )
    return {"do": "as_categorical", "column": column, "labels": {code: unquoted(label) for code, _, label in pairs}}


def joining(text: str) -> dict[str, object]:
    """Read ``choir_homes.csv: choir, season=year`` as the preparing step it stands for."""
    file, mark, keys = (part.strip() for part in text.rpartition(":"))
    pairs = [parted(part, "=") for part in split_outside(keys, brackets=False)]
    if not mark or not file or not pairs or not all(name and bool(there) == bool(sign) for name, sign, there in pairs):
        raise MarkbaseError(
            f"`--join {text}` should read `--join 'FILE: KEY, KEY'`, for instance 'choir_homes.csv: choir', or where the key is called "
            f"otherwise there 'choir_homes.csv: choir=name'."
        )
    names = {unquoted(name): unquoted(there) if sign else unquoted(name) for name, sign, there in pairs}
    same = all(name == there for name, there in names.items())
    return {"do": "join", "file": file, "by": list(names) if same else names}


def named(text: str, option: str, example: str) -> tuple[str, str]:
    """Take a ``name: columns`` text apart."""
    name, mark, columns = parted(text, ":")
    if not mark or not name or not columns:
        raise MarkbaseError(
            f"`{option} {text}` should read `{option} 'NAME: COLUMN, COLUMN'`, for instance '{example}'."
        )
    return name, columns


def two(text: str, known: Sequence[str] = ()) -> tuple[str, str]:
    """Take ``age:voice`` apart, but for what is a name as it stands; nothing for the second where there is one alone."""
    if text in known:
        return text, ""
    first, _, second = parted(text, ":")
    return first, unquoted(second)
