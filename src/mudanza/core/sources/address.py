"""The databases of a move: where they are, and credentials from the environment alone."""

from __future__ import annotations

import os
import re
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING
from urllib.parse import parse_qsl, unquote

from mudanza.core.documents.errors import MoveError, OutsideError, Place
from mudanza.core.documents.secrets import keep_secret

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
#: host, port, database and options
_PLACE = re.compile(r"(\[[0-9A-Fa-f:.]+\]|[^/?:\[\]]*)(?::([0-9]+))?(?:/([^?]*))?(?:\?(.*))?", re.S)
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
        from sqlalchemy import URL

        if self.file is not None:
            return URL.create("sqlite", database=str(self.file))
        address = _variable(self.address_from, self.name) if self.address_from else self.address
        if self.address_from:
            keep_secret(address, in_pieces=False)
        try:
            url = _taken_apart(address)
        except ValueError:
            # nobody knows which piece of it is what
            keep_secret(*re.split(r"[:/@?&=]+", address) if self.address_from else "")
            raise MoveError(
                f"the address of the database {self.name!r} is none.",
                place=_place(self.name),
                hint='Write address = "postgresql://host:5432/name" (or mariadb://, sqlite:///).',
            ) from None
        if self.user_from:
            url = url.set(username=_variable(self.user_from, self.name))
        if self.password_from:
            url = url.set(password=_variable(self.password_from, self.name))
        # whatever is in the address itself is public, unless it comes from a variable
        keep_secret(url.username or "", str(url.password or ""))
        keep_secret(*(str(value) for key, value in url.query.items() if key.lower() in CREDENTIALS))
        return url


def _taken_apart(address: str) -> URL:
    """An address by our own rules: a password may have any sign, an @ among them. Raises ValueError for what is
    none."""
    from sqlalchemy import URL, make_url
    from sqlalchemy.exc import ArgumentError

    scheme, sign, rest = address.partition("://")
    if not sign or not re.fullmatch(r"[a-z][a-z0-9+.-]*", scheme):
        raise ValueError
    driver = _DRIVERS.get(scheme, scheme)
    if scheme == "sqlite":
        try:
            return make_url(address)
        except ArgumentError as error:
            raise ValueError from error
    # an @ among the options is none that ends credentials; but a password may have a question mark
    before = rest.partition("?")[0]
    at = before.rfind("@") if "@" in before or _PLACE.fullmatch(rest) else rest.rfind("@")
    credentials, place = (rest[:at], rest[at + 1 :]) if at >= 0 else ("", rest)
    user, has_password, password = credentials.partition(":")
    found = _PLACE.fullmatch(place)
    if found is None:
        raise ValueError
    host, port, database, options = found.groups()
    return URL.create(
        driver,
        unquote(user) or None,
        unquote(password) if has_password else None,
        host.strip("[]") or None,
        int(port) if port else None,
        unquote(database) if database else None,
        dict(parse_qsl(options or "", keep_blank_values=True)),
    )


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
