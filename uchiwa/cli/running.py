"""`uchiwa serve`, `work` and `db`: what runs."""

from __future__ import annotations

import click

from uchiwa.cli.root import uchiwa
from uchiwa.core.errors import BadInput


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
    from uchiwa.log_output import begin_logging
    from uchiwa.settings import read_settings
    from uchiwa.store import schema
    from uchiwa.store.database import connect_to
    from uchiwa.store.place import Place
    from uchiwa.worker import worker

    begin_logging(read_settings())
    place = Place.load()
    if place is None:
        raise BadInput("there is no database yet", advice="run uchiwa db start first")
    connect_to(place)
    schema.check()
    worker.run(parent)


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
