"""`uchiwa user`: people, for whoever sits at the server. What it does is in the audit log."""

from __future__ import annotations

import getpass
import sys

import click

from uchiwa.cli.at_database import at_database
from uchiwa.cli.root import uchiwa
from uchiwa.core.errors import BadInput

_AT_THE_PROMPT = "the prompt"


@uchiwa.group()
def user() -> None:
    """People who sign in."""


@user.command("list")
def list_() -> None:
    """Everybody: shop, role, address, name."""
    from uchiwa.store import people
    from uchiwa.store.database import unit_of_work

    with at_database(to_migrate=True), unit_of_work():
        everybody = people.everybody()
    if not everybody:
        click.echo("Nobody yet. uchiwa serve prints an address at which the first shop is made.")
    for one in everybody:
        marks = [one.role, *(["operator"] if one.operator else []), *(["locked out"] if one.disabled_at else [])]
        click.echo(f"{one.shop.name}\t{', '.join(marks)}\t{one.email}\t{one.name}")


@user.command()
@click.argument("email")
@click.option("--name", required=True, help="As customers see it.")
@click.option("--shop", required=True, help="Name of the shop; it is made if there is none of that name.")
@click.option("--role", default="owner", show_default=True, help="owner, tuner or reader.")
@click.option("--operator", is_flag=True, help="Looks after the installation, too.")
@click.option("--password-stdin", is_flag=True, help="Read the password from standard input, rather than ask for it.")
def add(email: str, name: str, shop: str, role: str, operator: bool, password_stdin: bool) -> None:
    """Make a person with a password."""
    from uchiwa.store import accounts, audit, shops
    from uchiwa.store.database import unit_of_work

    password = sys.stdin.readline().rstrip("\r\n") if password_stdin else _asked_twice()
    with at_database(to_migrate=True), unit_of_work():
        found = shops.named(shop) or accounts.create_shop(shop)
        made = accounts.create_user(found, email, name, password, role, operator=operator)
        audit.note("joined", shop_id=found.id, who=_AT_THE_PROMPT, subject=f"{made.name} as {role}")
    click.echo(f"{made.name} can sign in with {made.email}, as {role} of {found.name}.")


def _asked_twice() -> str:
    first = getpass.getpass("Password, 15 characters or more: ")
    if getpass.getpass("The same again: ") != first:
        raise BadInput("the two passwords differ", advice="run the command again")
    return first


@user.command()
@click.argument("email")
@click.option("--shop", required=True, help="Name of the shop.")
@click.option("--role", default="tuner", show_default=True, help="owner, tuner or reader.")
def invite(email: str, shop: str, role: str) -> None:
    """Print an address at which somebody makes their own account; it works once, within a week."""
    from uchiwa.services import joining
    from uchiwa.settings import read_settings
    from uchiwa.store import one_time_links, shops
    from uchiwa.store.database import unit_of_work

    with at_database(to_migrate=True), unit_of_work():
        found = shops.named(shop)
        if found is None:
            raise BadInput(f"there is no shop “{shop}”", advice="uchiwa user list shows them")
        link = joining.invite(found, None, email, role)
        click.echo(f"{read_settings().public_address}/{link.kind}/{one_time_links.token_of(link)}")


def _known(email: str):  # type: ignore[no-untyped-def]  # a person, whose type would have to be imported first
    from uchiwa.store import people

    found = people.anybody_with_address(email)
    if found is None:
        raise BadInput("nobody signs in with this address", where=email, advice="uchiwa user list shows everybody")
    return found


@user.command()
@click.argument("email")
@click.option("--no-factor", is_flag=True, help="Turn their second factor off, too: for who has lost it.")
def reset(email: str, no_factor: bool) -> None:
    """Print an address at which a person sets a new password; it works once, within an hour."""
    from uchiwa.services import joining
    from uchiwa.settings import read_settings
    from uchiwa.store import audit, one_time_links, second_factor
    from uchiwa.store.database import unit_of_work

    with at_database(to_migrate=True), unit_of_work():
        person = _known(email)
        if no_factor:
            second_factor.turn_off(person)
            audit.note("factor-off", shop_id=person.shop_id, who=_AT_THE_PROMPT, subject=person.name)
        link = joining.reset_link(person, None)
        click.echo(f"{read_settings().public_address}/{link.kind}/{one_time_links.token_of(link)}")


@user.command()
@click.argument("email")
def disable(email: str) -> None:
    """Lock a person out at once, on every device."""
    click.echo(f"{_let_in(email, open_to=False)} is locked out.")


@user.command()
@click.argument("email")
def enable(email: str) -> None:
    """Let a person in again."""
    click.echo(f"{_let_in(email, open_to=True)} can sign in again.")


def _let_in(email: str, *, open_to: bool) -> str:
    """The name of a person who is let in, or locked out."""
    from uchiwa.store import audit, people
    from uchiwa.store.database import unit_of_work

    with at_database(to_migrate=True), unit_of_work():
        person = _known(email)
        (people.enable if open_to else people.disable)(person)
        audit.note(
            "enabled" if open_to else "disabled", shop_id=person.shop_id, who=_AT_THE_PROMPT, subject=person.name
        )
        return str(person.name)


@user.command()
@click.argument("email")
@click.option("--off", is_flag=True, help="They look after the installation no more.")
def operator(email: str, off: bool) -> None:
    """Have a person look after the installation, too: its figures, shops, mails."""
    from uchiwa.store import audit, people
    from uchiwa.store.database import unit_of_work

    with at_database(to_migrate=True), unit_of_work():
        person = _known(email)
        people.set_operator(person, on=not off)
        kind = "operator-off" if off else "operator-on"
        audit.note(kind, shop_id=person.shop_id, who=_AT_THE_PROMPT, subject=person.name)
    click.echo(f"{person.name} {'is no operator any more' if off else 'is an operator'}.")
