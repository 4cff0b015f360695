"""The databases of a move: where they are, and credentials from the environment alone."""

from __future__ import annotations

import os
from collections.abc import Callable, Mapping
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Any
from urllib.parse import urlsplit

from mudanza.core.errors import MoveError, OutsideError

if TYPE_CHECKING:
    from sqlalchemy import URL

_KNOWN = {"address", "address_from", "user_from", "password_from", "file"}
#: scheme of an address → the driver that is installed with Mudanza
_DRIVERS = {
    "postgresql": "postgresql+psycopg",
    "postgres": "postgresql+psycopg",
    "mariadb": "mariadb+pymysql",
    "mysql": "mysql+pymysql",
    "sqlite": "sqlite",
}


@dataclass(frozen=True)
class Database:
    """A database by its name in the settings. `address` has no credentials; the others name environment variables."""

    name: str
    address: str = ""
    address_from: str | None = None
    user_from: str | None = None
    password_from: str | None = None
    file: Path | None = None

    def url(self) -> URL:
        """The address with credentials. Raises MoveError for an address that is none, OutsideError for a missing variable."""
        from sqlalchemy import URL, make_url
        from sqlalchemy.exc import ArgumentError

        if self.file is not None:
            return URL.create("sqlite", database=str(self.file))
        address = _variable(self.address_from, self.name) if self.address_from else self.address
        scheme, _, rest = address.partition("://")
        try:
            url = make_url(f"{_DRIVERS.get(scheme, scheme)}://{rest}")
        except ArgumentError:
            raise MoveError(
                f"the address of the database {self.name!r} is none.",
                hint='Write address = "postgresql://host:5432/name" (or mariadb://, sqlite:///).',
            ) from None
        if self.user_from:
            url = url.set(username=_variable(self.user_from, self.name))
        if self.password_from:
            url = url.set(password=_variable(self.password_from, self.name))
        return url

    def without_secrets(self, words: str) -> str:
        """A message in which nothing of the credentials stands."""
        for variable in (self.password_from, self.user_from, self.address_from):
            secret = os.environ.get(variable or "", "")
            if len(secret) > 2:
                words = words.replace(secret, "…")
            if variable == self.address_from and secret:
                password = urlsplit(secret).password or ""
                words = words.replace(password, "…") if password else words
        return words


def _variable(name: str, database: str) -> str:
    value = os.environ.get(name)
    if value is None:
        raise OutsideError(
            f"the environment variable {name} is not set.",
            hint=f"The settings take the credentials of the database {database!r} from it: export {name}=…",
        )
    return value


def read_databases(
    node: Mapping[str, Any], folder: Path, fail: Callable[[str, str, str | None, str | None], Exception]
) -> dict[str, Database]:
    """The databases of the settings. `fail` makes the error (what, name, key, hint) for one that is wrong, which is raised."""
    found = {}
    for name, one in node.items():
        if not isinstance(one, dict) or not all(isinstance(v, str) for v in one.values()):
            raise fail(
                f"the database {name!r} is a table of texts.", name, None, 'Write address = "postgresql://host/name".'
            )
        for key in one:
            if key in ("user", "password"):
                hint = f'Write {key}_from = "VARIABLE" and set that variable in the environment.'
                raise fail("credentials do not stand in settings.", name, key, hint)
            if key not in _KNOWN:
                raise fail(
                    f"{key!r} means nothing in a database.", name, key, f"Here can stand: {', '.join(sorted(_KNOWN))}."
                )
        if sum(key in one for key in ("address", "address_from", "file")) != 1:
            raise fail(
                f"the database {name!r} needs one of address, address_from and file.", name, None,
                'Write address = "postgresql://host/name".',
            )  # fmt: skip
        if "@" in urlsplit(one.get("address", "")).netloc:
            raise fail(
                "credentials do not stand in settings.", name, "address",
                'Take them out of the address; write user_from = "VARIABLE" and password_from = "VARIABLE".',
            )  # fmt: skip
        file = folder / one["file"] if "file" in one else None
        found[name] = Database(name, **{k: v for k, v in one.items() if k != "file"}, file=file)
    return found
