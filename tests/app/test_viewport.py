"""The camera and the renderer: arithmetic against pixels."""

import numpy as np
import pytest

from estampa.app.model.looks import Pictured
from estampa.app.shell.theme import RAMP
from estampa.app.view.camera import Camera
from estampa.app.view.render import Drawn, Renderer
from estampa.app.view.shadows import Shadows
from estampa.geometry.material import Material, Picture
from estampa.geometry.primitives import sheet
from tests.formats.test_assets import png

WIDTH, HEIGHT = 320, 200


@pytest.fixture(scope="module")
def renderer():
    return Renderer()


def wall(weights=None, chosen=None, z=0.0, colour=(0.8, 0.2, 0.2), id="wall"):
    flat = sheet(1, 1, 3, 3)
    points = flat.points[:, [0, 2, 1]] + [-0.5, 0.5, z]
    normals = np.tile([0, 0, 1.0], (flat.count, 1))
    return Drawn(id, points, normals, flat.triangles, flat.edges, colour, weights, chosen)


def pixels(renderer, drawn, camera, **more):
    raw = renderer.picture(drawn, camera, WIDTH, HEIGHT, floor=False, **more)
    return np.frombuffer(raw, np.uint8).reshape(HEIGHT, WIDTH, 4)[::-1, :, :3].astype(int)


FRONT = Camera(target=np.array([0, 1.0, 0]), distance=3, yaw=0, pitch=0)


def test_projection_agrees_with_what_is_drawn(renderer):
    corners, depth = FRONT.project(np.array([[-0.5, 0.5, 0], [0.5, 1.5, 0], [0, 1, 5.0]]), WIDTH, HEIGHT)
    assert depth[0] == pytest.approx(depth[1]) and not 0 < depth[2] < 1  # the last lies behind the camera
    picture = pixels(renderer, [wall()], FRONT, fine=False)
    drawn = np.argwhere(np.abs(picture - picture[0, 0]).sum(axis=2) > 20)
    (top, left), (bottom, right) = drawn.min(axis=0), drawn.max(axis=0) + 1
    assert [left, bottom] == pytest.approx(corners[0], abs=1.5) and [right, top] == pytest.approx(corners[1], abs=1.5)


def test_a_ray_goes_back_through_the_pixel_it_came_from():
    camera = Camera(target=np.array([0.3, -1, 2]), distance=4, yaw=0.7, pitch=-0.4)
    for x, y in ((10, 10), (160, 100), (300, 60)):
        origin, direction = camera.ray(x, y, WIDTH, HEIGHT)
        back, _ = camera.project((origin + 3.3 * direction)[None], WIDTH, HEIGHT)
        assert back[0] == pytest.approx([x, y], abs=1e-6)


def test_framing_just_fits_whatever_is_shown():
    rng = np.random.default_rng(4)
    for _ in range(10):
        points = rng.normal(size=(200, 3)) * rng.uniform(0.01, 100, 3) + rng.normal(size=3) * 50
        camera = Camera(yaw=rng.uniform(0, 6), pitch=rng.uniform(-1.4, 1.4)).framing(points, WIDTH / HEIGHT)
        at, depth = camera.project(points, WIDTH, HEIGHT)
        assert (at >= 0).all() and (at <= [WIDTH, HEIGHT]).all() and ((depth > 0) & (depth < 1)).all()
        assert np.ptp(at, axis=0)[0] > 0.6 * WIDTH or np.ptp(at, axis=0)[1] > 0.6 * HEIGHT


def test_weights_show_in_the_ramp_from_plum_to_amber(renderer):
    for weight, colour in ((0.0, RAMP[0]), (1.0, RAMP[-1])):
        middle = pixels(renderer, [wall(np.full(9, weight))], FRONT)[100, 160]
        wanted = np.array([int(colour[i : i + 2], 16) for i in (1, 3, 5)])
        assert np.abs(middle / middle.max() - wanted / wanted.max()).max() < 0.12


def test_what_is_in_front_hides_what_is_behind_and_depth_says_so(renderer):
    near, far = wall(z=0.5, colour=(0.1, 0.9, 0.1), id="near"), wall(z=-0.5, colour=(0.9, 0.1, 0.1), id="far")
    for order in ([near, far], [far, near]):
        red, green, _ = pixels(renderer, order, FRONT)[100, 160]
        assert green > 2 * red
    depth = renderer.depth([far, near], FRONT, WIDTH, HEIGHT)
    _, wanted = FRONT.project(np.array([[0, 1, 0.5]]), WIDTH, HEIGHT)
    assert depth[100, 160] == pytest.approx(wanted[0], abs=1e-4)
    assert depth[2, 2] == 1.0


def test_wire_facets_and_chosen_vertices_are_drawn(renderer):
    plain = pixels(renderer, [wall()], FRONT)
    assert np.abs(pixels(renderer, [wall()], FRONT, wire=True) - plain).max() > 30
    lines = pixels(renderer, [wall()], FRONT, shading="none")
    assert np.abs(lines[90, 150] - lines[0, 0]).max() < 5  # nothing between the lines
    chosen = np.zeros(9, bool)
    chosen[4] = True
    red, green, blue = pixels(renderer, [wall(chosen=chosen)], FRONT)[100, 160]
    assert red > 150 and green < 100 and blue < 80


def test_sizes_may_change_and_meshes_may_go(renderer):
    for width, height in ((64, 48), (500, 300), (320, 200)):
        assert len(renderer.picture([wall()], FRONT, width, height)) == width * height * 4
    assert set(renderer._kept) == {"wall"}
    pixels(renderer, [], FRONT)
    assert not renderer._kept


def test_the_backdrop_of_a_pane_is_graded_and_pictures_have_it(flag_user):
    user = flag_user
    top = lambda: user.window.viewport.grab().toImage().pixelColor(4, 60)
    low = lambda: user.window.viewport.grab().toImage().pixelColor(4, user.window.viewport.height() - 4)
    user.wait()
    assert user.session.view.look_of_pane.shade == "plain"
    user.do("shade")
    user.wait()
    user.window.viewport.redraw(fine=True)
    user.wait()
    assert user.session.view.look_of_pane.shade == "graded" and top().lightness() > low().lightness() + 20
    for _ in range(3):
        user.do("shade")
    assert user.session.view.look_of_pane.shade == "plain"


def slab(id, height, size, colour=(0.7, 0.7, 0.7), material=None):
    """A level square about the Y axis; with a material its picture lies over it once."""
    flat = sheet(size, size, 3, 3)
    points = flat.points + [-size / 2, height, -size / 2]
    made = Drawn(id, points, np.tile([0, 1.0, 0], (flat.count, 1)), flat.triangles, flat.edges, colour)
    if material is not None:
        uv = flat.uv[flat.triangles].astype(np.float32)
        made.pictured = Pictured(np.ascontiguousarray(flat.triangles), uv, [(0, len(flat.triangles), material)])
    return made


ABOVE = Camera(target=np.array([0, 0.0, 0]), distance=6, yaw=0, pitch=1.2)


def lit(renderer, drawn, place, **more):
    """How bright a place in the world is seen."""
    (x, y), _ = (part[0] for part in ABOVE.project(np.array([place]), WIDTH, HEIGHT))
    return pixels(renderer, drawn, ABOVE, fine=False, **more)[int(y), int(x)].sum()


def test_what_lies_below_something_along_the_light_is_in_shadow(renderer):
    """The light comes down aside by 0.30 and 0.18 of the height: similar triangles say where the shadow's edge is."""
    ground, roof = slab("ground", 0.0, 4.0), slab("roof", 1.0, 0.8)
    edge = -0.30 - 0.4  # along X, of the shadow of the edge at -0.4 that is a metre up
    inside, outside = (edge + 0.06, 0, -0.18), (edge - 0.06, 0, -0.18)
    assert lit(renderer, [ground, roof], inside) < 0.85 * lit(renderer, [ground, roof], outside)
    plain = lit(renderer, [ground, roof], inside, shadows=False)
    assert lit(renderer, [ground, roof], outside) == pytest.approx(plain, rel=0.02)
    assert lit(renderer, [roof, ground], (0.2, 1, 0.2)) == pytest.approx(
        lit(renderer, [roof, ground], (0.2, 1, 0.2), shadows=False), abs=2), "it does not shade itself"  # fmt: skip
    ghost = slab("roof", 1.0, 0.8)
    ghost.opacity = 0.5
    assert lit(renderer, [ground, ghost], inside) == pytest.approx(plain, rel=0.02), "a ghost casts none"


def test_what_is_cut_out_casts_no_shadow_and_a_single_side_is_seen_from_that_side_alone(renderer):
    ground = slab("ground", 0.0, 4.0)
    half = Material("Half", (1, 1, 1), Picture("half.png", png()), "mask", 0.5, 1.0, True, "uv", "")
    cut = [ground, slab("roof", 1.0, 0.8, material=half)]  # red and whole to the left, clear to the right
    left, right = (-0.3 - 0.2, 0, -0.18), (-0.3 + 0.25, 0, -0.18)
    assert lit(renderer, cut, left) < 0.85 * lit(renderer, cut, left, shadows=False)
    assert lit(renderer, cut, right) == pytest.approx(lit(renderer, cut, right, shadows=False), rel=0.02)
    one = Material("One side", (1, 1, 1), None, "opaque", 0.5, 1.0, False, "uv", "")
    seen = lit(renderer, [slab("one", 1.0, 0.8, (1, 0, 0), one)], (0, 1, 0))
    below = slab("below", 1.0, 0.8, (1, 0, 0), one)
    below.triangles = np.ascontiguousarray(below.triangles[:, ::-1])
    below.pictured = Pictured(below.triangles, below.pictured.uv, below.pictured.parts)
    behind = lit(renderer, [below], (0, 1, 0))
    empty = lit(renderer, [], (0, 1, 0))
    assert behind == empty != seen


def test_a_picture_is_whole_wherever_something_is_blended(renderer):
    """Opacity is 1 everywhere: lines of the floor, shadows and ghosts are mixed in, and no window shines through."""
    ghost = slab("ghost", 0.5, 0.6)
    ghost.opacity = 0.4
    for fine in (False, True):
        raw = renderer.picture([slab("roof", 1.0, 0.8), ghost], ABOVE, WIDTH, HEIGHT, wire=True, fine=fine)
        assert (np.frombuffer(raw, np.uint8).reshape(-1, 4)[:, 3] == 255).all()


def test_shadows_are_made_once_for_as_long_as_the_same_things_are_seen_about_there(renderer, monkeypatch):
    made, cast = [], Shadows.cast
    monkeypatch.setattr(Shadows, "cast", lambda self, casts: (made.append(1), cast(self, casts)))
    drawn = [slab("ground", 0.0, 4.0), slab("roof", 1.0, 0.8)]
    see = lambda renderer, camera: pixels(renderer, drawn, camera, fine=False)
    for k in range(4):  # the hand goes round it
        turned = Camera(target=np.array([0.05 * k, 0.0, 0]), distance=6 + 0.1 * k, yaw=0.1 * k, pitch=1.2)
        again = see(renderer, turned)
    assert len(made) == 1
    assert (np.abs(again - see(Renderer(), turned)).sum(axis=2) > 30).mean() < 0.01, "where they are anew"
    drawn[1] = slab("roof", 1.2, 0.8)
    see(renderer, turned)
    far = Camera(target=np.array([9.0, 0.0, 0]), distance=6, yaw=0, pitch=1.2)
    see(renderer, far)
    assert len(made) == 1 + 1 + 2  # of the other renderer, of what has moved, and where the camera has gone


def test_an_element_over_a_ground_is_what_is_drawn_on_that_ground(renderer):
    """Compositing by Porter and Duff (1984): an element that is premultiplied, over a ground, is element + (1 - alpha)
    ground; the same picture drawn on that ground at once is what it is compared with."""
    floor = sheet(4, 4, 2, 2)
    normals = np.tile([0, 1.0, 0], (floor.count, 1))
    table = Drawn("table", floor.points + [0, 0.5, 0], normals, floor.triangles, floor.edges, catches=True)
    camera = Camera(target=np.array([0, 1.0, 0]), distance=5, yaw=0.4, pitch=0.5)
    scene = [wall(), table]
    element = renderer.element(scene, camera, WIDTH, HEIGHT)
    ground = np.full((4, 4, 4), 255, np.uint8) * np.array([0.3, 0.6, 0.9, 1], np.float32)
    behind = ("plain", ground.astype(np.uint8), 1.0)
    at_once = pixels(renderer, scene, camera, backdrop=behind, on_floor=True)
    rgb = ground.astype(np.uint8)[0, 0, :3].astype(float)
    wide = HEIGHT * 1  # the square picture is as wide as it is tall
    inside = slice((WIDTH - wide) // 2 + 2, (WIDTH + wide) // 2 - 2)
    over = 255 * element[..., :3] + (1 - element[..., 3:]) * rgb
    assert np.abs(over - at_once)[:, inside].max() <= 2.5
    alpha = element[..., 3]
    assert ((alpha > 0.2) & (alpha < 0.5)).sum() > 300, "the wall's shadow on the table, which is not seen itself"
    assert (alpha[:20] == 0).all() and (alpha > 0.99).sum() > 1000


def test_depth_motion_and_mattes_are_those_of_the_camera(renderer):
    """Depth is the distance along the line of sight, motion the pixels by which a place moves: by projection."""
    first, second = wall(id="a"), wall(z=-1.0, id="b")
    second.points = second.points + [0.7, 0, 0]
    moved = np.array([0.1, 0.05, -0.2])
    first.after = (first.points + moved).astype(np.float32)
    later = Camera(target=np.array([0.02, 1.0, 0]), distance=3, yaw=0.03, pitch=0)
    depth, motion = renderer.depth_and_motion([first, second], FRONT, later, WIDTH, HEIGHT)
    mattes = renderer.mattes([first, second], FRONT, WIDTH, HEIGHT, ["a", "b"]).astype(int)
    for k, (point, away, by) in enumerate((([0.1, 1.1, 0], 3.0, moved), ([0.9, 1.3, -1.0], 4.0, 0 * moved))):
        now, _ = FRONT.project(np.array([point]), WIDTH, HEIGHT)
        then, _ = later.project(np.array([point]) + by, WIDTH, HEIGHT)
        column, row = np.floor(now[0]).astype(int)
        assert depth[row, column] == pytest.approx(away, abs=1e-4)
        assert motion[row, column] == pytest.approx((then - now)[0] * [1, -1], abs=0.25)  # at the pixel's middle
        assert mattes[row, column, k] == 255
    assert depth[2, 2] == 1e10 and (motion[2, 2] == 0).all()
    covered = renderer.element([first, second], FRONT, WIDTH, HEIGHT, on_floor=False)[..., 3] * 255
    assert np.abs(mattes.sum(axis=2) - covered).max() <= 2, "together they cover what the picture covers"
