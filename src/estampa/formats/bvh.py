"""BVH: joints as offsets and turns over time, in plain text, as commonly written (common practice, no standard).

A joint of a BVH file has no rest turn of its own: at rest all axes are the world's. So what is written for a joint is
how it is turned away from its rest, in the world's axes, within its parent. Only roots move.
"""

from pathlib import Path

import numpy as np

from ..errors import EstampaError
from ..geometry.pose import squared
from ..lazy import transform
from . import bounds

ORDER = "ZXY"  # turned axes, first to last


def write(path: Path, names, parents, at_rest, tips, world, frame_rate: float, scale: float = 1.0) -> None:
    """names, parents -- of n joints; at_rest (n, 4, 4) and world (f, n, 4, 4) in the world, metres
    tips (n, 3)    -- from each joint to its end at rest, in the world
    scale          -- units of the file in a metre

    Several roots hang on one more joint, at the origin.
    """
    names, parents = [_word(n) for n in names], list(parents)
    roots = [i for i, p in enumerate(parents) if p < 0]
    turn = world[:, :, :3, :3] @ at_rest[:, :3, :3].transpose(0, 2, 1)
    place, rest_place = world[:, :, :3, 3], at_rest[:, :3, 3]
    turn = squared(turn)
    if len(roots) > 1:
        f = len(world)
        names, parents = ["root", *names], [-1, *[p + 1 if p >= 0 else 0 for p in parents]]
        turn = np.concatenate([np.tile(np.eye(3), (f, 1, 1, 1)), turn], axis=1)
        place = np.concatenate([np.zeros((f, 1, 3)), place], axis=1)
        rest_place, tips = np.vstack([np.zeros(3), rest_place]), np.vstack([np.zeros(3), tips])
    moving = {i for i, p in enumerate(parents) if p < 0 or (p == 0 and len(roots) > 1)}
    lines, order, depth = ["HIERARCHY"], file_order(parents), [0] * len(parents)
    for i, following in zip(order, [*order[1:], None], strict=True):
        depth[i] = depth[parents[i]] + 1 if parents[i] >= 0 else 0
        pad = "\t" * depth[i]
        offset = (rest_place[i] - (rest_place[parents[i]] if parents[i] >= 0 else 0)) * scale
        lines.append(f"{pad}{'JOINT' if depth[i] else 'ROOT'} {names[i]}")
        lines.append(f"{pad}{{")
        lines.append(f"{pad}\tOFFSET {_row(offset)}")
        words = " ".join(f"{a}rotation" for a in ORDER)
        words = f"6 Xposition Yposition Zposition {words}" if i in moving else f"3 {words}"
        lines.append(f"{pad}\tCHANNELS {words}")
        if following is not None and parents[following] == i:
            continue
        lines.extend([f"{pad}\tEnd Site", f"{pad}\t{{", f"{pad}\t\tOFFSET {_row(tips[i] * scale)}", f"{pad}\t}}"])
        onward = 0 if following is None else depth[parents[following]] + 1
        lines.extend("\t" * d + "}" for d in range(depth[i], onward - 1, -1))
    local = turn.copy()
    for i, p in enumerate(parents):
        if p >= 0:
            local[:, i] = turn[:, p].transpose(0, 2, 1) @ turn[:, i]
    lines += ["MOTION", f"Frames: {len(world)}", f"Frame Time: {1 / frame_rate:.9f}"]
    columns = []
    for i in order:
        columns += [place[:, i] * scale] if i in moving else []
        columns.append(np.degrees(transform.Rotation.from_matrix(local[:, i]).as_euler(ORDER)))
    lines += [_row(row) for row in np.concatenate(columns, axis=1)]
    path.write_text("\n".join(lines) + "\n")


def file_order(parents) -> list[int]:
    """Joints as a file has them: one branch after another, each joint before those that hang on it."""
    children, roots = [[] for _ in parents], []
    for i, p in enumerate(parents):
        (children[p] if p >= 0 else roots).append(i)
    order, left = [], roots[::-1]
    while left:
        order.append(left.pop())
        left += children[order[-1]][::-1]
    return order


def _row(values) -> str:
    return " ".join(f"{v:.6f}" for v in values)


def _word(name: str) -> str:
    return "".join(c if c.isalnum() else "_" for c in name) or "joint"


class BvhReader:
    """Reads a BVH file: joints, their offsets, and where they are at each frame. Raises EstampaError."""

    def __init__(self, path: Path, scale: float = 1.0):
        """scale -- units of the file in a metre."""
        try:
            self._read(bounds.read_text(Path(path)).split(), scale)
        except (ValueError, IndexError) as err:
            raise EstampaError(
                Path(path).name, "is no BVH file, or is cut short.", "Export it again.", repr(err)
            ) from None

    def _read(self, words, scale):
        self.names, self.parents, offsets, self.channels, self.ends = [], [], [], [], {}
        stack, at = [], 1
        if words[0] != "HIERARCHY":
            raise ValueError("no HIERARCHY")
        while words[at] != "MOTION":
            word = words[at]
            if word in ("ROOT", "JOINT"):
                name = words[at + 1]
                at += 2
                while words[at] != "{":  # a name of several words
                    name, at = f"{name} {words[at]}", at + 1
                self.names.append(name)
                self.parents.append(stack[-1] if stack else -1)
                offsets.append(np.zeros(3))
                self.channels.append([])
                stack.append(len(self.names) - 1)
            elif word == "End":
                stack.append(-2 - stack[-1])
                at += 2
            elif word == "OFFSET":
                offset = np.array([float(w) for w in words[at + 1 : at + 4]]) / scale
                if stack[-1] < 0:
                    self.ends[-2 - stack[-1]] = offset
                else:
                    offsets[stack[-1]] = offset
                at += 3
            elif word == "CHANNELS":
                count = int(words[at + 1])
                self.channels[stack[-1]] = words[at + 2 : at + 2 + count]
                at += 1 + count
            elif word == "}":
                stack.pop()
            at += 1
        count = int(words[at + 2])
        self.frame_rate = 1 / float(words[at + 5])
        wide = sum(map(len, self.channels))
        self.values = np.array([float(w) for w in words[at + 6 : at + 6 + count * wide]]).reshape(count, wide)
        if not np.isfinite(self.values).all():
            raise ValueError("a value is no number")
        self.offsets, self._scale = np.array(offsets).reshape(-1, 3), scale

    def world(self) -> np.ndarray:
        """(f, n, 4, 4) of the joints at each frame."""
        result = np.tile(np.eye(4), (len(self.values), len(self.names), 1, 1))
        at = 0
        for i, channels in enumerate(self.channels):
            place, turn = np.tile(self.offsets[i], (len(self.values), 1)), np.tile(np.eye(3), (len(self.values), 1, 1))
            for name in channels:
                column, axis = self.values[:, at], "XYZ".index(name[0].upper())
                at += 1
                if name.lower().endswith("position"):
                    place[:, axis] = column / self._scale
                else:
                    about = transform.Rotation.from_euler(name[0].upper(), np.radians(column)[:, None])
                    turn = turn @ about.as_matrix()
            own = np.tile(np.eye(4), (len(self.values), 1, 1))
            own[:, :3, :3], own[:, :3, 3] = turn, place
            p = self.parents[i]
            result[:, i] = own if p < 0 else result[:, p] @ own
        return result
