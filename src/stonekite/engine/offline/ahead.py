"""Work that goes on while what it gave is used."""

from collections.abc import Generator, Iterator
from queue import Full, Queue
from threading import Event, Thread
from typing import TypeVar

_Item = TypeVar("_Item")
_DEPTH = 3


def ahead(items: Iterator[_Item]) -> Generator[_Item, None, None]:
    """The same items, made in a thread of their own, a few ahead of their use.

    What goes wrong there is raised here. Whoever stops taking them stops the thread: close the generator.
    """
    made: Queue[tuple[str, _Item | Exception | None]] = Queue(_DEPTH)
    stopped = Event()

    def give(kind: str, value: _Item | Exception | None) -> None:
        while not stopped.is_set():
            try:
                made.put((kind, value), timeout=0.1)
                return
            except Full:
                continue

    def work() -> None:
        try:
            for item in items:
                give("item", item)
                if stopped.is_set():
                    return
            give("end", None)
        except Exception as error:
            give("error", error)

    thread = Thread(target=work, name="ahead", daemon=True)
    thread.start()
    try:
        while True:
            kind, value = made.get()
            if kind == "item":
                yield value  # type: ignore[misc]
            elif kind == "error":
                raise value  # type: ignore[misc]
            else:
                return
    finally:
        stopped.set()
        thread.join()
