"""Chains: strands that follow the joints they are made of (kind), and what solves them (kernels)."""
