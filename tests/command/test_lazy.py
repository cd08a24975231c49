"""The command's list of subcommands is right without any of them being imported."""

from __future__ import annotations

import subprocess
import sys

import click
import pytest

from uchiwa.cli import uchiwa
from uchiwa.cli.root import SUBCOMMANDS

HEAVY = ("numpy", "numba", "pint", "polars", "pydantic", "scipy", "fastapi", "peewee")


@pytest.mark.parametrize("name", sorted(SUBCOMMANDS))
def test_what_the_list_says_of_a_subcommand_is_how_its_own_help_begins(name):
    command = uchiwa.get_command(click.Context(uchiwa), name)
    assert command is not None
    assert command.hidden is SUBCOMMANDS[name].hidden
    own = " ".join((command.help or "").split())
    assert own.startswith(SUBCOMMANDS[name].help.rstrip(".")), own


def test_every_subcommand_is_listed():
    for name in SUBCOMMANDS:
        uchiwa.get_command(click.Context(uchiwa), name)
    assert set(uchiwa.commands) == set(SUBCOMMANDS)


def test_help_imports_nothing_that_takes_long():
    text = (
        "import sys; sys.argv = ['uchiwa', '--help']\n"
        "from uchiwa.cli import main\n"
        "try: main()\n"
        "except SystemExit: pass\n"
        f"print([one for one in {HEAVY!r} if one in sys.modules])"
    )
    told = subprocess.run([sys.executable, "-c", text], capture_output=True, text=True, check=True).stdout
    assert "propose" in told
    assert told.strip().endswith("[]")
