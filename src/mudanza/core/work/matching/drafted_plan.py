"""A draft written into its plan: nothing that a person wrote is changed, comments and order stay (TOML is kept as text by tomlkit)."""

from __future__ import annotations

from collections.abc import Callable, Collection, Mapping
from pathlib import Path

import tomlkit
from tomlkit.items import Comment, Table

from mudanza.core.disk.files import Outputs
from mudanza.core.documents.document import toml_section
from mudanza.core.documents.errors import Place, PlanError
from mudanza.core.documents.toml_texts import control_in, on_one_line
from mudanza.core.language.asking import columns_of
from mudanza.core.plans.crosswalk_files import blank_crosswalk
from mudanza.core.plans.move import Move
from mudanza.core.plans.plan import Plan
from mudanza.core.plans.plan_reading import plan_from
from mudanza.core.sources.opening import files_of, open_source, recognise
from mudanza.core.sources.reader import ReadOptions
from mudanza.core.work.matching.drafting import Draft, Proposal

#: begins the comment of a proposal that is not sure, and of one that is
UNSURE, _SURE = "unsure (", ("0.", "1.")


def unsure_fields(plan: Plan) -> list[str]:
    """The fields whose flows an earlier draft wrote and nobody confirmed: those below a comment that says so."""
    fields = tomlkit.parse(plan.text).get("fields")
    return list(_unsure(fields)) if isinstance(fields, Table) else []


def _unsure(fields: Table) -> dict[str, Comment]:
    """The comments that say so, by field."""
    found: dict[str, Comment] = {}
    last: Comment | None = None
    for key, item in fields.value.body:
        if isinstance(item, Comment) and item.trivia.comment.removeprefix("# ").startswith((UNSURE, *_SURE)):
            last = item
        elif key is not None:
            if last is not None and last.trivia.comment.removeprefix("# ").startswith(UNSURE):
                found[key.key] = last
            last = None
    return found


def write_draft(
    move: Move, plan: Plan, draft: Draft, again: Collection[str] = (), further: Callable[[], Mapping[Path, str]] = dict
) -> list[str]:
    """Add the draft's flows to the plan, and the crosswalks that they need; gives the paths that were written. The flows of fields that somebody
    answered for take the place of those that stand there unsure (`again`); where there is none, it is taken out.
    `further` texts are written with them.

    Raises PlanError where somebody else changed the plan since it was read."""
    document = tomlkit.parse(plan.text)
    fields = document.get("fields")
    if fields is None:
        document.append("fields", tomlkit.table())
        fields = document["fields"]
    if not isinstance(fields, Table):
        raise plan.error("[fields] must be a table of its own.", ("fields",), "Write [fields] and lines below.")
    texts: dict[Path, str] = {}
    renewed = _renew(fields, {p.field.name: p for p in draft.proposals if p.broken is None}, again)
    followed = list(document).index("fields") < len(list(document)) - 1
    added = False
    for proposal in draft.proposals:
        name, broken = proposal.field.name, on_one_line(f"{proposal.field.name} = {' '.join(proposal.flow.split())}")
        if name in fields and name not in renewed:
            continue
        if proposal.broken is None and proposal.crosswalk is not None:
            crosswalk, columns = proposal.crosswalk
            path = move.new_path("crosswalks", crosswalk, ".csv")
            if not path.exists():
                texts[path] = blank_crosswalk(columns)
        if name in fields or (proposal.broken is not None and f"# {broken}\n" in plan.text):
            # it has its new flow, or stands there as a comment since another draft
            continue
        fields.add(tomlkit.comment(_comment(proposal)))
        if proposal.broken is None:
            fields.add(name, flow_text(proposal.flow))
        else:
            fields.add(tomlkit.comment(broken))
        added = True
    if followed and added:
        fields.add(tomlkit.nl())
    text = tomlkit.dumps(document)
    # whatever came into it from headings and values, it must be a plan that can be read
    toml_section(text, plan.path, PlanError)
    with move.files.lock():
        now = plan.path.read_text("utf-8-sig") if plan.path.exists() else None
        changed = now is not None and now != plan.text
        if changed:
            # what a person answered is kept all the same
            texts = {}
        elif text != plan.text or now is None:
            texts[plan.path] = text
        texts = {**further(), **texts}
        with Outputs(move.files) as outputs:
            for path, content in texts.items():
                outputs.create_text(path, content)
            outputs.publish()
    if changed:
        raise PlanError(
            "the plan was changed by somebody else while the draft was made.",
            place=Place(move.shown(plan.path)),
            hint=f"Nothing was written into it. Draft it again: mudanza match {plan.name}. Answers are kept.",
        )
    return [move.shown(path) for path in texts]


def _renew(fields: Table, proposals: Mapping[str, Proposal], again: Collection[str]) -> set[str]:
    """Put new flows in the place of those that stand there unsure; gives the fields that have another one now."""
    renewed: set[str] = set()
    for name, comment in _unsure(fields).items():
        if name not in again:
            continue
        if name in proposals:
            comment.trivia.comment = f"# {_comment(proposals[name])}"
            # steps that a person gave the same columns stay
            if set(columns_of(str(fields[name]))) != set(proposals[name].columns):
                fields[name] = flow_text(proposals[name].flow)
                renewed.add(name)
        else:
            comment.trivia.comment = "# no column is right for it"
            fields.remove(name)
    return renewed


def _comment(proposal: Proposal) -> str:
    return on_one_line(_words(proposal))


def _words(proposal: Proposal) -> str:
    told = f"{proposal.score:.2f}, {', '.join(proposal.evidence) or 'by its neighbours'}"
    if proposal.broken is not None:
        return f"cannot be written ({told}): {proposal.broken}"
    return f"{UNSURE}{told}): {proposal.doubt}" if proposal.doubt else told


def flow_text(flow: str) -> tomlkit.items.String:
    """A flow as TOML keeps it best to be read: in single quotes, over lines where it has some."""
    if "'''" in flow or control_in(flow) is not None:
        return tomlkit.string(flow)
    if "'" in flow or "\n" in flow:
        # with its line end, so that what comes next has a line of its own
        item = tomlkit.parse(f"flow = '''\n{flow.strip()}\n'''\n")["flow"]
        assert isinstance(item, tomlkit.items.String)
        return item
    return tomlkit.string(flow, literal=True)


def new_plan(move: Move, name: str, layout: str, files: list[str]) -> Plan:
    """A plan with its layout and sources, to be drafted; nothing is written. What a source needs to be read as it was found stands below it.

    Raises PlanError if there is a plan of that name, MoveError if the layout is unknown, SourceError where a file cannot be read.
    """
    path = move.new_path("plans", name, ".toml")
    if path.exists():
        raise PlanError(
            "the plan is there already.",
            place=Place(move.shown(path)),
            hint="Leave --source out: its own sources are used.",
        )
    move.layout_path(layout)
    document = tomlkit.document()
    document.add("layout", tomlkit.string(f"layouts/{layout}.json"))
    document.add(tomlkit.nl())
    sources = tomlkit.aot()
    names: list[str] = []
    for file in files:
        # the folder's name, if it has one of its own, says which old program it is
        path_, folder = Path(file), Path(file).parent.name
        label = path_.stem if folder in ("", "incoming") or folder in names else folder
        label = label if label not in names else f"{folder}-{path_.stem}"
        names.append(label)
        source = tomlkit.table()
        source.add("name", label)
        source.add("file", file)
        found = [line for one in files_of(move.path(file))[:1] for line in _found(one)]
        if found:
            source.add(tomlkit.comment("found out from the file; look whether it is right"))
            for key, value in tomlkit.parse("\n".join(found)).items():
                source.add(key, value)
        source.add(tomlkit.nl())
        sources.append(source)
    document.add("source", sources)
    return plan_from(toml_section(tomlkit.dumps(document), path, PlanError), move, name, draft=True)


def _found(path: Path) -> tuple[str, ...]:
    return open_source(path, recognise(path, ReadOptions())).facts.proposal
