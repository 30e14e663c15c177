"""Draws subjects into an offscreen framebuffer. The same renderer serves the window and tests without a screen."""

from dataclasses import dataclass

import moderngl
import numpy as np

from .camera import Camera

SAMPLES = 4

_MESH_VERTEX = """
#version 330
uniform mat4 to_clip; uniform vec3 flatten;
in vec3 place; in vec3 normal; in float weight; in float yarn;
out vec3 v_place; out vec3 v_normal; out float v_weight; out float v_yarn;
void main() {
    vec3 p = place;
    if (flatten.y != 0.0) p = vec3(p.x - p.y * flatten.x, 0.0, p.z - p.y * flatten.z);
    v_place = p; v_normal = normal; v_weight = weight; v_yarn = yarn;
    gl_Position = to_clip * vec4(p, 1.0);
}
"""

_MESH_FRAGMENT = """
#version 330
uniform vec3 eye, colour, key; uniform int facets, ramp, yarns; uniform vec4 flat_colour;
in vec3 v_place; in vec3 v_normal; in float v_weight; in float v_yarn;
out vec4 result;
vec3 steps[5] = vec3[](vec3(.19,.08,.26), vec3(.46,.15,.37), vec3(.74,.29,.29), vec3(.93,.56,.19), vec3(.99,.84,.45));
void main() {
    if (flat_colour.a > 0.0) { result = flat_colour; return; }
    vec3 look = normalize(eye - v_place);
    vec3 facet = normalize(cross(dFdx(v_place), dFdy(v_place)) + vec3(1e-12));
    if (dot(facet, look) < 0.0) facet = -facet;
    vec3 n = normalize(v_normal + vec3(1e-9));
    if (dot(n, facet) < 0.0) n = -n;
    if (facets == 1 || dot(n, facet) < 0.72) n = facet;  // hard edges stay hard
    float lit = max(dot(n, key), 0.0), sky = 0.5 + 0.5 * n.y, rim = pow(1.0 - max(dot(n, look), 0.0), 3.0);
    vec3 base = colour;
    if (yarns == 1) {
        float edge = abs(fract(v_yarn) - 0.5) - 0.25, soft = max(fwidth(v_yarn), 1e-4);
        base = mix(base, base * vec3(0.76, 0.56, 0.50), smoothstep(-soft, soft, edge));
    }
    if (ramp == 1) {
        float t = clamp(v_weight, 0.0, 1.0) * 4.0; int i = int(min(t, 3.0));
        base = mix(steps[i], steps[i + 1], t - float(i));
    }
    float light = ramp == 1 ? 0.62 + 0.25 * lit + 0.16 * sky : 0.24 + 0.62 * lit + 0.26 * sky;
    result = vec4(base * light + 0.05 * rim, 1.0);
}
"""

_LINE_VERTEX = """
#version 330
uniform mat4 to_clip; uniform float nearer, point_size;
in vec3 place;
void main() {
    gl_Position = to_clip * vec4(place, 1.0);
    gl_Position.z -= nearer * gl_Position.w;
    gl_PointSize = point_size;
}
"""

_LINE_FRAGMENT = """
#version 330
uniform vec4 colour; uniform int round_points;
out vec4 result;
void main() {
    if (round_points == 1 && length(gl_PointCoord - 0.5) > 0.5) discard;
    result = colour;
}
"""


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


class Renderer:
    """Raises RuntimeError when no OpenGL context can be made."""

    def __init__(self):
        self.context = self._make_context()
        self.backdrop = (0.475, 0.472, 0.462)
        self._mesh = self.context.program(vertex_shader=_MESH_VERTEX, fragment_shader=_MESH_FRAGMENT)
        self._line = self.context.program(vertex_shader=_LINE_VERTEX, fragment_shader=_LINE_FRAGMENT)
        self._size, self._kept = None, {}
        self.context.enable(moderngl.PROGRAM_POINT_SIZE)

    @staticmethod
    def _make_context():
        trouble = []
        for more in ({"backend": "egl"}, {}):
            try:
                return moderngl.create_context(standalone=True, **more)
            except Exception as err:
                trouble.append(f"{more.get('backend', 'system')}: {err}")
        raise RuntimeError("no OpenGL context: " + "; ".join(trouble))

    def _sized(self, width: int, height: int):
        if self._size == (width, height):
            return
        if self._size:
            self._many.release()
            self._one.release()
        colour = self.context.renderbuffer((width, height), 4, samples=SAMPLES)
        self._many = self.context.framebuffer(
            [colour], self.context.depth_renderbuffer((width, height), samples=SAMPLES)
        )
        self._one = self.context.framebuffer(
            [self.context.texture((width, height), 4)], self.context.depth_texture((width, height))
        )
        self._size = (width, height)

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
    ) -> bytes:
        """RGBA bytes, rows from the bottom. `shading` is smooth, facets or none; `fine` smooths edges, and takes twice
        as long without a graphics card."""
        self._sized(width, height)
        target = self._many if fine else self._one
        to_clip = camera.matrix(width / height).T.astype("f4").tobytes()
        target.use()
        target.clear(*self.backdrop, 1.0, depth=1.0)
        self.context.enable(moderngl.DEPTH_TEST)
        self._mesh["to_clip"].write(to_clip)
        self._line["to_clip"].write(to_clip)
        if floor:
            self._floor(camera)
        self._forget_others({d.id for d in drawn})
        for item in drawn:
            self._draw(item, camera, shading, wire, floor and shading != "none")
        if fine:
            self.context.copy_framebuffer(self._one, self._many)
        return self._one.read(components=4, alignment=1)

    def depth(self, drawn: list[Drawn], camera: Camera, width: int, height: int) -> np.ndarray:
        """(height, width) depth in [0, 1] of the surfaces alone, rows from the bottom."""
        self._sized(width, height)
        self._one.use()
        self._one.clear(depth=1.0)
        self._mesh["to_clip"].write(camera.matrix(width / height).T.astype("f4").tobytes())
        for item in drawn:
            self._surface(item, camera, "smooth")
        raw = self._one.depth_attachment.read(alignment=1)
        return np.frombuffer(raw, np.float32).reshape(height, width)

    # -- parts -----------------------------------------------------------------------------------------------
    def _buffers(self, item: Drawn):
        kept = self._kept.get(item.id)
        topology = (id(item.triangles), id(item.edges), len(item.points))
        if kept is None or kept["topology"] != topology:
            if kept:
                self._release(kept)
            c = self.context
            n = len(item.points)
            kept = {
                "topology": topology,
                "arrays": (item.triangles, item.edges),
                "points": c.buffer(reserve=12 * n, dynamic=True),
                "normals": c.buffer(reserve=12 * n, dynamic=True),
                "weights": c.buffer(reserve=4 * n, dynamic=True),
                "yarn": c.buffer(reserve=4 * n, dynamic=True),
                "triangles": c.buffer(np.ascontiguousarray(item.triangles, np.uint32).tobytes()),
                "edges": c.buffer(np.ascontiguousarray(item.edges, np.uint32).tobytes()),
            }
            inputs = (
                ("points", "3f", "place"),
                ("normals", "3f", "normal"),
                ("weights", "f", "weight"),
                ("yarn", "f", "yarn"),
            )
            mesh = [(kept[name], kind, attribute) for name, kind, attribute in inputs]
            kept["mesh"] = c.vertex_array(self._mesh, mesh, kept["triangles"])
            kept["lines"] = c.vertex_array(self._line, [(kept["points"], "3f", "place")], kept["edges"])
            kept["dots"] = c.vertex_array(self._line, [(kept["points"], "3f", "place")])
            self._kept[item.id] = kept
        kept["points"].write(np.ascontiguousarray(item.points, np.float32))
        kept["normals"].write(np.ascontiguousarray(item.normals, np.float32))
        if item.yarn is not None:
            kept["yarn"].write(np.ascontiguousarray(item.yarn, np.float32))
        if item.weights is not None:
            kept["weights"].write(np.ascontiguousarray(item.weights, np.float32))
        return kept

    def _surface(self, item: Drawn, camera: Camera, shading: str):
        kept = self._buffers(item)
        light = np.array([-0.45, 0.75, 0.62]) @ camera.axes * 0.55 + np.array([0.25, 0.62, 0.35])
        m = self._mesh
        m["eye"] = tuple(camera.eye)
        m["key"] = tuple(light / np.linalg.norm(light))
        m["colour"] = item.colour
        m["facets"] = int(shading == "facets")
        m["ramp"] = int(item.weights is not None)
        m["yarns"] = int(item.yarn is not None)
        m["flatten"] = (0.0, 0.0, 0.0)
        m["flat_colour"] = (0.0, 0.0, 0.0, 0.0)
        kept["mesh"].render()
        return kept

    def _draw(self, item: Drawn, camera: Camera, shading: str, wire: bool, shadow: bool):
        c = self.context
        if shading == "none":
            kept = self._buffers(item)
        else:
            # pushed back a little, so that edges and dots on the surface stay whole
            c.polygon_offset = 1.0, 1.0
            kept = self._surface(item, camera, shading)
            c.polygon_offset = 0.0, 0.0
        if shadow and item.points[:, 1].min() > -1e-3:
            c.enable(moderngl.BLEND)
            c.blend_equation = moderngl.MIN  # the darker of the two, so that a fold does not darken twice
            self._mesh["flatten"] = (0.30, 1.0, 0.18)
            self._mesh["flat_colour"] = (0.37, 0.365, 0.36, 1.0)
            kept["mesh"].render()
            c.blend_equation = moderngl.FUNC_ADD
            c.disable(moderngl.BLEND)
        line = self._line
        line["round_points"] = 0
        if wire or shading == "none":
            c.enable(moderngl.BLEND)
            line["nearer"] = 2e-5
            line["point_size"] = 1.0
            line["colour"] = (0.12, 0.10, 0.10, 0.55 if shading != "none" else 0.9)
            kept["lines"].render(moderngl.LINES)
            c.disable(moderngl.BLEND)
        if item.chosen is not None and item.chosen.any():
            chosen = np.ascontiguousarray(np.flatnonzero(item.chosen), np.uint32)
            buffer = c.buffer(chosen.tobytes())
            dots = c.vertex_array(self._line, [(kept["points"], "3f", "place")], buffer)
            line["round_points"] = 1
            for size, colour in ((6.5, (0.99, 0.96, 0.90, 1.0)), (4.5, (0.78, 0.22, 0.13, 1.0))):
                line["nearer"], line["point_size"], line["colour"] = 4e-5 if size > 5 else 6e-5, size, colour
                dots.render(moderngl.POINTS)
            dots.release()
            buffer.release()

    def _floor(self, camera: Camera):
        """A metre grid that grows coarser by tens as the camera leaves."""
        step = 10.0 ** np.floor(np.log10(max(camera.distance, 1e-3) / 4))
        centre = np.round(camera.target[[0, 2]] / (10 * step)) * 10 * step
        k = np.arange(-20, 21) * step
        line = self._line
        line["nearer"], line["point_size"], line["round_points"] = -1e-5, 1.0, 0
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
            array = self.context.vertex_array(line, [(buffer, "3f", "place")])
            line["colour"] = (0.92, 0.90, 0.86, alpha)
            array.render(moderngl.LINES)
            array.release()
            buffer.release()
        self.context.disable(moderngl.BLEND)

    def _forget_others(self, ids: set[str]):
        for gone in set(self._kept) - ids:
            self._release(self._kept.pop(gone))

    @staticmethod
    def _release(kept):
        for name in ("mesh", "lines", "dots", "points", "normals", "weights", "yarn", "triangles", "edges"):
            kept[name].release()
