"""Other processes: framing, jobs, and the worker. No Qt."""
