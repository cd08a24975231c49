"""Pinned cells of a draft: no proposal may change them."""

from __future__ import annotations

import json
from collections.abc import Collection

from uchiwa.store.drafts import Cells
from uchiwa.store.models import Draft


def pins_of(draft: Draft, table_id: str) -> Cells:
    """The pinned cells [i, j] of a table."""
    return {(int(i), int(j)) for i, j in json.loads(draft.pins).get(table_id, [])}


def pin(draft: Draft, table_id: str, cells: Cells) -> bool:
    """Pin cells, or free them if all of them are pinned; whether they are pinned now."""
    return keep_pins(draft, table_id, pins_of(draft, table_id), cells)


def keep_pins(draft: Draft, table_id: str, old: Cells, cells: Cells) -> bool:
    """Keep a table's pins after cells were toggled."""
    free = cells <= old
    now_pinned = old - cells if free else old | cells
    draft.pins = json.dumps(json.loads(draft.pins) | {table_id: sorted(now_pinned)})
    Draft.update(pins=draft.pins).where(Draft.id == draft.id).execute()
    return not free


def drop_pins(draft: Draft, table_ids: Collection[str]) -> None:
    """Forget the pins of tables whose cells have other breakpoints now."""
    pins = {key: value for key, value in json.loads(draft.pins).items() if key not in table_ids}
    Draft.update(pins=json.dumps(pins)).where(Draft.id == draft.id).execute()
