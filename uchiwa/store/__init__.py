"""What is kept: MariaDB through peewee. Knows the core's types, not the web."""
