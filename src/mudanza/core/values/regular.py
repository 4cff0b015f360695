"""Regular expressions as layouts write them (ECMAScript, for a whole value), said in the words of the engine that runs them.

Source: CSV on the Web, "Model for Tabular Data and Metadata", section 6.4.6; ECMA-262, section "RegExp (Regular Expression) Objects".
The result is a pattern for Polars.
"""

from __future__ import annotations

import re

import polars as pl

_DIGIT, _WORD = "0-9", "A-Za-z0-9_"
_SPACE = r"\t\n\x0b\x0c\r \u00a0\u1680\u2000-\u200a\u2028\u2029\u202f\u205f\u3000\ufeff"
_CLASSES = {"d": _DIGIT, "w": _WORD, "s": _SPACE}
_CONTROLS = {"t": 0x09, "n": 0x0A, "v": 0x0B, "f": 0x0C, "r": 0x0D}
_LINE_ENDS = r"[^\n\r\u2028\u2029]"
_QUANTIFIER = re.compile(r"\{([0-9]+)(,([0-9]*))?\}")
#: as many repetitions as the engine can be asked for
_MOST = 100_000
_LOOKS = {"?=": "look-ahead", "?!": "look-ahead", "?<=": "look-behind", "?<!": "look-behind"}


class _Text:
    """A pattern under translation."""

    def __init__(self, text: str) -> None:
        self.text, self.at, self.groups = text, 0, 0

    def __bool__(self) -> bool:
        return self.at < len(self.text)

    def takes(self, words: str) -> bool:
        """Whether these come next; they are then passed."""
        if not self.text.startswith(words, self.at):
            return False
        self.at += len(words)
        return True

    def next(self) -> str:
        self.at += 1
        return self.text[self.at - 1]

    def hexadecimal(self, digits: int) -> int:
        found = self.text[self.at : self.at + digits]
        if not re.fullmatch(f"[0-9A-Fa-f]{{{digits}}}", found):
            raise ValueError(f"{digits} hexadecimal digits are needed after {self.text[: self.at][-2:]!r}")
        self.at += digits
        return int(found, 16)


def translated(pattern: str) -> str:
    """The pattern for a whole value, with `^(?:` before it and `)$` after it.

    Raises ValueError, in a few words, where it is no pattern, or one that cannot be run: look-ahead and look-behind, back references.
    """
    text, out = _Text(pattern), []
    if len(pattern) > 20_000:
        raise ValueError("it is too long")
    while text:
        out.append(_piece(text))
    if text.groups:
        raise ValueError("a bracket ( is not closed")
    made = f"^(?:{''.join(out)})$"
    try:
        pl.Series([""]).str.contains(made)
    except pl.exceptions.PolarsError as error:
        raise ValueError(_reason(str(error))) from None
    return made


def _reason(said: str) -> str:
    if "size limit" in said or "nest" in said:
        return "it is too large"
    last = said.strip().splitlines()[-1].removeprefix("error: ")
    return last[:80]


def _piece(text: _Text) -> str:
    sign = text.next()
    match sign:
        case "(":
            return _group(text)
        case ")":
            text.groups -= 1
            if text.groups < 0:
                raise ValueError("a bracket ) closes none")
            return ")"
        case "[":
            return _class(text)
        case "\\":
            return _escape(text)
        case ".":
            return _LINE_ENDS
        case "{":
            text.at -= 1
            found = _QUANTIFIER.match(text.text, text.at)
            if found is None:
                text.at += 1
                return r"\{"
            text.at = found.end()
            if max(int(number[:9]) for number in found.groups() if number and number.isdigit()) > _MOST:
                raise ValueError("it asks for too many repetitions")
            return found.group()
        case "^" | "$" | "|" | "*" | "+" | "?":
            return sign
    return _literal(ord(sign))


def _group(text: _Text) -> str:
    text.groups += 1
    if text.groups > 200:
        raise ValueError("it is nested too deeply")
    if text.takes("?:"):
        return "(?:"
    for words, what in _LOOKS.items():
        if text.takes(words):
            raise ValueError(f"{what} is not supported")
    if text.takes("?"):
        named = re.compile(r"<[A-Za-z_$][\w$]*>").match(text.text, text.at)
        if named is None:
            raise ValueError("(? begins nothing that ECMAScript knows")
        text.at = named.end()
    return "("


def _escape(text: _Text) -> str:
    """An escape outside of a class."""
    if not text:
        raise ValueError("it ends with a backslash")
    sign = text.next()
    if sign in _CLASSES:
        return f"[{_CLASSES[sign]}]"
    if sign.lower() in _CLASSES:
        return f"[^{_CLASSES[sign.lower()]}]"
    if sign == "b":
        return r"(?-u:\b)"
    if sign == "B":
        raise ValueError(r"\B is not supported")
    if sign in "123456789k":
        raise ValueError("back references are not supported")
    if sign in "pP":
        return _property(text, sign)
    return _literal(_code(text, sign))


def _property(text: _Text, sign: str) -> str:
    found = re.compile(r"\{[A-Za-z_]+(=[A-Za-z_]+)?\}").match(text.text, text.at)
    if found is None:
        raise ValueError(rf"\{sign} needs a property in braces")
    text.at = found.end()
    return rf"\{sign}{found.group()}"


def _code(text: _Text, sign: str) -> int:
    """The character that an escape stands for; `sign` follows the backslash."""
    if sign in _CONTROLS:
        return _CONTROLS[sign]
    if sign == "0":
        if text and text.text[text.at].isdigit():
            raise ValueError("octal escapes are not supported")
        return 0
    if sign == "x":
        return text.hexadecimal(2)
    if sign == "u":
        return _unicode(text)
    if sign == "c":
        letter = text.next() if text else ""
        if not re.fullmatch("[A-Za-z]", letter):
            raise ValueError(r"\c needs a letter")
        return ord(letter) % 32
    if sign.isalnum():
        raise ValueError(rf"\{sign} is nothing that ECMAScript knows")
    return ord(sign)


def _unicode(text: _Text) -> int:
    if text.takes("{"):
        found = re.compile(r"([0-9A-Fa-f]{1,6})\}").match(text.text, text.at)
        if found is None or int(found.group(1), 16) > 0x10FFFF:
            raise ValueError(r"\u{ needs the number of a character")
        text.at = found.end()
        code = int(found.group(1), 16)
    else:
        code = text.hexadecimal(4)
        if 0xD800 <= code < 0xDC00 and text.takes("\\u"):
            low = text.hexadecimal(4)
            if not 0xDC00 <= low < 0xE000:
                raise ValueError("half a character is no character")
            return 0x10000 + ((code - 0xD800) << 10) + (low - 0xDC00)
    if 0xD800 <= code < 0xE000:
        raise ValueError("half a character is no character")
    return code


def _literal(code: int) -> str:
    """A character that stands for itself, in a class or outside."""
    sign = chr(code)
    if sign.isascii() and not sign.isalnum() and sign.isprintable() and sign not in " _\"'<>/%,;:=!@`":
        return f"\\{sign}"
    if code < 0x20 or code == 0x7F:
        return f"\\x{code:02x}"
    return sign


def _class(text: _Text) -> str:
    negated = text.takes("^")
    items: list[tuple[str, int | None]] = []  # as it is written, and the character that it is, if it is one
    while True:
        if not text:
            raise ValueError("a bracket [ is not closed")
        if text.takes("]"):
            break
        item = _class_item(text)
        if item[1] is not None and text.text.startswith("-", text.at) and text.text[text.at + 1 : text.at + 2] != "]":
            text.at += 1
            if not text:
                raise ValueError("a bracket [ is not closed")
            last = _class_item(text)
            if last[1] is None:
                items += [item, (r"\-", 0x2D), last]
            elif last[1] < item[1]:
                raise ValueError(f"the range {chr(item[1])}-{chr(last[1])} is upside down")
            else:
                items.append((f"{item[0]}-{last[0]}", None))
            continue
        items.append(item)
    if not items:
        # nothing at all, or anything at all
        return r"[\x00-\U0010ffff]" if negated else r"[^\x00-\U0010ffff]"
    return f"[{'^' if negated else ''}{''.join(item for item, _ in items)}]"


def _class_item(text: _Text) -> tuple[str, int | None]:
    sign = text.next()
    if sign != "\\":
        return _literal(ord(sign)), ord(sign)
    if not text:
        raise ValueError("it ends with a backslash")
    sign = text.next()
    if sign in _CLASSES:
        return _CLASSES[sign], None
    if sign.lower() in _CLASSES:
        return f"[^{_CLASSES[sign.lower()]}]", None
    if sign in "pP":
        return _property(text, sign), None
    code = 8 if sign == "b" else _code(text, sign)
    return _literal(code), code
