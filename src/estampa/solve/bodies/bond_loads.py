"""What bonds bear, by how their pieces move and what they run into.

Pieces that hang together by many bonds could share a load in many ways, and a solver by impulses finds any of them: how
long it went on, and in which order, decides; its impulses are of no use here. How each piece moves, and what else
pushes it, is known, and so what its bonds do to it. They are taken as short beams between rigid pieces, and their loads
as those of least elastic energy (Castigliano's theorem of least work; a beam's stiffness after Timoshenko).
"""

from dataclasses import dataclass

import numpy as np

from ...lazy import sparse, sparse_linalg

SHEARED, TWISTED = 0.4, 0.8  # stiffness across and about a bond, of that along it and of its bending: G = 0.4 E
LOOSE = 1e-9  # of the stiffest, that holds what hangs on nothing
ROUNDS = 4  # in which what is lifted off the ground is found


@dataclass(frozen=True, eq=False)
class Sections:
    """Where pieces are bonded. normal (q, 3) from the one to the other; axes (q, 3, 2) along which the area (q,) m2 is
    widest and narrowest; half (q, 2) m, half the sides of the rectangle that bends as it does."""

    area: np.ndarray
    normal: np.ndarray
    axes: np.ndarray
    half: np.ndarray

    @classmethod
    def of(cls, area: np.ndarray, normal: np.ndarray, second: np.ndarray) -> "Sections":
        """second -- (q, 3, 3) m4, the second moments of area about the middle."""
        flat = np.eye(3) - normal[:, :, None] * normal[:, None]
        values, axes = np.linalg.eigh(flat @ second @ flat)
        values = np.maximum(values[:, 1:], 1e-12 * area[:, None] ** 2)
        return cls(area, normal, axes[:, :, 1:], np.sqrt(3 * values / area[:, None]))

    @property
    def second(self) -> np.ndarray:
        """(q, 2) m4, the second moments of area along both axes."""
        return self.area[:, None] * self.half**2 / 3

    def stresses(self, loads: np.ndarray) -> "Stresses":
        """Of loads (q, 6), N and N m on the first piece: a beam's, at the corner that is worst (Euler-Bernoulli)."""
        force, moment = loads[:, :3], loads[:, 3:]
        along = np.einsum("qi,qi->q", force, self.normal)
        across = np.linalg.norm(force - along[:, None] * self.normal, axis=1)
        # what bends about the one axis stretches along the other
        bends = np.abs(np.einsum("qi,qia->qa", moment, self.axes))[:, ::-1]
        bent = (bends * self.half / self.second).sum(axis=1)
        twist = np.abs(np.einsum("qi,qi->q", moment, self.normal))
        twisted = twist * np.linalg.norm(self.half, axis=1) / self.second.sum(axis=1)
        mean = along / self.area
        return Stresses(mean + bent, across / self.area + twisted, bent - mean, np.maximum(-mean, 0.0))


@dataclass(frozen=True, eq=False)
class Stresses:
    """(q,) Pa in each bond: the hardest pull, the shear, the hardest press, and the mean press, which holds it in
    place by friction."""

    pull: np.ndarray
    shear: np.ndarray
    press: np.ndarray
    pressed: np.ndarray

    def used(self, holds: "Strengths") -> np.ndarray:
        """(q,) the share of what each bond bears; above 1 it parts. Friction holds shear, too (Mohr-Coulomb)."""
        with np.errstate(divide="ignore", invalid="ignore"):
            pulled = np.where(self.pull > 0, self.pull / holds.pull, 0.0)
            sheared = np.where(self.shear > 0, self.shear / (holds.shear + holds.friction * self.pressed), 0.0)
            crushed = np.where((holds.press > 0) & (self.press > 0), self.press / holds.press, 0.0)
        return np.nan_to_num(np.maximum(np.maximum(pulled, sheared), crushed), nan=0.0, posinf=np.inf)


@dataclass(frozen=True, eq=False)
class Strengths:
    """(q,) Pa that each bond bears in pull, in shear and in press, where 0 is any; friction (q,) a factor."""

    pull: np.ndarray
    shear: np.ndarray
    press: np.ndarray
    friction: np.ndarray


class BondBeams:
    """All bonds as beams between rigid pieces, as they stand at first."""

    def __init__(self, a, b, at_a, at_b, sections: Sections, count: int):
        """a, b (q,) rows of bodies; at_a, at_b (q, 3) m, the bond from the centres of both; count -- of all bodies"""
        self.sections, q = sections, len(a)
        rows = np.unique(np.concatenate([a, b]))
        self.rows, self.size = rows, 6 * len(rows)
        self.number = np.full(count, -1)
        self.number[rows] = np.arange(len(rows))
        eye = np.tile(np.eye(3), (q, 1, 1))
        blocks = np.zeros((q, 2, 6, 6))  # how far both sides of a bond part, by how each of its pieces moves
        for side, (arm, sign) in enumerate(((at_a, -1.0), (at_b, 1.0))):
            blocks[:, side, :3, :3] = blocks[:, side, 3:, 3:] = sign * eye
            blocks[:, side, :3, 3:] = -sign * _cross(arm)
        own = 6 * self.number[np.stack([a, b], axis=1)][:, :, None, None] + np.arange(6)
        own = np.broadcast_to(own, (q, 2, 6, 6))
        line = np.broadcast_to((6 * np.arange(q))[:, None, None, None] + np.arange(6)[:, None], (q, 2, 6, 6))
        self.parting = sparse.csr_matrix((blocks.ravel(), (line.ravel(), own.ravel())), shape=(6 * q, self.size))
        self.stiffness = _stiffness(sections, np.linalg.norm(at_a, axis=1) + np.linalg.norm(at_b, axis=1))
        self._key, self._own, self._factor = None, None, None

    def loads(self, pushed: np.ndarray, whole: np.ndarray, stands: dict[int, np.ndarray], held) -> np.ndarray:
        """(q, 6) N and N m on the first piece of each bond, under what pushes the pieces, of least elastic energy.

        pushed (r, 6) N and N m about the centre of each of `rows`, all that acts on it but bonds and what it stands on,
        less what its own mass takes to be sped up (d'Alembert); whole (q,) bool, which hold; stands -- row of each body
        that stands on something that stays -> (3,) the way in which that pushes it; held -- rows that do not give way
        """
        stands = {row: way for row, way in stands.items() if self.number[row] >= 0}
        for _ in range(ROUNDS):
            moves = self._moved(pushed, whole, stands, held)
            # what a ground would have to pull down stands on nothing
            push = {row: float(-moves[self.number[row], :3] @ way) for row, way in stands.items()}
            least = -1e-3 * max(push.values(), default=0.0)
            kept = {row: way for row, way in stands.items() if push[row] > least}
            if len(kept) == len(stands) or not kept:
                break
            stands = kept
        return (self._own @ (self.parting @ moves.ravel())).reshape(-1, 6)

    def _moved(self, pushed, whole, stands, held) -> np.ndarray:
        """(r, 6) how far the pieces move, but for E."""
        most = float(self.stiffness[:, :3, :3].max(initial=1e-300))
        key = (whole.tobytes(), tuple((row, way.tobytes()) for row, way in stands.items()), tuple(held))
        if self._key != key:
            springs = self.stiffness * whole.astype(float)[:, None, None]
            q, wide = len(whole), np.full(self.size, LOOSE * most)
            self._own = sparse.bsr_matrix((springs, np.arange(q), np.arange(q + 1)), shape=(6 * q, 6 * q)).tocsr()
            own = np.array([self.number[row] for row in stands], np.int64)
            wide[(6 * own[:, None] + np.arange(3)).ravel()] += most
            stays = self.number[np.asarray(held, np.int64)]
            wide[(6 * stays[stays >= 0][:, None] + np.arange(6)).ravel()] += 1e3 * most
            self._factor = sparse_linalg.splu((self.parting.T @ self._own @ self.parting + sparse.diags(wide)).tocsc())
            self._key = key
        return self._factor.solve(pushed.ravel()).reshape(-1, 6)


def _stiffness(sections: Sections, length: np.ndarray) -> np.ndarray:
    """(q, 6, 6) of beams, but for E, which all share."""
    q, n = len(sections.area), sections.normal
    along = n[:, :, None] * n[:, None]
    made = np.zeros((q, 6, 6))
    rigid = (sections.area / np.maximum(length, 1e-12))[:, None, None]
    made[:, :3, :3] = rigid * (along + SHEARED * (np.eye(3) - along))
    bend = sections.second[:, ::-1] / np.maximum(length, 1e-12)[:, None]
    made[:, 3:, 3:] = np.einsum("qia,qa,qja->qij", sections.axes, bend, sections.axes)
    made[:, 3:, 3:] += TWISTED / 2 * bend.sum(axis=1)[:, None, None] * along
    return made


def _cross(v: np.ndarray) -> np.ndarray:
    """(q, 3, 3) what takes a vector x to v x x."""
    made = np.zeros((len(v), 3, 3))
    made[:, 0, 1], made[:, 0, 2], made[:, 1, 2] = -v[:, 2], v[:, 1], -v[:, 0]
    return made - made.transpose(0, 2, 1)
