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
from stonekite.session.differences import described, differences
from stonekite.session.types import BlindTest, Session
from stonekite.words import number

SUFFIXES = (".html", ".csv", ".json")


def of_files(a: Path, b: Path, found: Comparison) -> Report:
    """The report of two files."""
    lines = []
    if found.level_match_db is not None:
        lines.append(f"Level match: {number(found.level_match_db, 2, True)} dB on {b.name}")
    if found.match.found:
        late = number(found.match.samples, 3, True)
        turned = ", upside down" if found.match.polarity < 0 else ""
        lines.append(f"{b.name} is late by {late} samples{turned} (confidence {found.match.confidence:.2f})")
    else:
        lines.append(
            f"The recordings do not fit each other (confidence {found.match.confidence:.2f}): there is no delay, "
            "polarity or residual to tell"
        )
    for name, level in found.residual_db.items() if found.match.found else ():
        words = "nothing" if level == float("-inf") else f"{number(level, 1)} dB"
        lines.append(f"Residual, {'all' if name == 'all' else name.capitalize()}: {words}")
    return Report(
        f"{a.name} and {b.name}",
        [f"compared on {datetime.date.today().isoformat()}, all of both files"],
        [(a.name, found.a), (b.name, found.b)],
        [],
        [("What turns one into the other, and what is left", lines)],
    )


def of_session(session: Session, columns: list[Column], about: list[str]) -> Report:
    """The report of a session: its columns as they were measured, its settings, versions and blind tests in words."""
    stem = session.sound.stems[0]
    notes = []
    for version in session.versions:
        found = [difference.sentence for difference in differences(version.strip, stem.strip)]
        heading = f"From {version.name}{f' ({version.note})' if version.note else ''} to the state now"
        notes.append((heading, found or ["nothing differs"]))
    if session.desk.blind_tests:
        notes.append(("Blind tests", [verdict(test) for test in session.desk.blind_tests]))
    settings = [("the state now", described(stem.strip))]
    settings += [(version.name, described(version.strip)) for version in session.versions]
    return Report(f"{stem.name}: is it better?", about, columns, settings, notes)


def verdict(test: BlindTest) -> str:
    """The result of a blind test in a sentence."""
    planned = "" if test.count == test.planned else f" (stopped early: {test.planned} were planned)"
    when = f"{test.when}: " if test.when else ""
    if test.kind == "abx":
        by_chance = chance(test.right, test.count)
        return (
            f"{when}{test.first} and {test.second} told apart in {test.right} of {test.count} trials{planned}; "
            f"by guessing, so many or more come with a probability of {by_chance:.3g}."
        )
    by_chance = chance(test.right, test.count, two_sided=True)
    return (
        f"{when}{test.first} preferred to {test.second} in {test.right} of {test.count} trials{planned}; "
        f"without a preference, so uneven a result comes with a probability of {by_chance:.3g}."
    )


def write(report: Report, path: Path) -> None:
    """Write a report as a page (.html) or its table (.csv, .json), completely or not at all. Raises AudioError."""
    suffix = path.suffix.lower()
    if suffix not in SUFFIXES:
        raise AudioError(f"“{path.name}” must end in one of {', '.join(SUFFIXES)}.")
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
            f"“{path.name}” cannot be written: {(error.strerror or str(error)).lower()}."
        ) from None
