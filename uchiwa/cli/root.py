"""The command itself, to which the others belong."""

from __future__ import annotations

import click


@click.group(context_settings={"help_option_names": ["-h", "--help"]})
@click.version_option(package_name="uchiwa")
def uchiwa() -> None:
    """Remote engine calibration, round by round."""
