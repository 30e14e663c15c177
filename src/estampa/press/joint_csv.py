"""Joints as a table."""

import csv
from pathlib import Path

import numpy as np

from ..disk import write_whole
from ..geometry.pose import Pose, in_skeleton, parents_first
from ..units import format_bytes
from .prints import Estimate, Job
from .rigs import JointPrint

NAMES = ("frame", "seconds", "joint", "hangs_on")
NUMBERS = ("x_m", "y_m", "z_m", *(f"turn_{a}" for a in "xyzw"), *(f"stretch_{a}" for a in "xyz"))


class JointCsv(JointPrint):
    """A CSV table with a row for each joint and frame: its place (m), turn (a unit quaternion) and stretch within the
    joint that it hangs on."""

    kind, title, suffix = "joint_csv", "Joints (CSV)", ".csv"
    icon = "M3 3 H13 V13 H3 Z M3 6.3 H13 M3 9.7 H13 M7 3 V13"
    carries = ("places, turns and stretch of joints",)

    def estimate(self, vertices, triangles, frames, v):
        size = frames * vertices * 130
        return Estimate(size, f"about {format_bytes(size)}: {vertices:,} joints × {frames} frames, a row each")

    def write(self, job: Job, target: Path, progress):
        path = target.with_name(target.name + self.suffix)
        bones = job.evaluator.poses.bones(job.skeleton)
        names = [j.name for j in bones.joints]

        def write(temporary):
            with open(temporary, "w", newline="") as file:
                table = csv.writer(file)
                table.writerow([*NAMES, *NUMBERS])
                for k, frame in enumerate(job.frames):
                    pose = job.evaluator.poses.at(job.skeleton, frame).pose
                    for i, name in enumerate(names):
                        above = names[bones.parents[i]] if bones.parents[i] >= 0 else ""
                        numbers = np.concatenate([pose.place[i], pose.turn[i], pose.stretch[i]])
                        seconds = f"{k / job.frame_rate:.6f}"
                        table.writerow([frame, seconds, name, above, *(f"{x:.9g}" for x in numbers)])
                    progress((k + 1) / len(job.frames), f"Writing frame {frame}")

        write_whole(path, write)
        return [path]

    def expected(self, job, frame):
        return job.evaluator.poses.at(job.skeleton, frame).at[:, :3, 3]

    def reader(self, target: Path):
        return CsvReader(target.with_name(target.name + self.suffix))


class CsvReader:
    """Reads the table back, and works out where the joints are in the skeleton's own space."""

    def __init__(self, path: Path):
        with open(path, newline="") as file:
            rows = list(csv.DictReader(file))
        self.frames = list(dict.fromkeys(int(r["frame"]) for r in rows))
        count = len(rows) // max(len(self.frames), 1)
        names = [r["joint"] for r in rows[:count]]
        self._parents = np.array([names.index(r["hangs_on"]) if r["hangs_on"] else -1 for r in rows[:count]])
        self._order = parents_first(self._parents)
        self._rows = np.array([[float(r[c]) for c in NUMBERS] for r in rows]).reshape(len(self.frames), count, 10)

    def points(self, frame):
        row = self._rows[self.frames.index(frame)]
        return in_skeleton(Pose(row[:, :3], row[:, 3:7], row[:, 7:]), self._parents, self._order)[:, :3, 3]
