"""Work in a thread of its own, ahead of its use."""

import threading

import pytest

from stonekite.engine.offline.ahead import ahead


def test_items_come_in_order_and_all_of_them():
    assert list(ahead(iter(range(100)))) == list(range(100))


def test_what_goes_wrong_while_making_is_raised_where_it_is_used():
    def broken():
        yield 1
        raise OSError("no such rope")

    taken = []
    with pytest.raises(OSError, match="no such rope"):
        for item in ahead(broken()):
            taken.append(item)
    assert taken == [1]


def test_whoever_stops_taking_stops_the_work():
    made = []

    def endless():
        for item in range(10**9):
            made.append(item)
            yield item

    items = ahead(endless())
    assert next(items) == 0
    items.close()
    count = len(made)
    assert count < 10
    assert not any(thread.name == "ahead" for thread in threading.enumerate())
    assert len(made) == count
