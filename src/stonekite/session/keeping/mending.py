"""Damaged session files: as much of them as can be used, and what is left out.

What a session file must be is said by its types and by the checks of `storage`, which name the place of the first thing
that is wrong. It is taken away (a setting goes back to its default, a stage is left out), and the file is looked at
again.
"""

import json
import re
from typing import Any

import msgspec

from stonekite.session import storage
from stonekite.session.types import FORMAT, Session
from stonekite.stages.registry import KINDS
from stonekite.words import said

MOST_BYTES = 16 * 2**20
"""A longer one is not mended: it is looked at anew for each thing that is wrong."""
MOST_FAULTS = 400
_PLACE = re.compile(r"(?:at `(\$[^`]*)`|\(at (\$[^)]*)\))")
_STEP = re.compile(r"\.([A-Za-z_]\w*)|\[(\d+)\]|\[\.\.\.\]")
_MISSING = "missing required field"


def mended(text: bytes, name: str) -> tuple[Session, list[str]]:
    """A session of what can be used of a file, and sentences about what is left out. Raises SessionError where nothing is
    left of it, or where it is no damaged session of a known format.
    """
    if len(text) > MOST_BYTES:
        raise storage.SessionError(said("{name} is too long to be mended.").format(name=name))
    whole, told = _read(text, name)
    number = whole.get("format")
    if isinstance(number, int) and number > FORMAT:
        storage.decode(text, name)  # says that it is newer
    if number not in (FORMAT, *storage.OLDER):
        whole["format"] = FORMAT
    taken = ""
    gone: list[str | int] = []
    for _ in range(MOST_FAULTS):
        try:
            return storage.decode(msgspec.json.encode(whole), name), told
        except storage.SessionError as error:
            why = str(error)
        found = _PLACE.search(why)
        if found is None:
            break
        reason = why[: found.start()].removeprefix(f"{name} ").rstrip(" -(")
        for begins in (said("{name} cannot be used: {reason}."), said("{name} cannot be used: {value}")):
            words = begins.partition("{name} ")[2].partition("{")[0]
            reason = reason.removeprefix(words)
        place = _steps(found[1] or found[2])
        sentence = _take_away(whole, place, reason)
        if sentence is None:
            break
        if _MISSING in reason and gone and place == gone[:-1]:
            told[-1] = sentence.replace(_lowered(reason), taken)  # it misses what was just taken away
        else:
            told.append(sentence)
            taken = _lowered(reason)
        gone = place
    raise storage.SessionError(
        said("{name} cannot be mended: nothing that sounds is left of it.").format(name=name)
    )


def _read(text: bytes, name: str) -> tuple[dict[str, Any], list[str]]:
    """The object in a text, as far as it goes."""
    words = text.decode(errors="replace")
    told: list[str] = []
    if "\ufffd" in words and b"\xef\xbf\xbd" not in text:
        told.append(said("Some letters in it cannot be read."))
    try:
        value = json.loads(words, parse_constant=lambda constant: None)
    except (ValueError, RecursionError):
        value, share = _closed(words)
        told.append(
            said("It breaks off after {share:.0f} %: what came after that is lost.").format(share=100 * share)
        )
    if not isinstance(value, dict):
        raise storage.SessionError(said("{name} is not a session file.").format(name=name))
    return value, told


def _closed(words: str) -> tuple[Any, float]:
    """The longest beginning of JSON that can be closed, and which share of it that is."""
    stack: list[str] = []
    places: list[tuple[int, str]] = []  # where something was whole, and what closes all that was open there
    quoted = escaped = False
    for place, letter in enumerate(words):
        if quoted:
            if escaped:
                escaped = False
            elif letter == "\\":
                escaped = True
            elif letter == '"':
                quoted = False
            continue
        if letter == '"':
            quoted = True
        elif letter in "{[":
            stack.append("}" if letter == "{" else "]")
            places.append((place + 1, "".join(reversed(stack))))
        elif letter in "}]":
            if not stack or stack[-1] != letter:
                break
            stack.pop()
            places.append((place + 1, "".join(reversed(stack))))
        elif letter == ",":
            places.append((place, "".join(reversed(stack))))
    # From the end on: the first that can be read. What is broken in the middle is found by halves.
    low, high, best = 0, len(places), None
    while low < high:
        middle = (low + high) // 2
        place, closing = places[middle]
        try:
            best = json.loads(words[:place] + closing), place / max(1, len(words))
            low = middle + 1
        except (ValueError, RecursionError):
            high = middle
    return best if best is not None else (None, 0.0)


def _steps(place: str) -> list[str | int]:
    return [found[1] if found[1] is not None else int(found[2] or 0) for found in _STEP.finditer(place)]


def _at(whole: Any, steps: list[str | int]) -> Any:
    for step in steps:
        try:
            whole = whole[step]
        except (KeyError, IndexError, TypeError):
            return None
    return whole


def _take_away(whole: dict[str, Any], steps: list[str | int], reason: str) -> str | None:
    """Take what is wrong out of JSON; says what it was, or None if nothing can be done."""
    steps = list(steps)
    if steps and steps[-1] == "kind":
        steps.pop()  # a stage of no kind is no stage
    if steps[-1:] == ["strip"] and _MISSING not in reason:
        strip = _at(whole, steps)
        for inner in ("stages", "spurs"):  # what is wrong with a strip as a whole has no place of its own
            if isinstance(strip, dict) and isinstance(strip.get(inner), list) and strip[inner]:
                steps += [inner, len(strip[inner]) - 1]
                break
    while steps:
        holder, step = _at(whole, steps[:-1]), steps[-1]
        words = _words(whole, steps, reason)
        if isinstance(holder, list) and isinstance(step, int) and step < len(holder):
            inside = isinstance(steps[-2] if len(steps) > 1 else None, str) and steps[-2] in ("bands", "taps")
            if inside and holder[step] is not None:
                holder[step] = None  # the others keep their places
            else:
                del holder[step]
            return words
        if isinstance(holder, dict) and step in holder:
            del holder[step]
            return words
        steps.pop()  # what is not there is missed by what it would stand in
    return None


def _words(whole: dict[str, Any], steps: list[str | int], reason: str) -> str:
    """What is taken away, as a sentence."""
    stage, rest = None, steps
    for k in range(len(steps), 0, -1):
        here = _at(whole, steps[:k])
        if isinstance(here, dict) and isinstance(here.get("kind"), str):
            kind = KINDS.get(here["kind"])
            stage, rest = (kind.label if kind is not None else here["kind"][:40]), steps[k:]
            break
    place = ", ".join(str(step + 1) if isinstance(step, int) else str(step) for step in (rest or ()))
    reason = reason if len(reason) <= 160 else f"{reason[:157]}…"
    if stage is None and "stages" in steps[-2:-1]:
        return said("A stage is left out: {reason}.").format(reason=_lowered(reason))
    if stage is not None and not rest:
        return said("{stage} is left out: {reason}.").format(stage=stage, reason=_lowered(reason))
    what = f"{stage}, {place}" if stage is not None else place
    return said("{what}: as it is at first ({reason}).").format(what=what, reason=_lowered(reason))


def _lowered(words: str) -> str:
    return words[:1].lower() + words[1:]
