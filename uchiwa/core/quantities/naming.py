"""What a logger's channel name may mean: words compared with the names of the quantities."""

from __future__ import annotations

import re
import unicodedata
from dataclasses import dataclass
from functools import lru_cache

from uchiwa.core.quantities.catalogue import QUANTITIES
from uchiwa.core.quantities.spark_quantities import KNOCK_BY_CYLINDER

SURE, LIKELY, GUESS = 0.95, 0.8, 0.6

_EXPANDED = {
    "eng": "engine", "spd": "speed", "temp": "temperature", "tmp": "temperature", "press": "pressure",
    "pres": "pressure", "pos": "position", "thr": "throttle", "throt": "throttle", "tps": "throttle",
    "tp": "throttle", "veh": "vehicle", "inj": "injector", "pw": "pulse", "pulsewidth": "pulse", "width": "",
    "adv": "advance", "ign": "ignition", "volts": "voltage", "volt": "voltage", "batt": "battery", "bat": "battery",
    "vbatt": "battery", "baro": "barometric", "cmd": "commanded", "cmnd": "commanded", "command": "commanded",
    "desired": "target", "des": "target", "tgt": "target", "setpoint": "target", "requested": "target",
    "commanded": "target", "meas": "measured", "act": "measured", "actual": "measured", "coolant": "coolant",
    "clt": "coolant", "ect": "coolant", "iat": "intake air", "act temp": "intake air", "maf": "airflow",
    "map": "manifold", "absolute": "", "intakemanifold": "manifold", "vss": "vehicle speed", "rpm": "engine speed",
    "lam": "lambda", "lambda": "lambda", "λ": "lambda", "stft": "short trim", "ltft": "long trim",
    "term": "", "fuel trim": "trim", "kr": "knock retard", "freq": "frequency", "hz": "frequency",
    "percentage": "", "percent": "", "pct": "", "wideband": "wideband", "wb": "wideband", "wbo2": "wideband",
    "ft": "trim", "cyl": "cylinder", "eth": "ethanol", "o2": "lambda", "ethanol": "ethanol", "flex": "ethanol", "alcohol": "ethanol",
}  # fmt: skip
# Words that say where or how something is measured, but not what.
_IDLE_WORDS = frozenset(
    [
        "sensor",
        "signal",
        "reading",
        "value",
        "current",
        "ecu",
        "ecm",
        "raw",
        "filtered",
        "average",
        "avg",
        "mean",
        "the",
        "of",
        "total",
        "input",
        "output",
        "channel",
        "can",
        "bank",
        "b1",
        "bank1",
        "s1",
        "1",
        "a",
        "unit",
        "kpa",
        "psi",
        "rpm",
        "degc",
        "degf",
        "c",
        "f",
        "v",
        "ms",
        "lambda_unit",
        "engine",
        "vehicle",
        "primary",
        "main",
        "measured",
    ]
)
# Words that turn a name into another quantity: with one of these left over nothing is taken for granted.
_TURNING = frozenset(
    [
        "error",
        "correction",
        "delta",
        "difference",
        "diff",
        "rate",
        "limit",
        "max",
        "min",
        "maximum",
        "minimum",
        "learn",
        "learned",
        "desired",
        "offset",
        "status",
        "state",
        "fault",
        "heater",
        "factor",
        "multiplier",
        "compensation",
        "gain",
        "integral",
        "proportional",
        "target",
        "voltage",
        "frequency",
        "duty",
        "ratio",
        "rear",
        "post",
        "after",
        "catalyst",
        "cat",
        "oil",
        "exhaust",
        "transmission",
        "gearbox",
        "ambient",
        "fuel",
        "injector",
        "idle",
        "knock",
        "trim",
        "threshold",
        "count",
        "level",
        "warning",
        "flag",
        "enable",
        "enabled",
        "active",
        "cut",
        "retard",
        "advance",
        "model",
        "modelled",
        "estimated",
    ]
)
_CAPITAL = re.compile(r"(?<=[a-z])(?=[A-Z])")
_NO_LETTERS = re.compile(r"[^a-z0-9λß]+")
_BANK_TWO = re.compile(r"\b(?:bank ?2|b2s1|b2 s1|b2|right bank|bank b)\b|(?<=[a-z]) ?2$")
_BANK_ONE = re.compile(r"\b(?:bank ?1|b1s1|b1 s1|s1|b1|left bank|bank a)\b|(?<=[a-z]) ?1$")
_CYLINDER = re.compile(r"\b(?:cylinder|cyl|zylinder|zyl) ?(?:no |nr )?([1-9]|1[0-2])\b")
_AFTER_CATALYST = re.compile(r"\b(?:s2|b1s2|b2s2|sensor 2|post cat|after cat\w{0,20}|rear)\b")


def plain_name(name: str) -> str:
    """A name without case, accents, punctuation or doubled spaces, so that spellings of one name compare equal."""
    apart = _CAPITAL.sub(" ", name)
    bare = "".join(letter for letter in unicodedata.normalize("NFKD", apart) if not unicodedata.combining(letter))
    return " ".join(_NO_LETTERS.sub(" ", bare.lower()).split())


def _words(plain: str) -> frozenset[str]:
    words: list[str] = []
    for word in plain.split():
        words += _EXPANDED.get(word, word).split()
        if word in _EXPANDED and _EXPANDED[word] in _EXPANDED:
            words.remove(_EXPANDED[word])
            words += _EXPANDED[_EXPANDED[word]].split()
    return frozenset(words)


@dataclass(frozen=True)
class Match:
    """A quantity that a name may mean.

    Attributes:
        quantity: its id.
        confidence: 0 to 1; from `SURE` on a name of the quantity itself.
        reason: why, as a clause.
    """

    quantity: str
    confidence: float
    reason: str


def _index() -> tuple[dict[str, Match], list[tuple[frozenset[str], str, str]]]:
    exact: dict[str, Match] = {}
    words: list[tuple[frozenset[str], str, str]] = []
    for quantity in QUANTITIES.values():
        for written in (quantity.title, quantity.id, *quantity.names):
            plain = plain_name(written)
            own = written in (quantity.title, quantity.id)
            reason = "named as it is here" if own else f"“{written}” is a name of {quantity.title}"
            found = Match(quantity.id, 1.0 if own else 0.98, reason)
            if plain not in exact or own:
                exact[plain] = found
            words.append((_words(plain), quantity.id, written))
    words.sort(key=lambda entry: -len(entry[0]))
    return exact, words


_EXACT, _BY_WORDS = _index()


def _by_rare_word() -> dict[str, list[int]]:
    """Places in `_BY_WORDS` by the word of each that the fewest others have: a name need be held against few."""
    count: dict[str, int] = {}
    for alias, _, _ in _BY_WORDS:
        for word in alias:
            count[word] = count.get(word, 0) + 1
    found: dict[str, list[int]] = {}
    for number, (alias, _, _) in enumerate(_BY_WORDS):
        if alias:
            found.setdefault(min(alias, key=lambda word: (count[word], word)), []).append(number)
    return found


_BY_RARE_WORD = _by_rare_word()


@lru_cache(maxsize=4096)
def match_name(name: str) -> Match | None:
    """The quantity that a name means most likely, with how sure that is; None if nothing is near."""
    plain = plain_name(name)
    known = _EXACT.get(plain)
    if known is not None:
        return known
    if _AFTER_CATALYST.search(plain):
        return None
    if (cylinder := _CYLINDER.search(plain)) is not None:
        whole = match_name(" ".join(_CYLINDER.sub(" ", plain).split()))
        if whole is not None and whole.quantity == "knock_retard":
            number = int(cylinder[1])
            reason = f"{whole.reason}, of cylinder {number}"
            return Match(KNOCK_BY_CYLINDER[number - 1], min(whole.confidence, SURE), reason)
    second = _BANK_TWO.search(plain) is not None
    bare = " ".join(_BANK_ONE.sub(" ", _BANK_TWO.sub(" ", plain)).split())
    found = _EXACT.get(bare) or _match_words(bare)
    if found is None:
        return None
    if found.confidence > SURE:
        found = Match(found.quantity, SURE, found.reason)
    if not second:
        return found
    partner = f"{found.quantity}_2"
    if partner not in QUANTITIES:
        return None
    return Match(partner, found.confidence, f"{found.reason}, of bank 2")


def _match_words(bare: str) -> Match | None:
    words = _words(bare)
    best: Match | None = None
    for number in sorted({number for word in words for number in _BY_RARE_WORD.get(word, ())}):
        alias, quantity, written = _BY_WORDS[number]
        if not alias <= words:
            continue
        left = words - alias
        if not left:
            confidence, how = 0.92, f"the same words as “{written}”"
        elif left & _TURNING:
            continue
        elif left <= _IDLE_WORDS:
            confidence, how = LIKELY, f"“{written}”, with words that only say where it is measured"
        else:
            confidence = GUESS * len(alias) / len(words)
            how = f"contains “{written}”"
            if confidence < 0.3:
                continue
        if best is None or confidence > best.confidence:
            best = Match(quantity, confidence, how)
    return best
