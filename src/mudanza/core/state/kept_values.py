"""Values given at run time that are kept for a while, so that whoever looks at a list again and again need not give them each time."""

from __future__ import annotations

import json
from collections.abc import Mapping
from dataclasses import dataclass, field
from datetime import UTC, datetime, timedelta

from mudanza.core.disk.files import Outputs
from mudanza.core.plans.move import Move

_FILE = "values.json"
_HOURS = 8


@dataclass(frozen=True)
class KeptValues:
    """Values by name, and until when they hold (in UTC)."""

    values: Mapping[str, str] = field(default_factory=dict)
    until: datetime | None = None


def keep_values(move: Move, values: Mapping[str, str]) -> KeptValues:
    """Keep some values for eight hours, and none of those that were kept before."""
    until = datetime.now(UTC) + timedelta(hours=_HOURS)
    with Outputs(move.files) as outputs:
        text = json.dumps({"until": until.isoformat(timespec="seconds"), "values": dict(values)}, ensure_ascii=False)
        outputs.create_text(move.ledger_path.with_name(_FILE), text + "\n")
        outputs.publish()
    return KeptValues(values, until)


def kept_values(move: Move) -> KeptValues:
    """The values that are kept at this moment; none where they are out of date, or the file is not as it was written."""
    try:
        noted = json.loads(move.ledger_path.with_name(_FILE).read_text("utf-8"))
        until = datetime.fromisoformat(noted["until"])
        values = {str(name): str(value) for name, value in noted["values"].items()}
    except (OSError, ValueError, KeyError, TypeError, AttributeError):
        return KeptValues()
    return KeptValues(values, until) if until > datetime.now(UTC) else KeptValues()
