"""Filters of all sorts: their designs, and the kernels that run them."""
