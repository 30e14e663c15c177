"""What a force is, and the world that all forces together make for a solver."""

from collections.abc import Callable
from dataclasses import dataclass, field
from typing import ClassVar, NamedTuple

import numpy as np

from ..geometry.place import Place
from ..kinds.registry import Kind
from ..motion.layer import Resolved

AIR_DENSITY = 1.225  # kg/m3 at sea level, 15 degrees C (International Standard Atmosphere, ISO 2533)


@dataclass
class World:
    """What acts in one frame."""

    gravity: np.ndarray = field(default_factory=lambda: np.zeros(3))  # m/s2
    winds: list[Callable[[np.ndarray], np.ndarray]] = field(default_factory=list)  # (n, 3) m -> (n, 3) m/s
    floors: list["Floor"] = field(default_factory=list)
    colliders: list["Obstacle"] = field(default_factory=list)
    pulls: list[tuple[np.ndarray, Callable]] = field(default_factory=list)  # (m/s2, zone) of what is felt in places
    pools: list["Pool"] = field(default_factory=list)

    def acceleration(self, points: np.ndarray) -> np.ndarray:
        """(n, 3) m/s2 that everything at these points feels."""
        total = np.tile(self.gravity, (len(points), 1))
        for pull, zone in self.pulls:
            total += zone(points[None])[0][:, None] * pull
        return total

    def air(self, points: np.ndarray) -> np.ndarray:
        """Velocity of the air at points, (n, 3) m/s; still air where there is no wind."""
        total = np.zeros_like(points)
        for wind in self.winds:
            total += wind(points)
        return total


class Floor(NamedTuple):
    """A level floor without end."""

    height: float  # m
    friction: float
    bounce: float = 0.0


@dataclass(frozen=True)
class Obstacle:
    """Something solid, from the frame before to this one.

    shape -- sphere, capsule, box, plane or mesh; dims (3,) metres: radius and half length, or half sides
    places -- where it stood and stands; points, triangles -- of a mesh, in the world, before and now
    """

    id: str  # of the force that it is
    shape: str
    dims: tuple[float, float, float]
    friction: float
    places: tuple[Place, Place]
    points: tuple[np.ndarray, np.ndarray] | None = None
    triangles: np.ndarray | None = None
    dims_before: tuple[float, float, float] | None = None  # where they animate
    margin: float = 0.0  # m, how far from it cloth is kept
    hollow: bool = False  # of a mesh: only its surface is solid, so that it can hold something
    bounce: float = 0.0
    name: str = ""  # for a person


@dataclass(frozen=True)
class Pool:
    """A liquid as it was a frame ago, for what stands in it.

    position (n, 3) m, velocity (n, 3) m/s -- its grains, `spacing` m apart; density kg/m3
    """

    position: np.ndarray
    velocity: np.ndarray
    spacing: float
    density: float
    drag: float = 1.0  # factor of what goes through it
    soaks: float = 0.0  # kg/m2 that a cloth takes up
    dries: float = 0.0  # s, in which it loses half of that; 0: never


class Force(Kind):
    """Base of the forces. A subclass declares channels and the fields that it `gives`, and adds to these in the world.
    All that reads one of them feels it."""

    family = "force"
    goes_along: ClassVar[bool] = False  # True: kept as part of an asset with what it names
    is_solid: ClassVar[bool] = False  # True: it may have moved since the frame before, and reads that too (v.before)

    def __init_subclass__(cls, **more):
        super().__init_subclass__(**more)
        if cls.kind and not cls.gives:
            raise ValueError(f"“{cls.kind}” is a force that gives no field, so nothing would feel it")

    def act(self, world: World, v: Resolved) -> None:
        raise NotImplementedError


def giving(doc, *fields: str) -> list:
    """The forces of a document that are on and give one of those fields."""
    forces = (t for t in doc.things if t.on and t.declared is not None and t.declared.family == "force")
    return [t for t in forces if t.declared.gives & set(fields)]


def within(zone, points: np.ndarray, field: np.ndarray) -> np.ndarray:
    """A field sampled at points, scaled by a zone where there is one."""
    return field if zone is None else field * zone(points[None])[0][:, None]
