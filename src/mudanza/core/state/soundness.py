"""Whether a ledger holds what can have been written there; asked when something failed that nobody foresaw."""

from __future__ import annotations

from mudanza.core.documents.errors import LedgerError
from mudanza.core.plans.move import Move
from mudanza.core.state.evidence import ledger_of
from mudanza.core.state.ledger import Ledger

#: the columns that hold moments, and JSON
_MOMENTS = {"started", "ended", "lent", "accepted", "moment", "as_of"}
_JSON = {("runs", "counts"), ("runs", "read"), ("runs", "written"), ("loans", "detail"), ("key_entries", "detail"), ("handed_over", "counts")}  # fmt: skip


def damage(move: Move) -> LedgerError | None:
    """The error that says how the ledger of a project is damaged; None if nothing shows that it is."""
    ledger = ledger_of(move, checked=False)
    if not ledger.exists():
        return None
    try:
        found = _damaged_column(ledger)
    except LedgerError as error:
        return error
    return None if found is None else ledger.damaged(f"{found} is not what was written there")


def _damaged_column(ledger: Ledger) -> str | None:
    words = ledger.ask("PRAGMA quick_check(1)")[0][0]
    if words != "ok":
        return str(words)
    for (table,) in ledger.ask("SELECT name FROM sqlite_master WHERE type = 'table' AND name NOT LIKE 'sqlite%'"):
        for _, column, declared, needed, *_ in ledger.ask(f'PRAGMA table_info("{table}")'):
            value = f'"{column}"'
            wrong = [f"typeof({value}) <> '{declared.lower()}'"]
            if column in _MOMENTS:
                wrong += [f"date({value}) IS NULL", f"length({value}) < 10"]
            if (table, column) in _JSON:
                wrong.append(f"NOT json_valid({value})")
            where = f"({' OR '.join(wrong)})" + ("" if needed else f" AND {value} IS NOT NULL")
            if ledger.ask(f'SELECT 1 FROM "{table}" WHERE {where} LIMIT 1'):
                return f"{table}.{column}"
    files = (file for run in ledger.runs() for file in (*run.read, *run.written))
    whole = all(isinstance(file, dict) and {"path", "size", "sha256"} <= file.keys() for file in files)
    return None if whole else "runs.written"
