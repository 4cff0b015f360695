"""Lending: chosen rows and columns of records in a file that helps people not to break anything."""

from __future__ import annotations

import json
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

import polars as pl

from mudanza.core.disk.files import OutFile, Outputs
from mudanza.core.documents.errors import LoanError, Place, unknown
from mudanza.core.layouts.csvw import read_layout
from mudanza.core.layouts.dialect import Dialect
from mudanza.core.layouts.form import CSV, ODS, QUOTED, Form
from mudanza.core.layouts.layout import Field, Layout
from mudanza.core.layouts.types import TextType
from mudanza.core.plans.move import Move
from mudanza.core.sinks import csv_text
from mudanza.core.sinks.markup import FORBIDDEN
from mudanza.core.sinks.ods import OdsWriter, Page
from mudanza.core.sinks.sheet_cells import MOST_CHARACTERS
from mudanza.core.sinks.writer import Writer
from mudanza.core.state.evidence import LENT, ledger_of
from mudanza.core.state.ledger import Ledger
from mudanza.core.state.loans import all_loans, last_change, note_loan, noted_loan
from mudanza.core.state.running import running, settle
from mudanza.core.values.digest import Digest, digest_of
from mudanza.core.values.row_columns import INNER
from mudanza.core.work.check import check
from mudanza.core.work.crosswalks.proposing import fold
from mudanza.core.work.loans.choosing import Choice, ChosenFields, chosen_fields, chosen_rows, with_findings
from mudanza.core.work.loans.lent import KEY, LAYOUT, ROW, Lent, open_loan
from mudanza.core.work.loans.loan_book import (
    MARKS,
    REMOVAL,
    SLIP,
    Lending,
    explanation,
    most_rows,
    notes_on,
    workbook_pieces,
)
from mudanza.core.work.loans.masks import masked
from mudanza.core.work.loans.present import present_records

XLSX_FILE, ODS_FILE, CSV_FILE, TSV_FILE = FORMS = (".xlsx", ".ods", ".csv", ".tsv")
_OF_TEXT = (CSV_FILE, TSV_FILE)


@dataclass(frozen=True)
class Subject:
    """What is lent: its name, the file in which its records stand, and their layout."""

    name: str
    path: Path
    layout: Layout


@dataclass(frozen=True)
class Loan:
    """A loan as it was made, and to `whom`. `fields` are the lent field titles, the key's first; `needed` those that a new record needs and that were not lent, so that none can be added; `left_out` those whose texts no
    sheet can hold."""

    id: str
    subject: str
    workbook: str
    rows: int
    fields: list[str]
    needed: list[str]
    locked: list[str]
    masked: list[str]
    left_out: list[str]
    whom: str | None = None


def lend(
    move: Move, subject: Subject, choice: Choice, *, to: Path | None = None, whom: str | None = None
) -> list[Loan]:
    """Lend records: one loan, or one for each value of the field that the choice says. They appear at `to` (a file that ends in one of `FORMS`, or a folder for several), or in the move's `loans/`.

    Raises LoanError where nothing fits, LanguageError where the condition is wrong.
    """
    ledger = ledger_of(move)
    settle(ledger)
    shown = move.shown(subject.path)
    if not subject.path.is_file():
        raise LoanError(
            f"{subject.name} has not been built yet, or the file is elsewhere.",
            place=Place(shown),
            hint=f"Build it first (mudanza build {subject.name}), or name the file.",
        )
    fields = chosen_fields(subject.layout, choice)
    records = present_records(ledger, subject.name, subject.path, subject.layout, shown)
    if choice.found is not None:
        told = check(subject.path, subject.layout, shown=shown).findings
        records = with_findings(records, told, choice.found)
    earlier = open_loan(move, ledger, choice.again, shown) if choice.again is not None else None
    if earlier is not None:
        records = records.filter(pl.col(KEY).is_in(earlier.before[KEY].implode()))
    records = chosen_rows(records, subject.layout, choice, shown, move.parameters)
    ending = to.suffix.lower() if to is not None and to.suffix else XLSX_FILE
    if ending not in FORMS:
        raise LoanError(
            f"records cannot be lent as {ending}.",
            place=Place(str(to)),
            hint=f"End the name in one of {', '.join(FORMS)}.",
        )
    parts = _parts(records, subject.layout, choice, shown)
    if choice.by is not None and to is not None and to.suffix:
        raise LoanError(f"{to.name} is one file, and --by makes several.", place=Place(str(to)), hint="Name a folder.")
    named, read = [to] if to is not None else [], [subject.path, subject.layout.path]
    with running(ledger, "lend", subject.name, to=named, inputs=read) as run:
        maker = _Maker(move, ledger, run.id, subject, choice, fields, ending, earlier)
        outputs = run.outputs
        source = digest_of(subject.path, shown)
        names = _names([value for value, _ in parts])
        made = [
            maker.make(outputs, f"{subject.name}-{run.id}{name}", rows, to, value if whom is None else whom, source)
            for name, (value, rows) in zip(names, parts, strict=True)
        ]
        written = [digest for _, digests in made for digest in digests]
        loans = [loan for loan, _ in made]
        if choice.by is not None:
            written.append(_index(move, outputs, run.id, subject.name, choice.by, loans, to))
        counts = {"read": records.height, "written": records.height}
        run.commit(counts, [source.as_dict()], [one.as_dict() for one in written])
    return loans


def _parts(records: pl.DataFrame, layout: Layout, choice: Choice, shown: str) -> list[tuple[str | None, pl.DataFrame]]:
    """The records of each loan, with the value that they have in common. Raises LoanError where one has too many."""
    parts: list[tuple[str | None, pl.DataFrame]] = [(None, records)]
    if choice.by is not None:
        title = layout.field_named(choice.by).title
        parted = records.with_columns(pl.col(title).fill_null("")).partition_by(
            title, as_dict=True, maintain_order=True
        )
        parts = [(str(value), records.filter(pl.col(title).fill_null("") == value)) for (value,) in parted]
    most = max(rows.height for _, rows in parts)
    if most > most_rows():
        raise LoanError(
            f"{most:,} rows were chosen, and a sheet holds {most_rows():,}.",
            place=Place(shown),
            hint="Choose fewer with --where, or part them with --by.",
        )
    return parts


@dataclass(frozen=True)
class _Maker:
    move: Move
    ledger: Ledger
    run: int
    subject: Subject
    choice: Choice
    chosen: ChosenFields
    ending: str
    earlier: Lent | None = None

    def make(
        self, outputs: Outputs, loan: str, records: pl.DataFrame, to: Path | None, whom: str | None, source: Digest
    ) -> tuple[Loan, list[Digest]]:
        """One loan: what was lent, its layout, its file, and its note in the ledger."""
        move, subject, chosen = self.move, self.subject, self.chosen
        home = move.folder / "loans"
        final = to if to is not None and to.suffix else (to or home) / f"{loan}{self.ending}"
        snapshot = outputs.create(home / loan / LENT)
        writer = csv_text.RowWriter([f.title for f in subject.layout.fields])
        snapshot.write(writer.head())
        snapshot.write(writer.rows(records))
        kept = outputs.create(home / loan / LAYOUT)
        kept.write(subject.layout.path.read_bytes())
        digest = snapshot.digest(move.shown(home / loan / LENT))
        left_out = [] if self.ending in _OF_TEXT else _unheld(chosen.fields, records, self.ending)
        fields = [f for f in chosen.fields if f.title not in left_out]
        if unheld := [f.title for f in chosen.keys if f.title in left_out]:
            raise LoanError(
                f"{unheld[0]} is of the key, and has texts that no sheet holds.",
                place=Place(source.path),
                hint="Lend it as .csv.",
            )
        slip: dict[str, Any] = {
            "loan": loan,
            "move": move.name,
            "subject": subject.name,
            "lent": digest.sha256,
            "layout": digest_of(subject.layout.path).sha256,
            "columns": [f.title for f in fields],
            "rows": records.height,
        }
        needed = [
            *chosen.needed,
            *(f.title for f in chosen.fields if f.title in left_out and f.required and f.default is None),
        ]
        changed = _changed_since(self.earlier, records, [f.title for f in fields]) if self.earlier is not None else {}
        lending = Lending(fields, chosen.keys, slip, chosen.locked, chosen.masked, needed, move.language, changed)
        by_title = {f.title: f for f in fields}
        masked_ones = [title for title in chosen.masked if title not in left_out]
        lent = records.with_columns(masked(by_title[title], records) for title in masked_ones)
        book = outputs.create_named(final)
        _write(book, subject.name, lent, lending, self.ending)
        detail = {
            **slip,
            "file": move.shown(subject.path.resolve()),
            "file_sha256": source.sha256,
            "layout": move.shown(subject.layout.path.resolve()),
            "where": self.choice.where,
            "masked": chosen.masked,
            "locked": chosen.locked,
            "whom": whom,
            "changes": last_change(self.ledger),
            "plain": True,
            "quoted": self.ending in _OF_TEXT,
            "notes": notes_on(lent, lending),
        }
        note_loan(self.ledger, self.run, loan, subject.name, detail)
        name = move.shown(final)
        made = Loan(
            loan,
            subject.name,
            name,
            records.height,
            [f.title for f in fields],
            needed,
            chosen.locked,
            chosen.masked,
            left_out,
            whom,
        )
        return made, [digest, book.digest(name)]


def lend_again(move: Move, loan: str, *, to: Path | None = None) -> list[Loan]:
    """Lend the records of a loan anew, as they are now, to the same people; what changed since is marked. Raises LoanError where the loan is unknown, or of decisions."""
    known = noted_loan(ledger_of(move), loan)
    if known is None or "kind" in known.detail:
        names = [one.id for one in all_loans(ledger_of(move)) if "kind" not in one.detail]
        raise LoanError(unknown("loan of records", loan, names), hint="`mudanza ledger --loans` lists the loans.")
    detail = known.detail
    subject = Subject(known.subject, move.path(detail["file"]), read_layout(move.path(detail["layout"])))
    choice = Choice(detail["columns"], detail.get("locked", ()), detail.get("masked", ()), again=loan)
    return lend(move, subject, choice, to=to, whom=detail.get("whom"))


def _changed_since(earlier: Lent, records: pl.DataFrame, titles: Sequence[str]) -> dict[str, frozenset[int]]:
    """By title the rows of records in which something else stands than when they were lent before."""
    numbered = records.with_row_index(ROW)
    there = [title for title in titles if title in earlier.before.columns]
    both = numbered.join(earlier.before.drop(ROW), on=KEY, how="inner", suffix=f"{INNER}before")
    found = {}
    for title in there:
        rows = both.filter(pl.col(title).ne_missing(pl.col(f"{title}{INNER}before")))[ROW]
        if rows.len():
            found[title] = frozenset(rows.to_list())
    return found


def _unheld(fields: Sequence[Field], records: pl.DataFrame, ending: str) -> list[str]:
    """The fields that have texts which no cell of such a sheet can hold."""
    odd = f"{FORBIDDEN}|\t" if ending == ODS_FILE else FORBIDDEN
    checks = [
        ((pl.col(one.title).str.len_chars() > MOST_CHARACTERS) | pl.col(one.title).str.contains(odd))
        .any()
        .alias(one.title)
        for one in fields
    ]
    found = records.select(checks).row(0, named=True)
    return [title for title, unheld in found.items() if unheld]


def _write(book: OutFile, subject: str, records: pl.DataFrame, lending: Lending, ending: str) -> None:
    """The records in the form that the file's ending says."""
    for piece in (
        workbook_pieces(subject, records, lending)
        if ending == XLSX_FILE
        else _plainly(subject, records, lending, ending)
    ):
        book.write(piece)


def _plainly(subject: str, records: pl.DataFrame, lending: Lending, ending: str) -> Iterator[bytes]:
    """The records as a spreadsheet of OpenDocument, or as CSV or TSV, with the marks beside."""
    words = lending.words
    removal = Field(REMOVAL, words.removal, TextType(permitted=(words.remove,)))
    marks = Field(MARKS, MARKS)
    texts = [
        replace(one, type=TextType(), separator=None, null=("",)) if one.title in lending.masked else one
        for one in lending.fields
    ]
    fields = (*texts, removal, marks)
    delimiter = "\t" if ending == TSV_FILE else "," if lending.language == "en" else ";"
    form = Form(format=ODS if ending == ODS_FILE else CSV, sheet=subject, formulas=QUOTED)
    layout = Layout(Path(subject), subject, fields, form=form, dialect=Dialect(bom=True, delimiter=delimiter))
    titles = [one.title for one in fields]
    rows = records.with_columns(
        pl.lit(None, dtype=pl.String).alias(removal.title), lending.mark(pl.int_range(pl.len())).alias(MARKS)
    ).select(titles)
    writer: Writer
    if ending in _OF_TEXT:
        writer = csv_text.writer(layout, titles)
    else:
        slip = Page(SLIP, [json.dumps(dict(lending.slip), ensure_ascii=False)], seen=False)
        explained = Page(words.sheet, [words.title, *explanation(lending)])
        writer = OdsWriter(layout, titles, MARKS, [explained, slip], notes_on(records, lending))
    yield writer.head()
    yield writer.rows(rows)
    yield from writer.tail()


def _index(
    move: Move, outputs: Outputs, run: int, subject: str, by: str, loans: Sequence[Loan], to: Path | None
) -> Digest:
    """The list of several loans: who has what."""
    final = (to or move.folder / "loans") / f"{subject}-{run}.index.csv"
    rows = pl.DataFrame(
        {
            "loan": [one.id for one in loans],
            by: [one.whom or "" for one in loans],
            "rows": [str(one.rows) for one in loans],
            "file": [one.workbook for one in loans],
        }
    )
    writer = csv_text.QuotedWriter(rows.columns, Dialect(bom=True))
    index = outputs.create_named(final)
    index.write(writer.head())
    index.write(writer.rows(rows))
    for piece in writer.tail():
        index.write(piece)
    return index.digest(move.shown(final))


def _names(values: Sequence[str | None]) -> list[str]:
    """The endings of the names of several loans: their values, as file names have them, each its own."""
    made: list[str] = []
    for value in values:
        plain = "" if value is None else f"-{'-'.join(fold(value).split()) or 'blank'}"
        made.append(f"{plain}-{made.count(plain) + 1}" if plain in made else plain)
    return made
