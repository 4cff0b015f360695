"""Unicode patterns for numbers (UTS 35, as far as CSV on the Web, "Model for Tabular Data", section 6.4.2, uses them), compiled both ways."""

from __future__ import annotations

import re
from dataclasses import dataclass

import polars as pl

from mudanza.core.values.kinds import DECIMAL, SCALE, trim_zeros

#: what stands behind or before a number that is a part of a hundred, or of a thousand → how many zeros
_SHARES = {"%": 2, "‰": 3}
_SHARE_SIGNS = "[%‰]"


@dataclass(frozen=True)
class Groups:
    """The `sign` between groups of digits, and their `sizes`: of the group next to the decimal sign, and of those before it; none: any. Where they
    are `optional`, digits may stand without."""

    sign: str
    sizes: tuple[int, ...] = ()
    optional: bool = True

    @property
    def expression(self) -> str:
        """The regular expression of digits in groups."""
        sign = re.escape(self.sign)
        if not self.sizes:
            return rf"[0-9]+(?:{sign}[0-9]+)*"
        first, other = self.sizes[0], self.sizes[-1]
        within = rf"[0-9]{{1,{other}}}(?:{sign}[0-9]{{{other}}})*{sign}[0-9]{{{first}}}"
        return f"(?:{within}|{'[0-9]+' if self.optional else f'[0-9]{{1,{first}}}'})"


@dataclass(frozen=True)
class Affixes:
    """What stands around the digits: a `sign` that positive numbers must have (`+`) or all (`-`), the sign of a share (`%`, `‰`) `before` or
    `after`, and of how many digits at least the exponent is (0: there is none). `free`: the sign of a share may stand behind, or not."""

    sign: str = ""
    before: str = ""
    after: str = ""
    exponent: int = 0
    free: bool = False

    @property
    def zeros(self) -> int:
        """How many zeros the number written has more than its value."""
        return _SHARES.get(self.before or self.after, 0)


@dataclass(frozen=True)
class NumberFormat:
    """How numbers are written: signs, digits before and after the decimal sign, groups of digits, exponents or not.

    `exponent` says that one may stand there though no pattern has it, `bare` that nothing need stand before or behind the decimal sign.
    """

    decimal: str = "."
    groups: Groups | None = None
    min_whole: int = 1
    min_fraction: int = 0
    max_fraction: int | None = None
    exponent: bool = False
    bare: bool = False
    affixes: Affixes = Affixes()
    text: str = "a plain number"

    @classmethod
    def of(cls, decimal: str = ".", group: str | None = None, *, whole: bool = False) -> NumberFormat:
        """Numbers as people write them, perhaps with thousands in groups. Raises ValueError if the signs cannot be used."""
        _signs_fit(decimal, group)
        groups = Groups(group, (3,)) if group is not None else None
        return cls(decimal, groups, max_fraction=0 if whole else None, text=_shown(whole, decimal))

    @classmethod
    def by(cls, pattern: str, decimal: str = ".", group: str | None = None) -> NumberFormat:
        """Compile a UTS 35 number pattern such as `#,##0.00`, written with the signs that its numbers have. Raises ValueError if it is none."""
        _signs_fit(decimal, group)
        return _compiled(pattern, decimal, group)

    # reading

    @property
    def is_plain(self) -> bool:
        """Whether its numbers are digits with a point among or around them, as every program reads them, and no exponent."""
        return self == NumberFormat(bare=True, text=self.text)

    @property
    def pattern(self) -> str:
        """The regular expression that a number which can be held matches."""
        return self._expression(SCALE if self.max_fraction is None else min(self.max_fraction, SCALE), "{1,2}")

    def _expression(self, most: int | None, power_digits: str) -> str:
        a, point = self.affixes, re.escape(self.decimal)
        digits = self.groups.expression if self.groups is not None else "[0-9]+"
        if most is None or most:
            fraction = rf"{point}[0-9]{{{max(self.min_fraction, 1)},{'' if most is None else most}}}"
            end = f"(?:{fraction}|{point})?" if self.bare else fraction if self.min_fraction else f"(?:{fraction})?"
            digits = f"(?:{digits}{end}|{fraction})" if self.bare else digits + end
        power = rf"(?:[eE][+-]?[0-9]{power_digits})?" if self.exponent else ""
        if a.exponent:
            power = rf"E[+-]?[0-9]{{{a.exponent},4}}"
        sign = {"": "[+-]?", "+": "[+-]", "-": "-"}[a.sign]
        return rf"^{sign}{a.before}{digits}{power}{f'{_SHARE_SIGNS}?' if a.free else a.after}$"

    def _whole_enough(self, text: pl.Expr) -> pl.Expr:
        between = f"[{re.escape(self.groups.sign)}]?" if self.groups is not None else ""
        enough: pl.Expr = text.str.contains(rf"^[+\-%‰]*(?:[0-9]{between}){{{self.min_whole},}}")
        return enough

    def fits(self, text: pl.Expr) -> pl.Expr:
        """Whether a text is a number in this format, be it too large or too exact to be held."""
        fits = text.str.contains(self._expression(self.max_fraction, "+"))
        return fits & self._whole_enough(text) if self.min_whole > 1 else fits

    def plain(self, text: pl.Expr) -> pl.Expr:
        """The digits of a number in this format as every program reads them: no groups, a point, no sign of a share."""
        if self.groups is not None:
            text = text.str.replace_all(self.groups.sign, "", literal=True)
        if self.decimal != ".":
            text = text.str.replace(self.decimal, ".", literal=True)
        return text.str.replace(_SHARE_SIGNS, "") if self.affixes.zeros or self.affixes.free else text

    def read(self, text: pl.Expr) -> pl.Expr:
        """Text as an exact number; null where it is not one in this format, or cannot be held."""
        fits: pl.Expr = text.str.contains(self.pattern)
        if self.min_whole > 1:
            fits = fits & self._whole_enough(text)
        # to read some that do not fit costs less than to take those out that do
        value: pl.Expr = pl.when(fits).then(self.plain(text).cast(DECIMAL, strict=False))
        if self.affixes.zeros:
            value = (value / 10**self.affixes.zeros).cast(DECIMAL)
        if not self.affixes.free:
            return value
        for sign, zeros in _SHARES.items():
            value = pl.when(text.str.ends_with(sign)).then((value / 10**zeros).cast(DECIMAL)).otherwise(value)
        return value

    # writing

    @property
    def most_written(self) -> int:
        """How many digits after the point of a value are written at most."""
        most = SCALE if self.max_fraction is None else self.max_fraction
        return min(most + self.affixes.zeros, SCALE)

    @property
    def rounds(self) -> bool:
        """Whether there are numbers that writing would round."""
        return self.max_fraction is not None and (self.most_written < SCALE or bool(self.affixes.exponent))

    def loses(self, value: pl.Expr) -> pl.Expr:
        """Whether writing the number would round it."""
        if self.max_fraction is None or not self.rounds:
            return pl.lit(False)
        if self.affixes.exponent:
            return _significant(value).str.len_chars() > 1 + self.max_fraction
        return value != value.round(self.most_written)

    def render(self, value: pl.Expr) -> pl.Expr:
        """A number as text."""
        a = self.affixes
        text = self._scientific(value) if a.exponent else self._plainly(value)
        if self.decimal != ".":
            text = text.str.replace(".", self.decimal, literal=True)
        if self.groups is not None and not self.groups.optional:
            text = _grouped(text, self.groups)
        if a.sign == "+":
            text = pl.when(text.str.starts_with("-")).then(text).otherwise(pl.lit("+") + text)
        if a.before:
            text = text.str.replace(r"^([+-]?)", f"${{1}}{a.before}")
        return text + a.after if a.after else text

    def _plainly(self, value: pl.Expr) -> pl.Expr:
        most = SCALE if self.max_fraction is None else min(self.max_fraction, SCALE)
        if self.affixes.zeros:
            value = value * 10**self.affixes.zeros
        text = value.cast(pl.Decimal(38, most)).cast(pl.String)
        if most > self.min_fraction:
            if self.min_fraction == 0:
                text = trim_zeros(text)
            else:
                text = text.str.replace(rf"0{{1,{most - self.min_fraction}}}$", "")
        if self.min_whole > 1:
            text = text.str.replace(r"^(-?)([0-9]+)", "${1}" + "0" * (self.min_whole - 1) + "${2}")
            text = text.str.replace(rf"^(-?)0*([0-9]{{{self.min_whole},}})", "${1}${2}")
        return text

    def _scientific(self, value: pl.Expr) -> pl.Expr:
        plain = value.abs().cast(pl.String)
        whole = plain.str.extract(r"^([1-9][0-9]*)", 1).str.len_chars()
        below = plain.str.extract(r"^0\.(0*)", 1).str.len_chars().cast(pl.Int64)
        power = pl.when(value == 0).then(0).otherwise(pl.coalesce(whole.cast(pl.Int64) - 1, -below - 1))
        digits = pl.when(value == 0).then(pl.lit("0")).otherwise(_significant(value))
        behind = digits.str.slice(1).str.pad_end(self.min_fraction, "0")
        sign = pl.when(value < 0).then(pl.lit("-")).otherwise(pl.lit(""))
        point = pl.when(behind.str.len_chars() > 0).then("." + behind).otherwise(pl.lit(""))
        minus = pl.when(power < 0).then(pl.lit("-")).otherwise(pl.lit(""))
        exponent = minus + power.abs().cast(pl.String).str.zfill(self.affixes.exponent)
        return sign + digits.str.head(1) + point + "E" + exponent


def _grouped(text: pl.Expr, groups: Groups) -> pl.Expr:
    for size in (groups.sizes[0], *[groups.sizes[-1]] * 25):
        text = text.str.replace(rf"^(-?[0-9]+)([0-9]{{{size}}})", rf"${{1}}{groups.sign}${{2}}")
    return text


def _significant(value: pl.Expr) -> pl.Expr:
    """The digits of a number, from the first that is not zero to the last."""
    return value.abs().cast(pl.String).str.replace(".", "", literal=True).str.strip_chars("0")


def _signs_fit(decimal: str, group: str | None) -> None:
    for sign in (decimal, *([] if group is None else [group])):
        if (
            len(sign) != 1
            or sign.isalnum()
            or sign in '+-%‰"#'
            or (not sign.isprintable() and not sign.isspace())
            or sign in "\r\n"
        ):
            raise ValueError("decimalChar and groupChar must be one sign each, and none that numbers have else")
    if decimal == group:
        raise ValueError("decimalChar and groupChar must differ")


def _compiled(pattern: str, decimal: str, said: str | None) -> NumberFormat:
    group = said or ("," if decimal != "," else None)
    d, g = re.escape(decimal), re.escape(group or "")
    match = re.fullmatch(rf"([+-]?)([%‰]?)([+-]?)([#0{g}]+)(?:{d}(0*)(#*))?(?:E[+]?#*(0+))?([%‰]?)", pattern)
    if not match or (match[1] and match[3]) or (match[2] and match[8]):
        example = f"0{decimal}00" + (f" or #{group}##0{decimal}##" if group else "")
        raise ValueError(f"{pattern!r} is no number pattern; it is written with its own signs, as {example}")
    pieces = match[4].split(group) if group else [match[4]]
    digits, zeros, hashes = "".join(pieces), match[5] or "", match[6] or ""
    if not re.fullmatch(r"#*0*", digits) or not digits:
        raise ValueError(f"{pattern!r} has # behind 0 before the decimal sign")
    if not all(pieces[1:]) or len({len(one) for one in pieces[1:-1]}) > 1:
        raise ValueError(f"{pattern!r} has groups of digits that no number can have")
    groups = None
    if len(pieces) > 1:
        groups = Groups(group or "", (len(pieces[-1]), *[len(one) for one in pieces[-2:-1] if len(pieces) > 2]), False)
    affixes = Affixes(match[1] or match[3], match[2], match[8], len(match[7] or ""))
    if affixes.exponent and (len(digits) > 1 or len(pieces) > 1 or affixes.zeros):
        raise ValueError(f"{pattern!r} has an exponent; one digit stands before its decimal sign")
    return NumberFormat(
        decimal,
        groups,
        min_whole=digits.count("0"),
        min_fraction=len(zeros),
        max_fraction=len(zeros) + len(hashes),
        affixes=affixes,
        text=f"a number as {pattern}",
    )


def _shown(whole: bool, decimal: str) -> str:
    if whole:
        return "a whole number"
    return "a number" + (f" with decimal sign {decimal!r}" if decimal != "." else "")
