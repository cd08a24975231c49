"""The address map of a controller's image: tables, checksums and changed bytes, as SVG shapes."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass

from uchiwa.core.tables.image.layout import Layout
from uchiwa.web.svg.scale import Scale, Tick, moved_apart

WIDTH = 820.0
_LEFT, _RIGHT = 4.0, 816.0
_SPARE = 0.04
_ROW = 17.0
_LEAST = 1.6


@dataclass(frozen=True)
class Block:
    """A piece of the image: from where to where it is drawn, its title, and where that stands."""

    x: float
    width: float
    title: str
    kind: str
    label_y: float


@dataclass(frozen=True)
class ImageMap:
    """The whole image as a bar, and the part with tables enlarged below it."""

    whole: tuple[Block, ...]
    part: tuple[float, float]
    blocks: tuple[Block, ...]
    changed: tuple[tuple[float, float], ...]
    ends: tuple[Tick, ...]
    height: float


def image_map(layout: Layout, changed: Sequence[tuple[int, int]]) -> ImageMap:
    """The map of an image by its layout.

    Args:
        layout: of the image.
        changed: stretches of bytes that the draft would change, from and up to.
    """
    end = layout.base + layout.size
    whole = Scale(float(layout.base), float(end), _LEFT, _RIGHT)
    places = [(table.title, table.place.address, table.place.end) for table in layout.tables]
    first = min((start for _, start, _ in places), default=layout.base)
    last = max((stop for _, _, stop in places), default=end)
    spare = max(int((last - first) * _SPARE), 8)
    low, high = max(first - spare, layout.base), min(last + spare, end)
    near = Scale(float(low), float(high), _LEFT, _RIGHT)
    checksums = [
        (f"{checksum.kind}", checksum.address, checksum.address + checksum.size) for checksum in layout.checksums
    ]
    identities = [
        ("identity", identity.address, identity.address + len(identity.data)) for identity in layout.identities
    ]
    labels = moved_apart([0.0] * len(places), _ROW)
    return ImageMap(
        (
            *_blocks(whole, identities, "identity", ()),
            *_blocks(whole, places, "table", ()),
            *_blocks(whole, checksums, "checksum", ()),
        ),
        (whole.at(low), whole.at(high)),
        _blocks(near, places, "table", labels),
        tuple(_stretch(near, start, stop) for start, stop in changed if stop > low and start < high),
        (Tick(_LEFT, f"0x{low:X}"), Tick(_RIGHT, f"0x{high - 1:X}")),
        118.0 + _ROW * len(places),
    )


def _stretch(scale: Scale, start: int, stop: int) -> tuple[float, float]:
    at = scale.held(start)
    return at, max(scale.held(stop) - at, _LEAST)


def _blocks(
    scale: Scale, places: Iterable[tuple[str, int, int]], kind: str, labels: Sequence[float]
) -> tuple[Block, ...]:
    found = []
    for number, (title, start, stop) in enumerate(places):
        x, width = _stretch(scale, start, stop)
        found.append(Block(x, width, title, kind, labels[number] if labels else 0.0))
    return tuple(found)
