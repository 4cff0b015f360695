"""Comparing what came back with what was lent, cell by cell."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import replace

import polars as pl

from mudanza.core.documents.errors import counted
from mudanza.core.findings.finding import SCHEMA, Finding, frame
from mudanza.core.findings.tally import Tally
from mudanza.core.layouts.layout import Field
from mudanza.core.layouts.rules import blank_in_file, render
from mudanza.core.values.kinds import Kind
from mudanza.core.values.row_columns import INNER, LINE
from mudanza.core.work.loans.conflicts import CHANGES, Elsewhere, settle, told_conflict, told_there
from mudanza.core.work.loans.faulty import faulty_cells
from mudanza.core.work.loans.held_rows import HELD, rows_held
from mudanza.core.work.loans.lent import KEY, ROW, WHY_HELD, Lent, keyed, row_mark, shown_text, with_changes
from mudanza.core.work.loans.loan_book import REMOVAL
from mudanza.core.work.loans.masks import is_mask, unmasked
from mudanza.core.work.loans.outcome import Answers, LoanReturn, Outcome
from mudanza.core.work.loans.returned.no_values import no_values
from mudanza.core.work.loans.returned.opened import Opened
from mudanza.core.work.loans.returned.pairing import AT, columns_found, pair
from mudanza.core.work.loans.returned.table import Table, with_columns_found
from mudanza.core.work.loans.rules_asked import broken_later, broken_rows, broken_rules
from mudanza.core.work.loans.spoilage.judging import FAULTY, Judged, Told, as_read, judge_columns
from mudanza.core.work.loans.wording import in_any_language

_OF = f"{INNER}line of"
_REMOVE = in_any_language("remove")


def compare_returned(lent: Lent, opened: Opened, table: Table, elsewhere: Elsewhere, answers: Answers) -> LoanReturn:
    """What came back in a table, beside what was lent."""
    return _Comparison(lent, opened, table, answers).result(elsewhere)


class _Comparison:
    def __init__(self, lent: Lent, opened: Opened, table: Table, answers: Answers) -> None:
        if table.missing:
            table = with_columns_found(table, columns_found(lent, table))
        self.lent, self.opened, self.answers = lent, opened, answers
        rows = keyed(_as_key(lent, _with_real_values(lent, table.rows)), lent.keys)
        self.table = replace(table, rows=_not_yet_accepted(lent, rows))
        self.found: list[pl.DataFrame] = [frame([*table.findings, *table.left_over()])]
        self.held: list[pl.DataFrame] = []
        self.told: list[Told] = []
        self.unheld = no_values(self.table)
        self.blocked: str | None = None

    def result(self, elsewhere: Elsewhere) -> LoanReturn:
        """All of it."""
        lent, table = self.lent, self.table
        if lent.changed_layout is not None:
            names = [one.title for one in lent.layout.fields], [one.title for one in lent.changed_layout.fields]
            apart = [title for title in names[0] if title not in names[1]] or ["what fields take"]
            self._say(Finding("loan.layout-changed", table.shown, value=", ".join(apart), rule="as when it was lent"))
        for title in table.missing:
            if title not in table.repeated:
                self._say(Finding("loan.heading-missing", table.shown, field=title, rule="a heading of the loan"))
            self.blocked = "headings of the loan are missing or repeated"
        paired = pair(lent, table)
        self._say(*paired.findings)
        rows, unclear = paired.rows, set(paired.unclear)
        if self.blocked:
            unclear = set(rows[LINE])
        sound = rows.filter(~pl.col(LINE).is_in(list(unclear))) if unclear else rows
        removals = self._removals(sound, rows, unclear)
        judged = dict(judge_columns(list(self._columns(sound)), dict(self.answers.columns)))
        edits = self._edits(judged)
        additions = self._additions(sound, judged, unclear, elsewhere)
        changes = self._sound_edits(edits, removals)
        settled = settle(lent, changes, removals, elsewhere, self.answers.prefer)
        self._say(*told_there(settled.there, elsewhere, table.shown))
        self._say(*(told_conflict(conflict, table.shown) for conflict in settled.conflicts))
        every = pl.concat([pl.DataFrame(schema=SCHEMA), *self.found])
        held = pl.concat([pl.DataFrame(schema=HELD), *self.held])
        tally = Tally()
        tally.add(every)
        # of a table that was not understood no row can be put back
        whole = rows.clear() if table.missing else rows
        held_rows = rows_held(whole, [f.title for f in lent.fields], unclear, held, every)
        outcome = Outcome(settled.changes, additions, settled.removals, held, held_rows, settled.disputed)
        return LoanReturn(
            lent.id, lent.subject, lent.moment, rows.height, self.opened, outcome, tuple(self.told), settled.conflicts, every, tally.groups(), self.blocked
        )  # fmt: skip

    def _say(self, *findings: Finding) -> None:
        self.found.append(frame(list(findings)))

    # columns

    def _columns(self, sound: pl.DataFrame) -> Iterator[tuple[Field, pl.DataFrame]]:
        """What was lent in each column and what came back, without the cells that hold no value."""
        there = sound.filter(pl.col(AT).is_not_null()) if sound[AT].null_count() else sound
        lent = self.lent.before
        if there[AT].equals(lent[ROW].alias(AT)):
            # they came back in the order in which they were lent
            both = there.hstack(lent.rename(lambda name: f"{name}{INNER}lent"))
        else:
            beside = lent.rename(lambda name: name if name == ROW else f"{name}{INNER}lent")
            both = there.join(beside, left_on=AT, right_on=ROW, how="inner", maintain_order="left")
        fields = [one for one in self.lent.fields if one not in self.lent.keys and one.title in self.table.places]
        pairs = {one.title: (pl.col(f"{one.title}{INNER}lent"), pl.col(one.title)) for one in fields}
        differ = both.select(before.ne_missing(after).any().alias(title) for title, (before, after) in pairs.items())
        texts = {title: before for title, (before, _) in pairs.items()}
        faulty = (
            faulty_cells(both, pl.col(f"{WHY_HELD}{INNER}lent"), texts)
            if self.lent.held_back and WHY_HELD in lent.columns
            else None
        )
        for one in fields:
            before, after = pairs[one.title]
            if one.title not in self.unheld and not differ[one.title].item():
                continue
            cells = both.select(
                pl.col(LINE).alias("line"),
                pl.col(AT).alias("at"),
                pl.when(~blank_in_file(one, before)).then(before).alias("before"),
                pl.when(~blank_in_file(one, after)).then(after).alias("after"),
            )
            if one.is_typed and one.separator is None:
                cells = cells.with_columns(one.type.read(pl.col("before")).alias("was"))
            if faulty is not None:
                cells = cells.with_columns(faulty[one.title].alias(FAULTY))
            if (odd := self.unheld.get(one.title)) is not None:
                cells = self._without(one, cells, odd)
            yield one, cells

    def _without(self, one: Field, cells: pl.DataFrame, odd: pl.DataFrame) -> pl.DataFrame:
        """Cells without those that hold no value. These are told, unless they show what was lent."""
        beside = odd.join(cells, on="line", how="inner", maintain_order="left")
        same = (pl.col("before") == pl.col("after")).fill_null(False)
        if "was" in cells.columns:
            same |= (one.type.read_sheet(pl.col("after")) == pl.col("was")).fill_null(False)
        stored = same & (pl.col("code") == "loan.formula")
        wrong = beside.filter(~stored)
        self._say(
            *(
                self.table.finding(code, one.title, line, value, rule)
                for line, code, value, rule in wrong.select("line", "code", "value", "rule").iter_rows()
            )
        )
        self.held.append(wrong.select("line", pl.lit(one.title).alias("field"), "value", pl.col("code").alias("why")))
        return cells.filter(~pl.col("line").is_in(odd["line"].implode()))

    def _edits(self, judged: Mapping[Field, Judged]) -> pl.DataFrame:
        """The edited cells of all columns; what is spoilt and what is a question is told."""
        parts = []
        keys = self.lent.before.select(pl.col(ROW).alias("at"), pl.col(KEY).alias("key"))
        for one, of_column in judged.items():
            self.told += of_column.told
            for told in of_column.told:
                self._say(self._of_spoilage(told))
            doubtful = of_column.held.filter(~pl.col("why").is_in([t.words for t in of_column.told]))
            self._say(
                *(
                    self.table.finding("loan.cell-spoilt", one.title, line, after, why)
                    for line, after, why in doubtful.select("line", "after", "why").iter_rows()
                )
            )
            self.held.append(
                of_column.held.select("line", pl.lit(one.title).alias("field"), pl.col("after").alias("value"), "why")
            )
            column = self.table.at(self.table.places[one.title], 0)[:-1]
            edits = self._of_open_cells(one, self._since_lent(one, of_column.edits))
            if edits.is_empty():
                continue
            parts.append(
                self._in_the_words_of_the_layout(one, edits)
                .join(
                    keys.filter(pl.col("at").is_in(edits["at"].implode())), on="at", how="inner", maintain_order="left"
                )
                .select(
                    "key",
                    pl.lit(one.title).alias("field"),
                    "before",
                    "after",
                    "line",
                    pl.concat_str(pl.lit(column), pl.col("line").cast(pl.String)).alias("cell"),
                )
            )
        return pl.concat([pl.DataFrame(schema=CHANGES), *parts]).sort("line", maintain_order=True)

    def _in_the_words_of_the_layout(self, one: Field, edits: pl.DataFrame) -> pl.DataFrame:
        """Edits with what the layout has for a blank: before as it was lent, after as its first word for null."""
        lent = self.lent.before.select(pl.col(ROW).alias("at"), pl.col(one.title).alias("before"))
        lent = lent.filter(pl.col("at").is_in(edits["at"].implode()))
        beside = edits.drop("before").join(lent, on="at", how="left", maintain_order="left")
        after = pl.col("after").fill_null(one.null[0]) if one.null[0] else pl.col("after")
        return beside.with_columns(after).select(edits.columns)

    def _since_lent(self, one: Field, edits: pl.DataFrame) -> pl.DataFrame:
        """Edits of a field without those of cells that are as they were lent: another copy came back before, and what was accepted of it is not taken back by one that does not know of it."""
        if self.lent.first is self.lent.before or edits.is_empty():
            return edits
        first = pl.col(one.title)
        lent = self.lent.first.select(
            pl.col(ROW).alias("at"), pl.when(~blank_in_file(one, first)).then(first).alias("first")
        )
        beside = edits.join(lent, on="at", how="left", maintain_order="left")
        same = pl.col("at").is_in(lent["at"].implode()) & pl.col("after").eq_missing(pl.col("first"))
        stale = beside.filter(same)
        if stale.height:
            line, after = stale.select("line", "after").row(0)
            told = self.table.finding("loan.stale", one.title, line, after, "what was accepted since")
            self._say(replace(told, value=f"{after or '(blank)'}; {stale.height:,} of them"))
        return beside.filter(~same).drop("first")

    def _of_open_cells(self, one: Field, edits: pl.DataFrame) -> pl.DataFrame:
        """Edits of a field without those of cells that were to be seen only, and of masks that stand for nothing."""
        if one.title in self.lent.locked:
            wrong, code, rule = edits, "loan.locked", "as it was lent"
        elif one.title in self.lent.masked:
            wrong, code, rule = (
                edits.filter(is_mask(pl.col("after")).fill_null(False)),
                "loan.mask-unknown",
                "a mask of the loan",
            )
        else:
            return edits
        self._say(
            *(
                self.table.finding(code, one.title, line, after, rule)
                for line, after in wrong.select("line", "after").iter_rows()
            )
        )
        self.held.append(
            wrong.select(
                "line", pl.lit(one.title).alias("field"), pl.col("after").alias("value"), pl.lit(code).alias("why")
            )
        )
        return edits.join(wrong.select("line"), on="line", how="anti", maintain_order="left")

    def _of_spoilage(self, told: Told) -> Finding:
        cells = f"{told.cells:,} of {told.of:,} cells differ only so: {told.words}"
        code = {"undone": "loan.undone", "question": "loan.question"}[told.settled]
        example = f"{told.before or '(blank)'} came back as {told.after or '(blank)'}"
        hint = (
            f"--undo {told.field!r} keeps what was lent, --as-edits {told.field!r} takes what came back."
            if told.settled == "question"
            else None
        )
        at = self.table.cell(told.field, told.line)
        return Finding(code, self.table.shown, told.line, at, field=told.field, value=cells, rule=example, hint=hint)

    # rows

    def _removals(self, sound: pl.DataFrame, rows: pl.DataFrame, unclear: set[int]) -> pl.DataFrame:
        """Lent rows that are to be removed: marked so, or gone and said to mean it."""
        lent, table = self.lent, self.table
        said_so = pl.col(REMOVAL).str.strip_chars().str.to_lowercase().is_in(list(_REMOVE)) & pl.col(AT).is_not_null()
        said = sound.filter(pl.col(REMOVAL).is_not_null())
        wrong = said.filter(~said_so)
        rule = "its one word, on a row that was lent"
        self._say(
            *(
                table.finding("loan.removal-unclear", REMOVAL, line, mark, rule)
                for line, mark in wrong.select(LINE, REMOVAL).iter_rows()
            )
        )
        unclear.update(wrong[LINE])
        marked = said.filter(said_so)[AT]
        gone = lent.before.clear()
        if not rows[AT].equals(lent.before[ROW]):
            there = rows[AT].drop_nulls()
            keys = rows[KEY].drop_nulls()
            gone = lent.before.filter(~pl.col(ROW).is_in(there.implode()) & ~pl.col(KEY).is_in(keys.implode()))
        if gone.height and not table.missing and self.answers.missing is None:
            title = ", ".join(f.title for f in lent.keys)
            self._say(
                *(Finding("loan.row-missing", table.shown, field=title, value=shown_text(key)) for key in gone[KEY])
            )
            self.blocked = (
                self.blocked
                or f"{counted(gone.height, 'lent row')} did not come back; say --missing keep or --missing remove"
            )
        left_out = gone[ROW] if self.answers.missing == "remove" else gone[ROW].clear()
        return lent.before.filter(pl.col(ROW).is_in(pl.concat([marked, left_out]).implode()))

    def _additions(
        self, sound: pl.DataFrame, judged: Mapping[Field, Judged], unclear: set[int], elsewhere: Elsewhere
    ) -> pl.DataFrame:
        """New rows, in the texts of the layout, that break none of its rules."""
        lent, table = self.lent, self.table
        new = sound.filter(pl.col(AT).is_null() & ~pl.col(LINE).is_in(list(unclear)))
        needs_key = [f for f in lent.keys if f.required and not f.left_out_of_additions]
        if needs_key:
            title = ", ".join(f.title for f in lent.keys)
            for line in new.filter(pl.col(KEY).is_null())[LINE]:
                told = table.finding("loan.key-blank", needs_key[0].title, line, None, "required")
                self._say(replace(told, field=title))
                unclear.add(line)
            new = new.filter(pl.col(KEY).is_not_null())
        there = [one for one in lent.fields if one.title in table.places]
        new = new.with_columns(as_read(one, new[one.title], judged.get(one)).alias(one.title) for one in there)
        for title, part in self.unheld.items():
            here = part.join(new.select(pl.col(LINE).alias("line")), on="line", how="semi", maintain_order="left")
            unclear.update(here["line"])
            self._say(
                *(
                    table.finding(code, title, line, value, rule)
                    for line, code, value, rule in here.select("line", "code", "value", "rule").iter_rows()
                )
            )
        wanted = [f for f in lent.layout.fields if not f.left_out_of_additions]
        asked = pl.concat([broken_rules(new, wanted, table), *self._later(new)])
        wrong = [
            asked.unique(["line", "field", "code"], keep="first", maintain_order=True),
            broken_rows(new, lent.layout, table),
        ]
        there_already = elsewhere.keys().implode() if new.height else pl.Series(dtype=pl.String).implode()
        taken = new.filter(pl.col(KEY).is_in(there_already)).select(KEY, LINE).rows()
        title, rule = lent.keys[0].title, f"not yet in {lent.file}"
        wrong.append(frame([table.finding("key.repeated", title, line, shown_text(key), rule) for key, line in taken]))
        for one in wrong:
            self.found.append(one)
            unclear.update(one.filter(pl.col("severity") == "stop")["line"].drop_nulls().to_list())
        return new.filter(~pl.col(LINE).is_in(list(unclear)))

    def _sound_edits(self, edits: pl.DataFrame, removals: pl.DataFrame) -> pl.DataFrame:
        """Edits that break no rule of the layout, of rows that are not to be removed."""
        edits = edits.filter(~pl.col("key").is_in(removals[KEY].implode()))
        if edits.is_empty():
            return edits
        lines = edits.select(pl.col("key").alias(KEY), pl.col("line").alias(_OF)).unique(KEY)
        old = self.lent.before.join(lines, on=KEY, how="inner", maintain_order="left").drop(LINE).rename({_OF: LINE})
        new = with_changes(old, edits)
        others = [f for f in self.lent.fields if f not in self.lent.keys]
        touched = edits.select("line", "field")
        wrong = pl.concat([broken_rules(new, others, self.table), *self._later(new)])
        wrong = wrong.unique(["line", "field", "code"], keep="first", maintain_order=True).join(
            touched, on=["line", "field"], how="semi", maintain_order="left"
        )
        # a rule that ties several fields, and was kept before
        before = broken_rows(old, self.lent.layout, self.table).select("line", "code", "field", "rule")
        rows = broken_rows(new, self.lent.layout, self.table).join(
            before, on=["line", "code", "field", "rule"], how="anti", nulls_equal=True, maintain_order="left"
        )
        self.found += [wrong, rows]
        bad = wrong.filter(pl.col("severity") == "stop").select("line", "field", "value", pl.col("code").alias("why"))
        tied = rows.filter(pl.col("severity") == "stop").select("line", pl.col("code").alias("why"))
        tied_cells = edits.join(tied.unique("line", maintain_order=True), on="line", maintain_order="left")
        self.held += [
            bad.select(list(HELD)),
            tied_cells.select("line", "field", pl.col("after").alias("value"), "why"),
        ]
        sound = edits.join(bad.select("line", "field"), on=["line", "field"], how="anti", maintain_order="left")
        return sound.filter(~pl.col("line").is_in(tied["line"].implode()))

    def _later(self, rows: pl.DataFrame) -> list[pl.DataFrame]:
        """What rows break of the rules that the layout has got since they were lent."""
        later = self.lent.changed_layout
        return [] if later is None else [broken_later(rows, self.lent.layout, later, self.table)]


def _with_real_values(lent: Lent, rows: pl.DataFrame) -> pl.DataFrame:
    """Rows with the real values in the place of masks."""
    fields = [lent.layout.field_named(title) for title in lent.masked]
    return rows.with_columns(unmasked(one, lent.first, rows[one.title]) for one in fields if one.title in rows.columns)


def _as_key(lent: Lent, rows: pl.DataFrame) -> pl.DataFrame:
    """Rows with the texts of their keys as the layout writes them."""
    texts = []
    for one in lent.keys:
        if one.kind is not Kind.TEXT and one.separator is None:
            cell = pl.when(~blank_in_file(one, pl.col(one.title))).then(pl.col(one.title))
            texts.append(
                pl.coalesce(render(one, one.type.read_sheet(cell), one.kind), pl.col(one.title)).alias(one.title)
            )
    return rows.with_columns(texts)


def _not_yet_accepted(lent: Lent, rows: pl.DataFrame) -> pl.DataFrame:
    """The returned rows without records that were removed, or added without a key, when an earlier return was accepted."""
    if not lent.removed and not lent.added:
        return rows
    mark = pl.coalesce(KEY, row_mark([f.title for f in lent.fields]))
    keyless = pl.col(KEY).is_null() & mark.is_in(list(lent.added))
    return rows.filter(~pl.col(KEY).is_in(list(lent.removed)).fill_null(False) & ~keyless)
