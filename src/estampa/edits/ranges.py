"""Edits of the document's time: its range, its rate, its loop."""

from ..errors import EstampaError
from ..scene.limits import FASTEST, MOST_RUN_UP, SLOWEST
from ..scene.scene import Scene


def set_loop(scene: Scene, first: int | None, last: int | None = None) -> None:
    """Choose the loop range: its first frame, and the frame that equals it again. None forgets it."""
    loop = None
    if first is not None:
        loop = (int(first), int(last))
        if loop[1] <= loop[0]:
            raise EstampaError(
                "The loop range",
                f"would end at {loop[1]}, not after its start at {loop[0]}.",
                "Give the frame at which the first one comes again.",
            )
    if loop != scene.doc.loop:
        scene.apply("Choose the loop range", scene.doc.with_(loop=loop))


def set_range(
    scene: Scene,
    start: int | None = None,
    end: int | None = None,
    frame_rate: float | None = None,
    run_up: int | None = None,
    fade: int | None = None,
) -> None:
    """Set the first and last frame, the frame rate, how many frames are solved before the first, or over how many the
    end of the loop is faded into those before its start."""
    doc = scene.doc
    before = doc.run_up if run_up is None else int(run_up)
    if not 0 <= before <= MOST_RUN_UP:
        raise EstampaError("The run-up", f"cannot be {before} frames.", f"Give 0 to {MOST_RUN_UP:,}.")
    faded, longest = doc.fade if fade is None else int(fade), doc.loop_range[1] - doc.loop_range[0]
    if not 0 <= faded <= longest:
        raise EstampaError("The fade", f"cannot be {faded} frames.", f"Give 0 to {longest:,}, the length of the loop.")
    start, end = doc.start if start is None else int(start), doc.end if end is None else int(end)
    rate = doc.frame_rate if frame_rate is None else float(frame_rate)
    if end < start:
        raise EstampaError(
            "The frame range",
            f"would end at {end}, before its start at {start}.",
            "Give an end that is not before the start.",
        )
    if not SLOWEST <= rate <= FASTEST:
        raise EstampaError(
            "The frame rate", f"cannot be {rate:g}.", f"Give {SLOWEST:g} to {FASTEST:,g} frames a second."
        )
    scene.apply("Change the frame range", doc.with_(start=start, end=end, frame_rate=rate, run_up=before, fade=faded))
