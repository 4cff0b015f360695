"""Findings on what the target holds: leavers, what somebody said of rows, totals."""

from mudanza.core.findings.codes.code import Code, N, S, W, told

CODES = [
    Code(
        "leaver.unsaid",
        W,
        "The target holds records that this build no longer writes, and the plan does not say what becomes of them: the target never hears of it.",
        'Say it in the plan: [leavers], and below it gone = "remove", unselected = "last change", or gone = { leave = "why" }. out/LIST.leavers.csv has each of them.',
        told("3 owners were handed over with status A; their status is D by now, and `keep` no longer chooses them."),
    ),
    Code(
        "leaver.orphaned",
        S,
        "The target goes on holding records that refer to others which this build takes out of it.",
        'Say in the plan of the records that stay what becomes of them, [leavers] held_back = "remove" or a mark, or let those stay that they refer to.',
        told("An owner is gone and taken out; two of their animals are held back since, and stay in the target."),
    ),
    Code(
        "leaver.unknown-before",
        W,
        "What some records held when the target took them in is not known, so they cannot be marked, and the way back lacks them.",
        "They were built by an earlier version; once built and handed over by this one they are known.",
        told("2 of the changed records were handed over from a run of an earlier version."),
    ),
    Code(
        "since.no-key",
        W,
        "What is new, changed and gone cannot be told: the records of the list have no key.",
        "Say in the layout which fields make the key (primaryKey), or import the whole list.",
        told("The layout of the list notes has no primaryKey."),
    ),
    Code(
        "row.included",
        N,
        "A row is written though the plan's `keep` would leave it out, because somebody said so.",
        "Nothing; the reason stands in inclusions/LIST.csv.",
        told("Client 01017 is inactive, and goes all the same: asked for by the manager."),
    ),
    Code(
        "by-hand.stale",
        W,
        "What somebody said of a row meets none any more.",
        "Take the line out, if the row is gone; if its columns were written otherwise, mend the line.",
        told("exclusions/owners.csv line 4 says that Client No 01099 does not go, and no row has that number."),
    ),
    Code(
        "totals.differ",
        S,
        "A control total is not what the plan says that the old program printed.",
        "Find the rows that are missing, or that are there twice: `mudanza survey` tells whether the export is whole. If the printed figure is of another day, correct it in [[totals]].",
        told("The sums of Balance read of north are 15,204.10; the old program printed 15,234.50."),
    ),
    Code(
        "totals.not-printed",
        S,
        "A control total is to be compared with what is printed, and a source has no total of the column.",
        'Look at the end of the file: `mudanza survey` shows what stands below its rows. If the figure is on paper, write it in [[totals]], as read = "1234.50".',
        told(
            "The plan compares the Balance with what is printed, and the export of harbour ends with its last record."
        ),
    ),
    Code(
        "together.incomplete",
        S,
        "A record is held back since one that it goes together with is: a line keeps its header and its other lines.",
        "Mend the row that is named; all of them then go together. What the plan says of it stands in [together].",
        told("Line 3 of an invoice has no amount, and invoices go whole or not at all."),
    ),
    Code(
        "together.differs",
        S,
        "The total of a header is not the sum of its lines.",
        "Look whether lines are missing or held back (`mudanza trace` finds a row), or whether the total counts what the lines do not, a discount or a tax.",
        told("Invoice 2031 says 120.00, and its three lines come to 90.00."),
    ),
    Code(
        "keep.unsteady",
        W,
        "`keep` compares columns whose values may change, as a status or a date does, the target holds records of the list, and nothing says what becomes of those that are no longer chosen: the target would keep them for ever as they were.",
        'Say in the plan what becomes of them, [leavers] unselected = "last change"; or choose them as long as the target holds them: … or {#in_target}.',
        told("`keep` asks for the Status; 12 records that were handed over are not chosen any more."),
    ),
]
