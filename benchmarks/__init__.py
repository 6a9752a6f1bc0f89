"""Speed and memory figures: `./scripts/bench`."""
