"""Physical fields: what a force gives and a solver reads. What meets is felt; solvers name no kinds of forces."""

AIR = "air"  # velocity of the air: World.winds
ACCELERATION = "acceleration"  # World.gravity, World.pulls
FLOOR = "floor"  # what is solid below a height: World.floors
SOLID = "solid"  # obstacles of any shape: World.colliders
POOL = "pool"  # a liquid that one stands in: World.pools
FIELDS = frozenset({AIR, ACCELERATION, FLOOR, SOLID, POOL})


def refuse_unknown(kind: str, fields: frozenset[str]) -> None:
    """Raises ValueError when something is named that is no field."""
    unknown = ", ".join(sorted(set(fields) - FIELDS))
    if unknown:
        raise ValueError(f"“{kind}” names {unknown}, which is no field; there are {', '.join(sorted(FIELDS))}")
