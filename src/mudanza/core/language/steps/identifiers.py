"""Steps on identifiers: check digits, UUIDs made from a name, capitals kept apart where the target does not tell them apart."""

from __future__ import annotations

import uuid as uuids

import polars as pl
import polars_hash  # noqa: F401  adds the hashes to expressions

from mudanza.core.language.steps.declaring import Call, Parameter, step
from mudanza.core.language.value import Value, combined
from mudanza.core.values.case_safe import MARK, pairs, pairs_back
from mudanza.core.values.check_digits import SCHEMES, check_is_right, with_check_characters
from mudanza.core.values.kinds import Kind, plain_text

_TEXT = Kind.TEXT
_SCHEME = Parameter("scheme", "text", choices=tuple(SCHEMES))


@step(
    "check-digits",
    _TEXT,
    _TEXT,
    _SCHEME,
    says="with check digits by {0}",
    examples=[
        ('{A} -> check-digits "luhn"', ("7992739871",), "79927398713"),
        ('{A} -> check-digits "mod 37,36"', ("OW-0001",), "OW-0001X"),
        ('{A} -> check-digits "iban"', ("GBWEST12345698765432",), "GB82WEST12345698765432"),
    ],
)
def check_digits(value: Value, call: Call, scheme: str) -> Value:
    """Adds the check digits of a published standard: Luhn, GTIN (also EAN and other numbers of GS1), Verhoeff, the systems of ISO 7064, or, after the country, those of an IBAN. Hyphens, dots,
    slashes and spaces are passed over. A text with characters that the standard does not know is a finding."""
    rule = f"characters that {scheme} takes"
    return call.attempt(value, lambda text: with_check_characters(text, scheme), _TEXT, "flow.no-check-digits", rule)


@step(
    "verify",
    _TEXT,
    _TEXT,
    _SCHEME,
    says="whose check digits by {0} are right",
    examples=[('{A} -> verify "iban"', ("PT50 0002 0123 1234 5678 9015 4",), "PT50 0002 0123 1234 5678 9015 4")],
)
def verify(value: Value, call: Call, scheme: str) -> Value:
    """Hands a text on whose check digits are right by a published standard; another is a finding."""

    def work(text: pl.Expr) -> pl.Expr:
        return pl.when(check_is_right(text, scheme)).then(text)

    return call.attempt(value, work, _TEXT, "flow.wrong-check-digits", f"right by {scheme}")


@step(
    "uuid",
    tuple(Kind),
    _TEXT,
    Parameter("namespace", "text"),
    several=True,
    says="as a UUID made from the name",
    examples=[('"north", {A} -> uuid "practice.example"', ("1001",), "195c3bd7-bc51-51e9-8d32-d91a7442513f")],
)
def uuid(values: list[Value], call: Call, namespace: str) -> Value:
    """A UUID of version 5 (RFC 9562, section 5.5), made from the values, which are joined by slashes: the same for the same values, in every run and on every machine. The namespace is a
    UUID, or a domain name that stands for one."""
    space = _namespace(namespace)
    if space is None:
        raise call.fail(f"{namespace!r} is no namespace.", 'Write a UUID, or a domain name: "practice.example".')
    parts = [plain_text(v.expr, v.kind).str.strip_chars() for v in values]
    blank = parts[-1].is_null() | (parts[-1].str.len_bytes() == 0)
    name = call.stages.hold(
        combined(values, pl.when(~blank).then(pl.concat_str([p.fill_null("") for p in parts], separator="/")), _TEXT)
    )
    bytes_ = (pl.lit(space.hex) + name.expr.cast(pl.Binary).bin.encode("hex")).str.decode("hex")
    digest = call.stages.hold(name, bytes_.nchash.sha1())  # type: ignore[attr-defined]
    variant = digest.expr.str.slice(16, 1).replace_strict(
        list("0123456789abcdef"), list("89ab" * 4), return_dtype=pl.String
    )
    pieces = [digest.expr.str.slice(at, length) for at, length in ((0, 8), (8, 4), (13, 3), (17, 3), (20, 12))]
    return digest.map(pl.format("{}-{}-5{}-{}{}-{}", *pieces[:3], variant, *pieces[3:]))


def _namespace(text: str) -> uuids.UUID | None:
    try:
        return uuids.UUID(text)
    except ValueError:
        return uuids.uuid5(uuids.NAMESPACE_DNS, text) if text.strip() and " " not in text else None


@step(
    "case-safe",
    _TEXT,
    _TEXT,
    says="with its capitals marked",
    examples=[("{A} -> case-safe", ("K17b",), "_k17b"), ("{A} -> case-safe", ("k_17",), "k__17")],
)
def case_safe(value: Value, call: Call) -> Value:
    """Writes a text so that it differs from every other one also where the target does not tell capitals from small letters: a capital becomes _ and the small letter, and _ becomes __.
    `case-back` is the way back. A capital that has no small letter of its own is a finding."""
    held = call.stages.hold(value, value.expr.str.replace_many(pairs()))
    left = held.expr.str.contains(r"\p{Lu}|\p{Lt}").fill_null(False)
    return call.note(held, left, "flow.not-case-safe", "capitals with a small letter of their own", held.expr)


@step(
    "case-back",
    _TEXT,
    _TEXT,
    says="with marked capitals as such",
    examples=[("{A} -> case-back", ("_k17b",), "K17b"), ("{A} -> case-back", ("k__17",), "k_17")],
)
def case_back(value: Value, call: Call) -> Value:
    """The way back from `case-safe`. A text that `case-safe` did not make is a finding."""
    held = call.stages.hold(value)
    gone = dict.fromkeys(pairs_back(), "")
    wrong = held.expr.str.replace_many(gone).str.contains(rf"{MARK}|\p{{Lu}}").fill_null(False)
    made = held.map(held.expr.str.replace_many(pairs_back()))
    return call.note(made, wrong, "flow.not-case-safe", "as case-safe writes it", held.expr)
