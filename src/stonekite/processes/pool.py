"""The one pool of worker processes: one that measures, with what the processor has left, one that writes files, and one
that keeps results behind all others.

Whoever wants something done asks for it with a rank: what has a lower one comes first and has what runs begin again
later. A client has one request at a time: a newer one takes the place of the older. A worker that dies is started again,
and what it was doing is tried once more; what has killed two workers is given up.
"""

from collections.abc import Callable
from dataclasses import dataclass, field
from itertools import count
from typing import Literal, get_args

from stonekite.processes.children import Child, Deliver
from stonekite.processes.jobs import Answer, Cancel, Compared, Failed, Progress, RangeBegun, Request

Which = Literal["measuring", "writing", "keeping"]
ERRAND, COMPARE, ANALYSE, EXPORT = 0, 1, 2, 0
"""Ranks: what somebody waits for, the range in front, the whole file; and what writes."""


@dataclass
class _Job:
    client: str
    rank: int
    number: int
    make: Callable[[int], Request]
    hear: Callable[[Answer], None]
    lost: Callable[[], None]
    deaths: int = field(default=0)


class _Worker:
    """One process and what it is to do."""

    def __init__(self, numbers: "count[int]", deliver: Deliver) -> None:
        self._numbers, self._deliver = numbers, deliver
        self._child: Child | None = None
        self._waiting: list[_Job] = []
        self._running: _Job | None = None

    @property
    def pid(self) -> int | None:
        return self._child.pid if self._child is not None else None

    def ask(self, job: _Job) -> None:
        self.drop(job.client)
        self._waiting.append(job)
        self._pump()

    def drop(self, client: str) -> None:
        """Forget what a client wanted; end it if it runs."""
        self._waiting = [job for job in self._waiting if job.client != client]
        if self._running is not None and self._running.client == client:
            if self._child is not None:
                self._child.send(Cancel(self._running.number))
            self._running = None
            self._pump()

    def _pump(self) -> None:
        if not self._waiting:
            return
        best = min(self._waiting, key=lambda job: job.rank)
        if self._running is not None:
            if self._running.rank <= best.rank:
                return
            self._waiting.append(self._running)  # the worker ends it when it hears of another one
        self._waiting.remove(best)
        self._running = best
        best.number = next(self._numbers)
        if self._child is None:
            self._child = Child("stonekite.processes.worker", Answer, self._hear, self._ended, self._deliver)
        try:
            self._child.send(best.make(best.number))
        except ValueError as error:  # what cannot be said is answered here
            failed = Failed(best.number, str(error))
            self._deliver(lambda: self._hear(failed))

    def _hear(self, answer: Answer) -> None:
        job = self._running
        if job is None or answer.number != job.number:
            return
        if not isinstance(answer, Progress | Compared | RangeBegun):  # others follow those
            self._running = None
        job.hear(answer)
        self._pump()

    def _ended(self, code: int) -> None:
        child, self._child = self._child, None
        if child is not None:
            child.let_go()
        job, self._running = self._running, None
        if job is not None:
            job.deaths += 1
            if job.deaths < 2:
                self._waiting.append(job)
            else:
                job.lost()
        self._pump()

    def close(self) -> None:
        self._waiting.clear()
        self._running = None
        if self._child is not None:
            self._child.close()
            self._child = None


class Pool:
    """Give it requests; answers come by `deliver`."""

    def __init__(self, deliver: Deliver) -> None:
        numbers = count(1)
        self._workers: dict[Which, _Worker] = {which: _Worker(numbers, deliver) for which in get_args(Which)}

    def ask(
        self,
        client: str,
        rank: int,
        make: Callable[[int], Request],
        hear: Callable[[Answer], None],
        lost: Callable[[], None],
        which: Which = "measuring",
    ) -> None:
        """Have something done: `make` gives the request its number, `hear` gets every answer, `lost` tells that it was
        given up."""
        self._workers[which].ask(_Job(client, rank, 0, make, hear, lost))

    def drop(self, client: str) -> None:
        """End what a client wanted; `hear` gets no more of it."""
        for worker in self._workers.values():
            worker.drop(client)

    def pids(self) -> list[int]:
        """The processes that run now."""
        return [worker.pid for worker in self._workers.values() if worker.pid is not None]

    def close(self) -> None:
        """End the processes."""
        for worker in self._workers.values():
            worker.close()
