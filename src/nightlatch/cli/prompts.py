"""Questions to the person at the terminal. Without a terminal no question is asked: the error names the option that
answers it."""

from __future__ import annotations

import sys

import click


def somebody() -> bool:
    """Whether a person can see a question and answer it: both at a terminal."""
    return sys.stdin.isatty() and sys.stderr.isatty()


def agreed(question: str, option: str, *, default: bool = False) -> bool:
    """A yes or no; `option` answers it otherwise. Raises RefusedError where nobody sits, KeyboardInterrupt on Ctrl-C."""
    _must_sit(question, option)
    try:
        return click.confirm(question, default=default, err=True)
    except click.Abort:
        raise KeyboardInterrupt from None


def typed(question: str, option: str, *, may_be_empty: bool = False) -> str:
    """A line of text; asked again while it is empty, unless it may be. Raises as `agreed` does."""
    _must_sit(question, option)
    try:
        return str(click.prompt(question, default="" if may_be_empty else None, show_default=False, err=True))
    except click.Abort:
        raise KeyboardInterrupt from None


def password(question: str) -> str:
    """A secret, not shown while it is typed; may be empty. For callers that know that somebody sits there."""
    try:
        return str(click.prompt(question.rstrip(": "), default="", show_default=False, hide_input=True, err=True))
    except click.Abort:
        raise KeyboardInterrupt from None


def _must_sit(question: str, option: str) -> None:
    from nightlatch.faults import RefusedError

    if not somebody():
        raise RefusedError(f"nobody is at a terminal to answer: {question} Say {option}.")
