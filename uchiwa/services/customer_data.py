"""All that there is of a customer in one archive, to be given to them."""

from __future__ import annotations

import json
import os
import tempfile
import zipfile
from pathlib import Path

from uchiwa.store import archive_out, customers
from uchiwa.store.models import Customer


def exported(customer: Customer) -> Path:
    """A zip file with a job's archive for each of their jobs, and `customer.json`; the caller removes it."""
    descriptor, name = tempfile.mkstemp(suffix=".zip", prefix="uchiwa-customer-")
    with os.fdopen(descriptor, "wb") as file, zipfile.ZipFile(file, "w") as archive:
        kept = customers.what_is_kept(customer)
        archive.writestr("customer.json", json.dumps(kept, ensure_ascii=False, indent=1), zipfile.ZIP_DEFLATED)
        for job in customers.jobs_of(customer):
            with archive.open(f"job-{job.id}.zip", "w", force_zip64=True) as whole:
                archive_out.export(job, whole)
    return Path(name)
