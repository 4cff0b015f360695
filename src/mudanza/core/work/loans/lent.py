"""What was lent: a loan of records as the ledger and its folder remember it."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from pathlib import Path

import polars as pl

from mudanza.core.documents.errors import LoanError, Place, unknown
from mudanza.core.layouts.csvw import read_layout
from mudanza.core.layouts.layout import Field, Layout
from mudanza.core.layouts.rules import blank_in_file
from mudanza.core.plans.move import Move
from mudanza.core.sinks import csv_text
from mudanza.core.sinks.formats import sink_of
from mudanza.core.state.evidence import LENT
from mudanza.core.state.ledger import Ledger
from mudanza.core.state.loans import ADDED, RECORD, REMOVED, accepted_from, all_loans, noted_loan
from mudanza.core.values.digest import digest_of, mark_of
from mudanza.core.values.hashing import fixed_hash
from mudanza.core.values.row_columns import BETWEEN, INNER, LINE, key_text, shown_key

#: Name of the column that holds a row's key as one text (`key_text`); null where it is blank.
KEY = f"{INNER}key"
#: and of the one that numbers the records as they were lent; it does not change when some are removed or added later
ROW = f"{INNER}row"
#: what a new record without a key is known by begins with; no key can
ROW_MARK = f"{INNER}row "
#: beside the records' own columns, which may have any other name
#: the layout as it was when records were lent by it
LAYOUT = "layout.json"
#: what loans of held-back rows are called behind the name of their list, and the column that says why they were held back
OF_HELD_BACK, WHY_HELD = ".held-back", "(why)"
_AFTER, _HIT = f"{INNER}after", f"{INNER}hit"


@dataclass(frozen=True)
class Lent:
    """A loan of records: its name, what it is of, when it was lent and whether it is `out` still; the layout, the lent fields (the key's first), the file
    that the records came from (with its digest then), and the records with their `KEY`: as they were lent (`first`), and with what was accepted from the loan since (`before`)."""

    id: str
    subject: str
    moment: str
    state: str
    layout: Layout
    fields: list[Field]
    file: str
    file_sha256: str
    first: pl.DataFrame
    before: pl.DataFrame
    #: what was accepted from it already: keys of records removed, and new records that the target gives their key
    removed: tuple[str, ...] = ()
    added: tuple[str, ...] = ()
    #: the layout of the list as it is now, if it is another
    changed_layout: Layout | None = None
    masked: tuple[str, ...] = ()
    locked: tuple[str, ...] = ()
    #: what was written on its headings
    notes: tuple[str, ...] = ()
    #: by what the rows of this loan are marked, beside its name
    mark: str = ""
    #: whether texts that a spreadsheet program would run were lent with an apostrophe in front
    quoted: bool = False

    @property
    def held_back(self) -> bool:
        """Whether they are records that a build held back, lent to be corrected."""
        return is_of_held_back(self.subject)

    @property
    def keys(self) -> list[Field]:
        return key_fields(self.layout)

    @property
    def present_layout(self) -> Layout:
        """The layout of the list as it is now."""
        return self.changed_layout or self.layout


def open_loan(move: Move, ledger: Ledger, name: str, shown: str) -> Lent:
    """A loan by its name. Raises LoanError if it is unknown (`shown` is the workbook that names it), or what was lent was changed."""
    known = noted_loan(ledger, name)
    if known is None:
        names = [one.id for one in all_loans(ledger)]
        raise LoanError(unknown("loan", name, names), place=Place(shown), hint="Is it a loan of another move folder?")
    detail = known.detail
    kept = folder_of(move, name) / LAYOUT
    layout = read_layout(kept if kept.is_file() else move.path(detail["layout"]))
    snapshot = folder_of(move, name) / LENT
    if not snapshot.is_file() or digest_of(snapshot).sha256 != detail["lent"]:
        raise LoanError(
            "the record of what was lent is missing or was changed.",
            place=Place(str(snapshot)),
            hint="Restore it from a backup.",
        )
    rows = (
        _plain(snapshot) if detail.get("plain") else read_records(snapshot, layout, move.shown(snapshot), as_lent=True)
    )
    before = keyed(rows, key_fields(layout))
    before = before.with_row_index(ROW).with_columns(pl.col(ROW).cast(pl.Int64))
    fields = [layout.field_named(title) for title in detail["columns"]]
    lent = Lent(
        name,
        known.subject,
        known.lent,
        known.state,
        layout,
        fields,
        detail["file"],
        detail["file_sha256"],
        before,
        before,
        mark=mark_of(detail["lent"]),
        changed_layout=_changed(kept, move.path(detail["layout"])),
        masked=tuple(detail.get("masked", ())),
        locked=tuple(detail.get("locked", ())),
        notes=tuple(detail.get("notes", ())),
        quoted=bool(detail.get("quoted")),
    )
    return _with_accepted(lent, accepted_from(ledger, name))


def _changed(kept: Path, present: Path) -> Layout | None:
    """The layout of a list, if it is another than the one that was kept with a loan."""
    if not kept.is_file() or not present.is_file() or kept.read_bytes() == present.read_bytes():
        return None
    return read_layout(present)


def _plain(snapshot: Path) -> pl.DataFrame:
    """What was lent, as it was kept: plain CSV, whatever the layout says."""
    rows = pl.read_csv(snapshot, infer_schema=False, empty_string_is_null=True)
    return rows.with_columns(pl.int_range(2, pl.len() + 2, dtype=pl.Int64).alias(LINE))


def _with_accepted(lent: Lent, cells: list[tuple[str, str, str | None]]) -> Lent:
    """A loan with what was accepted from it already, so that only what is new comes of another return."""
    if not cells:
        return lent
    own = pl.DataFrame(cells, schema={"key": pl.String, "field": pl.String, "after": pl.String}, orient="row")
    own = own.unique(["key", "field"], keep="last", maintain_order=True)
    whole = own.filter(pl.col("field") == RECORD)
    removed, added = (whole.filter(pl.col("after") == what)["key"] for what in (REMOVED, ADDED))
    with_key = pl.DataFrame({KEY: own.filter(pl.col("field") != RECORD)["key"].unique(maintain_order=True)})
    with_key = with_key.filter(pl.col(KEY).is_in(added.implode()))
    before = pl.concat([lent.before, with_key], how="diagonal")
    before = with_changes(before, own.filter(pl.col("field") != RECORD))
    # records that were added since are numbered on
    first = lent.before.height
    later = pl.col(ROW).is_null().cum_sum() + (first - 1)
    before = before.with_columns(pl.coalesce(ROW, later.cast(pl.Int64)).alias(ROW))
    before = before.filter(~pl.col(KEY).is_in(removed.implode()))
    return replace(lent, before=before, removed=tuple(removed), added=tuple(added))


def with_changes(records: pl.DataFrame, cells: pl.DataFrame) -> pl.DataFrame:
    """Records (with their `KEY`) with other texts in some cells: columns key, field, after."""
    for title in cells["field"].unique(maintain_order=True):
        after = cells.filter(pl.col("field") == title).select(
            pl.col("key").alias(KEY), pl.col("after").alias(_AFTER), pl.lit(True).alias(_HIT)
        )
        records = records.join(after, on=KEY, how="left", maintain_order="left")
        records = records.with_columns(pl.when(pl.col(_HIT)).then(_AFTER).otherwise(title).alias(title))
        records = records.drop(_AFTER, _HIT)
    return records


def row_mark(titles: Sequence[str]) -> pl.Expr:
    """By what a new record without a key is known again: its texts."""
    return pl.format(f"{ROW_MARK}{{}}", fixed_hash([pl.col(title) for title in titles]))


def folder_of(move: Move, loan: str) -> Path:
    """Where the files of a loan stand."""
    if Path(loan).name != loan or loan.startswith("."):
        raise LoanError(f"{loan!r} cannot be the name of a loan.", hint="`mudanza ledger --loans` lists the loans.")
    return move.folder / "loans" / loan


def keyed(rows: pl.DataFrame, keys: list[Field]) -> pl.DataFrame:
    """Rows with their key."""
    parts = [pl.col(f.title).str.strip_chars() for f in keys]
    filled = pl.all_horizontal([part.is_not_null() for part in parts])
    return rows.with_columns(pl.when(filled).then(key_text(parts)).alias(KEY))


def is_of_held_back(subject: str) -> bool:
    """Whether what was lent under a name are records that a build held back."""
    return subject.endswith(OF_HELD_BACK)


def shown_text(key: str) -> str:
    """A key as people write it."""
    return ", ".join(key_parts(key))


def key_parts(key: str) -> list[str]:
    """The texts of a key's fields."""
    return key.split(BETWEEN)


def read_records(path: Path, layout: Layout, shown: str, *, as_lent: bool = False) -> pl.DataFrame:
    """A whole file as text columns named by the layout's titles, plus `#line`; of what was lent the snapshot, which is a CSV whatever form the layout says.

    Raises LoanError if a row is damaged, a column is missing, or a key is blank or repeated: such a file cannot
    be lent or compared.
    """
    rows = (csv_text if as_lent else sink_of(layout)).read(path, layout, shown, LoanError)
    check = f"`mudanza check {shown} --layout {layout.path.stem}` tells everything that is wrong."
    keys = key_fields(layout)
    blank = rows.filter(pl.any_horizontal([blank_in_file(f, pl.col(f.title)) for f in keys]))
    if blank.height:
        raise LoanError(f"the key {keys[0].title!r} is blank.", place=Place(shown, blank[LINE][0]), hint=check)
    twice = rows.filter(pl.struct([f.title for f in keys]).is_duplicated())
    if twice.height:
        value = twice.select(shown_key(key_text([pl.col(f.title) for f in keys]))).item(0, 0)
        raise LoanError(f"the key {value!r} stands twice.", place=Place(shown, twice[LINE][1]), hint=check)
    return rows


def key_fields(layout: Layout) -> list[Field]:
    """The fields of the primary key. Raises LoanError if the layout has none."""
    if not layout.primary_key:
        raise LoanError(
            "the layout has no primary key, so a returned row could not be matched.",
            place=Place(str(layout.path)),
            hint='Add "primaryKey" to its tableSchema.',
        )
    return [layout.field_named(name) for name in layout.primary_key]
