"""Where everything of a strip lies on the map: lanes, stones and places to add one. Knows no Qt.

A map shows the whole strip, or the branches inside one stage. All lengths are in pixels of the screen.
"""

from collections.abc import Iterator
from dataclasses import dataclass, field
from typing import Any

from stonekite.session import tree
from stonekite.session.differences import branch_names, own_name, tap_words
from stonekite.session.spur import END, SPLIT, Spur
from stonekite.session.types import LEGS, LegName, Split, Strip, anything_alone
from stonekite.stages.base import Stage
from stonekite.stages.branch import branches_of
from stonekite.stages.planning import awake
from stonekite.stages.registry import kind_of, label_of
from stonekite.stages.settings import settings_of
from stonekite.words import NAMES, said

MIDDLE = 152.0
"""Height of the kite without spurs."""
LANE, INNER = 36.0, 44.0
"""Height of a spur's lane, and of a branch's inside a stage."""
SPLIT_X, JOIN_GAP = 168.0, 178.0
SMALL, INSIDE, SMALLEST = 0.62, 0.78, 0.56
"""Sizes of stones in spurs and inside a stage, and of those on crowded legs, of those on the legs otherwise."""
_NAME = 96.0
"""Room for the name of a lane."""
_LEAST = 230.0
"""A spur's lane is at least so long."""


@dataclass(frozen=True)
class Lane:
    """A path beside others: from a point where it leaves, along `y` from `start` to `end`, to where it comes back."""

    branch: int
    name: str
    level: str
    component: str
    y: float
    leaves: tuple[float, float]
    start: float
    end: float
    returns: tuple[float, float]
    silent: bool = False


@dataclass(frozen=True)
class Stone:
    """A side of a stage on the map, or both sides of one in a lane that carries both legs."""

    stage: Any
    leg: LegName
    component: str
    x: float
    y: float
    branch: int
    scale: float = 1.0


@dataclass(frozen=True)
class Plus:
    """Where a stage can be added to a branch."""

    branch: int
    leg: LegName
    component: str
    x: float
    y: float
    radius: float = 11.0


@dataclass
class Layout:
    """What lies where, for a map so wide."""

    width: float
    height: float
    inside: Any = None
    crumbs: list[tuple[str, int]] = field(default_factory=list)
    """What one is inside of, from the outside in: words, and the stage to go into, 0 for the whole strip."""
    legs: dict[LegName, float] = field(default_factory=dict)
    lanes: list[Lane] = field(default_factory=list)
    stones: list[Stone] = field(default_factory=list)
    pluses: list[Plus] = field(default_factory=list)

    @property
    def crowded(self) -> bool:
        """Whether there is no room for a name under each stone of the legs."""
        stones = self.along(tree.LEGS_BRANCH, "upper")
        return len(stones) > 1 and stones[1].x - stones[0].x < 60.0

    @property
    def join_x(self) -> float:
        return self.width - JOIN_GAP

    @property
    def middle(self) -> float:
        """The height at which the signal comes in and goes out."""
        if self.legs:
            return 0.5 * (self.legs["upper"] + self.legs["lower"])
        return 0.5 * (self.lanes[0].y + self.lanes[-1].y) if self.lanes else 0.5 * self.height

    def stone(self, stage: int, leg: LegName) -> Stone | None:
        """The stone of a stage's side; where a lane shows one stone for both, that one."""
        mine = [stone for stone in self.stones if stone.stage.id == stage]
        return next((stone for stone in mine if stone.leg == leg), mine[0] if mine else None)

    def rows(self) -> list[tuple[int, LegName, float]]:
        """Everything that carries stones, from the top down: branch, leg and height."""
        found: list[tuple[int, LegName, float]] = [(lane.branch, "upper", lane.y) for lane in self.lanes]
        found += [(tree.LEGS_BRANCH, leg, y) for leg, y in self.legs.items()]
        return sorted(found, key=lambda row: row[2])

    def along(self, branch: int, leg: LegName) -> list[Stone]:
        """The stones of a row, from the left."""
        lane = any(lane.branch == branch for lane in self.lanes)
        return [s for s in self.stones if s.branch == branch and (lane or s.leg == leg)]


def least_width(strip: Strip) -> float:
    """So wide has a map of the whole strip to be at the least: a narrower window scrolls."""
    return SPLIT_X + 82.0 + 66.0 * SMALLEST * max(0, len(strip.stages) - 1) + 120.0 + JOIN_GAP


def lies_above(spur: Spur) -> bool:
    """Whether a spur's lane is drawn over the legs: what comes from the upper one is."""
    return spur.source in ("left", "mid")


def of_strip(strip: Strip, width: float) -> Layout:
    """The whole strip: the kite in the middle, its spurs outside of it."""
    above = [spur for spur in strip.spurs if lies_above(spur)]
    below = [spur for spur in strip.spurs if not lies_above(spur)]
    top = LANE * len(above) + (6.0 if above else 0.0)
    height = top + MIDDLE + LANE * len(below) + (6.0 if below else 0.0)
    layout = Layout(width, height)
    layout.legs = {"upper": top + 32.0, "lower": top + MIDDLE - 32.0}
    first, last = SPLIT_X + 112.0, layout.join_x - 154.0
    count = len(strip.stages)
    most = 96.0 if not strip.spurs else 84.0
    step = min(most, (last - first) / max(1, count - 1)) if count > 1 else most
    if step < 0.5 * most:  # no room to spare: nearer to the split and to the place to add one
        first, last = SPLIT_X + 82.0, layout.join_x - 120.0
        step = (last - first) / (count - 1)
    places = {stage.id: first + step * k for k, stage in enumerate(strip.stages)}
    scale = min(1.0, max(SMALLEST, step / 66.0))
    for leg, y in layout.legs.items():
        component = strip.split.component(leg)
        for stage in strip.stages:
            layout.stones.append(Stone(stage, leg, component, places[stage.id], y, tree.LEGS_BRANCH, scale))
        layout.pluses.append(Plus(tree.LEGS_BRANCH, leg, component, layout.join_x - 84.0, y))
    end = (max(places.values()) if places else first - 60.0) + 44.0 * scale
    leaving: dict[int | str, float] = {SPLIT: SPLIT_X + 66.0, END: end}
    leaving.update({stage: x + 40.0 * scale for stage, x in places.items()})
    for k, spur in enumerate([*above, *below]):
        if k < len(above):
            y, leg_y = 20.0 + LANE * k, layout.legs["upper"]
        else:
            y = layout.legs["lower"] + 48.0 + LANE * (k - len(above))
            leg_y = layout.legs["lower"]
        x = leaving.get(spur.after, end)
        start = min(x + 24.0, layout.join_x - 24.0 - _LEAST)
        lane = Lane(
            spur.id,
            spur.name,
            _spur_level(spur),
            spur.source,
            y,
            (x, leg_y),
            start,
            layout.join_x - 50.0,
            (layout.join_x - 26.0, leg_y),
            spur.muted or (not spur.alone and anything_alone(strip)),
        )
        _fill(layout, lane, spur.branch.stages, "upper", spur.source, SMALL)
    return layout


def of_stage(strip: Strip, stage: Stage, leg: LegName, width: float) -> Layout:
    """The branches inside a stage, as one leg goes through them."""
    home = tree.home(strip, stage.id)
    names = kind_of(stage).branching.names(stage, leg)  # type: ignore[union-attr]
    shown = [(branch, name) for branch, name in zip(branches_of(stage), names, strict=True) if name]
    layout = Layout(width, max(MIDDLE, 40.0 + INNER * max(1, len(shown)) + 8.0), inside=stage)
    layout.crumbs = list(_crumbs(strip, stage))
    component = component_of(strip, home.branch, leg)
    middle = 34.0 + 0.5 * (layout.height - 40.0)
    first = middle - 0.5 * INNER * (len(shown) - 1)
    for k, (branch, name) in enumerate(shown):
        y = first + INNER * k
        lane = Lane(
            branch.id,
            name,
            _level_of(stage, leg, k),
            component,
            y,
            (112.0, middle),
            136.0,
            width - 150.0,
            (width - 126.0, middle),
            _silent(stage, leg, k),
        )
        _fill(layout, lane, branch.stages, leg, component, INSIDE)
    return layout


def _paths(stage: Any, leg: LegName) -> tuple[Any, ...]:
    return getattr(getattr(stage, leg), "paths", ())


def _level_of(stage: Any, leg: LegName, branch: int) -> str:
    paths = _paths(stage, leg)
    return settings_of(type(paths[branch]))["level_db"].shown(paths[branch].level_db) if paths else ""


def _silent(stage: Any, leg: LegName, branch: int) -> bool:
    paths = _paths(stage, leg)
    if not paths:
        return False
    alone = any(path.alone for path in paths[: getattr(getattr(stage, leg), "count", len(paths))])
    return paths[branch].muted or (alone and not paths[branch].alone)


def _fill(
    layout: Layout, lane: Lane, stages: tuple[Stage, ...], leg: LegName, component: str, scale: float
) -> None:
    """Put a lane on the map with its stones and the place to add one."""
    layout.lanes.append(lane)
    first = lane.start + _NAME + 30.0 * scale
    room = lane.end - 84.0 - first
    step = min(84.0 * scale, room / max(1, len(stages)))
    for k, stage in enumerate(stages):
        layout.stones.append(Stone(stage, leg, component, first + step * k, lane.y, lane.branch, scale))
    layout.pluses.append(
        Plus(lane.branch, leg, component, first + step * len(stages) - 6.0 * scale, lane.y, 8.0)
    )


def component_of(strip: Strip, branch: int, leg: LegName) -> str:
    """What a leg of a branch carries: left, right, mid, side, or both where it is a spur of both legs."""
    path = tree.branch(strip, branch).path
    if path[0] == "spurs" and not (spur := strip.spurs[path[1]]).of_both:  # type: ignore[index]
        return spur.source
    return strip.split.component(leg)


def _crumbs(strip: Strip, stage: Stage) -> Iterator[tuple[str, int]]:
    """The way into a stage: each place that can be gone back to, the stage itself last."""
    yield said("Whole strip"), 0
    above = tree.above(strip, tree.home(strip, stage.id).branch)
    for branch, within in above:
        if not within:
            yield strip.spur(branch).name, 0
        else:
            _, holder = tree.find(strip, within)
            yield f"{label_of(holder)}, {own_name(holder, branch)}", within
    yield label_of(stage), stage.id


def _spur_level(spur: Spur) -> str:
    """The level of a spur, or between which ones it rides."""
    setting = settings_of(Spur)["level_db"]
    ride = next((ride for ride, _ in awake(spur) if ride.path == "level_db" and not ride.stands), None)
    if ride is None:
        return setting.shown(spur.level_db)
    heights = [point.value for point in ride.points]
    low, high = setting.shown(min(heights)), setting.shown(max(heights))
    return said("{low} to {high}").format(low=low.removesuffix("dB").rstrip(), high=high)


def in_words(strip: Strip, source: str, split: Split) -> str:
    """A strip as it is read aloud."""
    upper, lower = (NAMES[split.component(leg)] for leg in LEGS)
    stages = ", ".join(label_of(stage) for stage in strip.stages) or said("no stages")
    words = [
        said("{source}, split into {upper} leg and {lower} leg, {stages}").format(
            source=source, upper=upper, lower=lower, stages=stages
        )
    ]
    for spur in strip.spurs:
        inside = ", ".join(label_of(stage) for stage in spur.branch.stages) or said("no stages")
        level = _spur_level(spur)
        words.append(
            said("spur {name} from {source}, {tap}, {inside}, {level}").format(
                name=spur.name, source=spur.source, tap=tap_words(spur, strip), inside=inside, level=level
            )
        )
    return "; ".join(words)


def chosen_words(strip: Strip, stage: int, leg: LegName) -> str:
    """The chosen stone as it is read aloud: Drive on Left, in Torn top, Bands, above 1.6 kHz, chosen."""
    try:
        home = tree.home(strip, stage).branch
    except LookupError:
        return ""
    _, found = tree.find(strip, stage)
    component = component_of(strip, home, leg)
    where = branch_names(strip)[home]
    inside = said(", in {where}").format(where=where) if where else ""
    out = "" if found.inserted else said(", out")
    return said("{label} on {component}{inside}{out} chosen. ").format(
        label=label_of(found), component=NAMES.get(component, said("both legs")), inside=inside, out=out
    )
