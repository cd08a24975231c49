"""The shop's shelf: files that are known to be good, each with words, tags, where it came from and how that car ended."""

from __future__ import annotations

import hashlib
import json
from collections import OrderedDict
from collections.abc import Sequence
from dataclasses import dataclass
from threading import Lock
from typing import Any

from peewee import JOIN, IntegrityError, fn

from uchiwa.core.errors import BadInput
from uchiwa.core.logs.readers.bus.decode import BusDescription
from uchiwa.core.shelf.contents import Content, ShelfKind, read_content
from uchiwa.store.clock import now
from uchiwa.store.images import pack, unpack
from uchiwa.store.models import ShelfEntry, User, blob
from uchiwa.store.rows import first

MOST = 500
MOST_BUSES = 20
_REMEMBERED_BYTES = 24 * 2**20
"""Of files; what is read from them takes about ten times as much."""
_WITHOUT_CONTENT = tuple(field for name, field in ShelfEntry._meta.fields.items() if name != "content")


class NameTakenError(BadInput):
    """The shelf has one of this kind and name already."""


@dataclass(frozen=True)
class EntryDescription:
    """What is said of an entry.

    Attributes:
        name: unique among those of its kind.
        words: a few sentences.
        tags: as typed, parted by commas.
        origin: where it came from.
        job_id, revision: of a job of the shop, if it is of one.
        outcome: how well that car ended.
    """

    name: str
    words: str = ""
    tags: str = ""
    origin: str = ""
    job_id: int | None = None
    revision: int | None = None
    outcome: dict[str, Any] | None = None


def forget_origin(job_ids: list[int], names: list[str]) -> None:
    """Have entries made from jobs say no more whose those were, in the transaction in which the jobs are erased.

    Args:
        job_ids: of the jobs.
        names: of their customer and cars; where one stands in what was typed about an entry, it is left out.
    """
    for entry in ShelfEntry.select().where(ShelfEntry.job.in_(job_ids)).for_update():
        changed = {"origin": "from a job that was erased"}
        for field in ("name", "words", "tags", "file_name"):
            text = str(getattr(entry, field))
            for name in sorted(filter(None, names), key=len, reverse=True):
                text = "…".join(_split_anyhow(text, name))
            changed[field] = text
        if changed["name"] != entry.name:
            changed["name"] = f"{changed['name'][:100]} ({entry.id})"
        ShelfEntry.update(**changed).where(ShelfEntry.id == entry.id).execute()


def _split_anyhow(text: str, name: str) -> list[str]:
    """A text at each place where a name stands in it, in capitals or not."""
    parts, lowered, wanted, at = [], text.lower(), name.lower(), 0
    if len(lowered) != len(text):
        return ["", ""] if wanted in lowered else [text]
    while (place := lowered.find(wanted, at)) >= 0:
        parts.append(text[at:place])
        at = place + len(wanted)
    return [*parts, text[at:]]


def tags_of(written: str) -> list[str]:
    """Tags, each once, in small letters."""
    return list(dict.fromkeys(" ".join(word.split()).lower()[:30] for word in written.split(",") if word.strip()))


def put(author: User, kind: ShelfKind, data: bytes, file_name: str, about: EntryDescription) -> ShelfEntry:
    """Put something on the shelf.

    Raises:
        BadInput: it has no name, or the shelf is full.
        NameTakenError: there is one of this kind and name.
    """
    name = " ".join(about.name.split())[:120]
    if not name:
        raise BadInput("it needs a name", advice="type one")
    if ShelfEntry.select(fn.COUNT(ShelfEntry.id)).where(ShelfEntry.shop == author.shop_id).scalar() >= MOST:
        raise BadInput(f"a shelf holds at most {MOST} things", advice="take something off it first")
    try:
        return ShelfEntry.create(
            shop=author.shop_id, kind=kind.value, name=name, words=about.words.strip()[:1000],
            tags=", ".join(tags_of(about.tags))[:200], file_name=file_name[:200], content=blob(pack(data)),
            content_hash=hashlib.sha256(data).hexdigest(), origin=about.origin[:300], job=about.job_id,
            revision=about.revision, outcome=json.dumps(about.outcome or {}), author=author, at=now(),
        )  # fmt: skip
    except IntegrityError:
        said = f"the shelf has a {kind.value} “{name}” already"
        raise NameTakenError(said, advice="give it another name") from None


def describe(entry: ShelfEntry, name: str, words: str, tags: str) -> None:
    """Change name, words and tags.

    Raises:
        BadInput: it has no name.
        NameTakenError: there is one of this kind and name.
    """
    plain = " ".join(name.split())[:120]
    if not plain:
        raise BadInput("it needs a name", advice="type one")
    try:
        ShelfEntry.update(name=plain, words=words.strip()[:1000], tags=", ".join(tags_of(tags))[:200]).where(
            ShelfEntry.id == entry.id
        ).execute()
    except IntegrityError:
        said = f"the shelf has a {entry.kind} “{plain}” already"
        raise NameTakenError(said, advice="give it another name") from None


def drop(entry: ShelfEntry) -> None:
    """Take an entry off the shelf; what was made from it stays."""
    ShelfEntry.delete().where(ShelfEntry.id == entry.id).execute()


def find(shop_id: int, entry_id: int, kind: ShelfKind | None = None) -> ShelfEntry | None:
    """An entry of a shop, without its content; None if there is none."""
    wanted = (ShelfEntry.id == entry_id) & (ShelfEntry.shop == shop_id)
    if kind is not None:
        wanted &= ShelfEntry.kind == kind.value
    return first(ShelfEntry.select(*_WITHOUT_CONTENT, User).join(User, JOIN.LEFT_OUTER).where(wanted))


def of_shop(shop_id: int, kinds: Sequence[ShelfKind] = (), search: str = "", tag: str = "") -> list[ShelfEntry]:
    """A shop's entries by kind and name, without their content.

    Args:
        kinds: only of these.
        search: only those in whose name, words, tags or origin it stands.
        tag: only those that have it.
    """
    wanted = ShelfEntry.shop == shop_id
    if kinds:
        wanted &= ShelfEntry.kind.in_([kind.value for kind in kinds])
    for word in search.split():
        wanted &= fn.CONCAT_WS(
            " ", ShelfEntry.name, ShelfEntry.words, ShelfEntry.tags, ShelfEntry.origin, ShelfEntry.file_name
        ).contains(word[:60])
    if tag:
        wanted &= fn.CONCAT(", ", ShelfEntry.tags, ",").contains(f", {tag},")
    query = ShelfEntry.select(*_WITHOUT_CONTENT, User).join(User, JOIN.LEFT_OUTER).where(wanted)
    return list(query.order_by(ShelfEntry.kind, ShelfEntry.name).limit(MOST))


def file_of(entry: ShelfEntry) -> bytes:
    """The file of an entry."""
    return unpack(ShelfEntry.select(ShelfEntry.content).where(ShelfEntry.id == entry.id).scalar())


_contents: OrderedDict[str, tuple[int, Content]] = OrderedDict()
_lock = Lock()


def content(entry: ShelfEntry) -> Content:
    """What stands in an entry; files never change, so those that were read are remembered."""
    with _lock:
        known = _contents.get(entry.content_hash)
    if known is None:
        data = file_of(entry)
        known = len(data), read_content(data, entry.file_name or entry.name)
        with _lock:
            _contents[entry.content_hash] = known
            while len(_contents) > 1 and sum(size for size, _ in _contents.values()) > _REMEMBERED_BYTES:
                _contents.popitem(last=False)
    return known[1]


def buses(shop_id: int) -> tuple[BusDescription, ...]:
    """The descriptions of buses, newest first, for recordings of one."""
    query = ShelfEntry.select().where(ShelfEntry.shop == shop_id, ShelfEntry.kind == ShelfKind.BUS.value)
    return tuple(
        BusDescription(entry.name, unpack(entry.content).decode("utf-8", "replace"))
        for entry in query.order_by(ShelfEntry.id.desc()).limit(MOST_BUSES)
    )
