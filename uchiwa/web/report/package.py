"""The package of a return: calibration, image, notes, report and next brief in one archive, with their checksums."""

from __future__ import annotations

import hashlib
import io
import zipfile

from uchiwa.core.tables.image.files import FORMATS, ImageFormat, image_format
from uchiwa.core.tables.interchange import calibration_json
from uchiwa.store import calibrations, images
from uchiwa.store.models import Job, Revision, RevisionImage
from uchiwa.web.report import report

_MOMENT = (1980, 1, 1, 0, 0, 0)


def stem(job: Job, revision: Revision) -> str:
    """What the files of a revision are called."""
    return f"{report.safe_name(job.car.title)}-revision-{revision.number}"


def image_name(job: Job, revision: Revision, kind: ImageFormat) -> str:
    """What the image of a revision is called."""
    return f"{stem(job, revision)}.{FORMATS[kind][0]}"


def calibration_file(job: Job, revision: Revision) -> tuple[str, str]:
    """Name and text of the calibration."""
    return f"{stem(job, revision)}.json", calibration_json.dumps(calibrations.content(revision.calibration))


def package(job: Job, revision: Revision, image: RevisionImage | None, brief: str) -> bytes:
    """Everything of a return as a zip archive; the same bytes for the same revision."""
    files: dict[str, bytes] = {}
    name, text = calibration_file(job, revision)
    files[name] = text.encode()
    if image is not None:
        files[image_name(job, revision, image_format(image.format))] = images.file_of(image)
    if revision.notes:
        files["notes.md"] = revision.notes.encode()
    title = report.title_of(job, revision)
    if revision.report:
        files["report.html"] = report.standalone(title, revision.report).encode()
        files["report.pdf"] = report.as_pdf(title, revision.report)
    if brief:
        files["next-brief.json"] = brief.encode()
    sums = "".join(f"{hashlib.sha256(data).hexdigest()}  {one}\n" for one, data in files.items())
    files["SHA256SUMS"] = sums.encode()
    buffer = io.BytesIO()
    with zipfile.ZipFile(buffer, "w", zipfile.ZIP_DEFLATED) as archive:
        for one, data in files.items():
            archive.writestr(zipfile.ZipInfo(f"{stem(job, revision)}/{one}", _MOMENT), data, zipfile.ZIP_DEFLATED)
    return buffer.getvalue()
