"""Stems: rooted plants as stiff rods (kind), and what solves them (kernels)."""
