"""Frames kept in the ledger, each with a digest of its bytes and of what it is of, so that damage is told instead of believed."""

from __future__ import annotations

import hashlib
import io

import polars as pl

from mudanza.core.documents.errors import LedgerError, Place
from mudanza.core.state.ledger import Ledger

#: what the bodies begin with that carry a digest; those of earlier versions are bare Arrow files
_MARK = b"digest1\n"
_SIZE = hashlib.sha256().digest_size


def packed(frame: pl.DataFrame, *of: str | int) -> bytes:
    """A frame as a body (Arrow IPC, compressed with zstd) that says whether it is whole and `of` what it is."""
    body = io.BytesIO()
    frame.write_ipc(body, compression="zstd")
    return _MARK + _digest(body.getvalue(), of) + body.getvalue()


def unpacked(ledger: Ledger, body: bytes, *of: str | int) -> pl.DataFrame:
    """The frame of a body. Raises LedgerError where it is not the one that was packed."""
    rest = body
    if body.startswith(_MARK):
        start = len(_MARK) + _SIZE
        rest = body[start:]
        if body[len(_MARK) : start] != _digest(rest, of):
            raise _damaged(ledger)
    try:
        return pl.read_ipc(io.BytesIO(rest))
    # of what earlier versions kept, damage shows when it is read, or not at all; some of it makes the reader panic
    except BaseException as error:
        if isinstance(error, KeyboardInterrupt | SystemExit | MemoryError):
            raise
        raise _damaged(ledger) from error


def _digest(body: bytes, of: tuple[str | int, ...]) -> bytes:
    return hashlib.sha256("\n".join(map(str, of)).encode() + b"\n" + body).digest()


def _damaged(ledger: Ledger) -> LedgerError:
    return LedgerError(
        "the ledger is damaged: what it keeps is not what was written.",
        place=Place(str(ledger.path)),
        hint="Bring .mudanza/ledger.sqlite back from a backup; records would be given other identifiers with this one.",
    )
