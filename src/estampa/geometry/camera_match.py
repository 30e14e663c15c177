"""Where a photograph was taken from, and through which lens: from points whose places are known, and from lines that
run along the axes, which meet in vanishing points (Caprile and Torre 1990, "Using vanishing points for camera
calibration").

The picture is taken as one by a plain lens: square pixels, its middle on the axis of the lens, straight lines straight.
"""

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from scipy.optimize import least_squares
from scipy.spatial.transform import Rotation

from ..errors import EstampaError

AXES = "xyz"
STARTS, REFINED = 150, 8  # turns that are looked at, and how many of them are gone on from
LENSES = (0.5, 0.9, 1.4, 2.2, 4.0)  # focal lengths that are looked at, in heights of the picture
FLAT = 1e-3  # of how far points spread, within which they lie on one line
UNSURE = 0.2  # of the focal length, that an error of one pixel makes: then the marks do not tell the lens


@dataclass(frozen=True)
class Line:
    """A line in the picture that runs along an axis of the scene: from one pixel to another, towards its plus."""

    axis: str  # a letter of AXES
    begin: tuple[float, float]  # pixels from the top left
    end: tuple[float, float]


@dataclass(frozen=True)
class KnownPoint:
    """A pixel, from the top left, and what is seen there, m in the world."""

    pixel: tuple[float, float]
    place: tuple[float, float, float]


@dataclass(frozen=True)
class CameraMatch:
    """A camera that looks along its -Z axis.

    origin -- (3,) m; axes -- (3, 3), columns right, up, back; view -- rad, from bottom to top; errors -- (k,) pixels,
    of points how far they are off, of lines how far their ends are from one that runs as it should; sure -- whether
    the marks tell the lens
    """

    origin: np.ndarray
    axes: np.ndarray
    view: float
    errors: np.ndarray
    sure: bool

    @property
    def error(self) -> float:
        """pixels, root mean square"""
        return float(np.sqrt(np.mean(np.square(self.errors))))

    def lens(self, film_back: float) -> float:
        """Focal length, m. film_back -- m, its height"""
        return film_back / 2 / np.tan(self.view / 2)


def match_camera(
    size: tuple[int, int],
    points: Sequence[KnownPoint] = (),
    lines: Sequence[Line] = (),
    origin: Sequence[float] | np.ndarray = (0.0, 1.6, 4.0),
) -> CameraMatch:
    """The camera that saw all of that: four points or more that are on no line, or lines along two axes, two or more
    along each, and then two points that say where and how large.

    size -- (width, height) of the picture, pixels; origin -- m, where it stands while fewer points say so. Raises
    EstampaError when the marks cannot tell.
    """
    problem = _Problem(size, points, lines, np.asarray(origin, float))
    problem.check()
    best = min((problem.refined(start) for start in problem.starts()), key=lambda found: found.cost)
    return problem.match(best)


class _Problem:
    """Unknown are a turn (a rotation vector of the axes), where the camera stands (m) and the logarithm of its focal
    length in heights of the picture."""

    def __init__(self, size, points, lines, origin):
        self.width, self.height = map(float, size)
        self.lines, self.origin = list(lines), origin
        self.known = np.array([p.place for p in points], float).reshape(-1, 3)
        self.seen = self._in_heights(np.array([p.pixel for p in points], float).reshape(-1, 2))
        self.ends = self._in_heights(np.array([(l.begin, l.end) for l in lines], float).reshape(-1, 2, 2))
        self.along = np.eye(3)[[AXES.index(l.axis) for l in lines]].reshape(-1, 3)
        self.scale = max(float(np.ptp(self.known, axis=0).max(initial=0)), 1e-9) if len(points) else 1.0

    def _in_heights(self, pixels):
        """From the middle, to the right and up."""
        return (pixels - [self.width / 2, self.height / 2]) * [1, -1] / self.height

    def check(self) -> None:
        numbers = np.concatenate([self.known.ravel(), self.seen.ravel(), self.ends.ravel()])
        if not np.isfinite(numbers).all() or self.width < 2 or self.height < 2:
            raise EstampaError("The camera", "is matched to what is not a number.", "Place the marks again.")
        along = [int((self.along[:, k] == 1).sum()) for k in range(3)]
        by_lines = sum(n >= 2 for n in along) >= 2
        short = self.height * np.linalg.norm(self.ends[:, 1] - self.ends[:, 0], axis=1)
        if len(short) and short.min() < 4:
            raise EstampaError("A line", "is shorter than 4 pixels.", "Draw it longer.")
        if by_lines:
            return
        if len(self.known) < 4:
            raise EstampaError(
                "The camera", f"cannot be told from {len(self.known)} points and {len(self.lines)} lines.",
                "Mark four points that are known, or two lines along each of two axes.",
            )  # fmt: skip
        for what, spread in (("points", self.known), ("pixels", self.seen)):
            far = np.linalg.svd(spread - spread.mean(axis=0), compute_uv=False)
            if far[1] < FLAT * far[0] or far[0] == 0:
                raise EstampaError("The camera", f"cannot be told: all {what} lie on one line.", "Mark one beside it.")
        without = [np.delete(self.known, k, axis=0) for k in range(len(self.known))]
        spreads = [np.linalg.svd(p - p.mean(axis=0), compute_uv=False) for p in without]
        if len(self.known) == 4 and min(s[1] / max(s[0], 1e-12) for s in spreads) < FLAT:
            raise EstampaError("The camera", "cannot be told: three of four points lie on one line.", "Mark a fifth.")

    def starts(self) -> list[np.ndarray]:
        """The most likely of many turns and lenses, each where it fits best."""
        rng = np.random.default_rng(5)
        turns = Rotation.random(STARTS, random_state=rng)
        upright = Rotation.from_euler(
            "YX", np.stack([rng.uniform(-np.pi, np.pi, STARTS), rng.uniform(-1.2, 0.5, STARTS)], 1)
        )
        found = []
        for turn in Rotation.concatenate([upright, turns]):
            for focal in LENSES:
                x = np.concatenate([turn.as_rotvec(), self._stand(turn.as_matrix(), focal), [np.log(focal)]])
                found.append((float(np.square(self.residuals(x)).sum()), x))
        return [x for _, x in sorted(found, key=lambda f: f[0])[:REFINED]]

    def _stand(self, axes, focal) -> np.ndarray:
        """Where a camera that is turned so stands, by linear least squares."""
        if len(self.known) < 2:
            return self.origin if not len(self.known) else self._before(axes, focal)
        right, up, back = axes.T
        u, v = self.seen[:, :1], self.seen[:, 1:]
        rows = np.concatenate([focal * right + u * back, focal * up + v * back])  # (rows) . (place - origin) = 0
        return np.linalg.lstsq(rows, (rows * np.concatenate([self.known, self.known])).sum(axis=1), rcond=None)[0]

    def _before(self, axes, focal):
        """As far from the only point that is known as the given place is."""
        away = np.linalg.norm(self.origin - self.known[0])
        ray = axes @ [*(self.seen[0] / focal), -1.0]
        return self.known[0] - ray / np.linalg.norm(ray) * away

    def residuals(self, x) -> np.ndarray:
        """In heights of the picture, smoothly larger for what would lie behind the camera."""
        axes, focal = Rotation.from_rotvec(x[:3]).as_matrix(), np.exp(x[6])
        found = []
        if len(self.known):
            own = (self.known - x[3:6]) @ axes
            away = np.maximum(-own[:, 2], 1e-3 * self.scale)
            found.append((focal * own[:, :2] / away[:, None] - self.seen).ravel())
            found.append(np.maximum(own[:, 2] + 1e-3 * self.scale, 0) / self.scale)
        if len(self.lines):
            found.append(self._line_errors(axes, focal).ravel())
        if len(self.known) < 2:  # nothing says how far away
            found.append(1e-3 * (x[3:6] - self._stand(axes, focal)))
        return np.concatenate(found)

    def _line_errors(self, axes, focal) -> np.ndarray:
        """(k, 2): how far the ends of each line are from the line through its middle that runs as it should."""
        own = self.along @ axes
        middle = self.ends.mean(axis=1)
        # where the middle would go in the picture along the axis: the derivative of its projection
        way = focal * own[:, :2] + middle * own[:, 2:]
        size = np.linalg.norm(way, axis=1, keepdims=True)
        way = way / np.maximum(size, 1e-9)
        half = (self.ends[:, 1] - self.ends[:, 0]) / 2
        across = half[:, 0] * way[:, 1] - half[:, 1] * way[:, 0]
        along = (half * way).sum(axis=1)
        wrong = np.where(along < 0, np.linalg.norm(half, axis=1) - along, 0)  # it is drawn the other way
        return np.stack([across, wrong], axis=1)

    def refined(self, x):
        scale = np.concatenate([np.ones(3), np.full(3, max(self.scale, 1e-3)), [1.0]])
        return least_squares(self.residuals, x, x_scale=scale, method="trf", max_nfev=400)

    def match(self, found) -> CameraMatch:
        axes, focal = Rotation.from_rotvec(found.x[:3]).as_matrix(), float(np.exp(found.x[6]))
        own = (self.known - found.x[3:6]) @ axes
        if len(own) and (own[:, 2] >= 0).any():
            raise EstampaError(
                "The camera", "finds no place from which all points are before it.", "Look at their order and places."
            )
        errors = []
        if len(self.known):
            errors.append(np.linalg.norm(focal * own[:, :2] / -own[:, 2:] - self.seen, axis=1))
        if len(self.lines):
            errors.append(np.linalg.norm(self._line_errors(axes, focal), axis=1))
        view = 2 * float(np.arctan2(0.5, focal))
        errors = self.height * np.concatenate(errors)
        return CameraMatch(found.x[3:6].copy(), axes, view, errors, self._is_sure(found.jac))

    def _is_sure(self, jac) -> bool:
        """Whether an error of a pixel changes the lens little: by the covariance of least squares."""
        covariance = np.linalg.pinv(jac.T @ jac, rcond=1e-14)
        return bool(np.sqrt(abs(covariance[6, 6])) / self.height < UNSURE)
