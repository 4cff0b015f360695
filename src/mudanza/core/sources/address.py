"""The databases of a move: where they are, and credentials from the environment alone."""

from __future__ import annotations

import os
import re
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING
from urllib.parse import quote, quote_plus

from mudanza.core.documents.errors import MoveError, MudanzaError, OutsideError, Place

if TYPE_CHECKING:
    from sqlalchemy import URL

#: scheme of an address → the driver that is installed with Mudanza
_DRIVERS = {
    "postgresql": "postgresql+psycopg",
    "postgres": "postgresql+psycopg",
    "mariadb": "mariadb+pymysql",
    "mysql": "mysql+pymysql",
    "sqlite": "sqlite",
}
#: options of an address that are credentials
CREDENTIALS = {"user", "username", "password", "passwd", "passfile", "sslpassword"}


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
        scheme, sign, rest = address.partition("://")
        try:
            if not sign:
                raise ValueError
            url = make_url(f"{_DRIVERS.get(scheme, scheme)}://{rest}")
        except (ArgumentError, ValueError):
            raise MoveError(
                f"the address of the database {self.name!r} is none.",
                place=_place(self.name),
                hint='Write address = "postgresql://host:5432/name" (or mariadb://, sqlite:///).',
            ) from None
        if self.user_from:
            url = url.set(username=_variable(self.user_from, self.name))
        if self.password_from:
            url = url.set(password=_variable(self.password_from, self.name))
        return url

    def without_secrets(self, words: str) -> str:
        """A message in which no piece of the credentials stands, as it is or as an address writes it."""
        for secret in sorted(self._secrets(), key=len, reverse=True):
            # a short one is hidden as a word, since its letters stand everywhere
            pattern = re.escape(secret) if len(secret) > 2 else rf"(?<!\w){re.escape(secret)}(?!\w)"
            words = re.sub(pattern, "…", words)
        return words

    def _secrets(self) -> set[str]:
        """The values of the environment variables and, of an address, its user, its password, and those among its options."""
        variables = (self.password_from, self.user_from, self.address_from)
        found = {os.environ.get(variable or "", "") for variable in variables}
        try:
            url = self.url()
        except MudanzaError:
            secret = os.environ.get(self.address_from or "", "")
            found |= set(re.split(r"[:/@?&=]+", secret))
        else:
            found |= {url.username or "", str(url.password or "")}
            found |= {str(value) for key, value in url.query.items() if key.lower() in CREDENTIALS}
        return {form for secret in found - {""} for form in (secret, quote(secret, safe=""), quote_plus(secret))}


def _place(database: str) -> Place:
    """Where the settings speak of a database."""
    return Place("mudanza.toml", key=f"databases.{database}")


def _variable(name: str, database: str) -> str:
    value = os.environ.get(name)
    if value is None:
        raise OutsideError(
            f"the environment variable {name} is not set.",
            place=_place(database),
            hint=f"The settings take the credentials of the database {database!r} from it: export {name}=…",
        )
    return value
