"""How long a frame has taken, without the time in which kernels were compiled for the first time."""

import time

from numba.core import event

_compiling = event.TimingListener()
event.register("numba:compile", _compiling)


def seconds() -> float:
    """A clock that stands still while kernels are compiled; only differences count."""
    return time.monotonic() - (_compiling.duration if _compiling.done else 0.0)
