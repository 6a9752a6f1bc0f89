"""An overview of a recording, at any zoom."""

import numpy as np


class Waveforms:
    """An overview (rows, 2, n) at several resolutions, so that any zoom looks at few numbers."""

    def __init__(self, table: np.ndarray) -> None:
        if not table.shape[2]:  # a recording that turned out to hold nothing
            table = np.zeros((*table.shape[:2], 1))
        self._levels = [table]
        while self._levels[-1].shape[2] > 4096:
            last = self._levels[-1]
            count = last.shape[2] // 4 * 4
            low = last[:, 0, :count].reshape(len(last), -1, 4).min(axis=2)
            high = last[:, 1, :count].reshape(len(last), -1, 4).max(axis=2)
            self._levels.append(np.stack([low, high], axis=1))

        self.peaks = np.abs(self._levels[-1]).max(axis=(1, 2), initial=0.0)

    def columns(self, row: int, start: float, stop: float, count: int) -> np.ndarray:
        """Least and greatest sample (2, count) of a component between two shares of the whole file."""
        level = self._levels[0]
        for coarser in self._levels:
            if (stop - start) * coarser.shape[2] < count:
                break
            level = coarser
        total = level.shape[2]
        edges = np.linspace(start * total, stop * total, count + 1)
        first = np.clip(edges[:-1].astype(int), 0, total - 1)
        last = np.clip(np.ceil(edges[1:]).astype(int), first + 1, total)
        low = np.minimum.reduceat(level[row, 0], first)
        high = np.maximum.reduceat(level[row, 1], first)
        single = last - first <= 1
        low[single], high[single] = level[row, 0, first[single]], level[row, 1, first[single]]
        if count > 1:  # reduceat's last stretch would run on to the end of the file
            low[-1] = level[row, 0, first[-1] : last[-1]].min()
            high[-1] = level[row, 1, first[-1] : last[-1]].max()
        return np.stack([low, high])
