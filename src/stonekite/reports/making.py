"""Reports of comparisons: of two files, or of a session."""

import datetime
import json
from pathlib import Path

from stonekite.engine.offline.compare import Comparison
from stonekite.files.atomic import replacing
from stonekite.files.audio import AudioError
from stonekite.measure.binomial import chance
from stonekite.reports.page import Report, page
from stonekite.reports.table import Column, as_csv, as_dict
from stonekite.session import tree
from stonekite.session.differences import described, differences
from stonekite.session.mix import places, wires
from stonekite.session.types import BlindTest, Session
from stonekite.words import NAMES, number, said

SUFFIXES = (".html", ".csv", ".json")


def of_files(a: Path, b: Path, found: Comparison) -> Report:
    """The report of two files."""
    lines = []
    if found.level_match_db is not None:
        lines.append(
            said("Level match: {level_match_db} dB on {name}").format(
                level_match_db=number(found.level_match_db, 2, True), name=b.name
            )
        )
    if found.match.found:
        late = number(found.match.samples, 3, True)
        turned = said(", upside down") if found.match.polarity < 0 else ""
        lines.append(
            said("{name} is late by {late} samples{turned} (confidence {confidence:.2f})").format(
                name=b.name, late=late, turned=turned, confidence=found.match.confidence
            )
        )
    else:
        lines.append(
            said(
                "The recordings do not fit each other (confidence {confidence:.2f}): there is no delay, polarity "
                "or residual to tell"
            ).format(confidence=found.match.confidence)
        )
    for name, level in found.residual_db.items() if found.match.found else ():
        words = said("nothing") if level == float("-inf") else f"{number(level, 1)} dB"
        lines.append(
            said("Residual, all: {level}").format(level=words)
            if name == "all"
            else said("Residual, {name}: {level}").format(name=NAMES[name], level=words)
        )
    return Report(
        said("{a} and {b}").format(a=a.name, b=b.name),
        [said("compared on {date}, all of both files").format(date=datetime.date.today().isoformat())],
        [(a.name, found.a), (b.name, found.b)],
        [],
        [(said("What turns one into the other, and what is left"), lines)],
    )


def of_session(session: Session, place: int, columns: list[Column], about: list[str]) -> Report:
    """The report of what is open of a session, by its id: its columns as they were measured, its settings, versions and
    blind tests in words."""
    stem = places.as_stem(session.sound, place)
    notes, names = [], wires.names(session.sound)
    for version in session.versions:
        found = [
            difference.sentence
            for difference in differences(tree.strip_in(version.sound, place), stem.strip, names)
        ]
        named = f"{version.name} ({version.note})" if version.note else version.name
        heading = said("From {version} to the state now").format(version=named)
        notes.append((heading, found or [said("nothing differs")]))
    if session.desk.blind_tests:
        notes.append((said("Blind tests"), [verdict(test) for test in session.desk.blind_tests]))
    settings = [(said("the state now"), described(stem.strip, names))]
    settings += [
        (version.name, described(tree.strip_in(version.sound, place), names)) for version in session.versions
    ]
    return Report(said("{name}: is it better?").format(name=stem.name), about, columns, settings, notes)


def verdict(test: BlindTest) -> str:
    """The result of a blind test in a sentence."""
    planned = (
        ""
        if test.count == test.planned
        else said(" (stopped early: {planned} were planned)").format(planned=test.planned)
    )
    if test.kind == "abx":
        by_chance = chance(test.right, test.count)
        sentence = said(
            "{when}{first} and {second} told apart in {right} of {count} trials{planned}; by guessing, so "
            "many or more come with a probability of {by_chance:.3g}."
        )
    else:
        by_chance = chance(test.right, test.count, two_sided=True)
        sentence = said(
            "{when}{first} preferred to {second} in {right} of {count} trials{planned}; without a "
            "preference, so uneven a result comes with a probability of {by_chance:.3g}."
        )
    return sentence.format(
        when=f"{test.when}: " if test.when else "",
        first=test.first,
        second=test.second,
        right=test.right,
        count=test.count,
        planned=planned,
        by_chance=by_chance,
    )


def write(report: Report, path: Path) -> None:
    """Write a report as a page (.html) or its table (.csv, .json), completely or not at all. Raises AudioError."""
    suffix = path.suffix.lower()
    if suffix not in SUFFIXES:
        raise AudioError(
            said("“{name}” must end in one of {suffixes}.").format(
                name=path.name, suffixes=", ".join(SUFFIXES)
            )
        )
    if suffix == ".html":
        text = page(report)
    elif suffix == ".csv":
        text = as_csv(report.columns)
    else:
        text = json.dumps(as_dict(report.columns), indent=2, ensure_ascii=False, allow_nan=False) + "\n"
    try:
        with replacing(path) as temporary:
            temporary.write_text(text, encoding="utf-8")
    except OSError as error:
        raise AudioError(
            said("“{name}” cannot be written: {reason}.").format(
                name=path.name, reason=(error.strerror or str(error)).lower()
            )
        ) from None
