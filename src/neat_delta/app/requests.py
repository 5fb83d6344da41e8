"""What each step can be asked for: the only list of settings. A setting has one name, in a call, in a file and as an
option; whatever is said is read here, and what holds where several say something is decided here.
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING, Annotated, Any, Literal, Self, get_args

import msgspec

from neat_delta.app.forms import BLANKS, CLASHES, Accepts, Commas, Flag, Names, Number, OneOf, Pairs, Word
from neat_delta.core.base.model.accept import Accept
from neat_delta.core.base.model.choices import ItemOrder, KeepMargin, LevelShown, Verdict
from neat_delta.core.base.model.layout import Notation
from neat_delta.core.base.model.store import Blanks, Clash

if TYPE_CHECKING:
    from neat_delta.core.base.model.lists import ListMapping
    from neat_delta.core.base.model.store import Store
    from neat_delta.core.compare.options import CompareOptions
from neat_delta.app.settings import Request, Setting, settings_of

__all__ = [
    "CheckRequest",
    "CompareRequest",
    "EditRequest",
    "LearnRequest",
    "MatchRequest",
    "PreviewRequest",
    "RecodeRequest",
    "SheetRequest",
    "WriteRequest",
    "with_defaults",
]


Key = Annotated[
    tuple[str, ...],
    Setting(
        Names(),
        "The field an item is known by; repeat it for a key of several fields.  [default: as the store file or a "
        "mapping says, or the SKU's heading]",
        "Items and fields",
        "FIELD",
    ),
]


Headings = Annotated[
    dict[str, str],
    Setting(
        Pairs("HEADING=FIELD", '"Trade=cost"', last=True),
        'What a heading of SHEET stands for: "Trade=cost". May be repeated.',
        "Items and fields",
        "HEADING=FIELD",
    ),
]


Only = Annotated[
    tuple[str, ...],
    Setting(Commas(), "Only these fields, with commas between: price,stock.", "Items and fields", "FIELDS"),
]


Ignored = Annotated[
    tuple[str, ...], Setting(Names(), "Leave this heading out; may be repeated.", "Items and fields", "HEADING")
]


Added = Annotated[
    tuple[str, ...],
    Setting(
        Names(),
        "A field that the store has and its export lacks: what stands there is not known. May be repeated.",
        "Items and fields",
        "FIELD",
    ),
]


Images = Annotated[
    str | None,
    Setting(Word(), "The folder of the image files, to report those that are not in it.", "Items and fields", "DIR"),
]


Accepted = Annotated[
    tuple[Accept, ...],
    Setting(
        Accepts(),
        "Let through what is held: damage, slip, emptied, near (keys), list, rule, stale, swapped or a check by its "
        "name, in one field or of one item: slip:price, emptied:QA-1001. May be repeated.",
        "What is let through",
        "CHECK[:WHICH]",
    ),
]


NewValues = Annotated[
    tuple[str, ...],
    Setting(
        Names(adds=True),
        "Send values of FIELD that live does not have; may be repeated.  [default: held]",
        "What is let through",
        "FIELD",
    ),
]


MatchBy = Annotated[
    tuple[str, ...],
    Setting(
        Names(),
        "How SHEET's rows find their items, if not by the key: barcode. Repeat it for several fields.",
        "Suppliers' lists and rules",
        "FIELD",
    ),
]


Constants = Annotated[
    dict[str, str],
    Setting(
        Pairs("FIELD=TEXT", '"brand=Gustwell"', blank=True),
        "A field that SHEET lacks, the same in every row: brand=Gustwell. May be repeated.",
        "Suppliers' lists and rules",
        "FIELD=TEXT",
    ),
]


Prefer = Annotated[
    str | None,
    Setting(
        Word(),
        "Of several rows of a list for one item, the one to take.  [default: they are set aside]",
        "Suppliers' lists and rules",
        "first|last|lowest:FIELD|highest:FIELD",
    ),
]


Values = Annotated[
    dict[str, str],
    Setting(
        Pairs("NAME=VALUE", "rate=0.92", right=str.isidentifier),
        "What :NAME stands for in expressions: rate=0.92. May be repeated.",
        "Suppliers' lists and rules",
        "NAME=VALUE",
    ),
]


class CompareRequest(Request, frozen=True, kw_only=True):
    """What `compare` is asked for besides its inputs. `writing` is how the sheet writes values, where that is said.

    >>> CompareRequest(accept="emptied", blanks={"sale_price": "clear"}).accept
    (Accept(check='emptied', which=None),)
    """

    key: Key = ()
    only: Only = ()
    ignore: Ignored = ()
    map: Headings = {}
    exact: Annotated[
        tuple[str, ...],
        Setting(
            Names(),
            "Send every difference of text in FIELD, also what programs rewrite by themselves; may be repeated.",
            "Items and fields",
            "FIELD",
        ),
    ] = ()
    whole: Annotated[
        bool,
        Setting(
            Flag(),
            "SHEET is meant to have every item: those that it lacks are gone.  [default: they are left alone]",
            "Items and fields",
        ),
    ] = False
    add_field: Added = ()
    images: Images = None
    accept: Accepted = ()
    blanks: Annotated[
        dict[str, Blanks],
        Setting(
            BLANKS,
            "Cells emptied in SHEET: hold them, clear the field, or keep what live has; in every field, or in one: "
            "clear:sale_price. May be repeated.  [default: hold]",
            "What is let through",
            "hold|clear|keep[:FIELD]",
        ),
    ] = {}
    clash: Annotated[
        dict[str, Clash],
        Setting(
            CLASHES,
            "Cells that SHEET and the store both changed since: hold them, send SHEET's, leave the store's; in all "
            "fields, or in one: price=sheet. stock=add adds SHEET's difference to the store's number.  "
            "[default: hold]",
            "What is let through",
            "hold|sheet|live|FIELD=…",
        ),
    ] = {}
    repair: Annotated[
        bool,
        Setting(
            Flag(),
            "Put live's own value back where only the writing was damaged.  [default: held]",
            "What is let through",
        ),
    ] = False
    with_new: Annotated[
        bool, Setting(Flag(), "Send items that only SHEET has.  [default: held]", "What is let through")
    ] = False
    with_gone: Annotated[
        bool,
        Setting(Flag(), "With ‹whole›: remove the items that are gone.  [default: held]", "What is let through"),
    ] = False
    with_new_values: NewValues = ()
    accept_near_keys: Annotated[
        bool,
        Setting(
            Flag(),
            "Take keys that miss one of live only by case, spaces, hyphens or leading zeros.  [default: reported]",
            "What is let through",
        ),
    ] = False
    match_by: MatchBy = ()
    constant: Constants = {}
    prefer: Prefer = None
    let: Values = {}
    writing: Notation = Notation()

    def over(self, other: Self) -> Self:
        """What is said here, and where nothing is what the `other` says."""
        both = Request.over(self, other)
        return msgspec.structs.replace(both, writing=self.writing.over(other.writing))

    def options(self, within: Sequence[str] = (), *, today: str | None = None) -> CompareOptions:
        """The same for the stages of a comparison; `within` is a list's, `today` an ISO 8601 date."""
        from neat_delta.core.base.model.columns import ColumnMapping, ColumnOptions
        from neat_delta.core.compare.decide.policy import Policy
        from neat_delta.core.compare.options import CompareOptions
        from neat_delta.files.images import names_in

        blanks, clash = dict(self.blanks), dict(self.clash)
        policy = Policy(
            self.accept,
            blanks.pop("", None),
            blanks,
            clash.pop("", None),
            clash,
            self.with_new,
            self.with_gone,
            self.repair,
            self.accept_near_keys,
            self.with_new_values,
        )
        headings = ColumnMapping(self.map, list(self.ignore))
        return CompareOptions(
            ColumnOptions(self.key, headings, self.only, self.exact, self.add_field),
            policy,
            self.writing,
            names_in(self.images),
            today,
            self.whole,
            within,
        )


def with_defaults(
    request: CompareRequest, mapping: ListMapping | None, store: Store | None, fields: Sequence[str]
) -> CompareRequest:
    """What holds: what is said now, over what a list's description says, over what the store file says. `fields` are
    live's: of others the store file says nothing here.

    >>> from neat_delta import ListMapping, Store
    >>> with_defaults(CompareRequest(blanks="keep"), ListMapping(blanks="clear", repair=True), Store(), []).repair
    True
    """
    if mapping is not None:
        request = request.over(_of_list(mapping))
    return request if store is None else request.over(_of_store(store, fields, whole=mapping is None))


def _of_list(mapping: ListMapping) -> CompareRequest:
    """What a list's description says of the settings."""
    shared = {*settings_of(CompareRequest)} & {*mapping.__struct_fields__} - {"ignore"}  # which goes with its headings
    same = {name: getattr(mapping, name) for name in shared}
    single = {name: field.blanks for name, field in mapping.fields.items() if field.blanks is not None}
    every = {} if mapping.blanks is None else {"": mapping.blanks}
    return CompareRequest(**{**same, "blanks": every | single, "writing": mapping.writing})


def _of_store(store: Store, fields: Sequence[str], *, whole: bool) -> CompareRequest:
    """What a store file says of the settings; only a sheet that is read as it stands may have every item."""
    sheets, choices = store.sheets, dict[str, Any]()
    for name in ("blanks", "clash"):
        single = {field: getattr(of_field, name) for field, of_field in store.fields.items() if field in fields}
        every = getattr(sheets, name)
        choices[name] = ({} if every is None else {"": every}) | {n: value for n, value in single.items() if value}
    return CompareRequest(**choices, with_new=sheets.with_new, whole=whole and sheets.whole)


class EditRequest(Request, frozen=True, kw_only=True):
    """What `edit` is asked for besides live and its rules."""

    set: Annotated[
        dict[str, str],
        Setting(
            Pairs("FIELD = EXPRESSION", '"price = ROUND(price * 1.05, 2)"', once=True, quoted=True),
            'The field and its new value, as in SQL: "price = ROUND(price * 1.05, 2)". May be repeated.',
            "What is set",
            "FIELD = EXPRESSION",
        ),
    ] = {}
    where: Annotated[
        str | None, Setting(Word(), "With ‹set›: only in the items for which it holds.", "What is set", "CONDITION")
    ] = None
    let: Values = {}
    accept: Accepted = ()
    with_new_values: NewValues = ()
    add_field: Added = ()
    key: Key = ()


class RecodeRequest(Request, frozen=True, kw_only=True):
    """What `recode` is asked for besides live and the list of codes."""

    accept: Accepted = ()
    map: Headings = {}
    key: Key = ()


class MatchRequest(Request, frozen=True, kw_only=True):
    """What `match` is asked for besides its inputs."""

    key: Key = ()
    map: Headings = {}
    only: Only = ()
    ignore: Ignored = ()
    match_by: MatchBy = ()
    constant: Constants = {}
    prefer: Prefer = None


class CheckRequest(Request, frozen=True, kw_only=True):
    """What `check` is asked for besides its catalogue."""

    key: Key = ()
    images: Images = None


class LearnRequest(Request, frozen=True, kw_only=True):
    """What `learn` is asked for besides its export."""

    key: Key = ()


Where = Annotated[
    str | None,
    Setting(
        Word(),
        "Only the items for which it holds, as in SQL: \"price > 100 AND category LIKE 'Hives%'\"",
        "Which items",
        "CONDITION",
    ),
]


class SheetRequest(Request, frozen=True, kw_only=True):
    """What `sheet` is asked for besides live and the codes of items.

    >>> SheetRequest(fields="price,cost").fields
    ('price', 'cost')
    """

    where: Where = None
    fields: Annotated[
        tuple[str, ...],
        Setting(
            Commas(),
            "The fields and their order: price,stock. Key and name always come first.  [default: all]",
            "How they are shown",
            "FIELDS",
        ),
    ] = ()
    sort: Annotated[
        str | None,
        Setting(
            Word(),
            'The order of the items: "category, price DESC".  [default: as in live]',
            "How they are shown",
            "FIELDS",
        ),
    ] = None
    no_memory: Annotated[
        bool,
        Setting(
            Flag(),
            "Do not store what the items were like when they were cut: the file is smaller, and `compare` will ask for "
            "‹base› once the store has moved on.",
            "How they are shown",
        ),
    ] = False
    key: Key = ()


class PreviewRequest(Request, frozen=True, kw_only=True):
    """What `preview` is asked for besides a change set, live and a table of records.

    >>> PreviewRequest(verdict="new").chooses_items
    True
    """

    field: Annotated[
        tuple[str, ...], Setting(Names(), "Only changes of FIELD; may be repeated.", "Which items", "FIELD")
    ] = ()
    sku: Annotated[
        tuple[str, ...], Setting(Names(), "Only the item with this key; may be repeated.", "Which items", "SKU")
    ] = ()
    verdict: Annotated[
        tuple[Verdict, ...],
        Setting(
            Names(words=get_args(Verdict)),
            "Only items of this verdict; may be repeated.",
            "Which items",
            "changed|recoded|new|gone",
        ),
    ] = ()
    where: Where = None
    check: Annotated[
        tuple[str, ...],
        Setting(
            Names(),
            "Only items in which CHECK found something: damage, slip, margin, …; or by rules: rule, 'rule NAME'.",
            "Which items",
            "CHECK",
        ),
    ] = ()
    level: Annotated[
        tuple[LevelShown, ...],
        Setting(
            Names(words=get_args(LevelShown)),
            "Only items with a finding of a check of this level; may be repeated.",
            "Which items",
            "stop|warn|note",
        ),
    ] = ()
    sort: Annotated[
        ItemOrder,
        Setting(
            OneOf(*get_args(ItemOrder)),
            "Order of the items: as in live, by key, by name, or largest change in per cent first.  [default: file]",
            "How they are shown",
            "file|key|name|size",
        ),
    ] = "file"
    total: Annotated[
        tuple[str, ...],
        Setting(
            Names(),
            "What each item comes to over its rows and such fields, before and after; may be repeated.  "
            "[default: the stock, where the key has several fields]",
            "How they are shown",
            "FIELD",
        ),
    ] = ()
    by: Annotated[
        str | None,
        Setting(
            Word(), "The impact on each group of items with one value of FIELD, too.", "How they are shown", "FIELD"
        ),
    ] = None
    keep_margin: Annotated[
        KeepMargin | None,
        Setting(
            OneOf(*get_args(KeepMargin)),
            "Where a cost rises, the price that would keep the margin. Nothing is applied.",
            "How they are shown",
            "percent|amount",
        ),
    ] = None
    record_price: Annotated[
        str | None,
        Setting(
            Word(),
            "The price in ‹records›.  [default: the heading that plainly is]",
            "How they are shown",
            "HEADING",
        ),
    ] = None

    @property
    def needs_live(self) -> bool:
        """Whether it asks for what only the live catalogue says."""
        return any(option is not None for option in (self.where, self.by, self.keep_margin)) or bool(self.total)

    @property
    def chooses_items(self) -> bool:
        """Whether not all items are looked at."""
        return bool(self.sku or self.verdict or self.where or self.check or self.level)


class WriteRequest(Request, frozen=True, kw_only=True):
    """What `write` is asked for besides a change set, live, the importer, and what was answered."""

    importer_blanks: Annotated[
        Literal["skip", "clear"] | None,
        Setting(
            OneOf("skip", "clear"),
            "What the store's importer does with a blank cell: skip it (then one file is enough), or clear the field.  "
            "[default: as the store file says, or clear]",
            "How the files are made",
            "skip|clear",
        ),
    ] = None
    most_files: Annotated[
        int,
        Setting(
            Number(1),
            "Where a blank clears: in how many files items may be changed at the most.  [default: 8]",
            "How the files are made",
            "N",
        ),
    ] = 8
    file_cost: Annotated[
        int,
        Setting(
            Number(0),
            "Where a blank clears: how many cells that do not change may be carried along to save a file; 0 for none.  "
            "[default: 20]",
            "How the files are made",
            "CELLS",
        ),
    ] = 20
    whole_catalogue: Annotated[
        bool,
        Setting(Flag(), "Write every item, for an importer that deletes what is missing.", "How the files are made"),
    ] = False
    reason: Annotated[
        str | None,
        Setting(
            Word(),
            'What stands in the column "reason" of every row, if the importer has one: recount.',
            "How the files are made",
            "TEXT",
        ),
    ] = None
