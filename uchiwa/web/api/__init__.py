"""The programming interface: HTTP with personal tokens, described by OpenAPI."""
