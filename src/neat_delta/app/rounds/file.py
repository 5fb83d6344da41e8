"""The round file: what a round is of, what may pass, where it goes, and who hears of it (docs/formats/round-file.md).

Rule: a setting of a command has the key of the same name here, made from the same request; there is no second list.
"""

from __future__ import annotations

import os
import re
from collections.abc import Sequence
from dataclasses import dataclass
from decimal import Decimal
from pathlib import Path
from typing import Annotated, Any, Literal

import msgspec
from msgspec import Meta

from neat_delta.app.forms import seconds_of
from neat_delta.app.requests import CompareRequest, EditRequest, PreviewRequest, WriteRequest
from neat_delta.app.settings import Request, request_of, settings_of
from neat_delta.core.base.model.layout import Layout
from neat_delta.core.base.support.errors import SettingError
from neat_delta.core.base.support.nearest import did_you_mean
from neat_delta.core.compare.combine import Overlap
from neat_delta.files.ledger.ledger import Ledger, keep_of
from neat_delta.files.ledger.places import ROUNDS, ledger_at
from neat_delta.files.schemas import schema_of
from neat_delta.files.sources.address import is_address, without_secret
from neat_delta.files.storefile import error_at, toml_of, wrong_keys
from neat_delta.files.whole import AnyPath
from neat_delta.report.settings import as_options

__all__ = [
    "REQUESTS",
    "Confirming",
    "Delivering",
    "Limits",
    "RoundFile",
    "RoundSheet",
    "SheetKeys",
    "SignOff",
    "Telling",
    "read_round_file",
    "round_file_schema",
]

VERSION = 1


class _Table(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """A table of the round file."""


class Limits(_Table, frozen=True):
    """What may pass without a person."""

    held: Annotated[
        Literal["stop", "send the rest"],
        Meta(description="What is done where changes are held: stop and wait, or send what is not."),
    ] = "stop"
    most_items: Annotated[int | None, Meta(description="Of how many items something may be sent at the most.")] = None
    most_percent: Annotated[Decimal | None, Meta(description="The same, in per cent of live's items.")] = None
    price_sum: Annotated[
        Decimal | None, Meta(description="By how many per cent the sum of all prices may move at the most.")
    ] = None
    price_median: Annotated[
        Decimal | None, Meta(description="By how many per cent the median of all prices may move at the most.")
    ] = None
    price: Annotated[
        str | None, Meta(description="The field of the price, if not the one that the store file relates.")
    ] = None
    older_than: Annotated[
        str | None, Meta(description="Refuse sources that were changed longer ago: 90m, 12h, 2d, 1w.")
    ] = None
    smaller: Annotated[
        Decimal, Meta(description="By how many per cent a source may have fewer rows than the last time.")
    ] = Decimal(50)
    unchanged: Annotated[
        Literal["stop", "go on"],
        Meta(description="What is done where a source is the same, byte for byte, as the last time."),
    ] = "stop"


class SignOff(_Table, frozen=True):
    """Whether people look at a round before it is delivered."""

    wanted: Annotated[bool, Meta(description="Whether a round waits for answers.")] = False
    reviewers: Annotated[int, Meta(ge=1, description="For how many files of answers it waits.")] = 1
    answers: Annotated[
        str | None,
        Meta(description="The folder that answers come into.  [default: answers, in the round's own folder]"),
    ] = None


class Delivering(_Table, frozen=True):
    """Where update files go."""

    to: Annotated[
        list[str], Meta(description="Where the store gets its files: folders, servers, the web, tables.")
    ] = []


class Confirming(_Table, frozen=True):
    """How it is seen whether a round landed."""

    after: Annotated[str | None, Meta(description="The export that is made after the import.  [default: live]")] = None
    results: Annotated[
        list[str], Meta(description="The store's own reports.  [default: what it answered when it was delivered]")
    ] = []
    mend: Annotated[
        str | None, Meta(description="The sheet of what is to be mended, in the round's folder (.xlsx, .csv).")
    ] = "mend.xlsx"


class Telling(_Table, frozen=True):
    """Who hears of a round."""

    on: Annotated[
        list[Literal["waits", "failed", "otherwise", "done"]],
        Meta(description="When: it waits, it failed, it landed otherwise than meant, it is done."),
    ] = msgspec.field(default_factory=lambda: ["waits", "failed", "otherwise"])
    smtp: Annotated[
        str | None,
        Meta(description="The mail server: smtps://mail.shop.example, or smtp:// with STARTTLS."),
    ] = None
    sender: Annotated[str | None, Meta(description="The address that mail is from.")] = None
    to: Annotated[list[str], Meta(description="The addresses that mail goes to.")] = []
    attach: Annotated[bool, Meta(description="Whether the page of the changes goes along.")] = True
    url: Annotated[str | None, Meta(description="An address of the web to which the facts are sent as JSON.")] = None
    key: Annotated[
        str | None, Meta(description="$NAME of the environment that has the key by which what is sent is signed.")
    ] = None


class SheetKeys(_Table, frozen=True):
    """A sheet, a list, or rules on live: the file, and how it is read. Every setting of `compare` may stand beside
    these; of rules without a file those of `edit`.
    """

    file: Annotated[
        str | None, Meta(description="The sheet or list; without it, what `set` or `rules` make of live.")
    ] = None
    base: Annotated[
        str | None, Meta(description='The export that it was cut from, or "last": the live of the last round.')
    ] = None
    mapping: Annotated[str | None, Meta(description="The description of a list.")] = None
    rules: Annotated[str | None, Meta(description="The rules that run on its items.")] = None
    layout: Annotated[Layout | None, Meta(description="How it looks, where that is not found out.")] = None


@dataclass(frozen=True, slots=True)
class RoundSheet:
    """A sheet of a round with what is asked of it: as `compare`, or, without a file, as `edit`."""

    at: SheetKeys
    asked: CompareRequest | EditRequest

    @property
    def name(self) -> str:
        """What it is called in messages."""
        return self.at.file or self.at.rules or "set"


class RoundKeys(_Table, frozen=True):
    """The keys of a round file besides those that are settings of a step."""

    live: Annotated[str, Meta(description="The store's export: a path, or an address.")]
    version: Annotated[int, Meta(description="The version of the round file's form: 1.")] = VERSION
    name: Annotated[str | None, Meta(description="What its rounds are called.  [default: as the file]")] = None
    folder: Annotated[str, Meta(description="The folder of its rounds and their ledger.")] = ROUNDS
    keep: Annotated[
        int | str, Meta(description='How long what went into a round is kept: a number of rounds, or "90 days".')
    ] = 12
    store: Annotated[
        str | None, Meta(description="The store file.  [default: neat-delta.toml beside this file, if it is there]")
    ] = None
    codes: Annotated[str | None, Meta(description="A list of old and new codes, as ‹recode› of `compare`.")] = None
    overlap: Annotated[
        Overlap, Meta(description="Which of two sheets counts that say different things of one cell.")
    ] = "hold"
    rehearse: Annotated[bool, Meta(description="Whether a practice store imports the files first.")] = True
    limits: Annotated[Limits, Meta(description="What may pass without a person.")] = Limits()
    sign_off: Annotated[SignOff, Meta(description="Whether people look at it first.")] = SignOff()
    deliver: Annotated[Delivering, Meta(description="Where update files go.")] = Delivering()
    confirm: Annotated[Confirming, Meta(description="How it is seen whether it landed.")] = Confirming()
    tell: Annotated[Telling, Meta(description="Who hears of it.")] = Telling()
    time_limit: Annotated[str | None, Meta(description="How long a run may take: 90m, 12h.")] = None


REQUESTS: dict[str, type[Request]] = {"compare": CompareRequest, "preview": PreviewRequest, "write": WriteRequest}
"""The tables of a round file that are the settings of a step, for the whole round; beside a sheet's file stand those of
`compare`, too, and count before.
"""


@dataclass(frozen=True, slots=True)
class RoundFile:
    """A round file as it was read, with its path: its keys (`at`), its sheets in order, the settings of its steps."""

    path: str
    at: RoundKeys
    sheets: tuple[RoundSheet, ...]
    compare: CompareRequest
    preview: PreviewRequest
    write: WriteRequest

    @property
    def name(self) -> str:
        """What its rounds are called."""
        return self.at.name or Path(self.path).stem

    @property
    def ledger(self) -> Ledger:
        """The ledger of its rounds."""
        return ledger_at(self.place(self.at.folder), self.at.keep)

    @property
    def store_path(self) -> str | None:
        """The store file, if there is one."""
        if self.at.store is not None:
            return self.place(self.at.store)
        beside = Path(self.path).parent / "neat-delta.toml"
        return str(beside) if beside.is_file() else None

    def place(self, name: str) -> str:
        """A path of the round file from the working folder on; an address stays what it is."""
        if is_address(name):
            without_secret(name, self.path)
        return name if is_address(name) else str(Path(self.path).parent / name)


def read_round_file(path: AnyPath) -> RoundFile:
    r"""What a round file says; StoreError with line, key and the nearest known name where something is wrong.

    >>> from tempfile import mkdtemp
    >>> path = Path(mkdtemp()) / "weekly.toml"
    >>> _ = path.write_text('version = 1\nlive = "live.csv"\n[[sheet]]\nfile = "prices.csv"\nblanks = "keep"\n')
    >>> read_round_file(str(path)).sheets[0].asked.blanks
    {'': 'keep'}
    """
    path = os.fspath(path)
    _, data = toml_of(path)
    data = _from_environment(path, data, ())
    plain = {name: value for name, value in data.items() if name not in {*REQUESTS, "sheet"}}
    for where, what in wrong_keys(plain, RoundKeys, ()):
        raise error_at(path, where, _with_requests(where, what))
    at = msgspec.convert(plain, RoundKeys, strict=False)
    if at.version != VERSION:
        raise error_at(path, ("version",), "this Neat Delta reads round files of version 1. Write: version = 1")
    asked = {name: _request(path, (name,), kind, data.get(name, {})) for name, kind in REQUESTS.items()}
    entries = data.get("sheet", [])
    if not isinstance(entries, list) or not entries or not all(isinstance(entry, dict) for entry in entries):
        raise error_at(path, ("sheet",), 'a round needs a sheet, a list or rules. Write: [[sheet]] and file = "…"')
    sheets = tuple(_sheet(path, number, entry) for number, entry in enumerate(entries))
    _must_be_times(path, at)
    for address in [at.live, *at.deliver.to, *at.confirm.results, *(sheet.at.file or "" for sheet in sheets)]:
        if is_address(address):
            without_secret(address, path)
    return RoundFile(path, at, sheets, **asked)  # type: ignore[arg-type]


IN_ENVIRONMENT = re.compile(r"\$([A-Za-z_][A-Za-z0-9_]*)")

ADDRESSES = frozenset({"live", "file", "base", "to", "after", "results", "smtp", "url", "sender"})
"""The keys in which $NAME stands for what the environment has under that name."""


def _from_environment(path: str, value: Any, where: tuple[str, ...]) -> Any:  # noqa: ANN401 - of TOML
    """The same with what the environment has, in the keys that are addresses; StoreError where it has nothing."""
    if isinstance(value, dict):
        return {name: _from_environment(path, of_name, (*where, name)) for name, of_name in value.items()}
    if isinstance(value, list):
        return [_from_environment(path, entry, where if isinstance(entry, str) else (*where, str(place)))
                for place, entry in enumerate(value)]  # fmt: skip
    if not isinstance(value, str) or not where or where[-1] not in ADDRESSES:
        return value
    for name in IN_ENVIRONMENT.findall(value):
        if not os.environ.get(name):
            raise error_at(path, where, f"${name} is not in the environment. Set it there, or write what it stands for")
    return IN_ENVIRONMENT.sub(lambda named: os.environ[named[1]], value)


def _with_requests(where: tuple[str, ...], what: str) -> str:
    """A message about an unknown key of the file itself, where the nearest may be a table of settings."""
    if len(where) == 1 and "no such key" in what:
        known = [*REQUESTS, "sheet", *RoundKeys.__struct_fields__]
        return f"there is no such key.{did_you_mean(where[0], known, _known(known))}"
    return what


def _known(names: Sequence[str]) -> str:
    return f"Known are: {', '.join(names)}."


def _request(path: str, where: tuple[str, ...], kind: type[Request], values: Any, *more: str) -> Request:  # noqa: ANN401 - of TOML
    """The settings of a table."""
    if not isinstance(values, dict):
        raise error_at(path, where, "it must be a table")
    known = [*more, *settings_of(kind)]
    for name in values:
        if name not in settings_of(kind):
            raise error_at(
                path,
                (*where, name),
                f"there is no such key.{did_you_mean(name, known, _known(known))}",
            )
    try:
        return request_of(kind, values)
    except SettingError as error:
        raise error_at(path, (*where, error.setting), error.what) from None


def _sheet(path: str, number: int, entry: dict[str, Any]) -> RoundSheet:
    """A sheet of the round."""
    where, own = ("sheet", str(number)), SheetKeys.__struct_fields__
    plain = {name: value for name, value in entry.items() if name in own}
    for within, what in wrong_keys(plain, SheetKeys, where):
        raise error_at(path, within, what)
    at = msgspec.convert(plain, SheetKeys, strict=False)
    rest = {name: value for name, value in entry.items() if name not in own}
    asked = _request(path, where, EditRequest if at.file is None else CompareRequest, rest, *own)
    if at.file is None and (at.rules is None) == (not asked.set):  # type: ignore[attr-defined]
        raise error_at(path, where, "name its file; or, for rules on live, say what to set, or name the rules")
    if at.file is None and (at.mapping or at.base or at.layout):
        raise error_at(path, where, "rules on live have no mapping, base or layout; name a file, or leave that out")
    return RoundSheet(at, asked)  # type: ignore[arg-type]


def _must_be_times(path: str, at: RoundKeys) -> None:
    """StoreError where an age, a time or what is kept is none."""
    for where, value in ((("limits", "older_than"), at.limits.older_than), (("time_limit",), at.time_limit)):
        if value is not None:
            try:
                seconds_of(value)
            except ValueError as error:
                raise error_at(path, where, str(error)) from None
    try:
        keep_of(at.keep)
    except ValueError as error:
        raise error_at(path, ("keep",), str(error)) from None


def round_file_schema() -> dict[str, Any]:
    """The round file's JSON Schema (draft 2020-12), for editors.

    >>> round_file_schema()["$defs"]["SheetKeys"]["properties"]["with_new"]["type"]
    'boolean'
    """
    document = schema_of(RoundKeys, "round file")
    of_sheet = schema_of(SheetKeys, "sheet")["$defs"]
    named = {name: _schema_of_request(kind) for name, kind in REQUESTS.items()}
    sheet = of_sheet["SheetKeys"]
    sheet["properties"] |= {**_schema_of_request(EditRequest)["properties"], **named["compare"]["properties"]}
    definitions = document["$defs"] | of_sheet
    top = definitions[document["$ref"].rpartition("/")[2]]
    top["properties"] |= named | {"sheet": {"type": "array", "minItems": 1, "items": {"$ref": "#/$defs/SheetKeys"}}}
    top["required"] = [*top["required"], "sheet"]
    return document | {"$defs": definitions}


def _schema_of_request(kind: type[Request]) -> dict[str, Any]:
    """The schema of a table that is the settings of a step."""
    properties = {
        name: {"description": as_options(setting.does), **setting.form.schema()}
        for name, setting in settings_of(kind).items()
    }
    return {"type": "object", "properties": properties, "additionalProperties": False}
