"""Control totals of a list: told by source and end, and compared with what the old program printed."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace
from decimal import Decimal

from mudanza.core.documents.errors import MudanzaError, counted
from mudanza.core.engine.summary import ENDS, Summary
from mudanza.core.engine.totals import Amount, Amounts
from mudanza.core.findings.finding import Finding
from mudanza.core.plans.plan import Plan
from mudanza.core.plans.totals import WantedTotal
from mudanza.core.work.results import Agreed, ControlTotal


def control_totals(plan: Plan, total: Summary, left: Mapping[str, Amount]) -> list[ControlTotal]:
    """The totals that a plan asks for, with what leavers come to (`left`, by field). Raises MudanzaError where they count other rows than the balance."""
    found = []
    for name in dict.fromkeys(one.field for one in plan.totals if one.field is not None):
        by_source = {source.name: total.amounts.get(source.name, {}).get(name, {}) for source in plan.sources}
        whole: Amounts = {}
        for by_end in by_source.values():
            for end, amount in by_end.items():
                whole[end] = whole.get(end, Amount()) + amount
        counts = {end: whole.get(end, Amount()).rows for end in ENDS}
        if counts != total.total.as_dict():
            raise _unsound(name)
        one = ControlTotal(name, plan.layout.field_named(name).title, by_source, whole, left.get(name))
        found.append(replace(one, agreed=tuple(_agreed(plan, one, total))))
    return found


def _agreed(plan: Plan, one: ControlTotal, total: Summary) -> list[Agreed]:
    return [
        Agreed(wanted.source, end, said is None)
        for wanted in plan.totals
        if wanted.field == one.field
        for end, said in wanted.sums.items()
        if _sum(one, wanted, end).sum == _expected(plan, wanted, said, total)
    ]


def _sum(one: ControlTotal, wanted: WantedTotal, end: str) -> Amount:
    return (one.total if wanted.source is None else one.by_source[wanted.source]).get(end, Amount())


def _unsound(name: str) -> MudanzaError:
    return MudanzaError(
        f"the totals of {name} do not add up.",
        hint="This is a fault of Mudanza; please report it.",
    )


def differing(plan: Plan, shown: str, total: Summary, found: list[ControlTotal]) -> list[Finding]:
    """What is not as the old program printed it."""
    about = []
    by_name = {one.field: one for one in found}
    for number, wanted in enumerate(plan.totals):
        line = plan.document.place(("totals", number)).line
        whose = f" of {wanted.source}" if wanted.source else ""
        balances = total.balances.values() if wanted.source is None else [total.balances[wanted.source]]
        rows = sum(balance.read for balance in balances)
        if wanted.rows is not None and wanted.rows != rows:
            about.append(
                Finding("totals.differ", shown, line, value=f"{rows:,} rows read{whose}", rule=f"{wanted.rows:,} rows")
            )
        if wanted.field is None:
            continue
        one = by_name[wanted.field]
        for end, said in wanted.sums.items():
            amount, expected = _sum(one, wanted, end), _expected(plan, wanted, said, total)
            if expected is None:
                value = ", ".join(name for name, total_of in _printed(plan, wanted, total).items() if total_of is None)
                rule = "a total below the rows, or between them"
                about.append(Finding("totals.not-printed", shown, line, field=one.title, value=value, rule=rule))
            elif amount.sum != expected:
                less = amount.sum - expected
                rule = f"{plain(expected)}{' as it is printed' if said is None else ''}, which is {plain(abs(less))} {'less' if less > 0 else 'more'}"
                missing = amount.rows - amount.numbers
                rule += f"; {counted(missing, 'row')} without a number" if missing else ""
                value = f"{plain(amount.sum)} {end.replace('_', ' ')}{whose}"
                about.append(Finding("totals.differ", shown, line, field=one.title, value=value, rule=rule))
    return about


def _expected(plan: Plan, wanted: WantedTotal, said: Decimal | None, total: Summary) -> Decimal | None:
    """What a sum is to be: as the plan says, or as the sources print it; None if one of them prints none."""
    if said is not None:
        return said
    sums = _printed(plan, wanted, total).values()
    return sum((one for one in sums if one is not None), Decimal(0)) if None not in sums else None


def _printed(plan: Plan, wanted: WantedTotal, total: Summary) -> dict[str, Decimal | None]:
    """What each source in question prints as the total of the field, if it does."""
    sources = [source.name for source in plan.sources] if wanted.source is None else [wanted.source]
    return {source: total.printed.get(source, {}).get(wanted.field or "") for source in sources}


def plain(number: Decimal, places: int = 2) -> str:
    """A sum without the zeros that say nothing behind so many places, if it has any."""
    return f"{number:,.{max(places_of(number), places if places_of(number) else 0)}f}"


def places_of(number: Decimal) -> int:
    """How many places of a number say something."""
    exponent = number.normalize().as_tuple().exponent
    return max(0, -exponent) if isinstance(exponent, int) else 0
