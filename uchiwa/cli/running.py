"""`uchiwa serve`, `work` and `db`: what runs."""

from __future__ import annotations

import sys
from pathlib import Path
from typing import TYPE_CHECKING

import click

from uchiwa.cli.root import uchiwa
from uchiwa.core.errors import BadInput

if TYPE_CHECKING:
    from uchiwa.store.place import Place


@uchiwa.command()
@click.option("--demo", is_flag=True, help="Load the demo data first, if they are not there.")
def serve(demo: bool) -> None:
    """Start database, worker and web; Ctrl-C stops them all."""
    from uchiwa.serve import serve as run

    run(with_demo=demo)


@uchiwa.command(hidden=True)
@click.option("--parent", type=int, help="Process id; the worker ends when this process has ended.")
def work(parent: int | None) -> None:
    """Run the worker alone, against the database on file."""
    from uchiwa.worker import worker

    worker.work(parent)


@uchiwa.group()
def db() -> None:
    """The project's own database server."""


@db.command()
def start() -> None:
    """Start the server."""
    from uchiwa.store import server

    place = server.start()
    click.echo(f"The database answers on {place.host}:{place.port}.")


@db.command()
def stop() -> None:
    """Stop the server."""
    from uchiwa.store import server

    click.echo("The database is stopped." if server.stop() else "There was no database to stop.")


@db.command()
def migrate() -> None:
    """Bring the schema up to date."""
    from uchiwa.store import server
    from uchiwa.store.database import connect_to
    from uchiwa.store.schema import migrate as run

    connect_to(server.start())
    done = run()
    click.echo(f"Applied {', '.join(done)}." if done else "The schema is up to date.")


@db.command()
@click.argument("nodes", nargs=-1, required=True)
@click.option("--user", default="uchiwa", show_default=True)
@click.option("--database", default="uchiwa", show_default=True)
@click.option("--password-stdin", is_flag=True, help="Read the password from standard input, rather than ask for it.")
def use(nodes: tuple[str, ...], user: str, database: str, password_stdin: bool) -> None:
    """Use a MariaDB that somebody else looks after; NODES are host:port, several for a Galera cluster."""
    from uchiwa.store import server
    from uchiwa.store.place import Place

    parted = [node.rpartition(":") for node in nodes]
    if not all(host and port.isascii() and port.isdigit() for host, _, port in parted):
        raise BadInput("a node is host:port", where=" ".join(nodes), advice="write for example 10.0.0.5:3306")
    password = sys.stdin.readline().rstrip("\r\n") if password_stdin else click.prompt("Password", hide_input=True)
    if server.looked_after_here() and server.running():
        raise BadInput("the server of this folder still runs", advice="run uchiwa db stop first")
    place = Place.elsewhere([(host, int(port)) for host, _, port in parted], user, password, database)
    place.save()
    server.start()
    click.echo(f"{Place.file()} leads to {' '.join(nodes)} now. Copy it to every machine that is to serve or to work.")


@db.command()
@click.argument("file", type=click.Path(dir_okay=False, path_type=Path))
def backup(file: Path) -> None:
    """Write everything the database holds to FILE, as it is at this moment; nobody has to stop for it."""
    from uchiwa.cli.at_database import at_database
    from uchiwa.store import backup as backups
    from uchiwa.store.place import Place

    with at_database(to_migrate=True):
        place = Place.load()
        assert place is not None  # noqa: S101 - at_database has just used it
        manifest = backups.back_up(place, file)
    click.echo(
        f"{file}: {file.stat().st_size / 1e6:.1f} MB, of {manifest.size / 1e6:.1f} MB of database, SHA-256 {manifest.sha256}"
    )
    click.echo(f"The installation's secret is not in it: keep a copy of {Place.file()} somewhere else.")


@db.command()
@click.argument("file", type=click.Path(dir_okay=False, path_type=Path))
@click.option("--replace", is_flag=True, help="Lose what is in the database now.")
def restore(file: Path, replace: bool) -> None:
    """Make the database what it was when the backup FILE was made, and prove that it is."""
    from uchiwa.store import backup as backups
    from uchiwa.store import schema, server
    from uchiwa.store.database import connect_to, database

    ours = not server.running()
    try:
        place = server.start()
        connect_to(place)
        manifest = backups.restore(place, file, replace=replace)
        done = schema.migrate()
        number, damaged = backups.damaged_uploads()
    finally:
        database.close_all()
        if ours:
            server.stop()
    if damaged:
        raise backups.BackupError(f"of {number} raw uploads, those of the logs {damaged} are not as they came")
    if not manifest.made_here(place):
        click.echo(
            "This backup does not carry the seal of this installation: it was made elsewhere, by an older version, or changed "
            "since. Whoever made it decides who can sign in here.",
            err=True,
        )
    click.echo(
        f"As it was at {manifest.made_at} (UTC): the same dump, and {number} raw uploads with the hashes they came with."
    )
    if done:
        click.echo(f"Then brought up to date: {', '.join(done)}.")


@uchiwa.group()
def secret() -> None:
    """The installation's secret, from which links and the tokens of forms follow."""


@secret.command()
def rotate() -> None:
    """Make a new secret; the older ones still read what they made. Takes hold when the server is started again."""
    from uchiwa.cli.at_database import at_database
    from uchiwa.store import audit
    from uchiwa.store.database import unit_of_work
    from uchiwa.store.place import Place

    place = _place()
    place.rotated().save()
    with at_database(to_migrate=True), unit_of_work():
        audit.note("secret-rotated", shop_id=None, who="the prompt")
    click.echo(
        f"A new secret is in {Place.file()}. Start the server again; then, once you wish, uchiwa secret forget-older."
    )


@secret.command("forget-older")
def forget_older() -> None:
    """Take the older secrets away, once the server has been started with the new one."""
    from dataclasses import replace

    place = _place()
    replace(place, older_secret_keys=()).save()
    click.echo(f"{len(place.older_secret_keys)} older secrets are forgotten. Start the server again.")


def _place() -> Place:
    from uchiwa.store.place import Place

    place = Place.load()
    if place is None:
        raise BadInput("there is no database yet", advice="run uchiwa db start first")
    return place
