"""How `mudanza survey` shows what it found."""

from __future__ import annotations

from os.path import commonpath
from pathlib import Path
from typing import TYPE_CHECKING

from rich.text import Text

from mudanza.cli import look
from mudanza.core.documents.toml_texts import toml_text

if TYPE_CHECKING:
    from mudanza.core.findings.finding import Finding
    from mudanza.core.sources.reader import SheetFacts
    from mudanza.core.work.survey.column_facts import ColumnFacts
    from mudanza.core.work.survey.keys import KeyCandidate
    from mudanza.core.work.survey.references import LikelyReference
    from mudanza.core.work.survey.surveying import SurveyResult

_DELIMITERS = {"\t": "tab", ",": "comma", ";": "semicolon", "|": "bar", "^": "caret"}


def show_all(
    results: list[SurveyResult],
    refers: list[LikelyReference],
    about: list[Finding],
    details: bool,
    chart_file: Path | None,
) -> None:
    """One source with its columns; of several an overview, and the columns only if `details` are asked for."""
    from mudanza.core.findings.finding import frame
    from mudanza.core.findings.tally import Tally

    lost = [f for f in about if f.code == "file.unreadable"]
    readable = [f for f in about if f.code != "file.unreadable"]
    if len(results) == 1:
        _show(results[0], details, readable)
        _show_lost(lost)
    else:
        _overview(results, refers)
        if details:
            for result in results:
                look.say()
                _show(result, details, [])
        tally = Tally()
        tally.add(frame(readable))
        # a line that belongs to no record type is noticed by each of them
        noticed = {(g.code, g.subject, r.facts.path, g.example.line): g for r in reversed(results) for g in r.findings}
        groups = tally.groups() + ([] if details else list(noticed.values())[::-1])
        order = ["stop", "warn", "note"]
        notes = 0 if details else sum(g.severity == "note" for g in groups)
        shown = [g for g in groups if details or g.severity != "note"]
        look.groups(sorted(shown, key=lambda g: order.index(g.severity)), with_file=True)
        if notes:
            look.say(f"        and {look.plural(notes, 'note')}, told with each source", style="dim")
        _show_lost(lost)
        if not details:
            _show_proposals(results)
            look.say()
            look.say("survey one source, or add --columns, to see what is in its columns.", style="dim")
    if chart_file is not None:
        look.say()
        look.say(f"chart  {chart_file}")


def _show_lost(lost: list[Finding]) -> None:
    if lost:
        look.say()
        look.heading("cannot be read", look.plural(len(lost), "file"))
        look.columns([[f.file or "", f.value or "", Text(f.hint or "", style="dim")] for f in lost], fold=(0, 1, 2))


def _overview(results: list[SurveyResult], refers: list[LikelyReference]) -> None:
    short, where = _short_names([r.name for r in results])
    look.heading(f"{len(results)} sources{where}")
    rows = []
    for r in results:
        damaged = f", {r.damaged} damaged" if r.damaged else ""
        key = " + ".join(r.keys[0].columns) if r.keys else "-"
        unsure = " ?" if r.keys and r.keys[0].repeated else ""
        rows.append(
            [short[r.name], r.facts.format, f"{look.count(r.rows)}{damaged}", str(len(r.columns)), f"{key}{unsure}"]
        )
    look.columns(rows, heads=["source", "format", "rows", "columns", "key, perhaps"], right=(2, 3), fold=(0, 1, 4))
    if refers:
        look.say()
        look.heading("references", "as far as values and headings show")
        look.columns(
            [[f"{short[r.source]}: {r.column}", "->", f"{short[r.target]}: {r.key}", _missing(r)] for r in refers],
            fold=(0, 2, 3),
        )


def _short_names(names: list[str]) -> tuple[dict[str, str], str]:
    """Names without the folder that all of them begin with, and that folder in words."""
    paths = [Path(name) for name in names]
    if len({p.is_absolute() for p in paths}) > 1 or not (folder := commonpath([p.parent for p in paths])):
        return dict(zip(names, names, strict=True)), ""
    return {name: str(Path(name).relative_to(folder)) for name in names}, f" in {folder}"


def _missing(reference: LikelyReference) -> str:
    about = "" if reference.exact else "about "
    if not reference.missing:
        return "all found"
    return f"{about}{look.count(reference.missing)} of {look.plural(reference.values, 'value')} lead nowhere"


def _show(result: SurveyResult, details: bool, about: list[Finding]) -> None:
    from mudanza.core.findings.finding import frame
    from mudanza.core.findings.tally import Tally

    facts = result.facts
    size = f", {look.size(facts.size)}" if facts.size else ""
    look.heading(result.name, f"{facts.format}{size}")
    look.columns([[Text(a, style="dim"), b] for a, b in _facts(result)], fold=(1,))
    look.say()
    if details:
        for column in result.columns:
            _show_column(column, result.rows - result.damaged)
    else:
        _show_columns(result)
    tally = Tally()
    tally.add(frame(about))
    look.groups([*tally.groups(), *result.findings])
    _show_proposal(result)


def _facts(result: SurveyResult) -> list[tuple[str, str]]:
    facts = result.facts
    damaged = f", {result.damaged} of them damaged" if result.damaged else ""
    rows = [("rows", look.plural(result.rows, "row") + damaged)]
    if result.files:
        rows.append(("files", "; ".join(f"{name} {look.count(n)}" for name, n in result.files)))
    if facts.text is not None:
        rows.append(("encoding", f"{facts.text.name} ({facts.text.because})"))
    if facts.delimiter:
        rows.append(("delimiter", f"{facts.delimiter!r} {_DELIMITERS.get(facts.delimiter, '')}".strip()))
    if facts.heading_line or facts.delimiter or facts.sheets:
        rows.append(("heading", f"{facts.unit} {facts.heading_line}" if facts.heading_line else "none"))
    if facts.sheets:
        rows.append(("sheets", "; ".join(_sheet(s) for s in facts.sheets)))
    rows += list(facts.notes)
    rows.append(("key", "; or ".join(_key(k) for k in result.keys) or "no columns are filled and distinct enough"))
    if result.blank_columns:
        rows.append(("blank", ", ".join(result.blank_columns)))
    if result.constant_columns and result.rows > 1:
        rows.append(
            ("constant", ", ".join(f"{c.name} = {look.shorten(c.samples[0], 24)}" for c in result.constant_columns))
        )
    if result.newest:
        rows.append(("newest day", f"{result.newest[0]}, in {result.newest[1]}"))
    return rows


def _key(key: KeyCandidate) -> str:
    name = " + ".join(key.columns)
    if not key.repeated:
        return f"{name}, perhaps: filled and distinct"
    examples = "; ".join(f'"{v}" in lines {", ".join(lines)}' for v, lines in key.examples[:3])
    return f"{name}, perhaps: {look.plural(key.repeated, 'value')} repeated ({examples})"


def _show_columns(result: SurveyResult) -> None:
    table = []
    rows = result.rows - result.damaged
    for c in result.columns:
        table.append([c.name, _share(c.filled, rows), _distinct(c), _length(c), _kind(c), _values(c)])
    look.columns(
        table,
        heads=["column", "filled", "distinct", "length", "kind", "values"],
        right=(1, 2, 3),
        fold=(0, 4, 5),
    )


def _share(part: int, whole: int) -> str:
    if not part or not whole:
        return "-"
    share = f"{100 * part / whole:.0f}%"
    return ">99%" if share == "100%" and part < whole else "<1%" if share == "0%" else share


def _distinct(column: ColumnFacts) -> str:
    return ("" if column.distinct_exact else "~") + look.count(column.distinct)


def _length(c: ColumnFacts) -> str:
    return "-" if c.shortest is None else str(c.shortest) if c.shortest == c.longest else f"{c.shortest}-{c.longest}"


def _show_column(column: ColumnFacts, rows: int) -> None:
    """Everything about one column."""
    look.say(column.name, style="bold")
    facts = [
        (
            "filled",
            f"{look.count(column.filled)} of {look.count(rows)} ({_share(column.filled, rows)}), {_distinct(column)} distinct",
        )
    ]
    if column.filled:
        facts += [("kind", _kind(column)), ("length", _length(column))]
        facts.append(("frequent" if column.frequent else "values", _counts(column.frequent) or _values(column)))
    if column.least is not None and column.least != column.most:
        facts.append(("from, to", f"{look.shorten(column.least, 40)[1:-1]}, {look.shorten(column.most, 40)[1:-1]}"))
    if column.total is not None:
        facts.append(("sum", column.total))
    if column.shapes:
        facts.append(("patterns", _counts(column.shapes)))
    if column.odd:
        facts.append(("odd", ", ".join(dict.fromkeys(look.shorten(v, 30)[1:-1] for v in column.odd))))
    if column.placeholders:
        facts.append(("pretend", _counts(column.placeholders[:10])))
    if column.leading_zeros:
        facts.append(("zeros", f"{look.count(column.leading_zeros)} begin with 0"))
    if column.zeros_lost:
        facts.append(("zeros", "none, and lengths look as if they had been lost"))
    if column.date_orders and column.date_orders[0] + column.date_orders[1]:
        day, month, either = column.date_orders
        facts.append(
            (
                "dates",
                f"{look.count(day)} have the day first, {look.count(month)} the month, {look.count(either)} may have either",
            )
        )
    if column.several:
        facts.append(("several", f"{look.count(column.several[1])} cells with {column.several[0]!r}"))
    if column.spaces:
        facts.append(("spaces", f"at an end of {look.count(column.spaces)}"))
    if column.control:
        facts.append(
            ("control", f"characters in {look.count(column.control[0])}: {look.shorten(column.control[1], 40)}")
        )
    look.columns([[Text(a, style="dim"), b] for a, b in facts], fold=(1,))


def _counts(counts: list[tuple[str, int]]) -> str:
    return ", ".join(f"{look.shorten(value, 30)[1:-1]} {look.count(number)}" for value, number in counts)


def _show_proposals(results: list[SurveyResult]) -> None:
    """How those sources are read that are more than a plain table."""
    special = [r for r in results if r.facts.proposal]
    if special:
        short, _ = _short_names([r.name for r in results])
        look.say()
        look.heading("for the plan", "settings below [[source]] that read what is more than a plain table")
        look.columns([[short[r.name], ", ".join(r.facts.proposal)] for r in special], fold=(0, 1))


def _show_proposal(result: SurveyResult) -> None:
    lines = list(result.facts.proposal)
    blanks = list(dict.fromkeys(v for c in result.columns for v, _ in c.placeholders))[:12]
    if blanks:
        lines.append("blanks = [" + ", ".join(toml_text(v) for v in blanks) + "]")
    if lines:
        look.say()
        look.heading("for the plan", "what was found out, as lines below [[source]]; take what is right")
        for line in lines:
            look.say(f"  {line}")


def _sheet(sheet: SheetFacts) -> str:
    marks = [look.plural(sheet.rows, "row")]
    if not sheet.visible:
        marks.append("hidden")
    if sheet.chosen:
        marks.append("has the records")
    return f"{sheet.name} ({', '.join(marks)})"


def _kind(column: ColumnFacts) -> str:
    if column.kind_share == 1:
        return str(column.kind)
    share = f"{100 * column.kind_share:.0f}%"
    return f"{column.kind}, {share if share != '100%' else '>99%'}"


def _values(column: ColumnFacts) -> str:
    shown = [v for v, _ in column.frequent[:3]] if column.distinct <= 10 else column.samples
    words = ", ".join(look.shorten(v, 22)[1:-1] for v in shown or column.samples)
    if column.odd:
        words += f" (not: {', '.join(dict.fromkeys(look.shorten(v, 22)[1:-1] for v in column.odd))})"
    if column.spaces:
        words += f" ({column.spaces} with spaces at an end)"
    return words
