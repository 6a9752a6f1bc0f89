"""Speed and memory figures: `./scripts/bench`."""

import stonekite  # noqa: F401  (first: it decides how many threads linear algebra uses)
