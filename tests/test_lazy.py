"""Modules that are imported late, by several threads at once."""

import sys
import threading

import pytest

from stonekite.lazy import lazy


def test_threads_that_come_first_at_the_same_time_all_see_the_whole_module(tmp_path, monkeypatch):
    (tmp_path / "slow_rope.py").write_text("import time\ntime.sleep(0.3)\nLENGTH = 40\n")
    monkeypatch.syspath_prepend(tmp_path)
    module = lazy("slow_rope")
    assert "slow_rope" not in sys.modules
    found = []
    threads = [threading.Thread(target=lambda: found.append(module.LENGTH)) for _ in range(6)]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    assert found == [40] * 6
    with pytest.raises(AttributeError):
        _ = module.WIDTH
    with pytest.raises(ModuleNotFoundError):
        lazy("no_such_rope")
