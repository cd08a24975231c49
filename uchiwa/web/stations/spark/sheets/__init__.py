"""The sheets of the Spark station that show a table: knock, torque, and knock limits."""

from uchiwa.web.proposal_sheets.sheet import TableSheet
from uchiwa.web.stations.spark.sheets.knock import KNOCK
from uchiwa.web.stations.spark.sheets.limit import LIMIT
from uchiwa.web.stations.spark.sheets.torque import TORQUE

TABLE_SHEETS: dict[str, TableSheet] = {sheet.key: sheet for sheet in (KNOCK, TORQUE, LIMIT)}

__all__ = ["KNOCK", "LIMIT", "TABLE_SHEETS", "TORQUE", "TableSheet"]
