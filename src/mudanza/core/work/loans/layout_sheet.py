"""A layout as a field list in a workbook, for the target's people to correct, and back into the layout."""

from __future__ import annotations

import copy
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

from mudanza.core.documents.document import read_json
from mudanza.core.documents.errors import LayoutError, MudanzaError, Place, nearest
from mudanza.core.layouts.csvw import layouts_from, read_layout
from mudanza.core.layouts.datatypes import BASES
from mudanza.core.layouts.layout import Field, Layout
from mudanza.core.layouts.metadata import ABSENT, OBSERVED
from mudanza.core.layouts.types import DateType, FormType, NumberType, TextType, YesNoType
from mudanza.core.plans.move import Move
from mudanza.core.work.loans.decision_loan import DecisionLoan, accept_decisions, lend_sheets
from mudanza.core.work.loans.decision_sheets import ReturnedRow, Sheet, SheetColumn, WrongCell, read_sheet
from mudanza.core.work.proposing.facts import name_of
from mudanza.core.work.proposing.types import choices_of
from mudanza.core.work.proposing.words import date_pattern, required_word, type_word
from mudanza.core.work.proposing.written import check_column, layout_text, permitted_form

_COLUMNS = (
    SheetColumn("Field", 20),
    SheetColumn("Heading", 24, open=True),
    SheetColumn("Label", 24, open=True),
    SheetColumn("Type", 12, open=True, choices=("string", "integer", "decimal", "date", "dateTime", "time", "boolean")),
    SheetColumn("Length", 9, open=True),
    SheetColumn("Required", 10, open=True, choices=("yes", "no")),
    SheetColumn("Permitted values", 34, open=True),
    SheetColumn("Format", 18, open=True),
    SheetColumn("Minimum", 12, open=True),
    SheetColumn("Maximum", 12, open=True),
    SheetColumn("Default", 12, open=True),
    SheetColumn("In the target", 10, open=True, choices=("yes", "no")),
    SheetColumn("Description", 44, open=True),
)
_TITLES = [one.title for one in _COLUMNS]
_NOTE = "Correct what is not so, and add fields below that are missing; a field that the target does not have yet has no under In the target."
_SPARE = 20


@dataclass(frozen=True)
class LayoutReturn:
    """What came back of a layout: what changed of which field, new fields, and cells that cannot be taken; `files` are those written."""

    loan: str
    layout: str
    changes: tuple[tuple[str, str, str, str], ...]
    added: tuple[str, ...]
    missing: tuple[str, ...]
    wrong: tuple[WrongCell, ...]
    files: Sequence[str] = ()

    @property
    def clean(self) -> bool:
        return not self.wrong


def lend_layout(move: Move, name: str, *, to: Path | None = None) -> DecisionLoan:
    """Write the field list of a layout and note the loan. Raises LayoutError for one that stands with others in a file."""
    path = move.layout_path(name)
    layout = _alone(path)

    def make(_: str) -> tuple[list[Sheet], dict[str, Any]]:
        rows = [_row(one) for one in layout.fields]
        spare = [[""] * len(_COLUMNS)] * _SPARE
        texts = [[row[title] for title in _TITLES] for row in rows]
        # new fields have a name of their own making
        sheet = Sheet(name, _NOTE, [replace(_COLUMNS[0], open=True), *_COLUMNS[1:]], [*texts, *spare])
        return [sheet], {"rows": rows}

    loan = lend_sheets(move, name, "layout", make, to)
    return replace(loan, rows=len(layout.fields))


def _alone(path: Path) -> Layout:
    layout = read_layout(path)
    if "tables" in read_json(path.read_text("utf-8-sig"), path).content:
        raise LayoutError(
            "the layout stands with others in one file.",
            place=Place(str(path)),
            hint="Put it into a file of its own to lend it.",
        )
    return layout


def _row(one: Field) -> dict[str, str]:
    """A field as the sheet says it."""
    takes = one.type
    row = dict.fromkeys(_TITLES, "")
    row.update(
        Field=one.name,
        Heading=one.title,
        Label=one.label or "",
        Type=takes.base,
        Required="yes" if one.required else "no",
        Default=one.default or "",
        Description=one.description or "",
    )
    row["In the target"] = "no" if one.absent else "yes"
    if isinstance(takes, TextType):
        row["Length"] = str(takes.longest or "")
        row["Permitted values"] = "; ".join(takes.permitted or ())
        row["Format"] = (takes.pattern or "") if takes.permitted is None else ""
    elif isinstance(takes, YesNoType):
        row["Format"] = f"{takes.format.yes[0]}|{takes.format.no[0]}"
    elif isinstance(takes, DateType):
        row["Format"] = takes.format.text
    elif isinstance(takes, FormType):
        row["Format"] = takes.format.text if takes.format else takes.pattern or ""
    elif isinstance(takes, NumberType):
        row["Format"] = (
            takes.format.text.removeprefix("a number as ") if takes.format.text.startswith("a number as ") else ""
        )
    if not isinstance(takes, TextType | YesNoType):
        bounds = takes.bounds
        row["Minimum"] = bounds.least.said if bounds.least and bounds.least.allowed else ""
        row["Maximum"] = bounds.most.said if bounds.most and bounds.most.allowed else ""
    return row


# back


def receive_layout(
    move: Move, path: Path, loan: str, detail: Mapping[str, Any], *, accept: bool = False
) -> LayoutReturn:
    """What came back; with `accept`, the layout is written. What changed in the layout too since it was lent is not taken. Raises LoanError as a sheet is damaged."""
    name, shown = detail["list"], move.shown(path.resolve())
    target = move.layout_path(name)
    before = target.read_bytes()
    layout = _alone(target)
    metadata = copy.deepcopy(read_json(before.decode("utf-8-sig"), target).content)
    columns = metadata["tableSchema"]["columns"]
    by_name = {one.name: (one, columns[number]) for number, one in enumerate(layout.fields)}
    # earlier versions lent lists with fewer columns
    titles = [one for one in _TITLES if all(one in row for row in detail["rows"])]
    lent = {row["Field"]: dict.fromkeys(_TITLES, "") | row for row in detail["rows"]}
    changes: list[tuple[str, str, str, str]] = []
    wrong: list[WrongCell] = []
    added: list[str] = []
    seen = set()
    for row in read_sheet(path, name, titles, shown):
        wrong += row.wrong
        texts = dict.fromkeys(_TITLES, "")
        texts |= {title: "" if title in row.formulas else text for title, text in row.texts.items()}
        field_name = texts["Field"]
        if field_name in by_name and field_name in lent:
            seen.add(field_name)
            done, bad = _corrected(by_name[field_name], lent[field_name], texts, row)
            changes += done
            wrong += bad
            continue
        if field_name and (near := nearest(field_name, list(lent.keys() - seen), least=85)) and not texts["Heading"]:
            wrong.append(
                WrongCell(row.cells["Field"], field_name, f"no field of that name was lent; was {near!r} renamed?")
            )
            continue
        made, bad = _new_column(texts, row, set(by_name))
        wrong += bad
        if made is not None:
            columns.append(made)
            added.append(made["name"])
    missing = tuple(one for one in lent if one in by_name and one not in seen)
    result = LayoutReturn(loan, name, tuple(changes), tuple(added), missing, tuple(wrong))
    if not accept:
        return result
    text = layout_text(metadata)
    layouts_from(read_json(text, target))
    files = accept_decisions(move, loan, {target: (before, text)}, whole=result.clean)
    return replace(result, files=files)


def _corrected(
    known: tuple[Field, dict[str, Any]], lent: Mapping[str, str], came: Mapping[str, str], row: ReturnedRow
) -> tuple[list[tuple[str, str, str, str]], list[WrongCell]]:
    """Take the changed cells of a row over into its column."""
    one, column = known
    now = _row(one)
    done, wrong = [], []
    for title in _TITLES[1:]:
        if title in row.formulas or _same(came[title], lent[title]):
            continue
        if _same(came[title], now[title]):
            continue
        if not _same(now[title], lent[title]):
            wrong.append(
                WrongCell(row.cells[title], came[title], "the layout was changed too since the sheet was lent")
            )
            continue
        tried = copy.deepcopy(column)
        try:
            _set(tried, title, came[title], one)
            check_column(tried)
        except MudanzaError as error:
            wrong.append(WrongCell(row.cells[title], came[title], error.what.rstrip(".")))
            continue
        except ValueError as error:
            wrong.append(WrongCell(row.cells[title], came[title], str(error)))
            continue
        tried.pop(OBSERVED, None)
        column.clear()
        column.update(tried)
        done.append((one.name, title, lent[title], came[title]))
    return done, wrong


def _same(one: str, other: str) -> bool:
    return " ".join(one.split()) == " ".join(other.split())


def _set(column: dict[str, Any], title: str, text: str, one: Field | None) -> None:
    """Say in a column what a cell says. Raises ValueError with what is wrong."""
    datatype = column.get("datatype", "string")
    datatype = {"base": datatype} if isinstance(datatype, str) else dict(datatype)
    match title:
        case "Heading":
            column["titles"] = text or column["name"]
            return
        case "Label" | "Description":
            _put(column, "dc:title" if title == "Label" else "dc:description", text)
            return
        case "Default":
            _put(column, "default", text)
            return
        case "Required" | "In the target":
            said = required_word(text) if text else None
            if said is None:
                raise ValueError("it is yes or no")
            _put(column, "required" if title == "Required" else ABSENT, said if title == "Required" else not said)
            return
        case "Type":
            base = text if text in BASES else type_word(text)
            if base is None:
                raise ValueError("no type is called so")
            kept = (
                ("length", "maxLength")
                if base == "string"
                else ("minimum", "maximum")
                if base in ("integer", "decimal")
                else ()
            )
            datatype = {"base": base, **{k: v for k, v in datatype.items() if k in kept and one is not None}}
        case "Length":
            if text and not text.isdigit():
                raise ValueError("a length is a whole number")
            key = "length" if "length" in datatype else "maxLength"
            _put(datatype, key, int(text) if text else None)
        case "Permitted values":
            values, why = choices_of(text) if text else ((), None)
            if why:
                raise ValueError(why)
            datatype = {k: v for k, v in datatype.items() if k not in ("minimum", "maximum")}
            _put(datatype, "format", permitted_form(values) if values else None)
            datatype["base"] = "string"
        case "Format":
            pattern = date_pattern(text) if datatype.get("base") in ("date", "dateTime", "time") else None
            form = datatype.get("format")
            _put(datatype, "format", {**form, "pattern": text} if isinstance(form, dict) and text else pattern or text)
        case "Minimum" | "Maximum":
            _put(datatype, title.lower(), text)
    plain = set(datatype) == {"base"}
    _put(
        column, "datatype", None if plain and datatype["base"] == "string" else datatype["base"] if plain else datatype
    )


def _put(node: dict[str, Any], key: str, value: Any) -> None:
    if value in (None, "", False):
        node.pop(key, None)
    else:
        node[key] = value


def _new_column(
    texts: Mapping[str, str], row: ReturnedRow, taken: set[str]
) -> tuple[dict[str, Any] | None, list[WrongCell]]:
    """A field that was added in the sheet."""
    heading = texts["Heading"] or texts["Field"]
    if not heading:
        return None, [WrongCell(row.cells["Field"], "", "a new field needs a name or a heading")]
    column: dict[str, Any] = {"name": name_of(texts["Field"] or heading, taken), "titles": heading}
    wrong = []
    for title in _TITLES[2:]:
        if not texts[title]:
            continue
        tried = copy.deepcopy(column)
        try:
            _set(tried, title, texts[title], None)
            check_column(tried)
            column = tried
        except MudanzaError as error:
            wrong.append(WrongCell(row.cells[title], texts[title], error.what.rstrip(".")))
        except ValueError as error:
            wrong.append(WrongCell(row.cells[title], texts[title], str(error)))
    return column, wrong


# what the target does not have yet


def absent_sheet(name: str, fields: Sequence[Field]) -> Sheet:
    """What has to be created in the target first, to hand over: a row for each field that it does not have."""
    columns = [replace(one, open=False, choices=()) for one in _COLUMNS if one.title != "In the target"]
    rows = [[row[one.title] for one in columns] for row in map(_row, fields)]
    return Sheet(f"{name} to create", f"To be created in the target before {name} is imported.", columns, rows)
