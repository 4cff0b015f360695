"""The codes of findings: what each means, how bad it is, what to do, and an example of it."""

from __future__ import annotations

from dataclasses import dataclass
from enum import StrEnum


class Severity(StrEnum):
    """How bad a finding is: `stop` keeps a row or file from being imported, `warn` wants a look."""

    STOP = "stop"
    WARN = "warn"
    NOTE = "note"


@dataclass(frozen=True)
class Example:
    """A case in which a code appears; the tests run it.

    `kind` says what `given` is: `column` (a CSVW column description, as JSON, with `value` the cell), `flow`
    (an expression on the value `{A}`), `file` (the text of a file), `told` (a situation in words).
    """

    kind: str
    given: str
    value: str = ""


@dataclass(frozen=True)
class Code:
    """One kind of finding: its name, severity, meaning, what to do, and an example of it."""

    name: str
    severity: Severity
    meaning: str
    next: str
    example: Example


_S, _W, _N = Severity.STOP, Severity.WARN, Severity.NOTE


def _told(text: str) -> Example:
    return Example("told", text)


def _column(given: str, value: str) -> Example:
    return Example("column", given, value)


_ALL = [
    Code(
        "read.ragged",
        _S,
        "A row has more or fewer values than the heading has columns.",
        "Look for a delimiter inside a value that is not quoted, or for a line broken in two.",
        Example("file", "code,name,town\n1,Ana,Braga\n2,Rui,Porto,Norte\n"),
    ),
    Code(
        "read.stray-quote",
        _S,
        "A quote stands inside a value without being doubled, so it is unclear where the value ends.",
        'Double the quote inside the value ("" for ") or take it out.',
        Example("file", 'code,name\n1,Ana\n2,5" nail\n3,Rui\n'),
    ),
    Code(
        "read.unclosed-quote",
        _S,
        "A quote opens a value and is never closed.",
        "Close the quote at the end of the value, or take the opening one out.",
        Example("file", 'code,name\n1,Ana\n2,"Rui\n3,Eva\n'),
    ),
    Code(
        "read.undecodable",
        _S,
        "A row holds bytes that do not exist in the file's encoding.",
        'Say the right encoding (encoding = "cp1252" in the plan\'s source, "encoding" in a layout\'s dialect).',
        Example("file", "code,name\n1,Ana\n2,Jos\udce9\n"),
    ),
    Code(
        "read.nul",
        _S,
        "A row holds a NUL character, which no text should.",
        "Export the file again; a NUL is a sign of damage or of a wrong encoding.",
        Example("file", "code,name\n1,A\0na\n"),
    ),
    Code(
        "read.blank-lines",
        _N,
        "Lines without any character stand between the rows. They were passed over.",
        "Nothing, unless the old program writes a blank line where a record should be.",
        Example("file", "code,name\n1,Ana\n\n2,Rui\n"),
    ),
    Code(
        "read.above-heading",
        _N,
        "Lines stand above the heading. They were passed over.",
        "Look at them; if the heading is another line, say heading = N in the plan's source. Saying it ends this note.",
        _told("The heading of people.xlsx was found in row 4, below a title."),
    ),
    Code(
        "read.other-sheets",
        _N,
        "The workbook has other sheets with rows. They were not read.",
        "Say sheet = NAME in the plan's source, for this sheet or the right one. Saying it ends this note.",
        _told("People was read; Please read has 4 rows."),
    ),
    Code(
        "file.delimiter",
        _S,
        "The file separates its values with another character than the layout says.",
        "Write the file with the layout's delimiter. The rest was checked with the one found.",
        _told("The layout's dialect says ','; the file is written with ';'."),
    ),
    Code(
        "file.encoding",
        _S,
        "The file is in another encoding than the layout or the plan says.",
        "Save the file in that encoding, or say the right one.",
        _told("The layout's dialect says utf-8; the file is cp1252."),
    ),
    Code(
        "heading.not-first",
        _S,
        "Lines stand above the heading.",
        "Take them out; an importer takes the first line for the heading.",
        _told("The heading stands in line 4, below the title of a report."),
    ),
    Code(
        "heading.missing",
        _S,
        "A column that the layout has is not in the file.",
        "Add the column, or choose the layout that belongs to the file.",
        _told("The layout asks for 'Phone'; the file has no such heading."),
    ),
    Code(
        "heading.extra",
        _S,
        "The file has a column that the layout does not know.",
        "Take the column out, or add it to the layout.",
        _told("The file has a column 'Remarks' that is not in the layout."),
    ),
    Code(
        "heading.similar",
        _S,
        "A heading is almost, but not exactly, the one the layout asks for.",
        "Rename the heading to exactly what the layout says, capitals and spaces included.",
        _told("The file says 'post code' where the layout says 'Postcode'."),
    ),
    Code(
        "heading.repeated",
        _S,
        "The same heading stands over two columns.",
        "Take one of the columns out, or rename it.",
        _told("'Phone' stands over columns 4 and 9."),
    ),
    Code(
        "heading.order",
        _S,
        "The columns are all there, but not in the layout's order.",
        "Put them in the layout's order; an importer that counts columns would mix them up.",
        _told("'Town' stands in column 3; the layout has it in column 5."),
    ),
    Code(
        "value.required",
        _S,
        "A value that must be given is blank.",
        "Fill the value in, or give the field a default in the plan.",
        _column('{"titles": "A", "required": true}', ""),
    ),
    Code(
        "value.kind",
        _S,
        "A value is not of the kind the layout asks for: not a number, not a date, not one of its yes/no words.",
        "Write the value as the rule shows.",
        _column('{"titles": "A", "datatype": {"base": "date", "format": "dd/MM/yyyy"}}', "2024-13-01"),
    ),
    Code(
        "value.pattern",
        _S,
        "A value does not have the form the layout asks for.",
        "Compare the value with the pattern, sign by sign.",
        _column('{"titles": "A", "datatype": {"base": "string", "format": "[A-Z]{2}[0-9]{4}"}}', "AB12"),
    ),
    Code(
        "value.not-permitted",
        _S,
        "A value is none of those the layout permits.",
        "Use one of the permitted values, exactly as written.",
        _column('{"titles": "A", "datatype": {"base": "string", "format": "dog|cat"}}', "Dog"),
    ),
    Code(
        "value.too-long",
        _S,
        "A text is longer than the layout allows.",
        "Shorten it; in a plan, `fit` does so and says which rows it cut.",
        _column('{"titles": "A", "datatype": {"base": "string", "maxLength": 4}}', "abcde"),
    ),
    Code(
        "value.too-short",
        _S,
        "A text is shorter than the layout asks for.",
        "Complete it; in a plan, `pad` fills up with zeros or another sign.",
        _column('{"titles": "A", "datatype": {"base": "string", "minLength": 4}}', "abc"),
    ),
    Code(
        "value.too-small",
        _S,
        "A number or date lies below the layout's minimum.",
        "Correct the value, or ask the target's owner whether the limit is right.",
        _column('{"titles": "A", "datatype": {"base": "decimal", "minimum": 0}}', "-1"),
    ),
    Code(
        "value.too-large",
        _S,
        "A number or date lies above the layout's maximum.",
        "Correct the value, or ask the target's owner whether the limit is right.",
        _column('{"titles": "A", "datatype": {"base": "decimal", "maximum": 10}}', "11"),
    ),
    Code(
        "value.unencodable",
        _S,
        "A value holds a character that the layout's encoding cannot write.",
        "Replace the character; in a plan, `unaccent` or `replace` does so.",
        _told("The layout's dialect says iso-8859-1; the value holds '€'."),
    ),
    Code(
        "value.unquotable",
        _S,
        "A value holds the delimiter or a line break, and the layout's dialect has no quotes to protect it.",
        "Replace the character; in a plan, `replace` does so.",
        _told("The layout's dialect says quoteChar null and delimiter '|'; the value holds '|'."),
    ),
    Code(
        "key.repeated",
        _S,
        "Two rows have the same primary key but are not the same record, or a new record has a key that is taken.",
        "Decide which row is right, or make the key longer.",
        _told("Rows 12 and 40 both have the code OW-000031, with different names."),
    ),
    Code(
        "reference.missing",
        _S,
        "A value refers to a record that is not in the other file.",
        "Deliver the other record too, or blank the reference.",
        _told("Branch 'N9' is not among the codes of branches.csv."),
    ),
    Code(
        "reference.unchecked",
        _N,
        "The layout has a reference to another file, and that file was not given.",
        "Name the file with --with FILE to have the references checked.",
        _told("branch refers to branches.csv, which is not there."),
    ),
    Code(
        "column.unused",
        _W,
        "A source column that has data is neither used by a field nor left behind on purpose.",
        "Use it in a flow, or name it under [left_behind] with the reason.",
        _told("'Fax' has 212 values and appears nowhere in the plan."),
    ),
    Code(
        "column.absent",
        _W,
        "A column that the plan uses is in one source and not in another; there it is blank.",
        'If it is meant to be so, say it: lacks = ["Column"] in that source.',
        _told("'Mobile' is in the source north; harbour has no such column."),
    ),
    Code(
        "row.merged",
        _N,
        "A row gives exactly the record that an earlier row gave; it is written once.",
        "Nothing, if the record really stands twice in the sources.",
        _told("Rows 3 of north and 88 of harbour both make the record OW-000002, alike in every field."),
    ),
    Code(
        "flow.not-a-number",
        _S,
        "A text that should be read as a number is none, or not in the sign convention given.",
        'Look at decimal= and group= of the `number` step; add `or blank` if such values may be dropped.',
        Example("flow", "{A} -> number", "12,50 EUR"),
    ),
    Code(
        "flow.not-a-date",
        _S,
        "A text that should be read as a date is none, or not in the pattern given.",
        "Compare the pattern with the value (dd day, MM month, yyyy year); a step can have several patterns.",
        Example("flow", '{A} -> date "dd/MM/yyyy"', "31/02/2024"),
    ),
    Code(
        "flow.not-yes-no",
        _S,
        "A text that should be read as yes or no is none of the words given.",
        "Add the word to yes= or no= of the `yesno` step.",
        Example("flow", "{A} -> yesno", "perhaps"),
    ),
    Code(
        "flow.not-in-crosswalk",
        _S,
        "A code is not in the crosswalk, so its meaning in the target is unknown.",
        "Add a line for it to the crosswalk's file.",
        Example("flow", "{A} -> crosswalk demo", "unheard of"),
    ),
    Code(
        "flow.no-key",
        _S,
        "No new identifier has been given for this old one, so the reference leads nowhere.",
        "Build the list that gives the identifiers first; if it was, the record was not moved.",
        Example("flow", '"north", {A} -> key owners', "77"),
    ),
    Code(
        "flow.no-part",
        _S,
        "A text has fewer parts than the one that was asked for.",
        "Look at the separator of `split` and the number of `pick`.",
        Example("flow", '{A} -> split "-" -> pick 3', "a-b"),
    ),
    Code(
        "flow.too-exact",
        _S,
        "A number has more decimal places than it is to be written with, so writing it would round.",
        "Add `round N` to the flow, saying so on purpose.",
        Example("flow", '{A} -> number -> write "0.00"', "0.125"),
    ),
    Code(
        "flow.cut",
        _W,
        "A text was longer than `fit` allows and was cut. The row is written.",
        "Read what is lost; shorten the text at the source if it matters.",
        Example("flow", "{A} -> fit 4", "Rua das Flores"),
    ),
    Code(
        "loan.heading-missing",
        _S,
        "A column that was lent out did not come back, or its heading was renamed.",
        "Put the heading back as it was lent.",
        _told("'Phone' is not in the returned workbook; 'Telephone' is new."),
    ),
    Code(
        "loan.heading-extra",
        _W,
        "A column came back that was not lent out. Its values are not taken over.",
        "Move the values to a column of the loan, or lend out a layout that has the column.",
        _told("'My remarks' was inserted before 'Phone' and has 3 values."),
    ),
    Code(
        "loan.heading-repeated",
        _S,
        "A heading of the loan stands over two columns.",
        "Take the copy out.",
        _told("'Phone' stands over columns C and H."),
    ),
    Code(
        "loan.order",
        _N,
        "Columns were moved. They were found by their headings.",
        "Nothing.",
        _told("'Town' came back in column B instead of E."),
    ),
    Code(
        "loan.formula",
        _S,
        "A cell holds a formula, whose value depends on the program that opens it.",
        "Replace the formula by its value (copy, paste values).",
        _told("C7 holds =CONCATENATE(A7,B7)."),
    ),
    Code(
        "loan.outside",
        _S,
        "A value stands outside the table, under no heading of the loan.",
        "Move the value into the table or delete it.",
        _told("J14 holds 'see Maria'."),
    ),
    Code(
        "loan.row-missing",
        _S,
        "A row that was lent out did not come back and was not marked for removal.",
        "Say what it means with --missing keep or --missing remove.",
        _told("OW-000007 was lent out and is not in the returned workbook."),
    ),
    Code(
        "loan.key-repeated",
        _S,
        "A key stands in two rows of the returned workbook.",
        "A row was copied; give the copy a blank key (or its own) or delete it.",
        _told("OW-000007 stands in rows 8 and 31."),
    ),
    Code(
        "loan.key-blank",
        _S,
        "A new row has no key, and the layout requires one.",
        "Fill in the key of the new record.",
        _told("Row 92 is new and has no Owner code."),
    ),
    Code(
        "loan.removal-unclear",
        _S,
        "The removal column holds something other than its one word, or stands on a row that was not lent.",
        "Write exactly 'remove', or clear the cell.",
        _told("H12 holds 'maybe'."),
    ),
    Code(
        "loan.conflict",
        _S,
        "The record was changed elsewhere since it was lent out.",
        "Decide between the two values; the change is written to the conflicts file and to no import file.",
        _told("Phone was '912' when lent, is '913' now, and came back as '914'."),
    ),
]  # fmt: skip

CODES: dict[str, Code] = {code.name: code for code in _ALL}
