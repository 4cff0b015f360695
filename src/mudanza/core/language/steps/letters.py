"""Steps on letters: capitals of names and sentences, Unicode forms, other alphabets, codes."""

from __future__ import annotations

import polars as pl

from mudanza.core.language.steps.alphabets import CYRILLIC, GERMAN, GREEK, STRAIGHT
from mudanza.core.language.steps.declaring import Call, Parameter, step
from mudanza.core.language.value import Value
from mudanza.core.values.kinds import Kind

_TEXT = Kind.TEXT
_PARTICLES = "de|da|do|dos|das|e|del|della|di|du|des|la|le|y|van|von|der|den|zu|ter|ten|bin|al"
_CAPITALS = [*"ABCDEFGHIJKLMNOPQRSTUVWXYZÀÁÂÄÅÆÇÈÉÊËÍÎÓÔÖØÚÜ"]


@step("upper", _TEXT, _TEXT, says="in capitals", examples=[("{A} -> upper", ("Évora 7",), "ÉVORA 7")])
def upper(value: Value, call: Call) -> Value:  # noqa: ARG001
    """All letters as capitals."""
    return value.map(value.expr.str.to_uppercase())


@step("lower", _TEXT, _TEXT, says="in small letters", examples=[("{A} -> lower", ("ÉVORA 7",), "évora 7")])
def lower(value: Value, call: Call) -> Value:  # noqa: ARG001
    """All letters as small ones."""
    return value.map(value.expr.str.to_lowercase())


@step(
    "title",
    _TEXT,
    _TEXT,
    says="each word with a capital",
    examples=[("{A} -> title", ("MARIA sousa-LIMA",), "Maria Sousa-Lima")],
)
def title(value: Value, call: Call) -> Value:  # noqa: ARG001
    """Each word with one capital. For names of people, `name` knows more."""
    return value.map(value.expr.str.to_titlecase())


@step(
    "sentence",
    _TEXT,
    _TEXT,
    Parameter("keep", "yes/no", False, option=True),
    says="with a capital at the beginning",
    examples=[
        ("{A} -> sentence", ("ÓCULOS DE SOL",), "Óculos de sol"),
        ("{A} -> sentence keep=yes", ("vaccine for FIV",), "Vaccine for FIV"),
    ],
)
def sentence(value: Value, call: Call, keep: bool) -> Value:
    """A capital at the beginning, all else small; with keep=yes, all else as it stands."""
    held = call.stages.hold(value, value.expr.str.strip_chars())
    first, rest = held.expr.str.head(1).str.to_uppercase(), held.expr.str.slice(1)
    return held.map(pl.concat_str(first, rest if keep else rest.str.to_lowercase()))


@step(
    "name",
    _TEXT,
    _TEXT,
    Parameter("particles", "text", _PARTICLES, option=True),
    Parameter("mixed", "yes/no", False, option=True),
    says="with capitals as in names",
    examples=[
        ("{A} -> name", ("JOÃO DE SOUSA-LIMA",), "João de Sousa-Lima"),
        ("{A} -> name", ("sean o'neil mccarthy",), "Sean O'Neil McCarthy"),
        ('{A} -> name particles="van"', ("anna van DE berg",), "Anna van De Berg"),
        ("{A} -> name mixed=yes", ("Anna MacLeod",), "Anna MacLeod"),
    ],
)
def name_(value: Value, call: Call, particles: str, mixed: bool) -> Value:
    """Capitals as names of people are written: a particle is small unless it comes first, and a capital follows Mc and O'. With mixed=yes, a
    text that has capitals and small letters already is left alone."""
    held = call.stages.hold(value, value.expr.str.strip_chars())
    text = held.expr
    plain = text.str.to_titlecase()
    # a letter that ends a word after an apostrophe is no name: Ana's
    plain = plain.str.replace_all(r"(['’])S\b", "${1}s")
    plain = plain.str.replace_many([f"Mc{c.lower()}" for c in _CAPITALS], [f"Mc{c}" for c in _CAPITALS])
    words = [word.strip() for word in particles.split("|") if word.strip()]
    if words:
        old = [f" {word.title()} " for word in words]
        new = [f" {word.lower()} " for word in words]
        # twice: particles that follow each other share a space
        plain = plain.str.replace_many(old, new).str.replace_many(old, new)
    if mixed:
        alone = text.str.contains(r"\p{Lu}") & text.str.contains(r"\p{Ll}")
        plain = pl.when(alone).then(text).otherwise(plain)
    return held.map(plain)


@step("letters", _TEXT, _TEXT, says="only the letters", examples=[("{A} -> letters", ("AB-12 ç",), "ABç")])
def letters(value: Value, call: Call) -> Value:  # noqa: ARG001
    """Only the letters, of any alphabet."""
    return value.map(value.expr.str.replace_all(r"\P{L}", ""))


@step("digits", _TEXT, _TEXT, says="only the digits", examples=[("{A} -> digits", ("+351 912-345",), "351912345")])
def digits(value: Value, call: Call) -> Value:  # noqa: ARG001
    """Only the digits."""
    return value.map(value.expr.str.replace_all(r"[^0-9]", ""))


def _class(call: Call, characters: str) -> str:
    """Characters and ranges (a-z) as the inside of a regular expression's class."""
    if not characters:
        raise call.fail("the characters are missing.", 'Write them in quotes, as in "A-Z0-9".')
    escaped, at = "", 0
    while at < len(characters):
        if len(characters) - at - 2 > 0 and characters[at + 1] == "-":
            low, high = characters[at], characters[at + 2]
            if low > high:
                raise call.fail(f'the range "{low}-{high}" runs backwards.', f'Write "{high}-{low}".')
            escaped += f"\\x{{{ord(low):x}}}-\\x{{{ord(high):x}}}"
            at += 3
        else:
            escaped += f"\\x{{{ord(characters[at]):x}}}"
            at += 1
    return escaped


@step(
    "only",
    _TEXT,
    _TEXT,
    Parameter("characters", "text"),
    says="only the characters {0}",
    examples=[('{A} -> only "0-9+"', ("+351 (91) 2",), "+351912"), ('{A} -> only "A-Z/-"', ("AB-12/c",), "AB-/")],
)
def only(value: Value, call: Call, characters: str) -> Value:
    """Only the characters given; a-z is a range, and a minus at either end stands for itself."""
    return value.map(value.expr.str.replace_all(f"[^{_class(call, characters)}]", ""))


@step(
    "without",
    _TEXT,
    _TEXT,
    Parameter("characters", "text"),
    says="without the characters {0}",
    examples=[('{A} -> without " .-"', ("12.34-5 6",), "123456")],
)
def without(value: Value, call: Call, characters: str) -> Value:
    """Takes out the characters given; a-z is a range, and a minus at either end stands for itself."""
    return value.map(value.expr.str.replace_all(f"[{_class(call, characters)}]", ""))


@step(
    "unaccent",
    _TEXT,
    _TEXT,
    says="without accents",
    examples=[("{A} -> unaccent", ("São João, Łódź",), "Sao Joao, Lodz")],
)
def unaccent(value: Value, call: Call) -> Value:  # noqa: ARG001
    """Letters without accents and other marks (Unicode NFKD)."""
    return value.map(_plain(value.expr))


def _plain(text: pl.Expr) -> pl.Expr:
    plain = text.str.normalize("NFKD").str.replace_all(r"\p{M}", "")
    return plain.str.replace_many(list(STRAIGHT), list(STRAIGHT.values()))


@step(
    "latin",
    _TEXT,
    _TEXT,
    Parameter("german", "yes/no", False, option=True),
    says="in Latin letters",
    examples=[
        ("{A} -> latin", ("Москва, Αθήνα",), "Moskva, Athina"),
        ("{A} -> latin", ("Jürgen Groß",), "Jurgen Gross"),
        ("{A} -> latin german=yes", ("Jürgen Groß",), "Juergen Gross"),
    ],
)
def latin(value: Value, call: Call, german: bool) -> Value:  # noqa: ARG001
    """Writes Greek and Cyrillic in Latin letters without accents. With german=yes, ä, ö and ü become ae, oe and ue."""
    table = {**CYRILLIC, **GREEK, **(GERMAN if german else {})}
    composed = value.expr.str.normalize("NFC").str.replace_many(list(table), list(table.values()))
    return value.map(_plain(composed))


@step(
    "unicode",
    _TEXT,
    _TEXT,
    Parameter("form", "text", choices=("NFC", "NFD", "NFKC", "NFKD")),
    says="in Unicode form {0}",
    examples=[('{A} -> unicode "NFC"', ("e\u0301",), "é"), ('{A} -> unicode "NFKC"', ("№ １２",), "No 12")],
)
def unicode(value: Value, call: Call, form: str) -> Value:  # noqa: ARG001
    """The text in a Unicode normal form: NFC joins letters and their accents, NFKC also makes plain what only looks different."""
    return value.map(value.expr.str.normalize(form))  # type: ignore[arg-type]


@step(
    "code",
    _TEXT,
    _TEXT,
    Parameter("fill", "text", "", option=True),
    Parameter("lower", "yes/no", False, option=True),
    says="as a plain code",
    examples=[
        ("{A} -> code", (" ab-12/ç ",), "AB12C"),
        ('{A} -> code fill="-"', ("Raça: São Bernardo!",), "RACA-SAO-BERNARDO"),
        ('{A} -> code fill="_" lower=yes', ("Client No.",), "client_no"),
    ],
)
def code(value: Value, call: Call, fill: str, lower: bool) -> Value:  # noqa: ARG001
    """A text as a code may be written: plain capitals and digits. What stands between them is left out, or becomes one `fill`."""
    plain = _plain(value.expr).str.to_uppercase()
    plain = plain.str.replace_all(r"[^A-Z0-9]+", " ").str.strip_chars().str.replace_all(" ", fill, literal=True)
    return value.map(plain.str.to_lowercase() if lower else plain)
