"""Calibrations by content: each is kept once in a shop, whatever refers to it."""

from __future__ import annotations

import hashlib
from collections import OrderedDict
from collections.abc import Collection, Mapping
from threading import Lock
from typing import Any

from peewee import ModelAlias, fn

from uchiwa.core.tables.interchange import calibration_json
from uchiwa.core.tables.table import Calibration
from uchiwa.store.models import StoredCalibration


def keep(shop_id: int, calibration: Calibration) -> StoredCalibration:
    """The stored calibration of this content, made if it is new."""
    document = calibration_json.dumps(calibration)
    digest = hashlib.sha256(document.encode()).hexdigest()
    number = None
    if digest in _remembered:  # then it is likely to be there, and its text need not be sent
        query = StoredCalibration.select(StoredCalibration.id)
        number = query.where(StoredCalibration.shop == shop_id, StoredCalibration.content_hash == digest).scalar()
    if number is None:
        # Somebody may keep the same at this moment: then theirs is taken.
        number = (
            StoredCalibration.insert(shop=shop_id, content_hash=digest, document=document)
            .on_conflict(update={StoredCalibration.id: fn.LAST_INSERT_ID(StoredCalibration.id)})
            .execute()
        )
    _remember({digest: calibration})
    return StoredCalibration(id=number, shop=shop_id, content_hash=digest, document=document)


_remembered: OrderedDict[str, Calibration] = OrderedDict()
_lock = Lock()
_MOST = 256


def contents(ids: Collection[int]) -> dict[int, Calibration]:
    """Calibrations by the ids of their rows; documents are read only of those that are not remembered."""
    wanted = list(set(ids))
    if not wanted:
        return {}
    rows = StoredCalibration.select(StoredCalibration.id, StoredCalibration.content_hash)
    hashes = {row.id: row.content_hash for row in rows.where(StoredCalibration.id.in_(wanted))}
    with _lock:
        found = {digest: _remembered[digest] for digest in hashes.values() if digest in _remembered}
    missing = [number for number, digest in hashes.items() if digest not in found]
    for calibration in StoredCalibration.select().where(StoredCalibration.id.in_(missing)) if missing else ():
        found[calibration.content_hash] = calibration_json.loads(calibration.document)
    _remember(found)
    return {number: found[digest] for number, digest in hashes.items()}


def content(stored: StoredCalibration) -> Calibration:
    """The calibration itself; calibrations never change, so those that were read or written are remembered."""
    with _lock:
        known = _remembered.get(stored.content_hash)
    if known is None:
        known = calibration_json.loads(stored.document or document(stored.id))
        _remember({stored.content_hash: known})
    return known


def without_document(
    alias: type[StoredCalibration] | ModelAlias[StoredCalibration] = StoredCalibration,
) -> tuple[Any, ...]:
    """The columns of a calibration but its document, which is read only if it is not remembered."""
    return alias.id, alias.shop, alias.content_hash


def document(number: int) -> str:
    """The document of a stored calibration."""
    text = StoredCalibration.select(StoredCalibration.document).where(StoredCalibration.id == number).scalar()
    return str(text)


def _remember(found: Mapping[str, Calibration]) -> None:
    with _lock:
        for digest, calibration in found.items():
            _remembered[digest] = calibration
            _remembered.move_to_end(digest)
        while len(_remembered) > _MOST:
            _remembered.popitem(last=False)
