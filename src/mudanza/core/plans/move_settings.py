"""Reading the settings of a move (`mudanza.toml`)."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path
from urllib.parse import parse_qsl

from mudanza.core.disk.project_files import ACCESS
from mudanza.core.documents.document import Section, read_toml
from mudanza.core.documents.errors import MoveError, MudanzaError, Place
from mudanza.core.documents.names import NAME_RULE, is_name
from mudanza.core.language.parameters import KINDS, NUMBER, Declared, kind_of_default, text_of_default
from mudanza.core.plans.move import SETTINGS, Move
from mudanza.core.sources.address import CREDENTIALS, Database
from mudanza.core.tables.key_pattern import KeyPattern
from mudanza.core.values.periods import PERIODS

_KNOWN = {"name", "keys", "parameters", "databases", "own_steps", "crosswalks", "language", "before_import", "access"}
#: the languages of lent workbooks
LANGUAGES = ("en", "pt", "es", "fr", "de")
_KEYS = {"pattern", "start", "groups", "check"}
_PARAMETER = {"kind", "default", "question", "follows"}
_DATABASE = {"address", "address_from", "user_from", "password_from", "file"}
_CROSSWALK = {"targets", "code", "meaning", "field"}


def find_move(start: Path) -> Move:
    """The move that `start` lies in, looking upwards. Raises MoveError if there is none."""
    start = start.resolve()
    for folder in (start, *start.parents):
        if (folder / SETTINGS).is_file():
            return read_move(folder)
    raise MoveError(
        "this is no move folder.",
        place=Place(str(start)),
        hint="Go to the folder with mudanza.toml (or say -C FOLDER), or start one with `mudanza init FOLDER`.",
    )


def read_move(folder: Path) -> Move:
    """Read the settings of a move folder. Raises MoveError with the line of what is wrong."""
    settings = read_toml(folder / SETTINGS, MoveError).only(_KNOWN)
    return Move(
        folder=folder,
        name=settings.get("name", str, folder.name),
        key_patterns={book: _pattern(settings.table("keys"), book) for book in settings.table("keys").content},
        parameters={
            name: _parameter(settings.table("parameters"), name) for name in settings.table("parameters").content
        },
        databases={
            name: _database(settings.table("databases"), name, folder) for name in settings.table("databases").content
        },
        own_steps=settings.get("own_steps", bool, False),
        language=_language(settings),
        access=_access(settings),
        before_import=settings.table("before_import").only({"save", "archive"}).get("save", str),
        archived=settings.table("before_import").texts("archive"),
        crosswalks={
            name: _crosswalk(settings.table("crosswalks"), name) for name in settings.table("crosswalks").content
        },
    )


def _language(settings: Section) -> str:
    language: str = settings.get("language", str, LANGUAGES[0])
    if language not in LANGUAGES:
        raise settings.fail(
            f"{language!r} is no language that loans speak.", "language", f"They speak {', '.join(LANGUAGES)}."
        )
    return language


def _access(settings: Section) -> str:
    access: str = settings.get("access", str, next(iter(ACCESS)))
    if access not in ACCESS:
        raise settings.fail(f"{access!r} does not say who may read.", "access", f"It is one of {', '.join(ACCESS)}.")
    return access


def _pattern(keys: Section, book: str) -> KeyPattern:
    if not is_name(book):
        raise keys.fail(f"{book!r} cannot be the name of a key book.", book, NAME_RULE)
    node = keys.table(book) if isinstance(keys.content[book], dict) else None
    if node is None or not isinstance(node.content.get("pattern"), str):
        raise keys.fail(f"the key book {book!r} needs a pattern.", book, 'Write pattern = "OW-{000000}".')
    start = node.only(_KEYS).content.get("start", 1)
    if not isinstance(start, int) or isinstance(start, bool) or start < 0:
        raise node.fail("start must be a whole number.", "start")
    try:
        return KeyPattern.of(node.content["pattern"], start, node.content.get("groups", 0), node.content.get("check"))
    except MoveError as error:
        raise node.fail(error.what, "pattern", error.hint) from None


def _parameter(parameters: Section, name: str) -> Declared:
    """A plain value, or a table with kind, default and question."""
    value = parameters.content[name]
    if not isinstance(value, dict):
        return Declared(name, kind_of_default(value), text_of_default(value))
    node = parameters.table(name)
    for key in value:
        if key not in _PARAMETER:
            raise node.fail(
                f"{key!r} means nothing for a parameter.", key, "It has kind, default, question and follows."
            )
    if "follows" in value:
        return _following(node, name)
    default = value.get("default")
    kind = str(value.get("kind", kind_of_default(default) if default is not None else "text"))
    if kind not in KINDS:
        raise node.fail(f"{kind!r} is no kind of value.", "kind", f"It is one of {', '.join(KINDS)}.")
    text = None if default is None else text_of_default(default)
    declared = Declared(name, KINDS[kind], text, node.get("question", str))
    if text is not None:
        try:
            declared.value(text)
        except MoveError as error:
            raise node.fail(error.what, "default", error.hint) from None
    return declared


def _following(node: Section, name: str) -> Declared:
    """A value that follows the last one that was built."""
    follows = node.content["follows"]
    if follows != NUMBER and follows not in PERIODS:
        raise node.fail(
            f"{follows!r} is nothing that follows.", "follows", f"It is {NUMBER}, or one of {', '.join(PERIODS)}."
        )
    kind = KINDS["number"] if follows == NUMBER else KINDS["text"]
    default = text_of_default(node.content.get("default", 1)) if follows == NUMBER else node.content.get("default")
    declared = Declared(name, kind, None if default is None else str(default), node.get("question", str), follows)
    if declared.default is not None:
        try:
            declared.value(declared.default)
        except MoveError as error:
            raise node.fail(error.what, "default", error.hint) from None
    return declared


def _database(databases: Section, name: str, folder: Path) -> Database:
    """A database, whose credentials never stand in the settings; and if they do, no error shows them."""
    try:
        return _described(databases, name, folder)
    except MudanzaError as error:
        raise _unshown(error) from None


def _described(databases: Section, name: str, folder: Path) -> Database:
    value = databases.content[name]
    if not isinstance(value, dict) or not all(isinstance(v, str) for v in value.values()):
        hint = 'Write address = "postgresql://host/name".'
        raise databases.fail(f"the database {name!r} is a table of texts.", name, hint)
    node = databases.table(name)
    for key in ("user", "password"):
        if key in value:
            hint = f'Write {key}_from = "VARIABLE" and set that variable in the environment.'
            raise node.fail("credentials do not stand in settings.", key, hint)
    node.only(_DATABASE)
    if sum(key in value for key in ("address", "address_from", "file")) != 1:
        raise node.fail(
            f"the database {name!r} needs one of address, address_from and file.",
            hint='Write address = "postgresql://host/name".',
        )
    address = value.get("address", "")
    options = {key.lower() for key, _ in parse_qsl(address.partition("?")[2])}
    if ("@" in address and not address.startswith("sqlite:")) or options & CREDENTIALS:
        hint = 'Take them out of the address; write user_from = "VARIABLE" and password_from = "VARIABLE".'
        raise node.fail("credentials do not stand in settings.", "address", hint)
    file = folder / value["file"] if "file" in value else None
    return Database(name, **{k: v for k, v in value.items() if k != "file"}, file=file)


def _unshown(error: MudanzaError) -> MudanzaError:
    """The error without the line, which would show the credentials."""
    return error.moved(replace(error.place or Place(), text=None))


def _crosswalk(crosswalks: Section, name: str) -> dict[str, str]:
    value = crosswalks.content[name]
    if not isinstance(value, dict) or not all(isinstance(v, str) for v in value.values()):
        hint = 'Write targets = "incoming/target-codes.csv" and code = "Code".'
        raise crosswalks.fail(f"the settings of the crosswalk {name!r} are texts in a table.", name, hint)
    return dict(crosswalks.table(name).only(_CROSSWALK).content)
