"""Options: made from the settings of a request, in groups for whoever asks for help; and read into a request again."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from functools import partial
from typing import TYPE_CHECKING, Any, TypeVar, get_args

import click

from neat_delta.app.forms import Form
from neat_delta.app.settings import Group, Request, request_of, settings_of
from neat_delta.core.base.support.errors import SettingError
from neat_delta.report.settings import as_options, option_of

__all__ = ["FILES", "LISTS", "argument", "asked", "option", "records_in_groups", "settings_options", "verb"]

if TYPE_CHECKING:
    from click.shell_completion import CompletionItem

Decorator = Callable[[Any], Any]
Asked = TypeVar("Asked", bound="Request")

FIRST, LISTS, FILES = "Options", "Suppliers' lists and rules", "How the files look"
GROUPS = (FIRST, *get_args(Group), FILES)
"""The groups of options, as they stand in a command's help."""


class Option(click.Option):
    """An option that stands in a group of a command's help, and completes what is typed for it by its `form`."""

    def __init__(self, *names: Any, group: str = FIRST, form: Form | None = None, **more: Any) -> None:  # noqa: ANN401 - as Click's own
        super().__init__(*names, **more)
        self.group, self.form = group, form

    def shell_complete(self, ctx: click.Context, incomplete: str) -> list[CompletionItem]:
        """What may stand there."""
        from neat_delta.cli.completing import completions

        return completions(ctx, self, self.form, incomplete)


class Argument(click.Argument):
    """An argument that completes what is typed for it, by its `form` if it has one."""

    def __init__(self, *names: Any, form: Form | None = None, **more: Any) -> None:  # noqa: ANN401 - as Click's own
        super().__init__(*names, **more)
        self.form = form

    def shell_complete(self, ctx: click.Context, incomplete: str) -> list[CompletionItem]:
        """What may stand there: a file, mostly; a word of those that its type has."""
        from neat_delta.cli.completing import completions

        return self.type.shell_complete(ctx, self, incomplete) or completions(ctx, self, self.form, incomplete)


option, argument = partial(click.option, cls=Option), partial(click.argument, cls=Argument)
"""The decorators that add an option or an argument to a command."""


class Verb(click.Command):
    """A command whose help shows its options in their groups; those that say how files look only by their names, as
    `neat-delta help files` says what they do.
    """

    def format_options(self, ctx: click.Context, formatter: click.HelpFormatter) -> None:
        """Write the options, a section for each group."""
        groups = records_in_groups(self, ctx)
        looks = groups.pop(FILES, [])
        for name, records in groups.items():
            with formatter.section(name):
                formatter.write_dl(records)
        if looks:
            with formatter.section(FILES):
                names = ", ".join(words.partition(" ")[0] for words, _ in looks)
                formatter.write_text(f"{names}: see `neat-delta help files`.")


def records_in_groups(command: click.Command, context: click.Context) -> dict[str, list[tuple[str, str]]]:
    """A command's options by their groups: how each is typed, and what it does. Groups without options are left out."""
    groups: dict[str, list[tuple[str, str]]] = {name: [] for name in GROUPS}
    for parameter in command.get_params(context):
        record = parameter.get_help_record(context) if isinstance(parameter, click.Option) else None
        if record is not None:
            groups[parameter.group if isinstance(parameter, Option) else FIRST].append(record)
    return {name: records for name, records in groups.items() if records}


verb = partial(click.command, cls=Verb)
"""The decorator that makes a command of a function."""


def settings_options(request: type[Request]) -> Decorator:
    """The options of a request's settings; a command gets what they say under the settings' names."""

    def add(command: Any) -> Any:  # noqa: ANN401 - as Click decorates
        for name, setting in reversed(settings_of(request).items()):
            kwargs: dict[str, Any] = {"is_flag": True} if setting.metavar is None else {"metavar": setting.metavar}
            kwargs |= {"multiple": True} if setting.form.repeated else {}
            command = option(
                option_of(name), name, group=setting.group, form=setting.form, help=as_options(setting.does), **kwargs
            )(command)
        return command

    return add


def asked(request: type[Asked], values: Mapping[str, Any], **more: Any) -> Asked:  # noqa: ANN401 - values of settings
    """The request that options say, with `more` of its fields; what is wrong with one is an error of that option."""
    try:
        return request_of(
            request, {name: value for name, value in values.items() if value not in (None, (), False)} | more
        )
    except SettingError as error:
        raise click.BadParameter(error.what, param_hint=option_of(error.setting)) from None
