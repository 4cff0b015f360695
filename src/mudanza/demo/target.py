"""What the makers of the new system sent: the import template for animals, with the list of its fields on a second sheet."""

from __future__ import annotations

from datetime import date, datetime
from pathlib import Path
from typing import Any

#: the field list: name, heading, type, length, required, permitted values, what it is
_FIELDS = [
    ("animal_code", "Animal code", "text", "9", "yes", "", "AN- and six digits; the key"),
    ("owner_code", "Owner code", "text", "9", "yes", "", "of an owner that was imported before"),
    ("name", "Name", "text", "30", "yes", "", ""),
    ("species", "Species", "list", "", "yes", "dog; cat; rabbit; bird; other", ""),
    ("sex", "Sex", "list", "", "no", "m; f", ""),
    ("born", "Born", "date (YYYY-MM-DD)", "", "no", "", "not before 1995"),
    ("weight", "Weight, kg", "number", "5,2", "no", "", "more than nothing"),
    ("chip", "Chip", "text", "15", "no", "", "fifteen digits"),
]
_EXAMPLE = ["AN-000001", "OW-000001", "Bica", "dog", "f", date(2019, 4, 30), 12.5, "620098100000001"]
_NOTES = {0: "Required. AN- and six digits.", 2: "Required, at most 30 characters.", 7: "Not required. 15 characters."}


def write_template(path: Path) -> None:
    """The workbook with its two sheets: a heading with notes and one example, drop-down lists; and the fields."""
    import xlsxwriter

    path.parent.mkdir(parents=True, exist_ok=True)
    book = xlsxwriter.Workbook(str(path), {"strings_to_numbers": False})
    # the file's own dates would differ from run to run
    book.set_properties({"created": datetime(2026, 9, 1)})
    head = book.add_format({"bold": True, "bottom": 1})
    _animals(book, book.add_worksheet("Animals"), head)
    fields = book.add_worksheet("Fields")
    fields.write_row(0, 0, ["Field", "Heading", "Type", "Length", "Required", "Values", "Remarks"], head)
    for row, line in enumerate(_FIELDS, start=1):
        fields.write_row(row, 0, line)
    fields.set_column(0, 6, 18)
    book.close()


def _animals(book: Any, sheet: Any, head: Any) -> None:
    day, number = book.add_format({"num_format": "yyyy-mm-dd"}), book.add_format({"num_format": "0.00"})
    for column, (_, heading, *_) in enumerate(_FIELDS):
        sheet.write_string(0, column, heading, head)
        value = _EXAMPLE[column]
        if isinstance(value, date):
            sheet.write_datetime(1, column, datetime(value.year, value.month, value.day), day)
        elif isinstance(value, float):
            sheet.write_number(1, column, value, number)
        else:
            sheet.write_string(1, column, str(value))
        if column in _NOTES:
            sheet.write_comment(0, column, _NOTES[column])
    for column, values in ((3, ["dog", "cat", "rabbit", "bird", "other"]), (4, ["m", "f"])):
        sheet.data_validation(1, column, 500, column, {"validate": "list", "source": values})
    sheet.set_column(0, len(_FIELDS) - 1, 16)
