"""Texts that came back as something else: taken for numbers or dates, trimmed, cut, in other capitals, marked up."""

from __future__ import annotations

from collections.abc import Iterator

import polars as pl

from mudanza.core.layouts.layout import Field
from mudanza.core.layouts.types import TextType
from mudanza.core.values.months import in_english
from mudanza.core.values.written import PLACEHOLDERS
from mudanza.core.work.loans.spoilage.letters import letters
from mudanza.core.work.loans.spoilage.spoilage import AFTER, BEFORE, Proof, Spoilage, alike, one_of

_ANY_SPACE = r"[\s\x{00A0}\x{1680}\x{2000}-\x{200D}\x{2028}\x{2029}\x{202F}\x{205F}\x{2060}\x{3000}\x{FEFF}\x{00AD}]+"
_ODD_SPACE = r"[\x{00A0}\x{1680}\x{2000}-\x{200D}\x{2028}\x{2029}\x{202F}\x{205F}\x{2060}\x{3000}\x{FEFF}\x{00AD}]"
_ZEROS = r"^([-+]?)0+([0-9])"
_DIGITS = r"^[-+]?[0-9]+$"
_PLAIN = r"^[-+]?[0-9]*\.?[0-9]+$"
_EXPONENT = r"^[-+]?[0-9]+(?:[.,][0-9]+)?[eE][-+]?[0-9]+$"
#: at these lengths programs cut texts
_CUTS = (50, 100, 128, 250, 254, 255, 256, 500, 512, 911, 1000, 1023, 1024, 2000, 2048, 4000, 8191, 8192, 32767)
#: what programs write where there is nothing
_NOTHING = ("NULL", "null", "nan", "NaN", "NAN", "None", "NaT", "<NA>", "#N/A", "(null)", "undefined", "nil", "\\N", "N/A", "n/a", "#NULL!", "(blank)", "[NULL]")  # fmt: skip
_ENTITIES = {"&": "&amp;", "<": "&lt;", ">": "&gt;", '"': "&quot;", "'": "&#39;"}
#: codes that spreadsheet programs take for dates: 1-2, 3/4/5, 10.12, MAR1, 1 Sep
_DAY_CODE = (
    r"^(?:[0-9]{1,4}[-/. ]+[0-9]{1,2}(?:[-/. ]+[0-9]{1,4})?\.?|[0-9]{0,4}[-/. ]*[A-Za-zÀ-ÿ]{3,9}\.?[-/. ]*[0-9]{0,4})$"
)
_DATE = r"^(?:[0-9]{4}-[0-9]{2}-[0-9]{2}(?:[ T].*)?|[0-9]{1,2}[-/. ]+(?:[A-Za-zÀ-ÿ]{3,9}|[0-9]{1,2})\.?[-/. ]+[0-9]{2,4}|[0-9]{1,2}\.? ?[-/ ]?[A-Za-zÀ-ÿ]{3,9}\.?|[A-Za-zÀ-ÿ]{3,9}\.?[-/ ][0-9]{1,4}|[2-6][0-9]{4})$"
_CLOCK = r"^([0-9]{1,2}):([0-9]{2})(?::([0-9]{2}))?(?:\.0+)? *([AaPp])?\.?[Mm]?\.?$"


def of_texts(field: Field, before: pl.Series) -> Iterator[Spoilage]:
    """The ways in which the texts of a field are spoilt. `before` are those that were lent."""
    yield from _as_numbers(before)
    yield from _as_moments()
    yield from spaces()
    yield from letters(before)
    yield from _marked_up()
    yield from _cut()
    yield from nothings()
    yield from _capitals(field)
    yield from _put_before_and_behind()
    if field.separator is not None:
        parts = r"\s*[,;|/+\n]\s*"
        yield alike(
            "separators",
            "other signs between several texts",
            "mark",
            BEFORE.str.replace_all(parts, ","),
            AFTER.str.replace_all(parts, ","),
            mended=AFTER.str.replace_all(parts, field.separator),
        )


def _as_numbers(before: pl.Series) -> Iterator[Spoilage]:
    bare = BEFORE.str.replace(_ZEROS, "${1}${2}")
    codes = before.drop_nulls().filter(before.drop_nulls().str.contains(_DIGITS))
    lengths = codes.str.len_chars().unique().to_list()
    length = lengths[0] if len(lengths) == 1 and codes.len() == before.drop_nulls().len() else None
    digits = AFTER.str.contains(r"^[0-9]+(?:\.0)?$")
    whole = AFTER.str.replace(r"\.0$", "")
    yield one_of(
        "zeros",
        "leading zeros",
        "sure",
        *(form + end for form in (bare, bare.str.strip_prefix("+")) for end in ("", ".0")),
        mended=pl.when(digits & (whole.str.len_chars() < length)).then(whole.str.zfill(length or 0))
        if length
        else None,
        suspect=digits & ~AFTER.str.starts_with("0") if length is None else None,
    )
    yield one_of("plus", "a plus sign in front", "sure", BEFORE.str.strip_prefix("+"), BEFORE.str.replace(r"^\+", "00"))
    number, came = BEFORE.cast(pl.Float64, strict=False), AFTER.str.replace(",", ".").cast(pl.Float64, strict=False)
    exponent = AFTER.str.contains(_EXPONENT)
    places = AFTER.str.extract(r"[.,]([0-9]+)[eE]", 1).str.len_chars().fill_null(0).cast(pl.Float64)
    near = (number - came).abs() <= number.abs() * pl.lit(10.0).pow(-places) * 0.51
    long = BEFORE.str.contains(r"^[-+]?[0-9]{10,}$")
    shown = (exponent & long & near).fill_null(False)
    yield Spoilage("exponent", "long numbers in exponent form", "sure", shown, long.fill_null(False), suspect=exponent)
    longer = BEFORE.str.contains(r"^[-+]?[0-9]{16,}$")
    rounded = AFTER.str.contains(_DIGITS) & (AFTER.str.len_chars() == BEFORE.str.len_chars())
    rounded &= (number - came).abs() <= number.abs() * 1e-14
    ends = AFTER.str.contains(r"^[0-9]{15}0+$")
    yield Spoilage(
        "rounded", "digits of long numbers", "sure", (longer & rounded).fill_null(False), longer, suspect=ends
    )
    # 1.50 and 1.5, 1e3 and 1000, 5% and 0.05
    as_number = (number == came) & (AFTER.str.contains(_PLAIN) | exponent)
    could = number.is_not_null() & ~BEFORE.str.contains(r"^-?(?:0|[1-9][0-9]{0,14})(?:\.[0-9]*[1-9])?$")
    yield Spoilage("numbers", "texts taken for numbers", "sure", as_number.fill_null(False), could.fill_null(False))
    share = BEFORE.str.strip_suffix("%").str.strip_chars().str.replace(",", ".").cast(pl.Float64, strict=False) / 100
    percent = BEFORE.str.ends_with("%") & ((share - came).abs() < 1e-9)
    yield Spoilage("percent", "shares taken for numbers", "sure", percent.fill_null(False), BEFORE.str.ends_with("%"))
    signs = r"[ ,.'\x{00A0}\x{202F}\x{2019}]"
    grouped = AFTER.str.contains(rf"^[-+]?[0-9]{{1,3}}(?:{signs}[0-9]{{3}})+$") & BEFORE.str.contains(_DIGITS)
    grouped &= AFTER.str.replace_all(signs, "") == BEFORE
    many = BEFORE.str.contains(r"^[0-9]{4,}$")
    yield Spoilage("groups", "signs between groups of digits", "sure", grouped.fill_null(False), many.fill_null(False))
    swapped = BEFORE.str.replace_many([".", ","], [",", "."])
    fraction = BEFORE.str.contains(r"^-?[0-9]+[.,][0-9]+$")
    other = (fraction & (swapped == AFTER)).fill_null(False)
    yield Spoilage("decimal sign", "another decimal sign", "mark", other, fraction.fill_null(False))


def _as_moments() -> Iterator[Spoilage]:
    code, date = BEFORE.str.contains(_DAY_CODE), AFTER.str.contains(_DATE)
    # the program's reading of the code: its numbers and months are those of the date
    same_numbers = _parts(BEFORE).list.set_difference(_parts(AFTER)).list.len() == 0
    serial = AFTER.str.contains(r"^[2-6][0-9]{4}(?:\.0)?$")
    # words that are no months make no date
    months = ~_numbered(BEFORE).str.contains(r"\p{L}") & ~_numbered(AFTER).str.contains(r"\p{L}")
    made = code & date & (same_numbers | serial) & months & (BEFORE != AFTER)
    looks = AFTER.str.contains(r"^[0-9]{4}-[0-9]{2}-[0-9]{2}(?: 00:00:00)?$")
    yield Spoilage(
        "dates", "codes taken for dates", "sure", made.fill_null(False), code.fill_null(False), suspect=looks
    )
    at, then = (
        _seconds(BEFORE, _CLOCK),
        _seconds(AFTER.str.replace(r"^(?:1899-12-3[01]|1900-01-0[01]|1904-01-01)[ T]", ""), _CLOCK),
    )
    part = AFTER.str.replace(",", ".").cast(pl.Float64, strict=False) * 86400
    clock = (at == then) | ((part - at).abs() < 1) & (part < 86401)
    could = BEFORE.str.contains(_CLOCK)
    yield Spoilage("times", "times of day in another form", "sure", (could & clock).fill_null(False), could)


def _numbered(text: pl.Expr) -> pl.Expr:
    """A date or a code with its months as numbers, without a midnight."""
    named = pl.when(text.str.contains(r"[A-Za-zÀ-ÿ]{3}")).then(in_english(text)).otherwise(text)
    months = ["Jan", "Feb", "Mar", "Apr", "May", "Jun", "Jul", "Aug", "Sep", "Oct", "Nov", "Dec"]
    numbered = named.str.replace_many([*months, *map(str.lower, months)], [f" {n} " for n in [*range(1, 13)] * 2])
    return numbered.str.replace(r"[ T]00:00:00.*$", "")


def _parts(text: pl.Expr) -> pl.Expr:
    """The numbers of a date or a code, without their zeros."""
    found = _numbered(text).str.extract_all(r"[0-9]+")
    # a year may have lost its century
    return found.list.eval(
        pl.element().str.strip_chars_start("0").str.replace(r"^(?:19|20)([0-9]{2})$", "$1").str.strip_chars_start("0")
    )


def _seconds(text: pl.Expr, pattern: str) -> pl.Expr:
    hour, minute, second = (text.str.extract(pattern, n).cast(pl.Int64, strict=False) for n in (1, 2, 3))
    half = text.str.extract(pattern, 4).str.to_lowercase()
    hour = pl.when(half == "p").then(hour % 12 + 12).when(half == "a").then(hour % 12).otherwise(hour)
    return hour * 3600 + minute * 60 + second.fill_null(0)


def spaces() -> Iterator[Spoilage]:
    """What becomes of spaces and line breaks."""
    trimmed = BEFORE.str.replace_all(rf"^{_ANY_SPACE}|{_ANY_SPACE}$", "")
    came = AFTER.str.replace_all(rf"^{_ANY_SPACE}|{_ANY_SPACE}$", "")
    padded = (trimmed == BEFORE) & (came == BEFORE) & (AFTER != BEFORE)
    yield Spoilage("padding", "spaces at the ends", "sure", padded.fill_null(False), BEFORE.is_not_null(), came)
    yield alike("trimming", "spaces at the ends taken off", "mark", trimmed, AFTER, spreads=True)
    plain, plainly = (one.str.replace_all(_ODD_SPACE, " ") for one in (BEFORE, AFTER))
    odd = (plain == plainly) & (AFTER != BEFORE)
    yield Spoilage(
        "no-break spaces", "spaces of another kind", "sure", odd.fill_null(False), BEFORE.str.contains(r"\s"), plainly
    )
    breaks, there = (
        one.str.replace_all(r"\r*\n|\r|_x000D_\n?|(?:\\r)?\\n|<br ?/?>|\x{000B}|\x{2028}", "\n")
        for one in (BEFORE, AFTER)
    )
    other = (breaks == there) & (AFTER != BEFORE)
    yield Spoilage(
        "line ends",
        "line breaks in another form",
        "sure",
        other.fill_null(False),
        BEFORE.str.contains(r"[\r\n]"),
        there,
    )
    one_line = (BEFORE.str.replace_all(r"\s*[\r\n]+\s*", by) for by in (" ", "", ", ", "; ", " / "))
    yield one_of("line breaks", "line breaks taken out", "mark", *one_line, spreads=True)
    close, closer = (one.str.replace_all(_ANY_SPACE, " ").str.strip_chars() for one in (BEFORE, AFTER))
    yield alike("spaces", "several spaces made one", "mark", close, AFTER, spreads=True)
    wider = ((close == closer) & (BEFORE != AFTER)).fill_null(False)
    yield Spoilage(
        "wider spaces",
        "one space made several",
        "many",
        wider,
        BEFORE.str.contains(r"\S\s+\S").fill_null(False),
        closer,
    )
    none, nowhere = (one.str.replace_all(_ANY_SPACE, "") for one in (BEFORE, AFTER))
    yield alike("no spaces", "spaces put in or taken out", "many", none, nowhere)


def _marked_up() -> Iterator[Spoilage]:
    escaped = BEFORE.str.replace_many(list(_ENTITIES), list(_ENTITIES.values()))
    back = AFTER.str.replace_many([*_ENTITIES.values(), "&apos;", "&nbsp;"], [*_ENTITIES, "'", " "])
    yield one_of(
        "entities",
        "signs as HTML has them",
        "sure",
        escaped,
        escaped.str.replace_all("&#39;", "'", literal=True),
        mended=back,
    )
    quoted = BEFORE.str.replace_all('"', '""', literal=True)
    around = [
        pl.format(form, BEFORE)
        for form in (
            "'{}",
            '="{}"',
            '"{}"',
            "'{}'",
            "={}",
            "mailto:{}",
            "tel:{}",
            "http://{}",
            "https://{}",
            "http://{}/",
        )
    ]
    inner = AFTER.str.replace(r"^(?:=?\"|'|mailto:|tel:)", "").str.replace(r"[\"']$", "")
    yield one_of("wrapped", "signs put around", "sure", *around, pl.format('"{}"', quoted), BEFORE + "/", mended=inner)


def _put_before_and_behind() -> Iterator[Spoilage]:
    """The same put before or behind all texts, or other signs between letters and digits: people do that too."""
    filled = BEFORE.is_not_null()
    for ends, more, words in (
        (AFTER.str.ends_with(BEFORE), AFTER.str.strip_suffix(BEFORE), "the same put in front"),
        (AFTER.str.starts_with(BEFORE), AFTER.str.strip_prefix(BEFORE), "the same put behind"),
    ):
        longer = (ends & (AFTER != BEFORE)).fill_null(False)
        most = more.filter(longer).mode().min()
        hit = (longer & (more == most)).fill_null(False)
        yield Spoilage(words, words, "ask", hit, filled, suspect=AFTER.is_not_null())
    bare, barely = (one.str.replace_all(r"[^\p{L}\p{N}]", "") for one in (BEFORE, AFTER))
    same = (bare == barely) & (bare.str.len_bytes() > 0) & (BEFORE != AFTER)
    yield Spoilage("signs", "other signs between letters and digits", "ask", same.fill_null(False), filled)


def _cut() -> Iterator[Spoilage]:
    start = BEFORE.str.starts_with(AFTER) & (AFTER != BEFORE)
    known = AFTER.str.len_chars().is_in(list(_CUTS)) | AFTER.str.len_bytes().is_in([255, 256, 32767])
    most = AFTER.filter(start.fill_null(False)).str.len_chars().max()
    could = BEFORE.str.len_chars() > most
    yield Spoilage("cut", "ends cut off", "sure", (start & known).fill_null(False), could.fill_null(False))
    dots = AFTER.str.contains(r"(?:\.\.\.|…)$") & BEFORE.str.starts_with(AFTER.str.replace(r"(?:\.\.\.|…)$", ""))
    until = AFTER.filter(dots.fill_null(False)).str.len_chars().max()
    longer = (BEFORE.str.len_chars() > until).fill_null(False)
    yield Spoilage("shortened", "ends cut off", "many", dots.fill_null(False), longer)


def nothings() -> Iterator[Spoilage]:
    """What programs write where there is nothing, and what they take for nothing."""
    blank = BEFORE.is_null()
    yield Spoilage(
        "nothing",
        "words for nothing where there is nothing",
        "sure",
        blank & AFTER.is_in(list(_NOTHING)),
        blank,
        suspect=AFTER.is_in(list(_NOTHING)),
    )
    signs = AFTER.str.strip_chars(" -–—_.,?*/\\").str.len_chars() == 0
    zero = AFTER.str.contains(r"^0(?:[.,]0+)?$") | AFTER.is_in(["false", "FALSE", "FALSCH", "FAUX", "FALSO"])
    word = AFTER.str.to_lowercase().is_in(PLACEHOLDERS)
    yield Spoilage(
        "zeros for blanks", "blanks filled in", "ask", (blank & (signs | zero | word)).fill_null(False), blank
    )
    was = BEFORE.str.to_lowercase().is_in([*PLACEHOLDERS, "0", "-"])
    yield Spoilage(
        "taken for nothing",
        "words taken for nothing",
        "many",
        (was & AFTER.is_null()).fill_null(False),
        was.fill_null(False),
    )


def _capitals(field: Field) -> Iterator[Spoilage]:
    takes = field.type
    permitted = list(takes.permitted or ()) if isinstance(takes, TextType) else []
    as_permitted = None
    proof: Proof = "ask"
    if permitted and len({one.casefold() for one in permitted}) == len(permitted):
        small = AFTER.str.strip_chars().str.to_lowercase()
        as_permitted = small.replace_strict(
            {one.lower(): one for one in permitted}, default=None, return_dtype=pl.String
        )
        proof = "sure"
    small, came = (one.str.replace_all("ß", "ss").str.to_lowercase() for one in (BEFORE, AFTER))
    same = ((small == came) & (BEFORE != AFTER)).fill_null(False)
    could = BEFORE.str.contains(r"\p{L}").fill_null(False)
    flat = AFTER.str.contains(r"\p{L}") & ((AFTER.str.to_uppercase() == AFTER) | (AFTER.str.to_lowercase() == AFTER))
    yield Spoilage("capitals", "capitals", proof, same, could, as_permitted, flat)
    low = r"(?:^|[^\p{L}])\p{Ll}"
    first = (same & ~AFTER.str.contains(low)).fill_null(False)
    yield Spoilage(
        "first letters",
        "capitals of first letters",
        proof,
        first,
        BEFORE.str.contains(low).fill_null(False),
        as_permitted,
    )
