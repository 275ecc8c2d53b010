"""Numbers as people and spreadsheets write them: decimal commas, thousands set apart, signs of percent and of currencies, units behind them.

What is read away is said, and what could be read in two ways is left to the analyst: `1,500` is fifteen hundred to some and one
and a half to others. Beside `750` it is fifteen hundred: who writes three decimals everywhere writes 750,000, and who leaves zeros
away writes 1,5.
"""

from __future__ import annotations

import re
import unicodedata
from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from markbase.core.study.codebook import ColumnSpec
from markbase.core.study.column import Unit
from markbase.core.study.raw_values import RawValues, missing_among, parsed

THOUSANDS = "thousands separators read away"
_SPACES = "\u00a0\u2009\u202f "
_APOSTROPHES = "'\u2019"
_GROUPS = {".": f",{_SPACES}{_APOSTROPHES}", ",": f".{_SPACES}{_APOSTROPHES}"}
"""What may set thousands apart beside each decimal mark."""
_LOOSELY = re.compile(rf"[+\-\u2212]?[\d.,{_SPACES}{_APOSTROPHES}]+(?:[eE][+-]?\d+)?")
_ALONE = {
    mark: re.compile(
        rf"[+\-\u2212]?(?:(?:[1-9]\d{{0,2}}([{apart}])\d{{3}}(?:\1\d{{3}})*|\d+)(?:{re.escape(mark)}\d*)?|{re.escape(mark)}\d+)"
        r"(?:[eE][+-]?\d+)?"
    )
    for mark, apart in _GROUPS.items()
}
"""A number by itself, by what stands before its decimals."""
_LOOK, _FEW, _GLANCE = 1000, 10, 64
_NO_NUMBER = re.compile(r"^[^\W\d_]|^\d{4}-\d\d-\d\d|[^\W\d_eE]\d")
"""What a text has that is no number, whatever is read away: a letter first, or before a digit, or the form of a date."""
_GROUPED = {
    mark: re.compile(rf"[+\-\u2212]?(?:[1-9]\d{{0,2}}(?:{re.escape(mark)}\d{{3}})+|\d{{1,3}})") for mark in ".,"
}
_SYMBOLS = ("mm", "cm", "m", "km", "mg", "g", "kg", "ml", "l", "ft", "km/h", "mph", "°C", "°F")
_SPELLINGS = (
    (Unit("lb", "lb"), "lb lbs"),
    (Unit("mile", "miles"), "mi mile miles"),
    (Unit("second", "seconds"), "sec secs second seconds"),
    (Unit("minute", "minutes"), "min mins minute minutes"),
    (Unit("hour", "hours"), "h hr hrs hour hours"),
    (Unit("day", "days"), "day days"),
    (Unit("week", "weeks"), "week weeks wk wks"),
    (Unit("month", "months"), "month months"),
    (Unit("year", "years"), "yr yrs year years"),
    (Unit("point", "points"), "pt pts point points"),
)
_UNITS = {symbol.lower(): Unit(symbol, symbol) for symbol in _SYMBOLS} | {
    text: unit for unit, spellings in _SPELLINGS for text in spellings.split()
}
"""Units that people write behind numbers, as they write them."""
_IN_BRACKETS = re.compile(r"\(([^()+\-\u2212]*\d[^()]*)\)")
_WITH_UNIT = re.compile(r"(.*[\d.,])\s*([A-Za-z°][A-Za-z/]*)\.?")
_NAMES = {"$": Unit("dollar", "dollars"), "€": Unit("euro", "euros"), "£": Unit("pound", "pounds")}


_KNOWN = frozenset({unit.one for unit in (*_UNITS.values(), *_NAMES.values())})


def is_other_unit(own: Unit | None, other: Unit | None) -> bool:
    """Return whether two units are known to be different ones, as cm and mm are; of words of the analyst's own nobody knows."""
    known = own is not None and other is not None and {own.one, other.one} <= _KNOWN
    return known and own != other


_BOUND = re.compile(r"([<>≤≥])\s*[\d.,]*\d|[\d.,]*\d\s*(\+)")


def signs_of_bounds(texts: Sequence[str]) -> list[str]:
    """Return the signs of texts that are all bounds of numbers, as ``<5`` or ``100+``; none if one is not."""
    found = [_BOUND.fullmatch(text.strip()) for text in texts]
    return sorted({match[1] or match[2] for match in found if match}) if all(found) else []


@dataclass(frozen=True)
class Writing:
    """How the numbers of a column are written."""

    decimal: str
    """What parts whole numbers from fractions."""
    grouped: str = ""
    """What sets thousands apart; empty for nothing."""

    def read(self, text: str) -> str:
        """Return a number as programs write it."""
        plain = text.replace(self.grouped, "") if self.grouped else text
        return plain.replace(self.decimal, ".").replace("\u2212", "-")


def as_written(raw: RawValues, spec: ColumnSpec) -> tuple[RawValues, ColumnSpec]:
    """Read away what numbers are written with, where every text is such a number and can be read in one way only.

    Returns the numbers, with notes of what was read away, and their unit; or what was given.
    """
    coded = missing_among(raw, spec.missing) > 0
    is_text = np.ones(len(raw.texts), dtype=bool) if raw.is_text is None else raw.is_text
    if any(is_text[k] and not coded[k] and _NO_NUMBER.search(text) for k, text in enumerate(raw.texts[:_GLANCE])):
        return raw, spec
    told = [k for k in range(len(raw.texts)) if not coded[k] and is_text[k]]
    own = [raw.texts[k] for k in told]
    if not own or (raw.is_number[told].all() and not sets_thousands_apart(own, ".")):
        return raw, spec
    open_ones = _without_brackets(own)
    sign, bare = _without_sign(open_ones)
    unit, bare = (None, bare) if sign else _without_unit(bare)
    ways = writings(bare)
    if len(ways) != 1 or ((sign or unit is not None) and not is_text.all()):  # is a number beside `12%` a share?
        return raw, spec
    texts = list(raw.texts)
    for k, text in zip(told, bare, strict=True):
        texts[k] = ways[0].read(text)
    numbers, is_number = parsed(texts)
    notes = raw.notes
    if sign:
        notes += (f"{'percent' if sign == '%' else 'currency'} signs read away",)
    if unit is not None:
        notes += (f"{unit.many if unit.many != unit.one else f'`{unit.one}`'} written behind the numbers read away",)
    if ways[0].grouped:
        example = max(bare, key=lambda text: text.count(ways[0].grouped))
        notes += (f"{THOUSANDS}: {example} is {ways[0].read(example)}",)
    if ways[0].decimal == "," and any("," in text for text in bare):
        notes += ("decimal commas read as decimal points",)
    if open_ones != own:
        notes += ("numbers in brackets read as below 0",)
    if any("\u2212" in text for text in bare):
        notes += ("typographic minus signs read as such",)
    if sign:
        unit = Unit("percent", "percent") if sign == "%" else _NAMES.get(sign, Unit(sign, sign))
    return (
        replace(raw, texts=texts, numbers=numbers, is_number=is_number, notes=notes),
        replace(spec, unit=spec.unit or unit),
    )


def writings(texts: Sequence[str]) -> list[Writing]:
    """Return the ways in which all of some texts can be read as numbers: none, one, or two that give other numbers."""
    if not all(_LOOSELY.fullmatch(text) for text in texts):
        return []
    found = [way for decimal in _GROUPS if (way := _writing(texts, decimal)) is not None]
    if len(found) == 2 and [found[0].read(t) for t in texts] == [found[1].read(t) for t in texts]:
        return found[:1]
    sure = [way for way in found if way.grouped in _GROUPED and sets_thousands_apart(texts, way.grouped)]
    return sure or found


def sets_thousands_apart(texts: Sequence[str], mark: str) -> bool:
    """Return whether a point or a comma cannot stand before decimals: some of three digits behind it end in 0, and others of three have none."""
    if not all(_GROUPED[mark].fullmatch(text) for text in texts):
        return False
    with_mark = [mark in text for text in texts]
    return any(m and t.endswith("0") for m, t in zip(with_mark, texts, strict=True)) and any(
        not m and len(t.lstrip("+-\u2212")) == 3 for m, t in zip(with_mark, texts, strict=True)
    )


def _writing(texts: Sequence[str], decimal: str) -> Writing | None:
    """Return how numbers with that decimal mark are written; None if one of them is none."""
    marks = sorted({c for text in texts for c in text if c in _GROUPS[decimal]})
    apart = rf"[1-9]\d{{0,2}}(?:{re.escape(marks[0])}\d{{3}})+|" if marks else ""
    point = re.escape(decimal)
    number = re.compile(rf"[+\-\u2212]?(?:(?:{apart}\d+)(?:{point}\d*)?|{point}\d+)(?:[eE][+-]?\d+)?")
    return Writing(decimal, marks[0] if marks else "") if all(number.fullmatch(text) for text in texts) else None


def _without_sign(texts: Sequence[str]) -> tuple[str, list[str]]:
    """Return the sign of percent or of a currency that all of some texts have, and the texts without it; no sign if they differ."""
    sign = next((c for c in texts[0] if c == "%" or unicodedata.category(c) == "Sc"), "")
    bare = [_stripped(text, sign) for text in texts] if sign else []
    return (sign, bare) if bare and all(bare) else ("", list(texts))


def _without_brackets(texts: Sequence[str]) -> list[str]:
    """Return texts with a minus for the brackets that accountants put around numbers below 0; where all are in brackets these say something else."""
    inner = [match[1].strip() if (match := _IN_BRACKETS.fullmatch(text)) else None for text in texts]
    if all(own is None for own in inner) or None not in inner:
        return list(texts)
    return [text if own is None else f"-{own}" for text, own in zip(texts, inner, strict=True)]


def _without_unit(texts: Sequence[str]) -> tuple[Unit | None, list[str]]:
    """Return the unit that stands behind every number among some texts, and these without it; none if they differ, or a number has none."""
    parted = [_WITH_UNIT.fullmatch(text) for text in texts]
    units = [_UNITS.get(match[2] if len(match[2]) == 1 else match[2].lower()) if match else None for match in parted]
    own = {unit for unit in units if unit is not None}
    if len(own) != 1 or any(unit is None and _LOOSELY.fullmatch(text) for unit, text in zip(units, texts, strict=True)):
        return None, list(texts)
    bare = [match[1] if match and unit else text for match, unit, text in zip(parted, units, texts, strict=True)]
    return own.pop(), bare


def _stripped(text: str, sign: str) -> str:
    """Return a text without a sign at one of its ends, which may stand behind a minus; empty if it has none there, or more than one."""
    minus, rest = (text[0], text[1:].lstrip()) if text[:1] in ("-", "\u2212", "+") else ("", text)
    if rest.count(sign) != 1:
        return ""
    if rest.startswith(sign) and sign != "%":
        rest = rest[len(sign) :].strip()
    elif rest.endswith(sign):
        rest = rest[: -len(sign)].strip()
    else:
        return ""
    return minus + rest


def numbers_as_written(texts: Sequence[str], decimal: str | None = None) -> NDArray[np.float64]:
    """Read texts one by one, with or without thousands set apart and a sign of percent or of a currency.

    NaN for what is no number; for all where very few are. `decimal` is what parts whole numbers from fractions, ``.`` or
    ``,``; by default that with which more of them, or of 1,000 of very many, are numbers.
    """
    if decimal is None:
        some = _without_unit(_without_brackets(texts[:: max(1, len(texts) // _LOOK)]))[1]
        numbers = {mark: sum(_number(text, mark) is not None for text in some) for mark in _GROUPS}
        decimal = max(numbers, key=numbers.__getitem__)
        if len(texts) > _LOOK and _FEW * numbers[decimal] < len(some):
            return np.full(len(texts), np.nan)
    texts = _without_unit(_without_brackets(texts))[1]
    return np.array([_number(text, decimal) for text in texts], dtype=np.float64)


def _number(text: str, decimal: str) -> float | None:
    found = _ALONE[decimal].fullmatch(text)
    if found is None:
        sign = next((c for c in text[:2] + text[-1:] if c == "%" or unicodedata.category(c) == "Sc"), "")
        text = _stripped(text, sign) if sign else ""
        found = _ALONE[decimal].fullmatch(text)
    return None if found is None else float(Writing(decimal, found[1] or "").read(text))


def decimals_in_doubt(texts: Sequence[str]) -> str:
    """Return a text whose mark may stand before decimals or set thousands apart, where all are numbers and nothing says which; else none."""
    if any(map(_NO_NUMBER.search, texts[:_GLANCE])):
        return ""
    sign, bare = _without_sign(_without_brackets(texts)) if len(texts) else ("", [])
    bare = bare if sign else _without_unit(bare)[1]
    if not bare or len(writings(bare)) != 2:
        return ""
    return next(text for text, own in zip(texts, bare, strict=True) if "," in own or "." in own)
