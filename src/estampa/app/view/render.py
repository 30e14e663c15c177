"""Draws subjects into an offscreen framebuffer. The same renderer serves the window and tests without a screen."""

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import moderngl
import numpy as np

from . import passes, shaders
from .camera import Camera
from .grains import PLAIN as PLAIN_OVER
from .grains import GrainPainter, parted
from .shadows import IN_LIGHT, NO_LIGHT, UNIT, Shadows
from .textures import Textures

SAMPLES = 4
WHOLE = (0.0, 0.0, 0.0, 1.0)  # a slice that takes nothing away
# What lies behind everything: (words, colour at the top, at the bottom)
SHADES = {
    "plain": ("Plain", (0.475, 0.472, 0.462), (0.475, 0.472, 0.462)),
    "graded": ("Graded", (0.60, 0.61, 0.62), (0.36, 0.35, 0.34)),
    "paper": ("Paper", (0.90, 0.88, 0.84), (0.78, 0.75, 0.70)),
    "dusk": ("Dusk", (0.16, 0.20, 0.30), (0.42, 0.33, 0.31)),
}
PALE, DARK = (0.92, 0.90, 0.86), (0.30, 0.27, 0.24)  # of the lines of the floor
PLAIN, SHADED, CASTING, MEASURED = range(4)  # what is drawn: without shadows, with, what casts them, see passes
OVER = (  # blended over what is there, whose alpha is how much of a pixel is covered
    moderngl.SRC_ALPHA,
    moderngl.ONE_MINUS_SRC_ALPHA,
    moderngl.ONE,
    moderngl.ONE_MINUS_SRC_ALPHA,
)
ALPHAS = {"opaque": 0, "mask": 1, "blend": 2}
WIDE = 3072  # texels of the table of corners


@dataclass
class Drawn:
    """One mesh to draw."""

    id: str
    points: np.ndarray  # (n, 3) float32
    normals: np.ndarray  # (n, 3) float32
    triangles: np.ndarray  # (t, 3)
    edges: np.ndarray  # (e, 2)
    colour: tuple[float, float, float] = (0.80, 0.77, 0.71)
    weights: np.ndarray | None = None  # (n,) shows the weight ramp
    chosen: np.ndarray | None = None  # (n,) bool, vertices drawn as dots
    yarn: np.ndarray | None = None  # (n,) shows stripes, one a unit
    tint: np.ndarray | None = None  # (n, 3) a colour for each vertex
    stand: np.ndarray | None = None  # (k, 4, 4) the mesh is drawn in each of these places
    opacity: float = 1.0
    pictured: Any = None  # looks.Pictured: its triangles then are those of `triangles`
    catches: bool = False  # nothing of it is seen but the shadows on it, and it hides what is behind it
    after: np.ndarray | None = None  # (n, 3) float32 points a frame later, where its motion is asked for
    stand_after: np.ndarray | None = None  # (k, 4, 4) `stand` a frame later


class Renderer:
    """Raises RuntimeError when no OpenGL context can be made."""

    def __init__(self):
        self.context = self._make_context()
        self.backdrop = SHADES["plain"][1]
        # without shadows and with: what a shader might do costs time though it is not done
        light = lambda lighting: [
            f.replace("IN_LIGHT", lighting) for f in (shaders.MESH_FRAGMENT, shaders.PICTURED_FRAGMENT)
        ]
        casting = (shaders.CAST_FRAGMENT, shaders.PICTURED_CAST_FRAGMENT)
        self._programs, self._drawing = [self._pair(*f) for f in (light(NO_LIGHT), light(IN_LIGHT), casting)], PLAIN
        self._programs.append(self._pair(*passes.FRAGMENTS, passes.VERTEX, passes.STAGE))
        self.shadows = Shadows(self.context)
        self.textures = Textures(self.context)
        program = lambda vertex, fragment: self.context.program(vertex_shader=vertex, fragment_shader=fragment)
        self._line = program(shaders.LINE_VERTEX, shaders.LINE_FRAGMENT)
        self._picture = program(shaders.PICTURE_VERTEX, shaders.PICTURE_FRAGMENT)
        self._screen = self.context.vertex_array(self._picture, [])
        self._shade = program(shaders.PICTURE_VERTEX, shaders.SHADE_FRAGMENT)
        self._shaded = self.context.vertex_array(self._shade, [])
        self._size, self._kept, self._backdrop, self._slice = None, {}, None, WHOLE
        self.grains = GrainPainter(self.context, shaders.MESH_FRAGMENT.replace("IN_LIGHT", NO_LIGHT))
        self._passes = passes.Passes(self, self._programs[MEASURED], self._solid)
        self._one_place = self.context.buffer(np.eye(4, dtype="f4").tobytes())
        self.context.enable(moderngl.PROGRAM_POINT_SIZE)

    def _pair(self, fragment: str, pictured_fragment: str, vertex=shaders.MESH_VERTEX, stage=shaders.PICTURED_STAGE):
        """The programs that draw meshes, and those with pictures."""
        mesh = self.context.program(vertex_shader=vertex, fragment_shader=fragment)
        pictured = self.context.program(
            vertex_shader=vertex.replace("v_", "g_"), geometry_shader=stage, fragment_shader=pictured_fragment
        )
        pictured["where"], pictured["image"] = 1, 0
        for program in (mesh, pictured):
            self._tell(program, {"roofs": UNIT})
        return mesh, pictured

    @property
    def _mesh(self):
        return self._programs[self._drawing][0]

    @property
    def _pictured(self):
        return self._programs[self._drawing][1]

    @staticmethod
    def _make_context():
        trouble = []
        for more in ({"backend": "egl"}, {}):
            try:
                return moderngl.create_context(standalone=True, **more)
            except Exception as err:
                trouble.append(f"{more.get('backend', 'system')}: {err}")
        raise RuntimeError("no OpenGL context: " + "; ".join(trouble))

    def _sized(self, width: int, height: int, kind: str = "f1"):
        """kind -- of numbers in the picture: f1 bytes, f2 half floats"""
        if self._size == (width, height, kind):
            return
        if self._size:
            self._many.release()
            self._one.release()
        colour = self.context.renderbuffer((width, height), 4, samples=SAMPLES, dtype=kind)
        self._many = self.context.framebuffer(
            [colour], self.context.depth_renderbuffer((width, height), samples=SAMPLES)
        )
        self._one = self.context.framebuffer(
            [self.context.texture((width, height), 4, dtype=kind)], self.context.depth_texture((width, height))
        )
        self._size = (width, height, kind)

    def picture(
        self,
        drawn: list[Drawn],
        camera: Camera,
        width: int,
        height: int,
        shading: str = "smooth",
        wire: bool = False,
        floor: bool = True,
        fine: bool = True,
        backdrop: tuple | None = None,
        swarms: Sequence = (),
        grains: str = "distance",
        cut: bool = False,
        shade: str = "plain",
        shadows: bool = True,
        on_floor: bool | None = None,
    ) -> bytes:
        """RGBA bytes, rows from the bottom. `shading` is smooth, facets or none; `fine` smooths edges, and takes twice
        as long without a graphics card. `backdrop` is (name, (h, w, 4) uint8 picture, opacity); `swarms` are drawn as
        `grains` says, a key of grains.HOW; `cut` takes away what is nearer than what the camera looks at; `shade` is
        a key of SHADES; `shadows` whether what is whole casts any, `on_floor` whether on the floor too: by default
        where its lines are drawn."""
        self._slice = self._cut_at(camera, cut)
        seen = shading, wire, swarms, grains, shadows, floor if on_floor is None else on_floor
        with self.context:  # every pane has a context of its own
            self._sized(width, height)
            target = self._many if fine else self._one
            self._draw_all(
                target, drawn, camera, (width, height), *seen, lambda: self._ground(camera, shade, backdrop, floor)
            )
            if fine:
                self.context.copy_framebuffer(self._one, self._many)
            return self._one.read(components=4, alignment=1)

    def element(
        self,
        drawn: list[Drawn],
        camera: Camera,
        width: int,
        height: int,
        shading: str = "smooth",
        wire: bool = False,
        swarms: Sequence = (),
        grains: str = "distance",
        cut: bool = False,
        shadows: bool = True,
        on_floor: bool = True,
    ) -> np.ndarray:
        """(height, width, 4) float32, rows from the top, over nothing: colours as they are shown, times how much of the
        pixel they cover, and that. Shadows on the floor and on what catches them cover in part. See `picture`."""
        self._slice = self._cut_at(camera, cut)
        with self.context:
            self._sized(width, height, "f2")
            seen = shading, wire, swarms, grains, shadows, on_floor
            self._draw_all(self._many, drawn, camera, (width, height), *seen, None)
            self.context.copy_framebuffer(self._one, self._many)
            raw = self._one.read(components=4, alignment=1, dtype="f2")
        return np.frombuffer(raw, np.float16).reshape(height, width, 4)[::-1].astype(np.float32)

    def depth_and_motion(
        self, drawn: list[Drawn], camera: Camera, after: Camera, width: int, height: int,
        swarms: Sequence = (), grains: str = "distance", cut: bool = False,
    ) -> tuple[np.ndarray, np.ndarray]:  # fmt: skip
        """See Passes. swarms -- (id, grains as passes.with_after) of each layer"""
        self._slice = self._cut_at(camera, cut)
        with self.context:
            self._measuring(drawn)
            layers, values = self._parted(swarms, camera, height, grains), {"slice": self._slice}
            return self._passes.depth_and_motion(drawn, layers, camera, after, (width, height), values)

    def mattes(
        self, drawn: list[Drawn], camera: Camera, width: int, height: int, of: list[str],
        swarms: Sequence = (), grains: str = "distance", cut: bool = False,
    ) -> np.ndarray:  # fmt: skip
        """See Passes. of -- ids of things; swarms -- as above"""
        self._slice = self._cut_at(camera, cut)
        with self.context:
            self._measuring(drawn)
            layers, values = self._parted(swarms, camera, height, grains), {"slice": self._slice}
            return self._passes.mattes(drawn, layers, camera, (width, height), values, of)

    def _measuring(self, drawn: list[Drawn]) -> None:
        self._drawing = MEASURED
        self._forget_others({d.id for d in drawn})

    def _parted(self, swarms, camera, height, grains) -> list[tuple]:
        share = self.grains.budget / max(len(swarms), 1)
        return [(i, l, *parted(l, camera, height, grains, share)) for i, l in swarms]

    @staticmethod
    def _cut_at(camera: Camera, cut: bool) -> tuple:
        return (*camera.axes[2], float(camera.axes[2] @ camera.target)) if cut else WHOLE

    def _draw_all(self, target, drawn, camera, size, shading, wire, swarms, grains, shadows, on_floor, ground) -> None:
        """ground -- draws what lies behind everything; None for nothing: then alpha says what is covered"""
        width, height = size
        to_clip = camera.matrix(width / height).T.astype("f4").tobytes()
        drawn = sorted(drawn, key=lambda d: (not d.catches, d.opacity < 1))  # ghosts last, over what is whole
        self._forget_others({d.id for d in drawn})
        layers = self.grains.layers(swarms, camera, height, grains)
        self._cast(drawn, layers if shadows else [], camera, shadows and shading != "none")
        target.color_mask = (True,) * 4
        target.use()
        target.clear(*(self.backdrop if ground else (0.0, 0.0, 0.0)), float(ground is not None), depth=1.0)
        target.color_mask = (True, True, True, ground is None)  # with a ground the picture is whole, whatever blends
        target.use()
        self.context.enable(moderngl.DEPTH_TEST)
        self.context.blend_func = self.grains.blending = PLAIN_OVER if ground else OVER
        if self._drawing == SHADED:
            self.shadows.use()
        for program in (self._mesh, self._pictured, self._line):
            program["to_clip"].write(to_clip)
        if ground:
            ground()
        if on_floor and self._drawing == SHADED:
            self.shadows.over_floor(target, to_clip, camera, width, height)
            self.shadows.use()
        for item in drawn:
            self._draw(item, camera, shading, wire)
        if swarms:
            self.grains.draw(swarms, layers, camera, width, height, self._light(camera, shading))
        self.context.blend_func = self.grains.blending = PLAIN_OVER

    def _ground(self, camera, shade, backdrop, floor) -> None:
        width, height, _ = self._size
        if shade != "plain":
            self.context.disable(moderngl.DEPTH_TEST)
            self._shade["top"], self._shade["bottom"] = SHADES[shade][1:]
            self._shaded.render(moderngl.TRIANGLE_STRIP, vertices=4)
            self.context.enable(moderngl.DEPTH_TEST)
        if backdrop is not None:
            self._draw_backdrop(*backdrop, width / height)
        if floor:
            self._floor(camera, PALE if sum(SHADES[shade][2]) < 1.8 else DARK)

    def _cast(self, drawn, layers, camera, wanted: bool) -> None:
        """What takes light from what lies below it: all that is whole."""
        self._drawing = PLAIN
        self.shadows.off()
        whole = [d for d in drawn if d.opacity == 1 and not d.catches]
        if not wanted or not (whole or layers):
            return
        of = [a for d in whole for a in (d.points, d.stand, d.triangles, d.pictured)] + [part[0] for part in layers]
        self._drawing = SHADED
        if self.shadows.aim(camera, of, self._slice):
            return
        self._drawing = CASTING
        for program in (self._mesh, self._pictured, self.grains.meshes):
            self._tell(program, self.shadows.uniforms | {"casting": 1, "slice": self._slice})
        casts = [lambda d=d: self._solid(d) for d in whole]
        self.shadows.cast([*casts, *(lambda l=l: self.grains.cast(l) for l in layers)])
        for program in (self._mesh, self._pictured, self.grains.meshes):
            program["casting"] = 0
        self._drawing = SHADED

    @staticmethod
    def _tell(program, values: dict) -> None:
        """Give a program the values that it has uniforms for."""
        for name, value in values.items():
            if name in program:
                program[name] = value

    def _solid(self, item: Drawn) -> None:
        """Draw its surface by the program in hand, with what is cut out of it."""
        kept = self._buffers(item)
        clear = item.pictured is not None and any(m.alpha != "opaque" for _, _, m in item.pictured.parts)
        if clear and item.weights is None:
            self._render_pictured(kept, item.pictured, False)
        else:
            self._vertices(kept, "mesh").render(instances=kept["count"])

    def depth(self, drawn: list[Drawn], camera: Camera, width: int, height: int) -> np.ndarray:
        """(height, width) depth in [0, 1] of the surfaces alone, rows from the bottom."""
        with self.context:
            return self._depth_now(drawn, camera, width, height)

    def _depth_now(self, drawn, camera, width, height) -> np.ndarray:
        self._sized(width, height)
        self._slice, self._drawing = WHOLE, PLAIN
        self._one.use()
        self._one.clear(depth=1.0)
        for program in (self._mesh, self._pictured):
            program["to_clip"].write(camera.matrix(width / height).T.astype("f4").tobytes())
        for item in drawn:
            self._surface(item, camera, "smooth")
        raw = self._one.depth_attachment.read(alignment=1)
        return np.frombuffer(raw, np.float32).reshape(height, width)

    # -- parts -----------------------------------------------------------------------------------------------
    def _buffers(self, item: Drawn):
        kept = self._kept.get(item.id)
        count = 1 if item.stand is None else len(item.stand)
        pictured = None if item.pictured is None else id(item.pictured.uv)
        moves = item.after is not None
        topology = (id(item.triangles), id(item.edges), len(item.points), count, pictured, moves)
        if kept is None or kept["topology"] != topology:
            if kept:
                self._release(kept)
            c = self.context
            n = len(item.points)
            kept = {
                "topology": topology,
                "held": {},  # what was sent last, by name
                "arrays": (item.triangles, item.edges, item.pictured),
                "points": c.buffer(reserve=12 * n, dynamic=True),
                "normals": c.buffer(reserve=12 * n, dynamic=True),
                "weights": c.buffer(reserve=4 * n, dynamic=True),
                "yarn": c.buffer(reserve=4 * n, dynamic=True),
                "tint": c.buffer(reserve=12 * n, dynamic=True),
                "stand": c.buffer(reserve=64 * count, dynamic=True),
                "count": count,
                "triangles": c.buffer(np.ascontiguousarray(item.triangles, np.uint32).tobytes()),
                "edges": c.buffer(np.ascontiguousarray(item.edges, np.uint32).tobytes()),
            }
            inputs = (
                ("points", "3f", "place"),
                ("normals", "3f", "normal"),
                ("weights", "f", "weight"),
                ("yarn", "f", "yarn"),
                ("tint", "3f", "tint"),
                ("stand", "16f/i", "stand"),
            )
            mesh = [(kept[name], kind, attribute) for name, kind, attribute in inputs]
            kept["inputs"], kept["arrays made"] = mesh, {}
            line = [(kept["points"], "3f", "place"), (kept["stand"], "16f/i", "stand")]
            if item.pictured is not None:
                flat = item.pictured.uv.reshape(-1, 2)
                table = np.zeros((-(-len(flat) // WIDE), WIDE, 2), np.float32)
                table.reshape(-1, 2)[: len(flat)] = flat
                kept["where"] = c.texture((WIDE, len(table)), 2, table.tobytes(), dtype="f4")
            kept["lines"] = c.vertex_array(self._line, line, kept["edges"])
            if item.after is not None:
                kept["after"] = c.buffer(reserve=12 * n, dynamic=True)
                kept["stand_after"] = c.buffer(reserve=64 * count, dynamic=True)
                mesh += [(kept["after"], "3f", "after"), (kept["stand_after"], "16f/i", "stand_after")]
            self._kept[item.id] = kept
        for name in ("points", "normals", "tint", "yarn", "weights", "stand", "after", "stand_after"):
            if name in kept:
                self._upload(kept, name, getattr(item, name))
        return kept

    def _vertices(self, kept, name: str):
        """The vertex array of a mesh for the program of that name, "mesh" or "pictured", as it is now."""
        program = self._mesh if name == "mesh" else self._pictured
        made = kept["arrays made"]
        if (name, self._drawing) not in made:
            inputs = [i for i in kept["inputs"] if i[2] in program]  # what a shader does not read it does not have
            made[name, self._drawing] = self.context.vertex_array(program, inputs, kept["triangles"])
        return made[name, self._drawing]

    @staticmethod
    def _upload(kept, name, array):
        """Send an array to the graphics memory, once for as long as it is the very same one."""
        held = kept["held"]
        if name in held and held[name] is array:
            return
        held[name] = array
        if name in ("stand", "stand_after"):
            array = (np.eye(4)[None] if array is None else array).transpose(0, 2, 1)
        if array is not None:
            kept[name].write(np.ascontiguousarray(array, np.float32))

    def _surface(self, item: Drawn, camera: Camera, shading: str):
        kept = self._buffers(item)
        pictured = item.pictured is not None and item.weights is None
        for m in (self._mesh, self._pictured) if pictured else (self._mesh,):
            self._tell(m, self._light(camera, shading))
            m["colour"] = item.colour
            m["ramp"] = int(item.weights is not None)
            m["yarns"] = int(item.yarn is not None)
            m["tinted"] = int(item.tint is not None)
            m["opacity"], m["catching"] = item.opacity, int(item.catches)
        if item.opacity < 1 or item.catches:
            self.context.enable(moderngl.BLEND)
            self._one_or_many_depth(item.catches)
        if pictured:
            self._render_pictured(kept, item.pictured, item.opacity == 1)
        else:
            self._vertices(kept, "mesh").render(instances=kept["count"])
        if item.opacity < 1 or item.catches:
            self._one_or_many_depth(True)
            self.context.disable(moderngl.BLEND)
        return kept

    def _render_pictured(self, kept, pictured, blends: bool) -> None:
        """Material by material; those that are seen through last, and in front of all others."""
        m = self._pictured
        kept["where"].use(1)
        for first, count, material in sorted(pictured.parts, key=lambda p: p[2].alpha == "blend"):
            for program in (self._mesh, m):
                self._tell(program, {"one_sided": int(not material.two_sided)})
            if material.picture is None and material.alpha == "opaque" and not material.missing:
                self._vertices(kept, "mesh").render(vertices=3 * count, first=3 * first, instances=kept["count"])
                continue
            self.textures.of(material).use(0)
            m["first"], m["alpha_how"] = first, ALPHAS[material.alpha]
            m["cutoff"], m["clear"] = material.cutoff, material.opacity
            if material.alpha == "blend" and blends:
                self.context.enable(moderngl.BLEND)
                self._one_or_many_depth(False)
            self._vertices(kept, "pictured").render(vertices=3 * count, first=3 * first, instances=kept["count"])
            if material.alpha == "blend" and blends:
                self._one_or_many_depth(True)
                self.context.disable(moderngl.BLEND)
        self._tell(self._mesh, {"one_sided": 0})

    def _light(self, camera: Camera, shading: str) -> dict:
        """Values of what decides how anything is lit; of what has neither ramps nor stripes and is whole."""
        key = np.array([-0.45, 0.75, 0.62]) @ camera.axes * 0.55 + np.array([0.25, 0.62, 0.35])
        plain = {"ramp": 0, "yarns": 0, "tinted": 1, "opacity": 1.0, "catching": 0}
        return plain | self.shadows.uniforms | {
            "slice": self._slice, "eye": tuple(camera.eye), "key": tuple(key / np.linalg.norm(key)),
            "facets": int(shading == "facets"),
        }  # fmt: skip

    def _one_or_many_depth(self, on: bool):
        """Whether what is drawn hides what comes behind it; a ghost does not."""
        self._many.depth_mask = self._one.depth_mask = on

    def _draw(self, item: Drawn, camera: Camera, shading: str, wire: bool):
        c = self.context
        if item.catches and shading == "none":
            return
        if shading == "none":
            kept = self._buffers(item)
        else:
            # pushed back a little, so that edges and dots on the surface stay whole
            c.polygon_offset = 1.0, 1.0
            kept = self._surface(item, camera, shading)
            c.polygon_offset = 0.0, 0.0
        line = self._line
        line["round_points"] = 0
        if (wire or shading == "none") and item.opacity == 1 and not item.catches:
            c.enable(moderngl.BLEND)
            line["nearer"] = 2e-5
            line["point_size"] = 1.0
            line["colour"] = (0.12, 0.10, 0.10, 0.55 if shading != "none" else 0.9)
            kept["lines"].render(moderngl.LINES, instances=kept["count"])
            c.disable(moderngl.BLEND)
        if item.chosen is not None and item.chosen.any():
            chosen = np.ascontiguousarray(np.flatnonzero(item.chosen), np.uint32)
            buffer = c.buffer(chosen.tobytes())
            inputs = [(kept["points"], "3f", "place"), (kept["stand"], "16f/i", "stand")]
            dots = c.vertex_array(self._line, inputs, buffer)
            line["round_points"] = 1
            for size, colour in ((6.5, (0.99, 0.96, 0.90, 1.0)), (4.5, (0.78, 0.22, 0.13, 1.0))):
                line["nearer"], line["point_size"], line["colour"] = 4e-5 if size > 5 else 6e-5, size, colour
                dots.render(moderngl.POINTS, instances=1)
            dots.release()
            buffer.release()

    def _draw_backdrop(self, name, picture, opacity, aspect):
        """A picture behind everything, as large as the pane allows without cutting it."""
        c = self.context
        if self._backdrop is None or self._backdrop[0] != name:
            if self._backdrop:
                self._backdrop[1].release()
            height, width = picture.shape[:2]
            self._backdrop = (
                name,
                c.texture((width, height), 4, np.ascontiguousarray(picture).tobytes()),
                width / height,
            )
        _, texture, wide = self._backdrop
        texture.use(0)
        self._picture["share"] = (min(1.0, wide / aspect), min(1.0, aspect / wide))
        self._picture["opacity"], self._picture["ground"] = opacity, self.backdrop
        c.disable(moderngl.DEPTH_TEST)
        self._screen.render(moderngl.TRIANGLE_STRIP, vertices=4)
        c.enable(moderngl.DEPTH_TEST)

    def _floor(self, camera: Camera, colour):
        """A metre grid that grows coarser by tens as the camera leaves."""
        step = 10.0 ** np.floor(np.log10(max(camera.distance, 1e-3) / 4))
        centre = np.round(camera.target[[0, 2]] / (10 * step)) * 10 * step
        k = np.arange(-20, 21) * step
        line = self._line
        # behind what lies on the floor, which is pushed back for its edges
        line["nearer"], line["point_size"], line["round_points"] = -4e-4, 1.0, 0
        self.context.enable(moderngl.BLEND)
        for every, alpha in ((False, 0.16), (True, 0.34)):
            chosen = k[(np.round(k / step).astype(int) % 10 == 0) == every]
            far = 20 * step
            ends = np.concatenate(
                [
                    np.stack(
                        [
                            np.stack([chosen, chosen * 0, chosen * 0 - far], 1),
                            np.stack([chosen, chosen * 0, chosen * 0 + far], 1),
                        ],
                        1,
                    ),
                    np.stack(
                        [
                            np.stack([chosen * 0 - far, chosen * 0, chosen], 1),
                            np.stack([chosen * 0 + far, chosen * 0, chosen], 1),
                        ],
                        1,
                    ),
                ]
            )
            ends = ends.reshape(-1, 3) + [centre[0], 0, centre[1]]
            buffer = self.context.buffer(ends.astype("f4").tobytes())
            array = self.context.vertex_array(line, [(buffer, "3f", "place"), (self._one_place, "16f/i", "stand")])
            line["colour"] = (*colour, alpha)
            array.render(moderngl.LINES, instances=1)
            array.release()
            buffer.release()
        self.context.disable(moderngl.BLEND)

    def _forget_others(self, ids: set[str]):
        for gone in set(self._kept) - ids:
            self._release(self._kept.pop(gone))

    @staticmethod
    def _release(kept):
        for array in kept["arrays made"].values():
            array.release()
        names = ("lines", "points", "normals", "weights", "yarn", "tint", "stand", "triangles", "edges")
        for name in (*names, "where", "after", "stand_after"):
            if name in kept:
                kept[name].release()
