"""How numbers are written where text is shown. Nothing here is used in arithmetic."""

from __future__ import annotations

import math

MINUS = "−"
_MOST_DIGITS = 5
"""Of a scale that is a large whole number."""
_COARSE = -7
_LEAST_SHARE = 1e-6
"""Decimals from which numbers are written with a power of ten."""


class Written(str):
    """A number as it is written, which still knows what it is.

    Parameters
    ----------
    text : str
        How it is written.
    values : float
        What it is; both ends of an interval.
    """

    __slots__ = ("values",)
    values: tuple[float, ...]

    def __new__(cls, text: str, *values: float) -> Written:  # noqa: D102 - as the class says
        made = super().__new__(cls, text)
        made.values = tuple(float(v) for v in values)
        return made


def from_to(low: str, high: str) -> str:
    """Write an interval from its written ends: ``1.2 to 3.4``."""
    ends = (*getattr(low, "values", ()), *getattr(high, "values", ()))
    return Written("–" if low == high == "–" else f"{low} to {high}", *ends)


def number(value: float, decimals: int = 2) -> str:
    """Write a number with fixed decimals (−3 rounds to thousands), thousands parted, and a real minus sign; ``–`` for none.

    What is known to tens of millions only, or is very large or very small, is written with a power of ten: by its decimals
    first, so that both ends of an interval are written alike.

    Examples
    --------
    >>> number(-1234.567), number(1034603123456.0, decimals_for(6e10)), number(-1.02345678e15, -10)
    ('−1,234.57', '1,034,603,000,000', '−1.02346e15')
    """
    if math.isnan(value):
        return "–"
    if math.isinf(value):
        return "infinite" if value > 0 else "minus infinite"
    large = decimals <= _COARSE or abs(value) >= (1e21 if decimals < 0 else 1e15)
    if value != 0 and (large or (decimals > 8 and abs(value) < 1e-4)):
        digits = max(2, math.floor(math.log10(abs(value))) + decimals) if decimals < 0 else 2
        mantissa, power = f"{value:.{digits}e}".split("e")
        return Written(f"{mantissa}e{int(power)}".replace("-", MINUS), value)
    text = f"{round(value, min(decimals, 0)) if decimals < 0 else value:,.{min(max(decimals, 0), 10)}f}"
    if text.startswith("-"):
        text = text[1:] if float(text.replace(",", "")) == 0 else MINUS + text[1:]
    return Written(text, value)


def decimals_for(scale: float, digits: int = 2) -> int:
    """Return how many decimals show a quantity known to within `scale` (a standard error, or its size) by some digits of it.

    Negative where a scale of 100,000 or more would show over five digits of itself.
    """
    if not math.isfinite(scale) or scale <= 0:
        return 2
    size = math.floor(math.log10(scale))
    return max(0, digits - 1 - size) or min(0, _MOST_DIGITS - 1 - size)


def clear_of_zero(low: float, high: float, decimals: int) -> int:
    """Return decimals, at most three more, at which an interval that ends close to 0 shows on which side of it."""
    for more in range(4):
        if all(end == 0 or abs(end) >= 0.5 * 10.0 ** -(decimals + more) for end in (low, high)):
            return decimals + more
    return decimals


def ratio(value: float, decimals: int | None = None) -> str:
    """Write an odds ratio, by default to three digits: ``1.07``, ``0.943``, ``12.3``; in words where it is beyond all measure."""
    if math.isnan(value):
        return number(value)
    if value >= 1e6:
        return "more than a million"
    if value < 1e-4:
        return "less than 0.0001"
    if decimals is None:
        decimals = max(decimals_for(value, 3), 0)
    elif value < 0.5 * 10.0**-decimals:  # no ratio is 0
        decimals = decimals_for(value, 1)
    elif value >= 1000:  # more digits of so large a ratio say nothing
        decimals = min(decimals, max(decimals_for(value, _MOST_DIGITS), 0))
    return number(value, decimals)


def ratio_decimals(value: float, se: float) -> int:
    """Return the decimals that show an odds ratio and the ends of its interval alike."""
    return min(max(decimals_for(value * se, 2), 2), 5) if math.isfinite(value) and value > 0 else 2


def ratio_with_ends(value: float, low: float, high: float, se: float) -> tuple[str, str, str]:
    """Write an odds ratio and the ends of its interval with as many decimals, so that it shows on which side of 1 they are.

    `se` is the standard error of its logarithm.
    """
    decimals = clear_of_zero(low - 1, high - 1, ratio_decimals(value, se))
    return ratio(value, decimals), ratio(low, decimals), ratio(high, decimals)


def point_decimals(low: float, high: float, se: float) -> int:
    """Return the decimals of percentage points and of the ends of their interval; the standard error is of a share."""
    return clear_of_zero(low, high, decimals_for(100 * se or 1.0))


def value_with_ends(value: float, low: float, high: float, decimals: int) -> tuple[str, str, str]:
    """Write a value and the ends of its interval, these with more decimals where it would not show on which side of 0 they are."""
    ends = clear_of_zero(low, high, decimals)
    return number(value, decimals), number(low, ends), number(high, ends)


def short(value: float, digits: int = 3) -> str:
    """Write a number with a few significant digits, trailing zeros dropped: ``12.3``, ``1,204``, ``0.00123``."""
    if not math.isfinite(value) or value == 0:
        return number(value, 0)
    if value == round(value) and abs(value) < 1e12:
        return number(value, 0)
    decimals = decimals_for(abs(value), digits)
    if decimals < 0:  # of large numbers it leaves five digits, and more where more are asked for
        decimals = min(decimals + max(digits - _MOST_DIGITS, 0), 0)
    text = number(value, decimals)
    return text.rstrip("0").rstrip(".") if "." in text and "e" not in text else text


def percentage(share: float) -> str:
    """Write a share in percent, without the sign: one decimal, and near 0 and 100 two digits of what is left.

    Neither 0 nor 100 is said of what is not.

    Examples
    --------
    >>> [percentage(v) for v in (0.675, 0.000433, 0.99957, 0.0, 1e-9)]
    ['67.5', '0.043', '99.957', '0.0', 'less than 0.0001']
    """
    if 0 < min(share, 1 - share) < _LEAST_SHARE:
        return Written("less than 0.0001" if share < 0.5 else "more than 99.9999", share)
    return number(100 * share, share_decimals(share))


def ungrouped(text: str) -> str:
    """Return a number as it is written without parting thousands, where it has no more than four digits before the point."""
    whole = text.lstrip(MINUS).partition(".")[0]
    return Written(text.replace(",", ""), *getattr(text, "values", ())) if len(whole) == 5 and whole[1] == "," else text


def plain(value: float, digits: int = 3) -> str:
    """Write a value of a column as `short` does, thousands parted from five digits on, as years are written: ``2010``, ``12,040``."""
    return ungrouped(short(value, digits))


def share_decimals(share: float) -> int:
    """Return the decimals of percent: one, and near 0 and 100 those that show two digits of what is left, four at most."""
    left = min(share, 1 - share)
    return min(decimals_for(100 * left), 4) if 0 < left < 0.01 else 1


def as_percent(share: float) -> str:
    """Write a share as `percentage` does, with its sign."""
    return number(share) if math.isnan(share) else f"{percentage(share)}%"


def share(part: float, whole: float) -> str:
    """Write a part of a whole as a percentage with one decimal, and more where it is next to nothing or to all (a dash when the whole is 0)."""
    if whole == 0:
        return "–"
    here = part / whole
    return f"{100 * here:.1f}%" if 0.001 <= here <= 0.999 else as_percent(here)


def points(difference: float) -> str:
    """Write a difference of shares in percentage points, without its sign: one decimal, and where it is small the first digit of it."""
    size = 100 * abs(difference)
    return number(size, min(max(decimals_for(size, 1), 1), 8))


def p_value(p: float) -> str:
    """Write a p value: three digits without the leading zero, never as zero or one; ``–`` when there is none.

    Within a hair of .05 as many digits as show on which side.
    """
    if math.isnan(p):
        return "–"
    if p < 0.001:
        return Written("< .001", p)
    if p > 0.999:
        return Written("> .999", p)
    digits = 3
    while digits < 12 and p != 0.05 and f"{p:.{digits}f}" == f"{0.05:.{digits}f}":
        digits += 1  # on which side of the usual line it lies must show
    return Written(f"{p:.{digits}f}"[1:], p)


def p_phrase(p: float) -> str:
    """Write a p value as a phrase: ``p = .034`` or ``p < .001``."""
    text = p_value(p)
    if text == "–":
        return "p not defined"
    return f"p {text}" if text[0] in "<>" else f"p = {text}"


def figures_of(statistic: float, df: int, df_rest: float, kind: str = "") -> str:
    """Write the statistic of a test with its degrees of freedom: F, or, where `df_rest` is infinite, chi-squared of some kind."""
    name = f"{kind} chi²".lstrip() if math.isinf(df_rest) else "F"
    rest = f", {df_rest:.0f}" if math.isfinite(df_rest) else ""
    return f"{name}({df:.0f}{rest}) = {number(statistic, 2)}"


def without_zero(value: float, decimals: int = 3) -> str:
    """Write a share of variation without its leading zero: ``.198``, ``1.000``, ``−.004``; what is below 1, or above 0, with the digits that show it.

    A correlation (of two decimals) may be ``.00``.
    """
    if decimals > 2 and _LEAST_SHARE <= abs(value) < 0.5 * 10.0**-decimals:
        decimals = decimals_for(abs(value), 1)
    text = number(value, decimals)
    for more in range(1, 5 if abs(value) < 1 <= abs(round(value, decimals)) else 1):
        if not (closer := number(value, decimals + more)).lstrip(MINUS).startswith("1"):
            text = closer
            break
    return Written(text.replace("0.", ".", 1), value) if text.lstrip(MINUS).startswith("0.") else text
