"""`neat-delta completion`: what a shell takes to complete what is typed after `neat-delta`."""

from __future__ import annotations

import os
import re
import shlex

import click
from click.shell_completion import (
    BashComplete,
    CompletionItem,
    add_completion_class,
    get_completion_class,
    split_arg_string,
)

from neat_delta.cli.options import argument, verb

__all__ = ["completion"]

PROGRAM = "neat-delta"
SHELLS = ("bash", "zsh", "fish")

PLAIN = re.compile(r"[\w.,:=/@%+-]*")
"""What a shell takes as it stands."""

BASH = """\
%(complete_func)s() {
    local type value
    while IFS=',' read -r type value; do
        case $type in
            dir) COMPREPLY=(); compopt -o dirnames ;;
            file) COMPREPLY=(); compopt -o default ;;
            plain) COMPREPLY+=("$value") ;;
        esac
    done < <(env COMP_LINE="${COMP_LINE:0:COMP_POINT}" %(complete_var)s=bash_complete "$1")
}
complete -o nosort -F %(complete_func)s %(prog_name)s
"""


@add_completion_class
class _Bash(BashComplete):
    """Of what was typed, the whole line counts: bash itself takes `=` and `:` for the ends of words, and so only what
    comes after them is to be given back.
    """

    name = "bash"
    source_template = BASH

    @staticmethod
    def _check_version() -> None:
        """The script above goes with every version that has `compopt`: 4.0 and later."""

    def get_completion_args(self) -> tuple[list[str], str]:
        line = os.environ["COMP_LINE"]
        words = split_arg_string(line)
        incomplete = words.pop() if words and not line[-1:].isspace() else ""
        self.typed = max(incomplete.rfind("="), incomplete.rfind(":")) + 1
        return words[1:], incomplete

    def format_completion(self, item: CompletionItem[str]) -> str:
        value = str(item.value)[self.typed :]
        plain = item.type != "plain" or PLAIN.fullmatch(value)
        return f"{item.type},{value if plain else shlex.quote(value)}"


@verb(epilog='\b\nExample:\n  eval "$(neat-delta completion bash)"')
@argument("shell", type=click.Choice(SHELLS))
@click.pass_context
def completion(context: click.Context, shell: str) -> int:
    """Print what SHELL takes to complete commands, options, choices, and the names of fields.

    Names come from the files that stand on the line, of which only the beginning is read.

    bash: put eval "$(neat-delta completion bash)" into ~/.bashrc. zsh: the same with zsh, into ~/.zshrc. fish:
    neat-delta completion fish > ~/.config/fish/completions/neat-delta.fish.
    """
    from neat_delta.cli.main import COMPLETION

    kind = get_completion_class(shell)
    if kind is None:
        raise click.UsageError(f"There is no completion for {shell}.")
    click.echo(kind(context.find_root().command, {}, PROGRAM, COMPLETION).source())
    return 0
