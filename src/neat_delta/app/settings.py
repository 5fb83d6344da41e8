"""What a setting is: how it is said, what it does; and how a request is made of what was said, by whomever."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from functools import cache
from typing import TYPE_CHECKING, Any, Literal, Self, TypeVar, get_type_hints

import msgspec

from neat_delta.app.forms import Form
from neat_delta.core.base.support.errors import SettingError
from neat_delta.core.base.support.nearest import did_you_mean

if TYPE_CHECKING:
    pass


__all__ = ["Group", "Request", "Setting", "request_of", "settings_of"]


Group = Literal[
    "What is set",
    "What is let through",
    "Items and fields",
    "Suppliers' lists and rules",
    "Which items",
    "How they are shown",
    "How the files are made",
]


@dataclass(frozen=True, slots=True)
class Setting:
    """How a setting is said (`form`), what it does (`does`, as in a list of options), among which others it stands, and
    what stands for its value (`metavar`; None: nothing, as it is a flag).
    """

    form: Form
    does: str
    group: Group
    metavar: str | None = None


class Request(msgspec.Struct, frozen=True, kw_only=True):
    """What one step is asked for. SettingError names the setting whose value is none."""

    def __post_init__(self) -> None:
        for name, setting in settings_of(type(self)).items():
            given = getattr(self, name)
            try:
                value = setting.form.read(given)
            except ValueError as error:
                raise SettingError(name, str(error)) from None
            except TypeError:
                raise SettingError(name, f"{given!r} is nothing that can be said there: {setting.does}") from None
            msgspec.structs.force_setattr(self, name, value)

    def over(self, other: Self) -> Self:
        """What is said here, and where nothing is what the `other` says."""
        settings = settings_of(type(self))
        both = {
            name: setting.form.over(getattr(self, name), getattr(other, name)) for name, setting in settings.items()
        }
        return msgspec.structs.replace(self, **both)


Asked = TypeVar("Asked", bound=Request)


@cache
def settings_of(request: type[Request]) -> dict[str, Setting]:
    """The settings of a request by their names, in their order.

    >>> from neat_delta.app.requests import CheckRequest
    >>> settings_of(CheckRequest)["key"].metavar
    'FIELD'
    """
    hints = get_type_hints(request, include_extras=True)
    marks = {name: getattr(hint, "__metadata__", ()) for name, hint in hints.items()}
    return {name: mark for name, parts in marks.items() for mark in parts if isinstance(mark, Setting)}


def request_of(request: type[Asked], values: Mapping[str, Any]) -> Asked:
    """The request that these settings make, each by its name (None: nothing is said); SettingError for a name that is
    none, with the nearest, and for a value that is none.

    >>> from neat_delta.app.requests import CompareRequest
    >>> request_of(CompareRequest, {"blanks": "clear", "accept": ["slip:price"]}).blanks
    {'': 'clear'}
    >>> try:
    ...     request_of(CompareRequest, {"acept": "slip"})
    ... except SettingError as error:
    ...     print(error.what)
    there is no such setting. Did you mean "accept"?
    """
    names = request.__struct_fields__
    for name in values:
        if name not in names:
            known = f"There are: {', '.join(names)}."
            raise SettingError(name, f"there is no such setting.{did_you_mean(name, names, known)}")
    return request(**{name: value for name, value in values.items() if value is not None})
