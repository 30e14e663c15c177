"""Work in other processes, for packages that hold the interpreter lock.

The standard library's process pools run the script that starts them once more in every worker, so that a script
without a guard would run itself; these workers know nothing of it. They import nothing from the present folder. What
goes through the pipes is ours alone.
"""

import atexit
import importlib
import os
import pickle
import resource
import select
import subprocess
import sys
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from queue import Empty, SimpleQueue
from threading import Lock

from .errors import EstampaError

HOME = str(Path(__file__).resolve().parents[1])  # the folder that holds this very program


class Gone(EstampaError):
    """A worker ended before it answered."""

    def __init__(self, detail: str):
        words = "ended before it was done: the system may have had no memory left, or somebody ended it."
        cure = "Close other programs, and do it again."
        super().__init__("A process that worked beside Estampa", words, cure, detail)


def isolated(code: str, *arguments: str, paths: tuple[str, ...] = ()) -> list[str]:
    """The command of a Python that runs `code` and looks for modules where this program and its packages lie, and
    nowhere else: what lies in the present folder, beside a script or where an environment variable points could be a
    module of somebody else by a name of ours. paths -- more folders that are looked into, last."""
    own = f"import sys; sys.path[:0] = [{HOME!r}]; sys.path += {list(paths)!r}; "
    return [sys.executable, "-I", "-c", own + code, *arguments]


class Worker:
    """A Python of its own, which takes about a third of a second to start. paths -- see `isolated`; memory -- bytes
    that it may take besides what it begins with; 0: as many as there are."""

    def __init__(self, paths: tuple[str, ...] = (), memory: int = 0):
        run = isolated(f"from estampa.worker_processes import serve; serve({int(memory)})", paths=paths)
        pipe, mute = subprocess.PIPE, subprocess.DEVNULL if memory else None  # what ends for want of memory cries out
        self.process = subprocess.Popen(run, stdin=pipe, stdout=pipe, stderr=mute, cwd=HOME)

    def ask(self, *message, seconds: float | None = None):
        """What it answers; trouble on its side is raised here. Raises Gone, and TimeoutError when it takes longer than
        so many seconds; it is ended then."""
        try:
            pickle.dump(message, self.process.stdin, pickle.HIGHEST_PROTOCOL)
            self.process.stdin.flush()
            if seconds is not None and not select.select([self.process.stdout], [], [], seconds)[0]:
                self.end()
                raise TimeoutError
            done, answer = pickle.load(self.process.stdout)
        except TimeoutError:
            raise
        except (OSError, EOFError, pickle.UnpicklingError, ValueError) as err:
            raise Gone(f"exit code {self.process.poll()}") from err
        if not done:
            raise answer
        return answer

    def end(self) -> None:
        self.process.kill()
        self.process.wait()
        for pipe in (self.process.stdin, self.process.stdout):
            try:
                pipe.close()
            except OSError:
                pass  # what was to be written goes nowhere now


class Workers:
    """So many of them, started when they are first needed, and kept. paths -- see `isolated`."""

    def __init__(self, count: int, paths: tuple[str, ...] = ()):
        self.count, self.paths, self._idle, self._lock = count, paths, [], Lock()
        atexit.register(self.end)

    def run(
        self, prepare: Callable, shared: tuple, work: Callable, calls: list, on_progress=None, count: int = 0
    ) -> list:
        """[work(prepare(*shared), call) for call in calls], each by whichever worker is free.

        prepare, work -- functions of modules of ours; told(share) -- called here as calls are done; it may raise to
        stop; count -- of the workers, all where 0. Raises what work raises, and Gone.
        """
        results, waiting = [None] * len(calls), SimpleQueue()
        for item in enumerate(calls):
            waiting.put(item)
        done, workers = SimpleQueue(), self._take(min(count or self.count, len(calls)))

        def drive(worker):
            try:
                worker.ask("prepare", _name(prepare), shared)
                while True:
                    i, call = waiting.get_nowait()
                    results[i] = worker.ask("work", _name(work), call)
                    done.put(None)
            except Empty:
                done.put(worker)
            except BaseException as err:  # told where it was asked for
                done.put(err)

        with ThreadPoolExecutor(len(workers) or 1) as threads:
            for worker in workers:
                threads.submit(drive, worker)
            left, count, trouble = set(workers), 0, None
            try:
                while left:
                    found = done.get()
                    if found is None:
                        count += 1
                        if on_progress is not None:
                            on_progress(count / len(calls))
                    elif isinstance(found, Worker):
                        left.discard(found)
                        self._give_back(found)
                    else:
                        raise found
            except BaseException as err:
                trouble = err
                for worker in left:  # those that are in the middle of something
                    worker.end()
        if trouble is not None:
            raise trouble
        return results

    def _take(self, count: int) -> list[Worker]:
        with self._lock:
            alive = [w for w in self._idle if w.process.poll() is None]
            self._idle, found = alive[count:], alive[:count]
        return found + [Worker(self.paths) for _ in range(count - len(found))]

    def _give_back(self, worker: Worker) -> None:
        with self._lock:
            self._idle.append(worker)

    def end(self) -> None:
        with self._lock:
            idle, self._idle = self._idle, []
        for worker in idle:
            worker.end()


class Guard:
    """One worker for work that may never end or take all memory, as reading what came from outside: it is ended then,
    and the next question has a new one."""

    def __init__(self, memory: int):
        self.memory, self._worker, self._lock = memory, None, Lock()
        atexit.register(self.end)

    def ask(self, work: Callable, call, seconds: float):
        """work(None, call) as it is answered. Raises what work raises, Gone, and TimeoutError."""
        with self._lock:
            if self._worker is None or self._worker.process.poll() is not None:
                self._worker = Worker(memory=self.memory)
            try:
                return self._worker.ask("work", _name(work), call, seconds=seconds)
            except (Gone, TimeoutError):
                self._worker.end()
                self._worker = None
                raise

    def end(self) -> None:
        if self._worker is not None:
            self._worker.end()
            self._worker = None


def _name(function: Callable) -> tuple[str, str]:
    return function.__module__, function.__qualname__


def serve(memory: int = 0) -> None:
    """A worker's side: answers until its pipe is closed. memory -- see Worker"""
    if memory:
        has = int(Path("/proc/self/statm").read_text().split()[0]) * resource.getpagesize()
        resource.setrlimit(resource.RLIMIT_AS, (has + memory, resource.RLIM_INFINITY))
    asked, answers = sys.stdin.buffer, os.fdopen(os.dup(1), "wb")
    os.dup2(2, 1)  # what packages print must not come between answers
    state = None
    while True:
        try:
            what, (module, name), value = pickle.load(asked)
        except EOFError:
            return
        try:
            function = getattr(importlib.import_module(module), name)
            answer = None
            if what == "prepare":
                state = function(*value)
            else:
                answer = function(state, value)
            message = pickle.dumps((True, answer), pickle.HIGHEST_PROTOCOL)
        except Exception as err:
            message = pickle.dumps((False, err))
        answers.write(message)
        answers.flush()
