"""Checking a file that anyone made against a layout."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from pathlib import Path

import polars as pl

from mudanza.core.documents.errors import SourceError, nearest
from mudanza.core.engine.repeats import SeenKeys
from mudanza.core.findings.codes import Severity
from mudanza.core.findings.finding import SCHEMA, Finding, frame
from mudanza.core.findings.problem import Problem, flags, gather
from mudanza.core.findings.tally import Group, Tally
from mudanza.core.layouts.layout import Field, ForeignKey, Layout
from mudanza.core.layouts.rules import blank_in_file, kind_problems, value_problems
from mudanza.core.sources.noticing import noticed_in
from mudanza.core.sources.opening import open_source, read_ahead
from mudanza.core.sources.reader import Encoding, Reader, ReadOptions
from mudanza.core.values.row_columns import INNER, LINE, key_text, shown_key
from mudanza.core.work.progress import Progress, Tell, quietly
from mudanza.core.work.referred_files import layouts_beside, referred_in

#: where a key stood first; files may have columns of any other name
_FIRST = f"{INNER}first"


@dataclass(frozen=True)
class CheckResult:
    """What a check found. `findings` has the first of them (all, without a limit), `groups` counts all."""

    file: str
    layout: str
    rows: int
    findings: pl.DataFrame
    groups: list[Group]

    @property
    def total(self) -> int:
        return sum(group.count for group in self.groups)

    @property
    def clean(self) -> bool:
        return not any(group.severity is Severity.STOP for group in self.groups)


def check(
    path: Path,
    layout: Layout,
    *,
    shown: str | None = None,
    layout_shown: str | None = None,
    others: Sequence[Path] = (),
    sheet: str | None = None,
    limit: int | None = None,
    tell: Tell = quietly,
) -> CheckResult:
    """Check every row of a CSV or XLSX file. `others` are files that references point into.

    With `limit`, only so many findings are kept; all are counted. Raises SourceError if the file cannot be read at all.
    """
    work = _Check(path, layout, shown or str(path), list(others), sheet, limit)
    rows = work.run(tell)
    found = pl.concat([pl.DataFrame(schema=SCHEMA), *work.found]).sort("line", maintain_order=True)
    return CheckResult(work.shown, layout_shown or str(layout.path), rows, found, work.tally.groups())


class _Check:
    def __init__(
        self, path: Path, layout: Layout, shown: str, others: list[Path], sheet: str | None, limit: int | None
    ) -> None:
        self.layout, self.shown, self.others, self.limit = layout, shown, others, limit
        self.found: list[pl.DataFrame] = []
        self.kept = 0
        self.tally = Tally()
        self.seen = SeenKeys()
        self.reader = self._open(path, sheet)
        self.in_sheet = self.reader.facts.sheet is not None

    def run(self, tell: Tell) -> int:
        tell(Progress(f"checking {self.shown}"))
        columns = self._headings()
        fields = [(f, columns[f.title]) for f in self.layout.fields if f.title in columns]
        typed, problems = self._problems(fields)
        problems += self._reference_problems(columns)
        total = 0
        for batch in read_ahead(self.reader.batches()):
            total += batch.rows.height + len(batch.broken)
            self._keep(noticed_in(batch, self.reader, self.shown))
            if batch.rows.height:
                self._rows(batch.rows, typed, problems, fields)
            tell(Progress(f"checking {self.shown}", total, batch.share))
        return total

    # opening

    def _open(self, path: Path, sheet: str | None) -> Reader:
        """Open the file as the layout says it is written; where it is not, as it really is, with a finding."""
        dialect = self.layout.dialect
        options = ReadOptions(quote=dialect.quote, sheet=sheet, exact=True)
        if not dialect.header:
            return open_source(path, replace(options, heading=0))
        found = open_source(path, options)
        first = open_source(path, replace(options, heading=1))
        titles = {f.title for f in self.layout.fields}

        def matches(reader: Reader) -> int:
            return len(titles & set(reader.raw_headings))

        reader = found if matches(found) > matches(first) else first
        facts = reader.facts
        if facts.heading_line > 1:
            self._add([Finding("heading.not-first", self.shown, facts.heading_line, rule="heading in line 1")])
        if facts.delimiter is not None and facts.delimiter != dialect.delimiter and len(reader.headings) > 1:
            self._add(
                [
                    Finding(
                        "file.delimiter",
                        self.shown,
                        value=facts.delimiter,
                        rule=f"delimiter {dialect.delimiter!r}",
                    )
                ]
            )
        said = dialect.encoding
        if facts.text is not None and not _same_encoding(facts.text, said):
            self._add([Finding("file.encoding", self.shown, value=facts.encoding, rule=f"encoding {said}")])
        return reader

    def _headings(self) -> dict[str, str]:
        """The reader's column for each title that is there; findings for all that is not as the layout has it."""
        titles = [f.title for f in self.layout.fields]
        line = self.reader.facts.heading_line or None
        if not self.layout.dialect.header:
            if len(self.reader.headings) != len(titles):
                self._add(
                    [
                        Finding(
                            "read.ragged",
                            self.shown,
                            1,
                            value=f"{len(self.reader.headings)} columns",
                            rule=f"{len(titles)} columns",
                        )
                    ]
                )
            return dict(zip(titles, self.reader.headings, strict=False))
        exact = [h.strip("\r") for h in self.reader.raw_headings]
        found: list[Finding] = []
        columns: dict[str, str] = {}
        for raw, name in zip(exact, self.reader.headings, strict=True):
            if raw in columns:
                found.append(Finding("heading.repeated", self.shown, line, self._cell(name), field=raw, rule="once"))
            elif raw in titles:
                columns[raw] = name
        missing = [t for t in titles if t not in columns]
        for raw, name in zip(exact, self.reader.headings, strict=True):
            if raw in titles:
                continue
            near = nearest(raw, missing, least=80) or next(
                (f.title for f in self.layout.fields if f.name == raw and f.title in missing), None
            )
            if near is not None:
                found.append(
                    Finding(
                        "heading.similar",
                        self.shown,
                        line,
                        self._cell(name),
                        field=near,
                        value=raw,
                        rule=f"exactly {near!r}",
                    )
                )
                columns[near] = name
                missing.remove(near)
            else:
                found.append(
                    Finding(
                        "heading.extra",
                        self.shown,
                        line,
                        self._cell(name),
                        field=raw or name,
                        value=raw,
                        rule="a column of the layout",
                    )
                )
        found[:0] = self._other_layout(exact, len(titles) - len(missing))
        required = {f.title for f in self.layout.fields if f.required}
        for title in missing:
            rule = "required column" if title in required else "column of the layout"
            found.append(Finding("heading.missing", self.shown, line, field=title, rule=rule))
        order = [name for title, name in columns.items() if title in titles]
        there = sorted(columns, key=titles.index)
        standing = sorted(columns, key=lambda t: self.reader.headings.index(columns[t]))
        if order and there != standing:
            title, place = next((t, i) for i, (t, s) in enumerate(zip(standing, there, strict=True)) if t != s)
            rule = f"order: {', '.join(there)}"
            found.append(
                Finding(
                    "heading.order",
                    self.shown,
                    line,
                    self._cell(columns[title]),
                    field=title,
                    value=f"column {place + 1}",
                    rule=rule,
                )
            )
        self._add(found)
        return columns

    def _other_layout(self, headings: Sequence[str], fitting: int) -> list[Finding]:
        """A finding where the headings are those of another layout of the move: it was probably meant."""
        if fitting * 2 >= len(self.layout.fields):
            return []

        def share(layout: Layout) -> float:
            return len({f.title for f in layout.fields} & set(headings)) / max(len(layout.fields), len(headings))

        others = {name: share(layout) for name, layout in layouts_beside(self.layout).items()}
        best = max(others, key=lambda name: others[name], default=None)
        if best is None or others[best] < 0.6 or others[best] <= share(self.layout):
            return []
        return [Finding("layout.other", self.shown, value=best, rule=f"the layout {self.layout.path.stem}")]

    def _cell(self, heading: str) -> str | None:
        """The cell of a heading."""
        return self._cell_at(heading, self.reader.facts.heading_line)

    def _cell_at(self, heading: str, line: int) -> str | None:
        letters = self.reader.letters.get(heading)
        return None if letters is None else f"{self.reader.facts.sheet}!{letters}{line}"

    def _cells(self, columns: Mapping[str, str]) -> pl.Expr | None:
        """The cells of findings on fields, whose columns in the file are given."""
        if not self.in_sheet:
            return None
        letters = {
            title: self.reader.letters[column] for title, column in columns.items() if column in self.reader.letters
        }
        letter = pl.col("field").replace_strict(letters, default=None, return_dtype=pl.String)
        return pl.format("{}!{}{}", pl.lit(self.reader.facts.sheet), letter, "line")

    # rows

    def _problems(self, fields: list[tuple[Field, str]]) -> tuple[dict[str, pl.Expr], list[Problem]]:
        typed: dict[str, pl.Expr] = {}
        problems: list[Problem] = []
        for field, column in fields:
            text = pl.col(column)
            value = text
            if field.is_typed:
                name = f"{INNER}{field.name}"
                typed[name] = field.type.read_sheet(text) if self.in_sheet else field.type.read(text)
                value = pl.col(name)
            problems += kind_problems(field, text, value) + value_problems(
                field, text, value, blank_in_file(field, text)
            )
        return typed, problems

    def _rows(
        self,
        rows: pl.DataFrame,
        typed: dict[str, pl.Expr],
        problems: list[Problem],
        fields: list[tuple[Field, str]],
    ) -> None:
        lazy = rows.lazy()
        if typed:
            lazy = lazy.with_columns(**typed)
        rows = lazy.with_columns(flags(problems, exact=False)).collect()
        columns = {field.title: column for field, column in fields}

        self._keep(gather(rows, problems, pl.lit(self.shown), self._cells(columns)))
        self._unique(rows, columns)

    def _unique(self, rows: pl.DataFrame, columns: dict[str, str]) -> None:
        keys = [f for f in self.layout.fields if f.name in self.layout.primary_key]
        if not keys or any(f.title not in columns for f in keys):
            return
        texts = [pl.col(columns[f.title]) for f in keys]
        compared = [self.layout.key_rule.part(t) for t in texts]
        filled = rows.select(LINE, *texts)
        whole_key_blank = pl.all_horizontal([blank_in_file(f, t) for f, t in zip(keys, texts, strict=True)])
        filled = filled.filter(~whole_key_blank)
        hashed = SeenKeys.prepare(filled, compared, texts).with_columns(filled[LINE].alias("where"))
        first = self.seen.first_seen(hashed)
        if first is not None:
            rule = pl.concat_str(pl.lit("unique; first in line "), pl.col(_FIRST))
            title, value = ", ".join(f.title for f in keys), shown_key(key_text(texts))
            problem = Problem("key.repeated", title, pl.col(_FIRST).is_not_null(), value, rule)
            rows = filled.with_columns(first["first"].alias(_FIRST)).with_columns(flags([problem]))
            self._keep(gather(rows, [problem], pl.lit(self.shown), self._cells({title: columns[keys[0].title]})))
            hashed = hashed.filter(first["first"].is_null())
        self.seen.add(hashed)

    # references

    def _reference_problems(self, columns: dict[str, str]) -> list[Problem]:
        problems = []
        for reference in self.layout.references:
            fields = [self.layout.field_named(name) for name in reference.fields]
            if any(f.title not in columns for f in fields):
                continue
            title = ", ".join(f.title for f in fields)
            path, named = self._resource(reference)
            why = ""
            try:
                referred = None if path is None else referred_in(path, reference, self.layout)
            except SourceError as error:
                # a file that merely lies beside may be another
                if named:
                    raise
                referred, why = None, f"; {path}: {error.what}"
            if path is None or referred is None:
                rule = f"among {', '.join(reference.columns)} of {reference.resource}{why}"
                self._add([Finding("reference.unchecked", self.shown, field=title, rule=rule)])
                continue
            texts = [pl.col(columns[f.title]) for f in fields]
            joined = key_text(texts)
            asked = referred.compared.whole(joined)
            missing = ~asked.is_in(referred.values.implode())
            blank = pl.any_horizontal([blank_in_file(f, t) for f, t in zip(fields, texts, strict=True)])
            shown = shown_key(joined)
            rule = f"among {', '.join(reference.columns)} of {path.name}"
            problems.append(Problem("reference.missing", title, missing & ~blank, shown, rule))
        return problems

    def _resource(self, reference: ForeignKey) -> tuple[Path | None, bool]:
        """The file that a reference points into (None if there is none), and whether somebody named it."""
        name = Path(reference.resource).name
        for other in self.others:
            if other.name == name or other.stem == Path(name).stem:
                return other, True
        if len(self.others) == 1 and len(self.layout.references) == 1:
            return self.others[0], True
        beside = self.reader.facts.path.parent / name
        return beside if beside.is_file() else None, False

    # keeping findings

    def _add(self, findings: list[Finding]) -> None:
        if findings:
            self._keep(frame(findings))

    def _keep(self, findings: pl.DataFrame) -> None:
        self.tally.add(findings)
        room = findings.height if self.limit is None else max(self.limit - self.kept, 0)
        if room and findings.height:
            self.found.append(findings.head(room))
            self.kept += min(room, findings.height)


def _same_encoding(text: Encoding, said: str) -> bool:
    found = text.name
    if found == said or text.how == "ascii":
        return True
    wide = found.startswith(("utf-16", "utf-32"))
    if said == "utf-8" or found == "utf-8" or wide:
        return wide and said.startswith(found[:6])
    # eight-bit encodings cannot be told apart for certain
    return True
