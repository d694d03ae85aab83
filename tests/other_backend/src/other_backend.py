"""Tasks in threads of the coordinator, one workshop each; and a renderer whose pictures have one colour."""

from __future__ import annotations

import queue
import threading
import time

import numpy as np

from grandlattice.runs import Failed, Finished, Progress, Returned
from grandlattice.runs.backends import Abilities
from grandlattice.runs.events import UnderWay
from grandlattice.runs.work_order import Rendered
from grandlattice.runs.worker import explained
from grandlattice.runs.workshop import Workshop
from grandlattice.tracer import Film, Stopped


class Threads:
    """The backend ``threads:COUNT``."""

    abilities = Abilities(cancel=False)
    idle_bytes = 0
    waits_for = ""
    slots = ()

    def __init__(self, order, count):
        self._order, self._count = order, count
        self._doing, self._happened, self._stop = {}, queue.Queue(), threading.Event()
        self._shops = [None] * count

    @property
    def free(self):
        return self._count - len(self._doing)

    def takes(self, pool):
        return self.free > 0

    @property
    def busy(self):
        return len(self._doing)

    @property
    def under_way(self):
        return list(self._doing.values())

    def await_seats(self, seconds):
        return 1

    def probe(self, probes):
        return [None for _ in probes]

    def begin(self, task):
        seat = next(k for k in range(self._count) if k not in self._doing)
        now = time.monotonic()
        self._doing[seat] = UnderWay(task, seat, now, now)
        threading.Thread(target=self._work, args=(task, seat), daemon=True).start()
        return seat

    def _work(self, task, seat):
        try:
            self._shops[seat] = self._shops[seat] or Workshop(self._order)
            done = self._shops[seat].perform(
                task, lambda share: self._happened.put(Progress(task, seat, share)), self._stop
            )
            self._happened.put(Finished(task, seat, done))
        except Stopped:
            self._happened.put(Returned(task, seat))
        except Exception as problem:
            self._happened.put(Failed(task, seat, *explained(problem)))

    def events(self, timeout):
        try:
            event = self._happened.get(timeout=timeout)
        except queue.Empty:
            return []
        if isinstance(event, Progress):
            self._doing[event.worker].heard = time.monotonic()
        else:
            del self._doing[event.worker]
        return [event]

    def give_up(self, doing, problem):
        pass

    def stop_now(self):
        self._stop.set()

    def kill(self):
        pass

    def resize(self, workers):
        pass

    def close(self):
        pass


def threads(request):
    return Threads(request.order, int(request.address.partition(":")[2] or request.workers or 1))


class Flat:
    """The renderer ``flat``."""

    notes, accepts_nan = (), False

    def render(self, task, progress, stop):
        settings = task.first.settings
        pixels = np.full((settings.size.height, settings.size.width, 4), (0.25, 0.5, 0.75, 1.0), np.float32)
        return [Rendered(number, Film({"beauty": pixels}, 1, 0, 0.1)) for number in task.wanted]

    def done(self):
        pass


def flat(order, scene, name, version):
    return Flat()
