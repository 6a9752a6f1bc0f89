"""What can be done with stems, buses and the way they are joined: each is one step to undo."""

from collections.abc import Callable, Iterable
from pathlib import Path
from typing import Any

from PySide6.QtCore import QObject, Signal

from stonekite.desktop.model.document import Document, session_of
from stonekite.files.audio import READABLE, AudioError, shown_name
from stonekite.session import tree
from stonekite.session.mix import mix_edits, wires
from stonekite.session.mix.mix_edits import Begins
from stonekite.session.mix.places import name_of
from stonekite.session.types import MIX, Session, Source, Stem
from stonekite.words import said


def recordings_in(paths: Iterable[Path]) -> list[Path]:
    """All recordings among some files and in the folders among them, in the order of their names."""
    found: list[Path] = []
    for path in paths:
        if path.is_dir():
            found += sorted(one for one in path.iterdir() if one.suffix.lower() in READABLE and one.is_file())
        else:
            found.append(path)
    return found


class MixActions(QObject):
    """`said` has words about what was done, or why it was not."""

    said = Signal(str)

    def __init__(self, document: Document, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._document = document

    def add(self, paths: Iterable[Path]) -> None:
        """Have recordings, and those in folders, as stems beside those that are there, in one step. Those that cannot be
        read are named."""
        found: list[tuple[str, Source]] = []
        faults: list[str] = []
        for path in recordings_in(paths):
            try:
                session, _ = session_of(path)
            except (AudioError, OSError) as error:
                faults.append(str(error) if isinstance(error, AudioError) else f"{shown_name(path)}: {error}")
                continue
            stem = session.sound.stems[0]
            found.append((stem.name, stem.source))
        if found:
            words = said("{name} added") if len(found) == 1 else said("{count} stems added")
            words = words.format(name=found[0][0], count=len(found))
            if self._edit(lambda session: mix_edits.add_stems(session, found), words):
                faults.insert(0, f"{words}.")
        if faults:
            self.said.emit(" ".join(faults))

    def add_bus(self) -> None:
        """A bus that nothing goes into yet."""
        self._edit(lambda session: mix_edits.add_bus(session, said("Bus"))[0], said("Bus added"))

    def add_parallel(self, stems: Iterable[int], begins: Begins) -> int:
        """A bus beside the mix, fed by some of all; gives its id, 0 if it could not be."""
        made = 0

        def change(session: Session) -> Session:
            nonlocal made
            session, made = mix_edits.parallel_bus(session, stems, begins)
            return session

        return made if self._edit(change, said("Parallel bus")) else 0

    def _edit(self, change: Callable[[Session], Session], words: str, gesture: object = None) -> bool:
        try:
            session = change(self._document.session)
        except ValueError as error:
            self.said.emit(str(error))
            return False
        return self._document.edit(session, words, gesture)

    def _name(self, number: int) -> str:
        return name_of(tree.holder(self._document.session.sound, number))

    def put_fader(self, number: int, name: str, value: Any, token: object = None) -> None:
        """Another level or place, muted or alone, or not."""
        gesture = None if token is None else (token, number, name)
        words = said("{name} in the mix").format(name=self._name(number))
        self._edit(lambda session: mix_edits.put_fader(session, number, name, value), words, gesture)

    def put_send(
        self, number: int, to: int, level_db: float | None, token: object = None, before: bool | None = None
    ) -> None:
        """Send one to a bus at another level, or no longer (None)."""
        gesture = None if token is None else (token, number, to)
        words = said("{name} to {bus}").format(name=self._name(number), bus=self._name(to))
        self._edit(lambda session: mix_edits.put_send(session, number, to, level_db, before), words, gesture)

    def send_many(self, numbers: Iterable[int], to: int, level_db: float | None) -> None:
        """Send several to a bus, or no longer."""

        def change(session: Session) -> Session:
            for number in numbers:
                if level_db is None or wires.can_go(session.sound, number, to):
                    session = mix_edits.put_send(session, number, to, level_db)
            return session

        self._edit(change, said("Sends to {bus}").format(bus=self._name(to)))

    def put_into(self, number: int, to: int) -> None:
        """Have one go into another bus, or the mix."""
        words = said("{name} into {bus}").format(name=self._name(number), bus=self._name(to))
        self._edit(lambda session: mix_edits.put_into(session, number, to), words)

    def rename(self, number: int, name: str) -> None:
        """Call a stem or a bus otherwise."""
        if number != MIX and name.strip():
            self._edit(
                lambda session: mix_edits.put_in(session, number, name=name.strip()[:1000]),
                said("{name} renamed").format(name=self._name(number)),
            )

    def put_hue(self, number: int, hue: int) -> None:
        """Another colour for a stem or a bus."""
        words = said("Hue of {name}").format(name=self._name(number))
        self._edit(lambda session: mix_edits.put_in(session, number, hue=hue), words)

    def remove(self, number: int) -> None:
        """Take a stem or a bus away."""
        words = said("{name} removed").format(name=self._name(number))
        self._edit(lambda session: mix_edits.remove(session, number), words)

    def move(self, number: int, where: int) -> None:
        """Another place among the stems, or the buses."""
        words = said("{name} moved").format(name=self._name(number))
        self._edit(lambda session: mix_edits.moved(session, number, where), words)

    def put_time(
        self, number: int, token: object = None, before: Stem | None = None, **times: float | None
    ) -> None:
        """When a stem begins, with what of its recording, and for how long, in place of what was `before`."""
        gesture = None if token is None else (token, number, "time")
        words = said("{name} on the timeline").format(name=self._name(number))
        self._edit(lambda session: mix_edits.put_time(session, number, before, **times), words, gesture)

    def split(self, number: int, seconds: float) -> None:
        """Two stems where there was one, from a time on."""
        words = said("{name} split").format(name=self._name(number))
        self._edit(lambda session: mix_edits.split_at(session, number, seconds), words)

    def fit(self, number: int, path: Path, speed: float, kept_s: float) -> None:
        """A stem has a recording that was made of its own, at so many times its speed."""
        try:
            source = session_of(path)[0].sound.stems[0].source
        except (AudioError, OSError) as error:
            self.said.emit(str(error))
            return
        words = said("{name} fitted").format(name=self._name(number))
        self._edit(lambda session: mix_edits.fitted(session, number, source, speed, kept_s), words)

    def repeat(self, number: int) -> None:
        """A stem once more, behind its end."""
        words = said("{name} repeated").format(name=self._name(number))
        self._edit(lambda session: mix_edits.repeated(session, number), words)
