"""The entry point. Each command is loaded when it is called: `--help` takes their names and first words only, from here."""

from __future__ import annotations

import io
import sys
from importlib import import_module

import click

HELP = """Say who can get into which guest, and why.

    Write down who is let in, from where, with what proof. Nightlatch reads what the guests really hold, tells the difference,
    drafts the smallest change and applies it so that it can be taken back.

    Start with a look at one guest: nightlatch audit FOLDER. Or see the whole: nightlatch demo.
"""


# Every command with the module that holds it, and what the list of commands says of it.
COMMANDS = {
    "access": ("access", "List every way in: account, proof, callers and powers; ask by person, key or place."),
    "addresses": ("addresses", "Show who has which address, what collides, what is free, which to dial."),
    "audit": ("audit", "Say who can get in, and compare it with the grants."),
    "checks": ("audit", "List the checks of hygiene."),
    "compare": ("compare", "Say what opened, closed or changed since a day, by evidence that was kept."),
    "demo": ("estate_file", "Tell the whole loop as a story, on a sample estate."),
    "draft": ("changes", "Draft the fewest changes that close the differences, and prove them."),
    "enact": ("changes", "Prove again, show the difference, apply it on the latch."),
    "exposure": ("exposure", "Show who gets through to which port of which guest, by which rule."),
    "find": ("addresses", "Find a guest by its name or hardware address."),
    "keep": ("changes", "Keep what is on the latch of a live guest."),
    "key": ("key", "Look into key files, make keys, convert, sign and revoke them."),
    "meet": ("reach", "Compare a guest's host keys with its console, and pin them."),
    "new": ("estate_file", "Write an estate file to start from, empty or from guests."),
    "password": ("password", "Judge a password that you type, without keeping it."),
    "pending": ("changes", "List what is on the latch, where, since when, for how long."),
    "perimeter": ("perimeter", "Draft the rows that filters outside of guests should have."),
    "reach": ("reach", "Try granted ways in on the wire, from here."),
    "schema": ("estate_file", "Print the JSON Schema of the estate file, for editors."),
    "survey": ("audit", "Read guests, and keep an evidence archive of each."),
    "undo": ("changes", "Take a change back: every byte, mode and owner."),
    "why": ("why", "Say why somebody gets into a guest or not, link by link, and what mends it."),
}


class Commands(click.Group):
    """A group whose commands are loaded one by one."""

    def list_commands(self, ctx: click.Context) -> list[str]:
        """The names of all commands."""
        return sorted(COMMANDS)

    def get_command(self, ctx: click.Context, cmd_name: str) -> click.Command | None:
        """A command by its name, loaded now."""
        if cmd_name not in COMMANDS:
            return None
        module, short = COMMANDS[cmd_name]
        found = getattr(import_module(f"nightlatch.cli.{module}"), cmd_name)
        assert isinstance(found, click.Command)
        found.short_help = short
        return found

    def resolve_command(self, ctx: click.Context, args: list[str]) -> tuple[str | None, click.Command | None, list[str]]:
        """The command that is meant. Raises UsageError with the nearest name for one that is not there."""
        if args[0] not in COMMANDS and not args[0].startswith("-") and not ctx.resilient_parsing:
            from nightlatch.faults import nearest

            near = nearest(args[0], sorted(COMMANDS))
            ctx.fail(f'there is no command "{args[0][:40]}"' + (f'; did you mean "{near}"?' if near else ""))
        return super().resolve_command(ctx, args)

    def format_commands(self, ctx: click.Context, formatter: click.HelpFormatter) -> None:
        """The list of commands, none of them loaded."""
        with formatter.section("Commands"):
            formatter.write_dl([(name, COMMANDS[name][1]) for name in self.list_commands(ctx)])


@click.group(cls=Commands, help=HELP, context_settings={"help_option_names": ["-h", "--help"], "max_content_width": 100})
@click.version_option(package_name="nightlatch", message="nightlatch %(version)s")
def cli() -> None:
    """The group of all commands."""


def main() -> None:
    """The entry point."""
    for stream in (sys.stdout, sys.stderr):
        # What a terminal or pipe can't show gets a sign in its place: names of files need not be text at all.
        if isinstance(stream, io.TextIOWrapper):
            stream.reconfigure(errors="replace")
    cli(prog_name="nightlatch")
