"""Calibrations by content: each is kept once in a shop, whatever refers to it."""

from __future__ import annotations

import hashlib
from functools import lru_cache

from uchiwa.core.interchange import calibration_json
from uchiwa.core.table import Calibration
from uchiwa.store.models import StoredCalibration


def keep(shop_id: int, calibration: Calibration) -> StoredCalibration:
    """The stored calibration of this content, made if it is new."""
    document = calibration_json.dumps(calibration)
    digest = hashlib.sha256(document.encode()).hexdigest()
    found = StoredCalibration.get_or_none(StoredCalibration.shop == shop_id, StoredCalibration.content_hash == digest)
    if found is not None:
        return found
    return StoredCalibration.create(shop=shop_id, content_hash=digest, document=document)


@lru_cache(maxsize=64)
def _parsed(document: str) -> Calibration:
    return calibration_json.loads(document)


def content(stored: StoredCalibration) -> Calibration:
    """The calibration itself; calibrations never change, so parsed ones are remembered."""
    return _parsed(stored.document)
