"""Collider: something solid that cloths, bodies and chains run into."""

from ..kinds.channels import choice, number, ref, switch
from ..kinds.fields import SOLID
from ..scene.things import Placed
from .force import Force, Obstacle

SHAPES = {
    "sphere": "Sphere",
    "capsule": "Capsule, along its Y axis",
    "box": "Box",
    "plane": "Plane, solid below its X-Z plane",
    "mesh": "A subject's mesh",
}


class Collider(Placed, Force):
    """Something solid that stands or moves: cloths, bodies and swinging chains are pushed by it and rub against it.

    It may ride on a joint or a grip, and be moved by hand while the scene plays.
    """

    kind, family, title = "collider", "force", "Collider"
    gives = frozenset({SOLID})
    icon = "M2.5 13.5 C2.5 9 6 8 8 8 S13.5 9 13.5 13.5 Z M8 2 V5.5 M6 4 L8 6 L10 4"
    group = "fall"
    shortcut = "Alt+7"
    rank = 13
    own_first = True
    is_solid = True

    shape = choice("sphere", "Its shape.", SHAPES)
    radius = number(
        0.25,
        "Radius of a sphere or capsule.",
        when=(("shape", ("sphere", "capsule")),),
        unit="m",
        soft=(0.02, 2),
        hard=(1e-4, None),
    )
    reach = number(
        0.3, "Half the length of a capsule, without its round ends.", title="Half length", unit="m", soft=(0, 2),
        when=(("shape", ("capsule",)),),
        hard=(0, None),
    )  # fmt: skip
    wide = number(
        0.25,
        "Half the box's width.",
        title="X",
        unit="m",
        soft=(0.02, 2),
        hard=(1e-4, None),
        group="Box",
        when=(("shape", ("box",)),),
    )
    tall = number(
        0.25,
        "Half its height.",
        title="Y",
        unit="m",
        soft=(0.02, 2),
        hard=(1e-4, None),
        group="Box",
        when=(("shape", ("box",)),),
    )
    deep = number(
        0.25,
        "Half its depth.",
        title="Z",
        unit="m",
        soft=(0.02, 2),
        hard=(1e-4, None),
        group="Box",
        when=(("shape", ("box",)),),
    )
    subject = ref(
        "subject", "The subject whose mesh is solid, for that shape.", title="Mesh of", when=(("shape", ("mesh",)),)
    )
    hollow = switch(
        False, "Only its surface is solid: a vessel for liquids and grains. Else a closed mesh is solid inside.",
        when=(("shape", ("mesh",)),),
    )  # fmt: skip
    friction = number(
        0.3, "Rubbing against it: 0 is ice, 1 holds on a slope of 45 degrees (Coulomb).", unit="factor", soft=(0, 1.5),
        hard=(0, None),
    )  # fmt: skip

    bounce = number(
        0, "How much of its speed a body keeps that hits it: 0 none, 1 all of it.", unit="fraction", soft=(0, 1),
        hard=(0, 1),
    )  # fmt: skip

    margin = number(
        0, "How far cloth is kept off it, beside the cloth's own thickness.", title="Keeps cloth off by", unit="m",
        soft=(0, 0.02), hard=(0, None),
    )  # fmt: skip

    def act(self, world, v):
        places = (v.before.here, v.here)
        more = {"margin": v.margin, "bounce": v.bounce, "name": v.called}
        if v.shape == "mesh":
            solid = (v.before.subject, v.subject)
            if None not in solid:
                points, triangles = tuple(s.points[0] for s in solid), v.subject.mesh.triangles
                mesh = {"points": points, "triangles": triangles, "hollow": bool(v.hollow)}
                world.colliders.append(Obstacle(v.id, "mesh", (0, 0, 0), v.friction, places, **mesh, **more))
            return
        was, dims = ((w.wide, w.tall, w.deep) if v.shape == "box" else (w.radius, w.reach, 0.0) for w in (v.before, v))
        world.colliders.append(Obstacle(v.id, v.shape, dims, v.friction, places, dims_before=was, **more))
