"""The command itself; each subcommand's module is imported when it is asked for, for some of them need a second."""

from __future__ import annotations

import importlib
from typing import NamedTuple

import click


class Subcommand(NamedTuple):
    """Where a subcommand is, and what the list of them says."""

    module: str
    help: str
    hidden: bool = False


SUBCOMMANDS: dict[str, Subcommand] = {
    "bin": Subcommand(
        "logs", "Gather any formula over logs on the axes of a table; computed channels count as channels."
    ),
    "calibration": Subcommand("calibrations", "Compare, convert and check calibrations."),
    "db": Subcommand("running", "The project's own database server."),
    "log": Subcommand("logs", "Channels, quantities, units, rates, drives and findings of a log."),
    "propose": Subcommand("propose", "Compute a proposal of a KIND from logs."),
    "pulls": Subcommand(
        "pulls", "Torque and power of full-load pulls by bands of engine speed, from dyno files and road logs."
    ),
    "secret": Subcommand("running", "The installation's secret, from which links and the tokens of forms follow."),
    "remote": Subcommand("remote", "Jobs, logs, proposals and revisions of a server."),
    "serve": Subcommand("running", "Start database, worker and web."),
    "standin": Subcommand("standins", "Simulated cars."),
    "work": Subcommand("running", "Run the worker alone.", hidden=True),
    "user": Subcommand("people", "People who sign in."),
}


class Lazy(click.Group):
    """A group that knows its subcommands by name before it has them."""

    def list_commands(self, ctx: click.Context) -> list[str]:  # noqa: ARG002
        """Every name, in alphabetical order."""
        return sorted(SUBCOMMANDS)

    def get_command(self, ctx: click.Context, cmd_name: str) -> click.Command | None:
        """A subcommand, imported now if it was not yet."""
        if cmd_name in SUBCOMMANDS and cmd_name not in self.commands:
            importlib.import_module(f"uchiwa.cli.{SUBCOMMANDS[cmd_name].module}")
        return super().get_command(ctx, cmd_name)

    def format_commands(self, ctx: click.Context, formatter: click.HelpFormatter) -> None:  # noqa: ARG002
        """The list of subcommands, without any of them."""
        rows = [(name, subcommand.help) for name, subcommand in sorted(SUBCOMMANDS.items()) if not subcommand.hidden]
        with formatter.section("Commands"):
            formatter.write_dl(rows)


@click.group(cls=Lazy, context_settings={"help_option_names": ["-h", "--help"]})
@click.version_option(package_name="uchiwa")
def uchiwa() -> None:
    """Remote engine calibration, round by round."""
