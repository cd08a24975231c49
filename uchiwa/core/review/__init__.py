"""Checks of a draft before it is frozen: each a small rule that names its cells."""
