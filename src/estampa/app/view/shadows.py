"""Shadows of the sky's light: along each of its rays the highest thing that is met, seen from above, in a picture of
heights over a square of the floor (Williams 1978, "Casting curved shadows on curved surfaces", with heights for
depths). What lies lower on its ray is in shadow: other meshes, and the floor, on which it is the softer the higher what
casts it."""

import moderngl
import numpy as np

from .camera import Camera

WIDE = 1536  # texels
LOW = -1e6  # m, where nothing is met
PART = 4  # pixels to one in which the floor's shadow is worked out
UNIT = 3  # of the card, where the picture is bound

# `slant` is how far rays run aside for each metre down; `roof` the square: its middle, and what makes it -1 to 1
SHADER = """
const vec2 slant = vec2(0.30, 0.18);
uniform vec4 roof; uniform float span;
vec2 along_ray(vec3 p) { return (p.xz - p.y * slant - roof.xy) * roof.zw; }
"""
IN_LIGHT = (
    SHADER
    + """
uniform sampler2D roofs;
float in_light(vec3 p, vec3 n) {  // how much of the light comes to a place that looks along n
    if (roof.z == 0.0) return 1.0;
    vec3 sun = normalize(vec3(slant.x, 1.0, slant.y));
    p += n * (dot(n, sun) < 0.0 ? -2.0 : 2.0) * span;  // off the surface, so that it does not shade itself
    vec2 at = (along_ray(p) * 0.5 + 0.5) * WIDE - 0.5, low = floor(at), f = at - low;
    if (any(lessThan(low, vec2(0.0))) || any(greaterThan(low, vec2(WIDE - 2.0)))) return 1.0;
    ivec2 k = ivec2(low);
    vec4 met = vec4(texelFetch(roofs, k, 0).r, texelFetch(roofs, k + ivec2(1, 0), 0).r,
                    texelFetch(roofs, k + ivec2(0, 1), 0).r, texelFetch(roofs, k + ivec2(1, 1), 0).r);
    vec4 seen = step(met, vec4(p.y + 1.5 * span));
    vec2 row = mix(seen.xz, seen.yw, f.x);
    return mix(row.x, row.y, f.y);
}
""".replace("WIDE", str(WIDE))
)

_FLOOR_VERTEX = """
#version 330
uniform mat4 to_clip;
in vec3 place; out vec3 v_place;
void main() { v_place = place; gl_Position = to_clip * vec4(place, 1.0); }
"""
_FLOOR_FRAGMENT = (
    """
#version 330
in vec3 v_place; out vec4 result;
"""
    + IN_LIGHT
    + """
void main() {
    vec2 at = along_ray(v_place) * 0.5 + 0.5;
    if (any(lessThan(at, vec2(0.0))) || any(greaterThan(at, vec2(1.0)))) discard;
    float met = 0.0, high = 0.0, shade = 0.0;
    for (int k = 0; k < 8; k++) {  // what is met near here, and how high it is
        float turn = 2.4 * float(k), far = 0.10 * sqrt(float(k) / 8.0);
        float h = texture(roofs, at + far * vec2(cos(turn), sin(turn)) * 0.5 * roof.zw).r;
        if (h > 2.0 * span) { met += 1.0; high += h; }
    }
    if (met == 0.0) discard;
    float reach = clamp(0.07 * high / met, span, 0.25);
    for (int k = 0; k < 20; k++) {
        float turn = 2.4 * float(k) + 6.28 * fract(dot(floor(gl_FragCoord.xy), vec2(0.7548, 0.5698)));
        vec2 off = reach * sqrt((float(k) + 0.5) / 20.0) * vec2(cos(turn), sin(turn));
        shade += 1.0 - step(texture(roofs, at + off * 0.5 * roof.zw).r, 2.0 * span);
    }
    result = vec4(shade / 20.0);
}
"""
)
_OVER_FRAGMENT = """
#version 330
uniform sampler2D shade; uniform vec2 size;
in vec3 v_place; out vec4 result;
void main() { result = vec4(0.05, 0.045, 0.06, 0.40 * texture(shade, gl_FragCoord.xy / size).r); }
"""


class Shadows:
    def __init__(self, context):
        self.context = context
        self.texture = context.texture((WIDE, WIDE), 1, dtype="f4")
        self.texture.filter = moderngl.NEAREST, moderngl.NEAREST
        self.texture.repeat_x = self.texture.repeat_y = False
        self._target = context.framebuffer([self.texture])
        self._floor = context.program(vertex_shader=_FLOOR_VERTEX, fragment_shader=_FLOOR_FRAGMENT)
        self._floor["roofs"] = UNIT
        self._over = context.program(vertex_shader=_FLOOR_VERTEX, fragment_shader=_OVER_FRAGMENT)
        self._over["shade"], self._size = 0, None
        self._place = context.buffer(reserve=48, dynamic=True)
        self._quad, self._laid = (context.vertex_array(p, [(self._place, "3f", "place")])
                                  for p in (self._floor, self._over))  # fmt: skip
        self.told = {"roof": (0.0, 0.0, 0.0, 0.0), "span": 0.0}  # values for the shaders; of no shadows at first

    def off(self) -> None:
        self.told = {"roof": (0.0, 0.0, 0.0, 0.0), "span": 0.0}

    def cast(self, casts: list, camera: Camera) -> None:
        """Make the picture of heights. casts -- each draws something, `casting` being 1, with values `told`"""
        reach = 1.6 * camera.distance
        middle = camera.target[[0, 2]] - 0.5 * camera.axes[2][[0, 2]] * reach * 0.5 - camera.target[1] * _SLANT
        texel = 2 * reach / WIDE
        middle = np.round(middle / texel) * texel  # what stands still does not shimmer
        self.told = {"roof": (*map(float, middle), 1 / reach, 1 / reach), "span": texel}
        c = self.context
        self._target.use()
        self._target.clear(LOW, LOW, LOW, LOW)
        c.disable(moderngl.DEPTH_TEST)
        c.enable(moderngl.BLEND)
        c.blend_equation = moderngl.MAX
        for one in casts:
            one()
        c.blend_equation = moderngl.FUNC_ADD
        c.disable(moderngl.BLEND)
        c.enable(moderngl.DEPTH_TEST)
        self.texture.use(UNIT)

    def _sized(self, width: int, height: int) -> None:
        if self._size != (width, height):
            for part in (self._shade, self._part) if self._size else ():
                part.release()
            self._shade = self.context.texture((max(width // PART, 1), max(height // PART, 1)), 1)
            self._shade.repeat_x = self._shade.repeat_y = False
            self._part, self._size = self.context.framebuffer([self._shade]), (width, height)

    def over_floor(self, target, to_clip: bytes, camera: Camera, width: int, height: int) -> None:
        """Draw the shadow on the floor, over what is drawn of it; worked out in few pixels, as it is soft."""
        x, z, per, _ = self.told["roof"]
        if per == 0 or camera.eye[1] <= 0:
            return
        self._sized(width, height)
        corners = [[x + a / per, 0, z + b / per] for a, b in ((-1, -1), (1, -1), (-1, 1), (1, 1))]
        self._place.write(np.array(corners, "f4").tobytes())
        self._floor["to_clip"].write(to_clip)
        self._over["to_clip"].write(to_clip)
        self._floor["roof"], self._floor["span"] = self.told["roof"], self.told["span"]
        self._over["size"] = float(width), float(height)
        self.context.disable(moderngl.DEPTH_TEST)
        self._part.use()
        self._part.clear()
        self._quad.render(moderngl.TRIANGLE_STRIP)
        target.use()
        self._shade.use(0)
        self.context.enable(moderngl.BLEND)
        self._laid.render(moderngl.TRIANGLE_STRIP)
        self.context.disable(moderngl.BLEND)
        self.context.enable(moderngl.DEPTH_TEST)


_SLANT = np.array([0.30, 0.18])
