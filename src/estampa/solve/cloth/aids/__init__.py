"""Layers that tell a cloth something: they stand below it in the stack."""
