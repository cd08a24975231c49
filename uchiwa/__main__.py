"""`python -m uchiwa` is the `uchiwa` command."""

from uchiwa.cli import main

main()
