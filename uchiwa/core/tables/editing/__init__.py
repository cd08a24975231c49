"""Edits of a table's cells: each operation a module, and the line in which they are written."""
