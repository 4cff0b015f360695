"""Whether the references of a file lead to exactly one record of another ("Model for Tabular Data", section 6.1)."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import Path

import polars as pl

from mudanza.core.documents.errors import SourceError
from mudanza.core.findings.finding import Finding
from mudanza.core.findings.problem import Problem
from mudanza.core.layouts.layout import Field, ForeignKey, Layout
from mudanza.core.layouts.rules import blank_in_file, same_value
from mudanza.core.values.row_columns import key_text, shown_key
from mudanza.core.work.checking.headings import Headings
from mudanza.core.work.checking.referred import Referred, referred_in


@dataclass(frozen=True)
class Others:
    """The other files that references may lead into: those that somebody named, and those of the same package with their layouts, by the names of these."""

    named: Sequence[Path] = ()
    package: Mapping[str, tuple[Path, Layout]] = field(default_factory=dict)

    def file_of(self, reference: ForeignKey, layout: Layout, path: Path) -> tuple[Path | None, Layout | None, bool]:
        """The file that a reference leads into (None if there is none), its layout if that is known, and whether somebody named it."""
        name = Path(reference.resource).name
        stem = Path(name).stem
        for known_as, (file, other) in self.package.items():
            if reference.resource == other.url or stem == known_as or name == file.name:
                return file, other, True
        for other_file in self.named:
            if other_file.name == name or other_file.stem == stem:
                return other_file, None, True
        if len(self.named) == 1 and len(layout.references) == 1:
            return self.named[0], None, True
        beside = path.parent / name
        return (beside, None, False) if beside.is_file() else (None, None, False)


def reference_problems(
    layout: Layout, headings: Headings, others: Others, path: Path, shown: str
) -> tuple[list[Problem], list[Finding]]:
    """What is asked of the references of a file's rows, and what cannot be asked. Raises SourceError where a file that was named cannot be read."""
    problems: list[Problem] = []
    unchecked: list[Finding] = []
    for reference in layout.references:
        fields = [layout.field_named(name) for name in reference.fields]
        if any(one.title not in headings.columns for one in fields):
            continue
        title = ", ".join(one.title for one in fields)
        file, other, named = others.file_of(reference, layout, path)
        why = ""
        try:
            referred = None if file is None else referred_in(file, reference, layout, fields, other)
        except SourceError as error:
            # a file that merely lies beside may be another
            if named:
                raise
            referred, why = None, f"; {file}: {error.what}"
        rule = f"among {', '.join(reference.columns)} of {file.name if referred and file else reference.resource}"
        if referred is None:
            unchecked.append(Finding("reference.unchecked", shown, field=title, rule=rule + why))
            continue
        problems += _asked(fields, [pl.col(headings.columns[one.title]) for one in fields], title, referred, rule)
    return problems, unchecked


def _asked(
    fields: Sequence[Field], texts: Sequence[pl.Expr], title: str, referred: Referred, rule: str
) -> list[Problem]:
    values = [same_value(one, text) for one, text in zip(fields, texts, strict=True)]
    asked = referred.compared.whole(key_text(values))
    # a cell that is no value of its kind is told as such
    blank = pl.any_horizontal(
        [
            blank_in_file(one, text) | (~one.type.fits(text) if one.is_typed else pl.lit(False))
            for one, text in zip(fields, texts, strict=True)
        ]
    )
    shown = shown_key(key_text(texts))
    found = [Problem("reference.missing", title, ~asked.is_in(referred.values.implode()), shown, rule, unless=blank)]
    if referred.several.len():
        several = asked.is_in(referred.several.implode())
        found.append(Problem("reference.several", title, several, shown, f"one record {rule}", unless=blank))
    return found
