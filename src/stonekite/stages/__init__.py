"""Kinds of stage. Each kind is one module here; `registry` finds them."""
