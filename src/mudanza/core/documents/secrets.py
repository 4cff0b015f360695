"""Credentials, which no text shows: what is known to be one is taken out of everything that is said."""

from __future__ import annotations

import base64
import json
import re
from functools import cache
from pathlib import PurePath
from urllib.parse import quote, quote_plus

#: what stands in the place of one
HIDDEN = "…"
#: a word of any length is looked at once
_SCHEME = r"(?<![A-Za-z0-9+.-])([A-Za-z][A-Za-z0-9+.-]{1,30}:/{1,2})"
#: an address with credentials, as it stands in a text; paths have one slash less
_IN_ADDRESS = re.compile(_SCHEME + r"[^\s/'\"@:]*:[^\s'\"]*@")
#: one in an error, where it may be what somebody typed, with whatever signs before its last @
_TYPED = re.compile(_SCHEME + r"[^\n]*@")
_secrets: set[str] = set()
#: of those, the ones of which no piece is said either
_whole: set[str] = set()


def keep_secret(*texts: str, in_pieces: bool = True) -> None:
    """Never say a text from now on, nor a form of it that addresses, programs or JSON write; nor, `in_pieces`, what a
    driver makes of a part of it."""
    if in_pieces:
        _whole.update(set(texts) - {""})
    if not set(texts) - {""} <= _secrets:
        _secrets.update(set(texts) - {""})
        _pattern.cache_clear()


def without_secrets(words: str) -> str:
    """A text in which no credential stands, as it is or encoded."""
    words = _IN_ADDRESS.sub(rf"\1{HIDDEN}@", words)
    pattern = _pattern()
    return words if pattern is None else pattern.sub(HIDDEN, words)


def without_addresses(words: str) -> str:
    """An error's text, in which whatever stands before the @ of an address is a credential."""
    return without_secrets(_TYPED.sub(rf"\1{HIDDEN}@", words))


def without_pieces(words: str) -> str:
    """A text from elsewhere (of a driver, say) in which no piece of a credential stands either."""
    words = without_addresses(words)
    pieces = {piece for secret in _whole for piece in re.split(r"[\W_]+", secret)}
    # a short one stands everywhere, and is hidden as a word
    for piece in sorted(pieces - {""}, key=len, reverse=True):
        words = re.sub(_guarded(piece), HIDDEN, words)
    return words


def may_quote(file: str, text: str) -> bool:
    """Whether an error in a file may quote a text of it; of settings that speak of addresses or credentials nothing is
    quoted."""
    return PurePath(file).name != "mudanza.toml" or not re.search(r"://|passw|pwd|secret|token|credential", text, re.I)


@cache
def _pattern() -> re.Pattern[str] | None:
    forms = {form for secret in _secrets for form in _forms(secret)}
    return re.compile("|".join(_guarded(one) for one in sorted(forms, key=len, reverse=True))) if forms else None


def _guarded(text: str) -> str:
    return re.escape(text) if len(text) > 2 else rf"(?<!\w){re.escape(text)}(?!\w)"


def _forms(secret: str) -> set[str]:
    encoded = base64.b64encode(secret.encode()).decode()
    plain = {secret, quote(secret, safe=""), quote(secret), quote_plus(secret), encoded, encoded.rstrip("=")}
    return plain | {json.dumps(secret)[1:-1], json.dumps(secret, ensure_ascii=False)[1:-1], repr(secret)[1:-1]}
