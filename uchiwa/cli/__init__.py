"""The `uchiwa` command: what the web does, the command can do."""

from __future__ import annotations

import sys

import click

from uchiwa.cli.root import uchiwa
from uchiwa.core.errors import BadInput, in_one_line

BAD_INPUT = 2
FAILURE = 1


def main() -> None:
    """Run the command; bad input is one line and exit 2, a failure one line and exit 1."""
    try:
        uchiwa(standalone_mode=False)
    except BadInput as error:
        click.echo(str(error), err=True)
        sys.exit(BAD_INPUT)
    except click.exceptions.Abort:
        sys.exit(FAILURE)
    except click.ClickException as error:
        click.echo(f"{error.format_message()} See uchiwa --help.", err=True)
        sys.exit(BAD_INPUT)
    except Exception as error:
        click.echo(f"Failed: {in_one_line(error)}", err=True)
        sys.exit(FAILURE)


__all__ = ["main", "uchiwa"]
