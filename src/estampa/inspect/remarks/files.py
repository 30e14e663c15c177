"""Remarks on files that a scene names: those that are gone, and pictures that were never there."""

from collections.abc import Iterator

from ...formats.usd_points import stamp
from ...scene.scene import Scene, Snapshot
from .remark import Remark, check


@check()
def is_gone(scene: Scene | Snapshot) -> Iterator[Remark]:
    for thing, owner in scene.doc.everything():
        if thing.declared is None or not thing.on:
            continue
        for name, channel in thing.declared.channels.items():
            value = thing.constant(name) if channel.file else ""
            if value and stamp(value) is None:
                whose = f" on {owner.name}" if owner is not None else ""
                words = f"{thing.name}{whose} reads “{value}”, which is not there."
                mend = "Put it back, or choose another file."
                yield Remark("error", thing.id, words, "It cannot be worked out.", mend)


@check()
def has_no_picture(scene: Scene | Snapshot) -> Iterator[Remark]:
    for subject in scene.doc.subjects:
        missing = sorted({m.missing for m in subject.mesh.materials if m.missing})
        if missing:
            words = f"{subject.name} came in without {', '.join(missing)}."
            mend = "Put the picture beside the file, and import it again."
            yield Remark("note", subject.id, words, "It is shown as a grey checker.", mend)
