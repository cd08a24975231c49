"""The sheets of the Spark station that show a table: knock, torque, and knock limits."""

from uchiwa.web.spark_sheets.knock import KNOCK
from uchiwa.web.spark_sheets.limit import LIMIT
from uchiwa.web.spark_sheets.sheet import TableSheet
from uchiwa.web.spark_sheets.torque import TORQUE

TABLE_SHEETS: dict[str, TableSheet] = {one.key: one for one in (KNOCK, TORQUE, LIMIT)}

__all__ = ["KNOCK", "LIMIT", "TABLE_SHEETS", "TORQUE", "TableSheet"]
