"""Reading a log: traces at any zoom, figures of a stretch, moments, alignment, cells, scatter and distribution."""
