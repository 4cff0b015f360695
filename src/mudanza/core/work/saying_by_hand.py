"""Saying of single rows, after a look at them, that they do not go, or that they do although the plan says no."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import date
from pathlib import Path
from typing import Any

from mudanza.core.disk.files import Outputs
from mudanza.core.documents.errors import MoveError
from mudanza.core.plans.by_hand_files import REASON, WHO, by_hand_path
from mudanza.core.plans.move import Move
from mudanza.core.plans.own_tables import own_entries, own_headings, own_text
from mudanza.core.values.row_columns import LINE, SOURCE
from mudanza.core.work.choosing import Choice, choose
from mudanza.core.work.prepared import prepare

_MOST = 50


@dataclass(frozen=True)
class SaidNow:
    """What was written: the file, and for each row the columns by which it is found, with their texts."""

    file: str
    rows: list[dict[str, str]]


def say_by_hand(
    move: Move,
    name: str,
    key: str,
    reason: str,
    *,
    goes: bool = False,
    who: str | None = None,
    source: str | None = None,
    as_of: date | None = None,
    parameters: dict[str, str] | None = None,
) -> SaidNow:
    """Write down that the rows of a record do not go or, if it `goes`, that they do. The record is named by its new or its old identifier; its rows are found by what their source says of
    them, so that it holds for an identifier that was not given yet.

    Raises MoveError where no row has the key, rows of several sources have it, or it was said before.
    """
    if not reason.strip():
        raise MoveError("a reason is needed.", hint="Say why in a few words, in quotes.")
    ready = prepare(move, name, as_of=as_of, parameters=parameters, for_few=True)
    columns = sorted({c for made in ready.recipe.key_fields for c in made.columns if not c.startswith("#")})
    rows: list[dict[str, Any]] = []
    for _, some, _ in choose(ready, Choice(_MOST, key=key), lambda _, rows, __: rows[LINE], source):
        rows += some.select(SOURCE, *columns).to_dicts()
    if not rows or not columns:
        raise MoveError(
            f"no row of {name} has the key {key!r}.", hint=f"`mudanza preview {name}` shows rows with their keys."
        )
    sources = list(dict.fromkeys(row[SOURCE] for row in rows))
    if len(sources) > 1:
        raise MoveError(
            f"{key!r} is a key of {' and of '.join(sources)}, which need not be the same record.",
            hint=f"Say which is meant: --source {sources[0]}; or name the record by its new identifier.",
        )
    several = len(ready.plan.sources) > 1
    meant = []
    for row in rows:
        texts = {column: str(row[column]).strip() for column in columns if (row[column] or "").strip()}
        texts = {SOURCE: row[SOURCE], **texts} if several else texts
        if texts not in meant:
            meant.append(texts)
    path = by_hand_path(move, name, goes=goes)
    with move.files.lock():
        _write(move, path, meant, reason.strip(), who)
    return SaidNow(move.shown(path), meant)


def _write(move: Move, path: Path, meant: list[dict[str, str]], reason: str, who: str | None) -> None:
    known = own_entries(path) if path.is_file() else []
    headings = own_headings(path, (REASON,)) if path.is_file() else []
    for line, texts in known:
        before = {name: text for name, text in texts.items() if text and name not in (REASON, WHO)}
        if before in meant:
            raise MoveError(
                f"it was said before, in line {line} of {path.name}: {texts[REASON]}.", hint="Edit the line there."
            )
    finding = list(
        dict.fromkeys([*(h for h in headings if h not in (REASON, WHO)), *(c for texts in meant for c in texts)])
    )
    columns = [*finding, REASON, WHO]
    entries = [texts for _, texts in known] + [{**texts, REASON: reason, WHO: who or ""} for texts in meant]
    with Outputs(move.files) as outputs:
        outputs.create_text(path, own_text(columns, [[texts.get(c, "") for c in columns] for texts in entries]))
        outputs.publish()
