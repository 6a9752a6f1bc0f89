"""The pool of workers, without a window: what it is told is called by whoever waits."""

import os
import queue
import signal
import time
from collections.abc import Callable

import pytest
from conftest import noise, write_wav

from stonekite.processes.jobs import Answer, ReadResponse, ResponseRead
from stonekite.processes.pool import ERRAND, EXPORT, Pool

pytestmark = pytest.mark.processes


class Heard:
    """A pool, and what it is heard to say until something holds."""

    def __init__(self) -> None:
        self._calls: queue.Queue[Callable[[], None]] = queue.Queue()
        self.pool = Pool(self._calls.put)
        self.answers: list[tuple[str, Answer]] = []
        self.lost: list[str] = []

    def ask(self, client: str, path, rank: int = ERRAND) -> None:
        self.pool.ask(
            client,
            rank,
            lambda number: ReadResponse(number, str(path)),
            lambda answer: self.answers.append((client, answer)),
            lambda: self.lost.append(client),
        )

    def until(self, holds: Callable[[], bool], seconds: float = 60.0) -> None:
        end = time.monotonic() + seconds
        while not holds():
            self._calls.get(timeout=max(0.01, end - time.monotonic()))()


@pytest.fixture
def heard():
    heard = Heard()
    yield heard
    heard.pool.close()


def test_one_request_of_a_client_at_a_time_and_the_lower_rank_first(heard, tmp_path):
    path = write_wav(tmp_path / "box.wav", noise(0.2))
    heard.ask("first", path)
    heard.ask("later", path, EXPORT + 2)
    heard.ask("sooner", path)
    heard.ask("later", path, EXPORT + 2)
    heard.until(lambda: len(heard.answers) == 3)
    assert [client for client, _ in heard.answers] == ["first", "sooner", "later"]
    assert all(isinstance(answer, ResponseRead) for _, answer in heard.answers)


def test_a_dead_worker_is_started_again_and_what_kills_two_is_given_up(heard, tmp_path):
    path = write_wav(tmp_path / "box.wav", noise(0.2))
    heard.ask("before", path)
    heard.until(lambda: bool(heard.answers))
    (first,) = heard.pool.pids()
    os.kill(first, signal.SIGSTOP)  # so that it is killed with the request
    heard.ask("kills", path)
    os.kill(first, signal.SIGKILL)
    heard.until(lambda: heard.pool.pids() not in ([], [first]))
    (second,) = heard.pool.pids()
    os.kill(second, signal.SIGKILL)
    heard.until(lambda: heard.lost == ["kills"])
    heard.ask("after", path)
    heard.until(lambda: heard.answers[-1][0] == "after")
    assert isinstance(heard.answers[-1][1], ResponseRead)
    assert len(heard.answers) == 2


def test_what_is_dropped_is_not_heard_of(heard, tmp_path):
    path = write_wav(tmp_path / "box.wav", noise(0.2))
    heard.ask("unwanted", path)
    heard.pool.drop("unwanted")
    heard.ask("wanted", path)
    heard.until(lambda: bool(heard.answers))
    assert [client for client, _ in heard.answers] == ["wanted"]
