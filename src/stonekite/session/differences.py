"""What differs between two states of a strip, in words."""

from collections.abc import Iterator, Mapping
from itertools import pairwise
from typing import Any, NamedTuple, cast

import msgspec

from stonekite.session import tree
from stonekite.session.spur import END, SPLIT, Spur
from stonekite.session.types import LEGS, Intake, Leg, Output, Split, Strip
from stonekite.stages import riding
from stonekite.stages.base import HEARD, Key, Stage
from stonekite.stages.branch import branches_of
from stonekite.stages.registry import kind_of, label_of
from stonekite.stages.settings import Setting, settings_of
from stonekite.words import NAMES, said

_SMALL = 1e-9


class Difference(NamedTuple):
    """One difference: where and what, the values, and the stage it belongs to, if it does."""

    place: str
    before: str
    after: str
    stage: int | None = None

    @property
    def sentence(self) -> str:
        """In one line: Side EQ, band 2, gain: +3.0 dB → +5.0 dB."""
        if not self.before:
            return f"{self.place}: {self.after}"
        return f"{self.place}: {self.before} → {self.after}"


Names = Mapping[int, str]
"""What stems and buses are called, by their ids."""


def differences(old: Strip, new: Strip, strips: Names | None = None) -> list[Difference]:
    """All differences from one strip to another, in the order of the signal; `strips` names those beside them."""
    found = [*_of_struct(said("Intake"), old.intake, new.intake), *_of_split(old.split, new.split)]
    found += [*_of_stages(old, new, strips or {}), *_of_spurs(old, new)]
    for leg in LEGS:
        found += _of_struct(
            said("{name} leg").format(name=_component(new, leg)), getattr(old, leg), getattr(new, leg)
        )
    found += _of_struct(said("Output"), old.output, new.output)
    return found


def of_values(place: str, old: Any, new: Any) -> list[str]:
    """How one value with declared settings differs from another one of its type, in sentences."""
    return [one.sentence for one in _of_struct(place, old, new)]


def _component(strip: Strip, leg: str) -> str:
    return NAMES[strip.split.component(leg)]  # type: ignore[arg-type]


def _of_split(old: Split, new: Split) -> Iterator[Difference]:
    if (old.mode, old.encoding) != (new.mode, new.encoding):
        yield Difference(said("Split"), _split_words(old), _split_words(new))


def _split_words(split: Split) -> str:
    words = settings_of(Split)
    mode = words["mode"].shown(split.mode)
    return f"{mode}, {words['matrix'].shown(split.matrix).lower()}" if split.mode == "mid-side" else mode


def named(stages: tuple[Stage, ...]) -> dict[int, str]:
    """Names of stages of one branch by id; those of which there are several of a kind are numbered."""
    labels = [label_of(stage) for stage in stages]
    seen: dict[str, int] = {}
    names = {}
    for stage, label in zip(stages, labels, strict=True):
        seen[label] = seen.get(label, 0) + 1
        names[stage.id] = label if labels.count(label) == 1 else f"{label} {seen[label]}"
    return names


def branch_names(strip: Strip) -> dict[int, str]:
    """What each branch is called, with what it stands in: Torn top, Bands, below 180 Hz. The legs have no name."""
    found = {tree.LEGS_BRANCH: "", **{spur.id: spur.name for spur in strip.spurs}}
    for place in tree.branches(strip):
        names = named(place.stages)
        for stage in place.stages:
            for branch in branches_of(stage):
                parts = found[place.branch], names[stage.id], own_name(stage, branch.id)
                found[branch.id] = ", ".join(part for part in parts if part)
    return found


def own_name(stage: Stage, number: int) -> str:
    """What the branch of that id is called in the stage that holds it: below 180 Hz."""
    place = [branch.id for branch in branches_of(stage)].index(number)
    found = [kind_of(stage).branching.names(stage, leg)[place] for leg in LEGS]  # type: ignore[union-attr]
    return found[0] or found[1] or said("band {count}").format(count=place + 1)


def names_of(strip: Strip) -> dict[int, str]:
    """Names of all stages by id, with the branch that they stand in."""
    branches = branch_names(strip)
    found = {}
    for place in tree.branches(strip):
        where = branches[place.branch]
        for number, name in named(place.stages).items():
            found[number] = f"{where}, {name}" if where else name
    return found


def key_words(key: Key | None, strips: Names) -> str:
    """What the detectors of a stage hear."""
    if key is None:
        return said("its own legs")
    name = strips.get(key.strip, said("another strip"))
    upper, lower = HEARD[key.upper], HEARD[key.lower]
    if key.upper == key.lower == "leg":
        return name
    return f"{name} ({upper if upper == lower else f'{upper}, {lower}'})"


def _of_stages(old: Strip, new: Strip, strips: Names) -> Iterator[Difference]:
    before = {stage.id: stage for _, stage in tree.walk(old)}
    after = {stage.id: stage for _, stage in tree.walk(new)}
    names = {**names_of(old), **names_of(new)}
    for number, stage in before.items():
        if number not in after or type(after[number]) is not type(stage):
            yield Difference(names[number], "", said("removed"), number)
    for number, stage in after.items():
        if number not in before or type(before[number]) is not type(stage):
            yield Difference(names[number], "", said("added"), number)
        elif before[number] != stage:
            yield from _of_stage(names[number], before[number], stage, new)
            if before[number].key != stage.key:
                was, now = (key_words(one.key, strips) for one in (before[number], stage))
                yield Difference(said("{name}, detectors hear").format(name=names[number]), was, now, number)
            yield from _of_band_keys(names[number], before[number], stage, new, strips)
    yield from _of_places(old, new, names)


def _of_band_keys(name: str, old: Stage, new: Stage, strip: Strip, strips: Names) -> Iterator[Difference]:
    split = tree.carried(strip, new.id)
    for leg in LEGS:
        sides = (getattr(old, leg), getattr(new, leg))
        both = zip(*(getattr(side, "bands", ()) for side in sides), strict=False)
        for k, bands in enumerate(both):
            was, now = (getattr(band, "key", None) for band in bands)
            if was != now:
                band = said("{name}, {component} band {count} hears").format(
                    name=name, component=NAMES[split.component(leg)], count=k + 1
                )
                heard = [
                    said("as its stage") if key is None else key_words(key, strips) for key in (was, now)
                ]
                yield Difference(band, heard[0], heard[1], new.id)


def _of_places(old: Strip, new: Strip, names: dict[int, str]) -> Iterator[Difference]:
    """Stages that have gone from one branch to another, and other orders within one."""
    homes = [
        {s.id: place.branch for place in tree.branches(strip) for s in place.stages} for strip in (old, new)
    ]
    called = {**branch_names(old), **branch_names(new)}
    for number in homes[0].keys() & homes[1].keys():
        was, now = homes[0][number], homes[1][number]
        if was != now:
            yield Difference(
                names[number],
                said("in {where}").format(where=called[was] or said("the legs")),
                said("in {where}").format(where=called[now] or said("the legs")),
                number,
            )
    there = {place.branch: place.stages for place in tree.branches(old)}
    for place in tree.branches(new):
        both = [
            [s.id for s in stages if homes[0].get(s.id) == homes[1].get(s.id) == place.branch]
            for stages in (there.get(place.branch, ()), place.stages)
        ]
        if both[0] != both[1]:
            orders = [", ".join(names[n] for n in order) for order in both]
            where = called[place.branch]
            yield Difference(
                said("{where}, order of stages").format(where=where) if where else said("Order of stages"),
                orders[0],
                orders[1],
            )


def _of_spurs(old: Strip, new: Strip) -> Iterator[Difference]:
    before, after = ({spur.id: spur for spur in strip.spurs} for strip in (old, new))
    for number, spur in before.items():
        if number not in after:
            yield Difference(said("Spur {name}").format(name=spur.name), "", said("removed"))
    for number, spur in after.items():
        if number not in before:
            yield Difference(said("Spur {name}").format(name=spur.name), "", said("added"))
            continue
        was = before[number]
        if was.name != spur.name:
            yield Difference(said("Spur"), was.name, spur.name)
        if tap_words(was, old) != tap_words(spur, new):
            yield Difference(
                said("Spur {name}, leaves").format(name=spur.name), tap_words(was, old), tap_words(spur, new)
            )
        yield from _of_struct(said("Spur {name}").format(name=spur.name), was, spur, skipped=("branch",))


def tap_words(spur: Spur, strip: Strip) -> str:
    """Where a spur leaves the legs."""
    if spur.after == SPLIT:
        return said("at the split")
    if spur.after == END:
        return said("at the end of the legs")
    stage = named(strip.stages).get(spur.after, said("a stage"))  # type: ignore[arg-type]
    return said("after {stage}").format(stage=stage)


def _of_stage(name: str, old: Stage, new: Stage, strip: Strip) -> Iterator[Difference]:
    for leg in LEGS:
        component = f"{_component(strip, leg)} {name}"
        sides = getattr(old, leg), getattr(new, leg)
        if None in sides:
            if sides[0] is not sides[1]:
                yield Difference(component, "", said("off") if sides[1] is None else said("on"), new.id)
        else:
            yield from _of_struct(component, *sides, new.id)
    yield from _of_rides(name, old, new, strip)
    if hasattr(new, "shared"):
        yield from _of_struct(name, old.shared, new.shared, new.id)  # type: ignore[attr-defined]
    if (learning := kind_of(new).offers.learning) is not None:
        was, known = (stage.shared.learned for stage in (old, new))  # type: ignore[attr-defined]
        if was != known:
            anew = said("learned") if was is None else said("learned anew")
            told = said("forgotten") if known is None else anew
            yield Difference(f"{name}, {learning.what}", "", told, new.id)
    yield from _of_struct(
        name, old, new, new.id, skipped=("kept_db", *(("shared",) if hasattr(new, "shared") else ()))
    )


def _of_rides(name: str, old: Any, new: Any, strip: Strip | None) -> Iterator[Difference]:
    rides = [{ride.path: ride for ride in stage.rides} for stage in (old, new)]
    for path in sorted(rides[0].keys() | rides[1].keys()):
        before, after = (found.get(path) for found in rides)
        if before != after:
            was, now = (
                "" if ride is None else ride_words(stage, ride)
                for stage, ride in ((old, before), (new, after))
            )
            yield Difference(
                f"{ride_name(name, new, path, strip)}, {said('ride')}",
                was,
                now,
                new.id if isinstance(new, Stage) else None,
            )


def ride_name(name: str, stage: Any, path: str, strip: Strip | None) -> str:
    """What a setting is called that a ride moves."""
    first, _, rest = path.partition(".")
    where = [f"{_component(strip, first)} {name}" if strip is not None and first in LEGS else name]
    steps = (rest if first in LEGS else path).split(".")
    for list_name, place in pairwise(steps):
        if place.isdigit():
            words = said("tap {count}") if list_name == "taps" else said("band {count}")
            where.append(words.format(count=int(place) + 1))
    there = riding.found(stage, path)
    return ", ".join([*where, steps[-1] if there is None else _lowered(there[2].label)])


def ride_words(stage: Any, ride: riding.Ride) -> str:
    """A ride in words: from where to where, when, and by how many points."""
    there = riding.found(stage, ride.path)
    first, last = ride.points[0], ride.points[-1]
    heights = [point.value for point in ride.points]
    shown = [f"{v:g}" if there is None else there[2].shown(v) for v in (min(heights), max(heights))]
    return said("{low} to {high}, {count} points from {start:.1f} s to {end:.1f} s").format(
        low=shown[0], high=shown[1], count=len(ride.points), start=first.at_s, end=last.at_s
    )


def _of_struct(
    place: str, old: Any, new: Any, stage: int | None = None, skipped: tuple[str, ...] = ()
) -> Iterator[Difference]:
    """Of all declared settings of a struct, and of the structs and bands in it; of a leg or a spur its rides, too."""
    if old == new:
        return
    if hasattr(new, "rides") and not isinstance(new, Stage):
        yield from _of_rides(place, old, new, None)
    for name, setting in settings_of(cast(type[msgspec.Struct], type(new))).items():
        if name in skipped:
            continue
        notes = [getattr(one, setting.note, "") for one in (old, new)] if setting.note else ["", ""]
        if any(notes):
            words = [shown_value(one, name, setting) for one in (old, new)]
            if notes[0] != notes[1]:
                yield Difference(f"{place}, {_lowered(setting.label)}", words[0], words[1], stage)
        else:
            yield from _of_setting(place, setting, getattr(old, name), getattr(new, name), stage)
    for name in type(new).__struct_fields__:
        values = getattr(old, name), getattr(new, name)
        if name in skipped or name in LEGS or name == "learned" or values[0] == values[1]:
            continue
        if isinstance(values[1], msgspec.Struct) and isinstance(values[0], msgspec.Struct):
            yield from _of_struct(f"{place}, {name}", *values, stage)
        elif name in ("bands", "paths", "taps"):
            yield from _of_bands(place, *values, stage, name)


def _of_bands(
    place: str, old: tuple, new: tuple, stage: int | None, called: str = "bands"
) -> Iterator[Difference]:
    for k in range(max(len(old), len(new))):
        before, after = (bands[k] if k < len(bands) else None for bands in (old, new))
        words = said("{place}, tap {count}") if called == "taps" else said("{place}, band {count}")
        where = words.format(place=place, count=k + 1)
        if before is None and after is not None:
            yield Difference(where, "", said("added, {band}").format(band=_band_words(after)), stage)
        elif before is not None and after is None:
            yield Difference(where, "", said("removed"), stage)
        elif before is not None:
            yield from _of_struct(where, before, after, stage)


def _band_words(band: Any) -> str:
    """Shape, frequency and height of a band."""
    declared = settings_of(cast(type[msgspec.Struct], type(band)))
    if "time_ms" in declared:
        return ", ".join(shown_value(band, name, declared[name]) for name in ("time_ms", "level_db"))
    height = "gain_db" if "gain_db" in declared else "range_db"
    return ", ".join(declared[name].shown(getattr(band, name)) for name in ("shape", "frequency_hz", height))


def shown_value(holder: Any, name: str, setting: Setting) -> str:
    """A setting of a struct in words: the note by which it is given, with what that is now."""
    value = setting.shown(getattr(holder, name))
    note = getattr(holder, setting.note, "") if setting.note else ""
    return f"{note} ({value})" if note else value


def _of_setting(place: str, setting: Setting, old: Any, new: Any, stage: int | None) -> Iterator[Difference]:
    if old == new or (isinstance(old, float) and abs(old - new) < _SMALL):
        return
    before, after = setting.shown(old), setting.shown(new)
    label = _lowered(setting.label)
    if before != after:
        yield Difference(f"{place}, {label}", before, after, stage)
    else:  # too little to be seen in the figures that are shown
        yield Difference(f"{place}, {label}", repr(old), repr(new), stage)


def described(strip: Strip, strips: Names | None = None) -> list[tuple[str, list[str]]]:
    """All that a strip does, in words: for each part of the signal path what it is called and its settings; `strips`
    names those beside it."""
    parts = [(said("Split"), [_split_words(strip.split)])]
    intake = [difference.sentence for difference in _of_struct(said("Intake"), Intake(), strip.intake)]
    if intake:
        parts.insert(0, (said("Intake"), intake))
    names = names_of(strip)
    for _, stage in tree.walk(strip):
        lines = [] if stage.inserted else [said("taken out")]
        for leg in LEGS:
            side = getattr(stage, leg)
            lines.append(
                f"{_component(strip, leg)}: " + (said("passes") if side is None else _settings_words(side))
            )
            bands = getattr(side, "bands", getattr(side, "paths", ()))
            lines += [
                said("{component}, band {count}: {band}").format(
                    component=_component(strip, leg), count=k + 1, band=_settings_words(band)
                )
                for k, band in enumerate(bands)
                if band is not None
            ]
        lines += [
            f"{ride_name(names[stage.id], stage, ride.path, strip)}: {ride_words(stage, ride)}"
            for ride in stage.rides
        ]
        if hasattr(stage, "shared"):
            lines.append(said("Both: {shared}").format(shared=_settings_words(stage.shared)))
            taps = getattr(stage.shared, "taps", ())
            lines += [
                said("Tap {count}: {tap}").format(count=k + 1, tap=_settings_words(tap))
                for k, tap in enumerate(taps)
                if tap is not None
            ]
            learning = kind_of(stage).offers.learning
            if learning is not None and stage.shared.learned is not None:
                lines.append(learning.told(stage))
        for leg in LEGS:
            for k, band in enumerate(getattr(getattr(stage, leg), "bands", ())):
                if (key := getattr(band, "key", None)) is not None:
                    heard = key_words(key, strips or {})
                    lines.append(
                        said("{leg} band {count} hears {what}").format(
                            leg=_component(strip, leg), count=k + 1, what=heard
                        )
                    )
        if stage.key is not None:
            lines.append(said("detectors hear {what}").format(what=key_words(stage.key, strips or {})))
        if stage.level_kept:
            lines.append(
                said("level kept, {kept_db}").format(
                    kept_db=settings_of(cast(type[msgspec.Struct], type(stage)))["kept_db"].shown(
                        stage.kept_db
                    )
                )
            )
        parts.append((names[stage.id], lines))
    for spur in strip.spurs:
        parts.append(
            (
                said("Spur {name}").format(name=spur.name),
                [said("leaves {where}").format(where=tap_words(spur, strip)), _settings_words(spur)],
            )
        )
    for leg in LEGS:
        changed = [
            d.sentence
            for d in _of_struct(
                said("{name} leg").format(name=_component(strip, leg)), Leg(), getattr(strip, leg)
            )
        ]
        if changed:
            parts.append((said("{name} leg").format(name=_component(strip, leg)), changed))
    output = [difference.sentence for difference in _of_struct(said("Output"), Output(), strip.output)]
    parts.append((said("Output"), output or [said("as it comes out of the join")]))
    return parts


def _settings_words(struct: Any) -> str:
    return ", ".join(
        f"{_lowered(setting.label)} {shown_value(struct, name, setting)}".strip()
        for name, setting in settings_of(cast(type[msgspec.Struct], type(struct))).items()
    )


def _lowered(label: str) -> str:
    """A label inside a sentence; Q stays Q."""
    return label[:1].lower() + label[1:] if len(label) > 1 else label
