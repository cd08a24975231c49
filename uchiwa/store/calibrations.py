"""Calibrations by content: each is kept once in a shop, whatever refers to it."""

from __future__ import annotations

import hashlib
from collections import OrderedDict
from collections.abc import Collection
from functools import lru_cache
from threading import Lock

from peewee import fn

from uchiwa.core.tables.interchange import calibration_json
from uchiwa.core.tables.table import Calibration
from uchiwa.store.models import StoredCalibration


def keep(shop_id: int, calibration: Calibration) -> StoredCalibration:
    """The stored calibration of this content, made if it is new."""
    document = calibration_json.dumps(calibration)
    digest = hashlib.sha256(document.encode()).hexdigest()
    query = StoredCalibration.select(StoredCalibration.id)
    number = query.where(StoredCalibration.shop == shop_id, StoredCalibration.content_hash == digest).scalar()
    if number is None:
        # Somebody may keep the same at this moment: then theirs is taken.
        number = (
            StoredCalibration.insert(shop=shop_id, content_hash=digest, document=document)
            .on_conflict(update={StoredCalibration.id: fn.LAST_INSERT_ID(StoredCalibration.id)})
            .execute()
        )
    return StoredCalibration(id=number, shop=shop_id, content_hash=digest, document=document)


@lru_cache(maxsize=64)
def _parsed(document: str) -> Calibration:
    return calibration_json.loads(document)


_remembered: OrderedDict[str, Calibration] = OrderedDict()
_lock = Lock()
_MOST = 256


def contents(ids: Collection[int]) -> dict[int, Calibration]:
    """Calibrations by the ids of their rows; documents are read only of those that are not remembered."""
    wanted = list(set(ids))
    if not wanted:
        return {}
    rows = StoredCalibration.select(StoredCalibration.id, StoredCalibration.content_hash)
    hashes = {one.id: one.content_hash for one in rows.where(StoredCalibration.id.in_(wanted))}
    with _lock:
        found = {digest: _remembered[digest] for digest in hashes.values() if digest in _remembered}
    missing = [number for number, digest in hashes.items() if digest not in found]
    for one in StoredCalibration.select().where(StoredCalibration.id.in_(missing)) if missing else ():
        found[one.content_hash] = calibration_json.loads(one.document)
    with _lock:
        for digest, calibration in found.items():
            _remembered[digest] = calibration
            _remembered.move_to_end(digest)
        while len(_remembered) > _MOST:
            _remembered.popitem(last=False)
    return {number: found[digest] for number, digest in hashes.items()}


def content(stored: StoredCalibration) -> Calibration:
    """The calibration itself; calibrations never change, so parsed ones are remembered."""
    return _parsed(stored.document)
