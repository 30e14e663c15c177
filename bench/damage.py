"""2,500 damaged files of all sorts, each opened and used in a process that is watched: python -m bench.damage [COUNT]

Scenes, mesh files, printed files that are played, brought in and read as points, and frames of the store, which may
never be shown as true. Prints how many were opened, refused, ended in a traceback or in something untrue, took over
20 s of processor time or over 1 GB. Exits 1 when any did.
"""

import os
import shutil
import subprocess
import sys
import tempfile
import time
from collections import Counter
from pathlib import Path

SECONDS, BYTES = 20, 1_000_000_000  # of processor time, of memory beyond what it began with


def worker(first: int, step: int, count: int, folder: str) -> None:
    """Judges files one after another, and says which one it is at."""
    import traceback

    from tests import nasty

    for seed in range(first, count, step):
        print(f"begin {seed}", flush=True)
        place = Path(folder, str(seed))
        place.mkdir()
        try:
            said = nasty.judged(seed, place)
        except BaseException as err:
            word = "untrue" if "untrue" in str(err) else "traceback"
            said = f"{word}: " + traceback.format_exc().strip().splitlines()[-1]
            Path(folder, f"{seed}.txt").write_text(traceback.format_exc())
        shutil.rmtree(place, ignore_errors=True)
        print(f"end {seed} {said}", flush=True)


def watched(first: int, step: int, count: int, folder: str, found: dict) -> None:
    """Runs workers until all files are judged; one that takes too long or too much is ended and named."""
    import threading

    while first < count:
        command = [sys.executable, "-m", "bench.damage", "--worker", str(first), str(step), str(count), folder]
        environment = os.environ | {"NUMBA_NUM_THREADS": "1"}
        process = subprocess.Popen(command, stdout=subprocess.PIPE, text=True, env=environment)
        state = {"seed": None, "since": 0.0, "base": None}

        def listen(process=process, state=state):
            for line in process.stdout:
                word, seed, *said = line.split(maxsplit=2)
                if word == "begin":
                    base = state["base"] or _memory(process.pid)
                    state.update(seed=int(seed), since=_processor(process.pid), base=base)
                else:
                    found[int(seed)] = said[0].strip()
                    state.update(seed=None, last=int(seed))

        ears = threading.Thread(target=listen, daemon=True)
        ears.start()
        while process.poll() is None:
            time.sleep(0.05)
            seed = state["seed"]
            if seed is not None:
                warm = seed > first + 5 * step  # the first ones load libraries
                if _processor(process.pid) - state["since"] > (SECONDS if warm else 120):
                    found[seed] = f"over {SECONDS} s"
                    process.kill()
                elif _memory(process.pid) - state["base"] > BYTES:
                    found[seed] = "over 1 GB"
                    process.kill()
        ears.join(2)
        last = state["seed"] if state["seed"] is not None else state.get("last", count)
        found.setdefault(last, "the process died")
        first = last + step


def _processor(pid: int) -> float:
    """Seconds of processor time that a process took, of its own."""
    try:
        told = Path(f"/proc/{pid}/stat").read_text().rpartition(")")[2].split()
        return (int(told[11]) + int(told[12])) / os.sysconf("SC_CLK_TCK")  # utime, stime: proc(5)
    except (OSError, IndexError):
        return 0.0


def _memory(pid: int) -> int:
    try:
        return int(Path(f"/proc/{pid}/statm").read_text().split()[1]) * 4096
    except (OSError, IndexError):
        return 0


def main(count: int = 2500) -> int:
    import threading

    found: dict[int, str] = {}
    with tempfile.TemporaryDirectory() as folder:
        threads = [threading.Thread(target=watched, args=(k, 2, count, folder, found)) for k in range(2)]
        for thread in threads:
            thread.start()
        for thread in threads:
            thread.join()
        bad = {s: w for s, w in found.items() if w.startswith(("traceback", "untrue", "over", "the process"))}
        for seed, words in sorted(bad.items())[:400]:
            print(f"  {seed}: {words[:200]}")
            if (text := Path(folder, f"{seed}.txt")).exists() and os.environ.get("DAMAGE_KEEP"):
                Path(os.environ["DAMAGE_KEEP"], text.name).write_text(text.read_text())
    tally = Counter(w.partition(":")[0] if w.startswith(("traceback", "untrue")) else w for w in found.values())
    print(f"{len(found)} damaged files: " + ", ".join(f"{n} {w}" for w, n in tally.most_common()))
    return 1 if bad else 0


if __name__ == "__main__":
    if sys.argv[1:2] == ["--worker"]:
        worker(*map(int, sys.argv[2:5]), sys.argv[5])
    else:
        sys.exit(main(*map(int, sys.argv[1:2])))
