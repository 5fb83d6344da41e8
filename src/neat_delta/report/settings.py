"""Settings as a person says them: what a request calls ‹with_new› is --with-new on the command line."""

from __future__ import annotations

import re

__all__ = ["as_options", "option_of"]

NAMED = re.compile("‹([a-z_]+)›")


def option_of(setting: str) -> str:
    """The option that says a setting: one name for both.

    >>> option_of("with_new")
    '--with-new'
    """
    return "--" + setting.replace("_", "-")


def as_options(text: str) -> str:
    """A message of the core with its settings as options.

    >>> as_options("Name the key with ‹key›.")
    'Name the key with --key.'
    """
    return NAMED.sub(lambda named: option_of(named[1]), text)
