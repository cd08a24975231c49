"""All that there is of a customer in one archive, to be given to them."""

from __future__ import annotations

import json
import zipfile
from typing import IO

from uchiwa.store import archive_out, customers
from uchiwa.store.models import Customer


def export(customer: Customer, target: IO[bytes]) -> None:
    """Write a zip archive with the archive of each of their jobs, and `customer.json`."""
    with zipfile.ZipFile(target, "w") as archive:
        kept = customers.what_is_kept(customer)
        archive.writestr("customer.json", json.dumps(kept, ensure_ascii=False, indent=1), zipfile.ZIP_DEFLATED)
        for job in customers.jobs_of(customer):
            with archive.open(f"job-{job.id}.zip", "w", force_zip64=True) as whole:
                archive_out.export(job, whole)
