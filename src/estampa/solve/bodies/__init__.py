"""Rigid bodies: what a body is (body), the ensemble that solves them (kind), the engine beneath (engine, shapes)."""

from .body import Body
from .kind import Bodies

__all__ = ["Bodies", "Body"]
