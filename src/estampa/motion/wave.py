"""Wave: a ripple that travels."""

import numpy as np

from ..kinds.channels import choice, number, ref
from .layer import Deformer, along_grip, in_rows, sincos, stand


class Wave(Deformer):
    """A sine wave that travels along the grip's Z axis, or outwards from it in rings, and lifts along its Y axis.

    It travels at wavelength times rate.
    """

    kind, title = "wave", "Wave"
    icon = "M1.5 9 C3.5 3 5 3 7 9 S10.5 15 14.5 6 M12 5 L14.5 5.6 L14 8.2"
    group = "drift"
    rank = 12

    height = number(0.1, "How far it lifts at a crest.", unit="m", soft=(0, 1), suits=("largest", 1 / 40))
    wavelength = number(
        1, "From crest to crest.", unit="m", soft=(0.05, 10), hard=(1e-4, None), suits=("largest", 1 / 2)
    )
    rate = number(0.5, "Crests that pass a point each second.", unit="Hz", soft=(-4, 4), accumulates=True, cycles=True)
    phase = number(0, "Where in its cycle it begins.", unit="turn", soft=(-1, 1))
    across = number(
        0,
        "How much it also pushes back and forth along its way, as water does.",
        title="Back and forth",
        unit="fraction",
        soft=(0, 1),
    )
    shape = choice("straight", "Straight crests, or rings around the grip.", {"straight": "Straight", "rings": "Rings"})
    fade = number(
        0,
        "Distance from the grip over which rings lose half their height; 0 never.",
        unit="m",
        soft=(0, 20),
        hard=(0, None),
    )
    grip = ref("grip", "The grip: it travels along its Z axis and lifts along its Y axis.")

    def apply(self, points, v, now):
        origin, axes, size = stand(v.grip, len(points))
        turn = 2 * np.pi * np.mod(v.phase - v.travel["rate"], 1.0)
        number_ = 2 * np.pi / (v.wavelength * size)
        wave = _rings if v.shape == "rings" else _straight
        return wave(points, origin, axes, in_rows(v.height, number_, turn, v.across, v.fade))


def _moved_straight(x, y, z, own):
    tall, per_metre, begin, back = own[0], own[1], own[2], own[3]
    for i in range(len(x)):
        sin, cos = sincos(per_metre * z[i] + begin)
        y[i] += tall * sin
        z[i] += back * tall * cos


def _moved_in_rings(x, y, z, own):
    tall, per_metre, begin, back, fade = own[0], own[1], own[2], own[3], own[4]
    for i in range(len(x)):
        away = np.sqrt(x[i] * x[i] + z[i] * z[i])
        here = tall * 0.5 ** (away / fade) if fade > 0 else tall
        sin, cos = sincos(per_metre * away + begin)
        y[i] += here * sin
        push = 1 + back * here * cos / max(away, 1e-12)
        x[i], z[i] = x[i] * push, z[i] * push


_straight, _rings = along_grip(_moved_straight), along_grip(_moved_in_rings)
