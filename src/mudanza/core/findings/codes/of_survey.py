"""Codes of what a survey finds worth a look."""

from __future__ import annotations

from mudanza.core.findings.codes.code import Code, N, S, W, told

CODES = [
    Code(
        "file.unreadable",
        S,
        "One of several files cannot be read; the others are told.",
        "Look at the reason; export the file again, or leave it out.",
        told("incoming/ has an empty file besides five that can be read."),
    ),
    Code(
        "whole.count",
        S,
        "The number of rows is not the one that was expected.",
        "Export again, and look for a filter or a page limit in the old program.",
        told("82 rows were read, and the old program shows 84."),
    ),
    Code(
        "whole.round-count",
        W,
        "The number of rows is one at which programs stop: a page size, or a spreadsheet's last row.",
        "Ask the old program how many records it has.",
        told("Exactly 1,000 rows: perhaps only the first page was exported."),
    ),
    Code(
        "whole.cut-off",
        W,
        "The file ends in the middle of a line.",
        "Look at the last record; export or copy the file again if it is not whole.",
        told("The last line of clients.csv has no line end, and all others have one."),
    ),
    Code(
        "whole.old",
        W,
        "The file is older than it should be.",
        "Export it again.",
        told("clients.csv is of 2026-10-30, and newer than 2026-11-01 was asked for."),
    ),
    Code(
        "whole.same",
        W,
        "The file is, byte for byte, one that was surveyed before.",
        "If it should be a new export, the old program was not asked again or the wrong file was copied.",
        told("clients-new.csv is clients.csv, surveyed on 2026-11-20."),
    ),
    Code(
        "column.placeholder",
        N,
        "Values of a column only pretend to be filled.",
        "Name those that mean nothing in the plan's source: blanks = [...].",
        told("n/a stands 17 times in Phone."),
    ),
    Code(
        "column.zeros-lost",
        W,
        "Codes of digits seem to have lost their leading zeros.",
        "Export again without opening the file in a spreadsheet; or, if you know the length, pad N in the flow.",
        told("Most values of Postcode have 7 digits, a tenth has 6, and none begins with 0."),
    ),
    Code(
        "column.mixed-dates",
        W,
        "Some dates of a column have the day first, others the month.",
        "Find out what tells them apart, and use cases in the flow.",
        told("31/01/2024 and 01/31/2024 stand in one column."),
    ),
    Code(
        "column.several-texts",
        N,
        "Cells of a column seem to hold several texts.",
        "Use split in the flow to take them apart.",
        told("ana@example.org; rui@example.org stands in E-mail."),
    ),
    Code(
        "column.control",
        W,
        "Values hold control characters, which most importers refuse or garble.",
        "Use squeeze in the flow, or clean the export.",
        told("A bell character stands in a note."),
    ),
    Code(
        "column.odd-values",
        N,
        "A few values of a column are not of the kind that nearly all are.",
        "Look at them; the steps that read them will hold their rows back.",
        told("31/02/2019 stands among dates."),
    ),
    Code(
        "key.alike",
        W,
        "Identifiers differ only by capitals, spaces or leading zeros.",
        "Find out whether they are one record or two before they get new identifiers.",
        told("K17 and k17 are both in Client No."),
    ),
    Code(
        "reference.nowhere",
        W,
        "A column refers to the key of another source, and some of its values are not there.",
        "Find out whether the other export is whole, or whether the records were deleted.",
        told("3 values of Owner in animals.csv are not in clients.csv."),
    ),
]
