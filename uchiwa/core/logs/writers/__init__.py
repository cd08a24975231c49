"""From a Log to a file: CSV, Parquet or MDF 4."""

from __future__ import annotations

from uchiwa.core.errors import BadInput
from uchiwa.core.logs.log import Log
from uchiwa.core.logs.writers.columnar import write_parquet
from uchiwa.core.logs.writers.delimited import Dialect, write_text
from uchiwa.core.logs.writers.mdf import write_mdf

FORMATS = {
    "csv": "text/csv; charset=utf-8",
    "parquet": "application/vnd.apache.parquet",
    "mf4": "application/octet-stream",
}


def write_log(log: Log, kind: str) -> bytes:
    """A log as a file of a kind in `FORMATS`.

    Raises:
        BadInput: there is no such kind.
    """
    if kind == "csv":
        return write_text(log, Dialect())
    if kind == "parquet":
        return write_parquet(log)
    if kind == "mf4":
        return write_mdf(log)
    raise BadInput(f"logs are not written as “{kind}”", advice=f"the kinds are {', '.join(FORMATS)}")
