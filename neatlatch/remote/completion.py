"""``nlatch completion bash``: a script that completes commands, options and their choices."""

from __future__ import annotations

import argparse
import shlex
from collections.abc import Callable, Iterator

from neatlatch.exit_codes import ExitCode

_SCRIPT = """# Completion of nlatch in bash. To have it in every shell:
#   nlatch completion bash > ~/.local/share/bash-completion/completions/nlatch
_nlatch() {{
    local here="" at word words=""
    local current="${{COMP_WORDS[COMP_CWORD]}}" before="${{COMP_WORDS[COMP_CWORD-1]}}"
    for ((at = 1; at < COMP_CWORD; at++)); do
        word="${{COMP_WORDS[at]}}"
        case "$here $word" in
            {known}) here="$here $word" ;;
        esac
    done
    case "$here $before" in
{choices}    esac
    if [ -z "$words" ]; then
        case "$here" in
{words}        esac
    fi
    COMPREPLY=($(compgen -W "$words" -- "$current"))
}}
complete -o default -F _nlatch nlatch
"""


def _parsers(
    parser: argparse.ArgumentParser, path: str = ""
) -> Iterator[tuple[str, argparse.ArgumentParser]]:
    """Every command with its parser, by its words with a space before each."""
    yield path, parser
    for action in parser._actions:
        if isinstance(action, argparse._SubParsersAction):
            for name, below in action.choices.items():
                yield from _parsers(below, f"{path} {name}")


def _words(parser: argparse.ArgumentParser) -> list[str]:
    """What can stand behind a command: acts, options, and choices of what has no option."""
    words: list[str] = []
    for action in parser._actions:
        if action.option_strings:
            words += [option for option in action.option_strings if option.startswith("--")]
        elif action.choices is not None:
            words += [str(choice) for choice in action.choices]
    return words


def script(root: argparse.ArgumentParser) -> str:
    """Return the script for a command line."""
    known, words, choices = [], "", ""
    for path, parser in _parsers(root):
        if path:
            known.append(shlex.quote(path))
        words += (
            f"            {shlex.quote(path)}) words={shlex.quote(' '.join(_words(parser)))} ;;\n"
        )
        for action in parser._actions:
            if action.option_strings and action.choices is not None:
                for option in action.option_strings:
                    told = " ".join(str(choice) for choice in action.choices)
                    pattern = shlex.quote(f"{path} {option}")
                    choices += f"        {pattern}) words={shlex.quote(told)} ;;\n"
    return _SCRIPT.format(known=" | ".join(known), words=words, choices=choices)


def add_to(
    parsers: argparse._SubParsersAction[argparse.ArgumentParser],
    root: Callable[[], argparse.ArgumentParser],
) -> None:
    """Add the command. ``root`` returns the whole command line."""

    def run(_: argparse.Namespace) -> int:
        print(script(root()), end="")
        return ExitCode.DONE

    one = parsers.add_parser(
        "completion",
        help="print a script that completes commands in a shell",
        description="Print a script that completes commands, options and their choices. In bash: "
        "source <(nlatch completion bash)",
    )
    one.add_argument("shell", choices=["bash"])
    one.set_defaults(run=run)
