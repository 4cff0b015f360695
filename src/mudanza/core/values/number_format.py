"""Unicode patterns for numbers (UTS 35, as far as CSVW section 6.4.2 uses them), compiled both ways."""

from __future__ import annotations

import re
from dataclasses import dataclass

import polars as pl

from mudanza.core.values.kinds import DECIMAL, SCALE, trim_zeros


@dataclass(frozen=True)
class NumberFormat:
    """How numbers are written: signs, digits before and after the decimal sign, exponents or not."""

    decimal: str = "."
    group: str | None = None
    min_whole: int = 1
    min_fraction: int = 0
    max_fraction: int | None = None
    grouped: bool = False
    exponent: bool = False
    text: str = "a plain number"

    @classmethod
    def of(
        cls,
        pattern: str | None,
        decimal: str = ".",
        group: str | None = None,
        whole: bool = False,
        exponent: bool = False,
    ) -> NumberFormat:
        """Compile a UTS 35 number pattern such as `#,##0.00`. Raises ValueError if it is none."""
        if len(decimal) != 1 or (group is not None and len(group) != 1) or decimal == group:
            raise ValueError("decimalChar and groupChar must be one character each, and differ")
        if pattern is None:
            return cls(
                decimal,
                group,
                max_fraction=0 if whole else None,
                exponent=exponent,
                text=_shown(whole, decimal),
            )
        match = re.fullmatch(r"([#,]*[0,]+|#)(?:\.(0*)(#*))?", pattern)
        if not match:
            raise ValueError(f"{pattern!r} is no number pattern; write one such as '0.00' or '#,##0.##'")
        before, zeros, hashes = match.group(1), match.group(2) or "", match.group(3) or ""
        grouped = "," in before
        return cls(
            decimal,
            (group or ",") if grouped else group,
            min_whole=before.count("0"),
            min_fraction=len(zeros),
            max_fraction=len(zeros) + len(hashes),
            grouped=grouped,
            text=f"a number as {pattern}" + (f" with decimal sign {decimal!r}" if decimal != "." else ""),
        )

    @property
    def pattern(self) -> str:
        """The regular expression that a number in this format matches."""
        whole = r"\d+"
        if self.group:
            g = re.escape(self.group)
            whole = rf"(?:\d{{1,3}}(?:{g}\d{{3}})+|\d+)"
        most = SCALE if self.max_fraction is None else min(self.max_fraction, SCALE)
        fraction = ""
        if most:
            fraction = rf"{re.escape(self.decimal)}\d{{{max(self.min_fraction, 1)},{most}}}"
            if self.min_fraction == 0:
                fraction = f"(?:{fraction})?"
        power = r"(?:[eE][+-]?\d{1,2})?" if self.exponent else ""
        return rf"^[+-]?{whole}{fraction}{power}$"

    def read(self, text: pl.Expr) -> pl.Expr:
        """Text as an exact number; null where it is not one in this format."""
        plain: pl.Expr = pl.when(text.str.contains(self.pattern)).then(text)
        if self.group:
            plain = plain.str.replace_all(self.group, "", literal=True)
        if self.decimal != ".":
            plain = plain.str.replace(self.decimal, ".", literal=True)
        return plain.cast(DECIMAL, strict=False)

    @property
    def rounds(self) -> bool:
        """Whether there are numbers that writing would round."""
        return self.max_fraction is not None and self.max_fraction < SCALE

    def loses(self, value: pl.Expr) -> pl.Expr:
        """Whether writing the number would round it."""
        if self.max_fraction is None or not self.rounds:
            return pl.lit(False)
        return value != value.round(self.max_fraction)

    def render(self, value: pl.Expr) -> pl.Expr:
        """A number as text."""
        most = SCALE if self.max_fraction is None else min(self.max_fraction, SCALE)
        text = value.cast(pl.Decimal(38, most)).cast(pl.String)
        if most > self.min_fraction:
            if self.min_fraction == 0:
                text = trim_zeros(text)
            else:
                text = text.str.replace(rf"0{{1,{most - self.min_fraction}}}$", "")
        if self.min_whole > 1:
            text = text.str.replace(r"^(-?)(\d+)", "${1}" + "0" * (self.min_whole - 1) + "${2}")
            text = text.str.replace(rf"^(-?)0*(\d{{{self.min_whole},}})", "${1}${2}")
        if self.decimal != ".":
            text = text.str.replace(".", self.decimal, literal=True)
        if self.grouped and self.group:
            for _ in range(8):
                text = text.str.replace(r"^(-?\d+)(\d{3})", rf"${{1}}{self.group}${{2}}")
        return text


def _shown(whole: bool, decimal: str) -> str:
    if whole:
        return "a whole number"
    return "a number" + (f" with decimal sign {decimal!r}" if decimal != "." else "")
