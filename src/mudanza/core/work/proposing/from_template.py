"""An import template as a proposal: its headings, example rows, cell notes, drop-down lists and number formats."""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import replace
from pathlib import Path
from typing import Any

import openpyxl
from openpyxl.utils import range_boundaries

from mudanza.core.documents.errors import MudanzaError, Place, SourceError
from mudanza.core.sources.guard import guard_workbook
from mudanza.core.work.proposing.facts import Facts, Proposal, Takes, filled
from mudanza.core.work.proposing.types import choices_of, is_yes_no, takes_of, words_for_yes_no
from mudanza.core.work.proposing.words import date_pattern

#: a workbook of this size is no template
_LARGEST = 20 << 20
_MOST_CHOICES = 2_000
_MOST_COLUMNS = 2_000
_REQUIRED_MARK = re.compile(
    r"^\s*\*\s*|\s*\*+\s*$|\s*\((?:required|mandatory|obrigat[oó]rio|obligatorio|pflicht(?:feld)?|obligatoire|obbligatorio|verplicht)\)\s*$",
    re.I,
)
_REQUIRED_NOTE = re.compile(
    r"\b(?:required|mandatory|must be filled|obrigat[oó]ri[oa]|obligatori[oa]|pflichtfeld|obligatoire|obbligatori[oa]|verplicht)\b(?!\s*:?\s*no\b)",
    re.I,
)
_NOT_REQUIRED = re.compile(
    r"\b(?:not|no|nicht|kein|não|non|pas)\s+(?:a\s+)?(?:required|mandatory|obrigat|obligat|pflicht|obbligat)", re.I
)
_AT_MOST = re.compile(
    r"(?:max(?:imum|imal|\.)?|up to|at most|até|máx(?:imo|\.)?|hasta|höchstens|bis zu|au plus|massimo)\D{0,20}?(\d{1,5})\s*(?:char|sign|car|zeichen|tekens|letras|digits|$)|(\d{1,5})\s*(?:characters|chars|caracteres|zeichen|caractères|caratteri|tekens)",
    re.I,
)
_ONE_OF = re.compile(
    r"(?:one of|values?|permitted|allowed|choose|valores(?: permitidos| possíveis)?|werte|zulässig|valeurs|valori|eine? von)\s*:?\s*(.+)$",
    re.I | re.S,
)


def from_workbook(path: Path, source: str, sheet: str | None = None, heading: int = 1) -> Proposal:
    """The fields of a template in XLSX. Raises SourceError where it cannot be read."""
    guard_workbook(path)
    if path.stat().st_size > _LARGEST:
        raise SourceError(
            "the workbook is too large for a template.", place=Place(source), hint="Give it as an export: --as export."
        )
    try:
        book = openpyxl.load_workbook(path, data_only=True)
        return Proposal("template", source, tuple(_fields(book, book[sheet] if sheet else book.worksheets[0], heading)))
    except MudanzaError:
        raise
    except Exception as error:
        # a damaged workbook can make the library stumble in any way
        words = (str(error).splitlines() or [type(error).__name__])[0][:80]
        raise SourceError(
            f"the workbook cannot be read ({words}).",
            place=Place(source),
            hint="Open it with a spreadsheet program and save it again as .xlsx.",
        ) from error


def _fields(book: Any, page: Any, heading: int) -> Iterator[Facts]:
    lists = dict(_lists(book, page))
    for column in range(1, min(page.max_column, _MOST_COLUMNS) + 1):
        cell = page.cell(heading, column)
        if cell.value is None or not str(cell.value).strip():
            continue
        title = str(cell.value)
        examples = [page.cell(row, column) for row in range(heading + 1, min(page.max_row, heading + 20) + 1)]
        # the heading is the target's, mark and all
        facts = Facts(title=title, required=True if without_mark(title)[1] else None)
        facts = _noted(facts, cell.comment.text if cell.comment is not None else "")
        takes = _listed(lists[column]) if column in lists else _formatted(examples)
        yield replace(facts, takes=filled(takes, facts.takes) if not takes.permitted else takes)


def _listed(values: tuple[str, ...]) -> Takes:
    return words_for_yes_no(values) if is_yes_no(values) else Takes(permitted=values)


def without_mark(title: str) -> tuple[str, bool]:
    """A heading without the star or word that marks it as required, and whether it has one."""
    plain = _REQUIRED_MARK.sub("", title)
    return plain, plain != title


def _noted(facts: Facts, note: str) -> Facts:
    """What a note on a heading says."""
    # spreadsheets put the name of who wrote it in front
    note = re.sub(r"^[^\n:]{1,40}:\n", "", note).strip()
    if not note:
        return facts
    takes = Takes()
    if (match := _AT_MOST.search(note)) is not None:
        takes = replace(takes, base="string", max_length=int(match[1] or match[2]))
    for line in note.splitlines():
        choices = _ONE_OF.search(line)
        if choices is not None:
            permitted = choices_of(choices[1].rstrip("."))[0]
            if len(permitted) > 1:
                takes = Takes(base="string", permitted=permitted)
    if not takes.permitted:
        pattern = next(
            (
                p
                for word in re.findall(r"[A-Za-z]{1,4}(?:[./\- :][A-Za-z]{1,4})+|[A-Za-z]{8}", note)
                if (p := date_pattern(word))
            ),
            None,
        )
        if pattern is not None:
            takes = Takes(
                base="dateTime" if "d" in pattern and "H" in pattern else "date" if "d" in pattern else "time",
                form=pattern,
            )
    required = facts.required
    if _NOT_REQUIRED.search(note):
        required = False
    elif _REQUIRED_NOTE.search(note):
        required = True
    return replace(facts, description=" ".join(note.split()), takes=takes, required=required)


def _lists(book: Any, page: Any) -> Iterator[tuple[int, tuple[str, ...]]]:
    """The drop-down lists of a sheet, by column."""
    for rule in page.data_validations.dataValidation:
        if rule.type != "list" or not rule.formula1:
            continue
        values = _list_values(book, page, str(rule.formula1))
        if not 1 < len(values) <= _MOST_CHOICES:
            continue
        for area in rule.sqref.ranges:
            for column in range(area.min_col, min(area.max_col, area.min_col + 200) + 1):
                yield column, values


def _list_values(book: Any, page: Any, formula: str) -> tuple[str, ...]:
    if formula.startswith('"'):
        return tuple(one.strip() for one in formula.strip('"').split(",") if one.strip())
    where, name = page, formula.lstrip("=")
    if name in book.defined_names:
        name = book.defined_names[name].attr_text
    if "!" in name:
        sheet, _, name = name.rpartition("!")
        sheet = sheet.strip("'").replace("''", "'")
        if sheet not in book.sheetnames:
            return ()
        where = book[sheet]
    try:
        left, top, right, bottom = range_boundaries(name.replace("$", ""))
    except (ValueError, TypeError):
        return ()
    if None in (left, top, right, bottom) or (right - left + 1) * (bottom - top + 1) > _MOST_CHOICES * 10:
        return ()
    cells = [where.cell(row, column).value for row in range(top, bottom + 1) for column in range(left, right + 1)]
    return tuple(dict.fromkeys(str(one).strip() for one in cells if one is not None and str(one).strip()))


def _formatted(examples: list[Any]) -> Takes:
    """What the number formats and values of the cells below a heading say."""
    for cell in examples:
        code = str(cell.number_format or "General")
        if code in ("General", "@"):
            continue
        plain = re.sub(r'\[[^\]]*\]|"[^"]*"|\\', "", code.split(";")[0]).strip()
        if cell.is_date or re.search(r"[dy]", plain.lower()):
            pattern = date_pattern(plain)
            if pattern is not None:
                kind = "dateTime" if "d" in pattern and "H" in pattern else "date" if "d" in pattern else "time"
                return Takes(kind, form=pattern)
        if re.fullmatch(r"0+", plain) and len(plain) > 1:
            return Takes("string", form=f"[0-9]{{{len(plain)}}}")
        if (match := re.fullmatch(r"[#,0 ]*0(?:\.(0+))?", plain)) is not None:
            return Takes("decimal", places=len(match[1])) if match[1] else Takes("integer")
    return Takes("string") if any(str(cell.number_format) == "@" for cell in examples) else Takes()


def from_csv_template(headings: list[str], source: str, delimiter: str | None, encoding: str | None) -> Proposal:
    """The fields of a template that is text: its headings, and how it is written."""
    found = []
    for title in headings:
        _, marked = without_mark(title)
        inside = re.search(r"\(([^)]+)\)\s*\*?$", title)
        takes, _ = takes_of(form=inside[1]) if inside and date_pattern(inside[1]) else (Takes(), [])
        found.append(Facts(title, takes=takes, required=True if marked else None))
    return Proposal("template", source, tuple(found), delimiter=delimiter, encoding=encoding)
