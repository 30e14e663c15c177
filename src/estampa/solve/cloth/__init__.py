"""Cloth: its constraints from a mesh (kind), what solves them (kernels), and in which order (schedule)."""
